"""Both kinds of lock that the system's own tools take on the account files."""

import errno
import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from verrou.core.errors import MachineRefused, NotEnoughRights
from verrou.machines.linux.account_files import GROUP, GSHADOW, PASSWD, SHADOW
from verrou.machines.linux.root import Root

PWD_LOCK = "/etc/.pwd.lock"
PATIENCE = 15.0
"""Seconds; lckpwdf(3) waits as long."""
PAUSE = 0.02


@contextmanager
def account_files_locked(root: Root) -> Iterator[None]:
    """Keep out the system's tools (link locks with a pid, as shadow-utils takes them) and PAM (lckpwdf(3)).

    Raises:
        MachineRefused: somebody holds a lock for longer than we wait. NotEnoughRights: we may not lock.
    """
    deadline = time.monotonic() + PATIENCE
    with ExitStack() as held:
        try:
            held.enter_context(_range_lock(root.place(PWD_LOCK), deadline))
            for name in (PASSWD, GROUP, GSHADOW, SHADOW):
                held.enter_context(_link_lock(root.place(name), deadline))
        except PermissionError:
            raise NotEnoughRights("the account files cannot be locked by this account; run as root") from None
        except OSError as error:
            raise MachineRefused(f"the account files cannot be locked: {error.strerror}") from None
        yield


@contextmanager
def _range_lock(path: Path, deadline: float) -> Iterator[None]:
    there = path.exists()
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        while True:
            try:
                fcntl.lockf(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError as error:
                if error.errno not in (errno.EACCES, errno.EAGAIN):
                    raise
            _wait(path, deadline)
        yield
        if not there:
            path.unlink(missing_ok=True)
    finally:
        os.close(descriptor)


@contextmanager
def _link_lock(file: Path, deadline: float) -> Iterator[None]:
    """``FILE.lock`` holding our pid, made by a hard link as the tools do; one whose holder is dead is broken."""
    lock = file.with_name(file.name + ".lock")
    ours = file.with_name(f"{file.name}.{os.getpid()}")
    ours.unlink(missing_ok=True)
    descriptor = os.open(ours, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    try:
        os.write(descriptor, f"{os.getpid()}\0".encode())
        os.close(descriptor)
        while True:
            try:
                os.link(ours, lock)
                break
            except FileExistsError:
                if not _holder_lives(lock):
                    lock.unlink(missing_ok=True)
                    continue
            _wait(lock, deadline)
    finally:
        ours.unlink(missing_ok=True)
    try:
        yield
    finally:
        lock.unlink(missing_ok=True)


def _holder_lives(lock: Path) -> bool:
    """Whether the lock's pid is a process. An empty lock has no holder that could ever be asked: it counts as alive."""
    try:
        text = lock.read_bytes().split(b"\0")[0].strip()
    except FileNotFoundError:
        return False
    if not text.isdigit():
        return True
    try:
        os.kill(int(text), 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return int(text) != os.getpid()


def _wait(path: Path, deadline: float) -> None:
    if time.monotonic() > deadline:
        raise MachineRefused(
            f"{path} has been held for {PATIENCE:.0f} seconds: another program is changing accounts; "
            "wait for it, or remove the lock if no such program runs"
        )
    time.sleep(PAUSE)
