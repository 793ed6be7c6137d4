"""A machine in its current state, and the run that was interrupted on it."""

# Imports within functions: few machines have an interrupted run, and some have no journal.

from typing import TYPE_CHECKING

from attrs import evolve

from verrou.core import advice
from verrou.core.errors import NotEnoughRights, VerrouError
from verrou.core.model import Snapshot
from verrou.log import Log
from verrou.machines.protocol import Lacks, Machine
from verrou.records import JOURNAL
from verrou.records.machine_lock import is_held

if TYPE_CHECKING:
    from verrou.core.history.entries import JournalEntry

LOG = Log(__name__)


def observed(machine: Machine, *, asked: bool = False) -> Snapshot:
    """Return the machine's current state, with an interrupted run.

    A journal that cannot be read is a warning, except without the rights. See
    :meth:`~verrou.machines.protocol.Machine.observe`."""
    snapshot = machine.observe(asked=asked)
    try:
        words = interruption(machine)
    except (NotEnoughRights, OSError) as error:
        LOG.info("the journal is not read: %s", error)
        return snapshot
    except VerrouError as unreadable:
        return evolve(snapshot, warnings=(*snapshot.warnings, str(unreadable)))
    return evolve(snapshot, machine=evolve(snapshot.machine, interrupted=words)) if words else snapshot


def interruption(machine: Machine) -> str:
    """Return the interrupted run and how to continue, in words; empty where there is none.

    One that is still running is not interrupted. Raises: VerrouError, OSError: the journal cannot be read by this
    account."""
    changeable = machine.changeable
    if isinstance(changeable, Lacks):
        return ""
    folder = changeable.records_folder()
    if not (folder / JOURNAL).exists() or is_held(folder):
        return ""
    from verrou.records.journal import Journal

    entry = Journal(folder).interrupted_entry()
    return words_of(entry) if entry is not None else ""


def words_of(entry: "JournalEntry") -> str:
    """Return the text about an interrupted entry."""
    run = f"{entry.command}, by {entry.by}, {entry.begun}"
    return f"entry {entry.number} of the journal ({run}) was interrupted. {how_to_go_on()}"


def how_to_go_on() -> str:
    """Return what to do about an interrupted run."""
    return f"To finish: {advice.resume()}. To revert: {advice.undo()}"
