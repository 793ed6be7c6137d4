"""A PostgreSQL server of Debian's package for the tests, in a folder of its own."""

import contextlib
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from attrs import frozen

PASSWORD = "plover-nest-17"


class NoServer(Exception):
    """There can be none here; the message says why."""


@frozen
class Server:
    """A server, reached by a socket in its folder without a password, and by a port with one."""

    folder: Path
    port: int

    def run(self, database: str, order: str) -> None:
        """Have the server do something."""
        command = ["psql", "-q", "-h", str(self.folder), "-p", str(self.port), "-U", "postgres", "-c", order, database]
        subprocess.run(command, check=True, capture_output=True)

    def fresh(self, name: str) -> str:
        """The address of a new database, by the socket."""
        self.run("postgres", f'drop database if exists "{name}" with (force)')
        self.run("postgres", f'create database "{name}" owner ana')
        return f"postgresql://ana@/{name}?host={self.folder}&port={self.port}"


def _programs() -> Path:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if not found:
        raise NoServer("install the package postgresql")
    return found[-1].parent


@contextlib.contextmanager
def server() -> Iterator[Server]:
    """A running server, gone afterwards. It does not run as root, so that the package's own account runs it."""
    programs = _programs()
    try:
        account = pwd.getpwnam("postgres") if os.geteuid() == 0 else pwd.getpwuid(os.geteuid())
    except KeyError:
        raise NoServer("there is no account postgres, which the package makes") from None
    folder = Path(tempfile.mkdtemp(prefix="verrou-pg-"))
    os.chown(folder, account.pw_uid, account.pw_gid)
    identity = {"user": account.pw_uid, "group": account.pw_gid, "extra_groups": []} if os.geteuid() == 0 else {}
    with socket.socket() as chosen:
        chosen.bind(("127.0.0.1", 0))
        port = chosen.getsockname()[1]

    def run(*command: object) -> None:
        ended = subprocess.run(
            [str(word) for word in command], cwd=folder, capture_output=True, text=True, check=False, **identity
        )
        if ended.returncode:
            raise NoServer(f"{command[0]}: {ended.stderr.strip()}")

    data = folder / "data"
    try:
        run(programs / "initdb", "-D", data, "-U", "postgres", "--auth-local=trust", "--auth-host=scram-sha-256", "-N")
        settings = f"-c unix_socket_directories={folder} -c port={port} -c listen_addresses=127.0.0.1 -c fsync=off"
        run(programs / "pg_ctl", "-D", data, "-l", folder / "log", "-o", settings, "-w", "start")
        try:
            made = Server(folder, port)
            made.run("postgres", f"create role ana login password '{PASSWORD}'")
            yield made
        finally:
            run(programs / "pg_ctl", "-D", data, "-m", "immediate", "stop")
    finally:
        shutil.rmtree(folder)
