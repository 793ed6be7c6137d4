"""The logbook itself, by SQLAlchemy Core: the same tables in an SQLite file and on a PostgreSQL server."""

import socket
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from types import TracebackType
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from verrou.core.errors import BadInput
from verrou.core.history.records import RunRecord
from verrou.records.logbook.place import Place

try:
    import sqlalchemy as sql
    from sqlalchemy.exc import DatabaseError, SQLAlchemyError
except ImportError:
    raise BadInput("a logbook needs SQLAlchemy and Alembic; pip install 'verrou[logbook]' brings them") from None

from verrou.records.logbook import adding
from verrou.records.logbook.migrations import NEWEST, bring_forward, version_of

ANSWER_WITHIN = 2
"""For how many seconds a server or another writer is waited for."""
ALIVE = {"keepalives_idle": 10, "keepalives_interval": 5, "keepalives_count": 3}
"""After how many silent seconds a server is asked whether it is still there, how often and how many times (libpq)."""
MOST_ON_THE_WAY = 300
"""How many records of an older logbook are brought forward by a command that only adds one."""
REACH_WITHIN = 0.5
"""For how many seconds a server's computer is waited for before anything is asked of it."""


class Store:
    """An open logbook. ``make``: it is for writing, and a missing embedded one is created; ``hurried``: a person waits
    for something else."""

    def __init__(self, place: Place, make: bool = True, hurried: bool = False) -> None:
        self.place, self.writes = place, make
        if place.file is not None and not make and not place.file.exists():
            raise BadInput(f"{place.file}: no logbook found. To create one, add --log to a command")
        if place.file is not None and (place.file.is_symlink() or (place.file.exists() and not place.file.is_file())):
            raise BadInput(f"{place.file}: this is not an ordinary file; name the logbook itself")
        try:
            self.engine = _engine(place, make, hurried)
            with self.engine.begin() as connection:
                older = version_of(connection, place.shown) != NEWEST
            if older:
                self._bring_forward(make, hurried)
        except (SQLAlchemyError, OSError, ImportError, ValueError) as error:
            raise self._unreachable(error) from None

    def _bring_forward(self, make: bool, hurried: bool) -> None:
        try:
            engine = self.engine if make else _engine(self.place, True, hurried)
            with engine.begin() as connection:
                bring_forward(connection, self.place.shown, MOST_ON_THE_WAY if hurried else None)
        except DatabaseError as error:
            raise BadInput(
                f"{self.place.shown}: an earlier version wrote this logbook, and it cannot be brought forward here: "
                f"{_first_line(error)}. Use a logbook that you can write to."
            ) from None

    def __enter__(self) -> "Store":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.engine.dispose()

    def _unreachable(self, error: Exception) -> BadInput:
        return BadInput(f"the logbook {self.place.shown} cannot be reached: {_first_line(error)}")

    def add(self, records: Iterable[RunRecord]) -> int:
        """Add records, all or none; one that is there already stays as it is. Return how many are new.

        Raises: BadInput: the logbook cannot be reached. NotStored: it does not accept one of them."""
        with self.connected() as connection:
            return adding.add(connection, records)

    @contextmanager
    def connected(self) -> Iterator[sql.Connection]:
        """Yield a connection in a transaction.

        Raises: BadInput: the logbook cannot be reached, or what is read from it is not what one has."""
        try:
            with self.engine.begin() as connection:
                yield connection
        except adding.NotStored:
            raise
        except (SQLAlchemyError, OSError) as error:
            raise self._unreachable(error) from None
        except ValueError as error:
            if self.writes:  # it is what is to be written that is wrong
                raise
            raise BadInput(f"{self.place.shown}: this logbook is damaged: {_first_line(error)}") from None


def _first_line(error: Exception) -> str:
    cause = getattr(error, "orig", None) or error
    if isinstance(cause, OSError) and cause.strerror:
        return cause.strerror.lower()
    lines = str(cause).strip().splitlines() or [type(cause).__name__]
    return lines[0].strip()


def _engine(place: Place, writes: bool, hurried: bool) -> sql.Engine:
    return _embedded(place, writes) if place.file is not None else _on_server(place, writes, hurried)


def _embedded(place: Place, writes: bool) -> sql.Engine:
    url = sql.URL.create("sqlite", database=str(place.file))
    engine = sql.create_engine(url, connect_args={"timeout": ANSWER_WITHIN}, poolclass=sql.NullPool)

    # The driver would begin a transaction late, and none at all for a change of the tables: we begin it, and at once as
    # one that writes, so that of two writers one waits instead of failing.
    @sql.event.listens_for(engine, "connect")
    def _(connection: Any, __: object) -> None:
        connection.isolation_level = None
        connection.execute("PRAGMA foreign_keys = ON")

    @sql.event.listens_for(engine, "begin")
    def _(connection: sql.Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")

    return engine


def _on_server(place: Place, writes: bool, hurried: bool) -> sql.Engine:
    """Return the engine of a server: what writes waits for no one for long, and what is hurried for nothing; a question
    has the time that the user's own settings leave it."""
    _knock(place.server)
    url = sql.make_url(place.server).set(drivername="postgresql+psycopg")
    given: dict[str, Any] = {"connect_timeout": ANSWER_WITHIN, "application_name": "verrou", **ALIVE}
    limited = [*(["statement_timeout"] if hurried else []), *(["lock_timeout"] if writes else [])]
    if limited:
        given["options"] = " ".join(f"-c {name}={ANSWER_WITHIN * 1000}" for name in limited)
    level = "READ COMMITTED" if writes else "REPEATABLE READ"  # what answers one question is read at one instant
    return sql.create_engine(url, connect_args=given, poolclass=sql.NullPool, isolation_level=level)


def _knock(server: str) -> None:
    """Check that the server responds at all: the client library would wait for seconds.

    A service file, or a socket in the file system, is left to the library."""
    parts = urlsplit(server)
    given = dict(parse_qsl(parts.query))
    host = given.get("host") or parts.hostname
    if host and not host.startswith("/") and "," not in host:
        socket.create_connection((host, int(given.get("port") or parts.port or 5432)), REACH_WITHIN).close()
