"""What benchmarks share: honest times of two sides in turn, and lines that hold a promise against what was measured.

Both sides have the same settings of the garbage collector; CPU time where the machine may not be quiet. What is run is
run in a quiet moment: a loop that never differs is timed before and after, and where it was slow the run is made again.
Which run counts is decided by that loop alone, never by what the run took."""

import gc
import os
import resource
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from operator import itemgetter
from pathlib import Path
from statistics import median
from typing import TypeVar

from attrs import asdict, frozen

from verrou.__main__ import GARBAGE_THRESHOLDS

T = TypeVar("T")
QUIET = {k: v for k, v in os.environ.items() if k not in ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED")}
"""As on anybody's machine: compiled modules are kept, and output is buffered."""


@frozen
class Line:
    """One promise: ``now`` is the median of what was measured, from ``low`` to ``high``. ``most``: it may be at most
    what is promised; else it must be at least that. None: nothing is promised, but people ask."""

    area: str
    what: str
    promised: float | None
    now: float
    low: float
    high: float
    unit: str = "times"
    most: bool = True

    @property
    def is_met(self) -> bool | None:
        if self.promised is None:
            return None
        return self.now <= self.promised if self.most else self.now >= self.promised

    def __str__(self) -> str:
        verdict = {True: "met", False: "NOT MET", None: ""}[self.is_met]
        promise = "" if self.promised is None else f"{'at most' if self.most else 'at least'} {self.promised:g}"
        spread = f"{self.low:.3g} to {self.high:.3g}"
        return f"{self.area:10} {self.what:66} {self.now:8.3g} {self.unit:6} {spread:18} {promise:14} {verdict}"

    def data(self) -> dict[str, object]:
        return {**asdict(self), "is_met": self.is_met}


def line(
    area: str, what: str, promised: float | None, taken: Iterable[float], unit: str = "times", **more: bool
) -> Line:
    """A line of several measurements."""
    every = sorted(taken)
    return Line(area, what, promised, median(every), every[0], every[-1], unit, **more)


def exponent(small: float, large: float, growth: float) -> float:
    """By which power a time grew while the work grew so many times."""
    from math import log

    return log(large / small) / log(growth)


def cpu_of(work: Callable[[], object]) -> float:
    """CPU seconds of this process for some work."""
    gc.collect()
    before = gc.get_threshold()
    gc.set_threshold(*GARBAGE_THRESHOLDS)
    try:
        start = time.process_time()
        work()
        return time.process_time() - start
    finally:
        gc.set_threshold(*before)


@frozen
class Ran:
    """What a command took: seconds of wall and CPU time of it and its children, and the largest of them in MB."""

    wall: float
    cpu: float
    megabytes: float


TRIES, QUIET_WITHIN = 3, 1.25
"""How often a run is made until a moment is quiet: one in which the loop takes at most so many times its best."""
BEST_PACE = "VERROU_BEST_PACE"
"""The variable by which one benchmark leaves the best time of that loop to the next."""
_best = [float(os.environ.get(BEST_PACE, "inf"))]


def pace() -> float:
    """Return how slow the machine is just now: the wall time of a loop, as a ratio to its best so far."""
    begun = time.perf_counter()
    sum(each * each % 7 for each in range(200_000))
    taken = time.perf_counter() - begun
    _best[0] = min(_best[0], taken)
    return taken / _best[0]


def best_pace() -> str:
    """Return the best time of the loop, in seconds, after a look for one of its quick moments."""
    for _ in range(100):
        pace()
    return str(_best[0])


def quietly(work: Callable[[], T], tries: int = TRIES) -> T:
    """Return the result of the first quiet run, or else of the quietest."""
    found: list[tuple[float, T]] = []
    while not found or (found[-1][0] > QUIET_WITHIN and len(found) < tries):
        before = pace()
        result = work()
        found.append((max(before, pace()), result))
    return min(found, key=itemgetter(0))[1]


def ran(command: Sequence[str], *, codes: Sequence[int] = (0, 1), cwd: str | None = None) -> Ran:
    """Run a command, once, without reading what it says."""
    with _counted() as (join, cpu):
        own = (
            f"import os,resource,subprocess,sys,time; {join}; begun=time.perf_counter(); "
            f"code=subprocess.run({[*command]!r},stdout=subprocess.DEVNULL,stderr=subprocess.DEVNULL).returncode; "
            "r=resource.getrusage(resource.RUSAGE_CHILDREN); "
            "print(code,time.perf_counter()-begun,r.ru_utime+r.ru_stime,r.ru_maxrss/1000)"
        )
        ended = subprocess.run(
            [sys.executable, "-c", own], capture_output=True, text=True, check=True, env=QUIET, cwd=cwd
        )
        code, wall, waited_for, megabytes = ended.stdout.split()
        assert int(code) in codes, command
        return Ran(float(wall), cpu() or float(waited_for), float(megabytes))


CGROUPS = Path("/sys/fs/cgroup")


@contextmanager
def _counted() -> Iterator[tuple[str, Callable[[], float]]]:
    """Yield how a process joins a control group of its own, and what gives the CPU seconds used in it, or 0 where none
    can be made: what nobody waits for, as the processes of a copy that is ended, counts there alone (cgroups(7))."""
    name = f"verrou-{os.getpid()}"
    for group, file in ((CGROUPS / "cpuacct" / name, "cpuacct.usage"), (CGROUPS / name, "cpu.stat")):
        with suppress(OSError):
            group.mkdir()
        if (usage := group / file).exists():
            break
    else:
        yield "pass", lambda: 0.0
        return
    try:
        yield f"open({str(group / 'cgroup.procs')!r},'w').write(str(os.getpid()))", lambda: _seconds(usage.read_text())
    finally:
        while True:
            with suppress(OSError):
                group.rmdir()
                break
            time.sleep(0.1)


def _seconds(text: str) -> float:
    """Return the CPU seconds that a control group reports: nanoseconds, or lines of which one has microseconds."""
    words = text.split()
    return int(words[0]) / 1e9 if len(words) == 1 else int(words[words.index("usage_usec") + 1]) / 1e6


def in_turn(commands: dict[str, Sequence[str]], rounds: int) -> dict[str, list[Ran]]:
    """Run several commands in turn, each in a quiet moment, after each has been run once."""
    for command in commands.values():
        ran(command)
    found: dict[str, list[Ran]] = {name: [] for name in commands}
    for _ in range(rounds):
        for name, command in commands.items():
            found[name].append(quietly(partial(ran, command)))
    return found


def ratios(found: dict[str, list[Ran]], one: str, other: str) -> list[float]:
    """CPU time of one command as a ratio to another's; see :func:`in_order`."""
    return in_order((each.cpu for each in found[one]), (each.cpu for each in found[other]))


def in_order(ours: Iterable[float], theirs: Iterable[float]) -> list[float]:
    """Return ratios of the quickest to the quickest and so on: a machine that was slow for one of a pair tells nothing
    about either."""
    return [mine / its for mine, its in zip(sorted(ours), sorted(theirs), strict=True)]


def told(lines: Callable[[], Iterator[Line]]) -> None:
    """Print the lines of a benchmark as they come."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    for each in lines():
        print(each, flush=True)
