"""What somebody meets first: names that are found, errors of one form, questions, and terminals of every kind."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, Verrou
from verrou.core import errors
from verrou.core.rules import CATALOGUE


def test_a_new_machine_has_an_owner_who_can_sign_in_and_administers(verrou: Verrou, tmp_path: Path) -> None:
    made = ("machine", "new", "desk-01.json", "--owner", "ana", "--password", "stdin")
    verrou(*made, typed=f"{GOOD_PASSWORD}\n")
    assert [path.name for path in tmp_path.iterdir()] == ["desk-01.bench.json"]
    verrou("account", "test", "ana", "-m", "desk-01", "--password", "stdin", typed=f"{GOOD_PASSWORD}\n")
    verrou("account", "add", "tern", "-m", "desk-01", "--yes", "--password", "generate")
    assert "already exists" in verrou("machine", "new", "desk-01", "--bare", code=2).stderr
    verrou("machine", "new", "desk-02", "--bare")
    assert "0 of 3 accounts can sign in" in verrou("survey", "-m", "desk-02").stdout


def test_a_survey_is_found_kept_and_never_changed(verrou: Verrou, bench: Path, tmp_path: Path) -> None:
    verrou("survey", "-m", "hide-01", "--save", "monday")
    saved = (tmp_path / "monday.survey.json").read_bytes()
    output = verrou("survey", "-m", "hide-01", "--save", "monday.json", code=2).stderr
    assert "already exists" in output and (tmp_path / "monday.survey.json").read_bytes() == saved
    refused = verrou("account", "disable", "warden", "-m", "monday", "--yes", code=4)
    assert "read-only" in refused.stderr and not refused.stdout, "refused before a worksheet is shown"
    assert (
        "disable account warden" in verrou("account", "disable", "warden", "-m", "monday", "--preview", code=3).stdout
    )
    verrou("survey", "-m", bench, "--save", "hide-01")
    assert "Give one of them" in verrou("survey", "-m", "hide-01", code=2).stderr


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (["acount"], "no command 'acount'. Did you mean account?"),
        (["account", "lst"], "no command 'lst'. Did you mean list?"),
        (["survey", "--frob"], "no such option '--frob'"),
        (["account", "add"], "missing argument 'NAME'"),
        (["account", "list", "--state", "lockd"], "--state: invalid value 'lockd'; expected one of duplicate-id, "),
        (["survey", "--format", "xml"], "--format: invalid value 'xml'; expected one of text, json, csv"),
        (["rule", "set", "lockout=5"], "lockout is a family"),
        (["rule", "set", "population.hint=forbidden"], "'population.hint'. population.hints depends on the accounts"),
        (["rule", "set", "population.hints=forbidden"], "To change it: verrou account change NAME --no-hint"),
        (["rule", "set", "lockout.lasts=0"], 'expected a duration of 1 minute to 365 days, with its unit, or "until-'),
        (["account", "disable", "warden", "--until", "2020-01-01"], "is before today"),
        (["-m", "x"], "no such option '-m'"),
        (["machine", "new", ""], "expected the name of a new file"),
        (["machine", "new", "a\nb"], "expected the name of a new file"),
        (["survey", "-m", "hide-01", "--save", "."], "invalid value '.'; expected the name of a new file"),
    ],
)
def test_every_error_is_a_line_of_one_form(verrou: Verrou, bench: Path, words: list[str], message: str) -> None:
    at = ["-m", str(bench)] if words[0] in ("rule", "account") and words[-1] != "add" and len(words) > 2 else []
    output = verrou(*words, *at, code=2)
    assert output.stderr.startswith("verrou: ") and message in output.stderr and output.stderr.count("\n") == 1
    assert "lasts=0" not in words[-1] or "Did you mean" not in output.stderr, "what is proposed would be accepted"


def started(folder: Path, words: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """The program by a shell, so that its streams can be closed."""
    command = f"{sys.executable} -m verrou {words}"
    kept = {**os.environ, **environment}
    return subprocess.run(
        ["sh", "-c", command], cwd=folder, capture_output=True, text=True, errors="replace", env=kept, check=False
    )


@pytest.mark.parametrize(
    ("words", "code"),
    [
        ("survey -m hide-01 >&-", 0),
        ("survey -m hide-01 --format json >&-", 0),
        ("survey -m nowhere 2>&-", 2),
        ("account disable warden -m hide-01 <&-", 6),
        ("account add tern -m hide-01 --yes <&-", 2),
        ("rule set password.remember=3 -m hide-01 <&-", 6),
        ("survey -m hide-01 <&- >&- 2>&-", 0),
    ],
)
def test_closed_streams_are_empty_ones(bench: Path, words: str, code: int) -> None:
    ended = started(bench.parent, words)
    assert "Traceback" not in ended.stderr and ended.returncode == code, ended.stderr


def test_a_terminal_that_is_not_utf8_gets_plainer_signs(bench: Path, verrou: Verrou) -> None:
    verrou("account", "change", "warden", "--full-name", "Wilma Wärden – №1", "-m", bench, "--yes")
    for words in (
        "harden -b essential -m hide-01 --preview",
        "account show warden -m hide-01",
        "survey -m hide-01 --format json",
    ):
        ended = started(bench.parent, words, PYTHONIOENCODING="cp437", PYTHONUTF8="0")
        assert ended.returncode in (0, 3) and "Traceback" not in ended.stderr and ended.stdout
    shown = started(bench.parent, "harden -b essential -m hide-01 --preview", PYTHONIOENCODING="ascii").stdout
    assert "->" in shown and shown.isascii()


def test_the_papers_show_the_exit_codes() -> None:
    handbook = (Path(__file__).parent.parent / "docs/handbook/reference.md").read_text().partition("## Exit codes")[2]
    codes = {cls.exit_code for cls in vars(errors).values() if isinstance(cls, type) and hasattr(cls, "exit_code")}
    assert codes == {2, 3, 4, 5, 6}
    for code in codes:
        assert f"{code} " in handbook.partition("## ")[0]


def test_a_command_is_named_for_what_is_no_setting(verrou: Verrou, bench: Path) -> None:
    for rule in CATALOGUE.values():
        if rule.derived is not None:
            word = rule.derived.by.split()
            help_text = verrou(*word[1:3], "--help").stdout
            assert all(option in help_text for option in word if option.startswith("--")), rule.id
