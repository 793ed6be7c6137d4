"""The logbook over many machines: each record waits in a folder first, and is delivered when possible."""

# Imports within functions: a package that need not be there.

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from threading import Thread
from typing import TYPE_CHECKING

from attrs import frozen

from verrou.core.errors import BadInput, VerrouError
from verrou.core.history.records import RunRecord
from verrou.log import Log
from verrou.records.logbook import waiting
from verrou.records.logbook.place import Place

LOG = Log(__name__)

if TYPE_CHECKING:
    from verrou.records.logbook.reader import Reader

__all__ = ["Delivery", "Place", "deliver", "deliver_soon", "import_records", "reading"]

PATIENCE, PATIENCE_WITH_A_FILE = 3.0, 30.0
"""Seconds that a command waits for the logbook after its output: a server may never answer, and a local file keeps it
waiting only on a slow disk."""


@frozen(repr=False)
class Delivery:
    """Result of a delivery: how many records were delivered and how many wait, why, and files that are no records."""

    delivered: int = 0
    waiting: int = 0
    reason: str = ""
    foreign: tuple[str, ...] = ()


def deliver_soon(place: Place) -> Delivery:
    """Deliver waiting records, if the logbook can be reached at once."""
    if reason := waiting.unreached(place.waiting):
        return Delivery(0, len(waiting.files(place.waiting)), reason)
    return _within(place, PATIENCE if place.file is None else PATIENCE_WITH_A_FILE)


def _within(place: Place, seconds: float) -> Delivery:
    """Deliver within a time limit: what is not delivered by then still waits, and is never delivered twice."""
    before = len(waiting.files(place.waiting))
    ended: list[Delivery] = []
    reasons = [f"it did not answer within {seconds:g} seconds"]

    def work() -> None:
        try:
            ended.append(deliver(place, hurried=True))
        except Exception as error:  # whatever a driver may raise: all output is printed by now
            reasons.insert(0, f"{type(error).__name__}: {error}")

    worker = Thread(target=work, daemon=True)
    worker.start()
    worker.join(seconds)
    if ended:
        return ended[0]
    left = len(waiting.files(place.waiting))
    if left < before:
        return Delivery(before - left, left, f"{seconds:g} seconds were not enough for all of them")
    waiting.note_unreached(place.waiting, reasons[0])
    return Delivery(0, left, reasons[0])


def deliver(place: Place, hurried: bool = False) -> Delivery:
    """Deliver waiting records to the logbook; those that fail keep waiting. ``hurried``: its user waits for something
    else."""
    delivered, foreign = 0, []
    found = waiting.files(place.waiting)
    if not found:
        return Delivery()
    try:
        from verrou.records.logbook.store import Store

        with Store(place, hurried=hurried) as store:
            for path in found:
                try:
                    store.add([waiting.read(path)])
                except FileNotFoundError:  # another process delivered it
                    continue
                except ValueError as error:
                    foreign.append(f"{path}: {error}")
                    continue
                path.unlink(missing_ok=True)
                LOG.info("recorded in %s: %s", place.shown, path.name)
                delivered += 1
    except VerrouError as error:
        left = len(found) - delivered - len(foreign)
        waiting.note_unreached(place.waiting, str(error))
        return Delivery(delivered, left, str(error), tuple(foreign))
    waiting.note_reached(place.waiting)
    return Delivery(delivered, 0, "", tuple(foreign))


@contextmanager
def reading(place: Place) -> "Iterator[Reader]":
    """Open a logbook to ask it. Raises: BadInput: there is no logbook, or it cannot be reached."""
    from verrou.records.logbook.store import Store

    with Store(place, make=False) as store:
        from verrou.records.logbook.reader import Reader

        yield Reader(store)


def import_records(place: Place, lines: Iterable[bytes], named: str) -> tuple[int, int]:
    """Add the records of an export, a line each, all or none; return how many are new, and how many there were.

    Raises: BadInput: a line is no record, or the logbook cannot be reached."""
    from verrou.records.logbook.store import Store

    read = 0

    def records() -> Iterator[RunRecord]:
        nonlocal read
        for line in lines:
            if line.strip():
                read += 1
                yield waiting.record_from(line)

    with Store(place) as store:
        try:
            new = store.add(records())
        except ValueError as error:
            from verrou.records.logbook.adding import NotStored

            at = error.position + 1 if isinstance(error, NotStored) else read
            raise BadInput(f"{named}: record {at}: {error}. Nothing was imported.") from None
    return new, read - new
