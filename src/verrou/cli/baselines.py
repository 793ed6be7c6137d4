"""verrou baseline: what ships, what a baseline asks for once it is put together, and whether a file is sound."""

import click

from verrou.cli.command_group import CommandGroup
from verrou.cli.options import (
    fetch_baseline,
    format_option,
    load_baseline,
    print_facts,
    shipped_baselines,
)


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
@click.argument("name")
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


@baseline.command("compare")
@click.argument("one", metavar="A")
@click.argument("other", metavar="B")
@format_option
@click.option("--all", "everything", is_flag=True, help="Show what both ask for alike too.")
def compare(one: str, other: str, style: str, everything: bool) -> None:
    """What two baselines ask for, each laid together with what it builds on: what differs, and which way."""
    from verrou.cli.compare import tell_comparison
    from verrou.core.comparison import compare_baselines

    found = compare_baselines(load_baseline(one), load_baseline(other))
    tell_comparison(found, one, other, style, everything, "not asked for")


@baseline.command("check")
@click.argument("names", nargs=-1, required=True)
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
