"""What became of a run whose connection was cut."""

import time
from pathlib import Path

from verrou.core.history.entries import JournalEntry
from verrou.machines.protocol import to_change
from verrou.machines.registry import open_machine
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held
from verrou.records.standing import words_of
from verrou.reports.tables import complain

PATIENCE, PAUSE = 30.0, 0.2
"""Seconds for which a run that still applies changes is waited for."""


def print_outcome(number: int) -> int:
    """Print what became of a journal entry, once its run has ended; return 0 where it was applied whole."""
    folder = to_change(open_machine("this")).records_folder()
    until = time.monotonic() + PATIENCE
    while is_held(folder) and time.monotonic() < until:
        time.sleep(PAUSE)
    text, whole = _outcome(folder, number)
    complain(text)
    return 0 if whole else 1


def _outcome(folder: Path, number: int) -> tuple[str, bool]:
    entry = next((each for each in Journal(folder).entries() if each.number == number), None)
    if entry is None:
        return f"nothing was changed: the journal has no entry {number}", False
    if is_held(folder) and entry.finished is None:
        return f"entry {number} is still being applied. To see it: verrou journal list", False
    return _words(entry)


def _words(entry: JournalEntry) -> tuple[str, bool]:
    if entry.finished is not None:
        return f"entry {entry.number} ({entry.command}) was applied whole", True
    return words_of(entry), False
