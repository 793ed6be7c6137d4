"""The file tree of a Linux system, live or mounted: read and written without ever leaving it."""

import errno
import os
import socket
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from fnmatch import fnmatchcase
from functools import cache
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, TypeVar

from attrs import define, field

from verrou.core.errors import BadInput, NotEnoughRights
from verrou.log import Log
from verrou.machines.changes import FileState
from verrou.machines.linux.copy.sandbox import open_in_root
from verrou.machines.local_files import item_at, read_to_end
from verrou.machines.protocol import DryRunUnavailable

if TYPE_CHECKING:
    from verrou.machines.linux.copy.requests import A, Asker, Request

LOG = Log(__name__)

T = TypeVar("T")
MOST_LINKS = 40
MOST_FOLDERS = 500
_OPEN_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
Runner = Callable[[Sequence[str]], tuple[int, str]]
"""Runs one of the system's own programs inside it: its exit code and output."""


@define(repr=False)
class Root:
    """A root folder, with names as the system itself sees them: ``/etc/passwd``.

    ``live``: it is the running system, or a copy of it. ``runner`` runs programs inside; only private copies have one.
    ``asker`` asks the system itself in a copy; ``late`` are PAM services that did not answer in time and are not waited
    for again."""

    path: Path
    live: bool = field()
    runner: Runner | None = None
    asker: "Asker | None" = None
    lenient: bool = False
    late: set[str] = field(factory=set, repr=False)
    denied: dict[str, None] = field(factory=dict, init=False, repr=False)
    asked: set[str] = field(factory=set, init=False, repr=False)
    stamps: dict[str, object] = field(factory=dict, init=False, repr=False)
    _read: dict[str, str | None] = field(factory=dict, init=False, repr=False)
    _there: dict[str, bool | None] = field(factory=dict, init=False, repr=False)
    _listings: dict[tuple[str, bool], list[str]] = field(factory=dict, init=False, repr=False)
    _made: dict[object, tuple[object, frozenset[str]]] = field(factory=dict, init=False, repr=False)

    _is_top: bool = field(init=False, repr=False)

    @live.default
    def _is_our_own(self) -> bool:
        return self.path == Path("/")

    @_is_top.default
    def _is_at_the_top(self) -> bool:
        return self.path == Path("/")

    @property
    def could_run(self) -> bool:
        """Whether programs of it could run at all: a plain tree of files has none."""
        return self.exists("/proc") and self.exists("/tmp")

    def place(self, name: str) -> Path:
        """Return the real path of ``name``, with links resolved inside the root as after a chroot, never out of it.

        Raises: BadInput: the links are circular."""
        if self._is_top:
            return Path(name)
        todo = list(reversed(PurePosixPath(name).parts[1:]))
        inside: list[str] = []
        links = 0
        while todo:
            part = todo.pop()
            if part == "..":
                inside = inside[:-1]
                continue
            here = self.path.joinpath(*inside, part)
            if not here.is_symlink():
                inside.append(part)
                continue
            links += 1
            if links > MOST_LINKS:
                raise BadInput(f"{self.path}{name}: its links go in circles; repair them first")
            target = PurePosixPath(os.readlink(here))
            if target.is_absolute():
                inside = []
            todo += [step for step in reversed(target.parts) if step != "/"]
        return self.path.joinpath(*inside)

    def open(self, name: str, flags: int = os.O_RDONLY, mode: int = 0) -> int:
        """Open ``name`` without leaving the root. Raises: OSError: as open(2)."""
        flags |= os.O_CLOEXEC
        if self._is_top:
            return os.open(name, flags, mode)
        if _kernel_resolves():
            top = os.open(self.path, _OPEN_FOLDER)
            try:
                return open_in_root(top, name, flags, mode)
            finally:
                os.close(top)
        return self._open_by_steps(name, flags, mode)

    def _open_by_steps(self, name: str, flags: int, mode: int) -> int:
        """Open step by step, for kernels before 5.6: no folder on the path that :meth:`place` found may be a link."""
        parts = self.place(name).relative_to(self.path).parts
        folder = os.open(self.path, _OPEN_FOLDER)
        try:
            for part in parts[:-1]:
                inner = os.open(part, _OPEN_FOLDER | os.O_NOFOLLOW, dir_fd=folder)
                os.close(folder)
                folder = inner
            return os.open(parts[-1] if parts else ".", flags | os.O_NOFOLLOW, mode, dir_fd=folder)
        finally:
            os.close(folder)

    def open_folder_of(self, name: str) -> tuple[int, str]:
        """Open the folder of ``name``; return it and the last part of the name, which may be a link itself.

        Raises: OSError: there is no such folder."""
        folder, _, last = name.rstrip("/").rpartition("/")
        if last in ("", ".", ".."):
            raise OSError(errno.EINVAL, "no name of anything in a folder", name)
        return self.open(folder or "/", _OPEN_FOLDER), last

    def text(self, name: str) -> str | None:
        """Return the content of a file, byte for byte (surrogates stand for bytes that are not UTF-8); None without
        the file.

        Raises: NotEnoughRights, BadInput: it exists and cannot be read."""
        self.asked.add(name)
        if name not in self._read:
            self._read[name] = self._text(name)
        return self._read[name]

    def _text(self, name: str) -> str | None:
        try:
            descriptor = self.open(name, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY)
        except (FileNotFoundError, NotADirectoryError):
            self.stamps[name] = None
            return None
        except PermissionError:
            self._deny(name)
            return None
        except ValueError:
            raise BadInput(f"{name!r} is not a file name: it contains a NUL") from None
        except OSError as error:
            if error.errno == errno.ENAMETOOLONG:
                self.stamps[name] = None
                return None
            if error.errno == errno.ELOOP:
                raise BadInput(f"{self.path}{name}: its links go in circles; repair them first") from None
            if error.errno == errno.ENXIO:
                raise BadInput(f"{name} is not an ordinary file. Repair it first.") from None
            raise BadInput(f"{name} cannot be read ({error.strerror}). Repair the file or the disk first.") from None
        try:
            now = os.fstat(descriptor)
            if stat.S_ISDIR(now.st_mode):
                raise BadInput(f"{name} cannot be read (Is a directory). Repair the file or the disk first.")
            self.stamps[name] = stamp_of(now)
            if _is_null(now):
                return ""
            if not stat.S_ISREG(now.st_mode):
                raise BadInput(f"{name} is not an ordinary file. Repair it first.")
            LOG.debug("read %s", name)
            with os.fdopen(os.dup(descriptor), "rb") as stream:
                return decode(stream.read())
        except OSError as error:
            raise BadInput(f"{name} cannot be read ({error.strerror}). Repair the file or the disk first.") from None
        finally:
            os.close(descriptor)

    def lines(self, name: str) -> list[str]:
        """Return the lines of a file without their ends; none without the file."""
        text = self.text(name)
        return [] if not text else text.removesuffix("\n").split("\n")

    def made_once(self, key: object, make: Callable[[], T]) -> T:
        """Return the result of ``make``, which depends on files alone, until one of the root's files is written or
        read anew."""
        if key not in self._made:
            before, self.asked = self.asked, set()
            try:
                self._made[key] = make(), frozenset(self.asked)
            finally:
                self.asked |= before
        made, files = self._made[key]
        self.asked |= files
        return made  # type: ignore[return-value]

    def exists(self, name: str) -> bool:
        """Return whether anything exists there, as when it was first asked.

        Raises: BadInput: its links go in circles."""
        return self._is_there(name) is True

    def lacks(self, name: str) -> bool:
        """Return whether nothing is there, as when it was first asked: not where that cannot be seen."""
        try:
            return self._is_there(name) is False
        except BadInput:
            return False

    def _is_there(self, name: str) -> bool | None:
        if name not in self._there:
            try:
                os.close(self.open(name, os.O_PATH))
                self._there[name] = True
            except (FileNotFoundError, NotADirectoryError):
                self._there[name] = False
            except OSError as error:
                self._there[name] = None
                if error.errno == errno.ELOOP and self.place(name).exists():
                    self._there[name] = True
            except ValueError:
                self._there[name] = None
        return self._there[name]

    def look_within(self, folder: str, name: str) -> None:
        """Look once for a folder ``name`` in each folder of a folder, and list it, before it is asked for in many of
        them: what is no link, and in no link, needs no resolving."""
        with self._listed(folder) as descriptor:
            for entry in () if descriptor is None else os.scandir(descriptor):
                try:
                    if not entry.is_dir(follow_symlinks=False):
                        continue
                    names = _names_itself(f"{entry.name}/{name}", descriptor)
                except OSError:  # a link or no folder, or it may not be listed
                    continue
                place = f"{folder}/{entry.name}/{name}"
                self._there.setdefault(place, names is not None)
                if names is not None:
                    self._listings.setdefault((place, False), names)

    def is_listed(self, folder: str) -> bool:
        """Return whether the names in a folder are known already."""
        return (folder, False) in self._listings

    def is_folder(self, name: str) -> bool:
        """Return whether it is a folder, or a link to one."""
        return self._kind_of(name, stat.S_ISDIR)

    def is_file(self, name: str) -> bool:
        """Return whether it is a file, or a link to one.

        A link to /dev/null is an empty file, on a disk mounted without that device, too."""
        above, _, last = name.rpartition("/")
        try:
            if os.readlink(self.place(above or "/") / last) == os.devnull:
                return True
        except (OSError, BadInput):
            pass  # no link, or nothing there
        return self._kind_of(name, stat.S_ISREG)

    def may_be_run(self, name: str) -> bool:
        """Return whether it is a file that anyone can run, by its mode."""
        return self.is_file(name) and self._kind_of(name, lambda mode: bool(mode & 0o111))

    def _kind_of(self, name: str, is_kind: Callable[[int], bool]) -> bool:
        try:
            return is_kind(os.stat(self.place(name)).st_mode)
        except (OSError, BadInput):
            return False

    def names_in(self, folder: str) -> list[str]:
        """Return the sorted names in a folder, as when it was first asked; empty without the folder."""
        return self._names(folder, files_alone=False)

    def files_in(self, folder: str) -> list[str]:
        """Return the sorted names of the files in a folder, as when it was first asked, links to files included; empty
        without the folder.

        The system's programs skip anything else among their files: another folder, a pipe, a dangling link."""
        return self._names(folder, files_alone=True)

    def _names(self, folder: str, *, files_alone: bool) -> list[str]:
        if (folder, files_alone) not in self._listings:
            with self._listed(folder) as descriptor:
                found = [] if descriptor is None else list(os.scandir(descriptor))
                self._listings[folder, files_alone] = sorted(
                    each.name
                    for each in found
                    if not files_alone
                    or each.is_file(follow_symlinks=False)
                    or (each.is_symlink() and self.is_file(f"{folder}/{each.name}"))
                )
        return list(self._listings[folder, files_alone])

    def matching(self, pattern: str) -> list[str]:
        """Return the sorted matches of glob(7): names that begin with a dot only where the pattern has the dot.

        Raises: BadInput: it goes through too many folders."""
        found = [""]
        for part in pattern.split("/")[1:]:
            if len(found) > MOST_FOLDERS:
                raise BadInput(f"{pattern} matches in more than {MOST_FOLDERS} folders. Use a narrower pattern")
            inner = [(above, name) for above in found for name in self.names_in(above or "/") if _matches(name, part)]
            found = [f"{above}/{name}" for above, name in inner]
        return found

    def files_matching(self, pattern: str) -> list[str]:
        """Return the sorted files that glob(7) finds; anything else is skipped. Raises: BadInput: see
        :meth:`matching`."""
        return [each for each in self.matching(pattern) if self.is_file(each)]

    @contextmanager
    def _listed(self, folder: str) -> Iterator[int | None]:
        """Return a folder, opened; None where there is none."""
        try:
            descriptor = self.open(folder, _OPEN_FOLDER)
        except (FileNotFoundError, NotADirectoryError):
            yield None
            return
        except PermissionError:
            self._deny(folder)
            yield None
            return
        except OSError as error:
            raise BadInput(f"{folder} cannot be read ({error.strerror}). Repair the disk first.") from None
        try:
            yield descriptor
        finally:
            os.close(descriptor)

    def _deny(self, name: str) -> None:
        """Raise NotEnoughRights about a file that is denied."""
        if not self.lenient:
            raise NotEnoughRights(f"{name} cannot be read by this account; run as root") from None
        self.denied[name] = None

    def ask(self, request: "Request[A]") -> "A":
        """Ask the system itself. Raises: DryRunUnavailable: it cannot be asked, or its answer makes no sense."""
        if self.asker is None:
            raise DryRunUnavailable("the system itself is not asked here")
        return self.asker(request)

    def forget(self) -> None:
        """Read every file anew from now on: another program may have written."""
        self._read.clear()
        self._forget_places()

    def _forget_places(self) -> None:
        for known in (self._there, self._listings, self._made):
            known.clear()

    def write(self, name: str, text: str, mode: int = 0o644) -> None:
        """Write a file of a private copy; attributes of an existing one stay. Missing folders are created.

        Raises: OSError: it cannot be written, or is not an ordinary file, which would swallow the content."""
        self.make_folders(name.rpartition("/")[0])
        descriptor = self.open(name, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NONBLOCK, mode)
        with os.fdopen(descriptor, "wb") as stream:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                raise OSError(errno.EINVAL, "not an ordinary file", name)
            stream.write(encode(text))
        self._read.pop(name, None)
        self._forget_places()

    def make_folders(self, name: str) -> None:
        """Create a folder of a private copy with missing parents. Raises: OSError: one cannot be made."""
        try:
            os.close(self.open(name or "/", _OPEN_FOLDER))
            return
        except FileNotFoundError:
            self.make_folders(name.rpartition("/")[0])
        above, last = self.open_folder_of(name)
        try:
            os.mkdir(last, 0o755, dir_fd=above)
        finally:
            os.close(above)

    def remove(self, name: str) -> None:
        """Delete a file of a private copy, where it exists."""
        with suppress(FileNotFoundError):
            above, last = self.open_folder_of(name)
            try:
                os.unlink(last, dir_fd=above)
            finally:
                os.close(above)
        self._read.pop(name, None)
        self._forget_places()

    def rename(self, name: str, new_name: str) -> None:
        """Rename a file of a private copy in its folder, with its attributes. Raises: OSError: it cannot be renamed."""
        above, last = self.open_folder_of(name)
        try:
            os.rename(last, new_name.rpartition("/")[2], src_dir_fd=above, dst_dir_fd=above)
        finally:
            os.close(above)
        self.forget()

    def content(self, name: str, most: int | None = None) -> bytes:
        """Return the content of a file, or its first ``most`` bytes; empty where there is no ordinary, readable one."""
        try:
            descriptor = self.open(name, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY)
        except (OSError, ValueError) as error:
            if isinstance(error, PermissionError):
                self.denied[name] = None
            return b""
        try:
            now = os.fstat(descriptor)
            if not stat.S_ISREG(now.st_mode):
                return b""
            return read_to_end(descriptor, now.st_size, most)
        except OSError:
            return b""
        finally:
            os.close(descriptor)

    def item(self, name: str) -> FileState:
        """Return the state of ``name``, a link being a link. Raises: OSError: it exists and cannot be read."""
        try:
            folder, last = self.open_folder_of(name)
        except (FileNotFoundError, NotADirectoryError):
            return FileState(None)
        try:
            return item_at(last, folder)
        finally:
            os.close(folder)

    def stamp(self, name: str) -> object:
        """Return a stamp that changes with the file; None where there is none."""
        try:
            return stamp_of(os.stat(self.place(name)))
        except OSError:
            return None


def _names_itself(name: str, folder: int | None) -> list[str] | None:
    """Return the sorted names in a folder below an open one; None without it. Raises: OSError: it is a link or no
    folder, or cannot be listed."""
    try:
        descriptor = os.open(name, _OPEN_FOLDER | os.O_NOFOLLOW, dir_fd=folder)
    except FileNotFoundError:
        return None
    try:
        return sorted(os.listdir(descriptor))
    finally:
        os.close(descriptor)


def _matches(name: str, pattern: str) -> bool:
    hidden = name.startswith(".") and not pattern.startswith(".")
    return not hidden and fnmatchcase(name, pattern.replace("[^", "[!"))


def _is_null(now: os.stat_result) -> bool:
    """Return whether it is /dev/null, null(4): a link to it replaces a file by an empty one."""
    return stat.S_ISCHR(now.st_mode) and now.st_rdev == os.makedev(1, 3)


def stamp_of(now: os.stat_result) -> tuple[int, ...]:
    """Return a value that changes whenever a file is written, replaced or gets another owner."""
    return now.st_dev, now.st_ino, now.st_size, now.st_mtime_ns, now.st_ctime_ns


@cache
def _kernel_resolves() -> bool:
    """Return whether the kernel itself can confine a path to a root (Linux 5.6 and later)."""
    top = os.open("/", _OPEN_FOLDER)
    try:
        os.close(open_in_root(top, "/", _OPEN_FOLDER))
    except OSError as error:
        return error.errno not in (errno.ENOSYS, errno.EPERM, errno.EINVAL)
    finally:
        os.close(top)
    return True


def host_name(root: Root) -> str:
    """Return the system's host name."""
    if root.live:
        return socket.gethostname()
    lines = root.lines("/etc/hostname") if root.exists("/etc/hostname") else []
    named = next((line.strip() for line in lines if line.strip() and not line.startswith("#")), "")
    return named or root.path.name


def decode(content: bytes) -> str:
    """Return bytes as text that encodes to the same bytes again."""
    return content.decode("utf-8", "surrogateescape")


def encode(text: str) -> bytes:
    """Return the inverse of :func:`decode`."""
    return text.encode("utf-8", "surrogateescape")
