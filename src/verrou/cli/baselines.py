"""verrou baseline: list, show, create, check and compare baselines."""

from pathlib import Path

import click

from verrou.cli import completing
from verrou.cli.baseline_files import INCLUDED_BASELINES, fetch_baseline, load_baseline
from verrou.cli.command_group import CommandGroup
from verrou.cli.compare import print_comparison
from verrou.cli.observing import looked_at
from verrou.cli.options import OneOf, format_option, machine_option
from verrou.cli.output import print_facts
from verrou.cli.survey_and_audit import MEASURE
from verrou.cli.user import user
from verrou.core.baselines.baseline import BaselineRefused, read_baseline
from verrou.core.baselines.capture import captured
from verrou.core.baselines.questions import QUESTIONS, written
from verrou.core.errors import BadInput
from verrou.core.judging.audit import remarkable
from verrou.core.judging.comparison import compare_baselines
from verrou.core.model.text import counted
from verrou.machines.protocol import Machine
from verrou.reports.baselines import BaselineLine, baseline_data, baseline_table
from verrou.reports.tables import Table, columns_of, complain, console, print_table, shown


@click.group(cls=CommandGroup)
def baseline() -> None:
    """List, show, create, check and compare baselines."""


@baseline.command("list")
@format_option
def list_baselines(style: str) -> None:
    """List the included baselines."""
    rows: list[BaselineLine] = []
    for name in INCLUDED_BASELINES:
        loaded = load_baseline(name)
        rows.append({"baseline": name, "title": loaded.title, "rules": len(loaded.requirements)})
    columns = columns_of(("baseline", "baseline"), ("title", "title"), ("rules", "rules"), whole=("baseline",))
    table = Table("baselines", columns, tuple(dict(row) for row in rows))
    print_facts(style, table, rows, lambda: print_table(console(), table))


@baseline.command("show")
@click.argument("name", shell_complete=completing.baselines)
@format_option
def show(name: str, style: str) -> None:
    """Show all requirements of a baseline, inherited ones included."""
    data = baseline_data(load_baseline(name))
    table = baseline_table(data)

    def text() -> None:
        out = console()
        out.print(shown(data["title"]))
        out.print()
        print_table(out, table)

    print_facts(style, table, data, text)


@baseline.command("capture")
@machine_option
@click.option("--title", help="Title of the baseline.")
@click.option("--accounts", "people", is_flag=True, help="Include accounts and groups.")
@click.option("--save", type=click.Path(path_type=Path), help="Save it to a new file.")
def capture(machine: Machine, title: str | None, people: bool, save: Path | None) -> None:
    """Create a baseline from the current state of a machine, with weak values marked."""
    snapshot = looked_at(machine)
    weak = remarkable(snapshot, load_baseline(MEASURE))
    text = captured(snapshot, title or f"{snapshot.machine.name} in its current state", weak, MEASURE, people)
    _print_or_save(text, save)


@baseline.command("new")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--title", help="Title of the baseline.")
@click.option("--used-by", type=OneOf(list(QUESTIONS["used_by"].answers)), help=QUESTIONS["used_by"].asks)
@click.option("--watched", type=OneOf(list(QUESTIONS["watched"].answers)), help=QUESTIONS["watched"].asks)
@click.option("--shared-by", type=OneOf(list(QUESTIONS["shared_by"].answers)), help=QUESTIONS["shared_by"].asks)
@click.option(
    "--administrator", "administrators", multiple=True, help="The only accounts that may have administrator rights."
)
def new(file: Path, title: str | None, administrators: tuple[str, ...], **given: str | None) -> None:
    """Create a baseline from a few questions, and save it to FILE."""
    answers = {name: answer or _asked(name) for name, answer in given.items()}
    base = load_baseline(QUESTIONS["used_by"].answers[answers["used_by"]].builds_on)
    file = file.with_suffix(".toml")
    text = written(title or file.stem, answers, administrators, base)
    read_baseline(text, str(file), fetch_baseline)  # an invalid account name is reported before anything is written
    _print_or_save(text, file)


def _asked(name: str) -> str:
    """Return the answer to a question, from the option or from the prompt."""
    question = QUESTIONS[name]
    if not user().can_be_asked:
        option = f"--{name.replace('_', '-')}"
        raise BadInput(f"{question.asks} No terminal to ask at. Use {option} {'|'.join(question.answers)}")
    click.echo(question.asks)
    for word, answer in question.answers.items():
        click.echo(f"  {word:<10} {answer.words}")
    return user().choose("Which", list(question.answers))


def _print_or_save(text: str, file: Path | None) -> None:
    if file is None:
        click.echo(text, nl=False)
    else:
        user().write_new(file, text)
        click.echo(f"Saved: {file}. To read it: verrou baseline show {file}", err=True)


@baseline.command("compare")
@click.argument("one", metavar="A", shell_complete=completing.baselines)
@click.argument("other", metavar="B", shell_complete=completing.baselines)
@format_option
@click.option("--all", "everything", is_flag=True, help="Include requirements that are the same in both.")
def compare(one: str, other: str, style: str, everything: bool) -> None:
    """Compare the requirements of two baselines."""
    found = compare_baselines(load_baseline(one), load_baseline(other))
    print_comparison(found, one, other, style, everything, "not required")


@baseline.command("check")
@click.argument("names", nargs=-1, required=True, shell_complete=completing.baselines)
def check(names: tuple[str, ...]) -> None:
    """Check baseline files and report every error."""
    refused = 0
    for name in names:
        try:
            loaded = read_baseline(*fetch_baseline(name), fetch_baseline)
        except BaselineRefused as errors:
            refused += 1
            for problem in errors.problems:
                complain(problem)
        else:
            asked = len(loaded.requirements) + len(loaded.accounts) + len(loaded.groups)
            click.echo(f"{name}: valid; {counted(asked, 'requirement')}, {counted(len(loaded.waivers), 'waiver')}")
    if refused:
        click.get_current_context().exit(BaselineRefused.exit_code)
