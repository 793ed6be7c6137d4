"""The answers of a logbook, worked out plainly from all its records: what the database is compared with."""

from collections.abc import Callable, Iterator, Sequence
from datetime import date

from attrs import evolve

from verrou.core.history.records import FindingRecord, RunRecord
from verrou.core.history.runs import Run
from verrou.core.history.trend import EndingWaiver, MachineHistory, Moment, Regression, Trend, soon, worst_first
from verrou.core.model.verdicts import MARKS, Verdict


def trend(records: Sequence[RunRecord], today: date, families: Sequence[str] = ()) -> Trend:
    """The trend over records in their order."""
    machines: dict[str, list[RunRecord]] = {}
    for record in records:
        machines.setdefault(record.identity, []).append(record)
    found = [history for kept in machines.values() if (history := _history_of(kept, today, families)) is not None]
    histories = worst_first(found)
    return Trend(histories, list(_together(histories)))


def _history_of(kept: Sequence[RunRecord], today: date, families: Sequence[str]) -> MachineHistory | None:
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
        len(audited),
        tuple(evolve(Moment.of(of(record)), at=record.clock) for record in audited),
        tuple(_regressions(audited, of)),
        tuple(sorted(ending, key=lambda waiver: (waiver.until, waiver.subject))),
        any(record.run is Run.UNDO for record in kept[kept.index(last) + 1 :]),
    )


def _regressions(audited: Sequence[RunRecord], of: Callable[[RunRecord], list[FindingRecord]]) -> Iterator[Regression]:
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
    for day in sorted({moment.at.date() for history in histories for moment in history.moments}):
        until = [[m for m in history.moments if m.at.date() <= day] for history in histories]
        standing = [moments[-1] for moments in until if moments]
        counts = {mark: sum(getattr(moment, mark) for moment in standing) for mark in MARKS}
        yield Moment(**counts, at=max(m.at for moments in until for m in moments))
