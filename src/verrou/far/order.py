"""What the far end is told first: what to run, and how this end looks."""

import os
import shutil
import sys
from collections.abc import Sequence
from enum import StrEnum
from typing import Any

from attrs import asdict, frozen

from verrou.cli.user import user

ENVIRONMENT = ("COLUMNS", "NO_COLOR", "TERM")
"""What of the user's environment decides how output looks."""
PIPE = (100, 24)


class Task(StrEnum):
    """A whole command, or what became of an entry of the journal."""

    COMMAND = "command"
    OUTCOME = "outcome"


@frozen(repr=False)
class Order:
    """What to run there, and the terminal and environment of its user.

    ``address`` means that computer itself; ``account`` is the one that signed in there, by a connection between these
    ``ends`` (``SSH_CONNECTION`` of ssh(1)); ``entry`` is the journal's whose outcome is asked for; ``columns`` is the
    width of the terminal, where one of the streams is one; ``logbook``: one is configured here."""

    task: Task
    address: str
    words: tuple[str, ...] = ()
    entry: int = 0
    account: str = ""
    ends: str = ""
    asks: bool = False
    output: bool = False
    errors: bool = False
    columns: int = PIPE[0]
    environment: tuple[tuple[str, str], ...] = ()
    logbook: bool = False

    def data(self) -> dict[str, Any]:
        """Return the order as plain data."""
        return asdict(self)


def order_from(data: dict[str, Any]) -> Order:
    """Return the order that :meth:`Order.data` was made from."""
    pairs = tuple((str(name), str(text)) for name, text in data["environment"])
    return Order(**{**data, "task": Task(data["task"]), "words": tuple(data["words"]), "environment": pairs})


def command_order(address: str, words: Sequence[str]) -> Order:
    """Return the order for a command whose user sits here."""
    return Order(
        Task.COMMAND,
        address,
        tuple(words),
        asks=sys.stdin.isatty(),
        output=sys.stdout.isatty(),
        errors=sys.stderr.isatty(),
        columns=shutil.get_terminal_size(PIPE).columns,
        environment=tuple((name, os.environ[name]) for name in ENVIRONMENT if name in os.environ),
        logbook=user().has_logbook,
    )
