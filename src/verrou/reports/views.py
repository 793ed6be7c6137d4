"""The facts of the rooms as sheets: what a survey, an audit, a worksheet, a run and a set of trials show."""

from collections.abc import Iterable, Sequence
from typing import Any

from verrou.core.access import expired, needs_a_look, role_of, states_of
from verrou.core.audit import Audit, Finding, Verdict, value_now
from verrou.core.model import Account, Posture, Reading, Role, Status
from verrou.core.plan import Worksheet
from verrou.core.rules import CATALOGUE, Rule, reading_of
from verrou.core.rules.population import name_list
from verrou.core.steps import SetRules, Step
from verrou.core.trials import Proof, TrialResult
from verrou.machines import Outcome, StepResult
from verrou.reports.sheets import Sheet, columns_of, shown

MOST_IN_TEXT = 200
BAD, DOUBTFUL, GOOD, QUIET = "bold red", "yellow", "green", "dim"
VERDICT_STYLE = {
    Verdict.SHORT: BAD,
    Verdict.UNREADABLE: BAD,
    Verdict.ABSENT: DOUBTFUL,
    Verdict.WAIVED: DOUBTFUL,
    Verdict.HOLDS: GOOD,
}


def accounts_sheet(posture: Posture, everyone: bool) -> tuple[Sheet, int]:
    """The accounts worth a look (or all), and how many were folded away."""
    chosen = [a for a in posture.accounts if everyone or needs_a_look(a, posture)]
    chosen.sort(key=lambda a: (list(Role).index(role_of(a, posture)), not a.enabled))
    rows, styles = [], {}
    for number, account in enumerate(chosen):
        states = states_of(account, posture)
        worry = _worry(account, posture)
        if worry:
            styles[number] = BAD
        rows.append(
            {
                "mark": "!" if worry else "",
                "account": account.name,
                "role": str(role_of(account, posture)),
                "state": states or ["in use" if account.may_sign_in else "cannot sign in"],
                "last_sign_in": f"{account.last_sign_in:%Y-%m-%d}" if account.last_sign_in else "never",
                "password_since": str(account.password_changed or ""),
                "groups": list(account.groups),
                "shipped": _shipped(account),
                "full_name": account.full_name,
                "identity": account.identity,
            }
        )
    columns = columns_of(
        ("mark", ""),
        ("account", "account"),
        ("role", "role"),
        ("state", "state"),
        ("last_sign_in", "last in"),
        ("password_since", "password of"),
        ("groups", "groups"),
        ("shipped", "origin"),
        ("full_name", "full name"),
        ("identity", "identity"),
        whole=("mark", "account", "role", "last_sign_in", "password_since"),
        hidden=("full_name", "identity"),
    )
    return Sheet("accounts", columns, tuple(rows), styles), len(posture.accounts) - len(chosen)


def _worry(account: Account, posture: Posture) -> bool:
    """What should stand out: a blank password, plumbing that can sign in, an end that has passed."""
    states = states_of(account, posture)
    role = role_of(account, posture)
    plumbing_gets_in = role in (Role.SERVICE, Role.SYSTEM) and account.enabled and account.may_sign_in
    second_root = account.identity == "0" and account.builtin is not None and account.name != "root"
    ended = expired(account, posture.machine.now.date()) and account.enabled
    return "blank password" in states or plumbing_gets_in or second_root or ended


def _shipped(account: Account) -> str:
    if account.builtin is None:
        return ""
    renamed = account.shipped_name is not None and account.shipped_name.casefold() != account.name.casefold()
    return f"built in, was {account.shipped_name}" if renamed else "built in"


def rules_sheet(posture: Posture, rules: Iterable[Rule]) -> Sheet:
    """Each rule with its value, what decided it, and when a change holds."""
    rows, styles = [], {}
    for number, rule in enumerate(rules):
        reading = reading_of(rule, posture)
        if reading.status is not Status.READ or not reading.in_force:
            styles[number] = DOUBTFUL
        rows.append(
            {
                "rule": rule.id,
                "value": value_now(rule, reading),
                "decided_by": decided_by(reading),
                "overruled": [str(source) for source in reading.overruled],
                "takes_effect": str(rule.takes_effect),
                "status": str(reading.status),
                "in_force": reading.in_force,
            }
        )
    columns = columns_of(
        ("rule", "rule"),
        ("value", "is"),
        ("takes_effect", "takes effect"),
        ("decided_by", "decided by"),
        ("overruled", "overruled"),
        ("status", "status"),
        ("in_force", "in force"),
        whole=("rule", "takes_effect"),
        hidden=("decided_by", "overruled", "status", "in_force"),
        under={"value": "decided_by"},
    )
    return Sheet("rules", columns, tuple(rows), styles)


def decided_by(reading: Reading) -> str:
    """Source and reason in one cell, each said once."""
    parts = [str(reading.source)] if reading.source else []
    if reading.reason and not any(reading.reason in part for part in parts):
        parts.append(reading.reason)
    parts += [f"overrules {source}" for source in reading.overruled[:2]]
    if reading.remedy:
        parts.append(reading.remedy)
    return "; ".join(parts)


def _finding_row(finding: Finding) -> dict[str, Any]:
    decided = Reading(source=finding.source, reason=finding.reason, overruled=finding.overruled, remedy=finding.remedy)
    waiver = finding.waiver
    waived = f"waived: {waiver.reason} ({waiver.by}, until {waiver.until})" if waiver else ""
    return {
        "verdict": str(finding.verdict),
        "severity": str(finding.severity),
        "subject": finding.subject,
        "found": finding.found,
        "wanted": finding.wanted,
        "gap": finding.found if finding.verdict is Verdict.HOLDS else f"{finding.found} → {finding.wanted}",
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


def worksheet_sheet(steps: Sequence[Step], posture: Posture) -> Sheet:
    """The steps in order; what sets rules also says what each is now."""
    rows = [
        {
            "step": number,
            "what": step.what,
            "does": _does(step, posture),
            "why": f"for {step.why}" if step.why.partition(".")[0] in _SUBJECT_TABLES else step.why,
            "takes_effect": str(step.effect),
        }
        for number, step in enumerate(steps, start=1)
    ]
    columns = columns_of(
        ("step", "step"),
        ("does", "does"),
        ("takes_effect", "takes effect"),
        whole=("takes_effect",),
        under={"does": "why"},
        listed=("does",),
    )
    return Sheet("steps", columns, tuple(rows))


_SUBJECT_TABLES = {rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"}


def _does(step: Step, posture: Posture) -> list[str] | str:
    if not isinstance(step, SetRules):
        return step.what
    lines = [
        f"{rule.id}: {value_now(rule, reading_of(rule, posture))} → {rule.kind.say(value)}"
        for rule, value in step.rules
    ]
    return ["set together", *lines] if len(lines) > 1 else f"set {lines[0]}"


def by_hand_sheet(worksheet: Worksheet) -> Sheet:
    """What is left for a person."""
    rows = [{"subject": item.subject, "advice": item.advice} for item in worksheet.by_hand]
    return Sheet(
        "by_hand", columns_of(("subject", "left by hand"), ("advice", "what to do"), whole=("subject",)), tuple(rows)
    )


def results_sheet(number: int, step: Step, result: StepResult) -> Sheet:
    """One line for a step that was done."""
    style = {Outcome.DONE: GOOD, Outcome.ALREADY: QUIET, Outcome.REFUSED: BAD, Outcome.UNDONE: GOOD}[result.outcome]
    when = f"takes effect: {step.effect}" if result.outcome is Outcome.DONE else ""
    row = {
        "outcome": f"{number:>3}  {result.outcome:<7}",
        "what": step.what,
        "said": "; ".join(filter(None, (result.said, when))),
    }
    columns = columns_of(("outcome", ""), ("what", ""), whole=("outcome",), under={"what": "said"})
    return Sheet("results", columns, (row,), {0: style})


def trials_sheet(results: Sequence[TrialResult]) -> Sheet:
    """What was tried and what happened."""
    proof_style = {Proof.PROVED: GOOD, Proof.DISPROVED: BAD, Proof.NOT_TRIED: DOUBTFUL}
    rows = [{"proof": str(r.proof), "rule": r.rule, "tried": r.tried, "seen": r.seen} for r in results]
    columns = columns_of(
        ("proof", "proof"), ("rule", "rule"), ("tried", "tried"), ("seen", "seen"), whole=("proof", "rule")
    )
    return Sheet("trials", columns, tuple(rows), {i: proof_style[r.proof] for i, r in enumerate(results)})


def summary_lines(posture: Posture) -> list[str]:
    """The machine in three lines: what it is, how many accounts of each role, what is broken."""
    facts = posture.machine
    roles = [role_of(account, posture) for account in posture.accounts]
    counts = ", ".join(f"{roles.count(role)} {role}" for role in Role if role in roles)
    gates = [group for group in posture.groups if group.grants and group.members]
    given = "; ".join(
        f"{group.name} gives {', '.join(group.grants)} to {name_list(list(group.members))}" for group in gates
    )
    return [
        f"{shown(facts.name)}: {shown(facts.system)}, {facts.now:%Y-%m-%d %H:%M}",
        f"{len(roles)} accounts: {counts}",
        *([shown(given)] if given else []),
    ]


def explanation(rule: Rule) -> list[tuple[str, str]]:
    """All that is declared of a rule, as (heading, text)."""
    parts = [
        ("What it sets", f"{rule.title}; {rule.kind.accepted}"),
        ("A plain value means", f"{rule.kind.direction() or 'that, or stricter'}".strip()),
        ("Protects", rule.protects),
        ("Costs", rule.costs),
        ("When it falls short", f"{rule.severity}: {rule.why_severe}"),
        ("Takes effect", str(rule.takes_effect)),
        *((f"Kept on {kind}", text) for kind, text in rule.kept.items()),
        *(("Must agree", f"{agreement.words} {agreement.other}") for agreement in rule.agreements),
        *(("Set together with", other) for other in rule.set_with),
        *(("NIST SP 800-53", ", ".join(rule.controls)) for _ in rule.controls[:1]),
    ]
    return [(heading, text) for heading, text in parts if text]


def rule_list_sheet() -> Sheet:
    """The catalogue."""
    rows = [
        {
            "rule": rule.id,
            "title": rule.title,
            "accepted": rule.kind.accepted,
            "severity": str(rule.severity),
            "takes_effect": str(rule.takes_effect),
        }
        for rule in CATALOGUE.values()
    ]
    columns = columns_of(
        ("rule", "rule"),
        ("title", "what it sets"),
        ("accepted", "accepted"),
        ("severity", "severity"),
        ("takes_effect", "takes effect"),
        whole=("rule", "severity"),
        hidden=("takes_effect",),
    )
    return Sheet("catalogue", columns, tuple(rows))
