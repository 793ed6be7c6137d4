"""Repeat with each lapse what is asked about it of its finding, and find the waivers; work out all summaries and
lapses."""

import sqlalchemy as sql
from alembic import op

from verrou.records.logbook.summaries import summarise_all

revision = "0005"
down_revision = "0004"

Number = sql.BigInteger().with_variant(sql.Integer, "sqlite")


def upgrade() -> None:
    op.drop_table("lapses")
    op.create_table(
        "lapses",
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("subject", sql.Text, primary_key=True),
        sql.Column("met_until", sql.Date, nullable=False),
        sql.Column("since", sql.Date, nullable=False),
        sql.Column("place", sql.Integer, nullable=False),
        sql.Column("severity", sql.Text, nullable=False),
        sql.Column("verdict", sql.Text, nullable=False),
        sqlite_with_rowid=False,
    )
    is_waived = sql.text("waived_until IS NOT NULL")
    order = ["record_id", "waived_until"]
    op.create_index("ix_findings_waived", "findings", order, sqlite_where=is_waived, postgresql_where=is_waived)
    bind = op.get_bind()
    if bind.dialect.name == "postgresql":
        op.create_index(
            *("ix_summaries_of_all", "summaries", ["machine_id", "clock", "at", "record_id"]),
            postgresql_where=sql.text("family = ''"),
            postgresql_include=["high", "medium", "low", "unknown", "waived", "not_applicable", "met"],
        )
    bind.execute(sql.text("delete from summaries"))
    summarise_all(bind)
