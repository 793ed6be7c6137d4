"""An open logbook that is asked."""

from collections.abc import Collection, Iterator, Sequence
from datetime import date
from typing import Any

from verrou.core.history.records import Extent, ListedRun, RunRecord
from verrou.core.history.trend import MachineHistory, worst_first
from verrou.records.logbook import answers
from verrou.records.logbook.answers import Selection
from verrou.records.logbook.store import Store

__all__ = ["Reader", "Selection"]


class Reader:
    """Asks a logbook. Each method raises BadInput where the logbook cannot be reached."""

    def __init__(self, store: Store) -> None:
        self.store = store

    def knows(self, machine: str) -> bool:
        """Return whether a machine ever had this name."""
        with self.store.connected() as connection:
            return answers.knows(connection, machine)

    def page(self, selection: Selection, limit: int | None, skip: int) -> tuple[Extent, Sequence[ListedRun]]:
        """Return how many records there are, and the newest selected ones, the oldest of them first."""
        with self.store.connected() as connection:
            return answers.extent(connection, selection), answers.listed(connection, selection, limit, skip)

    def record(self, number: int) -> RunRecord | None:
        """Return the record of a number, whole."""
        with self.store.connected() as connection:
            return answers.record(connection, number)

    def records(self, selection: Selection) -> Iterator[RunRecord]:
        """Yield the selected records, whole, the oldest first.

        Each part is asked for by itself, so that no writer waits for a reader that is slow."""
        after: tuple[Any, ...] | None = None
        while True:
            with self.store.connected() as connection:
                found, after = answers.whole_records(connection, selection, after)
            yield from found
            if after is None:
                return

    def histories(
        self, machine: str, families: Collection[str], ending_by: date, *, every_moment: bool
    ) -> Sequence[MachineHistory]:
        """Return the audit history of each machine, the worst first; its first and last moments alone, or every one."""
        with self.store.connected() as connection:
            return worst_first(answers.histories(connection, machine, families, ending_by, every_moment=every_moment))
