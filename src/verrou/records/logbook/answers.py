"""What a logbook is asked: each question is one that the database answers, and grows with its answer alone."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import date, datetime
from operator import itemgetter
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


@frozen(repr=False)
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
    if connection.dialect.name == "postgresql":
        for name, value in QUICKER.items():
            chosen = sql.text("select set_config(name, :value, true) from pg_settings where name = :name")
            connection.execute(chosen, {"name": name, "value": value})
    ends = _ends(machine)
    moments: dict[int, list[Moment]] = {}
    required = _moments(ends, families, every_moment)
    rows = connection.execute(required, execution_options={"yield_per": 5000})
    for machine_id, clock, _, _, *marks in sorted(map(tuple, rows)):
        moments.setdefault(machine_id, []).append(Moment(**dict(zip(MARKS, marks, strict=True)), at=clock))
    regressed, ending = _standing(connection, ends, families, ending_by)
    undone = _undone(connection, ends)
    return [
        MachineHistory(
            *(name, identity, baseline, audits, tuple(moments[machine_id])),
            tuple(regressed.get(machine_id, ())),
            tuple(sorted(ending.get(machine_id, ()), key=lambda waiver: (waiver.until, waiver.subject))),
            machine_id in undone,
        )
        for machine_id, audits, name, identity, baseline in connection.execute(_audited(ends))
    ]


QUICKER = {"jit": "off", "cursor_tuple_fraction": "1", "random_page_cost": "1"}
"""Settings of a server while it answers: compiling these queries takes longer than answering them (a server before
PostgreSQL 11 does neither), all rows are wanted and not the first ones soon, and a few are looked up of very many."""
POSITIONS = [(n, True) for n in range(LAST)] + [(n, False) for n in range(FIRST)]
"""The last and the first audits of a machine: how many are newer, or older."""
NO_LIMIT = 2**62


def _ends(machine: str) -> sql.Subquery:
    """Return a query for the numbers of the first and the last audits of each machine, and how many it has.

    Each is found by the order that the summaries are kept in. The limit, which limits nothing, keeps a database from
    looking for them anew for each row that they are joined with."""
    mine = sql.and_(SUMMARIES.family == ALL, SUMMARIES.machine_id == tables.machines.c.id)
    order = (SUMMARIES.clock, SUMMARIES.at, SUMMARIES.record_id)

    def audit(many: int, newest: bool) -> sql.ColumnElement[int]:
        ordered = [column.desc() for column in order] if newest else order
        found = sql.select(SUMMARIES.record_id).where(mine).order_by(*ordered).limit(1).offset(many)
        return found.scalar_subquery().label(f"{'newest' if newest else 'oldest'}_{many}")

    audits = sql.select(sql.func.count()).where(mine).scalar_subquery().label("audits")
    found = sql.select(tables.machines.c.id, audits, *(audit(*position) for position in POSITIONS)).limit(NO_LIMIT)
    if machine:
        found = found.where(tables.machines.c.id.in_(_named(machine)))
    return found.subquery()


def _last(ends: sql.Subquery) -> sql.ColumnElement[int]:
    column: sql.ColumnElement[int] = ends.c.newest_0
    return column


def _audited(ends: sql.Subquery) -> sql.Select[Any]:
    named = sql.select(ends.c.id, ends.c.audits, RECORDS.machine, tables.machines.c.identity, RECORDS.baseline)
    return named.join(tables.records, RECORDS.id == _last(ends)).join(tables.machines)


def _moments(ends: sql.Subquery, families: Collection[str], every_moment: bool) -> sql.Select[Any]:
    """Return a query for audits with their place in the order of each machine; then how many findings of each verdict
    they have in some families."""
    wanted = sql.and_(SUMMARIES.family == ALL, SUMMARIES.machine_id == ends.c.id)
    if not every_moment:
        numbers = [column for column in ends.c if column.name not in ("id", "audits")]
        wanted = sql.and_(wanted, SUMMARIES.record_id.in_(numbers))
    source: sql.FromClause = ends.join(tables.summaries, wanted)
    marks: list[sql.ColumnElement[int]] = [SUMMARIES[mark] for mark in MARKS]
    if families:
        parts = [tables.summaries.alias() for _ in families]
        for family, part in zip(families, parts, strict=True):
            same = (part.c[name] == SUMMARIES[name] for name in (*tables.OF_A_RECORD, "record_id"))
            source = source.outerjoin(part, sql.and_(part.c.family == family, *same))
        marks = [sum((sql.func.coalesce(part.c[mark], 0) for part in parts), sql.literal(0)) for mark in MARKS]
    order = (SUMMARIES.machine_id, SUMMARIES.clock, SUMMARIES.at, SUMMARIES.record_id)
    return sql.select(*order, *marks).select_from(source)


def _standing(
    connection: sql.Connection, ends: sql.Subquery, families: Collection[str], ending_by: date
) -> tuple[Mapping[int, Sequence[Regression]], Mapping[int, Sequence[EndingWaiver]]]:
    """Return by machine what is not met at its last audit, and was met before; and its waivers that expire by a day."""
    findings, lapses = tables.FINDINGS.c, tables.lapses.c
    lapsed = sql.select(ends.c.id, lapses.place, lapses.subject, lapses.severity, lapses.met_until, lapses.since)
    lapsed = lapsed.join(tables.lapses, lapses.record_id == _last(ends)).where(lapses.verdict == str(Verdict.NOT_MET))
    waived = sql.select(ends.c.id, findings.place, findings.subject, findings.waived_until, findings.waived_by)
    waived = waived.join(tables.FINDINGS, findings.record_id == _last(ends)).where(findings.waived_until <= ending_by)
    severities = {str(severity): severity for severity in Severity}
    regressed: dict[int, list[Regression]] = {}
    ending: dict[int, list[EndingWaiver]] = {}
    for machine, subject, severity, *days in _in_order(connection, lapsed, families):
        regressed.setdefault(machine, []).append(Regression(subject, severities[severity], *days))
    for machine, subject, *waiver in _in_order(connection, waived, families):
        ending.setdefault(machine, []).append(EndingWaiver(subject, *waiver))
    return regressed, ending


def _in_order(connection: sql.Connection, required: sql.Select[Any], families: Collection[str]) -> Iterator[list[Any]]:
    """Yield rows about findings of some families in the order of their machines and places, without the place."""
    for machine, _, subject, *more in sorted(map(tuple, connection.execute(required)), key=itemgetter(0, 1)):
        if not families or family_of(subject) in families:
            yield [machine, subject, *more]


def _undone(connection: sql.Connection, ends: sql.Subquery) -> Collection[int]:
    """Return the machines on which a run was undone after their last audit."""
    last = tables.records.alias()
    after = sql.tuple_(*tables.IN_ORDER) > sql.tuple_(last.c.clock, last.c.at, last.c.id)
    later = sql.and_(RECORDS.machine_id == ends.c.id, RECORDS.run == str(Run.UNDO), after)
    required = ends.join(last, last.c.id == _last(ends)).join(tables.records, later)
    return set(connection.scalars(sql.select(ends.c.id).select_from(required)))
