"""The logbook itself, by SQLAlchemy Core: the same tables in an SQLite file and on a PostgreSQL server.

A record is written with all its parts in one transaction; its key goes in once, however often it is delivered."""

# Imports within functions: the dialect that is used.

import socket
from collections.abc import Iterable
from types import TracebackType
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from attrs import AttrsInstance, asdict, fields

from verrou.core.errors import BadInput
from verrou.core.history.records import Run, RunRecord
from verrou.core.model.access import as_known_role
from verrou.core.model.verdicts import Result, Severity, Verdict
from verrou.records.logbook.place import Place

try:
    import sqlalchemy as sql
    from sqlalchemy.exc import DataError, IntegrityError, SQLAlchemyError
except ImportError:
    raise BadInput("a logbook needs SQLAlchemy and Alembic; pip install 'verrou[logbook]' brings them") from None

from verrou.records.logbook import schema as tables
from verrou.records.logbook.migrations import bring_forward

ANSWER_WITHIN = 2
"""For how many seconds a server or another writer is waited for."""
REACH_WITHIN = 0.5
"""For how many seconds a server's computer is waited for before anything is asked of it."""


class Store:
    """An open logbook. ``make``: it is for writing, and a missing embedded one is created."""

    def __init__(self, place: Place, make: bool = True) -> None:
        self.place = place
        if place.file is not None and not make and not place.file.exists():
            raise BadInput(f"{place.file}: no logbook found. To create one, add --log to a command")
        if place.file is not None and (place.file.is_symlink() or (place.file.exists() and not place.file.is_file())):
            raise BadInput(f"{place.file}: this is not an ordinary file; name the logbook itself")
        try:
            self.engine = _embedded(place, make) if place.file is not None else _on_server(place)
            with self.engine.begin() as connection:
                bring_forward(connection, place.shown)
        except (SQLAlchemyError, OSError, ImportError, ValueError) as error:
            raise self._unreachable(error) from None

    def __enter__(self) -> "Store":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.engine.dispose()

    def _unreachable(self, error: Exception) -> BadInput:
        return BadInput(f"the logbook {self.place.shown} cannot be reached: {_first_line(error)}")

    def add(self, record: RunRecord) -> None:
        """Add a record; one that is there already stays as it is.

        Raises: BadInput: the logbook cannot be reached. ValueError: it does not accept this record."""
        try:
            with self.engine.begin() as connection:
                _add(connection, record)
        except (DataError, IntegrityError, OverflowError, UnicodeError) as error:
            raise ValueError(f"the logbook rejects it ({_first_line(error)})") from None
        except (SQLAlchemyError, OSError, ValueError) as error:
            raise self._unreachable(error) from None

    def records(self, machine: str = "") -> list[RunRecord]:
        """Return the records, the oldest first; with ``machine`` those of machines that ever had that name.

        Raises: BadInput: they could not be read."""
        try:
            with self.engine.connect() as connection:
                return _records(connection, machine)
        except (SQLAlchemyError, OSError, ValueError) as error:
            raise self._unreachable(error) from None


def _first_line(error: Exception) -> str:
    cause = getattr(error, "orig", None) or error
    if isinstance(cause, OSError) and cause.strerror:
        return cause.strerror.lower()
    lines = str(cause).strip().splitlines() or [type(cause).__name__]
    return lines[0].strip()


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


def _on_server(place: Place) -> sql.Engine:
    _knock(place.server)
    url = sql.make_url(place.server).set(drivername="postgresql+psycopg")
    limits = f"-c statement_timeout={ANSWER_WITHIN * 1000} -c lock_timeout={ANSWER_WITHIN * 1000}"
    return sql.create_engine(
        url,
        connect_args={"connect_timeout": ANSWER_WITHIN, "application_name": "verrou", "options": limits},
        poolclass=sql.NullPool,
    )


def _knock(server: str) -> None:
    """Check that the server responds at all: the client library would wait for seconds.

    A service file, or a socket in the file system, is left to the library."""
    parts = urlsplit(server)
    given = dict(parse_qsl(parts.query))
    host = given.get("host") or parts.hostname
    if host and not host.startswith("/") and "," not in host:
        socket.create_connection((host, int(given.get("port") or parts.port or 5432)), REACH_WITHIN).close()


def _insert(connection: sql.Connection, table: sql.Table) -> Any:
    if connection.dialect.name == "sqlite":
        from sqlalchemy.dialects import sqlite

        return sqlite.insert(table)
    from sqlalchemy.dialects import postgresql

    return postgresql.insert(table)


def _add(connection: sql.Connection, record: RunRecord) -> None:
    machine = {"identity": record.identity}
    connection.execute(_insert(connection, tables.machines).values(machine).on_conflict_do_nothing())
    number = connection.scalar(sql.select(tables.machines.c.id).where(tables.machines.c.identity == record.identity))
    row = {name: getattr(record, name) for name in tables.OF_A_RECORD} | {"machine_id": number}
    row["run"] = str(record.run)
    added = connection.execute(
        _insert(connection, tables.records).values(row).on_conflict_do_nothing().returning(tables.records.c.id)
    ).scalar()
    if added is None:
        return
    for name, (table, _) in tables.PARTS.items():
        items = [asdict(item, value_serializer=_stored) for item in getattr(record, name)]
        if items:
            connection.execute(
                table.insert(), [{"record_id": added, "place": n, **item} for n, item in enumerate(items)]
            )


def _stored(_: object, __: object, value: object) -> object:
    return str(value) if isinstance(value, str) else value


def _records(connection: sql.Connection, machine: str) -> list[RunRecord]:
    required = sql.select(tables.records, tables.machines.c.identity).join(tables.machines)
    if machine:
        named = sql.select(tables.records.c.machine_id).where(tables.records.c.machine == machine)
        required = required.where(tables.records.c.machine_id.in_(named))
    rows = connection.execute(required.order_by(tables.records.c.clock, tables.records.c.at, tables.records.c.id)).all()
    numbers = [row.id for row in rows] if machine else None
    parts = {name: _parts(connection, table, kind, numbers) for name, (table, kind) in tables.PARTS.items()}
    found: list[RunRecord] = []
    for row in rows:
        own: dict[str, Any] = {name: _value(name, getattr(row, name)) for name in (*tables.OF_A_RECORD, "identity")}
        own |= {name: tuple(by_record.get(row.id, ())) for name, by_record in parts.items()}
        found.append(RunRecord(**own))
    return found


def _value(field: str, stored: Any) -> Any:
    """Return what a column's value stands for."""
    match field:
        case "run":
            return Run(stored)
        case "severity":
            return Severity(stored)
        case "verdict":
            return Verdict(stored)
        case "result":
            return Result(stored)
        case "role":
            return as_known_role(stored)
    return stored


def _parts(
    connection: sql.Connection, table: sql.Table, kind: type[AttrsInstance], numbers: Iterable[int] | None
) -> dict[int, list[Any]]:
    """Return the parts of one kind by record, of all records or of those numbered."""
    found: dict[int, list[Any]] = {}
    required = sql.select(table).order_by(table.c.record_id, table.c.place)
    if numbers is not None:
        required = required.where(table.c.record_id.in_(list(numbers)))
    names = [field.name for field in fields(kind)]
    for row in connection.execute(required):
        part = kind(**{name: _value(name, getattr(row, name)) for name in names})
        found.setdefault(row.record_id, []).append(part)
    return found
