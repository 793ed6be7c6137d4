"""verrou trend: how audits changed over time."""

# Imports within functions: only a picture needs them.

from datetime import date, datetime
from pathlib import Path

import click

from verrou.cli import completing
from verrou.cli.logbook import DAY, asked_logbook, check_machine
from verrou.cli.logbook_option import logbook_option
from verrou.cli.options import format_option, limit_option, print_first
from verrou.cli.output import print_facts
from verrou.cli.user import user
from verrou.core.errors import BadInput
from verrou.core.history.trend import Trend, soon, together
from verrou.core.rules import CATALOGUE
from verrou.reports import trend as reports
from verrou.reports.tables import console, shown


@click.command()
@click.argument("machine", default="")
@click.option(
    "--family",
    "families",
    multiple=True,
    metavar="FAMILY",
    shell_complete=completing.families,
    help="Only this family of rules; can be repeated.",
)
@click.option("--on", "on", type=DAY, metavar="DAY", help="Day on which waivers are judged.  [default: today]")
@limit_option("rows a table shows as text, the worst first")
@click.option(
    "--save", type=click.Path(path_type=Path), help="New file for the picture: .svg, .png, or .html for a page."
)
@logbook_option
@format_option
def trend(
    machine: str,
    families: tuple[str, ...],
    on: datetime | None,
    limit: int | None,
    save: Path | None,
    logbook: str | None,
    style: str,
) -> None:
    """Show how audits changed over time."""
    known = sorted({rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"})
    if unknown := [family for family in families if family not in known]:
        raise BadInput(f"--family: invalid value {unknown[0]!r}; expected one of {', '.join(known)}")
    if save is not None and save.suffix.lower() not in SAVED:
        raise BadInput(f"{save}: invalid ending {save.suffix!r}; expected one of {', '.join(SAVED)}")
    families = tuple(dict.fromkeys(families))
    today = on.date() if on is not None else date.today()
    with asked_logbook(logbook) as (reader, place):
        check_machine(reader, place, machine)
        whole = style == "json" or save is not None
        histories = reader.histories(machine, families, soon(today), every_moment=whole)
        found = Trend(histories, together(histories) if whole else ())
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
                print_first(out, part, limit)

    if save is not None and histories:
        _save(save, found, today, ", ".join(filter(None, (machine or "all machines", *families))))
    print_facts(style, table, reports.trend_data(found, today, families), text)
    ended = any(waiver.until < today for history in histories for waiver in history.ending)
    click.get_current_context().exit(1 if ended or any(history.regressed for history in histories) else 0)


SAVED = (".svg", ".png", ".html")


def _save(file: Path, found: Trend, today: date, about: str) -> None:
    from verrou.reports.figures import courses

    suffix = file.suffix.lower()
    if suffix == ".png":
        user().write_new(file, courses(found, "png"))
    else:
        user().write_new(file, reports.trend_page(found, today, about) if suffix == ".html" else courses(found))
    click.echo(f"Saved: {file}", err=True)
