"""Audit many machines on all cores; what is stored of each is small and of one size."""

# Imports within functions: few rounds need them.

import fnmatch
import gc
import os
import re
import signal
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from functools import lru_cache
from hashlib import sha256
from itertools import groupby, islice
from operator import attrgetter
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from attrs import evolve, frozen

from verrou.core.baselines.baseline import Baseline
from verrou.core.errors import BadInput, MachineRefused, VerrouError
from verrou.core.judging.audit import Finding, FindingCache, audit
from verrou.core.judging.rounds import Content, LeftOut, Row, row_of
from verrou.machines.protocol import Machine
from verrou.machines.registry import opener
from verrou.machines.survey.machine import SurveyFile
from verrou.records.round_cache import Key, Renewal, RoundCache, cache_file
from verrou.records.standing import observed

if TYPE_CHECKING:
    from concurrent.futures import Future, ProcessPoolExecutor

    from verrou.core.model import Snapshot

WORTH_SHARING = 64
"""From how many machines on it pays to start other processes."""
AT_ONCE = 50
ENTRY = {"at", "baseline"}
LABEL = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,63}", re.ASCII)


Outcome = Row | LeftOut
Load = Callable[[str], Baseline]
Statement = Callable[[Finding], str]


@frozen(repr=False)
class Stop:
    """One machine of a table: its name there, where it is, and by which baseline it is audited."""

    name: str
    address: str
    baseline: str


@frozen(repr=False)
class Assignment:
    """Which baseline a machine is audited against: by name patterns, the first match; and where machines are."""

    patterns: tuple[tuple[str, str], ...]
    places: tuple[tuple[str, str], ...] = ()

    def stops(self, place: str, usual: str | None) -> list[Stop]:
        """Return the machines of a table, each where it says; without a baseline there, by the ``usual`` one.

        Raises: BadInput: one has no place, or no baseline."""
        where, baselines = dict(self.places), dict(self.patterns)
        found = []
        for name in dict.fromkeys((*baselines, *where)):
            if name not in where:
                raise BadInput(f'{place}: machines.{name}: it does not say where it is. Add at = "ssh://HOST"')
            baseline = usual or baselines.get(name)
            if not baseline:
                raise BadInput(f"{place}: machines.{name}: no baseline. Add baseline = NAME, or use -b BASELINE.")
            found.append(Stop(name, where[name], baseline))
        return found

    def baseline_of(self, machine: str) -> str:
        """Return the name of the baseline; empty where no pattern matches."""
        return next((name for pattern, name in self.patterns if fnmatch.fnmatchcase(machine, pattern)), "")


def read_assignment(text: str, place: str) -> Assignment:
    """Return which machine by which baseline, from a TOML table ``[machines]``: ``NAME = "BASELINE"``, or
    ``NAME = { at = "ADDRESS", baseline = "BASELINE" }``.

    Raises: BadInput: with what was found."""
    import tomllib

    try:
        document = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise BadInput(f"{place}: this is not valid TOML: {error}") from None
    table = document.get("machines")
    if set(document) != {"machines"} or not isinstance(table, dict) or not table:
        found = ", ".join(document) or "nothing"
        raise BadInput(f'{place}: invalid value {found}; expected a table [machines] of "NAME" = "BASELINE"')
    beside = Path(place).parent
    patterns, places = [], []
    for name, told in table.items():
        given = {"baseline": told} if isinstance(told, str) else told
        if not (isinstance(given, dict) and set(given) <= ENTRY and all(isinstance(v, str) for v in given.values())):
            accepted = 'the name of a baseline in quotes, or { at = "ADDRESS", baseline = "BASELINE" }'
            raise BadInput(f"{place}: machines.{name}: invalid value {told!r}; expected {accepted}")
        if "at" in given:
            if not LABEL.fullmatch(name):
                accepted = "letters, digits, dots, hyphens and underscores: files are named by it"
                raise BadInput(f"{place}: machines.{name}: invalid name {name!r}; expected {accepted}")
            places.append((name, given["at"] if "://" in given["at"] else _beside(beside, given["at"])))
        if "baseline" in given:
            patterns.append((name, _beside(beside, given["baseline"])))
    return Assignment(tuple(patterns), tuple(places))


def _beside(folder: Path, name: str) -> str:
    return str(folder / name) if (folder / name).exists() else name


def go_round(addresses: Sequence[str], assignment: Assignment, load: Load, statement: Statement) -> Iterator[Outcome]:
    """Yield the row of each machine, in the order of the addresses; ``statement`` gives a finding in words.

    A machine that cannot be read never ends the round. A survey that an earlier round has judged by the same baseline
    is not judged again."""
    for name in dict.fromkeys(name for _, name in assignment.patterns):
        load(name)  # errors in a baseline are reported once, before everything else
    file = cache_file()
    cache = RoundCache.read(file)
    texts: dict[str, str] = {}
    everywhere = _look_everywhere(addresses, _Worker(assignment, load, statement, cache))
    renewal = Renewal(cache, file)
    for address, (found, key, recorded) in zip(addresses, everywhere, strict=True):
        if isinstance(found, LeftOut):
            yield found
            continue
        content = cache[key] if found is None and key is not None else found
        assert content is not None
        if key is not None:
            renewal.keep(key, content)
        yield Row.placed(content, address, recorded, texts)
    renewal.write()


def _look_everywhere(addresses: Sequence[str], worker: "_Worker") -> Iterator["Looked"]:
    cores = len(os.sched_getaffinity(0))
    if len(addresses) < WORTH_SHARING or cores == 1:
        _begin(worker)
        yield from map(_look, addresses)
        return
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool
    from multiprocessing import get_context

    pool = ProcessPoolExecutor(cores, get_context("fork"), _begin_beside, (worker,))
    try:
        yield from _looked(pool, addresses, cores + 1)
    except BrokenProcessPool:
        raise MachineRefused("one of the processes at work was ended from outside; run the command again") from None
    finally:
        pool.shutdown()


def _looked(pool: "ProcessPoolExecutor", addresses: Sequence[str], most: int) -> Iterator["Looked"]:
    """Submit at most ``most`` batches at once, so that an interrupted round has none to cancel.

    An executor does not cancel well: :mod:`concurrent.futures` of Python 3.11 fails on it where a process has ended
    too."""
    batches = iter(range(0, len(addresses), AT_ONCE))

    def next_ones(count: int) -> Iterator["Future[list[Looked]]"]:
        return (pool.submit(_look_at_all, addresses[i : i + AT_ONCE]) for i in islice(batches, count))

    under_way = deque(next_ones(most))
    while under_way:
        yield from under_way.popleft().result()
        under_way.extend(next_ones(1))


class Looked(NamedTuple):
    """What one process found at an address: the content of a row, or nothing where it is in the cache; of a survey also
    the key of its row, and when it was written."""

    found: Content | LeftOut | None
    key: Key | None = None
    recorded: float | None = None


class _Worker:
    """State of one process: the baselines, and what it has read so far."""

    def __init__(self, assignment: Assignment, load: Load, statement: Statement, cache: RoundCache) -> None:
        self.assignment, self.statement, self.cache = assignment, statement, cache
        self.load = lru_cache(load)
        self.digest = lru_cache(lambda name: bytes.fromhex(load(name).digest))
        self.open = opener()
        self.known: dict[str, FindingCache] = {}

    def look(self, address: str) -> Looked:
        try:
            machine = self.open(address)
            return self._look_at_file(machine) if isinstance(machine, SurveyFile) else self._look_at(machine)
        except VerrouError as error:
            return Looked(LeftOut(address, str(error)))
        except Exception as error:  # whatever one of thousands contains, the round continues
            reason = f"{address}: it could not be read ({type(error).__name__}: {error})"
            return Looked(LeftOut(address, reason))

    def _look_at(self, machine: Machine) -> Looked:
        return Looked(self._judge_assigned(observed(machine), machine.address)[0], None, machine.recorded)

    def _look_at_file(self, machine: SurveyFile) -> Looked:
        recorded, content = machine.recorded, machine.content()
        digest = sha256(content).digest()
        known = self.cache.machine_of(digest)
        if known is not None and (name := self.assignment.baseline_of(known)):
            key = digest + self.digest(name)
            if key in self.cache:
                return Looked(None, key, recorded)
        found, name = self._judge_assigned(machine.read(content), machine.address)
        return Looked(found, digest + self.digest(name) if name else None, recorded)

    def _judge_assigned(self, snapshot: "Snapshot", address: str) -> tuple[Content | LeftOut, str]:
        """Return the content of the row by the baseline that is assigned to a machine, and its name; empty where there
        is none."""
        name = self.assignment.baseline_of(snapshot.machine.name)
        if not name:
            return LeftOut(address, f"no baseline is named for {snapshot.machine.name}"), ""
        return self.judge(snapshot, address, name).content, name

    def judge(self, snapshot: "Snapshot", address: str, baseline: str) -> Row:
        found = audit(snapshot, self.load(baseline), self.known.setdefault(baseline, {}))
        return row_of(found, snapshot, address, self.statement)


def judged(
    stops: Iterable[tuple[Stop, "Snapshot | VerrouError"]], load: Load, statement: Statement
) -> Iterator[Outcome]:
    """Yield the row of each machine of a table, under the name that it has there; ``statement`` as in
    :func:`go_round`."""
    worker = _Worker(Assignment(()), load, statement, RoundCache({}))
    for stop, found in stops:
        if isinstance(found, VerrouError):
            yield left_out_of(stop, str(found))
            continue
        named = evolve(found, machine=evolve(found.machine, name=stop.name))
        yield worker.judge(named, stop.address, stop.baseline)


def left_out_of(stop: Stop, reason: str) -> LeftOut:
    """Return a machine of a table that was left out, under its name there."""
    return LeftOut(stop.name, reason if reason.startswith(f"{stop.name}: ") else f"{stop.name}: {reason}")


_worker: _Worker | None = None


def _begin(worker: _Worker) -> None:
    global _worker
    _worker = worker
    gc.freeze()
    gc.set_threshold(100_000, 50, 50)  # cached objects are collected less often: they have no cycles


def _begin_beside(worker: _Worker) -> None:
    """Set up a process of its own: Ctrl-C is meant for the one that started it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _begin(worker)


def _look(address: str) -> Looked:
    assert _worker is not None
    return _worker.look(address)


def _look_at_all(addresses: Sequence[str]) -> list[Looked]:
    return [_look(each) for each in addresses]


def newest(rows: list[Row]) -> tuple[list[Row], int]:
    """Return the newest row of each machine, and how many others there were; ``rows`` are sorted for it.

    On a tie the machine itself is newer than any survey of it, since its clock may not move, and of two files the one
    written later."""
    by_identity = attrgetter("identity")
    rows.sort(key=by_identity)
    latest = [max(seen, key=_seen) for _, seen in groupby(rows, by_identity)]
    return latest, len(rows) - len(latest)


def _seen(row: Row) -> tuple[datetime, bool, float]:
    return row.at, row.recorded is None, row.recorded or 0.0
