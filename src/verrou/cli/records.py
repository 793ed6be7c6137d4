"""verrou undo, resume and journal: undo a run, finish one, and show what was done."""

from collections.abc import Iterable
from typing import Any

import click
from attrs import define

from verrou.cli.arrival import keep_arrival
from verrou.cli.change_options import override_option
from verrou.cli.command_group import CommandGroup
from verrou.cli.logbook_option import Keeping, keeping
from verrou.cli.options import format_option, machine_option
from verrou.cli.output import agreed, print_facts, typed_command
from verrou.cli.user import user
from verrou.core import advice
from verrou.core.errors import BadInput, MachineRefused
from verrou.core.history.entries import JournalEntry
from verrou.core.history.runs import Run
from verrou.core.judging import guards
from verrou.machines.changes import Outcome
from verrou.machines.protocol import Machine, to_change
from verrou.records import reversals, transactions
from verrou.records.dry_runs import DryRun
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held
from verrou.records.transactions import RunInfo
from verrou.reports.plan_tables import restored_table
from verrou.reports.records import entries_table, entry_data, entry_table, going_back_lines
from verrou.reports.tables import DOUBTFUL, console, print_table, shown


@click.command()
@click.option("--entry", type=int, metavar="N", help="Undo only this journal entry.")
@click.option("--to", "back_to", type=int, metavar="N", help="Undo every entry after this one (0: all).")
@click.option("--preview", is_flag=True, help="Do a dry run on a private copy, show the result, and stop.")
@click.option("--yes", is_flag=True, help="Skip the confirmation prompt.")
@override_option(guards.ACCEPTABLE_GOING_BACK)
@keeping
@machine_option
def undo(
    machine: Machine,
    entry: int | None,
    back_to: int | None,
    preview: bool,
    yes: bool,
    accepted: tuple[str, ...],
    kept: Keeping,
) -> None:
    """Undo the last run that changed something, or an interrupted run.

    What others wrote since stays."""
    if entry is not None and back_to is not None:
        raise BadInput("--entry and --to cannot be combined. Use one of them.")
    out = console()
    changeable = to_change(machine)
    journal = _journal(machine)
    entries = reversals.to_undo(journal, entry, back_to)
    info = transactions.RunInfo(typed_command(), overridden=accepted)
    if entries[0].is_interrupted and entries[0].undoes and entry is None:
        out.print(f"Entry {entries[0].number} (undo of {_numbers(entries[0].undoes)}) was interrupted; continuing.")
        _finish(machine, info, preview)
        return
    with console(stderr=True).status("Dry run on a private copy"):
        dry_run = reversals.dry_run_undo(changeable, journal, [each.number for each in entries])
    for line in going_back_lines(entries, dry_run.before, dry_run.after):
        out.print(shown(line))
    print_table(out, restored_table(dry_run.put_back))
    for remark in (*guards.arrival_warnings(dry_run.candidate, accepted), *dry_run.notices):
        out.print(shown(remark), style=DOUBTFUL)
    reversals.check_undo(changeable, journal, dry_run, entries, info)
    if preview:
        out.print("This is a preview; nothing was changed.")
        return
    if not yes:
        agreed(f"Undo this on {shown(machine.name)}?")
    applied = _Applied()
    number = reversals.undo(changeable, dry_run, entries, info, applied.begin)
    applied.keep_arrival(machine, info)
    left = [item for item in dry_run.put_back if item.outcome is Outcome.REJECTED]
    numbers = _numbers([each.number for each in entries])
    out.print(f"Undone: entry {numbers}. Recorded as entry {number}. To redo: {advice.undo(number)}")
    kept.record(Run.UNDO, dry_run.after, entry=number)
    if left:
        places = ", ".join(item.place for item in left)
        raise MachineRefused(f"{places} could not be restored (see above); the rest was undone")


@define(repr=False)
class _Applied:
    """The run that is applied, as the user hears of it."""

    run: tuple[DryRun, int] | None = None

    def begin(self, dry_run: DryRun, entry: int) -> None:
        self.run = dry_run, entry
        user().before_applying(entry)

    def keep_arrival(self, machine: Machine, info: RunInfo) -> None:
        if self.run is not None:
            keep_arrival(machine, *self.run, info)


def _numbers(numbers: Iterable[int]) -> str:
    return ", ".join(map(str, numbers))


@click.command()
@click.option("--preview", is_flag=True, help="Show the remaining steps and what the guards block, and stop.")
@override_option(guards.ACCEPTABLE)
@machine_option
def resume(machine: Machine, preview: bool, accepted: tuple[str, ...]) -> None:
    """Finish an interrupted run."""
    _finish(machine, RunInfo(typed_command(), overridden=accepted), preview)


def _finish(machine: Machine, info: RunInfo, preview: bool) -> None:
    out = console()
    if preview:
        _preview_resume(machine, info)
        return
    with console(stderr=True).status("Dry run on a private copy"):
        applied = _Applied()
        entry, swept = reversals.resume(to_change(machine), info, applied.begin)
    applied.keep_arrival(machine, info)
    if entry is not None:
        out.print(f"Entry {entry.number} ({shown(entry.command)}, {entry.begun}) is finished.")
    elif swept:
        out.print(f"Deleted what entry {_numbers(swept)} had moved away.")


def _preview_resume(machine: Machine, info: RunInfo) -> None:
    changeable = to_change(machine)
    out, journal = console(), _journal(machine)
    entry = journal.interrupted_entry()
    if entry is None:
        left = _numbers([each.number for each in journal.pending_cleanup()])
        out.print(
            f"No run was interrupted; entry {left} still has files to delete." if left else "No run was interrupted."
        )
        return
    with console(stderr=True).status("Dry run on a private copy"):
        dry_run = reversals.dry_run_resume(changeable, journal, entry)
    out.print(f"Remaining steps of entry {entry.number}, {shown(entry.command)}, by {entry.by}, {entry.begun}:")
    print_table(out, restored_table(dry_run.put_back))
    reversals.check_resume(changeable, journal, dry_run, entry, info)
    out.print("This is a preview; nothing was changed.")


def _journal(machine: Machine) -> Journal:
    return Journal(to_change(machine).records_folder())


@click.group(cls=CommandGroup)
def journal() -> None:
    """Show what was changed, when and by whom."""


@journal.command("list")
@machine_option
@format_option
def list_entries(machine: Machine, style: str) -> None:
    """List all runs."""
    kept = _journal(machine)
    entries, running = kept.entries(), is_held(kept.folder)
    table = entries_table(entries, running)

    def text() -> None:
        print_table(console(), table)
        if not entries:
            console().print("No changes have been recorded for this machine.")

    print_facts(style, table, [entry_data(entry, running) for entry in entries], text)


@journal.command("show")
@click.argument("number", type=int, metavar="N")
@machine_option
@format_option
def show_entry(number: int, machine: Machine, style: str) -> None:
    """Show the steps of a run, what has changed since, and the files it wrote."""
    kept = _journal(machine)
    entry = _entry(kept, number)
    running = is_held(kept.folder)
    table = entry_table(entry, running)
    print_facts(style, table, entry_data(entry, running), lambda: print_table(console(), table))


def _entry(kept: Journal, number: int) -> JournalEntry:
    entries = {entry.number: entry for entry in kept.entries()}
    if number not in entries:
        known = f"has entries 1 to {max(entries)}" if entries else "is empty"
        raise BadInput(f"no journal entry {number}; the journal {known}")
    return entries[number]


@journal.command("check")
@machine_option
def check(machine: Machine) -> None:
    """Check that the journal and its saved files are intact."""
    kept = _journal(machine)
    entries = kept.entries()
    damaged: list[Any] = kept.damaged()
    out = console()
    for line in damaged:
        out.print(shown(line))
    if damaged:
        raise BadInput(f"entries that cannot be undone: {len(damaged)} of {len(entries)}; the others are intact")
    out.print(f"The journal is intact: all hashes match (entries: {len(entries)}).")
