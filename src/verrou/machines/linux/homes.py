"""The files of an account: counted, archived, deleted or handed over, never outside its home and never by a link.

A home is walked by open folders (``dir_fd``), so that nothing an account does meanwhile can lead out of it.
"""

import gzip
import hashlib
import os
import stat
import tarfile
import time
from collections.abc import Iterator
from itertools import count as counting
from pathlib import Path
from typing import IO, Any

from attrs import define

from verrou.core.model import Files, counted, say_size
from verrou.core.steps import FilesChoice
from verrou.machines import MOST_NAMED, CannotLook
from verrou.machines.linux.root import Root

ARCHIVES = "/var/lib/verrou/archives"
ARCHIVE_ENDING = ".tar.gz"
LEAVING = ".verrou-leaving"
"""What a home is called while it is being deleted."""
USUAL_PLACES = ("/var/mail", "/var/spool/mail", "/var/spool/cron/crontabs", "/var/spool/cron")
"""Where an account has files by its name outside its home."""
NOT_FILES = ("/proc", "/sys", "/dev", "/run", ARCHIVES)
NO_HOMES = (
    *("/", "/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/lib64", "/media", "/mnt", "/nonexistent", "/opt"),
    *("/proc", "/root", "/run", "/sbin", "/srv", "/sys", "/tmp", "/usr", "/var"),
)
NO_DISKS = (
    *("9p", "autofs", "binfmt_misc", "bpf", "ceph", "cifs", "configfs", "debugfs", "devpts", "devtmpfs", "efivarfs"),
    *("hugetlbfs", "mqueue", "proc", "pstore", "rpc_pipefs", "securityfs", "smb3", "sysfs", "tracefs"),
)
"""Kinds of file system that keep nothing on a disk of this computer."""
_OPEN_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class NoHome(Exception):
    """The home is nothing that may be touched; the message says why."""


@define
class Home:
    """One account's home, as a folder that was opened without following a link."""

    root: Root
    name: str
    uid: int

    def there(self) -> bool:
        """Whether anything stands there at all."""
        return os.path.lexists(self.itself())

    def itself(self) -> Path:
        """The home with the links before it followed, and not a link that it is itself."""
        parent, _, last = self.name.rstrip("/").rpartition("/")
        return self.root.place(parent or "/") / last

    def check(self, others: dict[str, str]) -> None:
        """That it may be taken away: :meth:`check_itself`, and nobody else lives in it and nothing is mounted there.
        ``others``: the homes of all other accounts, and whose they are.

        Raises:
            NoHome: with the reason.
        """
        self.check_itself()
        name = "/" + self.name.strip("/")
        for other, whose in others.items():
            theirs = "/" + other.strip("/")
            if theirs == name or theirs.startswith(f"{name}/"):
                raise NoHome(f"{whose} has its home in {other}")
        device = os.lstat(self.itself()).st_dev
        for folder, _, _, _ in self._walk():
            if os.fstat(folder).st_dev != device:
                raise NoHome(f"another file system is mounted in {self.name}; unmount it first")

    def check_itself(self) -> None:
        """That it is a folder of this account's own.

        Raises:
            NoHome: with the reason.
        """
        name = "/" + self.name.strip("/")
        if name in NO_HOMES or name.startswith(("/proc/", "/sys/", "/dev/", "/etc/", "/usr/", "/boot/")):
            raise NoHome(f"{self.name} is a folder of the system")
        if ".." in name.split("/"):
            raise NoHome(f"{self.name} leads through a folder above it")
        now = os.lstat(self.itself())
        if stat.S_ISLNK(now.st_mode):
            raise NoHome(f"{self.name} is a link to {os.readlink(self.itself())}")
        if not stat.S_ISDIR(now.st_mode):
            raise NoHome(f"{self.name} is no folder")
        if now.st_uid != self.uid:
            raise NoHome(f"{self.name} belongs to another account (number {now.st_uid})")

    def is_empty_and_roots(self) -> bool:
        """Whether it is what stands behind homes that nothing stays in: an empty folder of root's own."""
        now = os.lstat(self.itself())
        return stat.S_ISDIR(now.st_mode) and now.st_uid == 0 and not os.listdir(self.itself())

    def _walk(self) -> Iterator[tuple[int, str, list[str], list[str]]]:
        """Each folder from the bottom up, as (open folder, its name below the home, folders in it, other names in it).
        What is mounted inside is shown and not entered."""
        top = os.open(self.itself(), _OPEN_FOLDER)
        try:
            yield from _walk_open(top, "", os.fstat(top).st_dev)
        finally:
            os.close(top)

    def files(self) -> tuple[int, int]:
        """How many files the home holds, and how many bytes."""
        count = size = 0
        for folder, _, _, names in self._walk():
            for name in names:
                now = os.stat(name, dir_fd=folder, follow_symlinks=False)
                count, size = count + 1, size + now.st_size
        return count, size

    def delete(self) -> None:
        """Delete the home with all that is in it. It is moved aside first, at one stroke, so that a run that dies
        meanwhile leaves no half of a home in its place."""
        os.rename(self.itself(), self._aside())
        self._delete_aside()

    def _aside(self) -> Path:
        return self.itself().with_name(f"{self.itself().name}{LEAVING}")

    def _delete_aside(self) -> None:
        top = os.open(self._aside(), _OPEN_FOLDER)
        try:
            for folder, _, folders, names in _walk_open(top, "", os.fstat(top).st_dev):
                for name in names:
                    os.unlink(name, dir_fd=folder)
                for name in folders:
                    os.rmdir(name, dir_fd=folder)
        finally:
            os.close(top)
        os.rmdir(self._aside())

    def settle(self) -> None:
        """After a run that died while it deleted the home: what is left of it comes back, unless all of it has."""
        if not os.path.lexists(self._aside()):
            return
        if self.there():
            self._delete_aside()
        else:
            os.rename(self._aside(), self.itself())

    def hand_over(self) -> None:
        """Make the home root's own folder: what is in it stays as it is, and nobody else comes to it, not even the next
        account that gets the number."""
        top = os.open(self.itself(), _OPEN_FOLDER)
        try:
            os.fchown(top, 0, 0)
            os.fchmod(top, 0o700)
        finally:
            os.close(top)

    def archive(self, target: Path) -> str:
        """Write the home into a new compressed file (``.tar.gz``), for root alone, and a file with its checksum beside
        it. Answers with the checksum, read back from the disk."""
        target.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        descriptor = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        try:
            self._pack(descriptor)
        except BaseException:
            target.unlink(missing_ok=True)
            raise
        with open(target, "rb") as written:
            checksum = hashlib.file_digest(written, "sha256").hexdigest()
        note = target.with_name(f"{target.name}.sha256")
        with os.fdopen(os.open(note, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600), "w") as text:
            text.write(f"{checksum}  {target.name}\n")
        return checksum

    def _pack(self, descriptor: int) -> None:
        base = self.name.strip("/")
        with os.fdopen(descriptor, "wb") as stream:
            with (
                gzip.GzipFile(fileobj=stream, mode="wb", filename="") as packed,
                tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as archive,
            ):
                for folder, below, _, names in self._walk():
                    here = f"{base}/{below}".rstrip("/")
                    _add(archive, here, os.fstat(folder))
                    for name in names:
                        _add_file(archive, f"{here}/{name}", name, folder)
            stream.flush()
            os.fsync(stream.fileno())


def new_archive(root: Root, account: str) -> str:
    """The name of an archive that is not there yet."""
    stamp = f"{ARCHIVES}/{account}-{time.strftime('%Y%m%d-%H%M%S')}"
    names = (f"{stamp}{ARCHIVE_ENDING}" if n == 1 else f"{stamp}-{n}{ARCHIVE_ENDING}" for n in counting(1))
    return next(name for name in names if not os.path.lexists(root.place(name)))


def unpack(root: Root, archive: str) -> str:
    """Bring a home back from its archive; answers with its name.

    Raises:
        NoHome: the archive is not what was written, or something stands in its place by now.
    """
    place = root.place(archive)
    try:
        checksum, _, _ = place.with_name(f"{place.name}.sha256").read_text().partition(" ")
        with open(place, "rb") as stream:
            if hashlib.file_digest(stream, "sha256").hexdigest() != checksum:
                raise NoHome(f"{archive} is not what was written: its checksum differs")
        with tarfile.open(place, "r:gz") as packed:
            members = packed.getmembers()
            home = "/" + min((member.name for member in members), key=len)
            if os.path.lexists(root.place(home)):
                raise NoHome(f"{home} is there again; unpack {archive} by hand")
            packed.extractall(root.path, members, numeric_owner=True, **_AS_IT_WAS)
    except (OSError, tarfile.TarError, ValueError) as error:
        raise NoHome(f"{archive} cannot be unpacked: {error}") from None
    return home


_AS_IT_WAS: dict[str, Any] = {"filter": "fully_trusted"} if hasattr(tarfile, "fully_trusted_filter") else {}
"""The archive is Verrou's own and comes back with modes and owners as they were."""


def _walk_open(folder: int, below: str, device: int) -> Iterator[tuple[int, str, list[str], list[str]]]:
    folders: list[str] = []
    names: list[str] = []
    with os.scandir(folder) as entries:
        for entry in entries:
            (folders if entry.is_dir(follow_symlinks=False) else names).append(entry.name)
    for name in folders:
        inner = os.open(name, _OPEN_FOLDER, dir_fd=folder)
        try:
            if os.fstat(inner).st_dev == device:
                yield from _walk_open(inner, f"{below}/{name}".lstrip("/"), device)
            else:
                yield inner, f"{below}/{name}".lstrip("/"), [], []
        finally:
            os.close(inner)
    yield folder, below, folders, names


def _add(archive: tarfile.TarFile, name: str, now: os.stat_result, stream: IO[bytes] | None = None) -> None:
    info = tarfile.TarInfo(name)
    info.mode, info.uid, info.gid, info.mtime = stat.S_IMODE(now.st_mode), now.st_uid, now.st_gid, now.st_mtime
    info.type = tarfile.DIRTYPE if stat.S_ISDIR(now.st_mode) else tarfile.REGTYPE
    info.size = now.st_size if stream is not None else 0
    archive.addfile(info, stream)


def _add_file(archive: tarfile.TarFile, name: str, last: str, folder: int) -> None:
    """One thing that is no folder; pipes and sockets hold nothing and are left out."""
    now = os.stat(last, dir_fd=folder, follow_symlinks=False)
    if stat.S_ISLNK(now.st_mode):
        info = tarfile.TarInfo(name)
        info.type, info.linkname = tarfile.SYMTYPE, os.readlink(last, dir_fd=folder)
        info.uid, info.gid, info.mtime = now.st_uid, now.st_gid, now.st_mtime
        archive.addfile(info)
    elif stat.S_ISREG(now.st_mode):
        descriptor = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
        with os.fdopen(descriptor, "rb") as stream:
            _add(archive, name, os.fstat(stream.fileno()), stream)


def files_of(root: Root, account: str, uid: int, home: str, *, everywhere: bool) -> Files:
    """See :meth:`verrou.machines.Machine.files_of`.

    Raises:
        CannotLook: the home is there and cannot be walked.
    """
    own = Home(root, home, uid)
    count = size = 0
    shown = remark = ""
    if home and own.there():
        try:
            if not own.is_empty_and_roots():
                own.check_itself()
            count, size = own.files()
            shown = home
        except NoHome as reason:
            remark = str(reason)
        except OSError as error:
            raise CannotLook(f"{home}: {error.strerror}") from None
    elsewhere = sorted(_everywhere(root, uid, home) if everywhere else _usual(root, account, uid))
    return Files(shown, count, size, tuple(elsewhere[:MOST_NAMED]), len(elsewhere), everywhere, remark)


def _usual(root: Root, account: str, uid: int) -> Iterator[str]:
    seen = set()
    for folder in USUAL_PLACES:
        place = root.place(f"{folder}/{account}")
        if place not in seen and os.path.lexists(place) and os.lstat(place).st_uid == uid:
            seen.add(place)
            yield f"{folder}/{account}"


def _foreign_devices() -> set[int]:
    """The devices of file systems that hold no files of this computer, by proc(5): mountinfo."""
    devices = set()
    for line in Path("/proc/self/mountinfo").read_text(errors="replace").splitlines():
        fields, _, rest = line.partition(" - ")
        kind = rest.split(" ", 1)[0]
        if kind in NO_DISKS or kind.startswith(("nfs", "fuse.", "cgroup")):
            major, _, minor = fields.split()[2].partition(":")
            devices.add(os.makedev(int(major), int(minor)))
    return devices


def _everywhere(root: Root, uid: int, home: str) -> Iterator[str]:
    """Everything that belongs to a number, but for what is in the home: on all file systems of this computer that are
    mounted below the root, and on none that another computer keeps."""
    foreign = _foreign_devices()
    entered: set[tuple[int, int]] = set()
    left_out = {str(root.place(name)) for name in NOT_FILES}
    if home:
        left_out.add(str(Home(root, home, uid).itself()))
    todo = [str(root.path)]
    base = len(str(root.path).rstrip("/"))
    while todo:
        folder = todo.pop()
        try:
            entries = list(os.scandir(folder))
        except OSError:
            continue
        for entry in entries:
            if entry.path in left_out:
                continue
            try:
                now = entry.stat(follow_symlinks=False)
            except OSError:
                continue
            place = (now.st_dev, now.st_ino)
            if stat.S_ISDIR(now.st_mode) and now.st_dev not in foreign and place not in entered:
                entered.add(place)
                todo.append(entry.path)
            if now.st_uid == uid:
                yield entry.path[base:]


@define
class Leaving:
    """What is to become of a home whose account is removed: the archive is written first of all, the rest is done when
    the account is gone."""

    home: Home
    choice: FilesChoice
    archive: str
    said: str = ""

    def before(self) -> None:
        """Count, and write the archive."""
        count, size = self.home.files()
        self.said = f"{counted(count, 'file')}, {say_size(size)} "
        if self.choice is FilesChoice.ARCHIVE:
            checksum = self.home.archive(self.home.root.place(self.archive))
            self.said += f"are in {self.archive}, sha256 {checksum}"
        elif self.choice is FilesChoice.KEEP:
            self.said += f"stay in {self.home.name}, for root alone"
        else:
            self.said += "deleted"

    def after(self) -> None:
        """Hand the home over, or delete it."""
        if self.choice is FilesChoice.KEEP:
            self.home.hand_over()
        else:
            self.home.delete()
