"""What only a machine that runs can show: sessions of people who signed in, services at work, a restart."""

import json
import os
import random
import re
import signal
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from booted import SCREEN, Booted, Console, Disk, until
from conftest import GOOD_PASSWORD, base_of, with_accounts
from debian_root import DESKTOP, SUITE, TO_BOOT, PrivateRoot
from verrou.machines.linux.entry.units import started_units
from verrou.machines.linux.root import Root

pytestmark = pytest.mark.real_root
PEOPLE = {"warden": "administrator", "tern": "standard", "gull": "standard", "daypass": "guest"}


@pytest.fixture(scope="session")
def people(stick: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, ...]:
    """A desktop, its accounts, its sign-in screen and Verrou itself, as layers. The shell of gull is dash."""
    base, folder = base_of(SUITE, (*DESKTOP, *TO_BOOT)), tmp_path_factory.mktemp("booted")
    accounts = with_accounts(base, folder, PEOPLE)
    with PrivateRoot.over(base, folder / "hide-01", accounts) as root:
        for name, text in SCREEN.items():
            root.write(name, text)
        root.write("/etc/hostname", "hide-01\n")
        root.inside("chmod", "755", "/usr/local/bin/display")
        root.inside("chsh", "-s", "/bin/sh", "gull")
        zipfile.ZipFile(stick / "verrou.pyz").extractall(root.path / "usr/local/lib/verrou")
        root.inside("python3", "-m", "compileall", "-q", "/usr/local/lib/verrou")
        root.write("/usr/local/bin/verrou", '#!/bin/sh\nexec python3 /usr/local/lib/verrou "$@"\n')
        root.inside("chmod", "755", "/usr/local/bin/verrou")
        return base, accounts, root.keep(folder / "screen")


@pytest.fixture
def disk(people: tuple[Path, ...], tmp_path: Path) -> Iterator[Disk]:
    with Disk.over(tmp_path / "hide-01", *people) as over:
        yield over


@pytest.fixture
def machine(disk: Disk) -> Iterator[Booted]:
    with disk.booted() as running:
        yield running


def verrou(machine: Booted, *words: str, code: int = 0) -> str:
    ended = machine.inside("verrou", *words)
    assert ended.returncode == code, (words, ended.stdout, ended.stderr)
    return ended.stdout + ended.stderr


def output(machine: Booted, *words: str) -> Any:
    ended = machine.inside("verrou", *words, "--format", "json")
    assert ended.stdout, ended.stderr
    return json.loads(ended.stdout)


def value(machine: Booted, rule_id: str, *how: str) -> object:
    reading = output(machine, "rule", "show", rule_id, *how)[rule_id]
    return reading["words"] if reading["status"] == "read" else reading["status"]


def polkit_says(console: Console, action: str) -> str:
    """What polkit answers to the session of who is signed in there: what pkcheck(1) ends with, and says."""
    return console.statement(f"pkcheck --action-id {action} --process $$ 2>&1 | tail -1; echo ${{PIPESTATUS[0]}}")


OFF, CLOCK = "org.freedesktop.login1.power-off", "org.freedesktop.timedate1.set-time"
MOUNT = "org.freedesktop.udisks2.filesystem-mount"


def test_rights_and_limits_count_in_sessions_that_run(machine: Booted) -> None:
    console = machine.consoles["tty1"]
    assert console.signs_in("tern", GOOD_PASSWORD)

    def refused() -> list[bool]:
        return [polkit_says(console, action) != "0" for action in (OFF, CLOCK, MOUNT)]

    assert refused() == [False, True, False], console.seen
    assert (value(machine, "rights.shut_down"), value(machine, "rights.set_clock")) == ("everyone", "nobody")
    required = ("rights.shut_down=nobody", "rights.set_clock=everyone", "sharing.hidden_drives=all")
    message = verrou(machine, "rule", "set", *required, "sharing.applies_to=everyone", "--yes")
    assert "next-sign-in" not in message and "restart" not in message
    until(lambda: refused() == [True, False, True], "that polkit answers by the new rules")
    verrou(machine, "undo", "--yes")
    until(lambda: refused() == [False, True, False], "that polkit answers as before")


ELEVATING = ("systemctl restart cron", "systemd-run --pipe --wait -q true", "timedatectl set-timezone Europe/Paris")


def test_no_program_elevates_where_elevation_is_refused(machine: Booted) -> None:
    """A standard user types each at the console, with an administrator's password at hand."""
    console, other, rule = machine.consoles["tty1"], machine.consoles["tty2"], "elevation.standard"
    assert console.signs_in("tern", GOOD_PASSWORD) and other.signs_in("tern", GOOD_PASSWORD)
    assert value(machine, rule) == "admin-password"
    for command in ELEVATING:
        assert console.statement(f"{command} >/dev/null; echo $?", GOOD_PASSWORD).split()[-1] == "0", command
    # It cannot ask for itself at a text console (pkexec 122 loses what it asked for).
    other.enter(f"pkttyagent --process {console.statement('echo $$')}")
    until(lambda: machine.inside("pgrep", "pkttyagent").stdout, "who asks for pkexec")
    console.enter("pkexec id -u; echo E''ND")
    other.waits_for(r"Password: $")
    other.enter_hidden(GOOD_PASSWORD)
    assert "\n0\nEND\n" in console.waits_for(r"\nEND\n")
    machine.inside("timedatectl", "set-timezone", "UTC")
    verrou(machine, "rule", "set", f"{rule}=denied", "--yes")
    assert value(machine, rule) == "denied"
    until(lambda: "Not authorized" in polkit_says(console, "org.freedesktop.policykit.exec"), "that polkit refuses")
    for command in (*ELEVATING, "pkexec true"):
        message = console.statement(f"{command}; echo $?")
        assert message.split()[-1] != "0" and "Password:" not in message, (command, message)


def test_who_is_reported_to_get_in_can_sign_in(disk: Disk) -> None:
    """Each account by each way, with a baseline after a restart, and after going back."""

    def doors(machine: Booted) -> None:
        access = {row["account"]: row["routes"] for row in output(machine, "access")}
        for name in PEOPLE.keys() - {"gull"}:
            by = {
                "console": [machine.consoles["tty1"].signs_in(name, word), machine.screen.signs_in(name, word)],
                "remote-shell": [machine.by_ssh(name, word).stdout == "IN\n"],
            }
            for route, got_in in by.items():
                assert {access[name][route] is not None} == set(got_in), (name, route, access[name], got_in)

    def verdicts(machine: Booted) -> dict[str, str]:
        findings = output(machine, "audit", "-b", "public-terminal")["findings"]
        return {each["subject"]: each["verdict"] for each in findings}

    word = GOOD_PASSWORD
    with disk.booted() as machine:
        verrou(machine, "harden", "-b", "public-terminal", "--yes", code=1)
        held = verdicts(machine)
    with disk.booted() as machine:
        doors(machine)
        assert verdicts(machine) == held
        verrou(machine, "undo", "--yes")
        doors(machine)


def test_a_closed_account_is_closed_to_services_too(machine: Booted) -> None:
    machine.inside("loginctl", "enable-linger", "gull")
    machine.inside("crontab", "-u", "gull", "-", typed="@reboot touch /tmp/by-cron\n")

    def jobs() -> None:
        machine.inside("at", "now", typed="touch /tmp/by-at\n", user="gull")
        machine.inside("rm", "-f", "/run/crond.reboot")
        machine.inside("systemctl", "restart", "cron")

    def done() -> list[str]:
        return machine.inside("sh", "-c", "ls /tmp | grep ^by-").stdout.split()

    jobs()
    until(lambda: done() == ["by-at", "by-cron"], "both jobs")
    machine.inside("sh", "-c", "rm /tmp/by-*")
    inside = machine.consoles["tty2"]
    assert inside.signs_in("gull", GOOD_PASSWORD)
    message = verrou(machine, "account", "disable", "gull", "--yes")
    assert "signed in" in message
    jobs()
    log = ("journalctl", "-o", "cat", "-t", "CRON", "-t", "cron", "-t", "atd")
    until(lambda: machine.inside(*log).stdout.count("account gull has expired") == 2, "that both refuse")
    assert done() == []
    user = "user@" + machine.inside("id", "-u", "gull").stdout.strip()
    assert machine.inside("systemctl", "is-active", user).stdout == "active\n", "programs keep running"
    assert inside.statement("echo here") == "here", "so does who is inside"
    machine.inside("systemctl", "stop", user)
    machine.inside("systemctl", "start", user)
    assert machine.inside("systemctl", "is-active", user).stdout != "active\n"
    assert not machine.screen.signs_in("gull", GOOD_PASSWORD)


def test_who_is_signed_in_stays_so_by_another_name(machine: Booted) -> None:
    assert machine.consoles["tty1"].signs_in("tern", GOOD_PASSWORD)
    assert machine.screen.signs_in("daypass", GOOD_PASSWORD)
    inside = {"tern": "skua", "daypass": "visitor"}
    for name, new_name in inside.items():
        assert "signed in" in verrou(machine, "account", "rename", name, new_name, "--yes")
    signed_in = {row["name"] for row in output(machine, "survey")["accounts"] if row["sessions"]}
    assert signed_in == set(inside.values())
    for name in inside.values():
        assert "signed in" in verrou(machine, "account", "remove", name, "--files", "keep", "--yes", code=4)


AUTOMATIC = {
    "ExecStart=-/sbin/agetty --autologin tern --noclear %I $TERM": True,
    "ExecStart=-/sbin/agetty -a tern %I": True,
    "ExecStart=-/sbin/agetty -o '-p -f tern' -n %I": True,
    "ExecStart=-/sbin/agetty -n -l /usr/local/bin/in %I": True,
    "ExecStart=-/bin/login -f tern\nStandardInput=tty\nStandardOutput=tty": True,
    "ExecStart=-/bin/bash -i\nUser=tern\nStandardInput=tty\nStandardOutput=tty": True,
    "ExecStart=-/sbin/agetty -o '-p -- tern' -n %I": False,
    "ExecStart=-/sbin/agetty --noclear %I": False,
}
"""By what a drop-in of a text console says: whether somebody is in without being asked."""


def test_who_is_in_without_being_asked_is_reported(machine: Booted) -> None:
    console = machine.consoles["tty3"]
    machine.write("/usr/local/bin/in", "#!/bin/sh\nexec login -f tern\n")
    machine.inside("chmod", "755", "/usr/local/bin/in")
    own = "/etc/systemd/system/getty@tty3.service.d/own.conf"
    for text, gets_in in AUTOMATIC.items():
        machine.write(own, f"[Service]\nExecStart=\n{text}\n")
        machine.inside("systemctl", "daemon-reload")
        console.begin()
        shown = console.waits_for(r"[$#] $|login: $|[Pp]assword: $")
        assert bool(re.search(r"[$#] $", shown)) is gets_in, (text, shown)
        message = value(machine, "screen.automatic_signin", "--files-only")
        assert (message != "nobody") is gets_in, (text, message)
    # What is started by itself looks at an account's end, and not at its password.
    machine.write(own, f"[Service]\nExecStart=\n{next(iter(AUTOMATIC))}\n")
    machine.inside("systemctl", "daemon-reload")
    for closing, gets_in in (("usermod -L tern", True), ("chage -E 0 tern", False)):
        machine.inside(*closing.split())
        console.begin()
        shown = console.waits_for(r"[$#] $|expired")
        assert bool(re.search(r"[$#] $", shown)) is gets_in, (closing, shown)
        routes = output(machine, "access", "tern")[0]["routes"]
        assert routes["console"] == ("automatic" if gets_in else None), (closing, routes)


FOLDERS = ("/etc/systemd/system", "/run/systemd/system", "/usr/lib/systemd/system", "/run/systemd/system.control")
DROP_INS = ("getty@tty2.service.d", "getty@.service.d", "service.d")


def test_units_are_put_together_as_systemd_does_it(machine: Booted) -> None:
    """Drop-ins of one name in several folders, at the unit, its template and all services; and masked ones."""
    tree, rng = Path(f"/proc/{machine.pid}/root"), random.Random(14)
    machine.write("/etc/systemd/system/getty@tty2.service.d/own.conf", "[Service]\nType=oneshot\n")
    for _ in range(12):
        places = [f"{rng.choice(FOLDERS)}/{rng.choice(DROP_INS)}/{rng.choice('ab')}.conf" for _ in range(4)]
        for number, place in enumerate(places):
            (tree / place[1:]).parent.mkdir(parents=True, exist_ok=True)
            (tree / place[1:]).unlink(missing_ok=True)
            if rng.random() < 0.15:
                (tree / place[1:]).symlink_to("/dev/null")
            else:
                emptied = "ExecStart=\n" if rng.random() < 0.4 else ""
                machine.write(place, f"[Service]\n{emptied}ExecStart=/sbin/agetty -a u{number}\n")
        machine.inside("systemctl", "daemon-reload")
        shown = machine.inside("systemctl", "show", "getty@tty2", "-p", "ExecStart").stdout
        units = {unit.name: unit for unit in started_units(Root(tree, live=True), ["agetty"])}
        output = [entry.value.split()[-1] for entry in units["getty@tty2.service"].commands()]
        assert output == re.findall(r"argv\[\]=\S+ .*?(\S+) ; ignore", shown), (places, shown)
        for place in places:
            (tree / place[1:]).unlink(missing_ok=True)


def test_services_are_reported_of_what_changed(machine: Booted) -> None:
    """The remote shell server and the keeper of the accounts on the screen count it at once, a new greeter by that."""

    def listed() -> set[str]:
        command = "busctl call org.freedesktop.Accounts /org/freedesktop/Accounts org.freedesktop.Accounts"
        found = machine.inside(*command.split(), "ListCachedUsers").stdout
        return {name for name, uid in ids.items() if f'User{uid}"' in found}

    ids = {name: machine.inside("id", "-u", name).stdout.strip() for name in PEOPLE}
    assert listed() == set(PEOPLE)
    console, notice = machine.consoles["tty1"], "For observers only"
    assert notice not in console.fresh()
    set_rules = ("rule", "set", f"screen.notice={notice}", "screen.hidden_accounts=tern", "--yes")
    assert "reload" not in verrou(machine, *set_rules)
    assert notice in machine.by_ssh("warden", GOOD_PASSWORD).stderr
    assert notice in console.fresh()
    until(lambda: listed() == {"warden", "gull", "daypass"}, "that tern is hidden")
    assert machine.screen.listed() == {"warden", "gull", "daypass"}
    machine.inside("mv", "/usr/bin/systemctl", "/usr/bin/no-systemctl")
    assert "reload" in verrou(machine, "rule", "set", "screen.notice=Closed", "--preview")


def test_an_idle_shell_ends_where_it_is_reported_to(machine: Booted) -> None:
    """One that obeys; one of another kind stays, and is told. A desktop that nobody touches never says that it is
    idle, so that logind does not lock it: what happens there is told as not known."""
    console = machine.consoles["tty1"]
    assert machine.screen.signs_in("daypass", GOOD_PASSWORD) and console.signs_in("tern", GOOD_PASSWORD)
    machine.write("/etc/systemd/logind.conf.d/idle.conf", "[Login]\nIdleAction=lock\nIdleActionSec=1s\n")
    machine.inside("systemctl", "kill", "--signal=HUP", "systemd-logind")
    until(lambda: machine.sessions(Name="tern", IdleHint="yes"), "that the console counts as idle")
    assert machine.sessions(Name="daypass", Service="lightdm", IdleHint="no", LockedHint="no")
    assert value(machine, "screen.locks_after") == "unknown"
    machine.inside("dpkg", "--purge", "--force-depends", "lightdm")
    required = ("rule", "set", "screen.locks_after=1 minute", "--yes")
    assert "gull (/bin/sh)" in verrou(machine, *required, code=4)
    machine.inside("chsh", "-s", "/bin/bash", "gull")
    verrou(machine, *required)
    machine.inside("chsh", "-s", "/bin/sh", "gull")
    assert "gull (/bin/sh)" in verrou(machine, "rule", "show", "screen.locks_after")
    bash, dash = machine.consoles["tty1"], machine.consoles["tty2"]
    assert dash.signs_in("gull", GOOD_PASSWORD) and bash.signs_in("tern", GOOD_PASSWORD)
    assert {console.statement("echo $TMOUT") for console in (bash, dash)} == {"60"}
    script = "/etc/profile.d/verrou-idle.sh"
    machine.write(script, machine.read(script).replace("=60", "=2"))  # nobody waits a minute
    assert dash.signs_in("gull", GOOD_PASSWORD) and bash.signs_in("tern", GOOD_PASSWORD)
    bash.waits_for(r"login: $")
    assert dash.statement("echo here") == "here"


def test_the_keys_that_restart_it_are_reported(machine: Booted) -> None:
    """The kernel sends this signal to the first process where somebody presses them."""
    verrou(machine, "rule", "set", "rights.shut_down=nobody", "--yes")
    assert "Ctrl-Alt-Del" in verrou(machine, "rule", "show", "rights.shut_down")
    os.kill(machine.pid, signal.SIGINT)
    assert machine.ends.wait(60) == -signal.SIGHUP, "what a restart looks like from outside, by pid_namespaces(7)"
