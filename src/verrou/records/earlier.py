"""A machine as it was before an entry of its journal."""

from collections.abc import Sequence

from verrou.core import advice
from verrou.core.errors import BadInput
from verrou.core.history.entries import JournalEntry, RunState
from verrou.core.model import Snapshot
from verrou.machines.protocol import Machine, to_change
from verrou.records import reversals
from verrou.records.journal import Journal


def snapshot_before(machine: Machine, entry: int | None = None) -> tuple[Snapshot, int]:
    """Return the machine as it was before an entry, or before the last run not undone; and the entry's number.

    It is the result of undoing the entries since on a private copy: what others wrote since stays in it. Raises:
    BadInput: there is no such entry, or a stored change set was modified. MachineRefused: there can be no private
    copy."""
    changeable = to_change(machine)
    journal = Journal(changeable.records_folder())
    if entry is None:
        number = reversals.to_undo(journal, None, None)[0].number
    elif entry in {each.number for each in journal.entries()}:
        number = entry
    else:
        raise BadInput(f"{machine.name}: the journal has no entry {entry}; {advice.list_journal()} shows it")
    entries = reversals.to_undo(journal, None, number - 1)
    return reversals.dry_run_undo(changeable, journal, [each.number for each in entries]).after, number


def standing_since(machine: Machine, entry: int | None = None) -> tuple[Snapshot | None, Sequence[JournalEntry]]:
    """Return the machine before an entry, or before the first one not undone, and all entries since; None for none."""
    entries = Journal(to_change(machine).records_folder()).entries()
    standing = [each for each in entries if each.can_be_undone and not each.undoes]
    if entry is None and not standing:
        return None, ()
    first = standing[0].number if entry is None else entry
    snapshot, _ = snapshot_before(machine, first)
    return snapshot, [
        each for each in entries if each.number >= first and each.state() in (RunState.DONE, RunState.UNDONE)
    ]
