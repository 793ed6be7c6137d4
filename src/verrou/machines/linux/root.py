"""The file tree of a Linux system, live or mounted: read and written without ever leaving it."""

import os
from pathlib import Path, PurePosixPath

from attrs import define, field

from verrou.core.errors import BadInput, NotEnoughRights
from verrou.machines import Item
from verrou.machines.local_files import item_at, write_whole

MOST_LINKS = 40


@define
class Root:
    """A root folder. Names are written as the system itself sees them: ``/etc/passwd``."""

    path: Path
    _read: dict[str, str | None] = field(factory=dict, init=False, repr=False)

    @property
    def live(self) -> bool:
        """Whether this is the system we run on."""
        return self.path == Path("/")

    def place(self, name: str) -> Path:
        """The real path of ``name``. Links are followed inside the root, as after a chroot, and never out of it.

        Raises:
            BadInput: the links go in circles.
        """
        if self.live:
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
                raise BadInput(f"{self.path}{name}: its links go in circles; mend them first")
            target = PurePosixPath(os.readlink(here))
            if target.is_absolute():
                inside = []
            todo += [step for step in reversed(target.parts) if step != "/"]
        return self.path.joinpath(*inside)

    def text(self, name: str) -> str | None:
        """The content of a file, byte for byte (surrogates stand for bytes that are no UTF-8); None without the file.

        Raises:
            NotEnoughRights, BadInput: it is there and cannot be read.
        """
        if name not in self._read:
            try:
                path = self.place(name)
                if path.exists() and not (path.is_file() or path.is_dir()):
                    raise BadInput(f"{name} is no ordinary file; mend it first")
                self._read[name] = decode(path.read_bytes())
            except (FileNotFoundError, NotADirectoryError):
                self._read[name] = None
            except PermissionError:
                raise NotEnoughRights(f"{name} cannot be read by this account; run as root") from None
            except OSError as error:
                raise BadInput(f"{name} cannot be read ({error.strerror}); mend the file or the disk first") from None
        return self._read[name]

    def lines(self, name: str) -> list[str]:
        """The lines of a file without their ends; none without the file."""
        text = self.text(name)
        return [] if not text else text.removesuffix("\n").split("\n")

    def exists(self, name: str) -> bool:
        """Whether anything stands there."""
        return self.place(name).exists()

    def names_in(self, folder: str) -> list[str]:
        """The sorted names of what a folder holds; none without the folder."""
        try:
            return sorted(os.listdir(self.place(folder)))
        except (FileNotFoundError, NotADirectoryError):
            return []
        except PermissionError:
            raise NotEnoughRights(f"{folder} cannot be read by this account; run as root") from None

    def forget(self) -> None:
        """Read every file anew from now on: something else may have written."""
        self._read.clear()

    def write(self, name: str, text: str, mode: int = 0o644) -> None:
        """Replace a file at one stroke; mode and owner stay what they are where the file exists.

        Raises:
            NotEnoughRights, OSError: nothing was replaced.
        """
        path = self.place(name)
        now = item_at(path)
        try:
            path.parent.mkdir(mode=0o755, exist_ok=True)
            if now.content is not None:
                write_whole(path, encode(text), now.mode, now.uid, now.gid)
            else:
                write_whole(path, encode(text), mode, 0, 0)
        except PermissionError:
            raise NotEnoughRights(f"{name} cannot be written by this account; run as root") from None
        self._read.pop(name, None)

    def item(self, name: str) -> Item:
        """What stands at ``name``."""
        return item_at(self.place(name))


def decode(content: bytes) -> str:
    """Bytes as text that turns back into the same bytes."""
    return content.decode("utf-8", "surrogateescape")


def encode(text: str) -> bytes:
    """The inverse of :func:`decode`."""
    return text.encode("utf-8", "surrogateescape")
