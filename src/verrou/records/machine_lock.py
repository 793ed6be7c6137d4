"""One lock for each machine, taken by every run that changes it; it is released when its holder ends."""

import errno
import fcntl
import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

from verrou.core.errors import MachineRefused
from verrou.log import Log

LOG = Log(__name__)

LOCK = "lock"
PATIENCE = 30.0
"""Seconds that another run is waited for."""
PAUSE = 0.05
_FLAGS = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC


@contextmanager
def machine_lock(folder: Path, machine: str, command: str, by: str) -> Iterator[None]:
    """Hold the lock of the machine whose records are in ``folder``.

    Raises: MachineRefused: another run holds it for too long; the message says who, doing what, since when."""
    # A range lock of fcntl(2): no child of ours inherits it, and the kernel lets go of it when we die.
    descriptor = os.open(folder / LOCK, _FLAGS, 0o600)
    try:
        deadline = time.monotonic() + PATIENCE
        while not _locked(descriptor):
            if time.monotonic() > deadline:
                raise MachineRefused(f"{machine} is in use by {_holder(descriptor)}. Try again later.")
            time.sleep(PAUSE)
        text = {"by": by, "command": command, "since": datetime.now().isoformat(sep=" ", timespec="seconds")}
        os.truncate(descriptor, 0)
        os.pwrite(descriptor, json.dumps(text).encode(), 0)
        yield
        os.truncate(descriptor, 0)
    finally:
        os.close(descriptor)


def is_held(folder: Path) -> bool:
    """Return whether another run holds the lock right now."""
    try:
        descriptor = os.open(folder / LOCK, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        return not _locked(descriptor)
    finally:
        os.close(descriptor)


def _locked(descriptor: int) -> bool:
    try:
        fcntl.lockf(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        if error.errno not in (errno.EACCES, errno.EAGAIN):
            raise
        return False
    return True


def _holder(descriptor: int) -> str:
    try:
        holder = json.loads(os.pread(descriptor, 4096, 0))
        return f"{holder['by']} ({holder['command']}, since {holder['since']})"
    except (OSError, ValueError, KeyError, TypeError) as error:
        LOG.debug("the lock does not say who holds it: %s", error)
        return "another run"
