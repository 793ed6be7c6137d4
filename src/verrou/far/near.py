"""The near end: hands a command over to a machine across a cable, and is its user's screen, keyboard and folder."""

import sys
import time
from collections.abc import Sequence
from functools import cache
from hashlib import sha256
from io import StringIO
from typing import TYPE_CHECKING

import click
from attrs import evolve

from verrou.cli.user import user
from verrou.core.advice import command
from verrou.core.errors import MachineRefused, VerrouError
from verrou.far.address import address_from
from verrou.far.connection import Connection, Secret
from verrou.far.desk import Desk, Lying
from verrou.far.frames import Cut, NotUnderstood
from verrou.far.one_file import one_file
from verrou.far.order import Order, Task, command_order
from verrou.far.visiting import WITHIN
from verrou.reports.terminal import printable

if TYPE_CHECKING:
    from verrou.core.model import Snapshot

LOOKED_FOR, PAUSE = 30.0, 1.0
"""Seconds for which a machine is looked for again after a cut, and between two tries."""
stick = cache(one_file)


@cache
def _digest() -> str:
    return sha256(stick()).hexdigest()


def run_there(words: Sequence[str], address: str) -> int:
    """Run a command on the machine at ``address`` with its user here, and return its exit code.

    Raises: VerrouError: it did not run there, or was cut. click.Abort: the user ended it."""
    where = address_from(address)
    secret, asks = Secret(), user().can_be_asked

    def connect(more: Sequence[str]) -> Connection:
        return Connection(where, secret, asks=asks, limit=WITHIN, more=tuple(more))

    desk = Desk(where.shown, tuple(words), sys.stdout, sys.stderr, connect)
    with click.Context(click.Command("verrou")), Connection(where, secret, asks=asks) as connection:
        return served(connection, desk, command_order(address, words))


def survey_of(address: str) -> "Snapshot":
    """Return the state of the machine at ``address``. Raises: VerrouError."""
    from verrou.far.surveys import survey_across

    return survey_across(address, asks=user().can_be_asked)


def served(connection: Connection, desk: Desk, order: Order) -> int:
    """Start a command there, serve it to its end, and return its exit code.

    Raises: VerrouError: it did not run, was cut, or the other end lied. click.Abort: the user ended it."""
    try:
        connection.start(stick, _digest)
        connection.send(evolve(order, account=connection.account, ends=connection.ends).data())
        with connection.beats():
            while (code := desk.serve(connection.receive(), connection.send)) is None:
                pass
        return code
    except Cut:
        raise _after_cut(connection, desk, order.address) from None
    except KeyboardInterrupt:
        if desk.applying is None:
            raise click.Abort from None
        raise _after_cut(connection, desk, order.address) from None
    except (NotUnderstood, Lying) as lie:
        raise MachineRefused(f"{desk.host}: the connection was ended, since it sent {lie}") from None


def _after_cut(connection: Connection, desk: Desk, address: str) -> VerrouError:
    """Return what became of a command whose connection was cut, from the machine itself where it can be reached."""
    connection.close()
    host = desk.host
    if desk.applying is None:
        return MachineRefused(f"{host}: the connection was lost; what had not begun to change is as it was")
    desk.err.write(f"verrou: {host}: the connection was lost while changes were applied; looking again ...\n")
    until = time.monotonic() + LOOKED_FOR
    while time.monotonic() < until:
        try:
            return MachineRefused(f"{host}: {_outcome(connection, address, desk.applying)}")
        except VerrouError:
            time.sleep(PAUSE)
    later = command("journal", "list", "-m", address)
    return MachineRefused(f"{host} cannot be reached again. The run there goes on by itself; to see it: {later}")


def _outcome(cut: Connection, address: str, entry: int) -> str:
    told = StringIO()
    desk = Desk(cut.address.shown, (), told, StringIO(), asks=False)
    with Connection(cut.address, cut.secret, asks=False, limit=LOOKED_FOR) as connection:
        served(connection, desk, Order(Task.OUTCOME, address, entry=entry))
    return printable(told.getvalue())
