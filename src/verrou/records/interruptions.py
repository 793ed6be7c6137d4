"""Delay signals until a change set has been applied."""

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager

WAITING = (signal.SIGHUP, signal.SIGTERM)
"""A closed terminal, and a polite end. Ctrl-C means that the user wants to stop, and stops it."""


@contextmanager
def until_applied() -> Iterator[None]:
    """Delay every signal but SIGKILL and Ctrl-C to the end of the block, when every file is whole
    (pthread_sigmask(3))."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, WAITING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
