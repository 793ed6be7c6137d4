"""Records of the logbook as data. They contain no secret, hash or hint."""

from datetime import date, datetime

from attrs import frozen

from verrou.core.history.runs import Run
from verrou.core.model.access import KnownRole
from verrou.core.model.verdicts import Result, Severity, Tally, Verdict

FORMAT = "verrou record 2"
"""What a record says of its form, in a file and in a line of an export."""


@frozen(repr=False)
class FindingRecord:
    """Verdict on a rule, account or group; of a waived one also until which day and by whom."""

    subject: str
    severity: Severity
    verdict: Verdict
    waived_until: date | None = None
    waived_by: str = ""


@frozen(repr=False)
class AccountRecord:
    """An account of a machine at an audit."""

    name: str
    role: KnownRole
    enabled: bool


@frozen(repr=False)
class ReadingRecord:
    """State of a rule, in words."""

    rule: str
    words: str


@frozen(repr=False)
class TrialRecord:
    """Test of a rule, with its result."""

    rule: str
    test: str
    result: Result


@frozen(repr=False)
class RunFacts:
    """What was run, where, when and by whom.

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


@frozen(repr=False)
class RunRecord(RunFacts):
    """One run, whole."""

    findings: tuple[FindingRecord, ...] = ()
    accounts: tuple[AccountRecord, ...] = ()
    readings: tuple[ReadingRecord, ...] = ()
    tests: tuple[TrialRecord, ...] = ()

    @property
    def tally(self) -> Tally:
        """The number of findings of each verdict."""
        return Tally.of(self.findings)


@frozen(repr=False)
class Counts:
    """How many accounts a machine had at a run, and how many of them were enabled; how many tests had each result."""

    accounts: int = 0
    accounts_enabled: int = 0
    tests_passed: int = 0
    tests_failed: int = 0
    tests_not_run: int = 0


@frozen(repr=False)
class ListedRun:
    """One run in a list: its number in the logbook, and what it has, counted."""

    number: int
    facts: RunFacts
    tally: Tally
    counts: Counts

    @property
    def is_audit(self) -> bool:
        """Whether the machine was audited against a baseline."""
        return self.tally != Tally()


@frozen(repr=False)
class Extent:
    """How many records a logbook has, how many of them are selected, of how many machines, from when to when."""

    recorded: int
    selected: int
    machines: int
    first: datetime | None
    last: datetime | None
