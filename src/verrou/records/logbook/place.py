"""Where a logbook is: a file, or a database on a PostgreSQL server."""

import re
from pathlib import Path
from urllib.parse import parse_qsl, urlsplit

from attrs import frozen

from verrou.core.errors import BadInput

FILE = "verrou-logbook.db"
WAITING = "verrou-logbook.waiting"
SCHEMES = ("postgresql", "postgres")
ACCEPTED = "a file, or postgresql://USER@HOST/DATABASE"
SECRET_KEYS = frozenset({"password", "sslpassword", "passwd", "pwd"})


@frozen(repr=False)
class Place:
    """Place of a logbook: the ``file`` of an embedded one, or the address of a database ``server``, never with a
    password.

    ``waiting`` is the folder of records that wait for delivery."""

    waiting: Path
    file: Path | None = None
    server: str = ""

    @property
    def shown(self) -> str:
        """The place for people."""
        return str(self.file) if self.file is not None else self.server


def place_of(address: str, folder: Path) -> Place:
    """Return the logbook at an address, or the embedded one of ``folder``.

    Records wait beside the file, and for a server in ``folder``. Raises: BadInput: it is no address of a logbook, or
    contains a password."""
    if not address:
        return Place(folder / WAITING, folder / FILE)
    scheme, colon, _ = address.partition("://")
    if not colon:
        file = Path(address)
        if file.exists() and not file.is_file():
            raise BadInput(
                f"logbook: {file} is {'a folder' if file.is_dir() else 'not an ordinary file'}; name {ACCEPTED}"
            )
        return Place(file.with_name(WAITING if file.name == FILE else f"{file.name}.waiting"), file)
    try:
        parts = urlsplit(address)
        held = parts.password is not None or SECRET_KEYS & {key.lower() for key, _ in parse_qsl(parts.query)}
        _ = parts.port
    except ValueError as error:
        raise BadInput(f"logbook: {scheme}://...: {error}; name {ACCEPTED}") from None
    if scheme not in SCHEMES:
        raise BadInput(f"logbook: invalid address {scheme}://; expected {ACCEPTED}")
    if held:
        raise BadInput(
            f"logbook: the address of {parts.hostname or 'the server'} contains a password, which others can read. "
            "Put it into ~/.pgpass or a service file (postgresql:///?service=NAME), and change it."
        )
    server = "postgresql" + address[len(scheme) :]
    named = re.sub(r"[^A-Za-z0-9.]+", "-", server.partition("://")[2].rpartition("@")[2]).strip("-.")
    return Place(folder / f"verrou-logbook-{named}.waiting", None, server)
