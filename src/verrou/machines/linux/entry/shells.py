"""Login shells: whether one exists and could be run, and what else keeps an account from one."""

import os
import stat
import subprocess
from collections.abc import Collection

from attrs import define, field

from verrou.machines.linux.copy.sandbox import CLEAN_ENVIRONMENT
from verrou.machines.linux.root import Root

NO_SHELLS = ("nologin", "false", "sync", "shutdown", "halt")
USUAL = "/bin/sh"
"""The shell that an empty field stands for, by passwd(5)."""
MOST_OF_A_LINE = 256


@define(repr=False)
class Shells:
    """The shells of a system, each checked once."""

    root: Root
    _known: dict[str, tuple[str, int, int, int]] = field(factory=dict, init=False)
    _scripts: dict[str, str] = field(factory=dict, init=False)

    def fault(self, shell: str, uid: int, gids: Collection[int]) -> str:
        """Return why a shell does not start for these IDs, in words; empty where it would."""
        name = shell or USUAL
        if name.rpartition("/")[2] in NO_SHELLS:
            return f"its shell {name} does not allow sign-in"
        if why := self._why_not(name, uid, gids):
            return f"its shell {name} {why}"
        interpreter = self._interpreter(name)
        why = self._why_not(interpreter, uid, gids) if interpreter else ""
        return f"its shell {name} is run by {interpreter}, which {why}" if why else ""

    def _why_not(self, name: str, uid: int, gids: Collection[int]) -> str:
        """Return why a program does not start; see execve(2): root can run whatever anyone can."""
        message, mode, owner, group = self._looked_at(name)
        bit = stat.S_IXUSR if uid == owner else stat.S_IXGRP if group in gids else stat.S_IXOTH
        if message or mode & (0o111 if uid == 0 else bit):
            return message
        return f"cannot be run (mode {stat.S_IMODE(mode):04o})"

    def _looked_at(self, name: str) -> tuple[str, int, int, int]:
        if name not in self._known:
            self._known[name] = self._look(name)
        return self._known[name]

    def _look(self, name: str) -> tuple[str, int, int, int]:
        try:
            now = self.root.place(name).stat()
        except PermissionError:
            return "", 0o755, 0, 0  # who may not look cannot say that it would not start
        except (OSError, ValueError):
            return "is not there", 0, 0, 0
        if not stat.S_ISREG(now.st_mode):
            return "is no program", 0, 0, 0
        return "", now.st_mode, now.st_uid, now.st_gid

    def _interpreter(self, name: str) -> str:
        """Return the interpreter that a script's first line names; empty for any other program."""
        if name not in self._scripts:
            first = self.root.content(name, MOST_OF_A_LINE).split(b"\n", 1)[0]
            words = first[2:].split() if first.startswith(b"#!") else []
            self._scripts[name] = words[0].decode("utf-8", "surrogateescape") if words else ""
        return self._scripts[name]


def start(shell: str, account: str, uid: int, gid: int) -> str:
    """Start a shell as its owner, and end it at once. In a child only: the identity of the process changes for good.

    Returns why it did not start; empty where it did. The caller ends this process, however long it takes."""
    name = shell or USUAL
    os.initgroups(account, gid)
    os.setresgid(gid, gid, gid)
    os.setresuid(uid, uid, uid)
    none = subprocess.DEVNULL
    try:
        ended = subprocess.run(
            [name, "-c", "exit 0"],
            env=CLEAN_ENVIRONMENT,
            stdin=none,
            stdout=none,
            stderr=none,
            check=False,
        )
    except OSError as error:
        return f"its shell {name} could not be started: {error.strerror}"
    return f"its shell {name} ended with {ended.returncode}" if ended.returncode else ""
