"""The trend over the records of a logbook."""

from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime, timedelta

from attrs import evolve, frozen

from verrou.core.history.records import FindingRecord, Run, RunRecord
from verrou.core.model.verdicts import MARKS, Severity, Tally, Verdict


@frozen
class Moment(Tally):
    """The findings on one machine, or on several together, from one moment on."""

    at: datetime = datetime.min


@frozen
class Regression:
    """A rule that is not met now and was met before, with the last day on which it was met."""

    subject: str
    severity: Severity
    met_until: date
    not_met_since: date


@frozen
class EndingWaiver:
    """A waiver that expires soon, or has expired."""

    subject: str
    until: date
    by: str


@frozen
class MachineHistory:
    """Audit history of one machine: scores over time, regressions, expiring waivers.

    ``undone``: a run was undone after the last audit against a baseline."""

    machine: str
    identity: str
    baseline: str
    moments: tuple[Moment, ...]
    regressed: tuple[Regression, ...]
    ending: tuple[EndingWaiver, ...]
    undone: bool = False


@frozen
class Trend:
    """Histories of several machines, and of all together."""

    histories: tuple[MachineHistory, ...]
    together: tuple[Moment, ...]


SOON = timedelta(days=30)
"""How far ahead expiring waivers are reported."""


def soon(today: date) -> date:
    """Return the last day for which expiring waivers are reported."""
    return today + min(SOON, date.max - today)


def trend(records: Sequence[RunRecord], today: date, families: frozenset[str] = frozenset()) -> Trend:
    """Return the trend over the audits among the records; with ``families`` only over rules of those.

    Times are the machines' own."""
    machines: dict[str, list[RunRecord]] = {}
    for record in sorted(records, key=lambda record: (record.clock, record.at)):
        machines.setdefault(record.identity, []).append(record)
    histories = [history for kept in machines.values() if (history := _history_of(kept, today, families)) is not None]
    histories.sort(key=lambda history: (-len(history.regressed), -history.moments[-1].not_met, history.machine))
    return Trend(tuple(histories), tuple(_together(histories)))


def _history_of(kept: Sequence[RunRecord], today: date, families: frozenset[str]) -> MachineHistory | None:
    audited = [record for record in kept if record.findings]
    if not audited:
        return None

    def of(record: RunRecord) -> list[FindingRecord]:
        return [f for f in record.findings if not families or f.subject.partition(".")[0] in families]

    last = audited[-1]
    ending = [
        EndingWaiver(finding.subject, finding.waived_until, finding.waived_by)
        for finding in of(last)
        if finding.waived_until is not None and finding.waived_until <= soon(today)
    ]
    return MachineHistory(
        last.machine,
        last.identity,
        last.baseline,
        tuple(evolve(Moment.of(of(record)), at=record.clock) for record in audited),
        tuple(_regressions(audited, of)),
        tuple(sorted(ending, key=lambda waiver: (waiver.until, waiver.subject))),
        any(record.run is Run.UNDO for record in kept[kept.index(last) + 1 :]),
    )


def _regressions(audited: Sequence[RunRecord], of: Callable[[RunRecord], list[FindingRecord]]) -> Iterator[Regression]:
    """Yield what is not met now and was met before, in runs against the same baseline."""
    last = audited[-1]
    alike = [
        (record.clock.date(), {finding.subject: finding.verdict for finding in record.findings})
        for record in reversed(audited[:-1])
        if record.baseline == last.baseline
    ]
    for finding in of(last):
        since = last.clock.date()
        for day, verdicts in alike if finding.verdict is Verdict.NOT_MET else ():
            before = verdicts.get(finding.subject, Verdict.NOT_APPLICABLE)
            if before is Verdict.MET:
                yield Regression(finding.subject, finding.severity, day, since)
            if before in (Verdict.MET, Verdict.NOT_APPLICABLE):
                break
            since = day


def _together(histories: Sequence[MachineHistory]) -> Iterator[Moment]:
    """Yield all machines at each moment, each with its last score."""
    moments = sorted(
        ((moment.at, number, moment) for number, history in enumerate(histories) for moment in history.moments),
        key=lambda each: each[:2],
    )
    standing: dict[int, Moment] = {}
    together = dict.fromkeys(MARKS, 0)
    for at, number, moment in moments:
        before = standing.get(number, Moment())
        standing[number] = moment
        for mark in MARKS:
            together[mark] += getattr(moment, mark) - getattr(before, mark)
        yield Moment(**together, at=at)
