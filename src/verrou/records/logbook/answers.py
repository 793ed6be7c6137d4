"""What a logbook is asked: each question is one that the database answers, and grows with its answer alone."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date, datetime
from typing import Any

import sqlalchemy as sql
from attrs import AttrsInstance, fields, frozen

from verrou.core.history.records import Counts, Extent, ListedRun, RunFacts, RunRecord
from verrou.core.history.runs import Run
from verrou.core.history.trend import ALL, FIRST, LAST, EndingWaiver, MachineHistory, Moment, Regression, family_of
from verrou.core.model.access import as_known_role
from verrou.core.model.verdicts import MARKS, Result, Severity, Tally, Verdict
from verrou.records.logbook import schema as tables
from verrou.records.logbook.summaries import in_parts

PART = 200
"""How many records are read whole at once."""
RECORDS, SUMMARIES = tables.records.c, tables.summaries.c


@frozen
class Selection:
    """Which records: of a machine that ever had this name, of these kinds of run, from a moment on by its clock."""

    machine: str = ""
    runs: Collection[str] = ()
    since: datetime | None = None

    def conditions(self) -> list[sql.ColumnElement[bool]]:
        """Return what a record must fulfil."""
        found: list[sql.ColumnElement[bool]] = []
        if self.machine:
            found.append(RECORDS.machine_id.in_(_named(self.machine)))
        if self.runs:
            found.append(RECORDS.run.in_(self.runs))
        if self.since is not None:
            found.append(RECORDS.clock >= self.since)
        return found


def _named(machine: str) -> sql.Select[tuple[int]]:
    return sql.select(RECORDS.machine_id).where(RECORDS.machine == machine)


# Records


def knows(connection: sql.Connection, machine: str) -> bool:
    """Return whether a machine ever had this name."""
    return connection.scalar(sql.select(_named(machine).exists())) is True


def extent(connection: sql.Connection, selection: Selection) -> Extent:
    """Return how many records there are, and of the selected ones how many, of which time."""
    machines = sql.func.count(RECORDS.machine_id.distinct())
    counted = sql.select(sql.func.count(), machines, sql.func.min(RECORDS.clock), sql.func.max(RECORDS.clock))
    chosen = connection.execute(counted.where(*selection.conditions())).one()
    everything = connection.scalar(sql.select(sql.func.count()).select_from(tables.records))
    return Extent(everything or 0, *chosen)


def listed(connection: sql.Connection, selection: Selection, limit: int | None, skip: int) -> list[ListedRun]:
    """Return the newest selected records, the oldest of them first, after skipping some of the newest."""
    newest_first = [column.desc() for column in tables.IN_ORDER]
    page = _facts().where(*selection.conditions()).order_by(*newest_first).limit(limit).offset(skip)
    rows = connection.execute(page).all()[::-1]
    return [each for part in in_parts(rows) for each in _counted(connection, part)]


def _facts() -> sql.Select[Any]:
    return sql.select(tables.records, tables.machines.c.identity).join(tables.machines)


def _own(row: Any) -> dict[str, Any]:
    """Return the fields of a record's own table."""
    return {**{name: getattr(row, name) for name in (*tables.FACTS, "identity")}, "run": Run(row.run)}


def _counted(connection: sql.Connection, rows: Sequence[Any]) -> Iterator[ListedRun]:
    numbers = [row.id for row in rows]
    of_all = sql.select(RECORDS.id, *(SUMMARIES[mark] for mark in MARKS)).join(tables.summaries, tables.summary_of(ALL))
    tallies = {number: marks for number, *marks in connection.execute(of_all.where(RECORDS.id.in_(numbers)))}
    accounts, tests = tables.ACCOUNTS.c, tables.TRIALS.c
    enabled = sql.func.sum(sql.case((accounts.enabled, 1), else_=0))
    people = sql.select(accounts.record_id, sql.func.count(), enabled).where(accounts.record_id.in_(numbers))
    persons = {number: many for number, *many in connection.execute(people.group_by(accounts.record_id))}
    results = [sql.func.sum(sql.case((tests.result == str(result), 1), else_=0)) for result in Result]
    tried = sql.select(tests.record_id, *results).where(tests.record_id.in_(numbers)).group_by(tests.record_id)
    trials = {number: many for number, *many in connection.execute(tried)}
    for row in rows:
        counts = Counts(*persons.get(row.id, (0, 0)), *trials.get(row.id, (0, 0, 0)))
        yield ListedRun(row.id, RunFacts(**_own(row)), Tally(*tallies.get(row.id, ())), counts)


def record(connection: sql.Connection, number: int) -> RunRecord | None:
    """Return the record of a number, whole."""
    row = connection.execute(_facts().where(RECORDS.id == number)).first()
    return None if row is None else next(_whole(connection, [row]))


def whole_records(
    connection: sql.Connection, selection: Selection, after: Sequence[Any] | None
) -> tuple[list[RunRecord], tuple[Any, ...] | None]:
    """Return the next records after a place in their order, whole, and the place after them, if there may be more."""
    required = _facts().where(*selection.conditions()).order_by(*tables.IN_ORDER).limit(PART)
    if after is not None:
        required = required.where(sql.tuple_(*tables.IN_ORDER) > sql.tuple_(*map(sql.literal, after)))
    rows = connection.execute(required).all()
    last = rows[-1] if len(rows) == PART else None
    return list(_whole(connection, rows)), last and (last.clock, last.at, last.id)


def _whole(connection: sql.Connection, rows: Sequence[Any]) -> Iterator[RunRecord]:
    numbers = [row.id for row in rows]
    parts = {name: _parts(connection, table, kind, numbers) for name, (table, kind) in tables.PARTS.items()}
    for row in rows:
        whole = _own(row) | {name: tuple(found.get(row.id, ())) for name, found in parts.items()}
        yield RunRecord(**whole)


def _parts(
    connection: sql.Connection, table: sql.Table, kind: type[AttrsInstance], numbers: Sequence[int]
) -> dict[int, list[Any]]:
    """Return the parts of one kind by record."""
    found: dict[int, list[Any]] = {}
    names = [field.name for field in fields(kind)]
    required = sql.select(table).where(table.c.record_id.in_(numbers)).order_by(table.c.record_id, table.c.place)
    for row in connection.execute(required):
        part = kind(**{name: _value(name, getattr(row, name)) for name in names})
        found.setdefault(row.record_id, []).append(part)
    return found


def _value(field: str, stored: Any) -> Any:
    """Return what a column's value stands for."""
    match field:
        case "severity":
            return Severity(stored)
        case "verdict":
            return Verdict(stored)
        case "result":
            return Result(stored)
        case "role":
            return as_known_role(stored)
    return stored


# Trend


def histories(
    connection: sql.Connection, machine: str, families: Collection[str], ending_by: date, *, every_moment: bool
) -> list[MachineHistory]:
    """Return the audit history of each machine that has been audited, only over rules of ``families`` where some are
    given; its first and last moments alone, or every one."""
    moments: dict[int, list[Moment]] = {}
    last: dict[int, Any] = {}
    required = _moments(machine, families, every_moment)
    for row in connection.execute(required, execution_options={"yield_per": 5000}):
        machine_id, clock, at, number, n, of, *marks = row
        moments.setdefault(machine_id, []).append(Moment(**dict(zip(MARKS, marks, strict=True)), at=clock))
        if n == of:
            last[machine_id] = clock, at, number, of
    found = []
    for part in in_parts(last):
        numbers = [last[machine_id][2] for machine_id in part]
        named = {row.id: row for row in connection.execute(_facts().where(RECORDS.id.in_(numbers)))}
        undone = _undone(connection, part, last)
        regressed = _regressed(connection, numbers, families)
        ending = _ending(connection, numbers, families, ending_by)
        for machine_id, number in zip(part, numbers, strict=True):
            found.append(
                MachineHistory(
                    named[number].machine,
                    named[number].identity,
                    named[number].baseline,
                    last[machine_id][3],
                    tuple(moments[machine_id]),
                    tuple(regressed.get(number, ())),
                    tuple(sorted(ending.get(number, ()), key=lambda waiver: (waiver.until, waiver.subject))),
                    machine_id in undone,
                )
            )
    return found


def _moments(machine: str, families: Collection[str], every_moment: bool) -> sql.Select[Any]:
    """Return a query for audits in the order of each machine: its place, and how many there are; then how many
    findings of each verdict it has in some families."""
    order = (SUMMARIES.clock, SUMMARIES.at, SUMMARIES.record_id)
    n = sql.func.row_number().over(partition_by=SUMMARIES.machine_id, order_by=order).label("n")
    counted = sql.select(SUMMARIES.machine_id, sql.func.count().label("of")).where(SUMMARIES.family == ALL)
    many = counted.group_by(SUMMARIES.machine_id).subquery("many")
    marks: list[sql.ColumnElement[int]] = [SUMMARIES[mark] for mark in MARKS]
    source: sql.FromClause = tables.summaries.join(many, many.c.machine_id == SUMMARIES.machine_id)
    if families:
        parts = [tables.summaries.alias() for _ in families]
        for family, part in zip(families, parts, strict=True):
            same = (part.c[name] == SUMMARIES[name] for name in (*tables.OF_A_RECORD, "record_id"))
            source = source.outerjoin(part, sql.and_(part.c.family == family, *same))
        marks = [
            sum((sql.func.coalesce(part.c[mark], 0) for part in parts), sql.literal(0)).label(mark) for mark in MARKS
        ]
    chosen = (
        sql.select(SUMMARIES.machine_id, *order, n, many.c.of, *marks)
        .select_from(source)
        .where(SUMMARIES.family == ALL)
    )
    if machine:
        chosen = chosen.where(SUMMARIES.machine_id.in_(_named(machine)))
    audits = chosen.subquery("audits")
    required = sql.select(audits).order_by(audits.c.machine_id, audits.c.n)
    if every_moment:
        return required
    return required.where((audits.c.n <= FIRST) | (audits.c.n > audits.c.of - LAST))


def _regressed(
    connection: sql.Connection, numbers: Sequence[int], families: Collection[str]
) -> Mapping[int, Sequence[Regression]]:
    """Return by record what is not met at it, and was met before."""
    findings, lapses = tables.FINDINGS.c, tables.lapses.c
    since = {
        (row.record_id, row.subject): row
        for row in connection.execute(sql.select(tables.lapses).where(lapses.record_id.in_(numbers)))
    }
    required = sql.select(findings.record_id, findings.subject, findings.severity).where(
        findings.record_id.in_(numbers), findings.verdict == str(Verdict.NOT_MET)
    )
    found: dict[int, list[Regression]] = {}
    for number, subject, severity in connection.execute(required.order_by(findings.record_id, findings.place)):
        lapse = since.get((number, subject))
        if lapse is not None and (not families or family_of(subject) in families):
            regression = Regression(subject, Severity(severity), lapse.met_until, lapse.since)
            found.setdefault(number, []).append(regression)
    return found


def _ending(
    connection: sql.Connection, numbers: Sequence[int], families: Collection[str], ending_by: date
) -> Mapping[int, Sequence[EndingWaiver]]:
    """Return by record its waivers that expire by a day."""
    findings = tables.FINDINGS.c
    required = sql.select(findings.record_id, findings.subject, findings.waived_until, findings.waived_by)
    found: dict[int, list[EndingWaiver]] = {}
    for number, subject, until, by in connection.execute(
        required.where(findings.record_id.in_(numbers), findings.waived_until <= ending_by)
    ):
        if not families or family_of(subject) in families:
            found.setdefault(number, []).append(EndingWaiver(subject, until, by))
    return found


def _undone(connection: sql.Connection, part: Sequence[int], last: Mapping[int, Any]) -> Collection[int]:
    """Return the machines on which a run was undone after their last audit."""
    required = sql.select(RECORDS.machine_id, *tables.IN_ORDER).where(
        RECORDS.machine_id.in_(part),
        RECORDS.clock >= min(last[machine_id][0] for machine_id in part),
        RECORDS.run == str(Run.UNDO),
    )
    return {machine for machine, *order in connection.execute(required) if tuple(order) > last[machine][:3]}
