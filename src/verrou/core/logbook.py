"""Records of the logbook, and the trend over them. They contain no secret, hash or hint."""

from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime, timedelta
from enum import StrEnum

from attrs import evolve, frozen

from verrou.core.audit import Audit
from verrou.core.model import Snapshot
from verrou.core.model.access import KnownRole, known_role
from verrou.core.rules import CATALOGUE, Severity, reading_of, value_now
from verrou.core.trials import Result, TrialResult
from verrou.core.verdicts import MARKS, Tally, Verdict


class Run(StrEnum):
    """What was done on the machine."""

    SURVEY = "survey"
    AUDIT = "audit"
    HARDEN = "harden"
    VERIFY = "verify"
    UNDO = "undo"


@frozen
class FindingRecord:
    """Verdict on a rule, account or group; of a waived one also until which day and by whom."""

    subject: str
    severity: Severity
    verdict: Verdict
    waived_until: date | None = None
    waived_by: str = ""

    @property
    def is_not_met(self) -> bool:
        """Whether the finding is not met or unknown."""
        return self.verdict in (Verdict.NOT_MET, Verdict.UNKNOWN)


@frozen
class AccountRecord:
    """An account of a machine at an audit."""

    name: str
    role: KnownRole
    enabled: bool


@frozen
class ReadingRecord:
    """State of a rule, in words."""

    rule: str
    words: str


@frozen
class TrialRecord:
    """Test of a rule, with its result."""

    rule: str
    test: str
    result: Result


@frozen
class RunRecord:
    """One run.

    ``key`` is unique, so that a run is never recorded twice. ``at`` is UTC by this computer's clock, ``clock`` the
    machine's own time. ``machine`` is the name at that time; ``identity`` tells it from every other under any name.
    ``entry`` is the number in its journal, where the run changed something."""

    key: str
    run: Run
    at: datetime
    clock: datetime
    by: str
    tool: str
    identity: str
    machine: str
    system: str
    baseline: str = ""
    digest: str = ""
    entry: int | None = None
    findings: tuple[FindingRecord, ...] = ()
    accounts: tuple[AccountRecord, ...] = ()
    readings: tuple[ReadingRecord, ...] = ()
    tests: tuple[TrialRecord, ...] = ()

    @property
    def tally(self) -> Tally:
        """The number of findings of each verdict."""
        return Tally.of(self.findings)


def record_of(
    run: Run,
    snapshot: Snapshot,
    plain: Callable[[object], str],
    *,
    key: str,
    at: datetime,
    by: str,
    tool: str,
    found: Audit | None = None,
    digest: str = "",
    trials: Sequence[TrialResult] = (),
    entry: int | None = None,
) -> RunRecord:
    """Return the record of a run; ``plain`` makes text from a machine safe for any screen.

    Readings are recorded for a survey alone: an audit already has the state of each rule."""
    machine = snapshot.machine
    return RunRecord(
        key,
        run,
        at.replace(microsecond=0),
        machine.now.replace(microsecond=0),
        plain(by),
        tool,
        plain(machine.known_by),
        plain(machine.name),
        plain(machine.system),
        plain(found.baseline) if found else "",
        digest,
        entry,
        tuple(
            FindingRecord(
                plain(finding.subject),
                finding.severity,
                finding.verdict,
                finding.waiver.until if finding.waiver else None,
                plain(finding.waiver.by) if finding.waiver else "",
            )
            for finding in (found.findings if found else ())
        ),
        tuple(
            AccountRecord(
                plain(account.name),
                known_role(account, snapshot),
                account.enabled,
            )
            for account in snapshot.accounts
        ),
        tuple(ReadingRecord(rule.id, plain(value_now(rule, reading_of(rule, snapshot)))) for rule in CATALOGUE.values())
        if run is Run.SURVEY
        else (),
        tuple(TrialRecord(trial.rule, plain(trial.test), trial.result) for trial in trials),
    )


# Trend


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
