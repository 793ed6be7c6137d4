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
PLACES = {rule_id: number for number, rule_id in enumerate(RULES)}


@frozen(slots=True)
class Row:
    """One machine of a round. ``identity`` is what tells the machine from every other. ``signs`` has a sign for each
    of :data:`RULES`, ``listed`` the accounts and groups that fall short. ``worst`` tells the gravest finding in words;
    ``oldest_waiver`` is the day on which the first waiver ends."""

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


def sign_of(finding: Finding) -> str:
    """The sign of a finding."""
    return SHORT_SIGNS[finding.severity] if finding.verdict is Verdict.SHORT else SIGNS[finding.verdict]


def row_of(found: Audit, posture: Posture, address: str, says: Callable[[Finding], str]) -> Row:
    """What is kept of an audit; ``says`` tells a finding in words."""
    signs = [NOT_ASKED] * len(RULES)
    short = dict.fromkeys(Severity, 0)
    listed = []
    until = None
    for finding in found.findings:
        place = PLACES.get(finding.subject)
        if place is not None:
            signs[place] = sign_of(finding)
        elif finding.verdict is Verdict.SHORT:
            listed.append(finding.subject)
        if finding.verdict is Verdict.SHORT:
            short[finding.severity] += 1
        if finding.waiver is not None:
            until = min(until or finding.waiver.until, finding.waiver.until)
    score, machine = found.score, posture.machine
    first = found.findings[0] if found.findings else None
    return Row(
        machine.name,
        machine.known_by,
        address,
        machine.system,
        machine.now,
        found.baseline,
        score.holds,
        score.counted,
        short[Severity.GRAVE],
        short[Severity.SERIOUS],
        short[Severity.SLIGHT],
        score.unreadable,
        score.waived,
        score.absent,
        until,
        says(first) if first is not None and first.verdict in (Verdict.SHORT, Verdict.UNREADABLE) else "",
        "".join(signs),
        tuple(listed),
    )
