"""Tables and data of an audit's findings and of test results."""

from collections.abc import Sequence
from datetime import date, timedelta
from typing import Any, TypedDict

from attrs import evolve

from verrou.core.baselines.desired import DesiredData
from verrou.core.judging.audit import Audit, Finding
from verrou.core.model import ACCOUNTS, Reading, Source, name_list
from verrou.core.model.verdicts import Result, Severity, TrialResult, Verdict
from verrou.core.rules import value_now
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.surveys.data import plain
from verrou.core.values import ValueData, iso_duration
from verrou.reports.finding_text import finding_text
from verrou.reports.surveys import decided_by
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, Table, columns_of

VERDICT_STYLE = {
    Verdict.NOT_MET: BAD,
    Verdict.UNKNOWN: BAD,
    Verdict.NOT_APPLICABLE: DOUBTFUL,
    Verdict.WAIVED: DOUBTFUL,
    Verdict.MET: GOOD,
}


class GapData(TypedDict):
    """One fact about an account or a group that differs from the requirement."""

    who: str
    fact: Fact
    found: bool | int | str | list[str] | None
    required: bool | int | str | list[str] | None


class WaiverData(TypedDict):
    """Why a finding is waived, by whom, until when."""

    reason: str
    by: str
    until: date


class FindingData(TypedDict):
    """One line of an audit. A rule has ``found`` and ``required``; accounts and groups have ``gaps``."""

    verdict: Verdict
    severity: Severity
    subject: str
    title: str
    statement: str
    found: ValueData | None
    required: DesiredData | None
    enforced: bool
    gaps: list[GapData]
    source: Source | None
    overrides: list[Source]
    reason: str
    remedy: str
    requirement_reason: str
    waiver: WaiverData | None


def _chosen(audit: Audit, every: bool) -> list[Finding]:
    return [finding for finding in audit.findings if every or finding.verdict is not Verdict.MET]


def _row(finding: Finding) -> dict[str, Any]:
    read = finding.reading or Reading()
    decided = evolve(read, source=finding.source, reason=finding.reason)
    waiver, requirement = finding.waiver, finding.requirement
    waived = f"waived: {waiver.reason} ({waiver.by}, until {waiver.until})" if waiver else ""
    who = name_list([gap.who for gap in finding.gaps])
    not_met = finding.verdict is Verdict.NOT_MET
    return {
        "weight": str(finding.severity if not_met else finding.verdict),
        "verdict": str(finding.verdict),
        "severity": str(finding.severity),
        "subject": finding.subject,
        "statement": finding_text(finding),
        "found": value_now(requirement.rule, read) if requirement and finding.reading else who,
        "required": requirement.desired.format(requirement.rule) if requirement else "",
        # The sentence already names who does not meet it.
        "notes": "; ".join(filter(None, ("" if _is_about_accounts(finding) else decided_by(decided), waived))),
        "set_by": decided_by(decided),
        "waiver": waived,
        "requirement_reason": finding.requirement_reason,
        "title": finding.title,
    }


def _is_about_accounts(finding: Finding) -> bool:
    return finding.source is not None and finding.source.place == ACCOUNTS and not finding.reason


def audit_table(audit: Audit, every: bool = True) -> Table:
    """Return the findings as a table; without ``every`` only those not met."""
    findings = _chosen(audit, every)
    columns = columns_of(
        ("weight", ""),
        ("verdict", "verdict"),
        ("severity", "severity"),
        ("statement", "state and requirement"),
        ("subject", "rule"),
        ("found", "found"),
        ("required", "required"),
        ("set_by", "set by"),
        ("waiver", "waived"),
        ("requirement_reason", "reason"),
        ("title", "title"),
        whole=("weight", "subject"),
        hidden=("verdict", "severity", "found", "required", "set_by", "waiver", "requirement_reason", "title"),
        only_text=("weight",),
        under={"statement": "notes"},
    )
    styles = {i: VERDICT_STYLE[f.verdict] for i, f in enumerate(findings)}
    return Table("findings", columns, tuple(map(_row, findings)), styles)


def audit_data(audit: Audit, every: bool = True) -> dict[str, Any]:
    """Return the audit for ``--format json``; without ``every`` only the findings not met."""
    tally = audit.tally
    return {
        "machine": audit.machine,
        "baseline": audit.baseline,
        "score": {**plain(tally), "not_met": tally.not_met, "assessed": tally.assessed},
        "findings": [_finding_data(finding) for finding in _chosen(audit, every)],
    }


def _finding_data(finding: Finding) -> FindingData:
    reading, requirement, waiver = finding.reading or Reading(), finding.requirement, finding.waiver
    value = None if requirement is None or reading.value is None else requirement.rule.kind.dump(reading.value)
    return {
        "verdict": finding.verdict,
        "severity": finding.severity,
        "subject": finding.subject,
        "title": finding.title,
        "statement": finding_text(finding),
        "found": value,
        "required": requirement.desired.dump(requirement.rule) if requirement else None,
        "enforced": reading.enforced,
        "gaps": [_gap_data(gap) for gap in finding.gaps],
        "source": plain(finding.source) if finding.source else None,
        "overrides": [plain(source) for source in reading.overrides],
        "reason": finding.reason,
        "remedy": reading.remedy,
        "requirement_reason": finding.requirement_reason,
        "waiver": plain(waiver, "reason", "by", "until") if waiver else None,
    }


def _gap_data(gap: Gap) -> GapData:
    return {"who": gap.who, "fact": gap.fact, "found": _plain_fact(gap.actual), "required": _plain_fact(gap.required)}


def _plain_fact(value: object) -> bool | int | str | list[str] | None:
    if value is None or isinstance(value, bool | int):
        return value
    if isinstance(value, timedelta):
        return iso_duration(value)
    if isinstance(value, tuple | list | set | frozenset):
        return sorted(map(str, value))
    return value.isoformat() if isinstance(value, date) else str(value)


def trials_table(results: Sequence[TrialResult]) -> Table:
    """Return the tests and their results as a table."""
    proof_style = {Result.PASSED: GOOD, Result.FAILED: BAD, Result.NOT_RUN: DOUBTFUL}
    rows = trials_data(results)
    columns = columns_of(
        ("result", "result"), ("rule", "rule"), ("test", "test"), ("seen", "seen"), whole=("result", "rule")
    )
    return Table("tests", columns, tuple(rows), {i: proof_style[r.result] for i, r in enumerate(results)})


def trials_data(results: Sequence[TrialResult]) -> list[dict[str, Any]]:
    """Return the tests for ``--format json``."""
    return [plain(result) for result in results]
