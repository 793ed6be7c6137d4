"""What can be read beside the program: the handbook, whose examples are run; the manual page; completion in shells."""

import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Verrou, forked
from verrou.cli.papers import CHAPTERS

TOP = Path(__file__).parent.parent
HANDBOOK = TOP / "docs/handbook"
EXAMPLE = re.compile(r"^\$ verrou (?P<words>.+)\n(?P<told>(?:(?!\$ ).*\n)*)", re.MULTILINE)


def examples(chapter: str) -> list[tuple[str, int, list[str]]]:
    """The commands of a chapter, how each ends, and what it says among other things."""
    found = []
    blocks = re.findall(r"^```console\n(.*?)^```$", (HANDBOOK / f"{chapter}.md").read_text(), re.DOTALL | re.MULTILINE)
    for block in blocks:
        for example in EXAMPLE.finditer(block):
            told = example["told"].splitlines()
            codes = [int(line[6:-1]) for line in told if line.startswith("(exit ")]
            found.append((example["words"], codes[0] if codes else 0, [line for line in told if line[:6] != "(exit "]))
    assert len(found) == "\n".join(blocks).count("$ verrou"), "every example is of that form"
    return found


def plain(text: str) -> str:
    """A text as one line, since where lines break is the window's affair."""
    return " ".join(text.split())


@pytest.mark.parametrize("chapter", [chapter for chapter in CHAPTERS if chapter != "reference"])
def test_every_example_of_the_handbook_is_so(verrou: Verrou, tmp_path: Path, chapter: str) -> None:
    verrou("demo", "station", "--quiet")
    told_of = examples(chapter)
    assert told_of
    for words, code, told in told_of:
        ended = forked(shlex.split(words), "", tmp_path / "station")
        said = plain(ended.stdout + ended.stderr)
        assert ended.returncode == code, f"{words}\n{ended.stdout}{ended.stderr}"
        for line in told:
            assert plain(line) in said, f"{words}\n{line}\n{ended.stdout}{ended.stderr}"


def test_the_chapters_are_those_of_the_program(verrou: Verrou) -> None:
    assert {path.stem for path in HANDBOOK.glob("*.md")} - {"README"} == set(CHAPTERS)
    listed = verrou("handbook").stdout.splitlines()
    assert [line.split()[2] for line in listed] == list(CHAPTERS)
    index = (HANDBOOK / "README.md").read_text()
    for chapter in CHAPTERS:
        assert verrou("handbook", chapter).stdout == (HANDBOOK / f"{chapter}.md").read_text()
        assert f"[{chapter}]({chapter}.md)" in index
    assert "did you mean round" in verrou("handbook", "rounds", code=2).stderr


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
def test_shells_offer_commands_options_rules_accounts_and_baselines(shell: str, verrou: Verrou, tmp_path: Path) -> None:
    if shutil.which(shell) is None:
        pytest.skip(f"{shell} is not installed")
    verrou("demo", "station", "--quiet")
    station = tmp_path / "station"
    for line, wanted in (
        ("verrou ac", {"access", "account"}),
        ("verrou account show -m hide-01.bench.json g", {"guillemot"}),
        ("verrou audit --base", {"--baseline"}),
        ("verrou rule explain lockout.", {"lockout.after", "lockout.lasts", "lockout.forget_after", "lockout.exempts"}),
        ("verrou audit -b pub", {"public-terminal"}),
        ("verrou audit -b hide", {"hide-01.toml"}),
        ("verrou account show -m nowhere.bench.json g", set()),
    ):
        assert {each for each in offered(shell, line, station) if each} == wanted, line


def test_completion_is_what_each_shell_can_read(verrou: Verrou, tmp_path: Path) -> None:
    for shell in ("bash", "zsh", "fish"):
        script = verrou("completion", shell).stdout
        assert "_VERROU_COMPLETE" in script
        if shutil.which(shell):
            (tmp_path / shell).write_text(script)
            checked = subprocess.run([shell, "-n", str(tmp_path / shell)], capture_output=True, text=True, check=False)
            assert checked.returncode == 0, checked.stderr
    assert "accepted: bash, zsh, fish" in verrou("completion", "tcsh", code=2).stderr
