"""What runs from a mounted disk runs shut in: a hostile updater and a hostile program in its PAM stack reach nothing of
this computer; and reading runs nothing at all."""

import os
import socket
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou
from debian_root import PrivateRoot

pytestmark = pytest.mark.real_root
KEYCTL = {"x86_64": 250, "aarch64": 219}.get(os.uname().machine, 250)
ATTEMPTS = {
    "write outside through the process table": "echo x > /proc/1/root{outside}/marker",
    "write outside through a parent": "echo x > /proc/$PPID/root{outside}/marker",
    "write outside by a plain path": "mkdir -p {outside} && echo x > {outside}/marker",
    "write to the disk beside the copy": "echo x > /usr/marker",
    "mount": "mount -t tmpfs tmpfs /mnt",
    "make the disk writable": "mount -o remount,rw /",
    "lay the disk bare": "umount /etc || umount -l /etc",
    "signal a process of this computer": "kill -9 {victim}",
    "see a process of this computer": "test -d /proc/{victim}",
    "call the network": "exec 3<>/dev/tcp/127.0.0.1/{port}",
    "name the computer": "hostname hostile",
    "turn a switch of the kernel": "echo x > /proc/sys/kernel/core_pattern",
    "make a device of a disk": "mknod /etc/disk b 8 0",
    "use a device that stands on the disk": "head -c 1 /planted-disk",
    "set the clock": "date -s @0",
    "leave the root": "chroot /proc/1/root /bin/true",
    "trace the process that runs it": "head -c 1 /proc/1/mem",
    "read what it holds open": "ls -l /proc/1/fd",
    "ask for the keys of this computer": f"perl -e 'exit(syscall({KEYCTL}, 0, -4, 1) < 0)'",
    "add a key": f'perl -e \'exit(syscall({KEYCTL - 2}, "user", "x", "y", 1, -4) < 0)\'',
}


@pytest.fixture
def victim() -> Iterator[int]:
    process = subprocess.Popen(["sleep", "600"])
    yield process.pid
    assert process.poll() is None, "nobody signalled it"
    process.kill()
    process.wait()


@pytest.fixture
def listener() -> Iterator[socket.socket]:
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        listening.listen()
        listening.setblocking(False)
        yield listening


def hostile(root: PrivateRoot, name: str, outside: Path, victim: int, port: int) -> None:
    """A program of the disk that tries all of it and writes down, on its own disk, what it got through with."""
    lines = ["#!/bin/bash", "exec 2>/dev/null", "echo ran >> /etc/hostile-log"]
    for what, command in ATTEMPTS.items():
        command = command.format(outside=outside, victim=victim, port=port)
        lines.append(f"( {command} ) > /dev/null && echo '{what}' >> /etc/hostile-log")
    root.write(name, "\n".join([*lines, "exit 0"]) + "\n")
    (root.path / name.lstrip("/")).chmod(0o755)
    if not (root.path / "planted-disk").exists():
        os.mknod(root.path / "planted-disk", 0o60600, os.stat("/").st_dev)


def test_a_hostile_updater(
    manned_root: PrivateRoot, verrou: Verrou, tmp_path: Path, victim: int, listener: socket.socket
) -> None:
    outside, name = tmp_path / "outside", socket.gethostname()
    outside.mkdir()
    hostile(manned_root, "/usr/sbin/pam-auth-update", outside, victim, listener.getsockname()[1])
    mounts = Path("/proc/self/mountinfo").read_text()
    output = verrou("rule", "set", "lockout.after=4", "-m", manned_root.path, "--yes", code=4)
    assert "although its profiles were enabled" in output.stdout + output.stderr
    reaches_nothing(manned_root, outside, listener)
    assert socket.gethostname() == name and Path("/proc/self/mountinfo").read_text() == mounts
    predicted = verrou("rule", "set", "lockout.after=4", "-m", manned_root.path, "--no-dry-run").stdout
    assert "Predicted only" in predicted and not (manned_root.path / "etc/hostile-log").exists()


def test_a_hostile_program_in_the_pam_stack(
    manned_root: PrivateRoot, verrou: Verrou, tmp_path: Path, victim: int, listener: socket.socket
) -> None:
    """Run by a trial; the account that the trial signs in is of the copy, and what the program writes goes with it."""
    outside = tmp_path / "outside"
    outside.mkdir()
    hostile(manned_root, "/usr/bin/hostile", outside, victim, listener.getsockname()[1])
    stack = manned_root.read("/etc/pam.d/common-auth")
    manned_root.write("/etc/pam.d/common-auth", "auth optional pam_exec.so /usr/bin/hostile\n" + stack)
    start = manned_root.tree()
    for looking in (("survey",), ("account", "list"), ("audit", "-b", "essential"), ("rule", "show")):
        verrou(*looking, "-m", manned_root.path, code=None)
    verrou("account", "test", "warden", "-m", manned_root.path, *TYPED[1:], typed=GOOD_PASSWORD)
    verrou("verify", "-b", "essential", "-m", manned_root.path, code=None)
    reaches_nothing(manned_root, outside, listener)
    assert manned_root.tree() == start


def reaches_nothing(root: PrivateRoot, outside: Path, listener: socket.socket) -> None:
    assert os.listdir(outside) == [] and not (root.path / "usr/marker").exists()
    with pytest.raises(BlockingIOError):
        listener.accept()
    assert not (root.path / "etc/hostile-log").exists(), "a refused worksheet leaves nothing on the disk"


def test_what_a_hostile_program_got_through_with(
    manned_root: PrivateRoot, tmp_path: Path, victim: int, listener: socket.socket
) -> None:
    """Asked of the copy itself: each attempt, one by one."""
    from verrou.machines.linux.copy.private_copy import private_copy
    from verrou.machines.linux.root import Root

    outside = tmp_path / "outside"
    outside.mkdir()
    hostile(manned_root, "/usr/bin/hostile", outside, victim, listener.getsockname()[1])
    with private_copy(Root(manned_root.path)) as copy:
        copy.run(["/usr/bin/hostile"])
        log = copy.root.lines("/etc/hostile-log")
        copy.run(["/bin/bash", "-c", "(setsid sleep 300 &) ; (setsid sleep 300 &)"])
        assert copy.run(["/bin/bash", "-c", "grep -l sleep /proc/[0-9]*/comm"])[0] != 0, "nothing is left behind"
        copy.run(["/bin/bash", "-c", "kill -9 -1"])
        assert copy.run(["/bin/true"]) == (0, ""), "all that it can signal is itself"
    allowed = {"write outside by a plain path"}  # in the copy's own /tmp, which is empty and goes with it
    assert log[0] == "ran" and set(log[1:]) <= allowed, log
    reaches_nothing(manned_root, outside, listener)


def test_a_link_that_a_hostile_program_leaves_is_not_followed_out(
    manned_root: PrivateRoot, verrou: Verrou, tmp_path: Path
) -> None:
    """Its updater puts links to this computer where Verrou writes next."""
    (tmp_path / "precious").write_text("kept")
    swapping = f"#!/bin/sh\nln -sf {tmp_path}/precious /etc/login.defs\nln -sf {tmp_path}/precious /etc/shadow\n"
    manned_root.write("/usr/sbin/pam-auth-update", swapping)
    rules = ("rule", "set", "password.remember=4", "password.warn_before=9 days")
    verrou(*rules, "-m", manned_root.path, "--yes", code=None)
    verrou("undo", "-m", manned_root.path, "--yes", code=None)
    assert (tmp_path / "precious").read_text() == "kept"


def test_a_journal_that_a_hostile_disk_brings_moves_nothing_of_this_computer(verrou: Verrou, tmp_path: Path) -> None:
    """An entry that broke off, made up, whose deed names a folder above the disk."""
    from verrou.core.history.entries import JournalRecord
    from verrou.demo.scenario import lay_out
    from verrou.machines.folder_operations import BringHome
    from verrou.records.journal import Journal

    lay_out(tmp_path)
    disk = tmp_path / "warden-03"
    (tmp_path / "precious").mkdir()
    record = JournalRecord(command="x", by="x")
    Journal(disk / "var/lib/verrou").begin(record, [BringHome("/home/petrel", 0, "", "../../precious")])
    message = verrou("resume", "-m", disk, code=4).stderr
    assert "../../precious" in message and (tmp_path / "precious").is_dir()
