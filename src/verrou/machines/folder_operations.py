"""Operations on folders of homes, which no content can express: one class for each verb."""

from collections.abc import Mapping
from typing import Any, ClassVar, get_args

from attrs import field, fields, frozen


@frozen(repr=False)
class _Operation:
    """An operation on the folder at ``place``.

    One that a journal holds has its ``entry``, and whether that ``finished``."""

    verb: ClassVar[str]
    place: str
    entry: int = field(default=0, kw_only=True, eq=False)
    finished: bool = field(default=False, kw_only=True, eq=False)


@frozen(repr=False)
class _NewHome(_Operation):
    """``kept`` is a home that lasts: it gets the skeleton."""

    uid: int = field(converter=int)
    gid: int = field(converter=int)
    mode: int = field(converter=int)
    kept: bool = field(converter=bool)


@frozen(repr=False)
class _OldHome(_Operation):
    """``archive`` is the file with its content; empty where there is none."""

    uid: int = field(converter=int)
    archive: str = field(default="", converter=str)


@frozen(repr=False)
class MakeHome(_NewHome):
    """Create a home."""

    verb = "make-home"


@frozen(repr=False)
class UnmakeHome(_NewHome):
    """Remove a home that was just made."""

    verb = "unmake-home"


@frozen(repr=False)
class TakeHome(_OldHome):
    """Move a home aside, to be deleted once the entry is finished."""

    verb = "take-home"


@frozen(repr=False)
class BringHome(_OldHome):
    """Restore a home: from ``aside``, a name beside it, or else from its archive."""

    verb = "bring-home"
    aside: str = field(default="", converter=str)


@frozen(repr=False)
class ArchiveHome(_OldHome):
    """Write a home to its archive."""

    verb = "archive-home"


@frozen(repr=False)
class DropArchive(_OldHome):
    """Delete an archive."""

    verb = "drop-archive"


@frozen(repr=False)
class HandOver(_Operation):
    """Give files to another owner: ``place`` itself, and with ``below`` all its content."""

    verb = "hand-over"
    uid: int = field(converter=int)
    gid: int = field(converter=int)
    to_uid: int = field(converter=int)
    to_gid: int = field(converter=int)
    below: bool = field(converter=bool)

    def backwards(self) -> "HandOver":
        """Return the reverse operation."""
        return HandOver(self.place, self.to_uid, self.to_gid, self.uid, self.gid, self.below)


FolderOperation = MakeHome | UnmakeHome | TakeHome | BringHome | ArchiveHome | DropArchive | HandOver
VERBS: Mapping[str, type[FolderOperation]] = {each.verb: each for each in get_args(FolderOperation)}
_OF_A_JOURNAL = ("place", "entry", "finished")


def operation_data(operation: FolderOperation) -> dict[str, Any]:
    """Return an operation as plain data, for a journal."""
    own = [field.name for field in fields(type(operation)) if field.name not in _OF_A_JOURNAL]
    return {
        "operation": operation.verb,
        "place": operation.place,
        "facts": [(name, getattr(operation, name)) for name in own],
    }


def operation_from(raw: Mapping[str, Any], entry: int, finished: bool) -> FolderOperation:
    """Return the operation that :func:`operation_data` was made from.

    Raises: KeyError, TypeError, ValueError: it is none."""
    facts = {str(name): value for name, value in raw["facts"] if name not in _OF_A_JOURNAL}
    return VERBS[raw["operation"]](place=str(raw["place"]), entry=entry, finished=finished, **facts)
