"""Public keys: those that a remote shell accepts, sshd(8): AUTHORIZED_KEYS FILE FORMAT, and those of people
themselves."""

import os
import re
import stat
from collections.abc import Callable, Collection, Container, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from verrou.core.errors import BadInput, VerrouError
from verrou.core.made_often import made_often
from verrou.core.model import Source
from verrou.log import Log
from verrou.machines.linux.files.sshd import Shell, config_lines, shell_of, sshd_installed
from verrou.machines.linux.root import Root

LOG = Log(__name__)

MOST_READ = 4_000_000
"""How many bytes of a file of keys are read."""
USUAL_FILES = (".ssh/authorized_keys", ".ssh/authorized_keys2")
DECIDES = ("authorizedkeysfile", "pubkeyauthentication")
_TOKEN = re.compile("%(.?)")
_QUOTED = re.compile(r'"(?:\\.|[^"\\])*"')
_KEY = re.compile(r"(?:^|\s)((?:sk-)?(?:ssh|ecdsa)-[\w@.-]+)\s+([A-Za-z0-9+/=]+)(?:\s+(.*))?")
_OPTION = re.compile(r'([\w-]+)(?:="((?:\\.|[^"\\])*)")?(,|\s)')
OPTIONS = frozenset(
    (
        *("cert-authority", "command", "environment", "expiry-time", "from", "permitlisten", "permitopen"),
        *("principals", "tunnel", "restrict", "no-touch-required", "verify-required"),
        *(no + each for no in ("", "no-") for each in ("agent-forwarding", "port-forwarding", "pty", "user-rc")),
        *("x11-forwarding", "no-x11-forwarding"),
    )
)
"""The options of a key: the server passes over a line with another."""
MOMENTS = {8: "%Y%m%d", 12: "%Y%m%d%H%M", 14: "%Y%m%d%H%M%S"}
"""How an expiry time can be written, by its length."""


@made_often
class PublicKey:
    """One public key: its own bytes as text, its source, and the comment that people know it by."""

    text: str
    source: Source


class Owner(NamedTuple):
    """An account as far as the server's settings and the modes of files go by it."""

    name: str
    home: str
    uid: int
    gids: Sequence[int] = ()
    groups: Sequence[str] = ()
    has_shell: bool = True


def keys_in(root: Root, file: str, now: datetime | None = None) -> Iterator[PublicKey]:
    """Yield the keys of one file; a line with an unknown key type is a key by its text. With ``now`` only those that
    the server accepts at that moment, by their options."""
    lines = root.content(file, MOST_READ).decode("utf-8", "backslashreplace").split("\n")
    for number, line in enumerate(lines, start=1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        found = _KEY.search(_QUOTED.sub('""', line))
        if now is not None and found and found.start(1) and not _accepted_with(line.lstrip(), now):
            continue
        comment = (found[3] or "").strip() if found else ""
        yield PublicKey(found[2] if found else line.strip(), Source(file, number, comment))


def _accepted_with(line: str, now: datetime) -> bool:
    """Return whether the server takes a line with the options before its key (measured with sshd(8))."""
    at = 0
    while found := _OPTION.match(line, at):
        name, value, between = found.groups()
        if name.startswith(("ssh-", "sk-", "ecdsa-")):
            return True
        if name.lower() not in OPTIONS or (name.lower() == "expiry-time" and _is_over(value or "", now)):
            return False
        if between != ",":
            return True
        at = found.end()
    return False


def _is_over(moment: str, now: datetime) -> bool:
    digits = moment.removesuffix("Z")
    try:
        return now >= datetime.strptime(digits, MOMENTS[len(digits)])
    except (KeyError, ValueError):
        return True  # a line with what is no time is passed over


class Keys:
    """The keys of a system's accounts. ``root`` is read as little as possible: most accounts have none.

    ``members`` are the accounts that are in a group, by its number."""

    def __init__(self, root: Root, now: datetime, members: Callable[[int], Collection[str]]) -> None:
        self.root, self.now, self._members = root, now, members
        installed = sshd_installed(root)
        self._lines = list(config_lines(root)) if installed else []
        self._by_account = any(key in DECIDES and under for key, _, _, under in self._lines)
        general = Shell((), [line for line in self._lines if not line[3]])
        self._patterns = _patterns(general) if installed else ()
        self._in_homes = all(pattern[0] not in "/%" for pattern in self._patterns)
        self._in_ssh = all(pattern.startswith(".ssh/") for pattern in self._patterns)
        self._is_strict = general.setting("strictmodes", "yes")[0] != "no"
        self._top = "" if root.path == Path("/") else str(root.path)
        self._passed_over: dict[str, str] = {}
        self._taken: set[str] = set()
        self._in_folder: dict[str, set[str]] = {}
        self._with_ssh: dict[str, bool] = {}
        self._accepted: dict[tuple[str, str], tuple[PublicKey, ...]] = {}
        self._folders: dict[str, tuple[str, os.stat_result]] = {"": (self._top, os.stat(root.path))}
        self._open = {self._top: True}

    @property
    def any_used(self) -> bool:
        """Whether the server accepts keys of anybody."""
        return bool(self._patterns) or self._by_account

    def accepted(self, who: Owner) -> tuple[PublicKey, ...]:
        """Return the keys that a remote shell accepts for an account."""
        patterns, home = self._patterns, who.home
        if self._by_account:
            patterns = _patterns(shell_of(self._lines, who.name, who.groups))
        elif not (self.has_ssh(home) if self._in_ssh else not self._in_homes or self._is_there(home)):
            return ()
        if not patterns:
            return ()
        places = (each for each in _expanded(patterns, who) if self._may_be_there(each) and self._is_taken(each, who))
        found = self._accepted[who.name, home] = tuple(
            key for file in places for key in keys_in(self.root, file, self.now)
        )
        return found

    @property
    def passed_over(self) -> list[str]:
        """Files of keys that the server takes of nobody although somebody has a shell, with the reason, a line each."""
        return [
            f"{file}: the remote shell server does not accept these keys: {fault}"
            for file, fault in self._passed_over.items()
            if file not in self._taken
        ]

    def found(self, name: str, home: str) -> tuple[PublicKey, ...]:
        """Return the keys that were found to be accepted for an account."""
        return self._accepted.get((name, home), ())

    def _is_taken(self, file: str, who: Owner) -> bool:
        """Return whether the server takes a file, by the modes and owners of it and of the folders above.

        Measured with sshd(8): its user has to be able to read it; unless StrictModes is off, it and each folder up to
        the home belong to that user or to root, and nobody else can write them. What a group can write in which nobody
        else is counts as taken: Debian's server does that, others may not."""
        try:
            real, now = self._look(file)
            try:
                home = self._folder(who.home.rstrip("/"))[0]
            except FileNotFoundError:
                home = ""
            right, strict = READ, self._is_strict
            while real != self._top and (strict or not self._is_open(real)):
                # Nearly all belong to the account alone.
                if now.st_uid != who.uid or now.st_mode & (right << 6 | OTHERS_WRITE) != right << 6:
                    place = real[len(self._top) :]
                    fault = f"{who.name} cannot read {place}" if not _may(who, now, right) else ""
                    if strict:
                        fault = fault or self._fault(now, who, place)
                    if fault:
                        if who.has_shell:
                            self._passed_over.setdefault(file, fault)
                        return False
                strict, right = strict and real != home, SEARCH
                real = real.rpartition("/")[0]
                now = self._folder(real[len(self._top) :])[1]
        except (FileNotFoundError, NotADirectoryError, ValueError, BadInput):
            return False
        except OSError as error:
            LOG.info("%s: it cannot be seen who can write it: %s", file, error)
        self._taken.add(file)
        return True

    def _fault(self, now: os.stat_result, who: Owner, place: str) -> str:
        """Return why others decide about a file or folder; empty where they do not."""
        if now.st_uid not in (0, who.uid):
            return f"{place} belongs to another account"
        by_group = now.st_mode & stat.S_IWGRP and set(self._members(now.st_gid)) != {who.name}
        return f"others can write {place}" if by_group or now.st_mode & stat.S_IWOTH else ""

    def _is_open(self, real: str) -> bool:
        """Return whether everybody may search a folder and those above."""
        for each in _not_in(self._open, real):
            mode = self._folder(each[len(self._top) :])[1].st_mode
            self._open[each] = self._open[each.rpartition("/")[0]] and stat.S_ISDIR(mode) and bool(mode & SEARCH)
        return self._open[real]

    def _folder(self, place: str) -> tuple[str, os.stat_result]:
        for each in _not_in(self._folders, place):
            self._folders[each] = self._look(each)
        return self._folders[place]

    def _look(self, place: str) -> tuple[str, os.stat_result]:
        """Return the real path of something, and its state. Raises: OSError, BadInput."""
        above, _, last = place.rpartition("/")
        real = f"{self._folder(above)[0]}/{last}"
        now = os.lstat(real)
        if stat.S_ISLNK(now.st_mode) or last in ("", ".", ".."):
            real = str(self.root.place(place))
            now = os.lstat(real)
        return real, now

    def has_ssh(self, home: str) -> bool:
        """Return whether a home may have a folder of keys, from one look into all homes of a folder."""
        found = self._with_ssh.get(home)
        if found is None:
            found = self._with_ssh[home] = self._is_there(home) and not self.root.lacks(f"{home}/.ssh")
        return found

    def own(self, home: str) -> Iterator[PublicKey]:
        """Yield the public halves of the keys in an account's home."""
        if not self.any_used or not self.has_ssh(home):
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
        """Return whether a file may be in its folder, from its listing where there is one anyway."""
        folder, _, name = file.rpartition("/")
        return name in self.root.names_in(folder) if self.root.is_listed(folder) else not self.root.lacks(folder)

    def _is_there(self, home: str) -> bool:
        """Return whether a home exists, from one listing of the folder of homes."""
        parent, _, last = home.rstrip("/").rpartition("/")
        if parent not in self._in_folder:
            self._in_folder[parent] = set(self.root.names_in(parent or "/"))
            self.root.look_within(parent, ".ssh")
        return last in self._in_folder[parent]


def _not_in(known: Container[str], place: str) -> Iterable[str]:
    """Return a folder and those above it that are not known yet, the topmost first: a user can nest thousands."""
    if place in known:
        return ()
    found = [place]
    while (above := found[-1].rpartition("/")[0]) not in known:
        found.append(above)
    return reversed(found)


READ, SEARCH, OTHERS_WRITE = 4, 1, 0o022


def _may(who: Owner, now: os.stat_result, what: int) -> bool:
    """Return whether an account may read a file, or search a folder, by its mode: path_resolution(7)."""
    if who.uid == 0:
        return True
    shift = 6 if now.st_uid == who.uid else 3 if now.st_gid in who.gids else 0
    return bool(now.st_mode >> shift & what)


def _patterns(shell: Shell) -> tuple[str, ...]:
    """Return where the server looks for keys, by its settings for some accounts."""
    if shell.setting("pubkeyauthentication", "yes")[0] == "no":
        return ()
    lines = (values for key, values, _, _ in (*shell.blocks, *shell.general) if key == "authorizedkeysfile" and values)
    return tuple(word for word in next(lines, USUAL_FILES) if word.lower() != "none")


def _expanded(patterns: Sequence[str], who: Owner) -> Iterator[str]:
    """Yield the key files of an account, in the order in which the server reads them."""
    tokens = {"h": who.home, "u": who.name, "U": str(who.uid), "%": "%"}
    for pattern in patterns:
        file = pattern
        if "%" in pattern:
            try:
                file = _TOKEN.sub(lambda found: tokens[found[1]], pattern)
            except KeyError:
                return  # at what it does not know the server ends the connection
        yield file if file.startswith("/") else f"{who.home}/{file}"
