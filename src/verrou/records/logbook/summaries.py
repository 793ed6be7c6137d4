"""What a logbook works out once of each record as it goes in, so that no question has to read all of them again."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice
from typing import Any, TypeVar

import sqlalchemy as sql
from attrs import asdict

from verrou.core.history.records import FindingRecord
from verrou.core.history.trend import ALL, Audited, Lapse, summaries_of
from verrou.core.model.verdicts import Severity, Verdict
from verrou.records.logbook import schema as tables

Order = tuple[datetime, datetime, int]
"""The place of a record among all: its machine's time, the time of the computer at work, its number."""
T = TypeVar("T")


def in_parts(items: Iterable[T], size: int = 200) -> Iterator[list[T]]:
    """Yield items together, at most as many as one statement may name."""
    left = iter(items)
    while part := list(islice(left, size)):
        yield part


def summary_rows(machine: int, order: Order, findings: Sequence[FindingRecord]) -> list[dict[str, Any]]:
    """Return the rows that summarise the findings of a record."""
    clock, at, number = order
    repeated = {"machine_id": machine, "clock": clock, "at": at, "record_id": number}
    return [{"family": family, **repeated, **asdict(tally)} for family, tally in summaries_of(findings).items()]


def settle(connection: sql.Connection, machine: int, baseline: str, added: Mapping[int, Order]) -> None:
    """Work out the lapses of audits that were added to those of a machine against a baseline, by number; and of later
    ones, which a record that arrives late changes."""
    records = tables.records.c
    audits = (
        sql.select(*tables.IN_ORDER)
        .join(tables.summaries, tables.summary_of(ALL))
        .where(records.machine_id == machine, records.baseline == baseline)
    )
    order = sql.tuple_(*tables.IN_ORDER)
    start = sql.tuple_(*map(sql.literal, min(added.values())))
    newest_first = [column.desc() for column in tables.IN_ORDER]
    last = connection.execute(audits.where(order < start).order_by(*newest_first).limit(1)).all()
    rows = connection.execute(audits.where(order >= start).order_by(*tables.IN_ORDER)).all()
    before: Audited | None = None
    left = len(added)
    for part in in_parts([*last, *rows]):
        numbers = [row.id for row in part]
        findings, lapses = _findings(connection, numbers), _lapses(connection, numbers)
        changed: dict[int, list[dict[str, Any]]] = {}
        settled = False
        for row in part:
            stored = lapses.get(row.id, {})
            verdicts = {finding.subject: finding.verdict for finding in findings[row.id]}
            if last and row is last[0]:
                before = Audited(row.clock.date(), verdicts, stored)
                continue
            before = Audited.after(before, row.clock.date(), verdicts)
            left -= row.id in added
            if stored != before.lapses:
                changed[row.id] = lapse_rows(row.id, findings[row.id], before.lapses)
            elif settled := not left and row.id not in added:
                break
        _store(connection, changed)
        if settled:
            return


def _lapses(connection: sql.Connection, numbers: Collection[int]) -> Mapping[int, dict[str, Lapse]]:
    found: dict[int, dict[str, Lapse]] = {}
    for row in connection.execute(sql.select(tables.lapses).where(tables.lapses.c.record_id.in_(numbers))):
        found.setdefault(row.record_id, {})[row.subject] = Lapse(row.met_until, row.since)
    return found


def lapse_rows(number: int, findings: Sequence[FindingRecord], lapses: Mapping[str, Lapse]) -> list[dict[str, Any]]:
    """Return the rows of the lapses of a record."""
    rows = {
        finding.subject: {
            "record_id": number,
            "subject": finding.subject,
            "place": place,
            "severity": str(finding.severity),
            "verdict": str(finding.verdict),
            **asdict(lapses[finding.subject]),
        }
        for place, finding in enumerate(findings)
        if finding.subject in lapses
    }
    return list(rows.values())


def _store(connection: sql.Connection, lapses: Mapping[int, Sequence[dict[str, Any]]]) -> None:
    """Replace the lapses of some records."""
    if lapses:
        connection.execute(tables.lapses.delete().where(tables.lapses.c.record_id.in_(lapses)))
    if rows := [row for found in lapses.values() for row in found]:
        connection.execute(tables.lapses.insert(), rows)


def summarise_all(connection: sql.Connection) -> None:
    """Work out everything for the records of an older logbook."""
    records = tables.records.c
    groups: dict[tuple[int, str], dict[int, Order]] = {}
    for part in in_parts(connection.execute(sql.select(*tables.IN_ORDER, records.machine_id, records.baseline)).all()):
        findings = _findings(connection, [row.id for row in part])
        rows: list[dict[str, Any]] = []
        for row in part:
            if row.id in findings:
                order = (row.clock, row.at, row.id)
                rows += summary_rows(row.machine_id, order, findings[row.id])
                groups.setdefault((row.machine_id, row.baseline), {})[row.id] = order
        if rows:
            connection.execute(tables.summaries.insert(), rows)
    for (machine, baseline), added in groups.items():
        settle(connection, machine, baseline, added)


def _findings(connection: sql.Connection, numbers: Collection[int]) -> Mapping[int, list[FindingRecord]]:
    table = tables.FINDINGS.c
    required = sql.select(table.record_id, table.subject, table.severity, table.verdict)
    found: dict[int, list[FindingRecord]] = {}
    for row in connection.execute(required.where(table.record_id.in_(numbers)).order_by(table.record_id, table.place)):
        found.setdefault(row.record_id, []).append(
            FindingRecord(row.subject, Severity(row.severity), Verdict(row.verdict))
        )
    return found
