"""Doing something inside the system: the live one as it is, a mounted one after a chroot, in mounts of our own."""

import ctypes
import os
import subprocess
from collections.abc import Sequence
from pathlib import Path

from verrou.core.errors import MachineRefused, NotEnoughRights
from verrou.machines.linux.root import Root

CLONE_NEWNS = 0x00020000
MS_NOSUID, MS_BIND, MS_MOVE, MS_REC, MS_PRIVATE = 2, 4096, 8192, 16384, 1 << 18
_LIBC = ctypes.CDLL(None, use_errno=True)
CLEAN_ENVIRONMENT = {
    "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
    "LC_ALL": "C",
    "DEBIAN_FRONTEND": "noninteractive",
    "HOME": "/root",
}


def own_mounts() -> None:
    """Have mounts of our own from now on, seen by this process alone: mount_namespaces(7).

    Raises:
        OSError: the system does not let us.
    """
    _checked(_LIBC.unshare(CLONE_NEWNS), "mounts of our own")
    _mount(None, "/", None, MS_REC | MS_PRIVATE)


def bind(source: Path, target: Path) -> None:
    """Show ``source`` at ``target`` as well."""
    _mount(str(source), str(target), None, MS_BIND | MS_REC)


def mount_new(kind: str, target: Path, options: str = "") -> None:
    """Mount a fresh file system such as ``tmpfs`` or ``proc``."""
    _mount(kind, str(target), kind, MS_NOSUID, options)


def move_mount(source: Path, target: Path) -> None:
    """Move a mount to another place."""
    _mount(str(source), str(target), None, MS_MOVE)


def enter(root: Root) -> None:
    """Make ``root`` the root of this process, with the devices and the process table it needs. In a child only."""
    if root.live:
        return
    devices, processes = root.place("/dev"), root.place("/proc")
    if devices.is_dir():
        bind(Path("/dev"), devices)
    if processes.is_dir():
        mount_new("proc", processes)
    os.chroot(root.path)
    os.chdir("/")


def run_inside(root: Root, command: Sequence[str], seconds: int = 120) -> subprocess.CompletedProcess[str]:
    """Run one of the system's own programs inside it, with no terminal and a clean environment.

    Raises:
        MachineRefused: it cannot be run, or did not end in time. NotEnoughRights: only root can go inside.
    """

    def prepare() -> None:
        if not root.live:
            own_mounts()
            enter(root)

    if os.geteuid() != 0:
        raise NotEnoughRights(f"{command[0]} must run inside the system; run as root")
    try:
        return subprocess.run(
            command,
            preexec_fn=prepare,
            env=CLEAN_ENVIRONMENT,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=seconds,
            check=False,
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise MachineRefused(f"{command[0]} could not be run inside {root.path}: {error}") from None


def _mount(source: str | None, target: str, kind: str | None, flags: int, options: str = "") -> None:
    arguments = [None if text is None else os.fsencode(text) for text in (source, target, kind)]
    _checked(_LIBC.mount(*arguments, ctypes.c_ulong(flags), os.fsencode(options)), target)


def _checked(result: int, what: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number), what)
