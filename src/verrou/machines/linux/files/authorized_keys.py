"""Public keys: those that a remote shell accepts, sshd(8): AUTHORIZED_KEYS FILE FORMAT, and those of people
themselves."""

import re
from collections.abc import Iterator

from attrs import frozen

from verrou.core.errors import VerrouError
from verrou.core.made_often import made_often
from verrou.core.model import Source
from verrou.log import Log
from verrou.machines.linux.files.sshd import sshd_installed, sshd_setting, sshd_settings
from verrou.machines.linux.root import Root

LOG = Log(__name__)

MOST_READ = 4_000_000
"""How many bytes of a file of keys are read."""
USUAL_FILES = ".ssh/authorized_keys .ssh/authorized_keys2"
_QUOTED = re.compile(r'"(?:\\.|[^"\\])*"')
_KEY = re.compile(r"(?:^|\s)((?:sk-)?(?:ssh|ecdsa)-[\w@.-]+)\s+([A-Za-z0-9+/=]+)(?:\s+(.*))?")


@made_often
class PublicKey:
    """One public key: its own bytes as text, its source, and the comment that people know it by."""

    text: str
    source: Source


@frozen(repr=False)
class KeyFiles:
    """Where the keys of accounts are stored. ``in_homes``: only below homes; ``in_ssh``: in their folder for it."""

    patterns: tuple[str, ...]
    in_homes: bool
    in_ssh: bool

    def of(self, name: str, home: str) -> Iterator[str]:
        """Yield the key files of an account that the server reads."""
        for pattern in self.patterns:
            file = pattern.replace("%h", home).replace("%u", name).replace("%%", "%")
            file = file if file.startswith("/") else f"{home}/{file}"
            if file != "/none":
                yield file


def key_files(root: Root) -> KeyFiles | None:
    """Return the file names where the remote shell server looks for keys; None where it accepts none."""
    if not sshd_installed(root) or sshd_setting(root, "pubkeyauthentication", "yes")[0] == "no":
        return None
    patterns = tuple(next(sshd_settings(root, "authorizedkeysfile"), (USUAL_FILES, None))[0].split())
    in_homes = all(pattern[0] not in "/%" for pattern in patterns)
    return KeyFiles(patterns, in_homes, all(pattern.startswith(".ssh/") for pattern in patterns))


def keys_in(root: Root, file: str) -> Iterator[PublicKey]:
    """Yield the keys of one file; a line with an unknown key type is a key by its text."""
    lines = root.content(file, MOST_READ).decode("utf-8", "backslashreplace").split("\n")
    for number, line in enumerate(lines, start=1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        found = _KEY.search(_QUOTED.sub('""', line))
        comment = (found[3] or "").strip() if found else ""
        yield PublicKey(found[2] if found else line.strip(), Source(file, number, comment))


class Keys:
    """The keys of a system's accounts. ``root`` is read as little as possible: most accounts have none."""

    def __init__(self, root: Root) -> None:
        self.root = root
        self.files = key_files(root)
        self._in_folder: dict[str, set[str]] = {}
        self._with_ssh: dict[str, bool] = {}
        self._accepted: dict[tuple[str, str], tuple[PublicKey, ...]] = {}

    def accepted(self, name: str, home: str) -> tuple[PublicKey, ...]:
        """Return the keys that a remote shell accepts for an account, by its name and home."""
        files = self.files
        if files is None or not (self.has_ssh(home) if files.in_ssh else not files.in_homes or self._is_there(home)):
            return ()
        found = self._accepted.get((name, home))
        if found is None:
            places = [file for file in files.of(name, home) if not self.root.lacks(file.rpartition("/")[0])]
            found = tuple(key for file in places if self._may_be_there(file) for key in keys_in(self.root, file))
            self._accepted[name, home] = found
        return found

    def has_ssh(self, home: str) -> bool:
        """Return whether a home may have a folder of keys, from one look into all homes of a folder."""
        found = self._with_ssh.get(home)
        if found is None:
            found = self._with_ssh[home] = self._is_there(home) and not self.root.lacks(f"{home}/.ssh")
        return found

    def own(self, home: str) -> Iterator[PublicKey]:
        """Yield the public halves of the keys in an account's home."""
        if self.files is None or not self.has_ssh(home):
            return
        folder = f"{home}/.ssh"
        try:
            names = self.root.names_in(folder) if self.root.exists(folder) else ()
        except VerrouError as error:
            LOG.info("keys skipped: %s", error)
            return
        for name in names:
            if name.endswith(".pub"):
                yield from keys_in(self.root, f"{folder}/{name}")

    def _may_be_there(self, file: str) -> bool:
        """Return whether a file may be in its folder, where that is listed anyway."""
        folder, _, name = file.rpartition("/")
        return not self.root.is_listed(folder) or name in self.root.names_in(folder)

    def _is_there(self, home: str) -> bool:
        """Return whether a home exists, from one listing of the folder of homes."""
        parent, _, last = home.rstrip("/").rpartition("/")
        if parent not in self._in_folder:
            self._in_folder[parent] = set(self.root.names_in(parent or "/"))
            self.root.look_within(parent, ".ssh")
        return last in self._in_folder[parent]
