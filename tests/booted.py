"""A Debian that runs: systemd is the first process of namespaces of its own, and tests type at its consoles."""

import contextlib
import os
import pty
import re
import select
import shlex
import subprocess
import termios
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from attrs import define, field, frozen

from debian_root import mount

CONSOLES = ("tty1", "tty2", "tty3")
PATIENCE = 60.0
"""Seconds that something which has to come about may take: a computer that is busy is slow."""
CLEAN = {"PATH": "/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C", "TERM": "dumb"}

OF_ITS_OWN = "unshare --mount --pid --uts --ipc --net --fork --kill-child --propagation private"
SHELL_BECOMES_FIRST = """
set -eu
echo 0 > "$group/cgroup.procs"  # before the namespace is made, so that this is the root of it
exec unshare --cgroup sh -c "$first"
"""
FIRST = """
set -eu
mount -t overlay overlay "$folder/root" -o "lowerdir=$below,upperdir=$folder/written/u,workdir=$folder/written/w"
cd "$folder/root"
# No setting of this kernel can be changed from inside.
mount -t proc proc proc; mount --bind proc/sys proc/sys; mount -o remount,bind,ro proc/sys
mount -t sysfs -o ro sysfs sys; mount -t cgroup2 cgroup2 sys/fs/cgroup
mount -t tmpfs -o mode=755 tmpfs dev; mkdir dev/pts dev/shm
for name in null zero full random urandom tty; do touch dev/$name; mount --bind /dev/$name dev/$name; done
mount -t devpts -o newinstance,ptmxmode=0666,mode=620,gid=5 devpts dev/pts; ln -s pts/ptmx dev/ptmx
ln -s /proc/self/fd dev/fd; ln -s fd/0 dev/stdin; ln -s fd/1 dev/stdout; ln -s fd/2 dev/stderr
touch dev/tty0  # who manages sessions takes it for a computer with text consoles
for each in $consoles; do touch dev/${each%%=*}; mount --bind ${each#*=} dev/${each%%=*}; done
for name in dev/shm run tmp; do mount -t tmpfs tmpfs $name; done
mkdir .old; pivot_root . .old; umount -l .old; rmdir .old
exec setpriv --bounding-set -sys_time,-sys_module,-sys_rawio,-syslog,-mac_admin,-mac_override --inh-caps -all \
    env -i container=test PATH=/usr/sbin:/usr/bin:/sbin:/bin /sbin/init --log-target=console
"""


def until(true: Callable[[], object], what: str, patience: float = PATIENCE) -> None:
    """Wait until something is true, or fail with what it was."""
    over = time.monotonic() + patience
    while not true():
        assert time.monotonic() < over, f"it never came about: {what}"
        select.select([], [], [], 0.05)


@define
class Console:
    """A text console of the machine, from the side of the keyboard. ``seen`` is all that stood on it so far."""

    machine: "Booted"
    name: str
    keyboard: int
    seen: str = ""

    def waits_for(self, pattern: str, patience: float = PATIENCE) -> str:
        """What is shown from now on until a pattern stands there."""
        over, shown = time.monotonic() + patience, ""
        while not re.search(pattern, shown):
            assert time.monotonic() < over, f"{self.name}: {pattern} never came, but: {shown[-600:]!r}"
            shown += self.now(0.2)
        return shown

    def now(self, seconds: float = 0.0) -> str:
        """What is shown by now, without the signs that move a cursor."""
        if not select.select([self.keyboard], [], [], seconds)[0]:
            return ""
        try:
            part = os.read(self.keyboard, 65536).decode(errors="replace")
        except OSError:  # nobody has the console open just now
            select.select([], [], [], 0.05)
            return ""
        part = re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", part).replace("\r", "")
        self.seen += part
        return part

    def enter(self, text: str) -> None:
        """Type a line."""
        os.write(self.keyboard, text.encode() + b"\r")

    def enter_hidden(self, text: str) -> None:
        """Type a line as soon as what is typed is not shown: who turns that off throws away what was typed before."""
        until(lambda: not termios.tcgetattr(self.keyboard)[3] & termios.ECHO, "a prompt that shows nothing")
        self.enter(text)

    def begin(self) -> None:
        """Start what stands at this console anew; whoever was signed in here is not any more."""
        unit = f"getty@{self.name}"
        self.machine.inside("systemctl", "kill", "--signal=KILL", unit)
        self.machine.inside("systemctl", "stop", unit)
        for number in self.machine.sessions(TTY=self.name):
            self.machine.inside("loginctl", "terminate-session", number)
        while self.now(0.05):
            pass
        self.machine.inside("systemctl", "reset-failed", unit)
        self.machine.inside("systemctl", "start", unit)

    def fresh(self) -> str:
        """A new prompt to sign in at, and what stands above it."""
        self.begin()
        return self.waits_for(r"login: $")

    def signs_in(self, name: str, password: str) -> bool:
        """Sign in at a new prompt; whether a shell is there then."""
        self.fresh()
        self.enter(name)
        shown = self.waits_for(r"[Pp]assword: $|[$#] $|incorrect|login: $")
        if re.search(r"[Pp]assword: $", shown):
            self.enter_hidden(password)
            shown = self.waits_for(r"[$#] $|incorrect|denied|expired|login: $")
        return bool(re.search(r"[$#] $", shown))

    def statement(self, command: str, password: str = "") -> str:
        """What a command says to who is signed in here, and is answered where it asks for a password."""
        # A shell shows what was typed before its prompt a second time.
        self.enter(f"echo BE''GIN; {command}; echo E''ND")
        shown = ""
        if password:
            shown += self.waits_for(r"Password: $")
            self.enter_hidden(password)
        shown += self.waits_for(r"\nEND\n")
        return shown.partition("\nBEGIN\n")[2].rpartition("END\n")[0].strip()


KEYS = ("env", "DISPLAY=:0", "XAUTHORITY=/var/run/lightdm/root/:0", "xdotool")
MANY = 9
"""More than there are accounts."""
SCREENS_LOG = "/var/log/lightdm/lightdm.log"
SCREEN = {
    "/usr/local/bin/display": """#!/bin/bash
# What lightdm tells a display with a card behind it, and this one does not know, is left out.
keep=()
while [ $# -gt 0 ]; do case $1 in -seat) shift;; vt*|-novtswitch) ;; *) keep+=("$1");; esac; shift; done
# It starts anew where its last client leaves, unless it is told not to.
exec Xvfb "${keep[@]}" -screen 0 1024x768x24 -noreset
""",
    "/etc/lightdm/lightdm.conf.d/10-display.conf": """[LightDM]
logind-check-graphical=false
[Seat:*]
xserver-command=/usr/local/bin/display
user-session=idle
""",
    # It comes and goes at once: a shell that is asked to end does not.
    "/etc/systemd/system/getty@.service.d/at-once.conf": "[Service]\nType=simple\nTimeoutStopSec=1\n",
    "/usr/share/xsessions/idle.desktop": "[Desktop Entry]\nName=idle\nExec=sleep infinity\n",
}
"""What has the sign-in screen stand on a display without a card, by file."""


@frozen
class Screen:
    """The sign-in screen of the machine, with lightdm and its greeter behind it, from the side of the keyboard."""

    machine: "Booted"

    def output(self) -> str:
        """What lightdm wrote down since it was started."""
        return self.machine.read(SCREENS_LOG)

    def fresh(self) -> None:
        """Start it anew; whoever was signed in by it is not any more."""
        started = self.output()
        self.machine.inside("systemctl", "restart", "lightdm")
        until(lambda: self.output() != started and "Prompt greeter" in self.output(), "a sign-in screen")
        shown = ("search", "--onlyvisible", "--class", "lightdm-gtk-greeter")
        until(lambda: self.machine.inside(*KEYS, *shown).stdout.strip(), "its window")

    def listed(self) -> set[str]:
        """The accounts that a fresh one offers. It begins below them, at "Other", with nobody's name; it asks whoever
        an arrow key in the field of the password goes to."""

        def began() -> list[str]:
            return re.findall(r"Greeter start authentication(?: for (\S+))?\n", self.output())

        self.fresh()
        keys = ["Tab", *["Up"] * MANY, *["Down"] * MANY]
        self.machine.inside(*KEYS, "key", *keys)
        until(lambda: began().count("") == 2, "that it is at nobody's name again")
        return set(began()) - {""}

    def type(self, text: str) -> None:
        """Type a line."""
        self.machine.inside(*KEYS, "type", text)
        self.machine.inside(*KEYS, "key", "Return")

    def signs_in(self, name: str, password: str) -> bool:
        """Sign in at a fresh sign-in screen; whether a session is there then."""
        self.fresh()
        self.type(name)
        begun, result = f"Greeter start authentication for {name}\n", f"Authenticate result for user {name}: "

        def since_then() -> str:
            return self.output().partition(begun)[2]

        until(lambda: "Prompt greeter" in since_then() or result in since_then(), f"a prompt for {name}")
        if result not in since_then():
            self.type(password)
            until(lambda: result in since_then(), f"an answer for {name}")
        if not since_then().partition(result)[2].startswith("Success"):
            return False
        until(lambda: self.machine.session_of(name, "lightdm"), f"a session of {name}")
        return True


@frozen
class Booted:
    """A machine that runs. ``pid``: its first process, as seen from here; ``ends`` with it."""

    pid: int
    ends: "subprocess.Popen[bytes]"
    consoles: dict[str, Console] = field(factory=dict)

    def inside(self, *command: str, typed: str = "", user: str = "root") -> subprocess.CompletedProcess[str]:
        """Run something on the machine, outside of any session."""
        as_user = ("setpriv", f"--reuid={user}", f"--regid={user}", "--init-groups") if user != "root" else ()
        clean = [f"{key}={value}" for key, value in CLEAN.items()]
        return subprocess.run(
            ["nsenter", "-t", str(self.pid), "-a", "env", "-i", *clean, *as_user, *command],
            input=typed,
            capture_output=True,
            text=True,
            check=False,
            timeout=2 * PATIENCE,
        )

    def write(self, name: str, text: str) -> None:
        """Put a text into a file of the machine."""
        place = Path(f"/proc/{self.pid}/root{name}")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(text)

    def read(self, name: str) -> str:
        """The text of a file of the machine."""
        return Path(f"/proc/{self.pid}/root{name}").read_text()

    @property
    def screen(self) -> Screen:
        """Its sign-in screen."""
        return Screen(self)

    def sessions(self, **required: str) -> list[str]:
        """The numbers of sessions with some properties, by loginctl(1)."""
        numbers = [line.split()[0] for line in self.inside("loginctl", "--no-legend").stdout.splitlines()]
        shown = {each: set(self.inside("loginctl", "show-session", each).stdout.splitlines()) for each in numbers}
        return [each for each in numbers if {f"{key}={value}" for key, value in required.items()} <= shown[each]]

    def session_of(self, name: str, service: str) -> str:
        """The number of somebody's session that a service opened; nothing where there is none."""
        return next(iter(self.sessions(Name=name, Service=service)), "")

    def by_ssh(self, name: str, password: str, command: str = "echo IN") -> subprocess.CompletedProcess[str]:
        """Sign in by ssh from the machine itself, and have a command run."""
        self.write("/run/password", f"#!/bin/sh\necho '{password}'\n")
        self.inside("chmod", "755", "/run/password")
        options = ("StrictHostKeyChecking=no", "UserKnownHostsFile=/dev/null", "NumberOfPasswordPrompts=1")
        words = [part for option in options for part in ("-o", option)]
        asked = ("env", "SSH_ASKPASS=/run/password", "SSH_ASKPASS_REQUIRE=force")
        return self.inside(*asked, "ssh", *words, f"{name}@127.0.0.1", command)

    def state(self) -> str:
        """By systemctl(1): running, degraded, starting, stopping; nothing where it does not answer."""
        return self.inside("systemctl", "is-system-running").stdout.strip()


@frozen
class Disk:
    """What a machine is booted from, and writes to: some layers, and one more over them in ``folder``."""

    layers: tuple[Path, ...]
    folder: Path

    @classmethod
    @contextlib.contextmanager
    def over(cls, folder: Path, *layers: Path) -> Iterator["Disk"]:
        """A disk over layers, the lowest first, until it is not needed any more."""
        for each in (folder, folder / "root", folder / "written", folder / "cgroup"):
            each.mkdir()
        mount("tmpfs", folder / "written", "-t", "tmpfs", "-o", "mode=755")
        mount("none", folder / "cgroup", "-t", "cgroup2")
        (folder / "written/u").mkdir()
        (folder / "written/w").mkdir()
        try:
            yield cls(layers, folder)
        finally:
            for name in ("cgroup", "written"):
                subprocess.run(["umount", "-l", str(folder / name)], check=True)

    @contextlib.contextmanager
    def booted(self) -> Iterator[Booted]:
        """Boot from it. It is switched off at the end, by whatever it was doing."""
        keyboards = {name: pty.openpty() for name in CONSOLES}
        group = self.folder / "cgroup" / f"booted-{os.getpid()}"
        group.mkdir()
        with open(self.folder / "log", "wb") as log:
            first = subprocess.Popen(
                [*shlex.split(OF_ITS_OWN), "sh", "-c", SHELL_BECOMES_FIRST],
                env={
                    **CLEAN,
                    "below": ":".join(map(str, reversed(self.layers))),
                    "folder": str(self.folder),
                    "group": str(group),
                    "first": FIRST,
                    "consoles": " ".join(f"{name}={os.ttyname(slave)}" for name, (_, slave) in keyboards.items()),
                },
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
            )
        try:
            children = Path(f"/proc/{first.pid}/task/{first.pid}/children")
            until(lambda: children.read_text().split() or first.poll() is not None, "its first process")
            machine = Booted(int(children.read_text()), first)
            name = Path(f"/proc/{machine.pid}/comm")
            until(lambda: name.read_text() == "systemd\n", f"systemd as its first process ({self.folder}/log)")
            for tty, (master, _) in keyboards.items():
                machine.consoles[tty] = Console(machine, tty, master)
            until(lambda: machine.state() in ("running", "degraded"), "that it runs")
            yield machine
        finally:
            first.kill()  # which takes its first process along, and that one all others
            first.wait()
            until(lambda: "populated 0" in (group / "cgroup.events").read_text(), "that it has ended")
            for below in sorted(group.rglob("*"), key=lambda path: len(path.parts), reverse=True):
                if below.is_dir():
                    below.rmdir()
            group.rmdir()
            for each in (descriptor for pair in keyboards.values() for descriptor in pair):
                os.close(each)
