"""Sign-in records: lastlog(8), wtmp(5) and the databases of newer systems, whichever exist."""

import mmap
import os
import sqlite3
import stat
import struct
import time
from collections.abc import Iterator
from contextlib import closing
from datetime import date, datetime
from typing import TypeVar

from attrs import define, field

from verrou.log import Log
from verrou.machines.linux.root import Root

LOG = Log(__name__)

LASTLOG, WTMP = "/var/log/lastlog", "/var/log/wtmp"
LASTLOG2, WTMPDB = "/var/lib/lastlog/lastlog2.db", "/var/lib/wtmpdb/wtmp.db"
LASTLOG_RECORD = struct.Struct("<i32s256s")
UTMP_RECORD = struct.Struct("<hxxi32s4s32s256shhiii16s20s")
"""utmp(5) on the machines whose records have 384 bytes (all but a few 64-bit kinds)."""
SYSTEM_STARTED, SIGNED_IN = 2, 7
DATABASE_STARTED, DATABASE_SIGNED_IN = 1, 3
"""What wtmpdb calls a start of the system and a sign-in."""
MOST_READ = 64_000_000
"""How many bytes of a record are read, from its end."""
SEED = "/var/lib/systemd/random-seed"
"""Written whenever the system starts and stops."""


K = TypeVar("K")


@define(repr=False)
class SignIns:
    """Sign-in records of a system. ``untrusted`` says why they cannot be trusted; ``since`` is the first day they
    cover."""

    untrusted: str = ""
    since: date | None = None
    by_uid: dict[int, int] = field(factory=dict)
    by_name: dict[str, int] = field(factory=dict)

    def last(self, name: str, uid: int) -> datetime | None:
        """Return the last sign-in of an account."""
        latest = max(self.by_uid.get(uid, 0), self.by_name.get(name, 0))
        return moment(latest) if latest > 0 else None


def moment(seconds: float) -> datetime | None:
    """Return seconds since 1970 as the machine's own time; None beyond the calendar."""
    try:
        return datetime.fromtimestamp(seconds)
    except (OverflowError, OSError, ValueError):
        return None


def sign_ins(root: Root) -> SignIns:
    """Read every record that exists, and judge whether they can be trusted."""
    found = SignIns()
    earliest: list[int] = []
    written: list[float] = []
    started = _last_start_here() if root.live else _written(root, SEED)
    for name, read in ((LASTLOG, _lastlog), (WTMP, _wtmp), (LASTLOG2, _lastlog2), (WTMPDB, _wtmpdb)):
        when = _written(root, name)
        if when is None:
            continue
        first, start = read(root, name, found)
        if first is not None:
            written.append(when)
            earliest.append(first)
        started = max(filter(None, (started, start)), default=None)
    if not written:
        found.untrusted = "sign-ins are not recorded here"
    elif started is not None and max(written) < started:
        day = moment(max(written))
        found.untrusted = f"the record of sign-ins ends {day:%Y-%m-%d}, before this system last started"
    else:
        first_day = moment(min(earliest))
        found.since = first_day.date() if first_day else None
    return found


def _written(root: Root, name: str) -> float | None:
    try:
        descriptor = root.open(name, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY)
    except (OSError, ValueError):
        return None
    with closing(os.fdopen(descriptor, "rb")):
        now = os.fstat(descriptor)
        return now.st_mtime if stat.S_ISREG(now.st_mode) else None


def _last_start_here() -> float | None:
    try:
        return time.time() - time.clock_gettime(time.CLOCK_BOOTTIME)
    except OSError:
        return None


def _noted(known: dict[K, int], key: K, seconds: int) -> None:
    known[key] = max(known.get(key, 0), seconds)


def _lastlog(root: Root, name: str, found: SignIns) -> tuple[int | None, None]:
    """Read lastlog, a sparse file that can be far larger than its content: only filled parts are read."""
    first: int | None = None
    with os.fdopen(root.open(name, os.O_RDONLY | os.O_NONBLOCK), "rb") as stream:
        size = os.fstat(stream.fileno()).st_size
        if size < LASTLOG_RECORD.size:
            return None, None
        with mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ) as records:
            for start, end in _filled(stream.fileno(), size):
                for uid in range(start // LASTLOG_RECORD.size, end // LASTLOG_RECORD.size + 1):
                    if (uid + 1) * LASTLOG_RECORD.size > size:
                        break
                    when = LASTLOG_RECORD.unpack_from(records, uid * LASTLOG_RECORD.size)[0]
                    if when > 0:
                        _noted(found.by_uid, uid, when)
                        first = when if first is None else min(first, when)
    return first, None


def _filled(descriptor: int, size: int) -> Iterator[tuple[int, int]]:
    """Yield the filled parts of a sparse file, up to :data:`MOST_READ` bytes."""
    end = read = 0
    while end < size and read < MOST_READ:
        try:
            start = os.lseek(descriptor, end, os.SEEK_DATA)
            end = os.lseek(descriptor, start, os.SEEK_HOLE)
        except OSError as error:
            LOG.debug("the rest of a sparse file is skipped: %s", error.strerror)
            return
        yield start, min(end, start + MOST_READ)
        read += end - start


def _wtmp(root: Root, name: str, found: SignIns) -> tuple[int | None, float | None]:
    first: int | None = None
    started: float | None = None
    with os.fdopen(root.open(name, os.O_RDONLY | os.O_NONBLOCK), "rb") as stream:
        size = os.fstat(stream.fileno()).st_size
        records = size // UTMP_RECORD.size
        stream.seek(max(0, records - MOST_READ // UTMP_RECORD.size) * UTMP_RECORD.size)
        while len(content := stream.read(UTMP_RECORD.size)) == UTMP_RECORD.size:
            kind, _, _, _, user, *_, seconds, _, _, _ = UTMP_RECORD.unpack(content)
            if seconds <= 0 or kind not in (SYSTEM_STARTED, SIGNED_IN):
                continue
            first = seconds if first is None else min(first, seconds)
            if kind == SYSTEM_STARTED:
                started = max(started or 0, seconds)
            else:
                _noted(found.by_name, user.split(b"\0", 1)[0].decode(errors="backslashreplace"), seconds)
    return first, started


def _rows(root: Root, name: str, query: str) -> list[tuple[object, ...]]:
    """Return the rows of a database, read from a copy in memory: nothing is written or locked."""
    content = bytearray(root.content(name, MOST_READ))
    if len(content) < 100:
        return []
    content[18:20] = b"\1\1"  # a write-ahead log beside it is left alone
    try:
        with closing(sqlite3.connect(":memory:")) as database:
            database.deserialize(bytes(content))
            return list(database.execute(query))
    except (sqlite3.Error, OverflowError, ValueError) as error:
        LOG.info("%s: skipped: %s", name, error)
        return []


def _lastlog2(root: Root, name: str, found: SignIns) -> tuple[int | None, None]:
    first: int | None = None
    for who, when in _rows(root, name, "SELECT Name, Time FROM Lastlog2"):
        if isinstance(who, str) and isinstance(when, int) and when > 0:
            _noted(found.by_name, who, when)
            first = when if first is None else min(first, when)
    return first, None


def _wtmpdb(root: Root, name: str, found: SignIns) -> tuple[int | None, float | None]:
    first: int | None = None
    started: float | None = None
    for kind, who, when in _rows(root, name, "SELECT Type, User, Login FROM wtmp"):
        if not isinstance(when, int) or when <= 0:
            continue
        seconds = when // 1_000_000
        first = seconds if first is None else min(first, seconds)
        if kind == DATABASE_STARTED:
            started = max(started or 0, seconds)
        elif kind == DATABASE_SIGNED_IN and isinstance(who, str):
            _noted(found.by_name, who, seconds)
    return first, started
