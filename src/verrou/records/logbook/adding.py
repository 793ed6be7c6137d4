"""Adding records to a logbook: each with all its parts, once, however often it is delivered."""

# Imports within functions: the dialect that is used.

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import sqlalchemy as sql
from attrs import AttrsInstance, fields
from sqlalchemy.exc import DataError, DBAPIError, IntegrityError

from verrou.core.history.records import RunRecord
from verrou.records.logbook import schema as tables
from verrou.records.logbook.summaries import Order, in_parts, settle, summary_rows

REJECTED = (DataError, IntegrityError, OverflowError, UnicodeError, ValueError)
"""What a database or its driver raises for a value that it cannot store."""
MANY = 1_000
"""From how many new records on it pays that a server counts its tables anew."""


class NotStored(ValueError):
    """A record that the database does not accept: ``position`` among those given, from 0, and the reason."""

    def __init__(self, position: int, error: Exception) -> None:
        cause = str(getattr(error, "orig", None) or error).strip().splitlines() or [type(error).__name__]
        super().__init__(f"the logbook rejects it ({cause[0]})")
        self.position = position


def add(connection: sql.Connection, records: Iterable[RunRecord]) -> int:
    """Add records in the open transaction and return how many are new. Raises: NotStored: one was not accepted."""
    added: dict[tuple[int, str], dict[int, Order]] = {}
    new = position = 0
    for part in in_parts(records):
        for number, machine, record in _add_part(connection, part, position):
            new += 1
            if record.findings:
                order = (record.clock, record.at, number)
                added.setdefault((machine, record.baseline), {})[number] = order
        position += len(part)
    if new > MANY and connection.dialect.name == "postgresql":
        # Of a table that was small before, it expects that it still is.
        connection.execute(sql.text(f"analyze {', '.join(tables.metadata.tables)}"))
    for (machine, baseline), numbers in added.items():
        settle(connection, machine, baseline, numbers)
    return new


def _add_part(
    connection: sql.Connection, part: Sequence[RunRecord], position: int
) -> Sequence[tuple[int, int, RunRecord]]:
    """Add some records together; where they are rejected, one by one, to tell which it was."""
    try:
        with connection.begin_nested():
            return list(_insert_all(connection, part))
    except REJECTED as error:
        if len(part) == 1:
            raise NotStored(position, error) from None
    return [each for number, record in enumerate(part) for each in _add_part(connection, [record], position + number)]


def _insert_all(connection: sql.Connection, part: Sequence[RunRecord]) -> Iterator[tuple[int, int, RunRecord]]:
    """Insert records; yield of each new one its number, that of its machine, and itself."""
    identities = list(dict.fromkeys(record.identity for record in part))
    machines = tables.machines
    found = _numbers(connection, identities)
    if missing := [{"identity": identity} for identity in identities if identity not in found]:
        connection.execute(_insert(connection, machines).on_conflict_do_nothing(), missing)
        found = _numbers(connection, identities)
    by_key = {record.key: record for record in reversed(part)}  # of two with one key the first stays
    for key in connection.scalars(sql.select(tables.records.c.key).where(tables.records.c.key.in_(list(by_key)))):
        del by_key[key]
    if not by_key:
        return
    rows = [_facts(record, found[record.identity]) for record in part if by_key.get(record.key) is record]
    inserted = _insert(connection, tables.records).on_conflict_do_nothing()
    returning = inserted.returning(tables.records.c.id, tables.records.c.key)
    numbers = {row.key: row.id for row in connection.execute(returning, rows)}
    new = [(numbers[record.key], record) for record in by_key.values() if record.key in numbers]
    for name, (table, kind) in tables.PARTS.items():
        _insert_rows(connection, table, list(_part_rows(new, name, kind)))
    summaries = [
        row
        for number, record in new
        for row in summary_rows(found[record.identity], (record.clock, record.at, number), record.findings)
    ]
    _insert_rows(connection, tables.summaries, summaries)
    for number, record in new:
        yield number, found[record.identity], record


def _numbers(connection: sql.Connection, identities: Sequence[str]) -> dict[str, int]:
    """Return machines by identity; on a server no one else adds to them until the end of the transaction, since what
    is worked out of a record depends on the one before."""
    table = tables.machines.c
    chosen = sql.select(table.identity, table.id).where(table.identity.in_(identities)).order_by(table.id)
    return {row.identity: row.id for row in connection.execute(chosen.with_for_update(key_share=True))}


def _facts(record: RunRecord, machine: int) -> dict[str, Any]:
    row = {name: getattr(record, name) for name in tables.FACTS}
    return {**row, "run": str(record.run), "machine_id": machine}


def _part_rows(
    records: Iterable[tuple[int, RunRecord]], name: str, kind: type[AttrsInstance]
) -> Iterator[dict[str, Any]]:
    names = [field.name for field in fields(kind)]
    for number, record in records:
        for place, item in enumerate(getattr(record, name)):
            row = {field: _stored(getattr(item, field)) for field in names}
            yield {"record_id": number, "place": place, **row}


def _stored(value: object) -> object:
    return str(value) if isinstance(value, str) else value


def _insert_rows(connection: sql.Connection, table: sql.Table, rows: Sequence[Mapping[str, Any]]) -> None:
    """Insert rows that have the same keys; into a server by COPY, which takes a fraction of the time."""
    if not rows:
        return
    if connection.dialect.name == "sqlite":
        connection.execute(table.insert(), rows)
        return
    driver: Any = connection.dialect.dbapi
    cursor: Any = connection.connection.cursor()
    order = f"COPY {table.name} ({', '.join(rows[0])}) FROM STDIN"
    try:
        with cursor, cursor.copy(order) as copy:
            for row in rows:
                copy.write_row(tuple(row.values()))
    except driver.Error as error:
        raise DBAPIError.instance(order, None, error, driver.Error) from None


def _insert(connection: sql.Connection, table: sql.Table) -> Any:
    if connection.dialect.name == "sqlite":
        from sqlalchemy.dialects import sqlite

        return sqlite.insert(table)
    from sqlalchemy.dialects import postgresql

    return postgresql.insert(table)
