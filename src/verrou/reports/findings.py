"""Findings of an audit and results of trials, as sheets and as plain data."""

from collections.abc import Sequence
from datetime import date, timedelta
from typing import Any, TypedDict

from attrs import evolve

from verrou.core.audit import Audit, Finding, Verdict
from verrou.core.desired import DesiredData
from verrou.core.model import ACCOUNTS, Reading, Source, name_list
from verrou.core.plan.gaps import Fact, Gap
from verrou.core.rules import Severity, value_now
from verrou.core.survey import plain
from verrou.core.trials import Proof, TrialResult
from verrou.core.values import ValueData, iso_duration
from verrou.reports.sheets import BAD, DOUBTFUL, GOOD, Sheet, columns_of
from verrou.reports.surveys import decided_by
from verrou.reports.wording import finding_says

VERDICT_STYLE = {
    Verdict.SHORT: BAD,
    Verdict.UNREADABLE: BAD,
    Verdict.ABSENT: DOUBTFUL,
    Verdict.WAIVED: DOUBTFUL,
    Verdict.HOLDS: GOOD,
}


class ScoreData(TypedDict):
    """How many findings of each verdict, and how many the score is out of."""

    holds: int
    short: int
    waived: int
    absent: int
    unreadable: int
    counted: int


class GapData(TypedDict):
    """One fact about an account or a group that is not as wanted."""

    who: str
    fact: Fact
    found: bool | int | str | list[str] | None
    wanted: bool | int | str | list[str] | None


class WaiverData(TypedDict):
    """Why a finding may fall short, by whom, until when."""

    reason: str
    by: str
    until: date


class FindingData(TypedDict):
    """One line of an audit. ``found`` and ``wanted`` are those of a rule; accounts and groups have ``gaps``."""

    verdict: Verdict
    severity: Severity
    subject: str
    title: str
    says: str
    found: ValueData | None
    wanted: DesiredData | None
    in_force: bool
    gaps: list[GapData]
    source: Source | None
    overruled: list[Source]
    reason: str
    remedy: str
    because: str
    waiver: WaiverData | None


class AuditData(TypedDict):
    """A machine held against a baseline."""

    machine: str
    baseline: str
    score: ScoreData
    findings: list[FindingData]


class TrialData(TypedDict):
    """What was tried, and what happened."""

    proof: Proof
    rule: str
    tried: str
    seen: str


class VerificationData(AuditData):
    """An audit, and what was tried."""

    trials: list[TrialData]


def _chosen(audit: Audit, every: bool) -> list[Finding]:
    return [finding for finding in audit.findings if every or finding.verdict is not Verdict.HOLDS]


def _row(finding: Finding) -> dict[str, Any]:
    read = finding.reading or Reading()
    decided = evolve(read, source=finding.source, reason=finding.reason)
    waiver, demand = finding.waiver, finding.demand
    waived = f"waived: {waiver.reason} ({waiver.by}, until {waiver.until})" if waiver else ""
    who = name_list([gap.who for gap in finding.gaps])
    short = finding.verdict is Verdict.SHORT
    return {
        "weight": str(finding.severity if short else finding.verdict),
        "verdict": str(finding.verdict),
        "severity": str(finding.severity),
        "subject": finding.subject,
        "says": finding_says(finding),
        "found": value_now(demand.rule, read) if demand and finding.reading else who,
        "wanted": demand.desired.say(demand.rule) if demand else "",
        # Who falls short is in the sentence already.
        "notes": "; ".join(filter(None, ("" if _is_about_accounts(finding) else decided_by(decided), waived))),
        "decided_by": decided_by(decided),
        "waiver": waived,
        "because": finding.because,
        "title": finding.title,
    }


def _is_about_accounts(finding: Finding) -> bool:
    return finding.source is not None and finding.source.place == ACCOUNTS and not finding.reason


def audit_sheet(audit: Audit, every: bool = True) -> Sheet:
    """The findings; without ``every`` only those that do not hold."""
    findings = _chosen(audit, every)
    columns = columns_of(
        ("weight", ""),
        ("verdict", "verdict"),
        ("severity", "severity"),
        ("says", "state and requirement"),
        ("subject", "rule"),
        ("found", "is"),
        ("wanted", "should be"),
        ("decided_by", "decided by"),
        ("waiver", "waived"),
        ("because", "because"),
        ("title", "title"),
        whole=("weight", "subject"),
        hidden=("verdict", "severity", "found", "wanted", "decided_by", "waiver", "because", "title"),
        only_text=("weight",),
        under={"says": "notes"},
    )
    styles = {i: VERDICT_STYLE[f.verdict] for i, f in enumerate(findings)}
    return Sheet("findings", columns, tuple(map(_row, findings)), styles)


def audit_data(audit: Audit, every: bool = True) -> AuditData:
    """The audit for ``--format json``; without ``every`` only the findings that do not hold."""
    score = audit.score
    return {
        "machine": audit.machine,
        "baseline": audit.baseline,
        "score": ScoreData(
            holds=score.holds,
            short=score.short,
            waived=score.waived,
            absent=score.absent,
            unreadable=score.unreadable,
            counted=score.counted,
        ),
        "findings": [_finding_data(finding) for finding in _chosen(audit, every)],
    }


def _finding_data(finding: Finding) -> FindingData:
    reading, demand, waiver = finding.reading or Reading(), finding.demand, finding.waiver
    value = None if demand is None or reading.value is None else demand.rule.kind.dump(reading.value)
    return {
        "verdict": finding.verdict,
        "severity": finding.severity,
        "subject": finding.subject,
        "title": finding.title,
        "says": finding_says(finding),
        "found": value,
        "wanted": demand.desired.dump(demand.rule) if demand else None,
        "in_force": reading.in_force,
        "gaps": [_gap_data(gap) for gap in finding.gaps],
        "source": plain(finding.source) if finding.source else None,
        "overruled": [plain(source) for source in reading.overruled],
        "reason": finding.reason,
        "remedy": reading.remedy,
        "because": finding.because,
        "waiver": plain(waiver, "reason", "by", "until") if waiver else None,
    }


def _gap_data(gap: Gap) -> GapData:
    return {"who": gap.who, "fact": gap.fact, "found": _plain_fact(gap.is_now), "wanted": _plain_fact(gap.wanted)}


def _plain_fact(value: object) -> bool | int | str | list[str] | None:
    if value is None or isinstance(value, bool | int):
        return value
    if isinstance(value, timedelta):
        return iso_duration(value)
    if isinstance(value, tuple | list | set | frozenset):
        return sorted(map(str, value))
    return value.isoformat() if isinstance(value, date) else str(value)


def trials_sheet(results: Sequence[TrialResult]) -> Sheet:
    """What was tried and what happened."""
    proof_style = {Proof.PROVED: GOOD, Proof.DISPROVED: BAD, Proof.NOT_TRIED: DOUBTFUL}
    rows = [dict(row) for row in trials_data(results)]
    columns = columns_of(
        ("proof", "proof"), ("rule", "rule"), ("tried", "tried"), ("seen", "seen"), whole=("proof", "rule")
    )
    return Sheet("trials", columns, tuple(rows), {i: proof_style[r.proof] for i, r in enumerate(results)})


def trials_data(results: Sequence[TrialResult]) -> list[TrialData]:
    """The trials for ``--format json``."""
    return [{"proof": r.proof, "rule": r.rule, "tried": r.tried, "seen": r.seen} for r in results]
