"""verrou compare: two machines, or one before and now."""

import re
from typing import Any

import click

from verrou.cli import completing
from verrou.cli.observing import looked_at
from verrou.cli.options import format_option, machine_option
from verrou.cli.output import print_facts
from verrou.cli.user import user
from verrou.core.judging.comparison import Comparison
from verrou.core.judging.comparison import compare as set_beside
from verrou.core.model import Snapshot
from verrou.machines.protocol import Machine
from verrou.records.earlier import snapshot_before
from verrou.reports.comparisons import comparison_data, comparison_table, counted_turns
from verrou.reports.tables import console, print_table, shown

EARLIER = re.compile(r"before(?::(\d{1,9}))?")


@click.command()
@click.argument("one", metavar="A", shell_complete=completing.sides)
@click.argument("other", metavar="B", shell_complete=completing.sides)
@machine_option
@format_option
@click.option("--all", "everything", is_flag=True, help="Include what is the same.")
def compare(one: str, other: str, machine: Machine, style: str, everything: bool) -> None:
    """Compare two machines, or one machine before and after a run: what differs, and whether B is stricter or looser.

    A and B are machines or surveys; "now" is the machine of -m, "before" the same before the last run that changed
    something, "before:N" before entry N of its journal."""
    sides = [_side(word, machine) for word in (one, other)]
    (first, one_name), (second, other_name) = sides
    if one_name == other_name:
        one_name, other_name = f"A: {one}", f"B: {other}"
    print_comparison(set_beside(first, second), one_name, other_name, style, everything)


def _side(word: str, machine: Machine) -> tuple[Snapshot, str]:
    """Return a snapshot and the heading of its column."""
    if word == "now":
        return looked_at(machine), f"{machine.name} now"
    if earlier := EARLIER.fullmatch(word):
        snapshot, number = snapshot_before(machine, int(earlier[1]) if earlier[1] else None)
        return snapshot, f"{machine.name} before entry {number}"
    snapshot = user().survey(word)
    return snapshot, f"{snapshot.machine.name}, {snapshot.machine.now:%Y-%m-%d}"


def print_comparison(
    found: Comparison, one: str, other: str, style: str, everything: bool, missing: str = "not there"
) -> None:
    """Print a comparison, and exit with 1 where something differs."""
    data: Any = comparison_data(found, one, other, everything)
    table = comparison_table(data, missing, blocks=style == "text")

    def text() -> None:
        out = console()
        out.print(f"{shown(other)} compared with {shown(one)}: {counted_turns(found)}.", style="bold")
        if table.rows:
            out.print()
            print_table(out, table)

    print_facts(style, table, data, text)
    click.get_current_context().exit(1 if found.differing else 0)
