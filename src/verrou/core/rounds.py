"""What a round keeps of each machine: little, and as much of every one."""

from collections.abc import Callable
from datetime import date, datetime

from attrs import frozen

from verrou.core.audit import Audit, Finding, Verdict
from verrou.core.model import Posture
from verrou.core.rules import CATALOGUE, Severity

RULES = tuple(CATALOGUE)
"""The order in which a row tells of the rules."""
NOT_ASKED = "."
SIGNS = {Verdict.HOLDS: "+", Verdict.WAIVED: "w", Verdict.ABSENT: "-", Verdict.UNREADABLE: "?"}
SHORT_SIGNS = {Severity.GRAVE: "G", Severity.SERIOUS: "S", Severity.SLIGHT: "s"}
"""A rule that falls short is told by how grave that is."""
COUNTED = (Verdict.HOLDS, Verdict.WAIVED, Verdict.ABSENT, Verdict.UNREADABLE)
PLACES = {rule_id: number for number, rule_id in enumerate(RULES)}


@frozen(slots=True)
class Row:
    """One machine of a round. ``identity`` is what tells the machine from every other. ``signs`` has a sign for each
    of :data:`RULES`, ``listed`` the accounts and groups that fall short. ``worst`` tells the gravest finding in words;
    ``oldest_waiver`` is the day on which the first waiver ends, ``broken_off`` a run that did not end."""

    machine: str
    identity: str
    address: str
    system: str
    at: datetime
    baseline: str
    holds: int
    counted: int
    grave: int
    serious: int
    slight: int
    unreadable: int
    waived: int
    absent: int
    oldest_waiver: date | None
    worst: str
    signs: str
    listed: tuple[str, ...]
    broken_off: str = ""

    @property
    def short(self) -> int:
        """How many findings fall short."""
        return self.grave + self.serious + self.slight

    @property
    def weight(self) -> tuple[int, int, int, int]:
        """For sorting: what is worst comes first."""
        return -self.grave, -self.serious, -self.slight, -self.unreadable

    @property
    def all_well(self) -> bool:
        """Nothing falls short, and nothing was unreadable."""
        return self.holds == self.counted


SIGN_OF = {
    (verdict, severity): SHORT_SIGNS[severity] if verdict is Verdict.SHORT else SIGNS[verdict]
    for verdict in Verdict
    for severity in Severity
}


def row_of(found: Audit, posture: Posture, address: str, says: Callable[[Finding], str]) -> Row:
    """What is kept of an audit; ``says`` tells a finding in words."""
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
        elif finding.verdict is Verdict.SHORT:
            listed.append(finding.subject)
        if finding.waiver is not None:
            until = min(until or finding.waiver.until, finding.waiver.until)
    grave, serious, slight = (counts[SHORT_SIGNS[severity]] for severity in Severity)
    holds, waived, absent, unreadable = (counts[SIGNS[verdict]] for verdict in COUNTED)
    machine = posture.machine
    first = found.findings[0] if found.findings else None
    return Row(
        machine.name,
        machine.known_by,
        address,
        machine.system,
        machine.now,
        found.baseline,
        holds,
        holds + grave + serious + slight + unreadable,
        grave,
        serious,
        slight,
        unreadable,
        waived,
        absent,
        until,
        says(first) if first is not None and first.verdict in (Verdict.SHORT, Verdict.UNREADABLE) else "",
        "".join(signs),
        tuple(listed),
        machine.broken_off,
    )
