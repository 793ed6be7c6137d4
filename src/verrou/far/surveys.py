"""Surveys of machines across a cable."""

import json
from io import StringIO

from verrou.core.errors import MachineRefused, VerrouError
from verrou.core.model import Snapshot
from verrou.core.surveys.data import snapshot_from
from verrou.far.address import Address
from verrou.far.connection import Connection, Secret
from verrou.far.desk import Desk, Lying
from verrou.far.frames import Cut, NotUnderstood
from verrou.far.near import served
from verrou.far.order import Order, Task

MOST = 500_000_000


def survey_across(where: Address, address: str, secret: Secret, *, asks: bool, limit: float | None = None) -> Snapshot:
    """Return the state of the machine at an address, held against the schema of surveys.

    Raises: VerrouError: it could not be surveyed, with the reason."""
    words = ("survey", "-m", address, "--format", "json")
    out, err = StringIO(), StringIO()
    desk = Desk(where.shown, words, out, err)
    try:
        with Connection(where, secret, asks=asks, limit=limit) as connection:
            code = served(connection, desk, Order(Task.COMMAND, address, words))
    except Cut:
        raise MachineRefused(f"{where.shown}: the connection was lost") from None
    except (NotUnderstood, Lying) as lie:
        raise MachineRefused(f"{where.shown}: the connection was ended, since it sent {lie}") from None
    if code:
        reason = err.getvalue().strip().removeprefix("verrou: ") or f"the survey there ended with {code}"
        raise MachineRefused(f"{where.shown}: {reason}")
    try:
        return snapshot_from(json.loads(out.getvalue()))
    except (ValueError, RecursionError, VerrouError) as error:
        raise MachineRefused(f"{where.shown}: it sent no survey ({error})") from None
