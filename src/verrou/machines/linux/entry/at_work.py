"""The person at work on the live system and their route, from the processes above our own, proc(5)."""

import os
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from verrou.core.model.routes import Route

DOORS = {
    **dict.fromkeys(("sshd", "sshd-session", "sshd-auth", "dropbear", "in.telnetd", "telnetd", "in.rlogind"), "shell"),
    **dict.fromkeys(("xrdp", "xrdp-sesman", "xrdp-sesexec", "Xvnc", "Xtigervnc"), "screen"),
    **dict.fromkeys(("login", "agetty", "lightdm", "gdm", "gdm3", "gdm-session-wor", "sddm", "sddm-helper"), "console"),
    **dict.fromkeys(("lxdm", "lxdm-session", "greetd", "xdm", "slim", "nodm"), "console"),
}
"""Programs that let people in, by the name that the kernel keeps of each (15 signs)."""
WAYS = {"shell": Route.REMOTE_SHELL, "screen": Route.REMOTE_SCREEN, "console": Route.CONSOLE}
NOBODY = 2**32 - 1
"""Value of loginuid where no one signed in."""
DEEPEST = 1_000


class AtWork(NamedTuple):
    """User ID of the person who signed in, None where it is not known; and the route, empty where it is not known."""

    uid: int | None
    route: str = ""


class _Process(NamedTuple):
    name: str
    parent: int
    uid: int


def at_work(proc: Path = Path("/proc"), pid: int | None = None) -> AtWork:
    """Return who started a process (by default this one): behind sudo(8) and su(1) the account before them.

    The outermost program that signs people in tells the route; the environment is never trusted."""
    above = list(_above(proc, os.getpid() if pid is None else pid))
    doors = [at for at, process in enumerate(above) if process.name in DOORS]
    route = WAYS[DOORS[above[doors[-1]].name]] if doors else ""
    uid = _login_uid(proc, os.getpid() if pid is None else pid)
    if uid is None and doors:
        # The account right below the sign-in program came by it; root only where no other does.
        inside = [process.uid for process in reversed(above[: doors[-1]])]
        uid = next((each for each in inside if each), 0 if inside else None)
    return AtWork(uid, route)


def _above(proc: Path, pid: int) -> Iterator[_Process]:
    for _ in range(DEEPEST):
        process = _process(proc, pid)
        if process is None:
            return
        yield process
        if process.parent == pid:
            return
        pid = process.parent


def _process(proc: Path, pid: int) -> _Process | None:
    try:
        text = (proc / str(pid) / "stat").read_text(errors="replace")
        status = (proc / str(pid) / "status").read_text(errors="replace")
    except OSError:
        return None
    # The name is in brackets and may contain brackets itself.
    name, _, rest = text.partition("(")[2].rpartition(")")
    uids = next((line.split()[1:] for line in status.splitlines() if line.startswith("Uid:")), [])
    try:
        return _Process(name, int(rest.split()[1]), int(uids[0]))
    except (IndexError, ValueError):
        return None


def _login_uid(proc: Path, pid: int) -> int | None:
    try:
        uid = int((proc / str(pid) / "loginuid").read_text())
    except (OSError, ValueError):
        return None
    return None if uid == NOBODY else uid
