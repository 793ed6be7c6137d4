"""The tables of the logbook in its newest schema; ``migrations`` lead there."""

import sqlalchemy as sql

metadata = sql.MetaData()
Number = sql.BigInteger().with_variant(sql.Integer, "sqlite")
"""SQLite numbers rows by itself only in a column of this type."""

machines = sql.Table(
    "machines",
    metadata,
    sql.Column("id", Number, primary_key=True),
    sql.Column("identity", sql.Text, nullable=False, unique=True),
)
records = sql.Table(
    "records",
    metadata,
    sql.Column("id", Number, primary_key=True),
    sql.Column("key", sql.Text, nullable=False, unique=True),
    sql.Column("machine_id", Number, sql.ForeignKey("machines.id"), nullable=False, index=True),
    sql.Column("run", sql.Text, nullable=False),
    sql.Column("at", sql.DateTime, nullable=False),
    sql.Column("clock", sql.DateTime, nullable=False),
    sql.Column("by", sql.Text, nullable=False),
    sql.Column("tool", sql.Text, nullable=False),
    sql.Column("machine", sql.Text, nullable=False),
    sql.Column("system", sql.Text, nullable=False),
    sql.Column("baseline", sql.Text, nullable=False),
    sql.Column("digest", sql.Text, nullable=False),
    sql.Column("entry", sql.Integer),
)
OF_A_RECORD = tuple(column.name for column in records.columns if column.name not in ("id", "machine_id"))


def _of_a_record(name: str, *columns: sql.Column[object]) -> sql.Table:
    return sql.Table(
        name,
        metadata,
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("place", sql.Integer, primary_key=True),
        *columns,
    )


findings = _of_a_record(
    "findings",
    sql.Column("subject", sql.Text, nullable=False),
    sql.Column("severity", sql.Text, nullable=False),
    sql.Column("verdict", sql.Text, nullable=False),
    sql.Column("waived_until", sql.Date),
    sql.Column("waived_by", sql.Text, nullable=False),
)
accounts = _of_a_record(
    "accounts",
    sql.Column("name", sql.Text, nullable=False),
    sql.Column("role", sql.Text),
    sql.Column("enabled", sql.Boolean, nullable=False),
)
readings = _of_a_record(
    "readings",
    sql.Column("rule", sql.Text, nullable=False),
    sql.Column("words", sql.Text, nullable=False),
)
trials = _of_a_record(
    "trials",
    sql.Column("rule", sql.Text, nullable=False),
    sql.Column("test", sql.Text, nullable=False),
    sql.Column("result", sql.Text, nullable=False),
)
