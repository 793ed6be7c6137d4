"""Archives of homes: written under another name and renamed, with a checksum each, and unpacked by open folders."""

import gzip
import hashlib
import io
import os
import stat
import tarfile
from collections.abc import Iterator
from typing import IO, Any

from verrou.core.errors import MachineRefused
from verrou.machines.changes import FileState
from verrou.machines.linux.accounts.homes import FOLDER_FLAGS, walk_open
from verrou.machines.local_files import sync_folder, write_all, write_new

PART = ".part"
"""What an archive's name ends in while it is being written."""
ATTRIBUTE = "SCHILY.xattr."
"""How pax(1) archives name an extended attribute."""


def checksum_file(archive: str) -> str:
    """Return the name of the checksum file of an archive."""
    return f"{archive}.sha256"


def pack(home: int, name: str, folder: int, archive: str) -> None:
    """Write an open home, called ``name`` in the archive, into ``archive`` in an open folder, and its checksum.

    Both are readable for root alone and on disk when this returns, the archive last. Raises: OSError: nothing has that
    name."""
    part = archive + PART
    for left in (part, checksum_file(archive)):
        _remove(left, folder)
    descriptor = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=folder)
    try:
        with (
            gzip.GzipFile(fileobj=_Written(descriptor), mode="wb", filename="") as packed,
            tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as tar,
        ):
            for inner, below, _, names in walk_open(home, "", os.fstat(home).st_dev):
                here = f"{name.strip('/')}/{below}".rstrip("/")
                tar.addfile(_described(here, os.fstat(inner), inner))
                for last in names:
                    _add(tar, f"{here}/{last}", last, inner)
        os.fsync(descriptor)
        os.lseek(descriptor, 0, os.SEEK_SET)
        with os.fdopen(os.dup(descriptor), "rb") as stream:
            checksum = hashlib.file_digest(stream, "sha256").hexdigest()
    finally:
        os.close(descriptor)
    note = FileState(f"{checksum}  {archive}\n".encode(), 0o600, os.geteuid(), os.getegid())
    write_new(checksum_file(archive), note, folder)
    os.rename(part, archive, src_dir_fd=folder, dst_dir_fd=folder)
    sync_folder(folder)


class _Written(io.RawIOBase):
    """An open file, written to until all of each block is there."""

    def __init__(self, descriptor: int) -> None:
        self.descriptor = descriptor

    def writable(self) -> bool:
        return True

    def write(self, block: Any) -> int:
        write_all(self.descriptor, block)
        return len(block)


def drop(folder: int, archive: str) -> None:
    """Delete an archive with all that belongs to it."""
    for name in (archive, archive + PART, checksum_file(archive)):
        _remove(name, folder)


def _remove(name: str, folder: int) -> None:
    try:
        os.unlink(name, dir_fd=folder)
    except FileNotFoundError:
        return


def _described(name: str, now: os.stat_result, place: int | None = None) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.mode, info.uid, info.gid, info.mtime = stat.S_IMODE(now.st_mode), now.st_uid, now.st_gid, now.st_mtime
    info.type = tarfile.DIRTYPE if stat.S_ISDIR(now.st_mode) else tarfile.REGTYPE
    if place is not None:
        try:
            names = os.listxattr(place)
        except OSError:
            names = []
        info.pax_headers = {
            ATTRIBUTE + each: os.getxattr(place, each).decode("utf-8", "surrogateescape") for each in names
        }
    return info


def _add(tar: tarfile.TarFile, name: str, last: str, folder: int) -> None:
    """Add one thing that is not a folder; pipes, sockets and devices are left out."""
    now = os.stat(last, dir_fd=folder, follow_symlinks=False)
    if stat.S_ISLNK(now.st_mode):
        info = _described(name, now)
        info.type, info.linkname = tarfile.SYMTYPE, os.readlink(last, dir_fd=folder)
        tar.addfile(info)
    elif stat.S_ISREG(now.st_mode):
        descriptor = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
        with os.fdopen(descriptor, "rb") as stream:
            info = _described(name, os.fstat(descriptor), descriptor)
            info.size = os.fstat(descriptor).st_size
            tar.addfile(info, stream)


def is_whole(folder: int, archive: str) -> bool:
    """Return whether an archive is what was written, by its checksum."""
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    try:
        with os.fdopen(os.open(checksum_file(archive), flags, dir_fd=folder), "rb") as note:
            checksum = note.read(200).split(b" ")[0].decode("ascii", "replace")
        with os.fdopen(os.open(archive, flags, dir_fd=folder), "rb") as stream:
            return hashlib.file_digest(stream, "sha256").hexdigest() == checksum
    except OSError:
        return False


def unpack(archives: int, archive: str, folder: int, name: str) -> None:
    """Unpack a home from its archive as ``name`` in an open folder, with modes, owners and attributes.

    Nothing is written through a link or outside of it, whatever the archive contains. Raises: OSError, MachineRefused:
    it is not whole."""
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
    os.mkdir(name, 0o700, dir_fd=folder)
    top = os.open(name, FOLDER_FLAGS, dir_fd=folder)
    try:
        with (
            os.fdopen(os.open(archive, flags, dir_fd=archives), "rb") as stream,
            tarfile.open(fileobj=stream, mode="r:gz") as tar,
        ):
            members = sorted(tar.getmembers(), key=lambda member: member.name.count("/"))
            base = members[0].name if members else ""
            for member in members:
                _unpack_one(tar, member, _parts(member, base), top)
            for member in reversed(members):
                if member.isdir():
                    inner = _folder_in(top, _parts(member, base))
                    _dress(inner, member)
                    os.fsync(inner)
                    os.close(inner)
    except (tarfile.TarError, EOFError, ValueError) as error:
        raise MachineRefused(f"{archive} cannot be unpacked: {error}") from None
    finally:
        os.close(top)


def _parts(member: tarfile.TarInfo, base: str) -> list[str]:
    inside = member.name.removeprefix(base).strip("/")
    parts = inside.split("/") if inside else []
    if not member.name.startswith(base) or {"", ".", ".."} & set(parts):
        raise ValueError(f"it contains {member.name!r}, which is outside the home")
    return parts


def _folder_in(top: int, parts: list[str]) -> int:
    folder = os.dup(top)
    for part in parts:
        inner = os.open(part, FOLDER_FLAGS, dir_fd=folder)
        os.close(folder)
        folder = inner
    return folder


def _unpack_one(tar: tarfile.TarFile, member: tarfile.TarInfo, parts: list[str], top: int) -> None:
    if not parts:
        return
    folder = _folder_in(top, parts[:-1])
    try:
        if member.isdir():
            os.mkdir(parts[-1], 0o700, dir_fd=folder)
        elif member.issym():
            os.symlink(member.linkname, parts[-1], dir_fd=folder)
            os.chown(parts[-1], member.uid, member.gid, dir_fd=folder, follow_symlinks=False)
        elif member.isreg():
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            descriptor = os.open(parts[-1], flags, 0o600, dir_fd=folder)
            try:
                for block in _blocks(tar.extractfile(member)):
                    write_all(descriptor, block)
                _dress(descriptor, member)
                os.fsync(descriptor)
            finally:
                os.close(descriptor)
    finally:
        os.close(folder)


def _blocks(stream: IO[bytes] | None) -> Iterator[bytes]:
    while stream is not None and (block := stream.read(1 << 20)):
        yield block


def _dress(descriptor: int, member: tarfile.TarInfo) -> None:
    os.fchown(descriptor, member.uid, member.gid)
    for name, value in member.pax_headers.items():
        if name.startswith(ATTRIBUTE):
            try:
                os.setxattr(descriptor, name.removeprefix(ATTRIBUTE), value.encode("utf-8", "surrogateescape"))
            except OSError:
                continue
    os.fchmod(descriptor, member.mode & 0o7777)
    os.utime(descriptor, (member.mtime, member.mtime))
