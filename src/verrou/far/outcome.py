"""What became of a run whose connection was cut."""

import time

from verrou.core import advice
from verrou.core.history.entries import JournalEntry
from verrou.machines.linux.kind import THIS
from verrou.machines.protocol import to_change
from verrou.machines.registry import open_machine
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held
from verrou.records.standing import words_of

PATIENCE, PAUSE = 30.0, 0.2
"""Seconds for which a run that still applies changes is waited for."""


def outcome_of(number: int) -> str:
    """Return what became of a journal entry, once its run has ended."""
    folder = to_change(open_machine(THIS)).records_folder()
    until = time.monotonic() + PATIENCE
    while (held := is_held(folder)) and time.monotonic() < until:
        time.sleep(PAUSE)
    entry = next((each for each in Journal(folder).entries() if each.number == number), None)
    if entry is None:
        return f"nothing was changed: the journal has no entry {number}"
    if held and entry.finished is None:
        return f"entry {number} is still being applied. To see it: {advice.list_journal()}"
    return words_of_outcome(entry)


def words_of_outcome(entry: JournalEntry) -> str:
    """Return what became of an entry that is not being applied any more."""
    if entry.undone_by is not None:
        return f"entry {entry.number} ({entry.command}) was applied, and undone by entry {entry.undone_by}"
    if entry.finished is not None:
        return f"entry {entry.number} ({entry.command}) was applied whole"
    return words_of(entry)
