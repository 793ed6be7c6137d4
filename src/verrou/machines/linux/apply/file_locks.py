"""The two kinds of lock that the system's own tools use for the account files."""

import errno
import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from verrou.core.errors import MachineRefused, NotEnoughRights
from verrou.machines.linux.files.account_files import GROUP, GSHADOW, PASSWD, SHADOW
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.root import Root

PWD_LOCK = "/etc/.pwd.lock"
PATIENCE = 15.0
"""Seconds; lckpwdf(3) waits as long."""
PAUSE = 0.02


@contextmanager
def account_files_locked(root: Root) -> Iterator[None]:
    """Hold the locks of the system's tools (lock files with a pid, as in shadow-utils) and of PAM (lckpwdf(3)).

    Raises: MachineRefused: another program holds one for too long. NotEnoughRights: locking is denied."""
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
    finally:
        os.close(descriptor)


@contextmanager
def _link_lock(file: Path, deadline: float) -> Iterator[None]:
    """Create ``FILE.lock`` with our pid by a hard link, as the tools do; break one whose holder is dead."""
    lock = file.with_name(file.name + ".lock")
    folder = os.open(file.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        descriptor, name = _unlinked(folder, file.name)
        try:
            os.write(descriptor, f"{os.getpid()}\0".encode())
            while True:
                try:
                    os.link(name, lock.name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=True)
                    break
                except FileExistsError:
                    if not _holder_lives(lock):
                        lock.unlink(missing_ok=True)
                        continue
                _wait(lock, deadline)
        finally:
            os.close(descriptor)
            if not name.startswith("/"):
                os.unlink(name, dir_fd=folder)
    finally:
        os.close(folder)
    try:
        yield
    finally:
        with suppress(OSError):  # a remaining lock names a process that ended: the next tool breaks it
            lock.unlink()


def _unlinked(folder: int, name: str) -> tuple[int, str]:
    """Return a new open file, and the name to link it by.

    It has no name of its own where the file system allows that, so that a run that dies leaves none; otherwise it is
    named as the tools name theirs."""
    try:
        descriptor = os.open(".", os.O_WRONLY | os.O_TMPFILE | os.O_CLOEXEC, 0o600, dir_fd=folder)
        return descriptor, f"/proc/self/fd/{descriptor}"
    except OSError as error:
        if error.errno not in (errno.EOPNOTSUPP, errno.EISDIR, errno.EINVAL, errno.ENOENT):
            raise
    ours = f"{name}.{os.getpid()}"
    with suppress(FileNotFoundError):
        os.unlink(ours, dir_fd=folder)
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    return os.open(ours, flags, 0o600, dir_fd=folder), ours


def _holder_lives(lock: Path) -> bool:
    """Return whether the lock's pid is a process.

    An empty lock has no holder that could ever be asked: it counts as alive."""
    try:
        holder = digits(lock.read_bytes().split(b"\0")[0].strip().decode("ascii", "replace"))
    except FileNotFoundError:
        return False
    if holder is None:
        return True
    try:
        os.kill(holder, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return holder != os.getpid()


def _wait(path: Path, deadline: float) -> None:
    if time.monotonic() > deadline:
        raise MachineRefused(
            f"{path} has been held for {PATIENCE:.0f} seconds: another program is changing accounts. "
            "Wait for it, or remove the lock if no such program runs"
        )
    time.sleep(PAUSE)
