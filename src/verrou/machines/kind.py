"""Kinds of machine: how one is recognised at an address, and opened."""

import errno
import os
import stat
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import ClassVar, NamedTuple, Protocol

from verrou.machines.protocol import Machine


class RulePlace(Protocol):
    """Adapter of a rule, as far as it is the same for every kind of machine."""

    @property
    def where(self) -> str:
        """Where the rule is set, for people."""
        ...


class RulePlaces(NamedTuple):
    """Where a kind of machine sets rules, by rule: adapters, reasons of absent rules, sources of derived ones; and why
    no test shows some of them."""

    adapters: Mapping[str, RulePlace]
    absent: Mapping[str, str]
    derived: Mapping[str, str]
    untested: Mapping[str, str] = {}


NOT_THERE = (errno.ENOENT, errno.ENOTDIR, errno.ELOOP)
"""Errors of stat(2) that say that there is nothing, or a link in a circle."""


def is_file(place: str) -> bool:
    """Return whether there is an ordinary file. Raises: OSError: that cannot be seen."""
    try:
        return stat.S_ISREG(os.stat(place).st_mode)
    except ValueError:  # a NUL is in no name
        return False
    except OSError as error:
        if error.errno in NOT_THERE:
            return False
        raise


class Kind:
    """A kind of machine. This one lives in files with a suffix; others override what differs."""

    name: ClassVar[str]
    addresses: ClassVar[str]
    """What an address of this kind looks like, for people."""
    suffix: ClassVar[str] = ""
    takes_long: ClassVar[bool] = True
    """Whether observing one may take a second."""

    def is_at(self, address: str) -> bool:
        """Return whether a machine of this kind is at an address. Raises: OSError, ValueError: that cannot be seen."""
        return address.endswith(self.suffix) and is_file(address)

    def why_not(self, address: str) -> str:
        """Return what is missing where there is almost such a machine; empty otherwise."""
        return ""

    def may_be(self, entry: "os.DirEntry[str]") -> bool:
        """Return whether an item of a folder may be a machine of this kind."""
        return entry.name.endswith(self.suffix)

    def open(self, address: str) -> Machine:
        """Open the machine at an address of this kind."""
        raise NotImplementedError

    def opener(self) -> Callable[[str], Machine]:
        """Return a function that opens machines one after another, and may share what they have in common."""
        return self.open

    def rule_places(self) -> RulePlaces | None:
        """Return where rules are set; None where there is nothing to set."""
        return None

    def file_for(self, file: Path) -> Path:
        """Return the file that a name stands for: ``desk-01``, ``desk-01.json`` and the name with the suffix are
        one."""
        name = file.name
        for ending in (self.suffix, self.suffix.removesuffix(".json"), ".json"):
            if name.endswith(ending) and name != ending:
                name = name.removesuffix(ending)
                break
        return file.with_name(name + self.suffix)
