"""polkit itself, asked in a private copy of a system: its own daemon, rules and actions, started for the question.

None of our processes has a seat, so in a copy of the copy every action answers everyone as it answers a user at the
machine, and a rule before all others, which decides nothing, marks them as such."""

import os
import re
import signal
import subprocess
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, mount_new, private_mounts, unshare
from verrou.machines.linux.elevation.polkit import ACTIONS, BUS, CLIENT, RULES

Start = Callable[[Sequence[str]], "subprocess.Popen[bytes]"]
"""Starts a program of the system inside, with the rights that it may have there, to end with this process."""
SOCKET = "/run/dbus/system_bus_socket"
NOT_ANSWERED = 127
"""What pkcheck(1) ends with where it could not ask."""
OPENED = (0, 2, 3)
"""Exit codes of pkcheck for yes, or yes with an administrator's password."""
MOST_WAITS, WAIT = 400, 0.05
"""How often, and after how many seconds, what was started is looked for."""
MOST_AT_ONCE = 40
"""How many questions are put at once: a copy lets no more run than a system that is asked needs."""
ANSWERS_WITHIN = 12
"""Seconds that polkit may think about some questions: a rule may be a program that never ends, which it ends itself
after 15, and then refuses."""
FIRST_RULE = "!verrou.rules"
SEATED = """\
polkit.addRule(function(action, subject) {
    subject.active = true;
    subject.local = true;
    subject.seat = "seat0";
});
"""


def answers(
    start: Start, people: Sequence[Sequence[Any]], actions: Sequence[str], daemon: str
) -> dict[str, dict[str, int]]:
    """Return pkcheck(1)'s exit code by account and action. In a child only: its mounts change for good.

    Raises: OSError: it could not be asked, or did not answer in time."""
    unshare(CLONE_NEWNS)
    private_mounts()
    _as_if_seated()
    started = [start([BUS, "--system", "--nofork", "--nopidfile", "--nosyslog"])]
    try:
        _wait(lambda: os.path.exists(SOCKET))
        started.append(start([daemon, "--no-debug"]))
        return {name: _of_one(start, uid, gid, actions) for name, uid, gid in people}
    finally:
        for process in started:
            process.kill()
            process.wait()


def _of_one(start: Start, uid: int, gid: int, actions: Sequence[str]) -> dict[str, int]:
    """Start a process of the account for polkit to be asked about; it does nothing."""
    child = os.fork()
    if child == 0:
        try:
            os.setgroups([])
            os.setgid(gid)
            os.setuid(uid)
            signal.pause()
        finally:
            os._exit(1)
    try:
        _wait(lambda: os.stat(f"/proc/{child}").st_uid == uid)
        return _checked(start, child, actions)
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


def _checked(start: Start, process: int, actions: Sequence[str]) -> dict[str, int]:
    """Run pkcheck for many at once, since most of the time is spent waiting; a daemon that is starting is asked
    again."""
    codes = dict.fromkeys(actions, NOT_ANSWERED)
    for _ in range(MOST_WAITS):
        left = [action for action, code in codes.items() if code == NOT_ANSWERED][:MOST_AT_ONCE]
        asking = {action: start([CLIENT, "--action-id", action, "--process", str(process)]) for action in left}
        over = time.monotonic() + ANSWERS_WITHIN
        try:
            codes |= {action: each.wait(max(0.0, over - time.monotonic())) for action, each in asking.items()}
        except subprocess.TimeoutExpired:
            raise TimeoutError(f"polkit did not answer within {ANSWERS_WITHIN} seconds") from None
        if NOT_ANSWERED not in codes.values():
            break
        if any(codes[action] == NOT_ANSWERED for action in left):
            time.sleep(WAIT)
    return codes


def _wait(until: Callable[[], bool]) -> None:
    for _ in range(MOST_WAITS):
        if until():
            return
        time.sleep(WAIT)
    raise OSError("what was started did not begin in time")


def _as_if_seated() -> None:
    """Make polkit treat any process as one of a user at the machine. No bus but ours is there: /run is new."""
    mount_new("tmpfs", Path("/run"), "mode=0755,size=16m")
    os.mkdir("/run/dbus", 0o755)
    actions, rules = Path(ACTIONS), Path(RULES[0])
    policies = {
        path.name: path.read_bytes() for path in actions.iterdir() if path.suffix == ".policy" and path.is_file()
    }
    kept = {path.name: path.read_bytes() for path in rules.iterdir() if path.is_file()}
    mount_new("tmpfs", actions, "mode=0755,size=64m")
    for name, content in policies.items():
        (actions / name).write_bytes(_answering_alike(content))
    mount_new("tmpfs", rules, "mode=0755,size=16m")
    for name, content in {**kept, FIRST_RULE: SEATED.encode()}.items():
        (rules / name).write_bytes(content)


_ALLOWS = re.compile(rb"<allow_(any|inactive)>[^<]*</allow_\1>")
_ACTIVE = re.compile(rb"<allow_active>([^<]*)</allow_active>")
_DEFAULTS = re.compile(rb"<defaults>.*?</defaults>", re.S)


def _answering_alike(policy: bytes) -> bytes:
    """Return a file of actions in which everyone gets the answer of a user at the machine."""

    def alike(match: "re.Match[bytes]") -> bytes:
        active = _ACTIVE.search(match[0])
        message = active[1] if active is not None else b"no"
        whole = _ALLOWS.sub(b"", match[0]).replace(b"</defaults>", b"")
        return (
            whole
            + b"<allow_any>"
            + message
            + b"</allow_any><allow_inactive>"
            + message
            + b"</allow_inactive></defaults>"
        )

    return _DEFAULTS.sub(alike, policy)
