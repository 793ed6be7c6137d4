"""The doors that a worksheet may not shut, and the way back and on, on a real root and on a bench machine."""

import os
import subprocess
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou, administered_throughout
from debian_root import PrivateRoot
from verrou.core.errors import GuardRefused
from verrou.core.judging import guards
from verrou.core.model import Role
from verrou.core.prediction.account_creation import swap_steps
from verrou.core.steps.step import CreateAccount, Join, SetEnabled, Step, TrySignIn
from verrou.machines.bench.authority import Authority
from verrou.machines.changes import Secrets
from verrou.machines.registry import open_machine
from verrou.records import dry_runs, reversals, transactions
from verrou.records.journal import Journal

OTHER_PASSWORD = "razorbill-Ledge-77"


@pytest.fixture(params=["bench", pytest.param("root", marks=pytest.mark.real_root)])
def address(request: pytest.FixtureRequest) -> str:
    """A machine of each kind with one administrator who can sign in, ``warden``."""
    if request.param == "root":
        return str(request.getfixturevalue("manned_root").path)
    path: Path = request.getfixturevalue("bench")
    machine = Authority(path.read_text())
    machine.set_open("keeper", False)
    machine.save(path)
    return str(path)


def test_several_paths_to_the_last_administrator(address: str, verrou: Verrou) -> None:
    """Two are made, administration goes round, and going back over the wrong entry would leave nobody."""
    m = ("-m", address)
    verrou("account", "add", "ringer", "--role", "administrator", *m, *TYPED, typed=OTHER_PASSWORD)
    verrou("account", "swap", "warden", "ringer", *m, *TYPED, typed=OTHER_PASSWORD)
    entries = verrou.json("journal", "list", *m)
    made = next(entry["number"] for entry in entries if entry["command"].startswith("account add ringer"))
    output = verrou("undo", "--entry", made, *m, "--yes", code=3).stderr
    assert "last-administrator" in output
    output = verrou("account", "disable", "ringer", *m, *TYPED, typed=OTHER_PASSWORD, code=3).stderr
    assert "step 1 is blocked by the guard last-administrator" in output
    verrou("undo", *m, "--yes")
    verrou("undo", "--entry", made, *m, "--yes")
    listed = verrou.json("account", "list", *m)
    assert {a["name"] for a in listed if a["role"] == "administrator"} >= {"warden"}
    assert "ringer" not in {a["name"] for a in listed}


def test_back_to_a_point_and_on_again(address: str, verrou: Verrou) -> None:
    m = ("-m", address)
    first = len(verrou.json("journal", "list", *m))
    before = verrou("survey", *m, "--all", "--format", "csv").stdout
    verrou("account", "add", "tern", "--password", "generate", *m, "--yes")
    verrou("account", "disable", "tern", *m, "--yes")
    verrou("account", "change", "tern", "--until", "2031-03-31", *m, "--yes")
    after = verrou("survey", *m, "--all", "--format", "csv").stdout
    preview = verrou("undo", "--to", first, *m, "--preview").stdout
    assert "account tern: standard → removed" in preview and "nothing was changed" in preview
    verrou("undo", "--to", first, *m, "--yes")
    assert verrou("survey", *m, "--all", "--format", "csv").stdout == before
    output = verrou.line("journal", "list", *m)
    assert output.count(f"undone by entry {first + 4}") == 3
    verrou("undo", "--entry", first + 4, *m, "--yes")
    assert verrou("survey", *m, "--all", "--format", "csv").stdout == after
    assert "The journal is intact" in verrou("journal", "check", *m).stdout
    assert "tern: enabled yes → no" in verrou.line("journal", "show", first + 2, *m)


def test_what_is_refused_or_tried_is_reported_and_never_undone(address: str, verrou: Verrou) -> None:
    m = ("-m", address)
    verrou("account", "add", "tern", "--password", "generate", *m, "--yes")
    verrou("account", "disable", "warden", *m, "--yes", code=3)
    verrou("account", "test", "warden", *m, *TYPED[1:], typed=GOOD_PASSWORD)
    verrou("account", "unlock", "tern", *m, "--yes")
    states = [entry["state"] for entry in verrou.json("journal", "list", *m)]
    assert states[-4:] == ["done", "rejected", "tested", "unchanged"]
    assert "account add tern" in verrou("undo", *m, "--yes").stdout


def test_an_end_outlasts_being_disabled(address: str, verrou: Verrou) -> None:
    m = ("-m", address, "--yes")
    verrou("account", "add", "tern", "--until", "2031-03-31", "--password", "generate", *m)

    def ends() -> object:
        listed = verrou.json("account", "list", *m[:2])
        return next(account["until"] for account in listed if account["name"] == "tern")

    verrou("account", "disable", "tern", *m)
    assert ends() == "2031-03-31"
    verrou("account", "change", "tern", "--until", "2032-03-31", *m)
    assert ends() == "2032-03-31"
    verrou("account", "enable", "tern", *m)
    assert ends() == "2032-03-31"


def test_an_undo_keeps_what_others_made_of_it(bench: Path, verrou: Verrou) -> None:
    """A removed account comes back with its groups, though somebody wrote to the machine since."""
    m = ("-m", bench, "--yes")
    verrou("account", "add", "tern", "--password", "generate", *m)
    verrou("group", "add", "ringers", "--member", "tern", *m)
    verrou("account", "remove", "tern", "--files", "keep", *m)
    verrou("account", "add", "gull", "--password", "generate", *m)
    verrou("group", "join", "ringers", "gull", *m)
    output = verrou.line("undo", "--entry", "3", *m)
    assert "entry 5 of this journal wrote to it since; only Verrou's own change is undone" in output
    groups = {group["name"]: group["members"] for group in Authority(bench.read_text()).groups()}
    assert groups["ringers"] == ["gull", "tern"] and {"tern", "gull"} <= set(groups["users"])


def test_a_machine_that_would_refuse_says_so_before(bench: Path, verrou: Verrou) -> None:
    """A guest with a blank password where passwords have a least length."""
    verrou("rule", "set", "password.min_length=8", "-m", bench, "--yes")
    start = bench.read_bytes()
    output = verrou("account", "add", "daypass", "--role", "guest", "--password", "blank", "-m", bench, "--yes", code=4)
    assert "would be rejected: the password is shorter" in " ".join(output.stdout.split())
    assert bench.read_bytes() == start


@pytest.mark.real_root
class TestOnARealRoot:
    def test_someone_administers_at_every_instant_of_a_swap_and_of_its_undo(self, manned_root: PrivateRoot) -> None:
        machine = open_machine(str(manned_root.path))
        start = machine.observe()
        secrets = Secrets(ringer=OTHER_PASSWORD)
        dry_run = dry_runs.do_dry_run(machine, start, swap_steps(start, "warden", "ringer", "ask"), secrets)
        assert not dry_run.rejected and not guards.refusals_on(dry_run.candidate)
        with administered_throughout(machine, start, dry_run.after):
            transactions.commit(machine, dry_run, secrets, transactions.RunInfo("test"))
        journal = Journal(machine.records_folder())
        entries = reversals.to_undo(journal, None, None)
        back = reversals.dry_run_undo(machine, journal, [entry.number for entry in entries])
        with administered_throughout(machine, dry_run.after, back.after):
            reversals.undo(machine, back, entries, transactions.RunInfo("undo"))
        assert manned_root.signs_in("warden", GOOD_PASSWORD)

    def test_root_still_works_whatever_is_set(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        root.inside("chage", "-d", "2020-01-01", "root")
        verrou("account", "password", "root", "--password", "generate", *m)
        verrou("account", "enable", "root", *m)
        root.inside("chage", "-d", "2020-01-01", "root")
        verrou("rule", "set", "password.max_age=90 days", *m)
        assert root.inside("sudo", "-n", "-u", "nobody", "true").returncode == 0

    def test_a_line_that_names_no_one_gives_to_no_one(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        root.write("/etc/sudoers.d/season", "tern ALL=(ALL) ALL\n")
        output = verrou("account", "add", "tern", "--password", "generate", *m, code=4).stderr
        assert "/etc/sudoers.d/season:1" in output and root.inside("id", "tern").returncode
        verrou("account", "add", "tern", "--role", "administrator", "--password", "generate", *m)

    @pytest.mark.parametrize("choice", ["keep", "archive"])
    def test_who_was_removed_comes_back_whole(self, manned_root: PrivateRoot, verrou: Verrou, choice: str) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        verrou("account", "add", "tern", "--password", "generate", "--until", "2031-03-31", *m)
        root.inside("sh", "-c", "cd /home/tern && mkdir a && echo chick > a/note && chmod 2750 a", user="tern")
        os.setxattr(root.path / "home/tern/.profile", "trusted.station", b"hide")
        root.write("/home/tern/a/note", "chick\n")
        start = root.tree()
        verrou("account", "remove", "tern", "--files", choice, *m)
        verrou("undo", *m)
        assert root.tree() == start
        assert os.getxattr(root.path / "home/tern/.profile", "trusted.station") == b"hide"

    def test_what_was_put_into_a_new_home_outlasts_its_account(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        verrou("account", "add", "tern", "--password", "generate", *m)
        root.inside("sh", "-c", "echo chick > /home/tern/note", user="tern")
        output = verrou.line("undo", *m)
        assert "it was used since, so its files stay, for root alone" in output
        home = root.path / "home/tern"
        assert (home / "note").read_text() == "chick\n" and home.stat().st_uid == 0 and home.stat().st_mode & 0o77 == 0

    def test_after_the_systems_own_updater_ran(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        """A package brings a module; going back takes ours out of the stack and leaves theirs."""
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        verrou("rule", "set", "lockout.after=4", *m)
        profile = "Name: theirs\nDefault: yes\nPriority: 200\nAuth-Type: Additional\nAuth:\n\toptional\tpam_permit.so\n"
        root.write("/usr/share/pam-configs/theirs", profile)
        root.inside("pam-auth-update", "--package")
        verrou("undo", *m)
        stack = root.read("/etc/pam.d/common-auth")
        assert "pam_faillock" not in stack and stack.count("pam_permit.so") == 2
        assert root.signs_in("warden", GOOD_PASSWORD) and not root.signs_in("warden", "wrong")
        verrou("undo", *m, code=3)

    def test_a_number_that_was_given_away_since_is_not_given_twice(
        self, manned_root: PrivateRoot, verrou: Verrou
    ) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        root.users("tern")
        verrou("account", "remove", "tern", "--files", "archive", *m)
        root.inside("useradd", "-M", "gull")
        start = root.tree()
        output = verrou("undo", *m, code=4).stderr
        assert "tern would share ID" in output.replace("gull and ", "") and root.tree() == start

    def test_a_dry_run_sees_who_signed_in(self, manned_root: PrivateRoot) -> None:
        from verrou.machines.linux.files.sign_ins import LASTLOG_RECORD

        with open(manned_root.path / "var/log/lastlog", "wb") as log:
            log.seek(1000 * LASTLOG_RECORD.size)
            log.write(LASTLOG_RECORD.pack(1_790_000_000, b"tty1", b""))
        machine = open_machine(str(manned_root.path))
        before = machine.observe()
        assert before.by_name["warden"].last_sign_in is not None
        after = dry_runs.do_dry_run(machine, before, [CreateAccount("tern", Role.STANDARD)], Secrets()).after
        assert after.by_name["warden"] == before.by_name["warden"]

    def test_what_hangs_on_a_file_outlasts_a_change(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        shadow = root.path / "etc/shadow"
        os.setxattr(shadow, "security.station", b"label")
        os.setxattr(shadow, "trusted.station", b"own")
        (root.path / "etc/shadow").chmod(0o604)
        verrou("account", "change", "warden", "--until", "2031-03-31", *m)
        assert os.getxattr(shadow, "security.station") == b"label" and os.getxattr(shadow, "trusted.station") == b"own"
        assert shadow.stat().st_mode & 0o7777 == 0o604
        os.link(shadow, root.path / "etc/shadow-of-yesterday")
        output = verrou("account", "change", "warden", "--until", "2032-03-31", *m).stdout
        assert "/etc/shadow has 1 further name" in " ".join(output.split())

    def test_another_program_wrote_to_the_same_line(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        verrou("account", "change", "warden", "--full-name", "Wilma Warden", "--until", "2031-03-31", *m)
        root.inside("chage", "-W", "3", "warden")
        root.inside("usermod", "-aG", "adm", "warden")
        verrou("undo", *m)
        line = next(line for line in root.read("/etc/shadow").splitlines() if line.startswith("warden:"))
        assert line.split(":")[5:8] == ["3", "", ""] and "Wilma" not in root.read("/etc/passwd")
        assert "adm" in root.inside("id", "-nG", "warden").stdout

    def test_a_plan_goes_on_when_something_else_moved(self, manned_root: PrivateRoot) -> None:
        """Between the dry run and applying it somebody adds an account; what it rests on moved only the second time."""
        machine = open_machine(str(manned_root.path))
        secrets = Secrets(tern=OTHER_PASSWORD)
        dry_run = dry_runs.do_dry_run(machine, machine.observe(), [CreateAccount("tern", Role.STANDARD)], secrets)
        manned_root.inside("useradd", "-M", "gull")
        transactions.commit(machine, dry_run, secrets, transactions.RunInfo("test"))
        names = [line.split(":")[0] for line in manned_root.read("/etc/passwd").splitlines()]
        assert names[-2:] == ["gull", "tern"] and manned_root.inside("grpck", "-r").returncode == 0
        dry_run = dry_runs.do_dry_run(machine, machine.observe(), [Join("tern", "adm")], Secrets())
        manned_root.inside("usermod", "-aG", "sudo", "tern")
        with pytest.raises(GuardRefused, match=r"changed-machine: account tern, .* changed"):
            transactions.commit(machine, dry_run, Secrets(), transactions.RunInfo("test"))
        assert guards.usable_administrators(machine.observe())

    def test_what_it_rests_on_may_stand_in_a_file_that_it_does_not_write(self, manned_root: PrivateRoot) -> None:
        """Who stays is an administrator by a line of sudoers; before the landing somebody takes that line away."""
        manned_root.inside(
            "useradd", "-M", "-p", manned_root.read("/etc/shadow").split("warden:")[1].split(":")[0], "gull"
        )
        manned_root.write("/etc/sudoers.d/season", "gull ALL=(ALL) ALL\n")
        machine = open_machine(str(manned_root.path))
        secrets = Secrets(gull=GOOD_PASSWORD)
        steps: list[Step] = [TrySignIn("gull"), SetEnabled("warden", False)]
        dry_run = dry_runs.do_dry_run(machine, machine.observe(), steps, secrets)
        assert not dry_run.rejected and not guards.refusals_on(dry_run.candidate)
        (manned_root.path / "etc/sudoers.d/season").unlink()
        with pytest.raises(GuardRefused, match="changed-machine"):
            transactions.commit(machine, dry_run, secrets, transactions.RunInfo("test"))
        assert manned_root.signs_in("warden", GOOD_PASSWORD)

    def test_a_disk_whose_pam_is_too_new_for_this_computer(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        """Said before a password is asked for, and before anything is touched; what needs no trial goes on."""
        for library in manned_root.path.glob("usr/lib/*/libpam.so.0*"):
            library.unlink()
            library.write_text("of another time")
        output = verrou("account", "swap", "warden", "ringer", "-m", manned_root.path, "--preview", code=4)
        assert "could not be tested: this system has no PAM that runs here" in " ".join(output.stdout.split())
        assert "not-run" in verrou("verify", "-b", "essential", "-m", manned_root.path, code=1).stdout
        verrou("account", "change", "warden", "--full-name", "Wilma", "-m", manned_root.path, "--yes")

    def test_files_that_cannot_be_replaced_are_reported_first(self, manned_root: PrivateRoot, verrou: Verrou) -> None:
        root, m = manned_root, ("-m", manned_root.path, "--yes")
        entries = len(Journal(open_machine(str(root.path)).records_folder()).entries())
        subprocess.run(["mount", "--bind", str(root.path / "etc"), str(root.path / "etc")], check=True)
        subprocess.run(["mount", "-o", "remount,bind,ro", str(root.path / "etc")], check=True)
        output = verrou("account", "disable", "warden", "--override", "own-account", *m, code=None)
        output = verrou("account", "change", "warden", "--full-name", "W", *m, code=4)
        subprocess.run(["umount", str(root.path / "etc")], check=True)
        assert "mounted read-only" in output.stderr
        kept = Journal(open_machine(str(root.path)).records_folder()).entries()
        assert all(entry.note is not None for entry in kept[entries:])
