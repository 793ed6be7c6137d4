"""The built program as a person meets it: the demo, the formats, hostile input, exit codes."""

import inspect
import json
import re
import shlex
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import click
import pytest

from conftest import Verrou, forked
from verrou.cli.main import cli
from verrou.core import advice
from verrou.core.rules import CATALOGUE
from verrou.core.surveys.data import snapshot_from, survey_data
from verrou.machines.registry import open_machine


def test_the_demo_walks_the_whole_job(verrou: Verrou, tmp_path: Path) -> None:
    output = verrou("demo", "cap").stdout
    for line in ("$ verrou audit", "$ verrou harden", "$ verrou sit", "Tests: 82 passed.", "What to try next"):
        assert line in output
    assert "\nfailed" not in output
    following = [line.split()[1:] for line in output.splitlines() if line.startswith("  verrou ")]
    assert len(following) >= 5
    expected = dict.fromkeys(("survey", "show", "explain", "undo", "swap", "why", "signin", "report", "sit", "new"), 0)
    expected |= {"harden": 1, "check": 2, "remove": 3, "round": 1, "trend": 1, "compare": 1}
    for arguments in following:
        code = next(expected[word] for word in arguments if word in expected)
        ended = forked([*arguments, *(["--yes"] if "undo" in arguments else [])], "", tmp_path / "cap")
        assert ended.returncode == code and "Traceback" not in ended.stderr, (arguments, ended.stderr)
    verrou("demo", "cap", code=2)


def test_the_sample_root_shows_what_decides(verrou: Verrou, station: Path) -> None:
    ended = verrou("survey", "-m", "station/warden-03", "--format", "json")
    survey = json.loads(ended.stdout)
    readings = survey["readings"]
    assert readings["lockout.after"]["value"] == {"word": "never"}
    assert readings["lockout.after"]["overrides"][0]["text"] == "deny = 5"
    assert "reads no further" in readings["password.classes"]["reason"]
    assert readings["password.min_length"]["overrides"][0]["place"].endswith("10-station.conf")
    states = {account["name"]: (account["role"], account["states"]) for account in survey["accounts"]}
    assert states["skua"] == ("administrator", ["duplicate-id", "ageing-exempt"])
    assert states["ringer"][0] == "administrator" and "blank" in states["ringer"][1]
    assert "expired" in states["guillemot"][1]
    assert "tern" not in states and "/etc/passwd:12" in ended.stderr
    assert "season.2026" in ended.stderr


@pytest.mark.parametrize("others", [False, True])
def test_a_command_ends_at_once_but_for_other_threads(others: bool) -> None:
    """What was registered for the end is called, and the exit code is kept; objects are not taken apart one by one."""
    thread = "threading.Thread(target=lambda: (threading.main_thread().join(), print('thread'))).start()\n"
    program = (
        "import atexit, sys, threading\n"
        "class Object:\n    def __del__(self): print('object')\n"
        "kept = Object()\n"
        "atexit.register(print, 'handler')\n"
        f"{thread if others else ''}"
        "sys.argv = ['verrou', 'nothing']\n"
        "from verrou.__main__ import main\nmain()\n"
    )
    ended = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=False)
    assert ended.returncode == 2 and "nothing" in ended.stderr
    assert ended.stdout.split() == (["thread", "handler", "object"] if others else ["handler"])


def test_a_survey_file_is_a_machine_to_look_at(verrou: Verrou, bench: Path, tmp_path: Path) -> None:
    verrou("survey", "-m", bench, "--save", "monday")
    snapshot = open_machine(str(bench)).observe()
    assert snapshot_from(json.loads(json.dumps(survey_data(snapshot)))) == snapshot
    for style in ("text", "json", "csv"):
        arguments = ("audit", "-b", "shared-desk", "--format", style)
        live, saved = (verrou(*arguments, "-m", m, code=1).stdout for m in (bench, "monday.survey.json"))
        assert live == saved
    output = verrou("account", "disable", "warden", "-m", "monday.survey.json", "--yes", code=4).stderr
    assert "read-only" in output
    (tmp_path / "monday.survey.json").write_text('{"format": "verrou survey 3", "machine": 3}')
    assert "damaged" in verrou("audit", "-b", "essential", "-m", "monday.survey.json", code=2).stderr
    (tmp_path / "monday.survey.json").write_text('{"format": "verrou survey 1", "machine": 3}')
    assert "saved by Verrou 0.1" in verrou("audit", "-b", "essential", "-m", "monday.survey.json", code=2).stderr


def test_nothing_hostile_reaches_the_screen_or_a_spreadsheet(verrou: Verrou, bench: Path, tmp_path: Path) -> None:
    machine = json.loads(bench.read_text())
    for account, name in zip(machine["accounts"], ("a\x1b[2Jb", "=1+1", "x\u202ey", "[red]z"), strict=True):
        account["name"] = name
    bench.write_text(json.dumps(machine))
    text = verrou("account", "list", "-m", bench, "--all").stdout
    assert "\x1b" not in text and "\u202e" not in text
    assert "a\\x1b[2Jb" in text and "x\\u202ey" in text and "[red]z" in text
    machine["name"] = "hide\x1b]0;x\x07"
    bench.write_text(json.dumps(machine))
    (tmp_path / "evil.toml").write_text('[baseline]\ntitle = "a\\u001b[2Jb"\n[password]\nmin_length = 1\n')
    (tmp_path / "worse.toml").write_text('["a\\u001b[2Jb"]\nx = 1\n')
    for arguments in (
        ("survey", "-m", bench),
        ("audit", "-m", bench, "-b", "evil.toml"),
        ("harden", "-m", bench, "-b", "evil.toml", "--preview"),
        ("baseline", "check", "worse.toml"),
        ("account", "show", "a\x1b[2Jb", "-m", bench),
        ("account", "show", "\x1b[2J", "-m", bench),
        ("group", "join", "\x1b[2J", "warden", "-m", bench),
    ):
        output = verrou(*arguments, code=None)
        assert "\x1b" not in output.stdout + output.stderr and "\x07" not in output.stdout + output.stderr, arguments
    assert ",'=1+1," in verrou("account", "list", "-m", bench, "--format", "csv").stdout


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("adit",), "Did you mean audit?"),
        (("survey", "-m", "nowhere"), "no machine 'nowhere'"),
        (("survey", "-m", "."), "a folder without etc/passwd"),
        (("audit", "-m", "BENCH", "-b", "shared-dsk"), "Did you mean shared-desk?"),
        (("rule", "explain", "lockout.aftr"), "Did you mean lockout.after?"),
        (("rule", "set", "lockout.after=0", "-m", "BENCH"), 'expected a whole number from 1 to 1000, or "never"'),
        (("rule", "set", "lockout.lasts=45", "-m", "BENCH"), "Did you mean '45 minutes'?"),
        (("rule", "set", "population.administrators=1", "-m", "BENCH"), "depends on the accounts"),
        (("account", "disable", "wardn", "-m", "BENCH"), "Did you mean warden?"),
        (("account", "add", "a/b", "-m", "BENCH"), "expected 1 to 26 characters"),
        (("account", "add", "users", "-m", "BENCH"), "hide-01 already has a group users"),
        (("group", "join", "admins", "warden", "-m", "BENCH"), "has no group 'admins'"),
        (("harden", "-b", "essential", "-m", "BENCH", "--only", "lockut"), "expected one of accounts, builtin"),
        (("undo", "-m", "BENCH"), "the journal has nothing"),
        (("survey", "-m", "BENCH", "-m", "BENCH"), "Give -m once"),
        (("audit", "-m", "BENCH"), "-b essential"),
        (("rule", "set", "password.min_length=80", "-m", "BENCH"), "this machine accepts 72 characters or less"),
    ],
)
def test_wrong_use_gets_one_line_and_changes_nothing(
    verrou: Verrou, bench: Path, arguments: tuple[str, ...], words: str
) -> None:
    start = bench.read_bytes()
    output = verrou(*[str(bench) if a == "BENCH" else a for a in arguments], code=2).stderr
    assert words in " ".join(output.split())
    assert bench.read_bytes() == start


@pytest.mark.parametrize("content", [b"", b"{}", b"[" * 9999, b'{"bench": 1}', b"\xff\xfe", b'{"bench": 2}'])
def test_a_damaged_bench_file_is_reported(verrou: Verrou, bench: Path, content: bytes) -> None:
    bench.write_bytes(content)
    output = verrou("survey", "-m", bench, code=2).stderr
    assert "not a bench machine file" in output and len(output.splitlines()) == 1


def test_every_rule_is_explained_and_shown(verrou: Verrou, bench: Path) -> None:
    output = verrou("rule", "explain", *CATALOGUE).stdout
    for rule in CATALOGUE.values():
        assert rule.id in output
    assert output.count("A plain value means") == len(CATALOGUE)
    shown = verrou.json("rule", "show", "-m", bench)
    assert list(shown) == list(CATALOGUE)
    listed = verrou.json("rule", "list")
    assert [row["rule"] for row in listed] == list(CATALOGUE)


def test_a_survey_shows_what_is_weak_and_folds_the_rest(verrou: Verrou, station: Path) -> None:
    first = verrou("survey", "-m", "station/hide-01.bench.json").stdout
    every = verrou("survey", "-m", "station/hide-01.bench.json", "--all").stdout
    assert "password.min_length" in first and "password.warn_before" not in first and "use --all to show them" in first
    assert all(rule_id in every for rule_id in CATALOGUE)
    assert not [line for line in (first + every).splitlines() if line.endswith(" ")]


def test_the_architecture_names_what_is_there() -> None:
    top = Path(__file__).parent.parent
    text = (top / "docs/architecture.md").read_text()
    named = {word for word in re.findall(r"`([\w./]+)`", text) if "/" in word} - {"src/verrou/"}
    assert len(named) > 20
    assert not [word for word in named if not (top / "src/verrou" / word).exists()]
    for word in ("ABSENT", "derived", "gaps", "SERVICES", "open_machine", "TrialAccount", "set_rules"):
        code = subprocess.run(["grep", "-rqw", word, str(top / "src/verrou")], check=False)
        assert f"`{word}`" in text and code.returncode == 0, word


def test_the_handbook_shows_what_the_program_does() -> None:
    """Its guards and which may be overridden, its commands, its words for outcomes and for what broke off."""
    from verrou.cli.main import COMMANDS
    from verrou.core.judging.guards import GUARDS
    from verrou.machines.changes import Outcome
    from verrou.machines.linux.accounts.homes import ARCHIVES
    from verrou.machines.linux.files.closed_accounts import ENDS_KEPT
    from verrou.records.machine_lock import PATIENCE

    handbook = (Path(__file__).parent.parent / "docs/handbook/reference.md").read_text()
    for guard in GUARDS:
        assert f"| `{guard.name}`{' (may)' if guard.may_be_accepted else ''} | {guard.sentence}" in handbook, guard.name
    readme = (Path(__file__).parent.parent / "README.md").read_text()
    for name in COMMANDS:
        assert f"`verrou {name}" in handbook + readme or f"verrou {name}" in readme or f"| `{name}" in handbook, name
    assert ", ".join(map(str, Outcome)) in handbook and f"up to {PATIENCE:.0f}" in handbook
    assert ENDS_KEPT in handbook and ARCHIVES in handbook


def test_every_command_line_in_advice_can_be_typed(bench: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each is taken apart as if it had been typed; what it would do is not done."""
    monkeypatch.setenv("VERROU_MACHINE", str(bench))
    given = {"name": "ana b", "until": "2027-03-31", "entry": 1, "machine": str(bench), "assignment": "lockout.after=5"}
    makers = [each for name, each in vars(advice).items() if inspect.isfunction(each) and name != "command"]
    assert len(makers) > 20
    for make in makers:
        words = {name: given.get(name, "tern") for name in inspect.signature(make).parameters}
        for line in (make(**words), *([make()] if all(p.default is not p.empty for p in _parameters(make)) else [])):
            _, *typed = shlex.split(line)
            found: click.Command = cli
            context = click.Context(cli, info_name="verrou")
            while isinstance(found, click.Group):
                _, found, typed = found.resolve_command(context, typed)
            if "NAME" not in line and "DAY" not in line and "=VALUE" not in line and found.name != "audit":
                found.make_context(found.name, list(typed), parent=context)
            assert not {word for word in typed if word.startswith("--")} - {
                o for p in found.params for o in (*p.opts, *p.secondary_opts)
            }


def _parameters(make: Callable[..., str]) -> list[inspect.Parameter]:
    return list(inspect.signature(make).parameters.values())
