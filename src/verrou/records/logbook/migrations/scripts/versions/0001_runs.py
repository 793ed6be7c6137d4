"""Create the tables of machines, and of each run its findings and accounts."""

import sqlalchemy as sql
from alembic import op

revision = "0001"
down_revision = None

Number = sql.BigInteger().with_variant(sql.Integer, "sqlite")


def upgrade() -> None:
    op.create_table(
        "machines",
        sql.Column("id", Number, primary_key=True),
        sql.Column("identity", sql.Text, nullable=False, unique=True),
    )
    op.create_table(
        "records",
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
    op.create_table(
        "findings",
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("place", sql.Integer, primary_key=True),
        sql.Column("subject", sql.Text, nullable=False),
        sql.Column("severity", sql.Text, nullable=False),
        sql.Column("verdict", sql.Text, nullable=False),
        sql.Column("waived_until", sql.Date),
        sql.Column("waived_by", sql.Text, nullable=False),
    )
    op.create_table(
        "accounts",
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("place", sql.Integer, primary_key=True),
        sql.Column("name", sql.Text, nullable=False),
        sql.Column("role", sql.Text),
        sql.Column("enabled", sql.Boolean, nullable=False),
    )
