"""verrou survey and verrou audit: commands that change nothing."""

from pathlib import Path

import click
from attrs import evolve

from verrou.cli.baseline_files import load_baseline
from verrou.cli.logbook_option import Keeping, keeping
from verrou.cli.observing import looked_at
from verrou.cli.options import baseline_option, format_option, machine_option
from verrou.cli.output import print_facts
from verrou.cli.user import check_new_name, user
from verrou.core.history.runs import Run
from verrou.core.judging.audit import audit as hold_against
from verrou.core.judging.audit import remarkable
from verrou.core.model import Snapshot, Status, counted
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.surveys.data import survey_data
from verrou.machines.protocol import Machine
from verrou.machines.survey.kind import SURVEY
from verrou.reports.findings import audit_data, audit_table
from verrou.reports.surveys import (
    MOST_IN_TEXT,
    accounts_table,
    hidden_accounts,
    hidden_line,
    rule_sentences,
    summary_lines,
)
from verrou.reports.tables import as_json, console, print_table, shown
from verrou.reports.terminal import Terminal

MEASURE = "essential"
"""The baseline that a survey measures by: weaker rules come first."""


@click.command()
@machine_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Show every account and every rule.")
@click.option("--save", type=click.Path(path_type=Path), help=f"Save a survey file ({SURVEY.addresses}).")
@keeping
def survey(machine: Machine, style: str, everyone: bool, save: Path | None, kept: Keeping) -> None:
    """Show accounts, roles and the value and source of every rule."""
    snapshot = looked_at(machine)
    accounts, folded = accounts_table(snapshot, everyone or style != "text", width=console().width)

    def data() -> object:
        return survey_data(snapshot)

    def text() -> None:
        out = console()
        for line in summary_lines(snapshot):
            out.print(line)
        out.print()
        print_table(out, evolve(accounts, rows=accounts.rows[:MOST_IN_TEXT]))
        if len(accounts.rows) > MOST_IN_TEXT:
            out.print(f"{len(accounts.rows) - MOST_IN_TEXT} more accounts; use --format csv to list all")
        if folded:
            out.print(hidden_accounts(folded))
        out.print()
        _print_rules(out, snapshot, everyone)

    if save is not None:
        _save(save, as_json(data()))
    if kept.asked:
        kept.record(Run.SURVEY, snapshot, beside=save)
    print_facts(style, accounts, data() if style == "json" else None, text)


def _print_rules(out: Terminal, snapshot: Snapshot, everyone: bool) -> None:
    """Print the notable rules in sentences, and how many others there are; with ``everyone`` those too."""
    every = list(CATALOGUE.values())
    weak = dict(remarkable(snapshot, load_baseline(MEASURE)))
    hidden = [rule for rule in weak if reading_of(rule, snapshot).status is Status.UNKNOWN]
    for_root = hidden if snapshot.machine.unread else []
    for rule in for_root:
        del weak[rule]
    first = [*weak, *(rule for rule in every if rule not in weak)] if everyone else weak
    failing = "misses the baseline or is" if len(weak) == 1 else "miss the baseline or are"
    missed = f"{len(weak)} of {len(every)} rules {failing} not enforced"
    out.print(f"{missed} (baseline: {MEASURE})" + (":" if first else "."))
    if first:
        print_table(out, rule_sentences(snapshot, first, weak))
    if for_root:
        out.print(f"Only {snapshot.machine.full_rights} can read {counted(len(for_root), 'rule')}.")
    if more := len(every) - len(first) - len(for_root):
        out.print(hidden_line(more, "rule", "with nothing to report"))


def _save(file: Path, text: str) -> None:
    """Save a survey file, and never over an existing one."""
    check_new_name(file)
    file = SURVEY.file_for(file)
    user().write_new(file, text)
    click.echo(f"Saved: {file}", err=True)


@click.command()
@machine_option
@baseline_option
@format_option
@keeping
@click.option("--not-met", is_flag=True, help="Show only findings that are not met.")
def audit(machine: Machine, baseline_name: str, style: str, not_met: bool, kept: Keeping) -> None:
    """Audit a machine against a baseline."""
    baseline = load_baseline(baseline_name)
    snapshot = looked_at(machine)
    found = hold_against(snapshot, baseline)

    def text() -> None:
        out = console()
        out.print(f"{shown(found.machine)} audited against: {shown(found.baseline)}")
        out.print(f"{found.tally}.", style="bold")
        out.print()
        print_table(out, table)

    table = audit_table(found, every=not not_met)
    kept.record(Run.AUDIT, snapshot, found, baseline)
    print_facts(style, table, audit_data(found, every=not not_met), text)
    click.get_current_context().exit(0 if found.all_met else 1)
