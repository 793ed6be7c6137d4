"""A command whose machine is across a cable is handed over whole, before any machine is opened."""

from collections.abc import Sequence
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from verrou.core.model import Snapshot

SCHEME = "ssh://"
_ROOM = "verrou.far"
"""The room above this one, imported when a command is handed over."""
_here: list[str] = []


class HandedOver(Exception):
    """Raised where a command line names a machine across a cable: the command is to run there."""

    def __init__(self, address: str) -> None:
        super().__init__(address)
        self.address = address


def call_this(address: str) -> None:
    """Let ``address`` mean this computer, as it does to a user at the other end of the cable."""
    _here.append(address)


def is_this(address: str) -> bool:
    """Return whether an address across a cable means this computer."""
    return address in _here


def is_across(address: str) -> bool:
    """Return whether an address is that of a machine across a cable."""
    return address.startswith(SCHEME) and not is_this(address)


def run_there(words: Sequence[str], address: str) -> int:
    """Run a command on the machine at ``address``, and return its exit code. Raises: VerrouError."""
    code: int = far("near").run_there(words, address)
    return code


def survey_of(address: str) -> "Snapshot":
    """Return the state of the machine at ``address``. Raises: VerrouError."""
    snapshot: Snapshot = far("near").survey_of(address)
    return snapshot


def far(module: str) -> Any:
    """Return a module of the room that reaches across cables."""
    return import_module(f"{_ROOM}.{module}")
