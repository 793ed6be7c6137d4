"""The whole round on a real Debian root, judged by the system's own tools and by PAM itself."""

import shutil
import subprocess
import sys
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, Verrou, titled
from debian_root import PrivateRoot

pytestmark = pytest.mark.real_root


def content_judges(root: PrivateRoot) -> None:
    """pwck and grpck find nothing new, visudo finds nothing."""
    complaints = [line for line in root.inside("pwck", "-r").stdout.splitlines() if "does not exist" not in line]
    assert complaints in ([], ["pwck: no changes"])
    assert root.inside("grpck", "-r").returncode == 0
    assert root.inside("visudo", "-c", "-s").returncode == 0


def test_the_whole_round(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root = manned_root
    m = ("-m", root.path)
    verrou("baseline", "capture", *m, "--accounts", "--save", "as-it-stands.toml")
    verrou("audit", *m, "-b", "as-it-stands.toml")
    first = verrou.json("audit", *m, "-b", "shared-desk", code=1)
    assert {"lockout.after", "password.min_length", "password.remember"} <= {
        f["subject"] for f in first["findings"] if f["verdict"] == "not-met"
    }

    verrou("harden", *m, "-b", "shared-desk", "--yes")

    content_judges(root)
    ages = root.inside("chage", "-l", "warden").stdout
    assert [line.split(":")[1].strip() for line in ages.splitlines()[4:]] == ["1", "365", "7"]
    assert "sudo" in root.inside("id", "warden").stdout
    assert "(ALL : ALL) ALL" in root.inside("sudo", "-l", "-U", "warden").stdout

    assert root.signs_in("warden", GOOD_PASSWORD)
    for _ in range(4):
        assert not root.signs_in("warden", "wrong")
    assert root.signs_in("warden", GOOD_PASSWORD), "four failed attempts do not lock"
    for _ in range(5):
        assert not root.signs_in("warden", "wrong")
    assert not root.signs_in("warden", GOOD_PASSWORD), "five failed attempts lock"
    listed = verrou.json("account", "list", *m)
    warden = next(account for account in listed if account["name"] == "warden")
    assert warden["failed_attempts"] == 5 and warden["locked_until"]
    root.inside("faillock", "--user", "warden", "--reset")

    def changes(old: str, new: str) -> bool:
        """passwd(1) as the account's owner, with the minimum age out of the way."""
        root.inside("chage", "-d", "2026-01-01", "warden")
        return root.inside("passwd", user="warden", typed=f"{old}\n{new}\n{new}\n").returncode == 0

    assert not changes(GOOD_PASSWORD, "gul-Pie-123")
    assert changes(GOOD_PASSWORD, "razorbill-Skerry-17")
    assert not changes("razorbill-Skerry-17", GOOD_PASSWORD), "an earlier password comes not again"
    assert changes("razorbill-Skerry-17", "shearwater-Sound-99")


def test_verify_proves_on_real_pam_and_leaves_nothing_and_undo_nothing_either(
    manned_root: PrivateRoot, verrou: Verrou
) -> None:
    m = ("-m", manned_root.path)
    before = manned_root.tree()
    verrou("harden", *m, "-b", "shared-desk", "--yes")
    start = manned_root.tree()
    assert start != before
    output = verrou.json("verify", *m, "-b", "shared-desk")
    assert {(t["rule"], t["result"]) for t in output["tests"]} == {
        (rule, "passed")
        for rule in (
            *("lockout.after", "lockout.lasts", "lockout.forget_after", "password.min_length", "password.classes"),
            *("password.may_contain_name", "password.dictionary", "password.remember", "password.min_age"),
            *("logon.console.allowed", "logon.remote-shell.allowed", "elevation.administrator"),
            *(
                "elevation.commands",
                "elevation.standard",
                "lockout.exempts",
                "password.max_age",
                "password.warn_before",
                "password.storage",
            ),
            *("password.blank_accepted", "rights.shut_down", "rights.set_clock", "rights.install_software"),
            *("sharing.installer", "screen.locks_after"),
        )
    } | {(rule, "not-run") for rule in ("logon.console.allowed", *BY_THE_CLOCK, *NOT_SHOWN)}
    left = {trial["rule"]: trial["seen"] for trial in output["tests"] if trial["result"] == "not-run"}
    assert left["logon.console.allowed"] == "this system has no group that makes an account a guest"
    assert "marks that the console replaces" in left["screen.notice"]
    assert "terminal" in left[BY_THE_CLOCK[0]] and "clock" in left[BY_THE_CLOCK[1]]
    assert manned_root.tree() == start
    assert list((manned_root.path / "run").iterdir()) == []
    verrou("undo", *m, "--yes")
    assert manned_root.tree() == before


NOT_SHOWN = ("screen.notice", "screen.automatic_signin")
BY_THE_CLOCK = ("elevation.remembered_for", "elevation.unanswered_after")
"""What a trial cannot wait for on a real system."""


def test_verify_disproves_what_only_reads_well(manned_root: PrivateRoot, verrou: Verrou) -> None:
    """The module is another one than its name says, where no reading looks: only the trial finds it."""
    m = ("-m", manned_root.path)
    verrou("harden", *m, "-b", "shared-desk", "--yes")
    (module,) = manned_root.path.glob("usr/lib/*/security/pam_faillock.so")
    shutil.copy(module.with_name("pam_permit.so"), module)
    output = verrou.json("verify", *m, "-b", "shared-desk", code=1)
    assert "failed" in {t["result"] for t in output["tests"] if t["rule"] == "lockout.after"}


def test_an_account_of_a_baseline_ends_on_its_day(manned_root: PrivateRoot, verrou: Verrou, tmp_path: Path) -> None:
    m = ("-m", manned_root.path, "--yes")
    (tmp_path / "site.toml").write_text(titled('[accounts.tern]\npassword = "ask"\nuntil = 2099-03-31\n'))
    verrou("harden", "-b", "site.toml", *m, "--password", "stdin", typed="puffin-Burrow-31\n")
    assert "Apr 01, 2099" in manned_root.inside("chage", "-l", "tern").stdout
    verrou("account", "password", "tern", "--password", "stdin", "--keep-password", *m, typed="skerry-Burrow-8\n")
    assert manned_root.signs_in("tern", "skerry-Burrow-8")
    for last, works in ((date.today(), True), (date.today() - timedelta(days=1), False)):
        manned_root.inside("chage", "-E", f"{last + timedelta(days=1)}", "tern")
        tern = verrou.json("account", "show", "tern", "-m", manned_root.path)
        assert tern["until"] == str(last) and manned_root.signs_in("tern", "skerry-Burrow-8") is works


def test_a_missing_module_is_named_and_the_rest_goes_on(manned_root: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", manned_root.path)
    manned_root.inside("dpkg", "--purge", "--force-depends", "libpam-pwquality")
    shown = verrou("harden", *m, "-b", "shared-desk", "--yes", code=None).stdout
    assert "install the package libpam-pwquality" in shown
    found = verrou.json("audit", *m, "-b", "shared-desk", code=None)["findings"]
    verdicts = {f["subject"]: f["verdict"] for f in found}
    assert verdicts["password.min_length"] == "not-applicable"
    assert verdicts["lockout.after"] == "met"


def test_a_stack_edited_manually_is_reported_and_not_forced(manned_root: PrivateRoot, verrou: Verrou) -> None:
    name = "/etc/pam.d/common-auth"
    edited = manned_root.read(name).replace("auth	[success", "auth	optional	pam_warn.so\nauth	[success")
    manned_root.write(name, edited)
    start = manned_root.tree()
    output = verrou("rule", "set", "lockout.after=4", "-m", manned_root.path, "--yes", code=4).stdout
    assert "the managed block" in " ".join(output.split())
    assert manned_root.tree() == start


def broken_pam(root: PrivateRoot) -> None:
    root.write("/etc/pam.d/common-auth", "auth requisite\n" + root.read("/etc/pam.d/common-auth"))


def short_passwd_line(root: PrivateRoot) -> None:
    root.write("/etc/passwd", root.read("/etc/passwd") + "tern:x:1009\n")


def shadow_is_a_folder(root: PrivateRoot) -> None:
    (root.path / "etc/shadow").unlink()
    (root.path / "etc/shadow").mkdir()


@pytest.mark.parametrize(
    ("damage", "arguments", "code", "words"),
    [
        (broken_pam, ("rule", "set", "lockout.after=5"), 4, "/etc/pam.d/common-auth:1 (no module)"),
        (short_passwd_line, ("account", "disable", "bors"), 4, "/etc/passwd:22: 3 fields; expected 7"),
        (shadow_is_a_folder, ("rule", "set", "lockout.after=5"), 2, "/etc/shadow cannot be read"),
    ],
)
def test_what_is_broken_is_reported_in_a_line_and_nothing_changes(
    manned_root: PrivateRoot,
    verrou: Verrou,
    damage: Callable[[PrivateRoot], None],
    arguments: tuple[str, ...],
    code: int,
    words: str,
) -> None:
    manned_root.users("bors")
    damage(manned_root)
    start = manned_root.tree()
    output = verrou(*arguments, "-m", manned_root.path, "--yes", code=code)
    assert words in output.stdout + output.stderr
    assert manned_root.tree() == start
    assert "interrupted" not in verrou("journal", "list", "-m", manned_root.path).stdout


def test_not_being_root(manned_root: PrivateRoot, tmp_path: Path) -> None:
    program = """
import difflib, importlib, os, pkgutil, verrou
for module in pkgutil.walk_packages(verrou.__path__, "verrou."):
    importlib.import_module(module.name)
os.setresgid(65534, 65534, 65534)
os.setresuid(65534, 65534, 65534)
verrou.__main__.main()
"""
    for folder in (tmp_path, *tmp_path.parents):
        folder.chmod(folder.stat().st_mode | 0o011)

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-c", program, *words, "-m", str(manned_root.path)]
        return subprocess.run(command, capture_output=True, text=True, check=False)

    looked = run("audit", "-b", "essential")
    assert looked.returncode == 1 and "/etc/shadow, /etc/gshadow" in looked.stderr and "run as root" in looked.stderr
    assert "passwords can be read by root alone" in looked.stdout and "lockout.after" in looked.stdout
    changed = run("account", "disable", "warden", "--yes")
    assert changed.returncode == 5 and "can read but not change it" in changed.stderr
    assert not changed.stdout


def test_the_whole_round_on_the_newest_release(newest_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = newest_root, ("-m", newest_root.path)
    made = ("account", "add", "warden", "--role", "administrator", "--keep-password", "--password", "stdin", "--yes")
    verrou(*made, *m, typed=GOOD_PASSWORD + "\n")
    before = root.tree()
    verrou("harden", *m, "-b", "shared-desk", "--yes", code=None)
    content_judges(root)
    assert root.signs_in("warden", GOOD_PASSWORD)
    output = verrou.json("verify", *m, "-b", "shared-desk", code=None)
    short = [(f["subject"], f["statement"]) for f in output["findings"] if f["verdict"] == "not-met"]
    assert not short
    for trial in output["tests"]:  # its PAM may be too new for the computer that tries it
        assert trial["result"] == "passed" or (trial["result"] == "not-run" and "too new" in trial["seen"]), trial
    for _ in range(5):
        assert not root.signs_in("warden", "wrong")
    assert not root.signs_in("warden", GOOD_PASSWORD), "five failed attempts lock"
    verrou("account", "unlock", "warden", "--yes", *m)
    verrou("account", "add", "tern", "--password", "generate", "--yes", *m)
    verrou("account", "remove", "tern", "--files", "archive", "--yes", *m)
    verrou("undo", "--to", "1", "--yes", *m)
    assert {n: f for n, f in root.tree().items() if not n.startswith("var")} == {
        n: f for n, f in before.items() if not n.startswith("var")
    }
