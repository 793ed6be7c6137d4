"""The order in which a change set is applied."""

from collections.abc import Sequence
from typing import assert_never

from verrou.machines.changes import Change, FileChange
from verrou.machines.folder_operations import (
    ArchiveHome,
    BringHome,
    DropArchive,
    FolderOperation,
    HandOver,
    MakeHome,
    TakeHome,
    UnmakeHome,
)
from verrou.machines.linux.accounts.new_homes import HOMES
from verrou.machines.linux.files.account_files import GROUP, GSHADOW, PASSWD, SHADOW, SUBGID, SUBUID

GIVING = (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID)
"""Order in which account files are applied when an account gets something: it exists before a group admits it."""
TAKING = (GROUP, GSHADOW, SHADOW, PASSWD, SUBUID, SUBGID)
STACK = "/etc/pam.d/"


def ordered(changes: Sequence[Change], account_files: Sequence[str]) -> list[Change]:
    """Return the changes ordered so that what grants comes before what removes.

    Archives and homes first, then folders, files, the account files, and the PAM stack that rests on all of that; then
    removed files, and homes last."""

    def rank(change: Change) -> tuple[int, int, str]:
        place, depth = change.place, change.place.count("/")
        if not isinstance(change, FileChange):
            return _rank_of(change), 0, place
        if change.before.folder and change.after.folder and place.startswith(HOMES):
            return 9, 0, place
        if change.after.folder:
            return 1, depth, place
        if place in account_files:
            return 4, account_files.index(place), place
        if change.after.there:
            return (5 if place.startswith(STACK) else 3), 0, place
        return (8, -depth, place) if change.before.folder else (7, 0, place)

    return sorted(changes, key=rank)


def _rank_of(operation: FolderOperation) -> int:
    match operation:
        case ArchiveHome():
            return 0
        case MakeHome() | BringHome() | HandOver():
            return 2
        case UnmakeHome() | TakeHome() | DropArchive():
            return 9
    assert_never(operation)
