"""Settings of a machine for every desktop session by dconf(7).

They are keyfiles of a system database, and locks that override a user's own setting."""

from collections.abc import Mapping
from typing import NamedTuple

from verrou.core.model import Source
from verrou.machines.linux.files.keyfile import all_entries, last_of, with_entry
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root

PROGRAM, PROFILE = "/usr/bin/dconf", "/etc/dconf/profile/user"
DATABASES = "/etc/dconf/db"
OWN_DATABASE, OWN_FILE = "local", "90-verrou"
USUAL_PROFILE = f"user-db:user\nsystem-db:{OWN_DATABASE}\n"


class DconfKey(NamedTuple):
    """A key: its path without the last part, and the last part."""

    section: str
    name: str

    def __str__(self) -> str:
        return f"/{self.section}/{self.name}"


class Kept(NamedTuple):
    """The machine's value of a key, and the line that locks it; without a lock a user's own setting decides."""

    value: str
    source: Source
    lock: Source | None


def present(root: Root) -> bool:
    """Return whether desktop sessions read dconf at all."""
    return root.exists(PROGRAM)


def saved_settings(root: Root, key: DconfKey) -> Kept | None:
    """Return the value of a key in the databases of the profile; None where none has it."""
    names = [line.strip()[10:] for line in root.lines(PROFILE) if line.strip().startswith("system-db:")]
    locked: Source | None = None
    found: Kept | None = None
    for name in names:
        folder = f"{DATABASES}/{name}.d"
        for file in root.files_matching(f"{folder}/locks/*"):
            for number, line in enumerate(root.lines(file), start=1):
                if line.strip() == str(key):
                    locked = Source(file, number, line.strip())
        entry = last_of(all_entries(root, root.files_matching(f"{folder}/*")), key.section, key.name)
        if entry is not None and found is None:
            found = Kept(entry.value, entry.source, None)
    return found._replace(lock=locked) if found is not None else None


def save_settings(root: Root, values: Mapping[DconfKey, str]) -> str:
    """Set and lock keys in a system database, and have dconf rebuild it. Raises: StepRejected: dconf rejects it."""
    if root.text(PROFILE) is None:
        root.write(PROFILE, USUAL_PROFILE)
    elif f"system-db:{OWN_DATABASE}" not in [line.strip() for line in root.lines(PROFILE)]:
        root.write(PROFILE, f"{(root.text(PROFILE) or '').rstrip()}\nsystem-db:{OWN_DATABASE}\n")
    folder = f"{DATABASES}/{OWN_DATABASE}.d"
    text, locks = root.text(f"{folder}/{OWN_FILE}") or "", dict.fromkeys(root.lines(f"{folder}/locks/{OWN_FILE}"))
    for key, value in values.items():
        text = with_entry(text, key.section, key.name, value)
        locks[str(key)] = None
    root.write(f"{folder}/{OWN_FILE}", text)
    root.write(f"{folder}/locks/{OWN_FILE}", "".join(f"{lock}\n" for lock in locks))
    if root.runner is not None:
        code, message = root.runner([PROGRAM, "update"])
        root.forget()
        if code != 0:
            raise StepRejected(f"{PROGRAM} update ended with {code}: {message.strip().splitlines()[-1:]}")
    return f"locked in {folder}/{OWN_FILE}"
