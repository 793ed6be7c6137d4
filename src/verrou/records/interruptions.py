"""Signals that wait until a change set has landed."""

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager

WAITING = (signal.SIGHUP, signal.SIGTERM)
"""A terminal that goes away, and a polite end. Ctrl-C is somebody who wants it to stop, and stops it."""


@contextmanager
def until_landed() -> Iterator[None]:
    """Let nothing but a kill or Ctrl-C end the process within the block: what is asked for meanwhile happens at its
    end, when every file is as it should be (pthread_sigmask(3))."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, WAITING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
