"""Yes, no, and not known: how answers about a machine are put together where a part of what decides is not understood.

The rules are Kleene's: what is not known stays so unless what is known settles the matter by itself.
"""

from collections.abc import Iterable
from enum import StrEnum


class Known(StrEnum):
    """An answer about a machine."""

    YES = "yes"
    NO = "no"
    UNKNOWN = "unknown"

    @classmethod
    def of(cls, answer: bool | None) -> "Known":
        """The value of a plain answer; None stands for not known."""
        return cls.UNKNOWN if answer is None else cls.YES if answer else cls.NO

    def __and__(self, other: "Known") -> "Known":
        return all_of((self, other))

    def __invert__(self) -> "Known":
        return {Known.YES: Known.NO, Known.NO: Known.YES}.get(self, self)


def all_of(answers: Iterable[Known]) -> Known:
    """Yes where all are; no where one is."""
    found = set(answers)
    return Known.NO if Known.NO in found else Known.UNKNOWN if Known.UNKNOWN in found else Known.YES


def any_of(answers: Iterable[Known]) -> Known:
    """Yes where one is; no where all are."""
    found = set(answers)
    return Known.YES if Known.YES in found else Known.UNKNOWN if Known.UNKNOWN in found else Known.NO
