"""Runs that are killed or meet a broken disk, runs beside others who write, and passwords typed at a terminal."""

import errno
import os
import re
import shutil
import subprocess
from collections.abc import Callable
from datetime import timedelta
from functools import partial
from pathlib import Path

import pytest

from at_terminal import AtTerminal
from conftest import GOOD_PASSWORD, Verrou, forked
from crashing import Mode, done, finished, meeting, one_of_two, state, taken_back, with_fixed_hashes
from debian_root import PrivateRoot
from verrou.core.errors import BrokeOff, MachineRefused
from verrou.core.model import Role
from verrou.core.rules import setting
from verrou.core.steps.step import (
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
from verrou.machines.changes import NOTHING, FileChange, FileState, PlaceState, Secrets
from verrou.machines.linux.copy import copied_tree
from verrou.machines.protocol import Machine
from verrou.machines.registry import open_machine
from verrou.records.journal import Journal

STEPS: list[Step] = [
    CreateAccount("gull", Role.ADMINISTRATOR),
    Join("warden", "ringers"),
    SetRules((setting("password.warn_before", timedelta(days=9)),)),
    SetEnabled("tern", False),
    Remove("guillemot", FilesChoice.ARCHIVE),
    CreateGroup("counters"),
    RemoveGroup("ringers"),
]
SECRETS = Secrets(gull=GOOD_PASSWORD)


@pytest.fixture
def sample(tmp_path: Path) -> PrivateRoot:
    """The demo's sample root, its broken line mended."""
    if os.geteuid() != 0:
        pytest.fail("must be root") if os.environ.get("CI") else pytest.skip("must be root")
    lay_out(tmp_path)
    root = PrivateRoot(tmp_path / "warden-03")
    root.write("/etc/passwd", root.read("/etc/passwd").replace("1003:/home/tern", "1003:1003:Tara:/home/tern"))
    root.write("/home/guillemot/counts", "12 chicks\n")
    for place in ("home/guillemot", "home/guillemot/counts"):
        os.chown(root.path / place, 1002, 1002)
    root.write("/etc/shadow", root.read("/etc/shadow") + "tern:!:20346:0:99999:7:::\n")
    return root


STRIDE = 60
"""Every how many calls one is tried here; the benchmark tries them all."""


@pytest.mark.parametrize("mode", Mode)
@pytest.mark.parametrize("route", [taken_back, finished])
def test_a_run_that_met_something_is_undone_or_finished(
    sample: PrivateRoot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, mode: Mode, route: Callable[[Machine], None]
) -> None:
    """At one write-like call after the other, each on a fresh copy: afterwards the tree is one of the two."""
    with_fixed_hashes(monkeypatch)

    def copied(name: str) -> Path:
        subprocess.run(["cp", "-a", str(sample.path), str(tmp_path / name)], check=True)
        return tmp_path / name

    whole = copied("whole")
    done(open_machine(str(whole)), STEPS, SECRETS)
    start, after = state(sample.path), state(whole)
    assert after != start
    wrong, tried, call = [], 0, 1 + 5 * (list(Mode).index(mode) + len(Mode) * (route is finished))
    while True:
        root = copied(str(call))
        machine = open_machine(str(root))
        ended = meeting(mode, call, partial(done, machine, STEPS, SECRETS))
        problem = one_of_two(partial(state, root), machine, route, call, start, after)
        wrong += [problem] if problem else []
        tried += 1
        shutil.rmtree(root)
        if ended == 0:
            break
        call += STRIDE
    assert tried > 2 and not wrong, wrong[:5]


def test_a_folder_is_applied_with_its_mode_or_not_at_all(sample: PrivateRoot, monkeypatch: pytest.MonkeyPatch) -> None:
    machine = open_machine(str(sample.path))
    machine.records_folder().mkdir(parents=True)
    folder = FileChange("/etc/new.d", NOTHING, FileState(None, 0o755, folder=True))

    def broken(*_: object) -> None:
        raise OSError(errno.EIO, "broken")

    with monkeypatch.context() as meanwhile, pytest.raises(OSError, match="broken"):
        meanwhile.setattr(os, "fchmod", broken)
        machine.apply(folder, 1)
    assert machine.stands(folder, 1) is PlaceState.BEFORE and not (sample.path / "etc/new.d").exists()
    machine.apply(folder, 1)
    assert machine.stands(folder, 1) is PlaceState.AFTER


def _failing_at(call: int, number: int, whole: Callable[..., None]) -> Callable[..., None]:
    """A writer that gives up at its n-th file, which it leaves empty."""
    left = iter(range(call - 1, -1, -1))

    def writing(descriptor: int, content: bytes) -> None:
        if next(left, -1) == 0:
            raise OSError(number, os.strerror(number))
        whole(descriptor, content)

    return writing


@pytest.mark.parametrize("number", [errno.ENOSPC, errno.EPERM])
def test_what_could_not_be_written_on_the_copy_is_never_applied(
    sample: PrivateRoot, monkeypatch: pytest.MonkeyPatch, number: int
) -> None:
    """At each file that a way back writes: a copy with a half-written file is given up, and the machine untouched."""
    with_fixed_hashes(monkeypatch)
    machine = open_machine(str(sample.path))
    start = state(sample.path)
    done(machine, STEPS, SECRETS)
    after, whole, refused = state(sample.path), copied_tree.write_all, 0
    while True:
        monkeypatch.setattr(copied_tree, "write_all", _failing_at(refused + 1, number, whole))
        try:
            taken_back(machine)
        except MachineRefused as error:
            assert "could not be written on the copy" in str(error) and state(sample.path) == after
            refused += 1
        else:
            break
    assert refused > 3 and state(sample.path).keys() == start.keys()


def test_a_resume_whose_copy_cannot_be_written_stays_broken_off(
    sample: PrivateRoot, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Somebody wrote since, so the change is merged on a copy; what is half merged never lands."""
    machine = open_machine(str(sample.path))
    steps: list[Step] = [SetRules((setting("password.warn_before", timedelta(days=9)),))]

    def broken(*_: object) -> None:
        raise OSError(errno.EIO, os.strerror(errno.EIO))

    with monkeypatch.context() as patch:
        patch.setattr(type(machine), "apply", broken)
        with pytest.raises(BrokeOff):
            done(machine, steps, Secrets())
    sample.write("/etc/login.defs", sample.read("/etc/login.defs") + "# the site's own\n")
    before = sample.read("/etc/login.defs")
    with monkeypatch.context() as patch:
        patch.setattr(copied_tree, "write_all", broken)
        with pytest.raises(MachineRefused, match="still interrupted"):
            finished(machine)
    assert sample.read("/etc/login.defs") == before
    finished(machine)
    assert sample.read("/etc/login.defs").endswith("# the site's own\n")
    assert re.search(r"^PASS_WARN_AGE\s+9$", sample.read("/etc/login.defs"), re.M)


@pytest.mark.parametrize("mode", Mode)
def test_a_bench_machine_that_met_something_is_undone_or_finished(bench: Path, tmp_path: Path, mode: Mode) -> None:
    machine, steps, start = open_machine(str(bench)), [SetEnabled("passerby", True)], bench.read_bytes()
    call, ended = 0, 1
    while ended:
        call += 1
        route = (taken_back, finished)[call % 2]
        bench.write_bytes(start)
        shutil.rmtree(tmp_path / "hide-01.verrou", ignore_errors=True)
        ended = meeting(mode, call, partial(done, machine, steps, Secrets()))
        journal = Journal(machine.records_folder())
        if journal.interrupted_entry():
            with pytest.raises(MachineRefused, match=r"entry 1 .* was interrupted. To finish: verrou resume"):
                done(machine, steps, Secrets())
            route(machine)
            assert (bench.read_bytes() == start) is (route is taken_back)
        else:
            finished_first = any(entry.finished for entry in journal.entries())
            assert (bench.read_bytes() == start) is not finished_first
        assert not journal.damaged() and not Journal(machine.records_folder()).interrupted_entry()
        assert sorted(p.name for p in tmp_path.iterdir() if p.is_file()) == [bench.name]
    assert call > 10


@pytest.mark.real_root
def test_beside_the_systems_own_tools_and_other_runs_no_account_is_lost(root: PrivateRoot) -> None:
    """Three at once: the system's own additions, and two runs of ours one after the other."""
    loop = "for i in $(seq 10); do useradd -M theirs$i || exit 1; done"
    theirs = subprocess.Popen(["chroot", str(root.path), "sh", "-c", loop])
    mine = [os.fork() for _ in range(1)]
    kind = "left" if mine == [0] else "right"
    for number in range(5):
        name = f"{kind}{number}"
        words = ["account", "add", name, "--password", "blank", "--yes", "-m", str(root.path), "--keep-password"]
        ended = forked(words, "", root.path.parent)
        if ended.returncode:
            print(ended.stderr)
            if kind == "left":
                os._exit(1)
            raise AssertionError(ended.stderr)
    if kind == "left":
        os._exit(0)
    assert os.waitstatus_to_exitcode(os.waitpid(mine[0], 0)[1]) == 0
    assert theirs.wait() == 0
    names = [line.split(":")[0] for line in root.read("/etc/passwd").splitlines()]
    uids = [line.split(":")[2] for line in root.read("/etc/passwd").splitlines()]
    assert [sum(name.startswith(kind) for name in names) for kind in ("left", "right", "theirs")] == [5, 5, 10]
    assert len(set(names)) == len(names) and len(set(uids)) == len(uids)
    assert root.inside("pwck", "-r").returncode in (0, 2) and root.inside("grpck", "-r").returncode == 0
    entries = Journal(open_machine(str(root.path)).records_folder()).entries()
    assert [entry.number for entry in entries] == list(range(1, 11)) and all(entry.finished for entry in entries)


@pytest.mark.real_root
def test_a_lock_that_someone_holds_is_waited_for_and_a_dead_one_is_broken(
    manned_root: PrivateRoot, verrou: Verrou
) -> None:
    dead = subprocess.Popen(["true"])
    dead.wait()
    manned_root.write("/etc/passwd.lock", f"{dead.pid}\0")
    verrou("account", "add", "tern", "--password", "generate", "--yes", "-m", manned_root.path)
    assert not (manned_root.path / "etc/passwd.lock").exists()


def test_a_typed_password_is_hidden_asked_twice_and_reported_what_it_breaks(bench: Path, verrou: Verrou) -> None:
    verrou("rule", "set", "password.min_length=12", "-m", bench, "--yes")
    program = AtTerminal(("account", "add", "tern", "-m", bench, "--yes"), bench.parent)
    for answers in (("short-1", "short-1"), ("Sandbar-kittiwake-5", "Sandbar-kittiwake-5")):
        for answer in answers:
            program.until(": ")
            program.type(answer)
        if answers[0] == "short-1":
            program.until("(password.min_length)\n")
    program.until("verrou undo")
    assert program.ended() == 0
    assert "short-1" not in program.plain and "Sandbar" not in program.plain
