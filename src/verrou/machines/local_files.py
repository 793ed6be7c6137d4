"""Files on this computer: read with all their attributes, and replaced whole or not at all."""

import errno
import os
import stat
from pathlib import Path

from verrou.log import Log
from verrou.machines.changes import NOTHING, FileState

LOG = Log(__name__)

AT_ONCE = 1 << 20
"""How many bytes of a file are read at once, where its size says nothing."""

_UNREADABLE_HERE = ("trusted.overlay.",)
"""Attributes that belong to a private copy and not to the file."""


def sync_folder(folder: Path | int) -> None:
    """Sync ``folder``, so that a rename in it is durable."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY) if isinstance(folder, Path) else folder
    try:
        os.fsync(descriptor)
    finally:
        if isinstance(folder, Path):
            os.close(descriptor)


def item_at(path: Path | str, folder: int | None = None) -> FileState:
    """Return the state of ``path`` (below the open ``folder``, if given), without following links.

    Devices, pipes and sockets count as nothing. Raises: OSError: it exists and cannot be read."""
    try:
        now = os.stat(path, dir_fd=folder, follow_symlinks=False)
    except (FileNotFoundError, NotADirectoryError):
        return NOTHING
    if stat.S_ISLNK(now.st_mode):
        return FileState(None, 0, now.st_uid, now.st_gid, link=os.readlink(path, dir_fd=folder))
    if not (stat.S_ISDIR(now.st_mode) or stat.S_ISREG(now.st_mode)):
        return NOTHING
    descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
    try:
        now = os.fstat(descriptor)
        is_folder = stat.S_ISDIR(now.st_mode)
        content = None if is_folder else _read_all(descriptor)
        mode = stat.S_IMODE(now.st_mode)
        return FileState(content, mode, now.st_uid, now.st_gid, is_folder, attributes_of(descriptor))
    finally:
        os.close(descriptor)


def _read_all(descriptor: int) -> bytes:
    with os.fdopen(os.dup(descriptor), "rb") as stream:
        return stream.read()


def attributes_of(descriptor: int) -> tuple[tuple[str, bytes], ...]:
    """Return the extended attributes of an open file or folder, by name. None where its file system has none."""
    try:
        names = os.listxattr(descriptor)
    except OSError:
        return ()
    found = []
    for name in sorted(names):
        if not name.startswith(_UNREADABLE_HERE):
            try:
                found.append((name, os.getxattr(descriptor, name)))
            except OSError as error:
                LOG.debug("attribute %s is not read: %s", name, error.strerror)
                continue
    return tuple(found)


def set_attributes(descriptor: int, item: FileState, *, all_of_it: bool = True) -> None:
    """Set owner, mode and extended attributes; remove attributes not in ``item``, as far as the system allows.

    Without ``all_of_it``, what its file system cannot store is left out. Raises: OSError: not all could be set."""
    os.fchown(descriptor, item.uid, item.gid)
    required = dict(item.attributes)
    for name, value in attributes_of(descriptor):
        if name not in required or required[name] != value:
            try:
                os.removexattr(descriptor, name)
            except OSError:
                if name not in required:
                    continue
    have = dict(attributes_of(descriptor))
    for name, value in required.items():
        if have.get(name) != value:
            try:
                os.setxattr(descriptor, name, value)
            except OSError:
                if all_of_it:
                    raise
    # After the owner, since a change of owner clears set-id bits; after an ACL, whose mask is the group's bits.
    os.fchmod(descriptor, item.mode)


def write_all(descriptor: int, content: bytes | memoryview) -> None:
    """Write until all of ``content`` is written. Raises: OSError: a part of it is, or nothing."""
    view = memoryview(content)
    while view:
        view = view[os.write(descriptor, view) :]


def write_new(path: Path | str, item: FileState, folder: int | None = None) -> None:
    """Create a file with the content and attributes of ``item``, on disk when this returns.

    Raises: OSError: nothing, or a part, was written; the part is deleted where that is possible."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    descriptor = os.open(path, flags, 0o600, dir_fd=folder)
    try:
        try:
            write_all(descriptor, item.content or b"")
            set_attributes(descriptor, item)
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    except OSError:
        os.unlink(path, dir_fd=folder)
        raise


def ordinary_text(path: Path, most: int) -> str:
    """Return the text of a file named by the user, of at most ``most`` bytes.

    Raises: OSError: as :func:`ordinary_bytes`. UnicodeDecodeError: it is no text."""
    return ordinary_bytes(path, most).decode("utf-8")


def ordinary_bytes(path: Path | str, most: int | None = None, flags: int = 0) -> bytes:
    """Return the content of a file that another user may have put there. ``flags`` of open(2) are added.

    Raises: OSError: it cannot be read, is not an ordinary file (a pipe or a device would block), or is too large."""
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC | flags)
    try:
        now = os.fstat(descriptor)
        if stat.S_ISDIR(now.st_mode):
            raise IsADirectoryError(errno.EISDIR, "this is a folder")
        if not stat.S_ISREG(now.st_mode):
            raise OSError(errno.EINVAL, "this is not an ordinary file")
        if most is not None and now.st_size > most:
            raise OSError(errno.EFBIG, f"it is too large ({now.st_size} bytes; at most {most})")
        return read_to_end(descriptor, now.st_size)
    finally:
        os.close(descriptor)


def read_to_end(descriptor: int, size: int, most: int | None = None) -> bytes:
    """Return the content of an ordinary file of this size, or its first ``most`` bytes. Raises: OSError.

    One byte more than there is is asked for, so that one read reaches the end: ten thousands of files are read so."""
    content = part = os.read(descriptor, size + 1 if most is None else min(size + 1, most))
    while part and len(content) != size and (most is None or len(content) < most):
        part = os.read(descriptor, AT_ONCE if most is None else min(AT_ONCE, most - len(content)))
        content += part
    return content
