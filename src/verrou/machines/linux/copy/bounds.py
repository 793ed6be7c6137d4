"""Bounds of what runs in a private copy: time, number of processes, and memory.

setrlimit(2) bounds each process by itself; the first process of a copy counts them and their memory together."""

import os
import resource
import select
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path

MOST_PROCESSES, MOST_PAGES = 100, 1_000_000_000 // os.sysconf("SC_PAGE_SIZE")
"""How many processes may run in a copy at once, and how many pages of memory they may have together."""
MOST_DATA = 1_000_000_000
"""Bytes that one process may have."""
BETWEEN_LOOKS = 0.02
"""Seconds after which it is looked anew at what runs in a copy."""


def bound_this_process(seconds: int) -> None:
    """Limit the memory of this process and all that it starts, and the CPU time of each."""
    bounds = {resource.RLIMIT_DATA: MOST_DATA, resource.RLIMIT_CPU: seconds, resource.RLIMIT_CORE: 0}
    for limit, most in bounds.items():
        _, already = resource.getrlimit(limit)
        bound = most if already == resource.RLIM_INFINITY else min(most, already)
        resource.setrlimit(limit, (bound, bound))


def kill_all() -> None:
    """Kill every process that this one may signal, but itself."""
    with suppress(ProcessLookupError):
        os.kill(-1, signal.SIGKILL)


@contextmanager
def until_ended(pid: int) -> Iterator[Callable[[float], None]]:
    """Return a function that waits some seconds for a process to end.

    It waits them all where the kernel (before 5.3) cannot tell when."""
    try:
        process = os.pidfd_open(pid)
    except OSError:
        yield time.sleep
        return
    try:
        yield partial(until_readable, process)
    finally:
        os.close(process)


def until_readable(descriptor: int, seconds: float) -> None:
    """Wait some seconds for something to be readable."""
    select.select([descriptor], [], [], seconds)


def watched(ended: Callable[[], bool], wait: Callable[[float], None], patience: int) -> bool:
    """Wait for a process. Return False where it takes over ``patience`` seconds.

    Where more runs by then than is allowed, all of it is killed, and the process waited for, too."""
    deadline = time.monotonic() + patience
    while not ended():
        if time.monotonic() > deadline:
            return False
        if os.getpid() == 1 and _too_much():
            kill_all()
        wait(BETWEEN_LOOKS)
    return True


def _too_much() -> bool:
    """Return whether more processes run in this copy than allowed, or use more memory."""
    try:
        running = [name for name in os.listdir("/proc") if name.isdigit()]
    except OSError:
        return False  # a tree without that place has no programs that could multiply
    own = _pages("1")  # every process that is forked from this one shows these as its own, and has them not
    pages = sum(max(0, _pages(name) - own) for name in running)
    return len(running) > MOST_PROCESSES or pages > MOST_PAGES


def _pages(process: str) -> int:
    """Return the resident pages of a process, by proc(5): none of one that has ended."""
    try:
        return int(Path("/proc", process, "statm").read_text().split()[1])
    except (OSError, ValueError, IndexError):
        return 0
