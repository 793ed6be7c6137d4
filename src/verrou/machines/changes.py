"""What a change to a machine consists of, and what comes out of it."""

from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

if TYPE_CHECKING:
    from verrou.core.steps.step import CreateAccount, SetPassword
    from verrou.machines.folder_operations import FolderOperation


class Outcome(StrEnum):
    """Result of a step."""

    DONE = "done"
    UNCHANGED = "unchanged"
    REJECTED = "rejected"
    UNDONE = "undone"


class StepResult(NamedTuple):
    """Result of a step, with the machine's message."""

    outcome: Outcome
    message: str = ""


class Secrets(dict[str, str]):
    """New passwords by account name. Its repr never shows them."""

    def given(self, step: "CreateAccount | SetPassword") -> str:
        """Return the password that a step sets: a blank one only where the step says so."""
        return "" if step.password == "blank" else self[step.account]

    def __repr__(self) -> str:
        return f"Secrets for {', '.join(self) or 'nobody'}"

    __str__ = __repr__


class FileState(NamedTuple):
    """State of one path: its content (None for nothing), mode, owner (``uid``, ``gid``) and extended attributes.

    Attributes include ACLs and security labels. ``folder`` marks a directory, whose content is not stored; ``link`` is
    the target of a symbolic link."""

    content: bytes | None
    mode: int = 0
    uid: int = 0
    gid: int = 0
    folder: bool = False
    attributes: tuple[tuple[str, bytes], ...] = ()
    link: str = ""

    @property
    def there(self) -> bool:
        """Whether anything exists there."""
        return self.folder or self.content is not None or bool(self.link)


NOTHING = FileState(None)


class FileChange(NamedTuple):
    """One place before and after a change. ``place`` is a name that the machine understands."""

    place: str
    before: FileState
    after: FileState

    def backwards(self) -> "FileChange":
        """Return the reverse change."""
        return FileChange(self.place, self.after, self.before)


Change: TypeAlias = "FileChange | FolderOperation"
ChangeSet: TypeAlias = "Sequence[Change]"
"""The changes of a plan in the order in which they are applied: what grants, then what removes."""


class PlaceState(StrEnum):
    """Whether a place is unchanged, already changed, or modified by another program."""

    BEFORE = "before"
    AFTER = "after"
    OTHER = "other"


class RestoreResult(NamedTuple):
    """Result of one place that an undo restores."""

    place: str
    outcome: Outcome
    message: str = ""


Stamps = Mapping[str, object]
"""A stamp for each place that was read, to detect changes since."""
