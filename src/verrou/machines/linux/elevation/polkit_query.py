"""polkit itself, asked in a private copy of a system: its own daemon, rules and actions, started for the question.

None of our processes has a seat, so in a copy of the copy every action answers everyone as it answers a user at the
machine, and a rule before all others, which decides nothing, marks them as such."""

import os
import re
import signal
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, mount_new, private_mounts, unshare
from verrou.machines.linux.elevation.polkit import (
    ACTIONS,
    ADMINISTRATOR,
    BUS,
    NO,
    NOT_ANSWERED,
    RULES,
    YES,
    installed,
)
from verrou.machines.linux.root import Root

if TYPE_CHECKING:
    from jeepney.io.blocking import DBusConnection

Start = Callable[[Sequence[str]], "subprocess.Popen[bytes]"]
"""Starts a program of the system inside, with the rights that it may have there, to end with this process."""
SOCKET = "/run/dbus/system_bus_socket"
OPENED = (YES, ADMINISTRATOR)
"""The answers by which an account gets what it asks for, if with an administrator's password."""
POLKIT = "org.freedesktop.PolicyKit1"
WHEN_STARTED = 19
"""Where proc(5) has the start time of a process, counted from behind its name."""
MOST_WAITS, WAIT = 2000, 0.01
"""How often, and after how many seconds, what was started is looked for."""
ANSWERS_WITHIN = (3, 3, 12)
"""Seconds that polkit may think about somebody, by how often it was started.

A rule may be a program that never ends: polkit itself ends it after 15 seconds, and refuses. And polkitd 122 waits as
long for rules that have ended, at about one question in 400: started anew, it answers what is left."""
FIRST_RULE = "!verrou.rules"
SEATED = """\
polkit.addRule(function(action, subject) {
    subject.active = true;
    subject.local = true;
    subject.seat = "seat0";
});
"""


def prepare(root: Root) -> None:
    """Load what speaks to polkit, where a system has it: in a copy, no part of ours can be loaded any more."""
    if installed(root):
        import jeepney.io.blocking  # noqa: F401


def answers(
    start: Start, people: Sequence[Sequence[Any]], actions: Sequence[str], daemon: str
) -> dict[str, dict[str, str]]:
    """Return polkit's answer by account and action. In a child only: its mounts change for good.

    Raises: OSError: it could not be asked, or did not answer in time."""
    unshare(CLONE_NEWNS)
    private_mounts()
    _as_if_seated()
    found: dict[str, dict[str, str]] = {name: {} for name, _, _ in people}
    *patiences, last = ANSWERS_WITHIN
    for patience in patiences:
        with suppress(TimeoutError):
            _ask(start, people, actions, daemon, found, patience)
            return found
    _ask(start, people, actions, daemon, found, last)
    return found


def _ask(
    start: Start,
    people: Sequence[Sequence[Any]],
    actions: Sequence[str],
    daemon: str,
    found: Mapping[str, dict[str, str]],
    patience: int,
) -> None:
    """Start polkit and its bus, and add what it answers to what was found before. Raises: OSError."""
    from jeepney.io.blocking import open_dbus_connection

    connections: list[DBusConnection] = []

    def connected() -> bool:
        with suppress(FileNotFoundError, ConnectionRefusedError):
            connections.append(open_dbus_connection(f"unix:path={SOCKET}", auth_timeout=2 * max(ANSWERS_WITHIN)))
        return bool(connections)

    started = [start([BUS, "--system", "--nofork", "--nopidfile", "--nosyslog"])]
    try:
        with _in_time(patience):
            _wait(connected)
        with connections[0] as bus:
            started.append(start([daemon, "--no-debug"]))
            with _in_time(patience):
                _wait(lambda: _is_there(bus))
            for name, uid, gid in people:
                left = [action for action in actions if action not in found[name]]
                with _in_time(patience):
                    _of_one(bus, uid, gid, left, found[name])
    except ConnectionError:
        raise OSError("the bus of this system ended while polkit was asked") from None
    finally:
        for process in started:
            process.kill()
            process.wait()


def _is_there(bus: "DBusConnection") -> bool:
    from jeepney import message_bus

    return bool(bus.send_and_get_reply(message_bus.NameHasOwner(POLKIT)).body == (True,))


@contextmanager
def _in_time(patience: int) -> Iterator[None]:
    """Raise TimeoutError in what takes too long, whatever a bus does that may be anyone's."""

    def late(*_: object) -> None:
        raise TimeoutError(f"polkit did not answer within {patience} seconds")

    signal.signal(signal.SIGALRM, late)
    signal.alarm(patience)
    try:
        yield
    finally:
        signal.alarm(0)


def _of_one(bus: "DBusConnection", uid: int, gid: int, actions: Sequence[str], found: dict[str, str]) -> None:
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
        _check(bus, child, uid, actions, found)
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


def _check(bus: "DBusConnection", process: int, uid: int, actions: Sequence[str], found: dict[str, str]) -> None:
    """Ask about a process: CheckAuthorization of polkit(8), one question for each action, all before the first
    answer."""
    from jeepney import DBusAddress, HeaderFields, MessageType, new_method_call

    started = int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[WHEN_STARTED])
    subject = ("unix-process", {"pid": ("u", process), "start-time": ("t", started), "uid": ("i", uid)})
    authority = DBusAddress("/org/freedesktop/PolicyKit1/Authority", POLKIT, f"{POLKIT}.Authority")
    asked: dict[int, str] = {}
    for action in actions:
        question = new_method_call(authority, "CheckAuthorization", "(sa{sv})sa{ss}us", (subject, action, {}, 0, ""))
        serial = next(bus.outgoing_serial)
        bus.send(question, serial=serial)
        asked[serial] = action
    while asked:
        reply = bus.receive()
        action = asked.pop(reply.header.fields.get(HeaderFields.reply_serial), "")
        if action and reply.header.message_type is MessageType.method_return:
            allowed, asks, _ = reply.body[0]
            found[action] = YES if allowed else ADMINISTRATOR if asks else NO
        elif action:
            found[action] = NOT_ANSWERED


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
