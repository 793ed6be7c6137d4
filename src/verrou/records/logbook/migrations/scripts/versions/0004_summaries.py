"""Add tables for a summary of each record and family and the lapses of each record, and the order in which records are
asked for. The next version fills them."""

import sqlalchemy as sql
from alembic import op

revision = "0004"
down_revision = "0003"

Number = sql.BigInteger().with_variant(sql.Integer, "sqlite")


def upgrade() -> None:
    op.create_table(
        "summaries",
        sql.Column("family", sql.Text, primary_key=True),
        sql.Column("machine_id", Number, sql.ForeignKey("machines.id"), primary_key=True),
        sql.Column("clock", sql.DateTime, primary_key=True),
        sql.Column("at", sql.DateTime, primary_key=True),
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        *(
            sql.Column(mark, sql.Integer, nullable=False)
            for mark in ("high", "medium", "low", "unknown", "waived", "not_applicable", "met")
        ),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "lapses",
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("subject", sql.Text, primary_key=True),
        sql.Column("met_until", sql.Date, nullable=False),
        sql.Column("since", sql.Date, nullable=False),
        sqlite_with_rowid=False,
    )
    op.drop_index("ix_records_machine_id", "records")
    op.create_index("ix_records_of_a_machine", "records", ["machine_id", "clock", "at", "id"])
    op.create_index("ix_records_in_order", "records", ["clock", "at", "id"])
    op.create_index("ix_records_by_name", "records", ["machine"])
