"""Add the readings of a survey and the tests of a run."""

import sqlalchemy as sql
from alembic import op

revision = "0002"
down_revision = "0001"

Number = sql.BigInteger().with_variant(sql.Integer, "sqlite")


def upgrade() -> None:
    op.create_table(
        "readings",
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("place", sql.Integer, primary_key=True),
        sql.Column("rule", sql.Text, nullable=False),
        sql.Column("words", sql.Text, nullable=False),
    )
    op.create_table(
        "trials",
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("place", sql.Integer, primary_key=True),
        sql.Column("rule", sql.Text, nullable=False),
        sql.Column("tried", sql.Text, nullable=False),
        sql.Column("proof", sql.Text, nullable=False),
    )
