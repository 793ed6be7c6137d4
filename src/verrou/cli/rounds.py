"""verrou round: many machines at once."""

from collections.abc import Iterable, Sequence
from itertools import islice
from pathlib import Path

import click

from verrou.cli import completing
from verrou.cli.baseline_files import MOST_OF_A_BASELINE, load_baseline
from verrou.cli.cable_rounds import CableSettings, cable_options, visit_all, watched
from verrou.cli.options import OneOf, limit_option, print_first
from verrou.cli.user import user
from verrou.core.errors import BadInput
from verrou.core.judging.rounds import LeftOut, Row, worst_first
from verrou.core.model import counted
from verrou.machines.local_files import ordinary_text
from verrou.machines.registry import machines_in, takes_long
from verrou.records import rounds
from verrou.records.rounds import Assignment, Outcome, read_assignment
from verrou.reports.finding_text import finding_text
from verrou.reports.round_page import as_page
from verrou.reports.rounds import as_lines, round_data, round_table, rules_table, summary
from verrou.reports.tables import as_csv, as_json, complain, console


@click.command("round")
@click.argument("folder", metavar="FOLDER|TABLE", type=click.Path(path_type=Path, readable=False))
@click.option(
    "-b",
    "--baseline",
    "baseline_name",
    metavar="BASELINE",
    shell_complete=completing.baselines,
    help="Audit every machine against this baseline.",
)
@click.option("--baselines", type=click.Path(path_type=Path), help="TOML file that maps machines to baselines.")
@click.option(
    "--format",
    "style",
    type=OneOf(["text", "json", "lines", "csv"]),
    default="text",
    show_default=True,
    help="Output format; lines: JSON, one line for each machine.",
)
@click.option("--html", type=click.Path(path_type=Path), help="Save a page with a picture and filters to a new file.")
@click.option("--every", is_flag=True, help="List every survey, not only the newest of each machine.")
@limit_option("machines and rules are listed as text, the worst first")
@cable_options
def go_round(
    folder: Path,
    baseline_name: str | None,
    baselines: Path | None,
    style: str,
    html: Path | None,
    every: bool,
    limit: int | None,
    cables: CableSettings,
) -> None:
    """Audit all machines and surveys in FOLDER, or those of a table, and rank them.

    The table is a TOML file that says where each machine is and by which baseline it is audited. With --harden, each
    machine is hardened first: a preview of all, a confirmation, then one after the other."""
    if folder.suffix == ".toml" and not folder.is_dir():
        if baselines is not None:
            raise BadInput("--baselines goes with a folder; a table names its baselines itself.")
        stops = _table(folder).stops(str(folder), baseline_name)
        code, visited = visit_all(stops, cables, load_baseline, finding_text)
        shared = [name for names in _names_by_identity(visited).values() if len(names) > 1 for name in names]
        if shared:
            complain(f"one machine ID belongs to {', '.join(sorted(shared))}: one computer, or copies of one disk")
        outcomes: Iterable[Outcome] = visited
        every = True  # each by its name in the table
    else:
        if given := cables.given:
            raise BadInput(f"{given} goes with a table of machines, not with a folder.")
        assignment = _assignment(baseline_name, baselines)
        addresses = machines_in(folder)
        long = len(addresses) >= rounds.WORTH_SHARING or any(map(takes_long, addresses))
        found = rounds.go_round(addresses, assignment, load_baseline, finding_text)
        code, outcomes = 0, watched(found, len(addresses), long)
    all_met = _print_round(folder, outcomes, style, html, every, limit)
    click.get_current_context().exit(code or (0 if all_met else 1))


def _print_round(
    folder: Path, outcomes: Iterable[Outcome], style: str, html: Path | None, every: bool, limit: int | None
) -> bool:
    """Print the rows, the worst first, and what was left out; return whether every machine meets every requirement."""
    left_out: list[LeftOut] = []
    rows: list[Row] = []
    for each in outcomes:
        if isinstance(each, Row):
            rows.append(each)
        else:
            left_out.append(each)
    rows, older = (rows, 0) if every else rounds.newest(rows)
    worst_first(rows)
    for gone in left_out:
        complain(f"skipped: {gone.reason}")
    for row in rows:
        if row.interrupted:
            complain(f"{row.machine}: {row.interrupted}")
    if not rows:
        raise BadInput(f"{folder}: none of {counted(len(left_out), 'machine')} could be read")
    if html is not None:
        user().write_new(html, as_page(rows, left_out, older))
        click.echo(f"Saved: {html}", err=True)
    if style == "json":
        click.echo(as_json(round_data(rows, left_out, older)), nl=False)
    elif style == "lines":
        lines = as_lines(rows)
        while some := "\n".join(islice(lines, 50)):
            click.echo(some)
    elif style == "csv":
        click.echo(as_csv(round_table(rows)), nl=False)
    else:
        out = console()
        out.print(f"{summary(rows, len(left_out), older)}.", style="bold")
        out.print()
        print_first(out, round_table(rows, every), limit)
        if len(rows) > 1 and (rules := rules_table(rows)).rows:
            out.print()
            print_first(out, rules, limit)
    return all(row.all_met for row in rows) and not left_out


def _names_by_identity(outcomes: Sequence[Outcome]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for row in outcomes:
        if isinstance(row, Row):
            found.setdefault(row.identity, []).append(row.machine)
    return found


def _assignment(name: str | None, file: Path | None) -> Assignment:
    if name is not None and file is None:
        return Assignment((("*", name),))
    if name is not None or file is None:
        raise BadInput("no baseline given. Use -b BASELINE for all machines, or --baselines FILE.")
    return _table(file)


def _table(file: Path) -> Assignment:
    try:
        return read_assignment(ordinary_text(file, MOST_OF_A_BASELINE), str(file))
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{file}: {getattr(error, 'strerror', None) or error}; name a TOML file") from None
