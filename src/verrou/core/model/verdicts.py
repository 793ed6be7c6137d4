"""Verdicts, severities and results of tests; and how many findings have each, counted here for every report."""

from collections import Counter
from collections.abc import Iterable
from enum import StrEnum
from typing import Protocol, Self

from attrs import fields, frozen


class Severity(StrEnum):
    """Severity of a rule that is not met."""

    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"

    @property
    def weight(self) -> int:
        """Sort key: the most severe first."""
        return list(Severity).index(self)


class Result(StrEnum):
    """Result of a test. NOT_RUN always comes with the reason."""

    PASSED = "passed"
    FAILED = "failed"
    NOT_RUN = "not-run"


@frozen(repr=False)
class TrialResult:
    """One test: what should happen, and what happened."""

    rule: str
    test: str
    result: Result
    seen: str = ""


class Verdict(StrEnum):
    """Result of a finding. NOT_APPLICABLE: this machine has no such rule. UNKNOWN counts as not met."""

    MET = "met"
    NOT_MET = "not-met"
    WAIVED = "waived"
    NOT_APPLICABLE = "not-applicable"
    UNKNOWN = "unknown"


class Judged(Protocol):
    """What has a verdict."""

    @property
    def verdict(self) -> Verdict: ...

    @property
    def severity(self) -> Severity: ...


MARK_OF = {
    (verdict, severity): str(severity if verdict is Verdict.NOT_MET else verdict).replace("-", "_")
    for verdict in Verdict
    for severity in Severity
}
"""By which of :class:`Tally`'s counts a finding counts: its severity where it is not met, else its verdict."""


@frozen(repr=False, weakref_slot=False)
class Tally:
    """Number of findings: not met by severity, and the others by verdict. Waived and not applicable ones are not
    assessed."""

    high: int = 0
    medium: int = 0
    low: int = 0
    unknown: int = 0
    waived: int = 0
    not_applicable: int = 0
    met: int = 0

    @classmethod
    def of(cls, findings: Iterable[Judged]) -> Self:
        """Count findings."""
        return cls(**Counter([MARK_OF[finding.verdict, finding.severity] for finding in findings]))

    @property
    def by_severity(self) -> dict[Severity, int]:
        """Number of findings that are not met, of each severity."""
        return {Severity.HIGH: self.high, Severity.MEDIUM: self.medium, Severity.LOW: self.low}

    @property
    def not_met(self) -> int:
        """Number of findings that are not met."""
        return self.high + self.medium + self.low

    @property
    def assessed(self) -> int:
        """Number of assessed findings."""
        return self.met + self.not_met + self.unknown

    @property
    def all_met(self) -> bool:
        """Whether every assessed finding is met."""
        return self.met == self.assessed

    @property
    def not_met_text(self) -> str:
        """The findings that are not met, in words; empty where there are none."""
        return ", ".join(f"{count} {severity}" for severity, count in self.by_severity.items() if count)

    def __str__(self) -> str:
        uncounted = ((self.waived, "waived"), (self.not_applicable, "not applicable"))
        left_out = ", ".join(f"{n} {word}" for n, word in uncounted if n)
        parts = [
            f"{self.met} of {self.assessed} met",
            f"not met: {self.not_met_text}" if self.not_met else "",
            f"{self.unknown} not known, which count as not met" if self.unknown else "",
            f"not assessed: {left_out}" if left_out else "",
        ]
        return "; ".join(filter(None, parts))


MARKS = tuple(field.name for field in fields(Tally))
"""What findings are counted by."""
