"""Namespaces, mounts and capabilities: unshare(2), mount(2), pivot_root(2) and capabilities(7)."""

import ctypes
import errno
import os
import signal
from collections.abc import Sequence
from pathlib import Path

CLONE_NEWNS, CLONE_NEWUTS, CLONE_NEWIPC = 0x00020000, 0x04000000, 0x08000000
CLONE_NEWPID, CLONE_NEWNET = 0x20000000, 0x40000000
MS_RDONLY, MS_NOSUID, MS_NODEV, MS_REMOUNT = 1, 2, 4, 32
MS_BIND, MS_MOVE, MS_REC, MS_PRIVATE = 4096, 8192, 16384, 1 << 18
MNT_DETACH = 2
AT_RECURSIVE = 0x8000
SYS_MOUNT_SETATTR, SYS_OPENAT2 = 442, 437
"""Numbers of system calls that are the same on every processor."""
ATTR_RDONLY, ATTR_NODEV = 1, 4
MOST_TRIES = 10_000
"""Most repeated resolutions of a name with ``..``: the kernel demands one whenever anything on the computer was
renamed or mounted meanwhile."""
RESOLVE_NO_MAGICLINKS, RESOLVE_IN_ROOT = 0x02, 0x10
PR_SET_PDEATHSIG, PR_CAPBSET_DROP = 1, 24
CAPABILITY_VERSION_3 = 0x20080522
LAST_CAPABILITY = 63
NEEDED_INSIDE = (0, 1, 3, 4, 5, 6, 7)
"""What the updater, PAM and sudo need of capabilities(7): to own, read and write files for others, to signal, and to
change identity: CHOWN, DAC_OVERRIDE, FOWNER, FSETID, KILL, SETGID, SETUID."""
CLEAN_ENVIRONMENT = {
    "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
    "LC_ALL": "C",
    "DEBIAN_FRONTEND": "noninteractive",
    "HOME": "/root",
}
_LIBC = ctypes.CDLL(None, use_errno=True)


class _Header(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Data(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


class _MountAttributes(ctypes.Structure):
    _fields_ = (
        ("set", ctypes.c_uint64),
        ("clear", ctypes.c_uint64),
        ("propagation", ctypes.c_uint64),
        ("namespace", ctypes.c_uint64),
    )


class _OpenHow(ctypes.Structure):
    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


def unshare(flags: int) -> None:
    """Enter new namespaces. Raises: OSError: the system does not allow it."""
    _checked(_LIBC.unshare(flags), "namespaces of our own")


def private_mounts() -> None:
    """Keep the mounts of this process from everyone else; after :func:`unshare`."""
    _mount(None, "/", None, MS_REC | MS_PRIVATE)


def bind(source: Path | str, target: Path | str, *, all_below: bool = True) -> None:
    """Mount ``source`` at ``target`` as well."""
    _mount(str(source), str(target), None, MS_BIND | (MS_REC if all_below else 0))


def mount_new(kind: str, target: Path | str, options: str = "", flags: int = MS_NOSUID | MS_NODEV) -> None:
    """Mount a new file system such as ``tmpfs`` or ``proc``."""
    _mount(kind, str(target), kind, flags, options)


def let_go(target: Path | str) -> None:
    """Unmount ``target`` as soon as no one uses it."""
    _checked(_LIBC.umount2(os.fsencode(target), MNT_DETACH), str(target))


def overlay(lower: Path, upper: Path, work: Path, target: Path) -> None:
    """Mount ``upper`` over ``lower`` at ``target``: what is written there goes to ``upper`` alone."""
    parts = {"lowerdir": lower, "upperdir": upper, "workdir": work}
    options = ",".join(f"{key}={str(path).replace(':', chr(92) + ':')}" for key, path in parts.items())
    _mount("overlay", str(target), "overlay", MS_NODEV, options)


def move_mount(source: Path, target: Path) -> None:
    """Move a mount to another place."""
    _mount(str(source), str(target), None, MS_MOVE)


def write_protect(target: Path) -> None:
    """Make ``target`` and the mounts below it read-only and without devices. Raises: OSError: the system cannot do
    that."""
    attributes = _MountAttributes(set=ATTR_RDONLY | ATTR_NODEV)
    number = _LIBC.syscall(
        SYS_MOUNT_SETATTR,
        -100,
        os.fsencode(target),
        AT_RECURSIVE,
        ctypes.byref(attributes),
        ctypes.sizeof(attributes),
    )
    if number == 0:
        return
    flags = MS_REMOUNT | MS_BIND | MS_RDONLY | MS_NODEV
    for line in Path("/proc/self/mountinfo").read_text(errors="surrogateescape").splitlines():
        where = line.split()[4].replace("\\040", " ")
        if where == str(target) or where.startswith(f"{target}/"):
            _mount(None, where, None, flags)


def pivot_into(target: Path) -> None:
    """Make ``target`` the root of this process's mounts, and unmount everything else: pivot_root(2)."""
    os.chdir(target)
    _checked(_LIBC.pivot_root(b".", b"."), "pivot_root")
    let_go(".")
    os.chdir("/")


def set_host_name(name: str) -> None:
    """Set the host name of this process and its children, after their namespace is unshared."""
    encoded = os.fsencode(name)
    _checked(_LIBC.sethostname(encoded, len(encoded)), "the host's name")


def die_with_parent() -> None:
    """Have the kernel kill this process when its parent ends."""
    _checked(_LIBC.prctl(PR_SET_PDEATHSIG, int(signal.SIGKILL), 0, 0, 0), "prctl")


def give_up_capabilities(keep: Sequence[int] = NEEDED_INSIDE) -> None:
    """Keep only these capabilities, here and in every program that is started from here."""
    for number in range(LAST_CAPABILITY + 1):
        if number in keep:
            continue
        if _LIBC.prctl(PR_CAPBSET_DROP, number, 0, 0, 0) != 0 and ctypes.get_errno() == errno.EINVAL:
            break  # the kernel has no more
    mask = sum(1 << number for number in keep)
    halves = (_Data * 2)()
    for index in range(2):
        part = (mask >> (32 * index)) & 0xFFFFFFFF
        halves[index] = _Data(part, part, 0)
    _checked(_LIBC.capset(ctypes.byref(_Header(CAPABILITY_VERSION_3, 0)), ctypes.byref(halves)), "capabilities")


def open_in_root(root: int, name: str, flags: int, mode: int = 0) -> int:
    """Open ``name`` with the open folder ``root`` as its root, which no link or ``..`` leaves: openat2(2).

    Raises: OSError: it cannot be opened; ENOSYS where the kernel lacks this call."""
    how = _OpenHow(flags | os.O_CLOEXEC, mode, RESOLVE_IN_ROOT | RESOLVE_NO_MAGICLINKS)
    encoded = os.fsencode(name)
    for _ in range(MOST_TRIES):
        opened = _LIBC.syscall(SYS_OPENAT2, root, encoded, ctypes.byref(how), ctypes.sizeof(how))
        if opened >= 0:
            return int(opened)
        if ctypes.get_errno() != errno.EAGAIN:
            break
    number = ctypes.get_errno()
    raise OSError(number, os.strerror(number), name)


def _mount(source: str | None, target: str, kind: str | None, flags: int, options: str = "") -> None:
    arguments = [None if text is None else os.fsencode(text) for text in (source, target, kind)]
    _checked(_LIBC.mount(*arguments, ctypes.c_ulong(flags), os.fsencode(options)), target)


def _checked(result: int, what: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), what)
