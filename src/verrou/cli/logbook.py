"""verrou logbook and verrou trend: what the logbook contains, and the trend over time."""

from collections.abc import Sequence
from datetime import date, datetime
from pathlib import Path

import click

from verrou.cli import completing
from verrou.cli.logbook_option import logbook_option, place_of_logbook, print_delivery
from verrou.cli.options import OneOf, format_option
from verrou.cli.output import print_facts
from verrou.cli.user import user
from verrou.core.errors import BadInput
from verrou.core.history.records import RunRecord
from verrou.core.history.trend import Trend, soon
from verrou.core.history.trend import trend as how_it_went
from verrou.core.rules import CATALOGUE
from verrou.records.logbook import deliver, load_records
from verrou.reports import logbook as reports
from verrou.reports.figures import courses
from verrou.reports.logbook import log_summary, log_table, record_data, record_table, trend_page
from verrou.reports.tables import console, print_table, shown

RUNS = ("survey", "audit", "harden", "verify", "undo")
DAY = click.DateTime(["%Y-%m-%d"])


def _records(logbook: str | None, machine: str) -> tuple[Sequence[RunRecord], str]:
    """Return the records of a logbook, after delivering those that wait, and the logbook's place."""
    place = place_of_logbook(logbook, Path())
    print_delivery(deliver(place), place)
    records = load_records(place, machine)
    if machine and not records:
        raise BadInput(f"{place.shown}: no machine {machine}. For the machines: verrou logbook")
    return records, place.shown


@click.command()
@click.argument("machine", default="")
@logbook_option
@click.option("--run", "runs", multiple=True, type=OneOf(RUNS), help="Only these runs; can be repeated.")
@click.option("--since", type=DAY, metavar="DAY", help="Only from this day on, by each machine's clock.")
@click.option("--show", "number", type=int, metavar="N", help="Show all of record N.")
@format_option
def logbook(
    machine: str, logbook: str | None, runs: tuple[str, ...], since: datetime | None, number: int | None, style: str
) -> None:
    """List the runs recorded in the logbook."""
    records, place = _records(logbook, "" if number is not None else machine)
    numbered = list(enumerate(records, 1))
    chosen = [
        (n, record)
        for n, record in numbered
        if (not runs or record.run in runs)
        and (since is None or record.clock >= since)
        and (number is None or n == number)
    ]
    if number is not None and not chosen:
        raise BadInput(f"{place}: no record {number}; the last is {len(records)}")
    table = log_table(chosen) if number is None else record_table(*chosen[0])

    def text() -> None:
        out = console()
        if number is None:
            out.print(f"{shown(log_summary(place, chosen, len(numbered)))}.", style="bold")
            out.print()
        if table.rows:
            print_table(out, table)

    print_facts(style, table, [record_data(*each) for each in chosen], text)


@click.command()
@click.argument("machine", default="")
@logbook_option
@click.option(
    "--family",
    "families",
    multiple=True,
    metavar="FAMILY",
    shell_complete=completing.families,
    help="Only this family of rules; can be repeated.",
)
@click.option("--on", "on", type=DAY, metavar="DAY", help="Day on which waivers are judged.  [default: today]")
@click.option(
    "--save", type=click.Path(path_type=Path), help="New file for the picture: .svg, .png, or .html for a page."
)
@format_option
def trend(
    machine: str, logbook: str | None, families: tuple[str, ...], on: datetime | None, save: Path | None, style: str
) -> None:
    """Show how audits changed over time."""
    known = sorted({rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"})
    if unknown := [family for family in families if family not in known]:
        raise BadInput(f"--family: invalid value {unknown[0]!r}; expected one of {', '.join(known)}")
    if save is not None and save.suffix.lower() not in SAVED:
        raise BadInput(f"{save}: invalid ending {save.suffix!r}; expected one of {', '.join(SAVED)}")
    records, _ = _records(logbook, machine)
    today = on.date() if on is not None else date.today()
    found = how_it_went(records, today, frozenset(families))
    table = reports.histories_table(found)

    def text() -> None:
        out = console()
        about = f" ({', '.join(families)})" if families else ""
        out.print(f"{shown(reports.trend_summary(found))}{about}.", style="bold")
        for heading, part in (
            ("", table),
            ("Met before, not met now:", reports.regressed_table(found)),
            (f"Waivers that expire by {soon(today)}:", reports.ending_table(found, today)),
        ):
            if part.rows:
                out.print()
                if heading:
                    out.print(heading)
                print_table(out, part)

    if save is not None and found.histories:
        about = ", ".join(filter(None, (machine or "all machines", *families)))
        _save(save, found, today, about)
    print_facts(style, table, reports.trend_data(found, today, families), text)
    ended = any(waiver.until < today for history in found.histories for waiver in history.ending)
    click.get_current_context().exit(1 if ended or any(history.regressed for history in found.histories) else 0)


SAVED = (".svg", ".png", ".html")


def _save(file: Path, found: Trend, today: date, about: str) -> None:
    suffix = file.suffix.lower()
    if suffix == ".png":
        user().write_new(file, courses(found, "png"))
    else:
        user().write_new(file, trend_page(found, today, about) if suffix == ".html" else courses(found))
    click.echo(f"Saved: {file}", err=True)
