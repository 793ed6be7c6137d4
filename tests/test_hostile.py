"""What was found by mutated inputs and by hand: each gets one line or an answer, and nothing hangs."""

import errno
import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import datetime
from io import StringIO
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, titled, with_files, with_programs
from verrou.cli.baseline_files import load_baseline
from verrou.core.baselines.capture import captured
from verrou.core.errors import BadInput
from verrou.core.history.runs import Run
from verrou.core.judging.audit import audit, remarkable
from verrou.core.judging.comparison import compare
from verrou.core.judging.recording import record_of
from verrou.core.judging.rounds import row_of
from verrou.core.planning.change_plan import plan_changes
from verrou.core.surveys.data import snapshot_from, survey_data
from verrou.machines.bench.authority import Authority
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.linux.elevation.polkit_rules import Subject, answer, plain_rules
from verrou.machines.linux.files.authorized_keys import Keys, Owner
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.files.sshd import sshd_settings
from verrou.machines.linux.files.sudoers import Sudoers
from verrou.machines.linux.pam.stack import load_stack
from verrou.machines.linux.root import Root
from verrou.reports.finding_text import finding_text
from verrou.reports.tables import shown
from verrou.reports.terminal import Terminal, broken


@pytest.fixture
def small(tmp_path: Path) -> Root:
    for name in ("etc/pam.d/login", "etc/sudoers", "run/faillock/tern"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    return Root(with_programs(tmp_path))


@pytest.mark.parametrize(
    "text",
    [
        "@include /etc/sudoers\n" * 3,
        "@includedir /etc\n" * 200,
        "@include /etc/a\0b\n",
        f"@include /{'x' * 5000}\n",
        "".join(f"User_Alias A{n} = A{n + 1}, A{n + 1}\n" for n in range(24)) + "A0 ALL = ALL\n",
        "".join(f"Cmnd_Alias C{n} = C{n + 1}, !C{n + 1}\n" for n in range(24)) + "tern ALL = C0\n",
        f"{'tern, ' * 100_000}warden ALL = ALL\n",
        "tern ALL = \\\n" * 50_000,
    ],
)
def test_sudoers_that_would_go_on_for_ever(small: Root, text: str) -> None:
    from verrou.machines.linux.files.sudoers import Person

    (small.path / "etc/sudoers").write_text(text)
    found = Sudoers.load(Root(small.path))
    assert found.elevation(Person("gull", 1, ("gull",), (1,)), datetime.now()).everything is False


@pytest.mark.parametrize("include", ["login", "x" * 5000, "../../login", "/etc/pam.d/login"])
def test_pam_files_that_include_what_cannot_be(small: Root, include: str) -> None:
    (small.path / "etc/pam.d/login").write_text(f"@include {include}\nauth include {include}\n" * 3)
    stack = load_stack(Root(small.path), "login", "auth")
    assert stack.broken and not stack.lines


def chain(folder: Path) -> None:
    for n in range(30):
        below = f'[baseline]\nbuilds_on = ["{n + 1}.toml", "./{n + 1}.toml"]\n'
        (folder / f"{n}.toml").write_text(titled(below if n < 29 else "[password]\nmin_length = 8\n"))


BAD_BASELINES: list[tuple[Callable[[Path], object], int, str]] = [
    (chain, 0, "valid; 1 requirement"),
    (lambda folder: os.mkfifo(folder / "0.toml"), 2, "not an ordinary file"),
    (lambda folder: (folder / "0.toml").write_text(".".join("a" * 50_000) + " = 1\n"), 2, "more than 50 parts"),
    (lambda folder: (folder / "0.toml").write_text(f"[password]\nmin_length = {'9' * 5000}\n"), 2, "4300 digits"),
    (lambda folder: (folder / "0.toml").write_text(f"a = {'[' * 9000}\n"), 2, "nested too deeply"),
    (lambda folder: (folder / "0.toml").write_bytes(b"x" * 2_000_000), 2, "too large"),
]


@pytest.mark.parametrize(("lay", "code", "words"), BAD_BASELINES)
def test_baselines(verrou: Verrou, tmp_path: Path, lay: Callable[[Path], object], code: int, words: str) -> None:
    lay(tmp_path)
    output = verrou("baseline", "check", tmp_path / "0.toml", code=code)
    assert words in output.stdout + output.stderr


@given(st.text(" ab-\u00e9", max_size=200), st.integers(8, 40))
def test_lines_are_broken_and_nothing_is_lost(text: str, width: int) -> None:
    lines = broken(text, width, " " * (len(text) - len(text.lstrip())))
    assert all(len(line) <= width for line in lines)
    assert "".join("".join(lines).split()) == "".join(text.split())


@pytest.mark.parametrize(
    "change",
    [
        {"clock": "2026-14T08:30:00"},
        {"accounts": [True]},
        {"groups": {"id": 1}},
        {"groups": []},
        {"policy": {"age_max_days": 10**20}},
        {"policy": {"outside": 14}},
        {"policy": {"length": "6"}},
        {"policy": {"blank_by": "x"}},
        {"policy": "x"},
        {"language": "=en"},
        {"language": "x"},
        {"next": 10**13 + 1},
        {"clock": "2026-09-14T08:30:00+02:00"},
        {"clock": 5},
        {"bench": 20**5000},
    ],
)
def test_bench_files_of_wrong_types(bench: Path, verrou: Verrou, change: dict[str, object]) -> None:
    digits = "bench" in change
    kept = json.loads(bench.read_text()) | ({} if digits else change)
    text = json.dumps(kept)
    bench.write_text(text.replace('"bench": 2', f'"bench": {"9" * 5000}') if digits else text)
    output = verrou("survey", "-m", bench, code=2).stderr
    assert "not a bench machine file" in output and len(output) < 400 and "Error" not in output


@pytest.mark.parametrize("typed", [GOOD_PASSWORD.replace("t", "\0"), "\x1b[A" + GOOD_PASSWORD, "kT4-" * 200, ""])
def test_a_password_that_no_one_could_type_is_none(bench: Path, verrou: Verrou, typed: str) -> None:
    words = ("account", "password", "warden", "--password", "stdin", "--yes", "-m", bench)
    assert "nothing was changed" in verrou(*words, typed=f"{typed}\n", code=2).stderr


def test_pipes_are_not_waited_for(bench: Path, verrou: Verrou) -> None:
    """Where a journal, or what it kept, should be."""
    verrou("rule", "set", "-m", bench, "lockout.after=9", "--yes")
    records = bench.with_name("hide-01.verrou")
    for name, command in (("kept/0001/contents", ("undo", "--yes")), ("journal.jsonl", ("journal", "list"))):
        place = records / name
        place.unlink()
        os.mkfifo(place)
        assert "this is not an ordinary file" in verrou(*command, "-m", bench, code=2).stderr


def test_nothing_that_a_file_says_moves_the_cursor(tmp_path: Path, verrou: Verrou, station: Path) -> None:
    disk = tmp_path / "station/warden-03"
    strange, escaped = "permit\u202eroot\x9b31m", "permit\\u202eroot\\x9b31m"
    (disk / "etc/ssh/sshd_config").write_text(f"{strange} yes\n")
    output = verrou("access", "-m", disk).stdout
    assert strange not in output and escaped in output
    found = verrou("access", "-m", disk, "--format", "json").stdout
    assert strange not in found and strange in json.dumps(json.loads(found), ensure_ascii=False)
    printed = StringIO()
    Terminal(printed).print(strange)
    assert printed.getvalue() == f"{escaped}\n"


def _keys(root: Path) -> Keys:
    return Keys(Root(root), datetime(2026, 9, 14), lambda gid: ())


def test_a_home_that_is_no_home_and_an_include_of_itself(tmp_path: Path) -> None:
    """Finds of mutated inputs."""
    (tmp_path / "usr/sbin").mkdir(parents=True)
    (tmp_path / "usr/sbin/sshd").touch()
    (tmp_path / "etc/ssh").mkdir(parents=True)
    (tmp_path / "etc/ssh/sshd_config").write_text("Include /etc/ssh//*\nMatch //*\n" * 200)
    assert list(sshd_settings(Root(tmp_path), "permitrootlogin")) == []
    (tmp_path / "etc/ssh/sshd_config").write_text("AuthorizedKeysFile /\n")
    (tmp_path / "home/tern").mkdir(parents=True)
    assert _keys(tmp_path).accepted(Owner("tern", "/home/tern", 1000)) == ()
    (tmp_path / "etc/ssh/sshd_config").write_text("StrictModes no\n")
    deep = "a/" * 1500
    subprocess.run(["mkdir", "-p", deep], cwd=tmp_path / "home/tern", check=True)
    (tmp_path / "home/tern/.ssh").symlink_to(deep)
    try:
        (tmp_path / "home/tern" / deep / "authorized_keys").write_text("ssh-ed25519 AAAA tern\n")
        assert len(_keys(tmp_path).accepted(Owner("tern", "/home/tern", 0))) == 1, "nested by its user"
    finally:
        subprocess.run(["rm", "-rf", "a"], cwd=tmp_path / "home/tern", check=True)
    (rule,) = plain_rules("polkit.addRule(function(action, subject) { if (action.id == 'a\tb') { return 'no'; } });")
    assert answer([rule], "a\tb", Subject("tern", ())) == "no"


def refusing(error: Exception) -> Callable[..., int]:
    """What fails in this way, whatever it is given."""

    def fail(*_: object) -> int:
        raise error

    return fail


def test_keys_are_found_in_any_kind_of_home_and_none_is_overlooked(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Links are resolved as the system itself resolves them, never out of the root; what is not seen is no "none"."""
    root, outside = tmp_path / "root", tmp_path / "outside"
    (root / "usr/sbin").mkdir(parents=True)
    (root / "usr/sbin/sshd").touch()
    (root / "etc/ssh").mkdir(parents=True)
    (root / "etc/ssh/sshd_config").touch()
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYLVDhmzhi3YUgdXk0 x\n"
    for place in (root / "home/ana/.ssh", root / "srv/keys", root / "srv/bors/.ssh", outside / ".ssh"):
        place.mkdir(parents=True)
        (place / "authorized_keys").write_text(key)
    (root / "home/bors").symlink_to("/srv/bors")  # inside, as after a chroot
    links = {"tern": "/srv/keys", "gull": "../../srv/keys", "loop": ".ssh", "out": str(outside / ".ssh")}
    for name, keys in links.items():
        (root / "home" / name).mkdir()
        (root / "home" / name / ".ssh").symlink_to(keys)
    (root / "home/away").symlink_to(outside)
    (root / "home/file").write_text("no folder")
    (root / "home/shag/.ssh").mkdir(parents=True)
    with_keys = {"ana", "bors", "tern", "gull"}
    everyone = {*with_keys, "loop", "out", "away", "file", "shag", "nobody"}
    found = _keys(root)
    assert not list(found.own("/home/loop")), "what one user does to a home is no error"
    people = [Owner(name, f"/home/{name}", 1000) for name in everyone]
    assert {who.name for who in people if found.accepted(who)} == with_keys
    assert {who.name for who in people if _keys(root).accepted(who)} == with_keys, "alone too"
    mine = Root(root)
    with monkeypatch.context() as denied:  # who may not look into a home does not know that there is none
        denied.setattr("verrou.machines.linux.root.open_in_root", refusing(PermissionError(errno.EACCES, "denied")))
        assert not mine.lacks("/home/shag/.ssh") and not mine.exists("/home/shag/.ssh")
        assert mine.content("/home/shag/.ssh/authorized_keys") == b"" and mine.denied


@pytest.mark.parametrize("number", ["²", "9" * 5000, "٣٠", "-3", "1.5", ""], ids=ascii)
def test_a_number_that_no_one_can_mean_is_none(tmp_path: Path, verrou: Verrou, number: str) -> None:
    """In each place where the system's programs read one: no error, and no other number either."""
    modules = ("unix", "faillock", "succeed_if", "usertype", "access")
    lines = [f"[success={number} default=ignore] pam_unix.so", f"required pam_succeed_if.so uid >= {number}"]
    lines += ["required pam_faillock.so preauth", "required pam_usertype.so issystem", "required pam_access.so"]
    files = {
        "etc/passwd": f"root:x:0:0::/:/bin/sh\ntern:x:1000:1000::/:/bin/bash\nodd:x:{number}:{number}::/:/bin/sh\n",
        "etc/shadow": f"root:*:20000::::::\ntern:$5$a${'x' * 43}:{':'.join([number] * 6)}:\n",
        "etc/group": f"sudo:x:27:tern\nodd:x:{number}:\n",
        "etc/pam.d/login": "".join(f"{kind} {line}\n" for kind in ("auth", "account") for line in lines),
        "etc/login.defs": f"UID_MIN {number}\nSYS_UID_MAX {number}\nHOME_MODE {number}\nPASS_MAX_DAYS {number}\n",
        "etc/security/faillock.conf": f"deny = {number}\nunlock_time = {number}\n",
        "etc/security/access.conf": f"-:tern:10.0.0.0/{number}\n",
        "etc/sudoers": f"#{number} ALL=ALL\n%#{number} ALL=ALL\nDefaults timestamp_timeout={number}\n",
        "etc/doas.conf": f"permit {number} as {number}\npermit :{number}\n",
        "etc/sysctl.d/50.conf": f"kernel.sysrq = {number}\n",
        "etc/profile.d/idle.sh": f"TMOUT={number}\n",
        "etc/systemd/system/gauge.service": f"[Service]\nUser={number}\n",
        **{f"usr/lib/x86_64-linux-gnu/security/pam_{name}.so": "" for name in modules},
        **dict.fromkeys(("usr/bin/doas", "usr/lib/systemd/systemd", "usr/lib/polkit-1/polkitd"), ""),
    }
    root = with_programs(with_files(tmp_path / "station", files))
    (root / "usr/bin/doas").chmod(0o4755)
    for command in (("survey", "--all"), ("access", "--all")):
        verrou(*command, "-m", root)
    idle = verrou.json("rule", "show", "screen.locks_after", "-m", root)["screen.locks_after"]
    assert (idle["status"] == "read") is (number == "1.5"), "a shell reads what stands in front"
    assert digits("0" * 5000 + "5") == 5, "zeros in front count for nothing"


STRANGE = (
    *(None, True, 0, -1, 10**15, 10**40, 1.5, "", "x", "never", "P99999999D", "0001-01-01", "9999-12-31T23:59:59"),
    *("\0\x1b", [], {}, ["x"], [[]], {"number": 3}, {"word": "zzz"}, {"names": ["a"]}, {"duration": "P99999999D"}),
    *({"answer": "x"}, {"number": 10**30}, {"name": "keeper"}, {"title": "a"}, "2026-01-01T00:00:00+02:00", "everyone"),
    "guest",
)


def places(part: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The way to every value in plain data."""
    for key, value in part.items() if isinstance(part, dict) else enumerate(part) if isinstance(part, list) else ():
        yield (*path, key)
        yield from places(value, (*path, key))


WHOLE = json.dumps(survey_data(snapshot_of(Authority.fresh("hide-01", datetime(2026, 9, 14)), "x")))
PLACES = list(places(json.loads(WHOLE)))


@given(st.lists(st.tuples(st.sampled_from(PLACES), st.sampled_from(STRANGE)), min_size=1, max_size=3))
def test_a_survey_that_someone_changed_is_one_or_is_none(changes: list[tuple[tuple[Any, ...], Any]]) -> None:
    """What is taken as a survey can be held against a baseline, compared, captured and kept."""
    data = json.loads(WHOLE)
    for (*route, last), value in changes:
        part = data
        for key in route:
            with suppress(KeyError, IndexError, TypeError):  # an earlier change took it away
                part = part[key]
        with suppress(IndexError, TypeError):
            part[last] = value
    try:
        snapshot = snapshot_from(data)
    except BadInput as reason:
        assert "survey" in str(reason)
        return
    baseline, measure = load_baseline("shared-desk"), load_baseline("essential")
    found = audit(snapshot, baseline)
    row_of(found, snapshot, "", finding_text)
    plan_changes(snapshot, baseline, found)
    captured(snapshot, "x", remarkable(snapshot, measure), "essential", True)
    assert not compare(snapshot, snapshot).differing
    record = record_of(Run.SURVEY, snapshot, shown, key="k", at=datetime(2026, 9, 14), by="x", tool="y", found=found)
    assert all(text.isprintable() for text in (record.machine, *(account.name for account in record.accounts)))
    json.dumps(survey_data(snapshot), default=str)


def test_every_reader_of_the_search_for_hostile_input_is_there() -> None:
    """A few inputs each, so that the search works when somebody needs it."""
    search = Path(__file__).parent.parent / "benchmarks/fuzz.py"
    ended = subprocess.run([sys.executable, search, "3"], capture_output=True, text=True, check=False)
    assert ended.returncode == 0, ended.stdout + ended.stderr
