"""Findings of an audit and results of trials as sheets."""

from collections.abc import Sequence
from typing import Any

from attrs import evolve

from verrou.core.audit import Audit, Finding, Verdict
from verrou.core.model import Reading
from verrou.core.trials import Proof, TrialResult
from verrou.reports.sheets import BAD, DOUBTFUL, GOOD, Sheet, columns_of
from verrou.reports.surveys import decided_by
from verrou.reports.wording import found_words, wanted_words

VERDICT_STYLE = {
    Verdict.SHORT: BAD,
    Verdict.UNREADABLE: BAD,
    Verdict.ABSENT: DOUBTFUL,
    Verdict.WAIVED: DOUBTFUL,
    Verdict.HOLDS: GOOD,
}


def _finding_row(finding: Finding) -> dict[str, Any]:
    read = finding.reading or Reading()
    decided = evolve(read, source=finding.source, reason=finding.reason)
    waiver = finding.waiver
    waived = f"waived: {waiver.reason} ({waiver.by}, until {waiver.until})" if waiver else ""
    found, wanted = found_words(finding), wanted_words(finding)
    return {
        "verdict": str(finding.verdict),
        "severity": str(finding.severity),
        "subject": finding.subject,
        "found": found,
        "wanted": wanted,
        "gap": found if finding.verdict is Verdict.HOLDS else f"{found} → {wanted}",
        "notes": "; ".join(filter(None, (decided_by(decided), waived))),
        "decided_by": decided_by(decided),
        "waiver": waived,
        "because": finding.because,
        "title": finding.title,
    }


def audit_sheet(audit: Audit, every: bool = True) -> Sheet:
    """The findings; without ``every`` only those that do not hold."""
    findings = [f for f in audit.findings if every or f.verdict is not Verdict.HOLDS]
    columns = columns_of(
        ("verdict", "verdict"),
        ("severity", "severity"),
        ("subject", "rule"),
        ("gap", "is → should be"),
        ("found", "is"),
        ("wanted", "should be"),
        ("decided_by", "decided by"),
        ("waiver", "waived"),
        ("because", "because"),
        ("title", "title"),
        whole=("verdict", "severity", "subject"),
        hidden=("found", "wanted", "decided_by", "waiver", "because", "title"),
        only_text=("gap",),
        under={"gap": "notes"},
    )
    styles = {i: VERDICT_STYLE[f.verdict] for i, f in enumerate(findings)}
    return Sheet("findings", columns, tuple(map(_finding_row, findings)), styles)


def audit_data(audit: Audit) -> dict[str, Any]:
    """The audit for ``--format json``."""
    score = audit.score
    return {
        "machine": audit.machine,
        "baseline": audit.baseline,
        "score": {v: getattr(score, v) for v in ("holds", "short", "waived", "absent", "unreadable", "counted")},
        "findings": [{k: v for k, v in _finding_row(f).items() if k not in ("gap", "notes")} for f in audit.findings],
    }


def trials_sheet(results: Sequence[TrialResult]) -> Sheet:
    """What was tried and what happened."""
    proof_style = {Proof.PROVED: GOOD, Proof.DISPROVED: BAD, Proof.NOT_TRIED: DOUBTFUL}
    rows = [{"proof": str(r.proof), "rule": r.rule, "tried": r.tried, "seen": r.seen} for r in results]
    columns = columns_of(
        ("proof", "proof"), ("rule", "rule"), ("tried", "tried"), ("seen", "seen"), whole=("proof", "rule")
    )
    return Sheet("trials", columns, tuple(rows), {i: proof_style[r.proof] for i, r in enumerate(results)})
