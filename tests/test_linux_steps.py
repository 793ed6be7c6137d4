"""Account steps on a small Linux tree: what is refused and why, and what each leaves in the files."""

import fcntl
import os
import struct
from datetime import date
from pathlib import Path

import pytest

from conftest import do, with_files, with_programs
from verrou.core.model import Detail, Role
from verrou.core.model.ageing import password_ages
from verrou.core.steps.step import (
    CreateAccount,
    CreateGroup,
    FilesChoice,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetGroupNote,
    SetPassword,
    Step,
)
from verrou.machines.changes import FileChange, FileState, Outcome, Secrets, StepResult
from verrou.machines.folder_operations import ArchiveHome, MakeHome, UnmakeHome
from verrou.machines.linux.apply.applier import APPEND_ONLY, IMMUTABLE
from verrou.machines.linux.apply.order import ordered
from verrou.machines.registry import open_machine
from verrou.records import dry_runs

HASH = "$6$station$" + "h" * 86

PASSWORD = "kittiwake-Cliff-42"
SET_FLAGS = 0x40086602
"""FS_IOC_SETFLAGS of ioctl_iflags(2)."""
FILES = {
    "etc/passwd": """\
root:x:0:0:root:/root:/bin/bash
# kept by the warden
warden:x:1000:1000:Wilma Warden,,,:/home/warden:/bin/bash
tern:x:1001:1001:Tara:/home/tern:/bin/bash
ended:x:1002:1002::/home/ended:/bin/bash
twice:x:2004:100::/home/twice:/bin/bash
twice:x:2005:100::/home/twice:/bin/bash
tide:x:998:998::/var/lib/tide:/bin/sh
+@night
""",
    "etc/shadow": """\
root:*:20000:0:99999:7:::
warden:HASH:20000:0:99999:7:::
tern:!:20000:0:99999:7:::
ended:!HASH:20000:0:99999:7::20100:
""".replace("HASH", HASH),
    "etc/group": "root:x:0:\nsudo:x:27:warden\nwarden:x:1000:\ntern:x:1001:\nended:x:1002:\n"
    "ringers:x:1003:tern,warden\n",
    "etc/gshadow": "root:*::\nsudo:*::warden\nwarden:!::\ntern:!::\nended:!::\nringers:!:warden:tern,warden\n",
    "etc/subuid": "tern:100000:65536\n",
    "etc/sudoers": "%sudo ALL=(ALL:ALL) ALL\nwarden ALL=(ALL) ALL\n",
    "etc/login.defs": "UID_MIN 1000\nUID_MAX 1010\nPASS_MAX_DAYS 90\nPASS_MIN_DAYS 2\nPASS_WARN_AGE 5\n"
    "HOME_MODE 0750\n",
    "etc/skel/.profile": "# hello\n",
    "etc/debian_version": "12\n",
    "etc/shells": "# shells\n/bin/sh\n/bin/zsh\n",
}


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    if os.geteuid() != 0:
        pytest.fail("must be root") if os.environ.get("CI") else pytest.skip("must be root")
    with_files(tmp_path, FILES)
    with_programs(tmp_path)
    (tmp_path / "etc/skel/.link").symlink_to("/etc/shadow")
    (tmp_path / "etc/shadow").chmod(0o640)
    return tmp_path


def perform(tree: Path, *steps: Step) -> list[StepResult]:
    secrets = Secrets({step.account: PASSWORD for step in steps if isinstance(step, CreateAccount | SetPassword)})
    return do(open_machine(str(tree)), *steps, secrets=secrets)


def lines(tree: Path, name: str) -> dict[str, list[str]]:
    return {line.split(":")[0]: line.split(":") for line in (tree / "etc" / name).read_text().splitlines()}


@pytest.mark.parametrize(
    ("step", "words"),
    [
        (CreateAccount("Tern", Role.STANDARD), "expected 1 to 32 of a-z"),
        (CreateAccount("-tern", Role.STANDARD), "expected 1 to 32"),
        (CreateAccount("a" * 33, Role.STANDARD), "expected 1 to 32"),
        (CreateAccount("te:rn", Role.STANDARD), "expected 1 to 32"),
        (CreateAccount("tern", Role.STANDARD), "it is named in /etc/passwd"),
        (CreateAccount("ringers", Role.STANDARD), "it is named in /etc/group"),
        (CreateAccount("gull", Role.STANDARD, "a:b"), "cannot contain a colon"),
        (CreateAccount("gull", Role.STANDARD, "a\nroot::0:0"), "cannot contain a colon"),
        (CreateAccount("gull", Role.STANDARD, "\x1b[2J"), "control character"),
        (CreateAccount("gull", Role.GUEST), "there is none for guests"),
        (SetEnabled("tern", True), "verrou account password tern"),
        (SetEnabled("ended", True), "Set another expiry date first"),
        (SetEnabled("nobody", False), "nobody is not in /etc/shadow"),
        (SetEnd("root", date(2030, 1, 1)), "would stop cron"),
        (Rename("root", "lamp"), "programs rely on the name root"),
        (Rename("tern", "warden"), "the name warden is in use"),
        (Rename("warden", "wilma"), "/etc/sudoers:2"),
        (Join("tern", "nowhere"), "nowhere is not in /etc/group"),
        (Leave("tern", "tern"), "is the main group of tern"),
        (CreateAccount("gull", Role.STANDARD, shell="/bin/false"), "is not a shell here; /etc/shells lists: /bin/sh"),
        (CreateAccount("gull", Role.STANDARD, home="home/gull"), "expected an absolute path"),
        (CreateAccount("gull", Role.STANDARD, home="/home/../etc/gull"), "expected an absolute path"),
        (CreateAccount("gull", Role.STANDARD, home="/srv/people/gull"), "Create it first"),
        (CreateAccount("gull", Role.STANDARD, note="a,b"), "cannot contain a colon, comma"),
        (CreateAccount("gull", Role.STANDARD, must_change=True, cannot_change=True), "cannot change a password"),
        (CreateAccount("gull", Role.GUEST, home_kept=False), "pam_namespace.so would enforce it"),
        (CreateGroup("guests", confined=True), "pam_access.so would enforce it"),
        (CreateGroup("ringers"), "a group ringers already exists"),
        (CreateGroup("Terns"), "expected 1 to 32"),
        (CreateGroup("counters", note="who counts"), "does not store a note"),
        (RemoveGroup("sudo"), "belongs to the system or to a package"),
        (RemoveGroup("tern"), "is the main group of tern"),
        (SetGroupNote("ringers", "who rings"), "does not store a note"),
        (SetFlags("tern", change_due=True), "has no password that it could change"),
        (SetDetails("tern", ((Detail.HINT, ""),)), "does not store a hint"),
        (SetDetails("tern", ((Detail.SHELL, "/bin/zsh"),)), "is not a shell here"),
        (SetDetails("tern", ((Detail.FULL_NAME, "T\u202eern"),)), "control character"),
        (SetPassword("root", "blank"), "a blank password would enable it"),
        (Remove("root", FilesChoice.KEEP), "is built in and cannot be removed"),
        (Remove("twice", FilesChoice.KEEP), "two accounts are called twice (/etc/passwd, lines 6, 7)"),
        (Remove("tide", FilesChoice.KEEP), "remove the package instead"),
        (Remove("gone", FilesChoice.KEEP), "gone is not in /etc/passwd"),
    ],
)
def test_what_is_refused_says_why_and_leaves_every_byte(tree: Path, step: Step, words: str) -> None:
    (tree / "home").mkdir()
    before = {path: path.read_bytes() for path in (tree / "etc").glob("*") if path.is_file()}
    (result,) = perform(tree, step)
    assert result.outcome is Outcome.REJECTED and words in result.message
    assert {path: path.read_bytes() for path in (tree / "etc").glob("*") if path.is_file()} == before
    assert list((tree / "home").iterdir()) == []


def test_a_new_account_gets_what_login_defs_gives(tree: Path) -> None:
    (result,) = perform(tree, CreateAccount("gull", Role.ADMINISTRATOR, "Gerd Gull"))
    assert result == StepResult(Outcome.DONE, "uid 1003, home /home/gull, group sudo")
    assert lines(tree, "passwd")["gull"][1:] == ["x", "1003", "1004", "Gerd Gull", "/home/gull", "/bin/bash"]
    shadow = lines(tree, "shadow")["gull"]
    assert shadow[1].startswith("$y$") and shadow[2:] == ["0", "2", "90", "5", "", "", ""]
    assert lines(tree, "group")["sudo"][3] == lines(tree, "gshadow")["sudo"][3] == "warden,gull"
    home = tree / "home/gull"
    assert home.stat().st_mode & 0o777 == 0o750 and (home.stat().st_uid, home.stat().st_gid) == (1003, 1004)
    assert (home / ".profile").read_text() == "# hello\n"
    assert (home / ".link").is_symlink() and (home / ".link").lstat().st_uid == 1003
    assert (tree / "etc/shadow").stat().st_mode & 0o777 == 0o640, "modes stay"
    assert (tree / "etc/passwd").read_text().endswith("/bin/bash\n+@night\n"), "before the line that ends what is read"


def test_numbers_run_out_and_gaps_are_used(tree: Path) -> None:
    names = [f"gull{n}" for n in range(9)]
    results = perform(tree, *(CreateAccount(name, Role.STANDARD) for name in names))
    assert [r.outcome for r in results] == [Outcome.DONE] * 8 + [Outcome.REJECTED]
    assert "no number from 1000 to 1010 is free" in results[-1].message
    uids = [fields[2] for name, fields in lines(tree, "passwd").items() if len(fields) > 2]
    assert len(set(uids)) == len(uids)


def test_disabling_and_enabling_come_out_even(tree: Path) -> None:
    start = (tree / "etc/shadow").read_bytes()
    (done,) = perform(tree, SetEnabled("warden", False))
    assert lines(tree, "shadow")["warden"][1:] == [f"!{HASH}", "20000", "0", "99999", "7", "", "1", ""]
    assert "/home/warden" in done.message, "where the files are is said"
    (again,) = perform(tree, SetEnabled("warden", False))
    assert again.outcome is Outcome.UNCHANGED
    perform(tree, SetEnabled("warden", True))
    assert (tree / "etc/shadow").read_bytes() == start
    perform(tree, SetEnabled("root", False))
    assert (tree / "etc/shadow").read_bytes() == start, "root has no password to shut, and gets no end date"


def test_a_rename_reaches_every_file_that_names_the_account(tree: Path) -> None:
    (result,) = perform(tree, Rename("tern", "puffin"))
    assert "its home remains /home/tern" in result.message
    assert lines(tree, "passwd")["puffin"][2] == "1001"
    assert "puffin" in lines(tree, "shadow") and "tern" not in lines(tree, "shadow")
    assert lines(tree, "group")["ringers"][3] == "puffin,warden"
    assert lines(tree, "gshadow")["ringers"][2:] == ["warden", "puffin,warden"]
    assert lines(tree, "subuid")["puffin"] == ["puffin", "100000", "65536"]
    assert "# kept by the warden\n" in (tree / "etc/passwd").read_text()


def test_joining_twice_and_leaving_what_one_is_not_in_are_already_so(tree: Path) -> None:
    results = perform(
        tree, Join("tern", "ringers"), Leave("tern", "sudo"), Join("tern", "sudo"), Leave("tern", "ringers")
    )
    assert [r.outcome for r in results] == [Outcome.UNCHANGED, Outcome.UNCHANGED, Outcome.DONE, Outcome.DONE]
    assert lines(tree, "group")["sudo"][3] == "warden,tern"
    assert lines(tree, "group")["ringers"][3] == lines(tree, "gshadow")["ringers"][3] == "warden"


def test_a_home_that_is_there_already_is_no_ones(tree: Path) -> None:
    (tree / "home/gull").mkdir(parents=True)
    (result,) = perform(tree, CreateAccount("gull", Role.STANDARD))
    assert result.outcome is Outcome.REJECTED and "/home/gull already exists" in result.message
    (tree / "home/tara").symlink_to("/etc")
    (result,) = perform(tree, CreateAccount("tara", Role.STANDARD))
    assert result.outcome is Outcome.REJECTED


def test_without_gshadow_or_sudo_the_rest_goes_on(tree: Path) -> None:
    (tree / "etc/gshadow").unlink()
    (tree / "usr/bin/sudo").unlink()
    results = perform(tree, CreateAccount("gull", Role.ADMINISTRATOR), CreateAccount("ana", Role.STANDARD))
    assert [r.outcome for r in results] == [Outcome.REJECTED, Outcome.DONE]
    assert "install the package sudo" in results[0].message
    assert not (tree / "etc/gshadow").exists()
    left = {path.name for path in (tree / "etc").iterdir() if "lock" in path.name or "verrou" in path.name}
    assert left <= {".pwd.lock"}, "nothing lies about"


def test_a_new_password_is_a_fresh_hash(tree: Path) -> None:
    perform(tree, SetPassword("tern", must_change=False), SetPassword("warden", "blank", must_change=True))
    shadow = lines(tree, "shadow")
    assert shadow["tern"][1].startswith("$y$") and int(shadow["tern"][2]) > 20_000
    assert shadow["warden"][1:3] == ["", "0"]
    first = shadow["tern"][1]
    perform(tree, SetPassword("tern"))
    assert lines(tree, "shadow")["tern"][1] != first


def test_removing_takes_the_account_out_of_every_file(tree: Path) -> None:
    (result,) = perform(tree, Remove("tern", FilesChoice.DELETE))
    assert result == StepResult(Outcome.DONE, "it had no home")
    for name in ("passwd", "shadow", "group", "gshadow", "subuid"):
        assert "tern" not in (tree / "etc" / name).read_text(), name
    assert lines(tree, "group")["ringers"][3] == lines(tree, "gshadow")["ringers"][3] == "warden"
    assert "# kept by the warden\n" in (tree / "etc/passwd").read_text()
    (output,) = perform(tree, Remove("warden", FilesChoice.KEEP))
    assert output.outcome is Outcome.DONE
    assert lines(tree, "gshadow")["ringers"][2] == "", "nor is it left as the group's administrator"


def test_a_group_that_others_are_in_stays_when_its_account_goes(tree: Path) -> None:
    perform(tree, Join("warden", "tern"), Remove("tern", FilesChoice.KEEP))
    assert lines(tree, "group")["tern"][3] == "warden"


def test_marks_are_what_the_system_keeps_of_ages(tree: Path) -> None:
    def marked(**flags: bool) -> list[str]:
        perform(tree, SetFlags("warden", **flags))
        return lines(tree, "shadow")["warden"][2:5]

    assert marked(cannot_change=True, ageing_exempt=True) == ["20000", "99999", "99999"]
    snapshot = open_machine(str(tree)).observe()
    assert snapshot.by_name["warden"].cannot_change and not password_ages(snapshot.by_name["warden"], snapshot)
    assert marked(cannot_change=False, ageing_exempt=False) == ["20000", "2", "90"]
    assert marked(change_due=True) == ["0", "2", "90"]
    assert int(marked(change_due=False)[0]) > 20_000
    (again,) = perform(tree, SetFlags("warden", change_due=False))
    assert again.outcome is Outcome.UNCHANGED


def test_words_about_an_account_keep_the_others(tree: Path) -> None:
    (tree / "bin/zsh").touch()
    perform(tree, SetDetails("warden", ((Detail.NOTE, "has the keys"), (Detail.SHELL, "/bin/zsh"))))
    assert lines(tree, "passwd")["warden"][4:] == ["Wilma Warden,,,,has the keys", "/home/warden", "/bin/zsh"]
    perform(tree, SetDetails("warden", ((Detail.FULL_NAME, ""), (Detail.NOTE, ""))))
    assert lines(tree, "passwd")["warden"][4] == ",,,,"
    perform(tree, CreateAccount("gull", Role.STANDARD, "Gerd Gull", note="counts gulls"))
    shown = open_machine(str(tree)).observe().by_name["gull"]
    assert (shown.full_name, shown.note) == ("Gerd Gull", "counts gulls")


def test_the_live_system_shows_who_is_at_work() -> None:
    from verrou.machines.linux.accounts.removal import _at_work
    from verrou.machines.linux.root import Root

    assert _at_work(Root(Path("/")), "nobody-of-that-name", os.geteuid()).startswith("runs ")
    assert _at_work(Root(Path("/nowhere")), "nobody-of-that-name", os.geteuid()) == ""


@pytest.mark.parametrize("mark", [IMMUTABLE, APPEND_ONLY])
@pytest.mark.parametrize(("place", "named"), [("etc/shadow", "/etc/shadow"), ("etc", "the folder of /etc/shadow")])
def test_a_place_that_is_marked_unchangeable_is_reported_first(tree: Path, place: str, named: str, mark: int) -> None:
    machine = open_machine(str(tree))
    descriptor = os.open(tree / place, os.O_RDONLY)
    try:
        fcntl.ioctl(descriptor, SET_FLAGS, struct.pack("l", mark))
    except OSError:
        pytest.skip("this file system has no such marks")
    try:
        dry_run = dry_runs.do_dry_run(machine, machine.observe(), [SetEnabled("warden", False)], Secrets())
    finally:
        fcntl.ioctl(descriptor, SET_FLAGS, struct.pack("l", 0))
        os.close(descriptor)
    reasons = [*dry_run.blockers, *(result.message for _, result in dry_run.rejected)]
    assert f"{named} is marked as unchangeable; chattr -i -a it first" in reasons


def test_what_grants_is_applied_before_what_removes() -> None:
    """Account files in their own order, the stack that rests on them after them, removed files and homes last."""
    there, gone, folder = FileState(b"x"), FileState(None), FileState(None, 0o755, folder=True)
    changes = [
        ArchiveHome("/home/tern", 1001, "/a"),
        FileChange("/etc/verrou", gone, folder),
        MakeHome("/home/gull", 1002, 1002, 0o700, True),
        FileChange("/etc/security/access.conf", there, there),
        FileChange("/etc/passwd", there, there),
        FileChange("/etc/group", there, there),
        FileChange("/etc/pam.d/login", there, there),
        FileChange("/etc/cron.d/tern", there, gone),
        FileChange("/etc/old", folder, gone),
        UnmakeHome("/home/tern", 1001, 1001, 0o700, True),
    ]
    assert ordered(list(reversed(changes)), ["/etc/passwd", "/etc/group"]) == changes
