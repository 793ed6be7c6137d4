"""What a logbook is asked: each question is one that the database answers, and grows with its answer alone."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date, datetime
from typing import Any

import sqlalchemy as sql
from attrs import AttrsInstance, fields, frozen

from verrou.core.history.records import Counts, Extent, ListedRun, Run, RunFacts, RunRecord
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
    of_all = sql.select(SUMMARIES.record_id, *(SUMMARIES[mark] for mark in MARKS)).where(SUMMARIES.family == ALL)
    tallies = {number: marks for number, *marks in connection.execute(of_all.where(SUMMARIES.record_id.in_(numbers)))}
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
    audits: dict[int, int] = {}
    last: dict[int, int] = {}
    for machine_id, number, n, of, at, *marks in connection.execute(
        _moments(machine, families, every_moment), execution_options={"yield_per": 5000}
    ):
        moments.setdefault(machine_id, []).append(_moment(at, marks))
        if n == of:
            audits[machine_id], last[machine_id] = of, number
    regressed, ending = _regressed(connection, machine, families), _ending(connection, machine, families, ending_by)
    undone = _undone(connection, machine)
    named = dict[int, Any]()
    for part in in_parts(last.values()):
        named |= {row.id: row for row in connection.execute(_facts().where(RECORDS.id.in_(part)))}
    return [
        MachineHistory(
            named[number].machine,
            named[number].identity,
            named[number].baseline,
            audits[machine_id],
            tuple(moments[machine_id]),
            tuple(regressed.get(number, ())),
            tuple(sorted(ending.get(number, ()), key=lambda waiver: (waiver.until, waiver.subject))),
            machine_id in undone,
        )
        for machine_id, number in last.items()
    ]


def _moment(at: datetime, marks: Sequence[int]) -> Moment:
    return Moment(**dict(zip(MARKS, marks, strict=True)), at=at)


def _audits(machine: str, *columns: sql.ColumnElement[Any]) -> sql.Select[Any]:
    """Return a query for all audits, of machines that ever had a name."""
    joined = tables.records.join(tables.summaries, (SUMMARIES.record_id == RECORDS.id) & (SUMMARIES.family == ALL))
    required = sql.select(*columns).select_from(joined)
    return required.where(RECORDS.machine_id.in_(_named(machine))) if machine else required


def _scored(machine: str, families: Collection[str], *columns: sql.ColumnElement[Any]) -> sql.Select[Any]:
    """Return a query for all audits, with how many findings of each verdict each has in some families."""
    if not families:
        return _audits(machine, *columns, *(SUMMARIES[mark] for mark in MARKS))
    sums = (sql.func.sum(SUMMARIES[mark]).label(mark) for mark in MARKS)
    chosen = sql.select(SUMMARIES.record_id, *sums).where(SUMMARIES.family.in_(families))
    part = chosen.group_by(SUMMARIES.record_id).subquery("part")
    marks = (sql.func.coalesce(part.c[mark], 0).label(mark) for mark in MARKS)
    return _audits(machine, *columns, *marks).outerjoin(part, part.c.record_id == RECORDS.id)


def _moments(machine: str, families: Collection[str], every_moment: bool) -> sql.Select[Any]:
    n = sql.func.row_number().over(partition_by=RECORDS.machine_id, order_by=tables.IN_ORDER).label("n")
    of = sql.func.count().over(partition_by=RECORDS.machine_id).label("of")
    audits = _scored(machine, families, RECORDS.machine_id, RECORDS.id, n, of, RECORDS.clock).subquery("audits")
    required = sql.select(audits).order_by(audits.c.machine_id, audits.c.n)
    if every_moment:
        return required
    return required.where((audits.c.n <= FIRST) | (audits.c.n > audits.c.of - LAST))


def _last(machine: str) -> sql.Subquery:
    """Return a query for the last audit of each machine."""
    newest_first = [column.desc() for column in tables.IN_ORDER]
    n = sql.func.row_number().over(partition_by=RECORDS.machine_id, order_by=newest_first).label("n")
    audits = _audits(machine, RECORDS.machine_id, *tables.IN_ORDER, n).subquery()
    return sql.select(audits).where(audits.c.n == 1).subquery("last")


def _regressed(
    connection: sql.Connection, machine: str, families: Collection[str]
) -> Mapping[int, Sequence[Regression]]:
    last, findings, lapses = _last(machine), tables.FINDINGS.c, tables.lapses.c
    required = (
        sql.select(lapses.record_id, lapses.subject, findings.severity, lapses.met_until, lapses.since)
        .select_from(tables.lapses)
        .join(last, last.c.id == lapses.record_id)
        .join(tables.FINDINGS, (findings.record_id == lapses.record_id) & (findings.subject == lapses.subject))
        .where(findings.verdict == str(Verdict.NOT_MET))
        .order_by(lapses.record_id, findings.place)
    )
    found: dict[int, list[Regression]] = {}
    for number, subject, severity, met_until, since in connection.execute(required):
        if not families or family_of(subject) in families:
            found.setdefault(number, []).append(Regression(subject, Severity(severity), met_until, since))
    return found


def _ending(
    connection: sql.Connection, machine: str, families: Collection[str], ending_by: date
) -> Mapping[int, Sequence[EndingWaiver]]:
    last, findings = _last(machine), tables.FINDINGS.c
    required = (
        sql.select(findings.record_id, findings.subject, findings.waived_until, findings.waived_by)
        .join(last, last.c.id == findings.record_id)
        .where(findings.waived_until <= ending_by)
    )
    found: dict[int, list[EndingWaiver]] = {}
    for number, subject, until, by in connection.execute(required):
        if not families or family_of(subject) in families:
            found.setdefault(number, []).append(EndingWaiver(subject, until, by))
    return found


def _undone(connection: sql.Connection, machine: str) -> Collection[int]:
    """Return the machines on which a run was undone after the last audit."""
    last = _last(machine)
    order, of_last = sql.tuple_(*tables.IN_ORDER), sql.tuple_(last.c.clock, last.c.at, last.c.id)
    required = sql.select(RECORDS.machine_id).join(last, (last.c.machine_id == RECORDS.machine_id) & (order > of_last))
    return set(connection.scalars(required.where(RECORDS.run == str(Run.UNDO))))


def together(connection: sql.Connection, machine: str, families: Collection[str]) -> Iterator[Moment]:
    """Yield all machines together at the end of each day, each as it was last audited."""
    scored = _scored(machine, families, RECORDS.machine_id, *tables.IN_ORDER).subquery("scored")
    order = [scored.c[column.name] for column in tables.IN_ORDER]

    def before(mark: str) -> sql.ColumnElement[int]:
        return sql.func.lag(scored.c[mark], 1, 0).over(partition_by=scored.c.machine_id, order_by=order)

    changes = [(scored.c[mark] - before(mark)).label(mark) for mark in MARKS]
    change = sql.select(sql.func.date(scored.c.clock).label("day"), scored.c.clock, *changes).subquery("change")
    sums = (sql.func.sum(change.c[mark]) for mark in MARKS)
    days = sql.select(sql.func.max(change.c.clock), *sums).group_by(change.c.day).order_by(change.c.day)
    counted = [0] * len(MARKS)
    for at, *changed in connection.execute(days):
        counted = [count + more for count, more in zip(counted, changed, strict=True)]
        yield _moment(at, counted)
