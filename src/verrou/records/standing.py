"""A machine as it stands, and whether a run broke off on it."""

from attrs import evolve

from verrou.core.entries import JournalEntry
from verrou.core.errors import VerrouError
from verrou.core.model import Posture
from verrou.machines import Machine
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held


def observed(machine: Machine, *, asked: bool = False) -> Posture:
    """What the machine is now, with the run that broke off on it, as far as this account may know; see
    :meth:`~verrou.machines.Machine.observe` for ``asked``."""
    posture = machine.observe(asked=asked)
    try:
        words = what_broke_off(machine)
    except (VerrouError, OSError):
        return posture
    return evolve(posture, machine=evolve(posture.machine, broken_off=words)) if words else posture


def what_broke_off(machine: Machine) -> str:
    """The run that broke off and how to go on, in words; nothing where none did. One that is still at work
    did not.

    Raises:
        VerrouError, OSError: the journal cannot be read by this account.
    """
    if machine.only_read:
        return ""
    journal = Journal(machine.records_folder())
    if not journal.there or is_held(journal.folder):
        return ""
    entry = journal.broken_off()
    return words_of(entry) if entry is not None else ""


def words_of(entry: JournalEntry) -> str:
    """What is said of an entry that broke off."""
    return (
        f"entry {entry.number} of the journal ({entry.command}, by {entry.by}, {entry.begun}) was interrupted. "
        "To finish: verrou resume. To revert: verrou undo"
    )
