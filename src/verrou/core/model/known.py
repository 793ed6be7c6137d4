"""Three-valued answers (yes, no, not known) and how they combine, by Kleene's rules.

An answer stays not known unless what is known decides it alone."""

from collections.abc import Iterable
from enum import StrEnum


class Known(StrEnum):
    """A three-valued answer about a machine."""

    YES = "yes"
    NO = "no"
    UNKNOWN = "unknown"

    @classmethod
    def of(cls, answer: bool | None) -> "Known":
        """Return the value of a plain answer; None stands for not known."""
        return cls.UNKNOWN if answer is None else cls.YES if answer else cls.NO

    def __and__(self, other: "Known") -> "Known":
        return all_of((self, other))

    def __invert__(self) -> "Known":
        return {Known.YES: Known.NO, Known.NO: Known.YES}.get(self, self)


def all_of(answers: Iterable[Known]) -> Known:
    """Return yes where all are yes, and no where one is no."""
    found = set(answers)
    return Known.NO if Known.NO in found else Known.UNKNOWN if Known.UNKNOWN in found else Known.YES


def any_of(answers: Iterable[Known]) -> Known:
    """Return yes where one is yes, and no where all are no."""
    found = set(answers)
    return Known.YES if Known.YES in found else Known.UNKNOWN if Known.UNKNOWN in found else Known.NO
