"""The ways in which somebody could come to be shut out: each on a real root, judged by PAM and sudo themselves."""

import errno
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, TYPED, Verrou, examples, manned, with_accounts
from crashing import Mode, done, finished, meeting, taken_back
from debian_root import PrivateRoot
from verrou.core.errors import BrokeOff, VerrouError
from verrou.core.judging import guards
from verrou.core.model import Role
from verrou.core.prediction.account_creation import swap_steps
from verrou.core.steps.step import (
    CreateAccount,
    FilesChoice,
    Join,
    Leave,
    Remove,
    Rename,
    SetEnabled,
    SetPassword,
    Step,
)
from verrou.machines.changes import Change, Secrets
from verrou.machines.linux.apply import applier as landing
from verrou.machines.linux.entry.at_work import at_work
from verrou.machines.linux.entry.shells import Shells
from verrou.machines.linux.root import Root
from verrou.machines.protocol import Machine
from verrou.machines.registry import open_machine
from verrou.records import dry_runs, transactions
from verrou.records.journal import Journal

pytestmark = pytest.mark.real_root
OTHER_PASSWORD = "razorbill-Ledge-77"
SECRETS = Secrets(ringer=OTHER_PASSWORD, warden=GOOD_PASSWORD)


def elevates(root: PrivateRoot, account: str, password: str) -> bool:
    """Signed in at the console by PAM, with a shell that runs, and root by the system's own sudo."""
    signed_in = root.signs_in(account, password, "login") and root.inside("su", account, "-c", "true").returncode == 0
    asked = ("su", account, "-c", "sudo -k -S -u root id -u")
    return signed_in and root.inside(*asked, typed=f"{password}\n").stdout.strip() == "0"


@pytest.fixture(scope="session")
def warden_and_ringer(debian: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The accounts of :func:`two`, made once."""
    roles = {"warden": "administrator", "ringer": "administrator"}
    return with_accounts(debian, tmp_path_factory.mktemp("doors"), roles, OTHER_PASSWORD)


@pytest.fixture
def two(debian: Path, warden_and_ringer: Path, tmp_path: Path) -> Iterator[PrivateRoot]:
    """Two administrators, ``warden`` and ``ringer``."""
    with manned(debian, warden_and_ringer, tmp_path) as root:
        yield root


def broken(number: int) -> Callable[..., None]:
    """What stands for a call that does not come through: an i/o error, or Ctrl-C."""

    def called(*_: object, **__: object) -> None:
        if number:
            raise OSError(number, os.strerror(number))
        raise KeyboardInterrupt

    return called


@pytest.mark.parametrize(
    ("number", "choice", "routes"),
    [
        (errno.EIO, FilesChoice.ARCHIVE, ("undo", "resume")),
        (0, FilesChoice.DELETE, ("resume", "undo")),
    ],
)
def test_a_removal_that_is_interrupted_while_it_cleans_up(
    manned_root: PrivateRoot,
    verrou: Verrou,
    monkeypatch: pytest.MonkeyPatch,
    number: int,
    choice: FilesChoice,
    routes: tuple[str, str],
) -> None:
    """All of it landed, and the message says so; undo does not rest on what is being deleted, and nothing is wedged."""
    root, m = manned_root, ("-m", manned_root.path)
    root.users("gull")
    root.inside("sh", "-c", "cd ~gull && mkdir a && touch a/1 a/2 b", user="gull")
    before = root.tree()
    machine = open_machine(str(root.path))
    with monkeypatch.context() as patch, pytest.raises(BrokeOff, match=r"is done, but not everything it removes"):
        patch.setattr(landing.os, "rmdir", broken(number))
        done(machine, [Remove("gull", choice)], Secrets())
    assert (root.path / "home/.verrou-leaving-2-gull/a").exists()
    for route in routes:
        left = Journal(machine.records_folder()).pending_cleanup()
        undone = 0 if choice is FilesChoice.ARCHIVE else 4  # what is deleted for good is said
        verrou(route, *m, *(["--yes"] if route == "undo" else []), code=undone if route == "undo" else 0 if left else 2)
    assert not list((root.path / "home").glob(".verrou*"))
    assert root.inside("id", "gull").returncode == 0
    if choice is FilesChoice.ARCHIVE:
        assert {name: output for name, output in root.tree().items() if "gull" in name} == {
            name: output for name, output in before.items() if "gull" in name
        }
    verrou("account", "add", "tern", "--password", "generate", *m, "--yes")


def test_what_cannot_be_deleted_keeps_no_one_from_another_change(
    manned_root: PrivateRoot, verrou: Verrou, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is told by the run that took it away, and by who finishes that; any other goes its way."""
    root, m = manned_root, ("-m", manned_root.path)
    root.users("gull", "tern")
    machine, delete_tree = open_machine(str(root.path)), landing.delete_tree

    def only_some(folder: int, name: str) -> None:
        (broken(errno.EIO) if name.startswith(".verrou-leaving") else delete_tree)(folder, name)

    with monkeypatch.context() as patch:
        patch.setattr(landing, "delete_tree", only_some)
        with pytest.raises(BrokeOff, match="entry 2 is done, but not everything"):
            done(machine, [Remove("gull", FilesChoice.DELETE)], Secrets())
        done(machine, [SetEnabled("tern", False)], Secrets())
        with pytest.raises(BrokeOff, match="entry 2 is done, but not everything"):
            finished(machine)
    assert list((root.path / "home").glob(".verrou*")) and root.read("/etc/shadow").count("tern:!") == 1
    verrou("resume", *m)
    assert not list((root.path / "home").glob(".verrou*"))


def test_a_home_in_which_something_is_mounted_is_left_until_it_is_not(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path)
    root.users("gull")
    kept = root.path / "home/.verrou-leaving-2-gull/kept"
    (root.path / "home/gull/kept").mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "tmpfs", str(root.path / "home/gull/kept")], check=True)
    try:
        verrou("account", "remove", "gull", "--files", "delete", *m, "--yes", code=4)
        subprocess.run(["umount", str(root.path / "home/gull/kept")], check=True)
        verrou("account", "remove", "gull", "--files", "delete", *m, "--yes")
    finally:
        subprocess.run(["umount", "-l", str(kept)], check=False, capture_output=True)
    assert not kept.exists()


def swap_that_dies(machine: Machine, landings: int) -> None:
    """``account swap warden ringer``, broken off after some landings."""
    real, counted = type(machine).apply, iter(range(landings))

    def apply(self: Machine, change: Change, entry: int) -> None:
        if next(counted, None) is None:
            raise OSError(errno.EIO, os.strerror(errno.EIO))
        real(self, change, entry)

    with pytest.MonkeyPatch.context() as patch, pytest.raises(BrokeOff):
        patch.setattr(type(machine), "apply", apply)
        done(machine, swap_steps(machine.observe(), "warden", "ringer", "ask"), SECRETS)


@pytest.mark.parametrize("landings", [0, 2])
def test_a_run_is_finished_only_where_someone_administers_then(
    manned_root: PrivateRoot, verrou: Verrou, landings: int
) -> None:
    """Somebody locks whoever should take over, between a death and its resume."""
    root, m = manned_root, ("-m", manned_root.path)
    verrou("account", "add", "ringer", "--keep-password", *m, *TYPED, typed=OTHER_PASSWORD)
    swap_that_dies(open_machine(str(root.path)), landings)
    assert root.inside("passwd", "-l", "ringer").returncode == 0
    output = verrou("resume", "--preview", *m, code=3).stderr
    assert verrou("resume", *m, code=3).stderr == output
    assert "last-administrator" in output and "verrou undo" in output
    output = verrou("account", "list", *m).stderr
    assert "was interrupted" in output and "To revert: verrou undo" in output
    verrou("undo", *m, "--yes")
    assert elevates(root, "warden", GOOD_PASSWORD)


def test_a_run_that_alone_leaves_someone_is_not_undone(manned_root: PrivateRoot, verrou: Verrou) -> None:
    """Whoever administered is locked between a death and its undo: the run has to be finished."""
    root, m = manned_root, ("-m", manned_root.path)
    verrou("account", "add", "ringer", "--keep-password", *m, *TYPED, typed=OTHER_PASSWORD)
    swap_that_dies(open_machine(str(root.path)), 0)
    assert root.inside("passwd", "-l", "warden").returncode == 0
    assert "To finish the run" in verrou("undo", *m, "--yes", code=3).stderr
    verrou("resume", *m)
    assert elevates(root, "ringer", OTHER_PASSWORD)


def no_program(path: Path) -> None:
    """Nothing."""


def of_no_interpreter(path: Path) -> None:
    path.write_text("#!/usr/bin/gone\n")
    path.chmod(0o755)


def ending_badly(path: Path) -> None:
    path.write_text("#!/bin/sh\nexit 3\n")
    path.chmod(0o755)


@pytest.mark.parametrize("shell", [no_program, of_no_interpreter])
@pytest.mark.parametrize("command", [("disable", "warden"), ("swap", "warden", "ringer")])
def test_a_shell_that_does_not_start_makes_no_administrator(
    two: PrivateRoot, verrou: Verrou, shell: Callable[[Path], None], command: tuple[str, ...]
) -> None:
    root, m = two, ("-m", two.path)
    shell(root.path / "usr/bin/kittish")
    root.inside("usermod", "-s", "/usr/bin/kittish", "ringer")
    assert root.inside("su", "ringer", "-c", "true").returncode != 0
    output = verrou("account", *command, *m, *TYPED, typed=OTHER_PASSWORD, code=None)
    assert output.returncode in (3, 4) and elevates(root, "warden", GOOD_PASSWORD)
    assert "last-administrator" in output.stderr or "its shell /usr/bin/kittish" in output.stderr
    why = verrou("why", "ringer", "console", *m).stdout
    assert "its shell /usr/bin/kittish" in " ".join(why.split())


def test_a_shell_is_started_by_whom_its_mode_lets(tmp_path: Path) -> None:
    """execve(2): the owner's bit, or else the group's, or else that of all others; the script's interpreter too."""
    for name, mode in (("kittish", 0o750), ("ternish", 0o705), ("script", 0o755)):
        (tmp_path / name).write_text("#!/ternish\n" if name == "script" else "")
        (tmp_path / name).chmod(mode)
        os.chown(tmp_path / name, 0, 50)
    shells = Shells(Root(tmp_path))
    assert not shells.fault("/kittish", 1000, (50,)) and shells.fault("/kittish", 1000, (100,))
    assert shells.fault("/ternish", 1000, (50,)) and not shells.fault("/ternish", 1000, (100,))
    assert "is run by /ternish" in shells.fault("/script", 1000, (50,)) and not shells.fault("/script", 1000, (100,))


def test_the_trial_starts_the_shell(two: PrivateRoot, verrou: Verrou) -> None:
    ending_badly(two.path / "usr/bin/kittish")
    two.inside("usermod", "-s", "/usr/bin/kittish", "ringer")
    output = verrou("account", "test", "ringer", "-m", two.path, *TYPED[1:], typed=OTHER_PASSWORD, code=4).stderr
    assert "its shell /usr/bin/kittish ended with 3" in output


def test_of_two_names_with_one_number_the_first_decides(two: PrivateRoot, verrou: Verrou) -> None:
    """sudo looks the number up: what ``gull`` may, and with which password, hangs on ``ringer``."""
    root, m = two, ("-m", two.path)
    root.inside("useradd", "-m", "-o", "-u", "1001", "-s", "/bin/bash", "-G", "sudo", "gull")
    root.inside("chpasswd", typed=f"gull:{OTHER_PASSWORD}-2\n")
    root.inside("gpasswd", "-d", "warden", "sudo")
    output = verrou("group", "leave", "sudo", "ringer", *m, *TYPED, typed=f"{OTHER_PASSWORD}-2", code=3).stderr
    assert "last-administrator" in output and elevates(root, "ringer", OTHER_PASSWORD)
    output = verrou("account", "disable", "ringer", *m, *TYPED, typed=f"{OTHER_PASSWORD}-2", code=3).stderr
    assert "last-administrator" in output and elevates(root, "ringer", OTHER_PASSWORD)


@pytest.mark.parametrize("setting", ["rootpw", "runaspw, runas_default=ringer"])
def test_a_password_that_elevation_asks_for_has_to_be_there(two: PrivateRoot, verrou: Verrou, setting: str) -> None:
    """Root's password, or another account's: where that is disabled nobody elevates any more."""
    root, m = two, ("-m", two.path)
    whose = "ringer" if "runas_default" in setting else "root"
    if whose == "root":
        root.inside("chpasswd", typed=f"root:{OTHER_PASSWORD}\n")
    root.write("/etc/sudoers.d/station", f"Defaults {setting}\nwarden ALL=(root) ALL\n")
    os.chmod(root.path / "etc/sudoers.d/station", 0o440)
    root.inside("gpasswd", "-d", "ringer", "sudo")
    output = verrou(
        "account", "disable", whose, *m, *TYPED, "--override", "own-account", typed=GOOD_PASSWORD, code=None
    )
    assert output.returncode in (3, 4) and "administrator" in output.stderr, output.stderr
    root.inside("passwd", "-l", whose)
    assert not elevates(root, "warden", OTHER_PASSWORD)
    survey = verrou("account", "disable", whose, *m, *TYPED, typed=GOOD_PASSWORD, code=None).stdout
    assert "No administrator can sign in at the console" in " ".join(survey.split())


@pytest.mark.parametrize("mode", [0o755, 0o4750])
def test_a_trial_can_no_more_than_the_person(two: PrivateRoot, verrou: Verrou, mode: int) -> None:
    """Without its set-user-ID bit, or for a group alone, sudo makes root of nobody."""
    root, m = two, ("-m", two.path)
    os.chmod(root.path / "usr/bin/sudo", mode)
    assert not elevates(root, "ringer", OTHER_PASSWORD)
    output = verrou("account", "test", "ringer", *m, *TYPED[1:], typed=OTHER_PASSWORD, code=None)
    assert "could not elevate" in output.stdout + output.stderr and (output.returncode == 4 or mode == 0o755), (
        "who is none must not elevate"
    )
    if mode == 0o755:
        assert "set-user-ID bit" in verrou("account", "list", *m).stderr


def test_blank_administrators_are_refused(two: PrivateRoot, bench: Path, verrou: Verrou) -> None:
    for m in (("-m", two.path), ("-m", bench)):
        verrou("account", "add", "daypass", "--role", "guest", "--password", "blank", *m, "--yes")
        for command in (
            ("account", "add", "gull", "--role", "administrator", "--password", "blank"),
            ("account", "change", "daypass", "--role", "administrator"),
            ("account", "password", "warden", "--password", "blank"),
        ):
            output = verrou(*command, *m, "--yes", code=3).stderr
            assert "is blocked by the guard blank-administrator" in output, command
    baseline = two.path.parent / "blank.toml"
    baseline.write_text('[baseline]\ntitle = "x"\n[accounts.gull]\nrole = "administrator"\npassword = "blank"\n')
    assert "blank-administrator" in verrou("harden", "-b", baseline, "-m", bench, "--yes", code=3).stderr
    m = ("-m", two.path, "--override", "blank-administrator", "--yes")
    verrou("account", "add", "gull", "--role", "administrator", "--password", "blank", *m)


def test_groups_go_by_number(two: PrivateRoot, verrou: Verrou) -> None:
    """A second name for sudo's group makes administrators, and one before it takes them away."""
    root, m = two, ("-m", two.path)
    with open(root.path / "etc/group", "a") as file:
        file.write("watch:x:27:tern\n")
    root.inside("useradd", "-m", "-s", "/bin/bash", "tern")
    root.inside("chpasswd", typed=f"tern:{OTHER_PASSWORD}-3\n")
    assert elevates(root, "tern", f"{OTHER_PASSWORD}-3")
    listed = verrou("account", "list", "--role", "administrator", *m, "--format", "csv").stdout
    assert "tern" in listed
    for name in ("warden", "ringer"):
        root.inside("gpasswd", "-d", name, "sudo")
    output = verrou("group", "leave", "watch", "tern", *m, *TYPED, code=3).stderr
    assert "last-administrator" in output and elevates(root, "tern", f"{OTHER_PASSWORD}-3")


def test_a_date_in_an_elevation_line_ends_an_administrator(two: PrivateRoot, verrou: Verrou) -> None:
    from datetime import UTC, datetime, timedelta

    root, m = two, ("-m", two.path)
    root.inside("gpasswd", "-d", "ringer", "sudo")
    ends = datetime.now(UTC) + timedelta(days=20)
    root.write("/etc/sudoers.d/season", f"ringer ALL=(ALL) NOTAFTER={ends:%Y%m%d%H%M%SZ} ALL\n")
    os.chmod(root.path / "etc/sudoers.d/season", 0o440)
    assert elevates(root, "ringer", OTHER_PASSWORD)
    output = verrou("account", "swap", "warden", "ringer", *m, *TYPED, typed=OTHER_PASSWORD, code=3).stderr
    assert "expiring-administrator" in output


AT_WORK = """
import os, subprocess, sys
from verrou.machines.linux.entry.at_work import at_work
if sys.argv[1:]:
    os.setresuid(int(sys.argv[1]), 0, 0)  # somebody's own process, and below it root's again, as behind sudo
    subprocess.run([sys.executable, __file__], preexec_fn=lambda: os.setresuid(0, 0, 0))
else:
    print(*at_work())
"""


@pytest.mark.parametrize(("door", "route"), [("sshd", "remote-shell"), ("login", "console"), ("xrdp", "remote-screen")])
def test_who_is_at_work_and_by_which_way(tmp_path: Path, door: str, route: str) -> None:
    """Read off real processes: below a program that lets people in is somebody, and below that root again."""
    shutil.copy(Path("/bin/sh").resolve(), tmp_path / door)
    (tmp_path / "ask.py").write_text(AT_WORK)
    ask = f"{sys.executable} {tmp_path}/ask.py 4242; true"
    environment = {**os.environ, "LOGNAME": "root", "SUDO_USER": "nobody"}
    for program, found in ((tmp_path / door, f"4242 {route}"), (Path("/bin/sh"), " ".join(map(str, at_work())))):
        output = subprocess.run([program, "-c", ask], capture_output=True, text=True, check=True, env=environment)
        assert output.stdout.strip() == found.strip(), output.stderr


WORK: list[Step] = [
    CreateAccount("gull", Role.ADMINISTRATOR, must_change=False),
    SetEnabled("warden", False),
    SetEnabled("ringer", False),
    Leave("warden", "sudo"),
    Leave("ringer", "sudo"),
    Remove("ringer", FilesChoice.ARCHIVE),
    Rename("ringer", "puffin"),
    Join("tern", "sudo"),
    Join("tern", "users"),
    SetPassword("ringer", must_change=False),
]
HANDS = {
    "nobody": ("true",),
    "locks warden": ("usermod", "-L", "warden"),
    "locks ringer": ("usermod", "-L", "ringer"),
    "demotes warden": ("gpasswd", "-d", "warden", "sudo"),
    "demotes all": ("sed", "-i", "s/^\\(sudo:[^:]*:[^:]*\\):.*/\\1:/", "/etc/group"),
    "ends warden": ("chage", "-E", "2020-01-01", "warden"),
    "gives ringer no shell": ("usermod", "-s", "/usr/sbin/nologin", "ringer"),
    "raises tern": ("gpasswd", "-a", "tern", "sudo"),
}
EVERYONE = Secrets(dict.fromkeys(("warden", "ringer", "tern", "gull", "puffin"), GOOD_PASSWORD))


def applied(machine: Machine, steps: list[Step]) -> None:
    snapshot = machine.observe()
    dry_run = dry_runs.do_dry_run(machine, snapshot, guards.with_trials(snapshot, steps), EVERYONE)
    guards.check(dry_run.candidate, guards.ACCEPTABLE)
    transactions.commit(machine, dry_run, EVERYONE, transactions.RunInfo("test"))


@examples(3)
@given(
    st.lists(st.sampled_from(WORK), min_size=1, max_size=3, unique=True),
    st.integers(1, 90),
    st.sampled_from(list(HANDS)),
    st.permutations([finished, taken_back]),
)
def test_after_a_death_and_another_hand_someone_administers_who_could_before(
    debian: Path, steps: list[Step], call: int, hand: str, routes: list[Callable[[Machine], None]]
) -> None:
    """Whatever way is gone then: it is refused, or who could administer before can still, or another one can."""
    with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(debian, Path(folder, "warden-03")) as root:
        for name, groups in (("warden", "sudo"), ("ringer", "sudo"), ("tern", "users")):
            root.inside("useradd", "-m", "-s", "/bin/bash", "-G", groups, name)
        root.inside("chpasswd", typed="".join(f"{name}:{GOOD_PASSWORD}\n" for name in ("warden", "ringer", "tern")))

        def administer() -> set[str]:
            names = [line.split(":")[0] for line in root.read("/etc/passwd").splitlines()]
            return {name for name in names if name in EVERYONE and elevates(root, name, GOOD_PASSWORD)}

        assert administer() == {"warden", "ringer"}
        machine = open_machine(str(root.path))
        meeting(Mode.KILLED, call, lambda: applied(machine, steps))
        between = administer()
        assert between, "at no instant is there nobody"
        root.inside(*HANDS[hand])
        could = administer()
        for route in routes:
            with suppress(VerrouError):
                route(machine)
                break
        assert administer() or not could, (steps, call, hand, routes)
