"""What an entry of a machine's journal tells."""

from enum import StrEnum

from attrs import define, field


class RunState(StrEnum):
    """Of an entry. ``RUNNING`` is one that nobody knows to have broken off: somebody holds the machine's lock."""

    DONE = "done"
    INTERRUPTED = "interrupted"
    RUNNING = "running"
    UNDONE = "undone"
    TESTED = "tested"
    UNCHANGED = "unchanged"
    REJECTED = "rejected"


@define
class JournalEntry:
    """One run. ``note`` is the state of a run that changed nothing, ``why`` the reason of one that was refused.
    ``undoes`` are the entries that this one goes back over, ``undone_by`` the entry that went back over this one.
    ``differences`` tell what is otherwise since, ``tried`` who was found by a trial to be able to take over."""

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
        """What became of it; ``running``: somebody holds the machine's lock right now."""
        if self.undone_by is not None:
            return RunState.UNDONE
        if self.note is not None:
            return self.note
        return RunState.DONE if self.finished else RunState.RUNNING if running else RunState.INTERRUPTED

    @property
    def is_interrupted(self) -> bool:
        """Whether the run ended before it was through, and nobody went back over it since."""
        return self.state() is RunState.INTERRUPTED

    @property
    def can_be_undone(self) -> bool:
        """Whether there is anything to go back over."""
        return self.note is None and self.undone_by is None
