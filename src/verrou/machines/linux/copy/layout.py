"""The tree of a private copy: overlays over the folders that Verrou may write, and mounts of its own besides."""

import os
import shutil
import stat
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from verrou.machines.linux.copy.sandbox import (
    MS_NOSUID,
    MS_RDONLY,
    bind,
    let_go,
    mount_new,
    move_mount,
    overlay,
    pivot_into,
    private_mounts,
    set_host_name,
    write_protect,
)
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.root import Root, host_name

COPIED = (
    *("/etc", "/var/lib/pam", "/var/cache/debconf", "/usr/share/pam-configs"),
    *("/var/spool/cron", "/var/spool/at", "/var/lib/systemd/linger", "/var/lib/AccountsService"),
)
"""The folders that steps may write."""
MASKED = ("/tmp", "/var/tmp", "/dev/shm", "/var/lib/sudo")
"""Where programs leave things that mean nothing: fresh and empty in the copy."""
PLAIN_DEVICES = ("null", "zero", "full", "random", "urandom")
SCRATCH = ("/mnt", "/media", "/srv", "/opt", "/boot", "/home", "/var", "/usr")
"""Where the copy is built, in mounts of our own: the first that exists and does not contain the disk itself."""
MOST_MEMORY = "512m"
MOST_TALLIES, LARGEST_TALLY = 20_000, 65_536
SIGNED_IN = ("utmp",)
"""Signed-in users, below /run: copied from any system."""
DECIDE_WHERE_RUNNING = (
    *("nologin", "systemd/sessions", "systemd/users", "systemd/system", "systemd/transient", "systemd/generator"),
    *("systemd/generator.early", "systemd/generator.late", "polkit-1/rules.d"),
)
"""Parts of /run that decide on a running system, and are copied: on a mounted disk they are gone at the next start."""
LARGEST_TAKEN_ALONG = 8_000_000
"""Bytes of a file."""
LONGEST_HOST_NAME = 64
TALLIES_BELOW = ("/run/", "/var/")


class Tally(NamedTuple):
    """A file with an account's failed attempts."""

    name: str
    content: bytes
    mode: int
    uid: int
    gid: int


def lay_out(machine_root: Root) -> dict[str, int]:
    """Build the tree with its overlays as the root of this process. Return the open upper folders, by folder."""
    private_mounts()
    path, live = machine_root.path, machine_root.live
    holds = [name for name in SCRATCH if os.path.isdir(name) and not f"{path}/".startswith(f"{name}/")]
    if not holds:
        raise OSError("no folder is available to build the copy in")
    scratch = Path(holds[0])
    name, tallies = host_name(machine_root), load_faillock(machine_root).tallies
    counted = tallies_in(machine_root, tallies)
    mount_new("tmpfs", scratch, f"mode=0700,size={MOST_MEMORY}")
    tree = scratch / "tree"
    tree.mkdir()
    bind(path, tree)
    if path == Path("/"):
        let_go(tree / scratch.relative_to("/"))
    write_protect(tree)
    inside = Root(tree)
    uppers: dict[str, int] = {}
    for number, folder in enumerate(COPIED):
        place = inside.place(folder)
        if not place.is_dir():
            continue
        upper, work = scratch / f"upper{number}", scratch / f"work{number}"
        upper.mkdir()
        work.mkdir()
        now = os.stat(place)
        os.chown(upper, now.st_uid, now.st_gid)
        os.chmod(upper, stat.S_IMODE(now.st_mode))
        overlay(place, upper, work, place)
        uppers[f"/{place.relative_to(tree)}"] = os.open(upper, os.O_RDONLY | os.O_DIRECTORY)
    for folder in MASKED:
        place = inside.place(folder)
        if place.is_dir():
            mount_new("tmpfs", place, f"mode={stat.S_IMODE(os.stat(place).st_mode):o},size={MOST_MEMORY}")
    _fresh_run(inside, live, tallies, counted)
    _plain_devices(inside)
    if inside.place("/proc").is_dir():
        try:
            mount_new("proc", inside.place("/proc"), "subset=pid", flags=MS_NOSUID | MS_RDONLY)
        except OSError:
            mount_new("proc", inside.place("/proc"), flags=MS_NOSUID | MS_RDONLY)
    if inside.place("/sys").is_dir():
        mount_new("tmpfs", inside.place("/sys"), "mode=0555,size=4k")
    with suppress(OSError):
        set_host_name(name[:LONGEST_HOST_NAME])
    pivot_into(tree)
    return uppers


def tallies_in(root: Root, folder: str) -> list[Tally]:
    """Return the present tallies of failed attempts."""
    found = []
    for name in root.names_in(folder)[:MOST_TALLIES] if folder.startswith(TALLIES_BELOW) else ():
        place = root.place(f"{folder}/{name}")
        now = os.lstat(place)
        if stat.S_ISREG(now.st_mode) and now.st_size <= LARGEST_TALLY:
            found.append(Tally(name, place.read_bytes(), stat.S_IMODE(now.st_mode), now.st_uid, now.st_gid))
    return found


def _fresh_run(inside: Root, live: bool, tallies: str, counted: Sequence[Tally]) -> None:
    """Mount another ``/run``: of a live system with a copy of what decides there, and with tallies of its own."""
    run = inside.place("/run")
    if run.is_dir():
        before = os.open(run, os.O_RDONLY | os.O_DIRECTORY)
        mount_new("tmpfs", run, f"mode=0755,size={MOST_MEMORY}")
        for name in (*DECIDE_WHERE_RUNNING, *SIGNED_IN) if live else SIGNED_IN:
            _taken_along(f"/proc/self/fd/{before}/{name}", run / name)
        os.close(before)
        (run / "sshd").mkdir(mode=0o755, exist_ok=True)  # sshd(8) prints nothing without it
    if not tallies.startswith(TALLIES_BELOW):
        return  # a configuration names a folder of the system: nothing is mounted over that
    place = inside.place(tallies)
    if not place.is_dir():
        with suppress(OSError):
            place.mkdir(mode=0o755, parents=True)
    tallies_in_memory(place, counted)


def _taken_along(source: str, target: Path) -> None:
    """Copy a file or a folder of files; nothing else: sockets lead out of the copy. Very large ones are skipped."""
    if os.path.islink(source) or not os.path.exists(source):
        return
    target.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
    if not os.path.isdir(source):
        _copied(source, target)
        return
    left = MOST_TALLIES
    for folder, folders, names in os.walk(source):
        here = target / os.path.relpath(folder, source)
        here.mkdir(mode=0o755, exist_ok=True)
        for name in (*folders, *names):
            left -= 1
            if left > 0:
                _copied(f"{folder}/{name}", here / name)


def _copied(source: str, target: Path) -> None:
    now = os.lstat(source)
    if stat.S_ISLNK(now.st_mode):
        target.symlink_to(os.readlink(source))
    elif stat.S_ISREG(now.st_mode) and now.st_size <= LARGEST_TAKEN_ALONG:
        shutil.copyfile(source, target)
        os.chown(target, now.st_uid, now.st_gid)
        os.chmod(target, stat.S_IMODE(now.st_mode))


def tallies_in_memory(place: Path, counted: Sequence[Tally]) -> None:
    """Mount a folder in memory over the folder of tallies, with these tallies in it."""
    if place.is_dir():
        mount_new("tmpfs", place, f"mode=0755,size={MOST_MEMORY}")
        for name, content, mode, uid, gid in counted:
            (place / name).write_bytes(content)
            os.chown(place / name, uid, gid)
            os.chmod(place / name, mode)


def _plain_devices(inside: Root) -> None:
    devices = inside.place("/dev")
    if not devices.is_dir():
        return
    hosts = {name: os.open(f"/dev/{name}", os.O_PATH) for name in PLAIN_DEVICES}
    mount_new("tmpfs", devices, "mode=0755,size=64k", flags=MS_NOSUID)
    for name, number in hosts.items():
        (devices / name).touch()
        bind(f"/proc/self/fd/{number}", devices / name, all_below=False)
        os.close(number)
    (devices / "fd").symlink_to("/proc/self/fd")
    (devices / "shm").mkdir(mode=0o1777)
    (devices / "pts").mkdir()
    mount_new("devpts", devices / "pts", "newinstance,ptmxmode=0666,mode=0620", flags=MS_NOSUID)
    (devices / "ptmx").symlink_to("pts/ptmx")


def laid_over(texts: Mapping[str, str]) -> None:
    """Mount other contents over some files, for this process and its children."""
    staging = Path("/tmp")
    mount_new("tmpfs", staging, f"mode=0700,size={MOST_MEMORY}")
    for number, (name, text) in enumerate(texts.items()):
        file, now = staging / str(number), os.stat(name)
        file.write_text(text, encoding="utf-8", errors="surrogateescape")
        os.chown(file, now.st_uid, now.st_gid)
        os.chmod(file, stat.S_IMODE(now.st_mode))
        bind(file, name, all_below=False)
    let_go(staging)


def etc_in_memory() -> None:
    """Mount a copy of /etc in memory over /etc, with modes, owners and links; sockets and devices are left out."""
    staging = Path("/tmp")
    mount_new("tmpfs", staging, f"mode=0755,size={MOST_MEMORY}")

    def with_owner(source: str, target: str) -> str:
        shutil.copy2(source, target, follow_symlinks=False)
        now = os.lstat(source)
        os.chown(target, now.st_uid, now.st_gid, follow_symlinks=False)
        return target

    def odd(folder: str, names: list[str]) -> list[str]:
        places = [Path(folder, name) for name in names]
        return [p.name for p in places if not (p.is_symlink() or p.is_file() or p.is_dir())]

    shutil.copytree("/etc", staging, symlinks=True, ignore=odd, copy_function=with_owner, dirs_exist_ok=True)
    move_mount(staging, Path("/etc"))
