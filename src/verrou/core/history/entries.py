"""Entries of the change journal as data."""

from enum import StrEnum

from attrs import define, frozen


class RunState(StrEnum):
    """State of an entry. ``RUNNING``: another process holds the machine's lock, so the run may still end well."""

    DONE = "done"
    INTERRUPTED = "interrupted"
    RUNNING = "running"
    UNDONE = "undone"
    TESTED = "tested"
    UNCHANGED = "unchanged"
    REJECTED = "rejected"


@frozen(repr=False)
class Difference:
    """One fact before and after. ``subject`` is an account, a group or a rule."""

    subject: str
    fact: str
    was: str
    now: str

    def __str__(self) -> str:
        fact = f" {self.fact}" if self.fact else ""
        return f"{self.subject}:{fact} {self.was or 'none'} → {self.now or 'none'}"


@frozen(repr=False)
class StepRecord:
    """A step of a run, with its outcome and the machine's message."""

    what: str
    outcome: str
    message: str = ""


@define(kw_only=True)
class JournalRecord:
    """What is recorded of a run.

    ``undoes`` are the entries that it undid, ``differences`` the facts that it changed, ``tried`` the administrators
    that a test sign-in found able to take over, ``why`` the reason of a run that was blocked or interrupted."""

    command: str
    by: str
    baseline: str = ""
    overridden: tuple[str, ...] = ()
    steps: tuple[StepRecord, ...] = ()
    differences: tuple[Difference, ...] = ()
    undoes: tuple[int, ...] = ()
    tried: tuple[str, ...] = ()
    why: str = ""


@define(kw_only=True)
class JournalEntry(JournalRecord):
    """One run, as the journal holds it. Times are this computer's own.

    ``note`` is the state of a run that changed nothing, ``undone_by`` the entry that undid this one, ``digest`` the
    hash of its change set."""

    number: int
    begun: str
    finished: str | None = None
    undone_by: int | None = None
    places: tuple[str, ...] = ()
    digest: str = ""
    note: RunState | None = None

    def state(self, *, running: bool = False) -> RunState:
        """Return the state of the run; ``running``: another process holds the machine's lock right now."""
        if self.undone_by is not None:
            return RunState.UNDONE
        if self.note is not None:
            return self.note
        return RunState.DONE if self.finished else RunState.RUNNING if running else RunState.INTERRUPTED

    @property
    def is_interrupted(self) -> bool:
        """Whether the run ended before it finished, and has not been undone since."""
        return self.state() is RunState.INTERRUPTED

    @property
    def can_be_undone(self) -> bool:
        """Whether it changed anything that can be undone."""
        return self.note is None and self.undone_by is None
