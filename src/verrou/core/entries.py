"""Entries of the change journal as data."""

from enum import StrEnum

from attrs import define, field


class RunState(StrEnum):
    """State of an entry. ``RUNNING``: another process holds the machine's lock, so the run may still end well."""

    DONE = "done"
    INTERRUPTED = "interrupted"
    RUNNING = "running"
    UNDONE = "undone"
    TESTED = "tested"
    UNCHANGED = "unchanged"
    REJECTED = "rejected"


@define
class JournalEntry:
    """One run.

    ``note`` is the state of a run that changed nothing, ``why`` the reason of one that was blocked or interrupted.
    ``undoes`` are the entries that this one undid, ``undone_by`` the entry that undid this one. ``differences`` are the
    facts it changed, ``tried`` the administrators that a test sign-in found able to take over."""

    number: int
    command: str
    by: str
    begun: str
    baseline: str
    overridden: list[str]
    steps: list[dict[str, str]]
    differences: list[dict[str, str]]
    places: list[str]
    undoes: list[int] = field(factory=list)
    digest: str = ""
    note: RunState | None = None
    why: str = ""
    finished: str | None = None
    undone_by: int | None = None
    tried: list[str] = field(factory=list)

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
