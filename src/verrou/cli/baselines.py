"""verrou baseline: what ships, what a baseline asks for once it is put together, and whether a file is sound."""

import sys
from pathlib import Path

import click

from verrou.cli import completing
from verrou.cli.command_group import CommandGroup
from verrou.cli.look import MEASURE
from verrou.cli.options import (
    OneOf,
    fetch_baseline,
    format_option,
    load_baseline,
    looked_at,
    machine_option,
    print_facts,
    shipped_baselines,
    write_new,
)
from verrou.core.errors import BadInput
from verrou.core.questions import QUESTIONS
from verrou.machines import Machine


@click.group(cls=CommandGroup)
def baseline() -> None:
    """Baselines: what a machine should be."""


@baseline.command("list")
@format_option
def list_baselines(style: str) -> None:
    """The baselines that ship."""
    from verrou.reports.baselines import BaselineLine
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet

    rows: list[BaselineLine] = []
    for name in shipped_baselines():
        loaded = load_baseline(name)
        rows.append({"baseline": name, "title": loaded.title, "rules": len(loaded.demands)})
    columns = columns_of(("baseline", "baseline"), ("title", "title"), ("rules", "rules"), whole=("baseline",))
    sheet = Sheet("baselines", columns, tuple(dict(row) for row in rows))
    print_facts(style, sheet, rows, lambda: print_sheet(console(), sheet))


@baseline.command("show")
@click.argument("name", shell_complete=completing.baselines)
@format_option
def show(name: str, style: str) -> None:
    """Everything a baseline asks for, what it builds on included, with the reason and the place of each."""
    from verrou.reports.baselines import baseline_data, baseline_sheet
    from verrou.reports.sheets import console, print_sheet, shown

    data = baseline_data(load_baseline(name))
    sheet = baseline_sheet(data)

    def text() -> None:
        out = console()
        out.print(shown(data["title"]))
        out.print()
        print_sheet(out, sheet)

    print_facts(style, sheet, data, text)


@baseline.command("capture")
@machine_option
@click.option("--title", help="The title of the baseline.")
@click.option("--accounts", "people", is_flag=True, help="Take accounts and groups along.")
@click.option("--save", type=click.Path(path_type=Path), help="Write it to a new file.")
def capture(machine: Machine, title: str | None, people: bool, save: Path | None) -> None:
    """A baseline from a machine as it stands, with what is weak marked: audited against it, the machine holds."""
    from verrou.core.audit import remarkable
    from verrou.core.capture import captured

    posture = looked_at(machine)
    weak = remarkable(posture, load_baseline(MEASURE))
    text = captured(posture, title or f"{posture.machine.name} as it stands", weak, MEASURE, people)
    _tell_or_save(text, save)


@baseline.command("new")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--title", help="The title of the baseline.")
@click.option("--used-by", type=OneOf(list(QUESTIONS["used_by"].answers)), help=QUESTIONS["used_by"].asks)
@click.option("--watched", type=OneOf(list(QUESTIONS["watched"].answers)), help=QUESTIONS["watched"].asks)
@click.option("--shared-by", type=OneOf(list(QUESTIONS["shared_by"].answers)), help=QUESTIONS["shared_by"].asks)
@click.option("--administrator", "administrators", multiple=True, help="Who may administer, and nobody else.")
def new(file: Path, title: str | None, administrators: tuple[str, ...], **given: str | None) -> None:
    """Ask a few questions about a computer, and write a baseline to FILE that builds on one that ships."""
    from verrou.core.baseline import read_baseline
    from verrou.core.questions import written

    answers = {name: answer or _asked(name) for name, answer in given.items()}
    base = load_baseline(QUESTIONS["used_by"].answers[answers["used_by"]].builds_on)
    file = file.with_suffix(".toml")
    text = written(title or file.stem, answers, administrators, base)
    read_baseline(text, str(file), fetch_baseline)  # what is no name of an account is said before anything is written
    _tell_or_save(text, file)


def _asked(name: str) -> str:
    """The answer to a question, from whoever sits there."""
    question = QUESTIONS[name]
    if not sys.stdin.isatty():
        option = f"--{name.replace('_', '-')}"
        raise BadInput(f"{question.asks} There is no terminal to answer at; say {option} {'|'.join(question.answers)}")
    click.echo(question.asks)
    for word, answer in question.answers.items():
        click.echo(f"  {word:<10} {answer.words}")
    chosen: str = click.prompt("Which", type=click.Choice(list(question.answers)), show_choices=False)
    return chosen


def _tell_or_save(text: str, file: Path | None) -> None:
    if file is None:
        click.echo(text, nl=False)
    else:
        write_new(file, text)
        click.echo(f"Written: {file}; verrou baseline show {file} tells what it asks for", err=True)


@baseline.command("compare")
@click.argument("one", metavar="A", shell_complete=completing.baselines)
@click.argument("other", metavar="B", shell_complete=completing.baselines)
@format_option
@click.option("--all", "everything", is_flag=True, help="Show what both ask for alike too.")
def compare(one: str, other: str, style: str, everything: bool) -> None:
    """What two baselines ask for, each laid together with what it builds on: what differs, and which way."""
    from verrou.cli.compare import tell_comparison
    from verrou.core.comparison import compare_baselines

    found = compare_baselines(load_baseline(one), load_baseline(other))
    tell_comparison(found, one, other, style, everything, "not asked for")


@baseline.command("check")
@click.argument("names", nargs=-1, required=True, shell_complete=completing.baselines)
def check(names: tuple[str, ...]) -> None:
    """Whether baseline files are sound; every error of each is told, with file and line."""
    from verrou.core.baseline import BaselineRefused, read_baseline
    from verrou.reports.sheets import complain

    refused = 0
    for name in names:
        try:
            loaded = read_baseline(*fetch_baseline(name), fetch_baseline)
        except BaselineRefused as errors:
            refused += 1
            for problem in errors.problems:
                complain(problem)
        else:
            asked = len(loaded.demands) + len(loaded.accounts) + len(loaded.groups)
            click.echo(f"{name}: sound; asks for {asked} things, waives {len(loaded.waivers)}")
    if refused:
        click.get_current_context().exit(BaselineRefused.exit_code)
