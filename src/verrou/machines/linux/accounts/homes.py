"""Files of an account: found and counted, never outside of its home through a link.

A home is walked by open folders (``dir_fd``), so that nothing an account does meanwhile can lead out of it."""

import errno
import os
import stat
import time
from collections.abc import Iterator
from itertools import count as counting
from pathlib import Path

from attrs import define

from verrou.core.model import Files
from verrou.log import Log
from verrou.machines.changes import FileChange
from verrou.machines.linux.root import Root
from verrou.machines.protocol import MOST_NAMED, CannotLook

LOG = Log(__name__)

ARCHIVES = "/var/lib/verrou/archives"
ARCHIVE_ENDING = ".tar.gz"
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
FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


class NoHome(Exception):
    """The home must not be touched; the message says why."""


@define(repr=False)
class Home:
    """One account's home, as a folder that was opened without following a link."""

    root: Root
    name: str
    uid: int

    def there(self) -> bool:
        """Return whether anything exists there."""
        return os.path.lexists(self.itself())

    def itself(self) -> Path:
        """Return the path of the home with links above it resolved, and not a link that it is itself."""
        parent, _, last = self.name.rstrip("/").rpartition("/")
        return self.root.place(parent or "/") / last

    def check(self, others: dict[str, str]) -> None:
        """Check that the home may be removed: :meth:`check_itself`, no other account lives in it, nothing is
        mounted there.

        ``others`` are the homes of all other accounts, by account. Raises: NoHome: with the reason."""
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
        """Check that it is a folder of this account's own. Raises: NoHome: with the reason."""
        name = "/" + self.name.strip("/")
        if name in NO_HOMES or name.startswith(("/proc/", "/sys/", "/dev/", "/etc/", "/usr/", "/boot/")):
            raise NoHome(f"{self.name} is a folder of the system")
        if ".." in name.split("/"):
            raise NoHome(f"{self.name} leads through a folder above it")
        now = os.lstat(self.itself())
        if stat.S_ISLNK(now.st_mode):
            raise NoHome(f"{self.name} is a link to {os.readlink(self.itself())}")
        if not stat.S_ISDIR(now.st_mode):
            raise NoHome(f"{self.name} is not a folder")
        if now.st_uid != self.uid:
            raise NoHome(f"{self.name} belongs to another account (number {now.st_uid})")

    def is_empty_and_roots(self) -> bool:
        """Return whether it is the mount point of a temporary home: an empty folder of root's own."""
        now = os.lstat(self.itself())
        return stat.S_ISDIR(now.st_mode) and now.st_uid == 0 and not os.listdir(self.itself())

    def _walk(self) -> Iterator[tuple[int, str, list[str], list[str]]]:
        """Yield each folder bottom-up: (open folder, its name below the home, folders in it, other names in it).

        Mounts inside are listed and not entered."""
        top = os.open(self.itself(), FOLDER_FLAGS)
        try:
            yield from walk_open(top, "", os.fstat(top).st_dev)
        finally:
            os.close(top)

    def files(self) -> tuple[int, int]:
        """Return the number of files in the home, and their bytes."""
        count = size = 0
        for folder, _, _, names in self._walk():
            for name in names:
                now = os.stat(name, dir_fd=folder, follow_symlinks=False)
                count, size = count + 1, size + now.st_size
        return count, size

    def owners(self) -> set[int]:
        """Return the IDs of all owners of its content."""
        found = set()
        for folder, _, folders, names in self._walk():
            found |= {os.stat(name, dir_fd=folder, follow_symlinks=False).st_uid for name in (*folders, *names)}
        return found

    def inside(self) -> str:
        """Return its path in the root, with links above it resolved."""
        return f"/{self.itself().relative_to(self.root.path)}"

    def closed(self) -> FileChange:
        """Return the folder's state as root's own: its content stays, and no other account can reach it.

        That includes the next account with the same ID."""
        now = self.root.item(self.inside())
        return FileChange(self.inside(), now, now._replace(mode=0o700, uid=0, gid=0, attributes=()))


def new_archive(root: Root, account: str) -> str:
    """Return an archive name that is not in use."""
    stamp = f"{ARCHIVES}/{account}-{time.strftime('%Y%m%d-%H%M%S')}"
    names = (f"{stamp}{ARCHIVE_ENDING}" if n == 1 else f"{stamp}-{n}{ARCHIVE_ENDING}" for n in counting(1))
    return next(name for name in names if not os.path.lexists(root.place(name)))


def walk_open(folder: int, below: str, device: int) -> Iterator[tuple[int, str, list[str], list[str]]]:
    """Yield each folder below an open one, bottom-up: (open folder, its name below the first, folders, other names).

    Mounts of another device are listed and not entered. However deep folders are nested, one is open at a time: the way
    up is ``..``, which must be the folder that was left. Raises: OSError: a folder cannot be read, or was moved
    meanwhile."""
    above: list[_Level] = []
    level, here = _Level.of(folder, below), os.dup(folder)
    try:
        while True:
            if level.to_enter:
                name = level.to_enter.pop()
                inner = os.open(name, FOLDER_FLAGS, dir_fd=here)
                if os.fstat(inner).st_dev != device:
                    try:
                        yield inner, f"{level.below}/{name}".lstrip("/"), [], []
                    finally:
                        os.close(inner)
                    continue
                above.append(level)
                os.close(here)
                here = inner
                level = _Level.of(here, f"{level.below}/{name}".lstrip("/"))
                continue
            yield here, level.below, level.folders, level.names
            if not above:
                return
            level = above.pop()
            outer = os.open("..", FOLDER_FLAGS, dir_fd=here)
            os.close(here)
            here = outer
            if level.place != (os.fstat(here).st_dev, os.fstat(here).st_ino):
                raise OSError(errno.ESTALE, "it was moved while it was looked through", level.below)
    finally:
        os.close(here)


@define(repr=False)
class _Level:
    """A folder that is being walked, its identity, and its folders that were not entered yet."""

    place: tuple[int, int]
    below: str
    folders: list[str]
    names: list[str]
    to_enter: list[str]

    @classmethod
    def of(cls, folder: int, below: str) -> "_Level":
        folders: list[str] = []
        names: list[str] = []
        with os.scandir(folder) as entries:
            for entry in entries:
                (folders if entry.is_dir(follow_symlinks=False) else names).append(entry.name)
        now = os.fstat(folder)
        return cls((now.st_dev, now.st_ino), below, folders, names, folders.copy())


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
    elsewhere = sorted(everything_elsewhere(root, uid, home) if everywhere else _usual(root, account, uid))
    return Files(shown, count, size, tuple(elsewhere[:MOST_NAMED]), len(elsewhere), everywhere, remark)


def _usual(root: Root, account: str, uid: int) -> Iterator[str]:
    seen = set()
    for folder in USUAL_PLACES:
        place = root.place(f"{folder}/{account}")
        if place not in seen and os.path.lexists(place) and os.lstat(place).st_uid == uid:
            seen.add(place)
            yield f"{folder}/{account}"


def _foreign_devices() -> set[int]:
    """Return the devices of file systems without files of this computer, by proc(5): mountinfo."""
    devices = set()
    for line in Path("/proc/self/mountinfo").read_text(errors="replace").splitlines():
        fields, _, rest = line.partition(" - ")
        kind = rest.split(" ", 1)[0]
        if kind in NO_DISKS or kind.startswith(("nfs", "fuse.", "cgroup")):
            major, _, minor = fields.split()[2].partition(":")
            devices.add(os.makedev(int(major), int(minor)))
    return devices


def everything_elsewhere(root: Root, uid: int, home: str) -> Iterator[str]:
    """Yield everything that belongs to a user ID outside the home.

    All local file systems mounted below the root are searched, and none of another computer."""
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
        except OSError as error:
            LOG.info("%s: not searched: %s", folder, error.strerror)
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
