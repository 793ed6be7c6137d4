"""Surveys of machines across a cable, held against their schema."""

import json
from io import StringIO

from verrou.core.errors import MachineRefused, NotEnoughRights, VerrouError
from verrou.core.model import Snapshot
from verrou.core.surveys.data import snapshot_from
from verrou.far.address import address_from
from verrou.far.connection import Connection, Secret
from verrou.far.desk import Desk
from verrou.far.near import served
from verrou.far.order import Order, Task
from verrou.reports.terminal import printable


def survey_across(address: str, *, asks: bool) -> Snapshot:
    """Return the state of the machine at an address. Raises: VerrouError: it could not be surveyed, with the reason."""
    where = address_from(address)
    words = ("survey", "-m", address, "--format", "json")
    out, err = StringIO(), StringIO()
    with Connection(where, Secret(), asks=asks) as connection:
        code = served(connection, Desk(where.shown, words, out, err), Order(Task.COMMAND, address, words))
    return survey_from(where.shown, code, out.getvalue(), err.getvalue())


def survey_from(host: str, code: int, output: str, errors: str) -> Snapshot:
    """Return the state of a machine from what its survey printed there. Raises: VerrouError: it is no survey."""
    if code:
        reason = printable(" ".join(errors.split()).removeprefix("verrou: ")) or f"the survey there ended with {code}"
        raise (NotEnoughRights if code == NotEnoughRights.exit_code else MachineRefused)(f"{host}: {reason}")
    try:
        return snapshot_from(json.loads(output))
    except (ValueError, RecursionError, VerrouError) as error:
        raise MachineRefused(f"{host}: it sent no survey ({printable(str(error))})") from None
