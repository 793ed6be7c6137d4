"""The order in which a change set is applied."""

from collections.abc import Sequence

from verrou.machines import Change, FolderOperation
from verrou.machines.linux.files.account_files import GROUP, GSHADOW, PASSWD, SHADOW, SUBGID, SUBUID
from verrou.machines.linux.new_homes import HOMES

GIVING = (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID)
"""Order in which account files are applied when an account gets something: it exists before a group admits it."""
TAKING = (GROUP, GSHADOW, SHADOW, PASSWD, SUBUID, SUBGID)
STACK = "/etc/pam.d/"


def ordered(
    changes: Sequence[Change | FolderOperation], account_files: Sequence[str]
) -> list[Change | FolderOperation]:
    """Return the changes ordered so that what grants comes before what removes.

    Archives and homes first, then folders, files, the account files, and the PAM stack that rests on all of that; then
    removed files, and homes last."""

    def rank(change: Change | FolderOperation) -> tuple[int, int, str]:
        place, depth = change.place, change.place.count("/")
        if isinstance(change, FolderOperation):
            return {"archive-home": 0, "make-home": 2, "bring-home": 2, "hand-over": 2}.get(change.verb, 9), 0, place
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
