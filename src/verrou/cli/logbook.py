"""verrou logbook: what the logbook contains; and records out of one and into another."""

import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager
from datetime import datetime
from functools import wraps
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, cast

import click

from verrou.cli.command_group import CommandGroup
from verrou.cli.logbook_option import logbook_option, place_of_logbook, print_delivery
from verrou.cli.options import F, OneOf, format_option, limit_option
from verrou.cli.output import print_facts
from verrou.core.errors import BadInput
from verrou.core.model import counted
from verrou.records.logbook import Place, deliver, import_records, reading, waiting
from verrou.reports.logbook import listed_data, listed_table, logbook_summary, record_data, record_table
from verrou.reports.tables import as_json, console, print_table, shown

if TYPE_CHECKING:
    from verrou.records.logbook.reader import Reader, Selection

RUNS = ("survey", "audit", "harden", "verify", "undo")
DAY = click.DateTime(["%Y-%m-%d"])


@contextmanager
def asked_logbook(logbook: str | None) -> "Iterator[tuple[Reader, Place]]":
    """Open a logbook to ask it, after delivering the records that wait."""
    place = place_of_logbook(logbook, Path())
    opening = "Opening the logbook"  # one of an older version is brought forward first, which takes its time
    with console(stderr=True).status(opening):
        delivery = deliver(place)
    print_delivery(delivery, place)
    with ExitStack() as opened:
        with console(stderr=True).status(opening):
            reader = opened.enter_context(reading(place))
        yield reader, place


def check_machine(reader: "Reader", place: Place, machine: str) -> None:
    """Check that the logbook has a machine of that name, if one is given. Raises: BadInput."""
    if machine and not (machine.isprintable() and reader.knows(machine)):
        raise BadInput(f"{place.shown}: no machine {shown(machine)}. For the machines: verrou logbook list")


def selecting(command: F) -> F:
    """Add ``[MACHINE]``, ``--run`` and ``--since``; the command gets them as ``selected``, a function that makes a
    selection."""

    @click.argument("machine", default="")
    @click.option("--run", "runs", multiple=True, type=OneOf(RUNS), help="Only these runs; can be repeated.")
    @click.option("--since", type=DAY, metavar="DAY", help="Only from this day on, by each machine's clock.")
    @wraps(command)
    def with_selection(machine: str, runs: tuple[str, ...], since: datetime | None, **rest: Any) -> Any:
        def selected(reader: "Reader", place: Place) -> "Selection":
            from verrou.records.logbook.reader import Selection

            check_machine(reader, place, machine)
            return Selection(machine, runs, since)

        return cast(Callable[..., Any], command)(selected=selected, **rest)

    return cast(F, with_selection)


Selected = Callable[["Reader", Place], "Selection"]


@click.group(cls=CommandGroup)
def logbook() -> None:
    """List, show, export and import the runs recorded in the logbook."""


@logbook.command("list")
@selecting
@limit_option("of the newest to list")
@click.option("--skip", type=click.IntRange(0, 2**31 - 1), default=0, metavar="N", help="Leave out the newest N.")
@logbook_option
@format_option
def list_records(selected: Selected, limit: int | None, skip: int, logbook: str | None, style: str) -> None:
    """List runs with their results, the newest last."""
    with asked_logbook(logbook) as (reader, place):
        extent, runs = reader.page(selected(reader, place), limit, skip)
    table = listed_table(runs)

    def text() -> None:
        out = console()
        out.print(f"{shown(logbook_summary(place.shown, extent, len(runs)))}.", style="bold")
        if table.rows:
            out.print()
            print_table(out, table)

    print_facts(style, table, [listed_data(run) for run in runs], text)


@logbook.command("show")
@click.argument("number", type=int, metavar="N")
@logbook_option
@format_option
def show_record(number: int, logbook: str | None, style: str) -> None:
    """Show all of record N."""
    with asked_logbook(logbook) as (reader, place):
        record = reader.record(number) if 0 < number < 2**63 else None
    if record is None:
        raise BadInput(f"{place.shown}: no record {number}. For the records: verrou logbook list")
    table = record_table(number, record)
    print_facts(style, table, record_data(number, record), lambda: print_table(console(), table))


@logbook.command("export")
@selecting
@logbook_option
def export_records(selected: Selected, logbook: str | None) -> None:
    """Print records whole, as JSON, one a line, the oldest first."""
    with asked_logbook(logbook) as (reader, place):
        for record in reader.records(selected(reader, place)):
            click.echo(as_json(waiting.as_data(record), indent=None), nl=False)


@logbook.command("import")
@click.argument("file", metavar="FILE")
@logbook_option
def import_file(file: str, logbook: str | None) -> None:
    """Add the records of an export, all or none; those that are there stay as they are. FILE can be - for standard
    input."""
    place = place_of_logbook(logbook, Path())
    try:
        with ExitStack() as opened:
            stream = sys.stdin.buffer if file == "-" else opened.enter_context(open(file, "rb"))
            opened.enter_context(console(stderr=True).status("Importing"))
            named = "standard input" if file == "-" else file
            new, there = import_records(place, _lines(stream), named)
    except OSError as error:
        raise BadInput(f"{file}: {error.strerror}. Give a file that verrou logbook export has printed.") from None
    already = f"; {counted(there, 'record')} there already" if there else ""
    click.echo(f"Imported into {shown(place.shown)}: {counted(new, 'record')}{already}.")


def _lines(stream: IO[bytes]) -> Iterable[bytes]:
    """Yield the lines of a file; of one that is too long to be a record only its beginning, which is none."""
    while line := stream.readline(waiting.MOST_OF_A_RECORD):
        yield line
