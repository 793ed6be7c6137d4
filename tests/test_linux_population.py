"""Who can sign in on Linux, as PAM sees it; what each account amounts to; where its facts come from."""

import ctypes
import json
import os
import sqlite3
import struct
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from datetime import date, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import examples, with_files, with_programs
from debian_root import PrivateRoot
from verrou.core.model import Account, Origin, PasswordState, Reading, Role, Snapshot, Status
from verrou.core.model.access import can_sign_in, known_role, needs_a_look, role_of
from verrou.core.model.ageing import expired, must_change
from verrou.core.model.known import Known
from verrou.core.model.states import states_of
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.rules.population import unused
from verrou.machines.linux.accounts.hashing import hashed
from verrou.machines.linux.files.password_hashes import UNKNOWN, scheme_of
from verrou.machines.linux.files.sign_ins import (
    LASTLOG,
    LASTLOG2,
    LASTLOG_RECORD,
    SEED,
    SIGNED_IN,
    SYSTEM_STARTED,
    UTMP_RECORD,
    WTMP,
    WTMPDB,
)
from verrou.machines.linux.machine import LinuxMachine
from verrou.machines.linux.pam.faillock import TALLY, moved_back, valid_times
from verrou.machines.linux.root import Root

PASSWORD = "kittiwake-Cliff-42"
HASH = hashed(PASSWORD)
TODAY = (date.today() - date(1970, 1, 1)).days
DAYS = st.sampled_from(["", "0", "1", "30", "99999", "-1", str(TODAY - 40), str(TODAY - 1), str(TODAY), str(TODAY + 9)])
LIMITS = st.sampled_from(["", "0", "1", "20", "60", "99999", "-1"])


def account(snapshot: Snapshot, name: str) -> Account:
    return snapshot.by_name[name]


@pytest.mark.real_root
@examples(50)
@given(
    secret=st.sampled_from([HASH, HASH, HASH, f"!{HASH}", "*", "!", "", "NP", "*LK*", HASH[:-1]]),
    changed=DAYS,
    maximum=LIMITS,
    inactive=LIMITS,
    expires=DAYS,
)
@example(secret=HASH, changed=str(TODAY - 40), maximum="20", inactive="20", expires="")
@example(secret=HASH, changed=str(TODAY - 40), maximum="20", inactive="19", expires="")
@example(secret=HASH, changed=str(TODAY - 40), maximum="40", inactive="0", expires="")
@example(secret=HASH, changed=str(TODAY - 40), maximum="39", inactive="0", expires="")
@example(secret=HASH, changed="1", maximum="99999", inactive="", expires=str(TODAY))
@example(secret=HASH, changed="1", maximum="99999", inactive="", expires=str(TODAY + 1))
def test_who_can_sign_in_is_whom_pam_lets_in(
    root: PrivateRoot, secret: str, changed: str, maximum: str, inactive: str, expires: str
) -> None:
    """Every state of a shadow line: PAM authenticates and checks the account, and our reading of the line agrees."""
    passwd = root.read("/etc/passwd").partition("tern:")[0] + "tern:x:1200:100:Tara:/home/tern:/bin/bash\n"
    shadow = root.read("/etc/shadow").partition("tern:")[0]
    root.write("/etc/pam.d/judge", "auth required pam_unix.so nodelay nullok\naccount required pam_unix.so\n")
    root.write("/etc/passwd", passwd)
    root.write("/etc/shadow", f"{shadow}tern:{secret}:{changed}:0:{maximum}:7:{inactive}:{expires}:\n")
    snapshot = LinuxMachine(root.path, "").observe()
    tern = account(snapshot, "tern")
    authenticated = root.inside("pamtester", "judge", "tern", "authenticate", typed=f"{PASSWORD}\n").returncode == 0
    checked = root.inside("pamtester", "judge", "tern", "acct_mgmt")
    asked_first = "new password is required" in checked.stderr.lower() or "no longer valid" in checked.stderr.lower()
    allows = checked.returncode == 0
    today = date.today()
    blank = secret == ""
    if "-1" in (changed, maximum, inactive, expires):
        assert tern.password is PasswordState.NONE and not authenticated and not allows
        return
    assert (tern.password is PasswordState.BLANK) is blank
    assert (tern.password is PasswordState.SET) is (secret.endswith(HASH))
    assert (tern.password is PasswordState.SET and not secret.startswith("!")) is (authenticated and not blank)
    open_ = not expired(tern, snapshot, today) and tern.enabled
    if tern.password is PasswordState.SET and not secret.startswith("!"):
        assert (open_ and not must_change(tern, snapshot, today)) is allows, (checked.stderr, tern)
        if open_ and must_change(tern, snapshot, today):
            assert asked_first
    assert can_sign_in(tern, snapshot, today) is (open_ and tern.password is not PasswordState.NONE)


@pytest.mark.real_root
def test_links_lead_where_they_lead_inside(root: PrivateRoot) -> None:
    """Each link of a hostile tree: read as the system itself would resolve it, and never outside."""
    (root.path / "etc/deep/er").mkdir(parents=True)
    root.write("/etc/deep/er/file", "found")
    links = {
        "/etc/a": "deep/er/file",
        "/etc/b": "/etc/deep/er/file",
        "/etc/c": "../../../../../etc/deep/er/file",
        "/etc/d": "deep/./er/../er/file",
        "/etc/e": "f/er/file",
        "/etc/f": "/etc/deep",
        "/etc/deep/g": "../../etc/f/er",
        "/etc/h": "deep/g/file",
        "/etc/nowhere": "/nonexistent/x",
    }
    for name, target in links.items():
        (root.path / name.lstrip("/")).symlink_to(target)
    ours = Root(root.path)
    for name in links:
        judge = root.inside("readlink", "-m", name).stdout.strip()
        assert ours.place(name) == root.path / judge.lstrip("/"), name
        if not (root.path / judge.lstrip("/")).is_dir():
            assert ours.text(name) == (None if "nonexistent" in judge else "found")


def test_links_in_a_circle_are_reported(tmp_path: Path) -> None:
    from verrou.core.errors import BadInput

    (tmp_path / "a").symlink_to("b")
    (tmp_path / "b").symlink_to("a")
    with pytest.raises(BadInput, match="go in circles"):
        Root(tmp_path).place("/a")


@pytest.fixture
def small(tmp_path: Path) -> Path:
    """A tree with just what a survey cannot do without."""
    for name, text in {
        "etc/passwd": "root:x:0:0::/root:/bin/bash\n",
        "etc/shadow": "root:*:20000::::::\n",
        "etc/group": "root:x:0:\n",
    }.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text)
    return tmp_path


SHAPED = "$y$j9T$station$" + "h" * 43


def add(small: Path, passwd: str, shadow: str = "", group: str = "") -> Snapshot:
    for name, text in {"passwd": passwd, "shadow": shadow, "group": group}.items():
        with open(small / "etc" / name, "a") as file:
            file.write(text.replace("$y$x", SHAPED))
    return LinuxMachine(small, "").observe()


@pytest.mark.parametrize(
    ("passwd", "shadow", "group", "role", "origin"),
    [
        ("tern:x:1000:1000::/:/bin/sh", "tern:$y$x:1::::::", "", Role.STANDARD, Origin.ADDED),
        ("tern:x:1000:1000::/:/bin/sh", "tern:$y$x:1::::::", "sudo:x:27:tern", Role.ADMINISTRATOR, Origin.ADDED),
        ("tern:x:1000:27::/:/bin/sh", "tern:$y$x:1::::::", "sudo:x:27:", Role.ADMINISTRATOR, Origin.ADDED),
        ("skua:x:0:0::/:/bin/sh", "skua:$y$x:1::::::", "", Role.ADMINISTRATOR, Origin.ADDED),
        ("lamp:x:33:33::/:/bin/sh", "lamp:*:1::::::", "", Role.SYSTEM, Origin.SYSTEM),
        ("gauge:x:998:998::/:/bin/sh", "gauge:$y$x:1::::::", "", Role.SERVICE, Origin.SERVICE),
        ("far:x:61200:61200::/:/bin/sh", "far:*:1::::::", "", Role.SERVICE, Origin.SERVICE),
    ],
)
def test_roles_come_from_where_an_account_stands(
    small: Path, passwd: str, shadow: str, group: str, role: Role, origin: Origin
) -> None:
    with_programs(small)
    (small / "etc/sudoers").write_text("%sudo ALL=(ALL:ALL) ALL\n")
    snapshot = add(small, passwd + "\n", shadow + "\n", group + "\n")
    found = account(snapshot, passwd.split(":")[0])
    assert (role_of(found, snapshot), found.origin) == (role, origin)
    plumbing_that_cannot = origin in (Origin.SYSTEM, Origin.SERVICE) and ":*:" in shadow
    assert needs_a_look(found, snapshot) is not plumbing_that_cannot


def test_without_the_program_sudo_a_sudoers_file_gives_nothing(small: Path) -> None:
    (small / "etc/sudoers").write_text("tern ALL=(ALL) ALL\n")
    snapshot = add(small, "tern:x:1000:1000::/:/bin/sh\n", "tern:$y$x:1::::::\n")
    assert role_of(account(snapshot, "tern"), snapshot) is Role.STANDARD


def test_two_of_one_name_and_two_of_one_identity(small: Path) -> None:
    lines = "tern:x:1000:1000:first:/:/bin/sh\ntern:x:1001:1000:second:/:/bin/sh\nana:x:1000:1000::/:/bin/sh\n"
    group = "ringers:x:1000:tern,tern\nlate:x:1000:tern\n"
    snapshot = add(small, lines, "tern:$y$x:1::::::\nana:$y$x:1::::::\n", group)
    assert account(snapshot, "tern").full_name == "first"
    assert any("two accounts are called tern" in trouble for trouble in snapshot.warnings)
    assert "same ID as tern" in states_of(account(snapshot, "ana"), snapshot).values()
    members = {group.name: group.members for group in snapshot.groups}
    assert members["ringers"] == ("tern", "ana") and members["late"] == ("tern",), "each once"
    assert account(snapshot, "tern").groups == ("ringers", "late")


@pytest.mark.parametrize(
    ("least", "longest", "fixed"), [(0, 90, False), (91, 90, True), (99999, "", True), ("", 90, False)]
)
def test_who_can_never_change_a_password(small: Path, least: object, longest: object, fixed: bool) -> None:
    snapshot = add(small, "tern:x:1000:1000::/:/bin/sh\n", f"tern:$y$x:20000:{least}:{longest}:7:::\n")
    assert account(snapshot, "tern").cannot_change is fixed


@pytest.mark.parametrize(
    ("config", "file", "links", "keys"),
    [
        ("", "home/tern/.ssh/authorized_keys", {}, 1),
        ("", "home/tern/.ssh/authorized_keys2", {}, 1),
        ("", "home/tern/.ssh/other", {}, 0),
        ("", "home/tern/.ssh", {}, 0),
        ("", "srv/keys/authorized_keys", {"home/tern/.ssh": "/srv/keys"}, 1),
        ("", "usr/.ssh/authorized_keys", {"home/tern": "/usr"}, 1),
        ("", "srv/one", {"home/tern/.ssh/authorized_keys": "/srv/one"}, 1),
        ("AuthorizedKeysFile .keys", "home/tern/.keys", {}, 1),
        ("AuthorizedKeysFile /etc/keys/%u", "etc/keys/tern", {}, 1),
    ],
)
def test_keys_are_found_where_the_server_looks(
    small: Path, config: str, file: str, links: dict[str, str], keys: int
) -> None:
    """A link leads where it leads inside, whatever is there on the computer that looks."""
    text = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYLVDhmzhi3YUgdXk0 tern\n"
    with_programs(small)
    with_files(small, {"usr/sbin/sshd": "", "etc/ssh/sshd_config": f"{config}\n", "home/ana/x": "", file: text})
    for name, target in links.items():
        (small / name).parent.mkdir(parents=True, exist_ok=True)
        (small / name).symlink_to(target)
    snapshot = add(small, "tern:x:1000:1000::/home/tern:/bin/sh\n", "tern:$y$x:1::::::\n")
    assert account(snapshot, "tern").keys == keys


def test_hostile_names_and_lines_are_read_and_shown_without_harm(small: Path) -> None:
    name = "x" * 10_000
    lines = f"{name}:x:1000:1000:\x1b[2J\u202e,,,:/:/bin/sh\n\udcff\udcfe:x:1002:1002::/:/bin/sh\n"
    with open(small / "etc/passwd", "a", encoding="utf-8", errors="surrogateescape") as file:
        file.write(lines)
    snapshot = add(small, "", "", f"big:x:50:{','.join(f'm{n}' for n in range(150_000))}\n")
    assert account(snapshot, name).full_name == "\x1b[2J\u202e"
    big = snapshot.group("big")
    assert big is not None and len(big.members) == 150_000


@pytest.mark.parametrize(
    ("stored", "scheme"),
    [
        (SHAPED, "yescrypt"),
        ("!$6$salt$" + "h" * 86, "sha512"),
        ("$2b$05$" + "h" * 53, "bcrypt"),
        ("$1$salt$" + "h" * 22, "md5"),
        ("abJnggxhB/yWI", "des"),
        ("$zz$salt$hash", ""),
        ("x", ""),
        ("NP", ""),
        ("*LK*", ""),
        ("$y$j9T$salt$hash", ""),
        ("$6$rounds=1000$salt$" + "h" * 85, ""),
        ("*", ""),
        ("!", ""),
        ("!!", ""),
        ("", ""),
    ],
)
def test_how_a_password_is_stored(stored: str, scheme: str) -> None:
    assert scheme_of(stored) == scheme


@pytest.mark.parametrize(
    "prefix", ["$y$", "$gy$", "$7$", "$2b$", "$2y$", "$6$", "$5$", "$sha1$", "$md5", "$1$", "$3$", ""]
)
def test_what_libcrypt_makes_is_a_hash(prefix: str) -> None:
    library = ctypes.CDLL("libcrypt.so.1")
    library.crypt_gensalt.restype = library.crypt.restype = ctypes.c_char_p
    setting = library.crypt_gensalt(prefix.encode(), ctypes.c_ulong(0), None, 0)
    for word in (b"", b"kittiwake"):
        made = library.crypt(word, setting)
        assert made and scheme_of(made.decode()) not in ("", UNKNOWN), made
        assert not scheme_of(made.decode()[:-1]) or prefix == "", "one sign short matches nothing"


def test_a_new_password_is_hashed_as_strongly_as_libcrypt_does_by_default() -> None:
    """Asked of an interpreter of its own: in this one it is made quicker."""
    program = "from verrou.machines.linux.accounts.hashing import hashed; print(hashed('kittiwake'))"
    ours = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout
    library = ctypes.CDLL("libcrypt.so.1")
    library.crypt_gensalt.restype = ctypes.c_char_p
    usual = library.crypt_gensalt(b"$y$", ctypes.c_ulong(0), None, 0).decode()
    assert ours.split("$")[:3] == usual.split("$")[:3]


def test_the_last_sign_in_stands_in_a_sparse_file(small: Path) -> None:
    when = datetime(2026, 9, 14, 8, 30)
    (small / "var/log").mkdir(parents=True)
    with open(small / "var/log/lastlog", "wb") as file:
        file.seek(1000 * LASTLOG_RECORD.size)
        file.write(LASTLOG_RECORD.pack(int(when.timestamp()), b"tty1", b""))
        file.truncate(5_000_000_000)
    snapshot = add(small, "tern:x:1000:1000::/:/bin/sh\nana:x:4000000000:1000::/:/bin/sh\n", "tern:$y$x:1::::::\n")
    assert account(snapshot, "tern").last_sign_in == when
    assert account(snapshot, "ana").last_sign_in is None


def lastlog(file: Path, when: int) -> None:
    file.write_bytes(bytes(1000 * LASTLOG_RECORD.size) + LASTLOG_RECORD.pack(when, b"tty1", b""))


def wtmp(file: Path, when: int) -> None:
    def record(kind: int, user: bytes, moment: int) -> bytes:
        return UTMP_RECORD.pack(kind, 1, b"tty1", b"", user, b"", 0, 0, 0, moment, 0, b"", b"")

    file.write_bytes(record(SYSTEM_STARTED, b"reboot", when - 9) + record(SIGNED_IN, b"tern", when) + b"torn")


def lastlog2(file: Path, when: int) -> None:
    with closing(sqlite3.connect(file)) as database, database:
        database.execute("CREATE TABLE Lastlog2 (Name TEXT PRIMARY KEY, Time INTEGER)")
        database.execute("INSERT INTO Lastlog2 VALUES ('tern', ?)", (when,))


def wtmpdb(file: Path, when: int) -> None:
    with closing(sqlite3.connect(file)) as database, database:
        database.execute("PRAGMA journal_mode=WAL")
        database.execute("CREATE TABLE wtmp (ID INTEGER PRIMARY KEY, Type INTEGER, User TEXT, Login INTEGER)")
        rows = ((1, "reboot", (when - 9) * 10**6), (3, "tern", when * 10**6), (3, None, "noise"))
        database.executemany("INSERT INTO wtmp (Type, User, Login) VALUES (?, ?, ?)", rows)


@pytest.mark.parametrize(("name", "write"), [(LASTLOG, lastlog), (WTMP, wtmp), (LASTLOG2, lastlog2), (WTMPDB, wtmpdb)])
def test_whichever_record_of_sign_ins_the_system_writes(small: Path, name: str, write: Callable[..., None]) -> None:
    when = datetime(2026, 9, 14, 8, 30)
    file = small / name.lstrip("/")
    file.parent.mkdir(parents=True)
    seed = small / SEED.lstrip("/")
    seed.parent.mkdir(parents=True)
    people = ("tern:x:1000:1000::/:/bin/sh\nana:x:1001:1000::/:/bin/sh\n", "tern:$y$x:1::::::\nana:$y$x:1::::::\n")
    rule = CATALOGUE["population.unused_for"]

    def unused_for(snapshot: Snapshot) -> Reading:
        return reading_of(rule, snapshot)

    assert "not recorded" in unused_for(add(small, *people)).reason
    write(file, int(when.timestamp()))
    snapshot = LinuxMachine(small, "x").observe()
    assert account(snapshot, "tern").last_sign_in == when
    assert snapshot.machine.sign_ins_since == when.date() and unused_for(snapshot).status is Status.READ
    assert not unused(snapshot, datetime.now() - when + timedelta(days=1)), "ana may have signed in before that"
    seed.touch()
    os.utime(file, (when.timestamp(), when.timestamp()))
    snapshot = LinuxMachine(small, "x").observe()
    assert unused_for(snapshot).status is Status.UNKNOWN and unused(snapshot, timedelta(days=1)) == []
    file.write_bytes(b"noise" * 999)
    assert unused_for(LinuxMachine(small, "x").observe()).status is not Status.NOT_APPLICABLE


RECORD = st.tuples(st.binary(max_size=52), st.integers(0, 9), st.integers(0, 7), st.integers(0, 2**33))


@given(st.lists(RECORD, max_size=5), st.binary(max_size=63), st.integers(0, 10**6))
def test_moving_tries_back_moves_only_their_time(
    records: list[tuple[bytes, int, int, int]], torn: bytes, seconds: int
) -> None:
    tally = b"".join(TALLY.pack(*record) for record in records) + torn
    moved = moved_back(tally, timedelta(seconds=seconds))
    assert len(moved) == len(tally) and moved.endswith(torn)
    for (source, reserved, status, when), after in zip(
        records, struct.iter_unpack("<52sHHQ", moved[: 64 * len(records)]), strict=True
    ):
        assert after == (source.ljust(52, b"\0"), reserved, status, max(0, when - seconds))
    assert valid_times(moved) == [max(0, w - seconds) for _, _, status, w in records if status & 1]


@given(st.sampled_from(["deny", "unlock_time"]), st.text(max_size=8))
def test_any_setting_text_is_a_value(key: str, text: str) -> None:
    from verrou.machines.linux.pam.faillock import value_of

    value = value_of(key, text)
    assert value in ("never", "until-unlocked") or isinstance(value, int | timedelta)


@pytest.mark.real_root
def test_who_is_not_root_sees_what_can_be_read_and_no_guess(manned_root: PrivateRoot) -> None:
    manned_root.inside("chmod", "0640", "/etc/shadow", "/etc/sudoers")
    manned_root.write("/etc/rc.local", "#!/bin/sh\n")
    manned_root.inside("chmod", "0700", "/etc/rc.local")
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.chroot(manned_root.path)
            os.chdir("/")
            os.setgroups([])
            os.setgid(65534)
            os.setuid(65534)
            seen = LinuxMachine(Path("/"), "this").observe()
            output = {rule.id: str(reading_of(rule, seen).status) for rule in CATALOGUE.values()}
            tern = seen.by_name["warden"]
            known = known_role(tern, seen) is not Known.UNKNOWN
            output |= {"": f"{tern.password} {known} {' '.join(seen.machine.unread)} {seen.warnings}"}
        except BaseException as error:
            output = {"": repr(error)}
        os.write(writing, json.dumps(output).encode())
        os._exit(0)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        output = json.loads(stream.read())
    os.waitpid(child, 0)
    about = output.pop("")
    assert about.startswith("unknown False passwords administration") and "run as root" in about
    unread = {rule for rule, status in output.items() if status == "unknown"}
    assert {"password.storage", "password.max_age", "population.administrators", "population.unlisted"} <= unread
    assert not {rule for rule in unread if rule.startswith("lockout.")} and "password.min_length" not in unread


@pytest.mark.parametrize(("services", "message"), [("files", "means nothing here"), ("compat", "of another computer")])
def test_lines_that_bring_accounts_in_from_elsewhere_are_explained(
    manned_root: PrivateRoot, services: str, message: str
) -> None:
    manned_root.write("/etc/nsswitch.conf", f"passwd: {services} # x\ngroup: files\n")
    manned_root.write("/etc/passwd", manned_root.read("/etc/passwd") + "+@ringers::::::\n")
    warnings = LinuxMachine(manned_root.path, "x").observe().warnings
    assert any("'+@ringers'" in line and message in line for line in warnings), warnings
