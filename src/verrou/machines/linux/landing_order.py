"""The order in which a change set lands."""

from collections.abc import Sequence

from verrou.machines import Change, FolderOperation
from verrou.machines.linux.files.account_files import GROUP, GSHADOW, PASSWD, SHADOW, SUBGID, SUBUID
from verrou.machines.linux.new_homes import HOMES

GIVING = (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID)
"""The order in which account files land when an account is given something: it is there before a group lets it in."""
TAKING = (GROUP, GSHADOW, SHADOW, PASSWD, SUBUID, SUBGID)
STACK = "/etc/pam.d/"


def ordered(
    changes: Sequence[Change | FolderOperation], account_files: Sequence[str]
) -> list[Change | FolderOperation]:
    """What gives before what takes away: archives and homes are made, folders come, files come or change, then the
    account files, then the PAM stack that rests on all of that; what nothing needs any more goes then, homes last."""

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
