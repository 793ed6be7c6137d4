"""Homes of new accounts, made from the skeleton: what making one changes, and building it under another name."""

import os
import stat
from collections.abc import Iterator, Mapping

from verrou.core.model import Source
from verrou.machines.changes import NOTHING, Change, FileChange, FileState
from verrou.machines.folder_operations import MakeHome
from verrou.machines.linux.accounts.homes import FOLDER_FLAGS
from verrou.machines.linux.root import Root
from verrou.machines.local_files import write_all

HOMES = "/home"
SKELETON = "/etc/skel"
HOME_MODE = 0o700


def making(
    root: Root, home: str, uid: int, gid: int, *, kept: bool, defs: Mapping[str, tuple[str, Source]]
) -> Iterator[Change]:
    """Yield the operations that make a home, with missing parent folders.

    One that is not ``kept`` stays root's own and empty: sessions get another in its place."""
    parent, _, last = home.rpartition("/")
    missing = []
    while parent and not root.exists(parent):
        missing.append(parent)
        parent = parent.rpartition("/")[0]
    for folder in reversed(missing):
        yield FileChange(folder, NOTHING, FileState(None, 0o755, folder=True))
    before = root.place(missing[0]) if missing else root.place(home.rpartition("/")[0] or "/")
    mode = _mode(defs) if kept else 0o755
    place = f"/{(before / last).relative_to(root.path)}"
    yield MakeHome(place, uid if kept else 0, gid if kept else 0, mode, kept)


def _mode(defs: Mapping[str, tuple[str, Source]]) -> int:
    """Return HOME_MODE of login.defs(5); an invalid mode does not count."""
    text = defs["HOME_MODE"][0] if "HOME_MODE" in defs else ""
    good = text and len(text) <= 5 and set(text) <= set("01234567")
    return int(text, 8) & 0o7777 if good else HOME_MODE


def build(root: Root, folder: int, name: str, operation: MakeHome) -> None:
    """Build a home as ``name`` in an open folder: a copy of the skeleton, owned by the account.

    Links are copied as links; pipes, sockets and devices are left out. Raises: OSError: it could not be built whole."""
    uid, gid = operation.uid, operation.gid
    os.mkdir(name, 0o700, dir_fd=folder)
    top = os.open(name, FOLDER_FLAGS, dir_fd=folder)
    try:
        if operation.kept:
            try:
                skeleton = root.open(SKELETON, FOLDER_FLAGS & ~os.O_NOFOLLOW)
            except OSError:
                skeleton = -1
            if skeleton >= 0:
                _copy(skeleton, top, uid, gid)
                os.close(skeleton)
        os.fchown(top, uid, gid)
        os.fchmod(top, operation.mode)
        os.fsync(top)
    finally:
        os.close(top)


def _copy(source: int, target: int, uid: int, gid: int) -> None:
    for name in sorted(os.listdir(source)):
        now = os.stat(name, dir_fd=source, follow_symlinks=False)
        mode = stat.S_IMODE(now.st_mode)
        if stat.S_ISLNK(now.st_mode):
            os.symlink(os.readlink(name, dir_fd=source), name, dir_fd=target)
            os.chown(name, uid, gid, dir_fd=target, follow_symlinks=False)
        elif stat.S_ISDIR(now.st_mode):
            os.mkdir(name, 0o700, dir_fd=target)
            inner, made = os.open(name, FOLDER_FLAGS, dir_fd=source), os.open(name, FOLDER_FLAGS, dir_fd=target)
            try:
                _copy(inner, made, uid, gid)
                os.fchown(made, uid, gid)
                os.fchmod(made, mode)
            finally:
                os.close(inner)
                os.close(made)
        elif stat.S_ISREG(now.st_mode):
            _copy_file(source, target, name, mode, uid, gid)


def _copy_file(source: int, target: int, name: str, mode: int, uid: int, gid: int) -> None:
    reading = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=source)
    try:
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        writing = os.open(name, flags, 0o600, dir_fd=target)
        try:
            while block := os.read(reading, 1 << 20):
                write_all(writing, block)
            os.fchown(writing, uid, gid)
            os.fchmod(writing, mode)
            os.fsync(writing)
        finally:
            os.close(writing)
    finally:
        os.close(reading)


def is_as_made(root: Root, operation: MakeHome) -> bool:
    """Return whether a home contains nothing but the skeleton, unchanged, so that removing it loses nothing."""
    try:
        home = root.open(operation.place, FOLDER_FLAGS)
    except OSError:
        return False
    try:
        skeleton = root.open(SKELETON, FOLDER_FLAGS & ~os.O_NOFOLLOW)
    except OSError:
        skeleton = -1
    try:
        return not os.listdir(home) if skeleton < 0 or not operation.kept else _all_in(home, skeleton)
    finally:
        os.close(home)
        if skeleton >= 0:
            os.close(skeleton)


def _all_in(home: int, skeleton: int) -> bool:
    for name in os.listdir(home):
        now = os.stat(name, dir_fd=home, follow_symlinks=False)
        try:
            made_from = os.stat(name, dir_fd=skeleton, follow_symlinks=False)
        except FileNotFoundError:
            return False
        if stat.S_IFMT(now.st_mode) != stat.S_IFMT(made_from.st_mode):
            return False
        if stat.S_ISLNK(now.st_mode):
            same = os.readlink(name, dir_fd=home) == os.readlink(name, dir_fd=skeleton)
        elif stat.S_ISDIR(now.st_mode):
            inner, other = os.open(name, FOLDER_FLAGS, dir_fd=home), os.open(name, FOLDER_FLAGS, dir_fd=skeleton)
            try:
                same = _all_in(inner, other)
            finally:
                os.close(inner)
                os.close(other)
        else:
            same = now.st_size == made_from.st_size and _content(home, name) == _content(skeleton, name)
        if not same:
            return False
    return True


def _content(folder: int, name: str) -> bytes:
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    with os.fdopen(os.open(name, flags, dir_fd=folder), "rb") as stream:
        return stream.read()
