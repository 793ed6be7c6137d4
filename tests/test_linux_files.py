"""The parsers of Linux files: every byte they do not mean to change stays, and they read what the system reads."""

import ctypes
import itertools
import json
import os
import string
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, do
from debian_root import PrivateRoot
from verrou.core.errors import BadInput
from verrou.core.model import AccountName, Reading, RuleId, Status
from verrou.core.model.access import Credential, admitted
from verrou.core.model.routes import Route
from verrou.core.rules import CATALOGUE
from verrou.core.steps.step import RuleSetting, SetRules
from verrou.core.values import Notice, Value
from verrou.machines.linux.accounts.hashing import hashed
from verrou.machines.linux.accounts.population import AccountFiles
from verrou.machines.linux.files.account_files import (
    GROUP,
    PASSWD,
    AccountFile,
    GroupField,
    members_of,
    merge_lines,
)
from verrou.machines.linux.files.settings_files import settings, with_setting
from verrou.machines.linux.pam import quality
from verrou.machines.linux.pam.stack import CIRCLES, load_stack, with_argument
from verrou.machines.linux.root import Root, decode, encode
from verrou.machines.linux.rules import elevation, lockout, password
from verrou.machines.linux.rules.adapter import System
from verrou.machines.local_files import read_to_end
from verrou.machines.registry import open_machine


def lockout_readings(root: Root) -> dict[str, Reading]:
    system = System(root, AccountFiles.load(root), (), ())
    return {rule_id: adapter.read(system) for rule_id, adapter in lockout.ADAPTERS.items()}


ANY_LINES = st.lists(st.text(st.characters(exclude_characters="\n", exclude_categories=()), max_size=30), max_size=12)
NAMES = st.text(string.ascii_lowercase, min_size=1, max_size=6)


@given(st.binary(max_size=300))
def test_any_bytes_come_back(content: bytes) -> None:
    assert encode(AccountFile.parse(PASSWD, decode(content)).text()) == content


def test_of_two_records_with_one_name_the_first_is_read_and_changed() -> None:
    """As the C library looks a name up: the other is never found."""
    file = AccountFile.parse(GROUP, "ringers:x:1005:tern\nringers:x:1006:ana\n")
    file.change("ringers", {GroupField.MEMBERS: "tern,gull"})
    assert file.text() == "ringers:x:1005:tern,gull\nringers:x:1006:ana\n"


@given(ANY_LINES, NAMES, NAMES)
def test_adding_and_changing_touch_one_line(lines: list[str], name: str, other: str) -> None:
    text = "".join(line + "\n" for line in lines)
    file = AccountFile.parse(GROUP, text)
    file.add(name, "x", "1000", "")
    record = file.find(name)
    assert record is not None
    file.change(name, {GroupField.MEMBERS: other})
    left = file.text().split("\n")
    changed = left.pop(file.find(name).line - 1)  # type: ignore[union-attr]
    earlier = any(line.split(":")[0] == name and len(line.split(":")) == 4 for line in lines)
    assert changed.split(":")[0] == name and changed.endswith(f":{other}")
    if not earlier:
        assert left == text.split("\n")


@given(st.dictionaries(NAMES, NAMES, max_size=5), st.dictionaries(NAMES, NAMES, max_size=3), NAMES)
def test_merging_takes_back_ours_and_keeps_theirs(was: dict[str, str], ours: dict[str, str], new: str) -> None:
    def text(records: dict[str, str]) -> bytes:
        return "".join(f"{k}:{v}\n" for k, v in records.items()).encode()

    theirs = {**was, **ours, f"{new}9": "theirs"}
    merged, kept = merge_lines(text(was), text({**was, **ours}), text(theirs))
    assert merged == text({**was, f"{new}9": "theirs"})
    assert kept == []


@given(st.binary(max_size=80), st.lists(st.sampled_from([b"tern:1", b"tern:2", b"", b"# note", b"ana:1"]), max_size=8))
def test_merging_nothing_of_ours_changes_nothing_of_theirs(ours: bytes, lines: list[bytes]) -> None:
    for theirs in (b"\n".join(lines), b"\n".join(lines) + b"\n", ours):
        assert merge_lines(ours, ours, theirs) == (theirs, [])


def test_no_pipe_is_waited_for(tmp_path: Path) -> None:
    (tmp_path / "etc").mkdir()
    os.mkfifo(tmp_path / "etc/passwd")
    with pytest.raises(BadInput, match="not an ordinary file"):
        Root(tmp_path).text(PASSWD)


def test_lines_the_system_passes_over_are_found() -> None:
    text = "root:x:0:0:root:/root:/bin/sh\ntern:x:10\n:x:1:1::/:\nana:x:one:1::/:\n# note\n+nis\n"
    file = AccountFile.parse(PASSWD, text)
    assert [record.name for record in file.records()] == ["root"]
    assert [(broken.line, broken.what.split(",")[0]) for broken in file.broken()] == [
        (2, "3 fields; expected 7"),
        (3, "found an empty name"),
        (4, "a number field is not a number"),
    ]


@given(ANY_LINES, st.integers(0, 99))
def test_settings_change_one_line(lines: list[str], value: int) -> None:
    text = "".join(line + "\n" for line in lines)
    added = with_setting(text, "deny", str(value))
    assert added == text + f"deny = {value}\n"
    again = with_setting(added, "deny", "7", line=len(lines) + 1)
    assert again == text + "deny = 7\n"
    assert with_setting(again, "deny", None, line=len(lines) + 1) == text
    assert [s.value for s in settings("f", added.split("\n")) if s.key == "deny"][-1] == str(value)


SETTINGS = st.sampled_from(
    [
        *("minlen = 15", "minlen 9", "MinLen=3", "minclass=7", "minclass = 2", "minlen = 11 # long"),
        *("# minlen = 30", "", "dcredit = -1", "usercheck=0", "dictcheck = x", "minclas = 3", "enforce_for_root"),
        "badwords = gull tern",
    ]
)


@pytest.mark.real_root
@given(main=st.lists(SETTINGS, max_size=5), drop_in=st.lists(SETTINGS, max_size=3))
def test_pwquality_is_read_as_the_library_reads_it(root: PrivateRoot, main: list[str], drop_in: list[str]) -> None:
    root.write(quality.PWQUALITY_CONF, "\n".join(main) + "\n")
    root.write(f"{quality.PWQUALITY_FOLDER}/a.conf", "\n".join(drop_in) + "\n")
    ours = quality.quality_settings(Root(root.path), None)
    assert (ours.number("minlen"), ours.number("minclass"), ours.stopped_at is not None) == library_says(root)


def library_says(root: PrivateRoot) -> tuple[int, int, bool]:
    """libpwquality's own minlen and minclass, and whether it stopped reading; asked in a child inside the root."""
    reading, writing = os.pipe()
    if os.fork() == 0:
        os.chroot(root.path)
        library = ctypes.CDLL("libpwquality.so.1")
        library.pwquality_default_settings.restype = ctypes.c_void_p
        handle, detail = ctypes.c_void_p(library.pwquality_default_settings()), ctypes.c_void_p()
        stopped = library.pwquality_read_config(handle, None, ctypes.byref(detail)) != 0
        values = []
        for number in (3, 8):  # PWQ_SETTING_MIN_LENGTH and PWQ_SETTING_MIN_CLASS of pwquality.h
            value = ctypes.c_int()
            library.pwquality_get_int_value(handle, number, ctypes.byref(value))
            values.append(value.value)
        os.write(writing, json.dumps([*values, stopped]).encode())
        os._exit(0)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        length, classes, stopped = json.loads(stream.read())
    os.wait()
    return length, classes, stopped


def tree(folder: Path, **files: str) -> Root:
    for name, text in files.items():
        path = folder / name.replace("__", "/").replace("_DOT_", ".").replace("_DASH_", "-")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return Root(folder)


FAILLOCK_STACK = (
    "auth requisite pam_faillock.so preauth\n"
    "auth [success=1 default=ignore] pam_unix.so\n"
    "auth [default=die] pam_faillock.so authfail\n"
    "auth required pam_permit.so\n"
)
BOTH_ALIKE = FAILLOCK_STACK.replace("preauth", "preauth {0}").replace("authfail", "authfail {0}")
TWO_TIMES = BOTH_ALIKE.format("unlock_time=60") + "auth required pam_faillock.so authsucc unlock_time=900\n"


@pytest.mark.parametrize(
    ("stack", "conf", "after", "lasts", "force"),
    [
        (FAILLOCK_STACK, "deny = 4\nunlock_time = 60\n", 4, "1 minute", True),
        (FAILLOCK_STACK, "deny = 4\ndeny = 6\n", 6, "10 minutes", True),
        (FAILLOCK_STACK, "deny = many\nunlock_time = never\n", 3, "until-unlocked", True),
        (BOTH_ALIKE.format("deny=9 unlock_time=0"), "deny = 4\n", 9, "until-unlocked", True),
        (FAILLOCK_STACK.replace("authfail", "authfail deny=9"), "deny = 4\n", 4, "10 minutes", True),
        (TWO_TIMES, "deny = 4\n", 4, "15 minutes", True),
        (
            FAILLOCK_STACK.replace("auth requisite pam_faillock.so preauth\n", ""),
            "deny = 4\n",
            "never",
            "10 minutes",
            False,
        ),
        ("auth sufficient pam_permit.so\n" + FAILLOCK_STACK, "deny = 4\n", "never", "10 minutes", False),
        (FAILLOCK_STACK.replace("requisite", "optional"), "deny = 4\n", "never", "10 minutes", False),
        ("auth required pam_unix.so\n", "deny = 4\n", "never", "10 minutes", False),
    ],
)
def test_what_decides_the_lockout(
    tmp_path: Path, stack: str, conf: str, after: object, lasts: str, force: bool
) -> None:
    root = tree(
        tmp_path,
        etc__pam_DOT_d__login="@include common-auth\n",
        etc__pam_DOT_d__common_DASH_auth=stack,
        etc__security__faillock_DOT_conf=conf,
        usr__lib__security__pam_faillock_DOT_so="",
    )
    found = lockout_readings(root)
    assert found["lockout.after"].value == after
    message = found["lockout.lasts"].value
    assert message is not None and CATALOGUE["lockout.lasts"].kind.format(message) == lasts
    assert found["lockout.lasts"].enforced is force
    if not force:
        assert "faillock.conf:1 (deny = 4)" in str(found["lockout.after"].overrides[0]), "what was overridden is named"


def test_includes_in_a_circle_and_broken_lines_are_unreadable(tmp_path: Path) -> None:
    root = tree(
        tmp_path, etc__pam_DOT_d__login="@include login\nauth required\n", usr__lib__security__pam_faillock_DOT_so=""
    )
    assert lockout_readings(root)["lockout.after"].status is Status.UNKNOWN
    fatal = load_stack(root, "login", "auth").fatal
    assert fatal is not None and fatal.text == CIRCLES, "libpam breaks down over it, and does not allow sign-in"


@given(st.lists(st.sampled_from(["deny=3", "unlock_time=60", "silent", "[x=a b]"]), max_size=4), st.integers(1, 9))
def test_an_argument_is_set_once_and_the_rest_of_the_file_stays(arguments: list[str], deny: int) -> None:
    line = " ".join(["auth\trequired pam_faillock.so", *arguments])
    text = f"# above\n{line}\nauth required pam_deny.so\n"

    class OneFile(Root):
        def text(self, name: str) -> str | None:
            return text

        def exists(self, name: str) -> bool:
            return True

    first = load_stack(OneFile(Path("/nowhere")), "login", "auth").lines[0]
    changed = with_argument(text, first, "deny", str(deny)).split("\n")
    assert changed[0] == "# above" and changed[2:] == ["auth required pam_deny.so", ""]
    assert changed[1].count("deny=") == 1 and f"deny={deny}" in changed[1].split()


ODD_NAMES = st.sampled_from(["tern", "tern", " tern", "\ttern", "tern ", "te rn", "#tern", " #tern"])
ODD_NUMBERS = st.sampled_from(["1000", "1000", "0", "01000", "4294967295", "4294967296", "99999999999", "", "-1", "+1"])
ODD_NUMBERS |= st.sampled_from([" 1", "1 ", "0x10", "x", "\t7", "1.5", "1_0", "\u0661"])
TEXTS = st.sampled_from(["", "x", "a,b", "/bin/sh", " a, b,,c "])
COLUMNS = {
    "passwd": [ODD_NAMES, TEXTS, ODD_NUMBERS, ODD_NUMBERS, TEXTS, TEXTS, TEXTS, TEXTS],
    "group": [ODD_NAMES, TEXTS, ODD_NUMBERS, TEXTS, TEXTS],
    "shadow": [ODD_NAMES, TEXTS, *[ODD_NUMBERS | st.just("")] * 7, TEXTS],
}


@pytest.mark.real_root
@pytest.mark.parametrize("name", COLUMNS)
@given(data=st.data())
def test_account_lines_are_read_as_the_system_reads_them(root: PrivateRoot, name: str, data: st.DataObject) -> None:
    columns = COLUMNS[name]
    most = data.draw(st.integers(1, len(columns)) | st.just(len(columns) - 1))
    agree_on(root, name, ":".join(data.draw(column) for column in columns[:most]))


@pytest.mark.real_root
def test_ages_are_read_as_the_system_reads_them(root: PrivateRoot) -> None:
    """Each field with each odd number, the others plain: the largest is none to the system, but in the last field."""
    for place, number in itertools.product(range(2, 9), ("4294967295", "4294967296", "007", " 1", "+7", "-1", "x")):
        fields = ["tern", "*", "20000", "0", "90", "7", "14", "20900", "1"]
        fields[place] = number
        agree_on(root, "shadow", ":".join(fields))


def test_a_file_is_read_to_its_end_whatever_its_size_says(tmp_path: Path) -> None:
    content = bytes(range(256)) * 9000
    (tmp_path / "long").write_bytes(content)
    for size, most in itertools.product((0, 5, len(content), len(content) + 7), (None, 3, 2_000_000, 2**40)):
        descriptor = os.open(tmp_path / "long", os.O_RDONLY)
        assert read_to_end(descriptor, size, most) == content[:most], (size, most)
        os.close(descriptor)


def agree_on(root: PrivateRoot, name: str, line: str) -> None:
    """The system finds in one line of an account file what we find."""
    root.write(f"/etc/{name}", f"{line}\n")
    theirs = root.inside("getent", name).stdout.rstrip("\n")
    ours = [record.fields for record in AccountFile.parse(f"/etc/{name}", f"{line}\n").records()]
    if name == "group":
        ours = [(*fields[:3], ",".join(members_of(fields[3]))) for fields in ours]
    assert ":".join(ours[0] if ours else ()) == theirs


@pytest.mark.real_root
def test_a_hash_of_ours_is_taken_by_the_system(root: PrivateRoot) -> None:
    root.inside("useradd", "tern")
    root.inside("usermod", "-p", hashed(GOOD_PASSWORD), "tern")
    assert root.signs_in("tern", GOOD_PASSWORD)
    assert not root.signs_in("tern", GOOD_PASSWORD + "x")


def test_what_a_tree_of_files_holds_is_reported_whatever_was_made_of_it(tmp_path: Path) -> None:
    """No device is there that a link to /dev/null leads to; what was made of files once still rests on them."""
    (tmp_path / "conf.d").mkdir()
    (tmp_path / "conf.d/10.conf").symlink_to("/dev/null")
    (tmp_path / "conf.d/20.conf").symlink_to("/nowhere")
    (tmp_path / "conf.d/30.conf").write_text("x")
    root = Root(tmp_path)
    assert root.files_in("/conf.d") == ["10.conf", "30.conf"]
    for _ in range(2):
        root.asked.clear()
        assert root.made_once("x", lambda: root.text("/conf.d/30.conf")) == "x" and root.asked == {"/conf.d/30.conf"}
    (tmp_path / "conf.d/25.conf").write_text("another program's")
    root.write("/conf.d/30.conf", "y")
    assert root.files_in("/conf.d") == ["10.conf", "25.conf", "30.conf"], "a folder is listed anew after a change"
    root.remove("/conf.d/25.conf")
    assert root.names_in("/conf.d") == ["10.conf", "20.conf", "30.conf"]
    assert root.made_once("x", lambda: root.text("/conf.d/30.conf")) == "y"


@pytest.mark.real_root
def test_what_is_no_file_among_files_is_passed_over_as_by_the_programs(manned_root: PrivateRoot) -> None:
    """Folders, pipes, hidden names and links to nothing: the system's own programs say what counts."""
    root, refuses = manned_root, "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"
    for place in ("pam.d/old", "sudoers.d/old", "ssh/sshd_config.d/old.conf", "polkit-1/rules.d/old.rules"):
        (root.path / "etc" / place).mkdir(parents=True)
    os.mkfifo(root.path / "etc/sudoers.d/pipe")
    for place in ("sudoers.d/none", "issue"):
        (root.path / "etc" / place).unlink(missing_ok=True)
        (root.path / "etc" / place).symlink_to("/dev/null")
    root.write("/etc/pam.d/login", f"account required pam_access.so\n{root.read('/etc/pam.d/login')}")
    root.write("/etc/security/access.d/.old.conf", "-:ALL:ALL\n")
    root.write("/etc/ssh/sshd_config.d/.old.conf", refuses)
    root.write("/etc/profile.d/.old.sh", "TMOUT=60\n")
    root.inside("ssh-keygen", "-A")
    root.inside("mkdir", "-p", "/run/sshd")

    def output() -> tuple[list[Credential | None], Value | None, Value | None]:
        snapshot = open_machine(str(root.path)).observe()
        warden = snapshot.by_name[AccountName("warden")]
        readings = snapshot.readings
        routes = [
            admitted(warden, entry_point, snapshot)
            for entry_point in snapshot.entry_points
            if entry_point.route in (Route.CONSOLE, Route.REMOTE_SHELL)
        ]
        return routes, readings["screen.locks_after"].value, readings["screen.notice"].value

    assert root.signs_in("warden", GOOD_PASSWORD, "login")
    assert "passwordauthentication yes" in root.inside("/usr/sbin/sshd", "-T").stdout
    assert "(ALL : ALL) ALL" in root.inside("sudo", "-l", "-U", "warden").stdout
    assert root.inside("bash", "-lc", "echo $TMOUT").stdout == "\n"
    assert output() == ([Credential.PASSWORD, Credential.PASSWORD], "never", Notice())
    (root.path / "etc/ssh/sshd_config.d/gone.conf").symlink_to("/nowhere")
    assert root.inside("/usr/sbin/sshd", "-t").returncode, "it does not start"
    assert output()[0] == [Credential.PASSWORD, Credential.UNKNOWN]
    (root.path / "etc/ssh/sshd_config.d/gone.conf").unlink()
    root.write("/etc/ssh/more/a.conf", refuses)
    root.write("/etc/ssh/sshd_config", "Include /etc/ssh/[!s]*/*.conf\nUsePAM yes\nBanner /usr/lib/issue\n")
    assert "passwordauthentication no" in root.inside("/usr/sbin/sshd", "-T").stdout
    assert output()[0] == [Credential.PASSWORD, None]
    root.write("/etc/ssh/sshd_config", "Include /*/*/*/*/*/*.conf\nUsePAM yes\nBanner /usr/lib/issue\n")
    assert output()[0] == [Credential.PASSWORD, Credential.UNKNOWN], (
        "nobody waits for all of a system to be looked through"
    )
    root.write("/etc/issue.d/empty.issue", "")
    assert output()[2] == Notice(), "two empty files are no notice"
    (root.path / "etc/issue.d/empty.issue").unlink()
    (root.path / "etc/issue").unlink()
    root.write("/usr/lib/issue", "Cap Fauvel\n")
    assert output()[2] == Notice("", "Cap Fauvel")
    notice = RuleSetting(RuleId("screen.notice"), CATALOGUE[RuleId("screen.notice")].kind, Notice("", "hide"))
    done = do(open_machine(str(root.path)), SetRules((notice,)))
    assert [each.outcome for each in done] == ["done"] and output()[2] == Notice("", "hide")


@pytest.mark.parametrize(
    ("line", "checks"),
    [
        ("auth required pam_wheel.so", True),
        ("auth requisite pam_wheel.so group=sudo", True),
        ("auth sufficient pam_wheel.so trust", False),
        ("auth required pam_wheel.so deny group=guests", False),
    ],
)
def test_su_checks_the_user_first_only_where_a_line_must_let_them_through(
    tmp_path: Path, line: str, checks: bool
) -> None:
    assert elevation._wheel(tree(tmp_path, etc__pam_DOT_d__su=f"{line}\nauth required pam_unix.so\n")) is checks


def test_of_a_stack_without_the_module_no_password_is_remembered(tmp_path: Path) -> None:
    root = tree(tmp_path, etc__pam_DOT_d__passwd="password required pam_unix.so\n")
    found = password._history_of(root, load_stack(root, "passwd", "password"))
    assert found.value == 0 and "pam_pwhistory.so is not in" in found.reason
