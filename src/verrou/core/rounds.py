"""Rows of a round: the same few facts of each machine."""

from collections.abc import Callable
from datetime import date, datetime

from attrs import frozen

from verrou.core.audit import Audit, Finding, Verdict
from verrou.core.model import Snapshot
from verrou.core.rules import CATALOGUE, Severity

RULES = tuple(CATALOGUE)
"""Order of the rules in a row."""
NOT_ASKED = "."
SIGNS = {Verdict.MET: "+", Verdict.WAIVED: "w", Verdict.NOT_APPLICABLE: "-", Verdict.UNKNOWN: "?"}
SHORT_SIGNS = {Severity.HIGH: "H", Severity.MEDIUM: "M", Severity.LOW: "L"}
"""Sign of a rule that is not met, by its severity."""
COUNTED = (Verdict.MET, Verdict.WAIVED, Verdict.NOT_APPLICABLE, Verdict.UNKNOWN)
PLACES = {rule_id: number for number, rule_id in enumerate(RULES)}


@frozen(slots=True)
class Row:
    """One machine of a round.

    ``identity`` tells it from every other machine. ``signs`` has a sign for each of :data:`RULES`, ``listed`` the
    accounts and groups that do not meet theirs. ``worst`` is the most severe finding in words, ``oldest_waiver`` the
    day on which the first waiver expires, ``interrupted`` a run that did not end, ``recorded``
    when a record of the machine was written, in seconds since 1970; None for the machine itself."""

    machine: str
    identity: str
    address: str
    system: str
    at: datetime
    baseline: str
    met: int
    assessed: int
    high: int
    medium: int
    low: int
    unknown: int
    waived: int
    not_applicable: int
    oldest_waiver: date | None
    worst: str
    signs: str
    listed: tuple[str, ...]
    interrupted: str = ""
    recorded: float | None = None

    @property
    def not_met(self) -> int:
        """Number of findings that are not met."""
        return self.high + self.medium + self.low

    @property
    def weight(self) -> tuple[int, int, int, int]:
        """Sort key: the most severe first."""
        return -self.high, -self.medium, -self.low, -self.unknown

    @property
    def all_met(self) -> bool:
        """Whether every assessed finding is met."""
        return self.met == self.assessed


SIGN_OF = {
    (verdict, severity): SHORT_SIGNS[severity] if verdict is Verdict.NOT_MET else SIGNS[verdict]
    for verdict in Verdict
    for severity in Severity
}


def row_of(
    found: Audit, snapshot: Snapshot, address: str, statement: Callable[[Finding], str], recorded: float | None = None
) -> Row:
    """Return the row of an audit; ``statement`` gives a finding in words, for ``recorded`` see :class:`Row`."""
    signs = [NOT_ASKED] * len(RULES)
    counts = dict.fromkeys(SIGN_OF.values(), 0)
    listed = []
    until = None
    for finding in found.findings:
        sign = SIGN_OF[finding.verdict, finding.severity]
        counts[sign] += 1
        place = PLACES.get(finding.subject)
        if place is not None:
            signs[place] = sign
        elif finding.verdict is Verdict.NOT_MET:
            listed.append(finding.subject)
        if finding.waiver is not None:
            until = min(until or finding.waiver.until, finding.waiver.until)
    high, medium, low = (counts[SHORT_SIGNS[severity]] for severity in Severity)
    met, waived, not_applicable, unknown = (counts[SIGNS[verdict]] for verdict in COUNTED)
    machine = snapshot.machine
    first = found.findings[0] if found.findings else None
    return Row(
        machine.name,
        machine.known_by,
        address,
        machine.system,
        machine.now,
        found.baseline,
        met,
        met + high + medium + low + unknown,
        high,
        medium,
        low,
        unknown,
        waived,
        not_applicable,
        until,
        statement(first) if first is not None and first.verdict in (Verdict.NOT_MET, Verdict.UNKNOWN) else "",
        "".join(signs),
        tuple(listed),
        machine.interrupted,
        recorded,
    )
