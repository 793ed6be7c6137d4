"""Rows of earlier rounds by the content of their surveys, so that a survey that did not change is only read and hashed.

The file in the user's cache folder belongs to that user alone. It is used only where every part of it is as this
version of the program writes it; else it is thrown away, and the next round writes another."""

import json
import os
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import date, datetime
from hashlib import sha256
from itertools import chain, islice
from pathlib import Path
from typing import Any, Self

from attrs import fields

import verrou
from verrou.core.judging.rounds import RULES, Row
from verrou.log import Log
from verrou.machines.local_files import ordinary_bytes

LOG = Log(__name__)

NAME = "rounds.json"
MOST_ROWS, MOST_BYTES = 20_000, 40_000_000
OF_THE_FILE = ("address", "recorded")
"""What of a row is not the content's: where the survey is, and when it was written."""
STORED = tuple(field.name for field in fields(Row) if field.name not in OF_THE_FILE)
Parts = dict[str, Any]
Key = tuple[str, str]
"""SHA-256 of the survey, and of the baseline."""


class RoundCache:
    """The parts of rows, without the place of their file, by what they were made from."""

    def __init__(self, rows: Mapping[Key, Parts]) -> None:
        self._rows = rows
        self._names: dict[str, str] = {content: parts["machine"] for (content, _), parts in rows.items()}

    def __contains__(self, key: Key) -> bool:
        return key in self._rows

    def machine_of(self, content: str) -> str | None:
        """Return the name of the machine whose survey has this content, if a row of it is known."""
        return self._names.get(content)

    def row(self, key: Key, address: str, recorded: float | None) -> Row | None:
        """Return the row of a survey, for the file that it is in now."""
        found = self._rows.get(key)
        return None if found is None else Row(**found, address=address, recorded=recorded)

    @classmethod
    def read(cls, file: Path | None) -> Self:
        """Return what the file has; nothing where there is none that can be used."""
        try:
            return cls(_parsed(_own_bytes(file)) if file is not None else {})
        except (OSError, ValueError, TypeError, KeyError, RecursionError) as reason:
            LOG.info("%s is not used: %s", file, reason)
            return cls({})

    def write(self, file: Path, rows: Iterable[tuple[Key, Row]]) -> None:
        """Write these rows, and the others as far as there is room: the file whole, or it stays as it is. A round never
        fails for it."""
        staged, digest = file.with_name(f".{NAME}.{os.getpid()}"), sha256()
        try:
            file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            descriptor = os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
            try:
                with os.fdopen(descriptor, "wb") as stream:
                    for line in self._lines(dict(rows)):
                        digest.update(line)
                        stream.write(line)
                    stream.write(digest.hexdigest().encode())
                staged.rename(file)
            except BaseException:
                staged.unlink(missing_ok=True)
                raise
        except OSError as reason:
            LOG.info("%s is not written: %s", file, reason)

    def _lines(self, rows: Mapping[Key, Row]) -> Iterator[bytes]:
        yield f"{_program()}\n".encode()
        others = ((key, parts) for key, parts in self._rows.items() if key not in rows)
        new = ((key, {name: getattr(row, name) for name in STORED}) for key, row in rows.items())
        for key, found in islice(chain(new, others), MOST_ROWS):
            parts = [*key, *map(_plain, found.values())]
            yield json.dumps(parts, separators=(",", ":")).encode() + b"\n"


def cache_file() -> Path | None:
    """Return the place of the cache (XDG Base Directory Specification); None where there is no home of one's own, and
    for the one-file form, which is carried to other people's computers and leaves nothing there."""
    if verrou.archive():
        return None
    given = os.environ.get("XDG_CACHE_HOME", "")
    home = Path(os.environ.get("HOME", ""))
    folder = Path(given) if given.startswith("/") else home / ".cache"
    try:
        owner = os.stat(folder if folder.exists() else home).st_uid
    except OSError:
        return None
    return folder / "verrou" / NAME if folder.is_absolute() and owner == os.geteuid() else None


def _own_bytes(file: Path) -> bytes:
    """Return the content of a file that no one else can have written. Raises: OSError: there is none."""
    for place in (file, file.parent):
        now = os.lstat(place)
        if now.st_uid != os.geteuid() or now.st_mode & 0o022 or stat.S_ISLNK(now.st_mode):
            raise PermissionError(f"{place} is not this user's alone")
    return ordinary_bytes(file, MOST_BYTES, os.O_NOFOLLOW)


def _parsed(content: bytes) -> dict[Key, Parts]:
    body, _, digest = content.rpartition(b"\n")
    head, *lines = body.split(b"\n")
    if digest != sha256(body + b"\n").hexdigest().encode() or head != _program().encode() or len(lines) > MOST_ROWS:
        raise ValueError("another version wrote it, or it is damaged")
    rows = json.loads(b"[" + b",".join(lines) + b"]")
    return {(content, baseline): _parts(rest) for content, baseline, *rest in rows}


def _parts(stored: list[Any]) -> Parts:
    """Return the parts of a row. Raises: ValueError, TypeError, KeyError: a part of it is not as it is written."""
    row = dict(zip(STORED, stored, strict=True))
    for name, reader in READERS.items():
        row[name] = reader(row[name])
    if not all(type(row[name]) is kind for name, kind in KINDS.items()) or len(row["signs"]) != len(RULES):
        raise ValueError("a row has parts of another kind")
    return row


def _texts(raw: Any) -> tuple[str, ...]:
    if not isinstance(raw, list) or not all(type(each) is str for each in raw):
        raise ValueError("a row has parts of another kind")
    return tuple(raw)


READERS: Mapping[str, Callable[[Any], Any]] = {
    "at": datetime.fromisoformat,
    "oldest_waiver": lambda raw: None if raw is None else date.fromisoformat(raw),
    "listed": _texts,
}
KINDS = {
    field.name: {"int": int}.get(getattr(field.type, "__name__", ""), str)
    for field in fields(Row)
    if field.name in STORED and field.name not in READERS
}


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, date) else value


def _program() -> str:
    """Return what tells this program from every other that would judge otherwise: the state of its own files."""
    found = sha256(verrou.__version__.encode())
    top = Path(verrou.__file__).parent
    for place in sorted(top.rglob("*.py")):
        now = os.stat(place)
        found.update(f"{place} {now.st_size} {now.st_mtime_ns}\n".encode())
    return f"verrou rounds 1 {found.hexdigest()}"
