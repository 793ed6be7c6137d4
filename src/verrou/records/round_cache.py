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
from tempfile import TemporaryFile
from typing import IO, Any, Self, get_origin

from attrs import fields

import verrou
from verrou.core.judging.rounds import CONTENT, RULES, Content, Row
from verrou.log import Log
from verrou.machines.local_files import ordinary_bytes

LOG = Log(__name__)

NAME = "rounds.json"
MOST_ROWS, MOST_BYTES = 20_000, 40_000_000
Key = bytes
"""SHA-256 of the survey, and after it that of the baseline."""

DIGEST = sha256().digest_size


class RoundCache:
    """The content of rows, by what they were made from."""

    def __init__(self, rows: Mapping[Key, Content]) -> None:
        self._rows = rows
        self._names: dict[bytes, str] = {key[:DIGEST]: content[MACHINE] for key, content in rows.items()}

    def __contains__(self, key: Key) -> bool:
        return key in self._rows

    def __iter__(self) -> Iterator[Key]:
        return iter(self._rows)

    def __getitem__(self, key: Key) -> Content:
        return self._rows[key]

    def machine_of(self, survey: bytes) -> str | None:
        """Return the name of the machine whose survey has this digest, if a row of it is known."""
        return self._names.get(survey)

    @classmethod
    def read(cls, file: Path | None) -> Self:
        """Return what the file has; nothing where there is none that can be used."""
        try:
            return cls(_parsed(_own_bytes(file)) if file is not None else {})
        except (OSError, ValueError, TypeError, IndexError, RecursionError) as reason:
            LOG.info("%s is not used: %s", file, reason)
            return cls({})


class Renewal:
    """The rows of a round, kept for the next one where there is a file for them. A round never fails for it.

    New ones wait in a file without a name: kept in memory, they would be a fifth of what a round takes there."""

    def __init__(self, cache: RoundCache, file: Path | None) -> None:
        self._cache, self._file = cache, file
        self._again: list[Key] = []
        self._new: IO[bytes] | None = None

    def keep(self, key: Key, content: Content) -> None:
        """Keep the content of a row."""
        if key in self._cache:
            self._again.append(key)
        elif self._file is not None:
            try:
                self._new = self._new or TemporaryFile()  # noqa: SIM115 - it ends with the round
                self._new.write(_line(key, content))
            except OSError as reason:
                self._give_up(reason)

    def write(self) -> None:
        """Write these rows where one of them is new, and those of earlier rounds as far as there is room: the file
        whole, or it stays as it is."""
        if self._file is None or self._new is None:
            return
        earlier = dict.fromkeys(chain(self._again, self._cache))
        try:
            self._new.seek(0)
            _write(self._file, chain(self._new, (_line(key, self._cache[key]) for key in earlier)))
        except OSError as reason:
            self._give_up(reason)

    def _give_up(self, reason: OSError) -> None:
        LOG.info("%s is not written: %s", self._file, reason)
        self._file = None


_encode = json.JSONEncoder(separators=(",", ":")).encode


def _line(key: Key, content: Content) -> bytes:
    return _encode([key.hex(), *map(_plain, content)]).encode() + b"\n"


def _write(file: Path, rows: Iterable[bytes]) -> None:
    staged, digest = file.with_name(f".{NAME}.{os.getpid()}"), sha256()
    file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    descriptor = os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            for line in chain([f"{_program()}\n".encode()], islice(rows, MOST_ROWS)):
                digest.update(line)
                stream.write(line)
            stream.write(digest.hexdigest().encode())
        staged.rename(file)
    except BaseException:
        staged.unlink(missing_ok=True)
        raise


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


def _parsed(content: bytes) -> dict[Key, Content]:
    body, _, digest = content.rpartition(b"\n")
    head, *lines = body.split(b"\n")
    if digest != sha256(body + b"\n").hexdigest().encode() or head != _program().encode() or len(lines) > MOST_ROWS:
        raise ValueError("another version wrote it, or it is damaged")
    rows = json.loads(b"[" + b",".join(lines) + b"]")
    return {bytes.fromhex(key): _read(stored) for key, *stored in rows}


def _read(stored: list[Any]) -> Content:
    """Return the content of a row. Raises: ValueError, TypeError, IndexError: a part of it is not as it is written."""
    for place, reader in READERS.items():
        stored[place] = reader(stored[place])
    if tuple(map(type, stored)) not in KINDS or len(stored[SIGNS]) != len(RULES):
        raise ValueError("a row has parts of another kind")
    return tuple(stored)


def _texts(raw: Any) -> tuple[str, ...]:
    if not isinstance(raw, list) or not all(type(each) is str for each in raw):
        raise ValueError("a row has parts of another kind")
    return tuple(raw)


MACHINE, SIGNS, WAIVER = map(CONTENT.index, ("machine", "signs", "oldest_waiver"))
READERS: Mapping[int, Callable[[Any], Any]] = {
    CONTENT.index("at"): datetime.fromisoformat,
    WAIVER: lambda raw: None if raw is None else date.fromisoformat(raw),
    CONTENT.index("listed"): _texts,
}
_TYPES = [get_origin(field.type) or field.type for field in fields(Row) if field.name in CONTENT]
KINDS = {(*_TYPES[:WAIVER], waiver, *_TYPES[WAIVER + 1 :]) for waiver in (date, type(None))}
"""Of what classes the parts of a row can be."""


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, date) else value


def _program() -> str:
    """Return what tells this program from every other that would judge otherwise: the state of its own files."""
    found = sha256(verrou.__version__.encode())
    top = Path(verrou.__file__).parent
    for place in sorted(top.rglob("*.py")):
        now = os.stat(place)
        found.update(f"{place} {now.st_size} {now.st_mtime_ns}\n".encode())
    return f"verrou rounds 2 {found.hexdigest()}"
