"""A round over machines across cables: many at once, each with its own answer, and none of them the end of it."""

import shutil
import sys
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, as_completed
from contextlib import contextmanager
from io import StringIO
from typing import TextIO, TypeVar

from attrs import define, field, frozen

from verrou.cli.handing_over import is_across
from verrou.core.errors import VerrouError
from verrou.core.model import Snapshot
from verrou.far.address import address_from
from verrou.far.connection import Connection, Secret
from verrou.far.desk import Desk
from verrou.far.near import served
from verrou.far.order import PIPE, Order, Task
from verrou.far.surveys import survey_from
from verrou.machines.registry import open_machine
from verrou.records.rounds import Stop
from verrou.records.standing import observed

T = TypeVar("T")
SILENT, LONGEST, LONGEST_CHANGE = 60.0, 300.0, 1800.0
"""Seconds without a word after which a machine is left out; seconds that a survey, and that a change may take."""


@frozen(repr=False)
class Ended:
    """How a command ended on one machine: exit code, output and errors."""

    code: int
    output: str
    errors: str


@define(repr=False)
class Visits:
    """The connections of one round. ``secrets`` are passwords for sudo, by the name of the stop."""

    at_once: int
    secrets: Mapping[str, str]
    _open: set[Connection] = field(factory=set)
    _changing: threading.Lock = field(factory=threading.Lock)

    def surveys(self, stops: Sequence[Stop]) -> Iterator[tuple[Stop, Snapshot | VerrouError]]:
        """Yield the state of each machine, or why it is not known, as they come."""
        yield from self._all(stops, self._survey)

    def previews(self, stops: Sequence[Stop]) -> Mapping[str, Ended | VerrouError]:
        """Return the preview of each machine's plan, by the name of the stop."""
        previewed = self._all(stops, lambda stop: self.run(stop, harden_words(stop, "--preview")))
        return {stop.name: ended for stop, ended in previewed}

    def _all(self, stops: Sequence[Stop], do: Callable[[Stop], T]) -> Iterator[tuple[Stop, T | VerrouError]]:
        with ThreadPoolExecutor(self.at_once) as pool:
            waiting: dict[Future[T], Stop] = {pool.submit(do, stop): stop for stop in stops}
            try:
                for future in as_completed(waiting):
                    try:
                        yield waiting[future], future.result()
                    except VerrouError as reason:
                        yield waiting[future], reason
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                for connection in list(self._open):
                    connection.abort()
                raise

    def _survey(self, stop: Stop) -> Snapshot:
        if not is_across(stop.address):
            return observed(open_machine(stop.address))
        ended = self.run(stop, ("survey", "-m", stop.address, "--format", "json"), LONGEST)
        return survey_from(address_from(stop.address).shown, ended.code, ended.output, ended.errors)

    def run(
        self, stop: Stop, words: Sequence[str], longest: float = LONGEST_CHANGE, out: TextIO | None = None
    ) -> Ended:
        """Run a command on the machine of a stop, and return how it ended, within ``longest`` seconds.

        Its output goes to ``out`` instead, if given. Raises: VerrouError: it did not run, or was cut."""
        where = address_from(stop.address)
        output, errors = out or StringIO(), StringIO()

        def connect(more: Sequence[str] = ()) -> Connection:
            return Connection(where, Secret(self.secrets.get(stop.name)), asks=False, limit=SILENT, more=tuple(more))

        desk = Desk(where.shown, tuple(words), output, errors, connect, asks=False)
        order = Order(Task.COMMAND, stop.address, tuple(words), columns=shutil.get_terminal_size(PIPE).columns)
        with self._counted(connect()) as connection, ended_after(connection, longest):
            code = served(connection, desk, order)
        return Ended(code, output.getvalue() if isinstance(output, StringIO) else "", errors.getvalue())

    @contextmanager
    def _counted(self, connection: Connection) -> Iterator[Connection]:
        with connection:
            with self._changing:
                self._open.add(connection)
            try:
                yield connection
            finally:
                with self._changing:
                    self._open.discard(connection)


@contextmanager
def ended_after(connection: Connection, seconds: float) -> Iterator[None]:
    """End a connection that takes longer."""
    timer = threading.Timer(seconds, connection.abort)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


def harden_words(stop: Stop, *more: str) -> tuple[str, ...]:
    """Return the command line that hardens the machine of a stop."""
    return ("harden", "-m", stop.address, "-b", stop.baseline, *more)


def apply(visits: Visits, stop: Stop, passwords: str) -> Ended:
    """Harden the machine of a stop; generated passwords go to the new file ``passwords``. Raises: VerrouError."""
    return visits.run(stop, harden_words(stop, "--yes", "--password-file", passwords), out=sys.stdout)


def sheet(visits: Visits, stop: Stop, file: str) -> Ended:
    """Save the sign-off sheet of a machine to a new file. Raises: VerrouError."""
    return visits.run(stop, ("report", "-m", stop.address, "-b", stop.baseline, "--save", file))
