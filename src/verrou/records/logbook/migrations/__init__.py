"""Schemas of a logbook and the migrations between them, by Alembic."""

# Imports within functions: most logbooks need no migration.

from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import files
from pathlib import Path
from tempfile import TemporaryDirectory

import sqlalchemy as sql

from verrou.core import advice
from verrou.core.errors import BadInput

NEWEST = "0005"
"""The schema that this version of Verrou writes."""
KNOWN = ("0001", "0002", "0003", "0004", NEWEST)
BRING_FORWARD_LOCK = 0x76657272
"""The number of the lock under which one of several writers brings a logbook on a server forward."""


def bring_forward(connection: sql.Connection, place: str, most: int | None = None) -> None:
    """Create the tables of a new logbook, or migrate an older one with ``most`` records, in the open transaction.

    Raises: BadInput: it is the logbook of a newer version, or no logbook, or has more records."""
    if connection.dialect.name == "postgresql":
        connection.execute(sql.text("select pg_advisory_xact_lock(:lock)"), {"lock": BRING_FORWARD_LOCK})
    version = version_of(connection, place)
    if version == NEWEST:
        return
    if version and most is not None:
        records = connection.scalar(sql.text("select count(*) from records"))
        if records and records > most:
            raise BadInput(
                f"{place}: an earlier version wrote this logbook. To bring its {records} records forward, once: "
                f"{advice.command('logbook', 'list', '--logbook', place)}"
            )
    upgrade(connection, NEWEST)


def upgrade(connection: sql.Connection, to: str) -> None:
    """Migrate the tables to a schema. Raises: BadInput: Alembic cannot."""
    from alembic import command
    from alembic.config import Config
    from alembic.util import CommandError

    with _scripts() as folder:
        config = Config()
        config.set_main_option("script_location", str(folder).replace("%", "%%"))
        config.attributes["connection"] = connection
        try:
            command.upgrade(config, to)
        except CommandError as error:
            raise BadInput(f"the tables of the logbook could not be brought to schema {to}: {error}") from None


@contextmanager
def _scripts() -> Iterator[Path]:
    """Return the folder of the scripts, which Alembic reads from a file system; unpacked where Verrou is one file."""
    if (here := Path(__file__).with_name("scripts")).is_dir():
        yield here
        return
    with TemporaryDirectory() as folder:
        scripts = files(__package__).joinpath("scripts")
        Path(folder, "versions").mkdir()
        for script in (scripts / "env.py", *(scripts / "versions").iterdir()):
            place = Path(folder) if script.name == "env.py" else Path(folder, "versions")
            (place / script.name).write_bytes(script.read_bytes())
        yield Path(folder)


def version_of(connection: sql.Connection, place: str) -> str:
    """Return the schema of a logbook; empty where there are no tables yet."""
    present = set(sql.inspect(connection).get_table_names())
    if "alembic_version" not in present:
        if present & {"machines", "records"}:
            raise BadInput(f"{place}: tables are there that are no logbook's; name another database")
        return ""
    found = connection.execute(sql.text("select version_num from alembic_version")).scalars().all()
    if any(version not in KNOWN for version in found):
        raise BadInput(
            f"{place}: this logbook has schema {', '.join(map(str, found))}, known here: {', '.join(KNOWN)}; "
            "use the newer Verrou that wrote it"
        )
    return str(found[0]) if found else ""
