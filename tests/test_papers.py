"""What can be read beside the program: the handbook, whose examples are run; the manual page; completion in shells."""

import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Verrou, forked
from verrou.cli.documentation import CHAPTERS
from verrou.core.rules.elevation import GIVES

TOP = Path(__file__).parent.parent
HANDBOOK = TOP / "docs/handbook"
EXAMPLE = re.compile(r"^\$ verrou (?P<words>.+)\n(?P<told>(?:(?!\$ ).*\n)*)", re.MULTILINE)


def examples(chapter: str) -> list[tuple[str, int, list[str]]]:
    """The commands of a chapter, how each ends, and what it says among other things."""
    found = []
    blocks = re.findall(r"^```console\n(.*?)^```$", (HANDBOOK / f"{chapter}.md").read_text(), re.DOTALL | re.MULTILINE)
    for block in blocks:
        for example in EXAMPLE.finditer(block):
            output = example["told"].splitlines()
            codes = [int(line[6:-1]) for line in output if line.startswith("(exit ")]
            found.append(
                (example["words"], codes[0] if codes else 0, [line for line in output if line[:6] != "(exit "])
            )
    assert len(found) == "\n".join(blocks).count("$ verrou"), "every example is of that form"
    return found


def plain(text: str) -> str:
    """A text as one line, since where lines break is the window's affair."""
    return " ".join(text.split())


@pytest.mark.parametrize("chapter", [chapter for chapter in CHAPTERS if chapter not in ("reference", "lab")])
def test_every_example_of_the_handbook_is_so(verrou: Verrou, tmp_path: Path, chapter: str, station: Path) -> None:
    told_of = examples(chapter)
    assert told_of
    for words, code, output in told_of:
        words, _, file = words.partition(" > ")
        ended = forked(shlex.split(words), "", tmp_path / "station")
        if file:
            (tmp_path / "station" / file).write_text(ended.stdout)
        message = plain(ended.stdout + ended.stderr)
        assert ended.returncode == code, f"{words}\n{ended.stdout}{ended.stderr}"
        for line in output:
            assert plain(line) in message, f"{words}\n{line}\n{ended.stdout}{ended.stderr}"


def test_the_chapters_are_those_of_the_program(verrou: Verrou) -> None:
    assert {path.stem for path in HANDBOOK.glob("*.md")} - {"README"} == set(CHAPTERS)
    listed = verrou("handbook").stdout.splitlines()
    assert [line.split()[2] for line in listed] == list(CHAPTERS)
    index = (HANDBOOK / "README.md").read_text()
    for chapter in CHAPTERS:
        assert verrou("handbook", chapter).stdout == (HANDBOOK / f"{chapter}.md").read_text()
        assert f"[{chapter}]({chapter}.md)" in index
    assert "Did you mean round" in verrou("handbook", "rounds", code=2).stderr


def test_the_manual_page_is_made_from_the_commands(verrou: Verrou) -> None:
    from verrou.cli.main import COMMANDS

    page = verrou("manual").stdout
    assert page == (TOP / "docs/verrou.1").read_text(), "verrou manual > docs/verrou.1"
    for name in COMMANDS:
        assert re.search(rf"^\.SS verrou {name}\b", page, re.MULTILINE), name
    if shutil.which("groff"):
        command = ["groff", "-man", "-Tascii", "-P-cbou"]
        read = subprocess.run(command, input=page, capture_output=True, text=True, check=True)
        assert "error:" not in read.stderr
        assert "verrou baseline capture" in read.stdout


def offered(shell: str, line: str, folder: Path) -> set[str]:
    """What a real shell offers at the end of a line."""
    program = f"{Path(sys.executable).parent}:/usr/bin:/bin"
    if shell == "fish":
        script = f"verrou completion fish | source; complete -C {shlex.quote(line)}"
        command = ["fish", "--no-config", "-c", script]
    else:
        script = f"source <(verrou completion bash); COMP_WORDS=({line}); COMP_CWORD=$((${{#COMP_WORDS[@]}}-1)); "
        script += '_verrou_completion verrou; printf "%s\\n" "${COMPREPLY[@]}"'
        command = ["bash", "--norc", "-c", script]
    ended = subprocess.run(
        command, cwd=folder, env={"PATH": program, "HOME": str(folder)}, capture_output=True, text=True, check=False
    )
    return {each.split("\t")[0] for each in ended.stdout.splitlines()}


@pytest.mark.parametrize("shell", ["bash", "fish"])
def test_shells_offer_commands_options_rules_accounts_and_baselines(
    shell: str, verrou: Verrou, tmp_path: Path, station: Path
) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed")
    for line, required in (
        ("verrou ac", {"access", "account"}),
        ("verrou account show -m hide-01.bench.json g", {"guillemot"}),
        ("verrou rule explain lockout.", {"lockout.after", "lockout.lasts", "lockout.forget_after", "lockout.exempts"}),
        ("verrou audit -b hide", {"hide-01.toml"}),
        ("verrou account show -m nowhere.bench.json g", set()),
    ):
        assert {each for each in offered(shell, line, station) if each} == required, line


def test_completion_is_what_each_shell_can_read(verrou: Verrou, tmp_path: Path) -> None:
    for shell in ("bash", "zsh", "fish"):
        script = verrou("completion", shell).stdout
        assert "_VERROU_COMPLETE" in script
        if shutil.which(shell):
            (tmp_path / shell).write_text(script)
            checked = subprocess.run([shell, "-n", str(tmp_path / shell)], capture_output=True, text=True, check=False)
            assert checked.returncode == 0, checked.stderr
    assert "expected one of bash, zsh, fish" in verrou("completion", "tcsh", code=2).stderr


def completed(words: str, typed: str) -> set[str]:
    """What is offered behind the words, without a shell."""
    from click.shell_completion import ShellComplete

    from verrou.cli.main import cli

    found = ShellComplete(cli, {}, "verrou", "_VERROU_COMPLETE").get_completions(words.split(), typed)
    return {each.value for each in found}


def test_values_groups_routes_and_families_are_offered(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    machine = f"{tmp_path}/station/ringing-02.bench.json"
    assert completed("rule set", "elevation.builtin=") == {
        f"elevation.builtin={word}" for word in (*GIVES.options, *(f"{row}=" for row in (*GIVES.rows, "all")))
    }
    assert completed("rule set", "elevation.builtin=approval,unsigned=d") == {
        "elevation.builtin=approval,unsigned=denied"
    }
    assert completed("rule set", "password.may") == {"password.may_contain_name="}
    assert completed("rule set", "password.may_contain_name=") == {
        f"password.may_contain_name={w}" for w in ("yes", "no")
    }
    assert completed("rule set", "lockout.after=") == {"lockout.after=never"}
    assert completed("rule set", "population.unlist") == set(), "what follows from the accounts is not set"
    assert completed(f"group join -m {machine}", "ring") == {"ringers"}
    assert completed(f"group join -m {machine} ringers", "f") == {"fulmar"}
    assert completed(f"why -m {machine} ana", "remote-s") == {"remote-screen", "remote-shell"}
    assert completed("harden --only", "lo") == {"lockout", "logon"}
    assert completed("compare", "bef") == {"before"}
    assert completed("audit -m", f"{tmp_path}/station/hide") == {f"{tmp_path}/station/hide-01.bench.json"}
    assert completed("round -b", "off") == {"office"} and completed("handbook", "le") == {"leaving"}


def test_names_that_would_do_something_in_a_shell_are_not_offered(verrou: Verrou, bench: Path) -> None:
    bench.write_text(bench.read_text().replace('"warden"', '"war\\u001b[2Jden"'))
    assert "keeper" in completed(f"account show -m {bench}", "") and not completed(f"account show -m {bench}", "war")
    bench.write_text("{}")
    assert completed(f"account show -m {bench}", "") == set()


def test_what_the_readme_calls_is_there(verrou: Verrou) -> None:
    readme = (TOP / "README.md").read_text()
    called = {tuple(line.split("#")[0].split()) for line in readme.splitlines() if line.startswith("verrou ")}
    assert len(called) > 15
    for words in called:
        command = words[1:3] if words[1] in ("account", "baseline", "journal", "machine") else words[1:2]
        shown = verrou(*command, "--help").stdout
        assert shown.startswith(f"Usage: verrou {' '.join(command)} [OPTIONS]")
        for option in (word for word in words if word.startswith("-")):
            assert re.search(rf"(^|\W){option}\b", shown), (words, option)


def test_what_an_extra_would_do_says_which(verrou: Verrou, bench: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Without Matplotlib and SQLAlchemy, as on the stick."""
    for name in ("matplotlib", "sqlalchemy"):
        monkeypatch.setitem(sys.modules, name, None)
    for name in [each for each in sys.modules if each.startswith(("verrou.records.logbook.store", "matplotlib."))]:
        monkeypatch.delitem(sys.modules, name)
    kept = verrou("audit", "-m", bench, "-b", "office", "--log", code=1)
    assert "1 record stored in" in kept.stderr and "pip install 'verrou[logbook]'" in kept.stderr
    assert "pip install 'verrou[logbook]'" in verrou("trend", code=2).stderr
    page = verrou("report", "-m", bench, "-b", "office", "--no-tests", "--format", "html", code=1).stdout
    assert "No picture" in page and "verrou[report]" in page
