"""Killed at every write point, beside others who write, and with passwords typed at a terminal."""

import os
import pty
import subprocess
import sys
import time
import traceback
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, Verrou
from debian_root import PrivateRoot
from verrou.core.model import Role
from verrou.core.steps import (
    CreateAccount,
    CreateGroup,
    FilesChoice,
    Join,
    Remove,
    RemoveGroup,
    SetEnabled,
    SetRules,
    Step,
)
from verrou.demo.scenario import lay_out
from verrou.machines import Secrets, open_machine
from verrou.records.carry_out import carry_out, undo
from verrou.records.journal import Journal

STEPS: list[Step] = [
    CreateAccount("gull", Role.ADMINISTRATOR),
    Join("warden", "ringers"),
    SetRules(values=(("password.warn_before", timedelta(days=9)),)),
    SetEnabled("guillemot", False),
    Remove("guillemot", FilesChoice.ARCHIVE),
    CreateGroup("counters"),
    RemoveGroup("ringers"),
]
DIED = 77
WITHIN_A_HOME = 0
"""Instead of the n-th rename: the first file that is deleted in a home."""


@pytest.fixture
def sample(tmp_path: Path) -> PrivateRoot:
    """The demo's sample root, its broken line mended."""
    if os.geteuid() != 0:
        pytest.fail("must be root") if os.environ.get("CI") else pytest.skip("must be root")
    lay_out(tmp_path)
    root = PrivateRoot(tmp_path / "warden-03")
    root.write("/etc/passwd", root.read("/etc/passwd").replace("1003:/home/tern", "1003:Tara:/home/tern"))
    root.write("/home/guillemot/counts", "12 chicks\n")
    for place in ("home/guillemot", "home/guillemot/counts"):
        os.chown(root.path / place, 1002, 1002)
    root.write("/etc/shadow", root.read("/etc/shadow") + "tern:!:20346:0:99999:7:::\n")
    return root


def run_until(deadly_write: int, address: str) -> bool:
    """Do the steps in a child that is killed at the n-th rename; answers with whether it was."""
    child = os.fork()
    if child == 0:
        writes = 0
        whole: Callable[..., None] = os.replace

        def deadly(*arguments: object) -> None:
            nonlocal writes
            writes += 1
            if writes == deadly_write:
                os._exit(DIED)
            whole(*arguments)

        os.replace = deadly  # type: ignore[assignment]
        removing: Callable[..., None] = os.unlink

        def deadly_within_a_home(*arguments: object, **options: object) -> None:
            if deadly_write == WITHIN_A_HOME and "dir_fd" in options:
                os._exit(DIED)
            removing(*arguments, **options)

        os.unlink = deadly_within_a_home  # type: ignore[assignment]
        machine = open_machine(address)
        try:
            carry_out(machine, STEPS, machine.observe().fingerprint, Secrets(gull=GOOD_PASSWORD), command="test")
        finally:
            traceback.print_exc()
            os._exit(0 if sys.exc_info()[0] is None else 1)
    ended = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    assert ended in (0, DIED)
    return ended == DIED


def test_killed_at_every_write_point_it_can_go_back(sample: PrivateRoot) -> None:
    start = sample.tree()
    machine = open_machine(str(sample.path))
    deadly_write = WITHIN_A_HOME - 1
    while True:
        deadly_write += 1
        died = run_until(deadly_write, str(sample.path))
        unfinished = Journal(machine.records_folder()).unfinished()
        assert died is (unfinished is not None)
        machine.observe()
        undo(machine, None)
        assert sample.tree() == start, f"killed at write {deadly_write}"
        if not died:
            break
    assert deadly_write > 6, "there were writes to be killed at"


@pytest.mark.real_root
def test_beside_the_systems_own_tools_no_account_is_lost(root: PrivateRoot) -> None:
    loop = "for i in $(seq 200); do useradd -M theirs$i || exit 1; done"
    theirs = subprocess.Popen(["chroot", str(root.path), "sh", "-c", loop])
    machine = open_machine(str(root.path))
    for number in range(200):
        steps = [CreateAccount(f"ours{number}", Role.STANDARD)]
        (result,) = machine.perform(steps, Secrets({f"ours{number}": GOOD_PASSWORD}))
        assert result.outcome == "done"
    assert theirs.wait() == 0
    names = [line.split(":")[0] for line in root.read("/etc/passwd").splitlines()]
    uids = [line.split(":")[2] for line in root.read("/etc/passwd").splitlines()]
    for kind in ("ours", "theirs"):
        assert sum(name.startswith(kind) for name in names) == 200
    assert len(set(names)) == len(names) and len(set(uids)) == len(uids)
    assert root.inside("grpck", "-r").returncode == 0


@pytest.mark.real_root
def test_a_lock_that_somebody_holds_is_waited_for_and_a_dead_one_is_broken(
    manned_root: PrivateRoot, verrou: Verrou
) -> None:
    dead = subprocess.Popen(["true"])
    dead.wait()
    manned_root.write("/etc/passwd.lock", f"{dead.pid}\0")
    verrou("account", "add", "tern", "--password", "generate", "--yes", "-m", manned_root.path)
    assert not (manned_root.path / "etc/passwd.lock").exists()


def test_a_typed_password_is_hidden_asked_twice_and_told_what_it_breaks(bench: Path, verrou: Verrou) -> None:
    verrou("rule", "set", "password.min_length=12", "-m", bench, "--yes")
    command = [sys.executable, "-m", "verrou", "account", "add", "tern", "-m", str(bench), "--yes"]
    child, terminal = pty.fork()
    if child == 0:
        os.execv(sys.executable, command)
    shown = b""

    def until(words: bytes) -> None:
        nonlocal shown
        deadline = time.monotonic() + 20
        seen = len(shown)
        while words not in shown[seen:]:
            assert time.monotonic() < deadline, shown
            shown += os.read(terminal, 4096)

    for answers in ((b"short-1", b"short-1"), (b"Sandbar-kittiwake-5", b"Sandbar-kittiwake-5")):
        for answer in answers:
            until(b": ")
            os.write(terminal, answer + b"\n")
        if answers[0] == b"short-1":
            until(b"at least 12 are needed (password.min_length)\r\n")
    until(b"verrou undo goes back")
    os.waitpid(child, 0)
    assert b"short-1" not in shown and b"Sandbar" not in shown
