"""The tables of the logbook in its newest schema, with a column for each field of a record; ``migrations`` lead
there."""

from collections.abc import Iterable, Mapping
from datetime import date, datetime
from typing import Any, get_args, get_type_hints

import sqlalchemy as sql
from attrs import AttrsInstance, fields

from verrou.core.history.records import AccountRecord, FindingRecord, ReadingRecord, RunFacts, TrialRecord
from verrou.core.history.trend import Lapse
from verrou.core.model.verdicts import Tally

metadata = sql.MetaData()
Number = sql.BigInteger().with_variant(sql.Integer, "sqlite")
"""SQLite numbers rows by itself only in a column of this type."""

machines = sql.Table(
    "machines",
    metadata,
    sql.Column("id", Number, primary_key=True),
    sql.Column("identity", sql.Text, nullable=False, unique=True),
)


def _columns(kind: type[AttrsInstance], names: Iterable[str]) -> list[sql.Column[Any]]:
    """Return a column for each of these fields of a class: a new field needs a migration, and nothing more."""
    hints = get_type_hints(kind)
    return [_column(name, hints[name]) for name in names]


def _column(name: str, hint: Any) -> sql.Column[Any]:
    kind, *_ = (each for each in get_args(hint) or (hint,) if each is not type(None))
    optional = name in LOOSE or type(None) in get_args(hint)
    return sql.Column(name, TYPES.get(kind, sql.Text), nullable=optional)


TYPES = {int: sql.Integer, bool: sql.Boolean, date: sql.Date, datetime: sql.DateTime}
"""Column types; every other field is text."""
LOOSE = ("role",)
"""Columns in which older logbooks have nothing."""
FACTS = tuple(field.name for field in fields(RunFacts) if field.name != "identity")
"""Fields of a record that its own table has."""

records = sql.Table(
    "records",
    metadata,
    sql.Column("id", Number, primary_key=True),
    sql.Column("machine_id", Number, sql.ForeignKey("machines.id"), nullable=False),
    *_columns(RunFacts, FACTS),
    sql.UniqueConstraint("key"),
    sql.Index("ix_records_of_a_machine", "machine_id", "clock", "at", "id"),
    sql.Index("ix_records_in_order", "clock", "at", "id"),
    sql.Index("ix_records_by_name", "machine"),
)
IN_ORDER = (records.c.clock, records.c.at, records.c.id)
"""The order of records: by the machine's own time."""

summaries = sql.Table(
    "summaries",
    metadata,
    sql.Column("family", sql.Text, primary_key=True),
    sql.Column("machine_id", Number, sql.ForeignKey("machines.id"), primary_key=True),
    sql.Column("clock", sql.DateTime, primary_key=True),
    sql.Column("at", sql.DateTime, primary_key=True),
    sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
    *_columns(Tally, (field.name for field in fields(Tally))),
    sqlite_with_rowid=False,
)
"""How many findings of a record have each verdict, by family and over all; none of a record without findings.

Those of a machine stand together and in order, so that its history is read at once."""
OF_A_RECORD = ("machine_id", "clock", "at")
"""What a summary repeats of its record."""


def summary_of(family: str) -> sql.ColumnElement[bool]:
    """Return what joins a record with its summary of a family."""
    repeated = (summaries.c[name] == records.c[name] for name in OF_A_RECORD)
    return sql.and_(summaries.c.family == family, *repeated, summaries.c.record_id == records.c.id)


sql.Index(
    "ix_summaries_of_all",
    *(summaries.c[name] for name in (*OF_A_RECORD, "record_id")),
    postgresql_where=summaries.c.family == "",
    postgresql_include=[field.name for field in fields(Tally)],
).ddl_if(dialect="postgresql")
"""On a server the table stands in no order: what is asked of all findings is read from this index alone."""

lapses = sql.Table(
    "lapses",
    metadata,
    sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
    sql.Column("subject", sql.Text, primary_key=True),
    *_columns(Lapse, (field.name for field in fields(Lapse))),
    sql.Column("place", sql.Integer, nullable=False),
    *_columns(FindingRecord, ("severity", "verdict")),
    sqlite_with_rowid=False,
)
"""What is not met, or not assessed, at a record and was met before; with what is asked about it of its finding."""


def _of_a_record(name: str, kind: type[AttrsInstance]) -> sql.Table:
    return sql.Table(
        name,
        metadata,
        sql.Column("record_id", Number, sql.ForeignKey("records.id"), primary_key=True),
        sql.Column("place", sql.Integer, primary_key=True),
        *_columns(kind, (field.name for field in fields(kind))),
    )


PARTS: Mapping[str, tuple[sql.Table, type[AttrsInstance]]] = {
    "findings": (_of_a_record("findings", FindingRecord), FindingRecord),
    "accounts": (_of_a_record("accounts", AccountRecord), AccountRecord),
    "readings": (_of_a_record("readings", ReadingRecord), ReadingRecord),
    "tests": (_of_a_record("trials", TrialRecord), TrialRecord),
}
"""By field of a record: the table of its parts, and their class."""
FINDINGS, ACCOUNTS, TRIALS = (PARTS[name][0] for name in ("findings", "accounts", "tests"))
IS_WAIVED = FINDINGS.c.waived_until.is_not(None)
sql.Index(
    "ix_findings_waived",
    *(FINDINGS.c.record_id, FINDINGS.c.waived_until),
    sqlite_where=IS_WAIVED,
    postgresql_where=IS_WAIVED,
)
