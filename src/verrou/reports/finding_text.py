"""Findings in sentences: *state; required: value*. State and requirement are typed until here."""

from typing import Any, assert_never

from verrou.core.baselines.desired import AtLeast
from verrou.core.judging.audit import Finding, about
from verrou.core.model import PasswordState, Role, joined
from verrou.core.model.verdicts import Verdict
from verrou.core.rules import sentence
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.values import NOBODY
from verrou.reports.reading_text import reading_text


def finding_text(finding: Finding) -> str:
    """Return the state and, where it does not meet the baseline, the requirement."""
    requirement = finding.requirement
    if requirement is None and finding.verdict is Verdict.UNKNOWN:
        return f"not known whether {finding.title} matches the baseline"
    if requirement is None:
        return "; ".join(map(_gap_text, finding.gaps)) or f"{finding.title} matches the baseline"
    rule = requirement.rule
    not_met = finding.verdict in (Verdict.NOT_MET, Verdict.WAIVED)
    message = rule.format_statement_about(about(finding.gaps)) if not_met else ""
    if not message and finding.reading is not None:
        message = reading_text(rule, finding.reading)
    elif not message:
        message = rule.format(requirement.desired.target(rule, None))
    if not not_met:
        return message
    return f"{message}; {required_text(finding)}"


def required_text(finding: Finding) -> str:
    """Return the requirement, in words that follow a semicolon."""
    assert finding.requirement is not None
    rule, desired = finding.requirement.rule, finding.requirement.desired
    if rule.asks and isinstance(desired, AtLeast):
        return sentence(rule.asks, rule.kind, desired.value)
    text = desired.format(rule)
    return f"required: {'no one' if text == NOBODY else text}"


def _gap_text(gap: Gap) -> str:
    """Return the difference of an account or a group that the baseline lists."""
    who, now, required = gap.who, gap.actual, gap.required
    match gap.fact:
        case Fact.THERE:
            return (
                f"there is no group {who}"
                if required is True
                else f"there is no account {who}; required: {_ROLE[required]}"
            )
        case Fact.ROLE:
            return f"{who} is {_ROLE[now]}; required: {_ROLE[required]}"
        case Fact.ENABLED:
            return f"{who} is {_OPEN[now]}; required: {_OPEN[required]}"
        case Fact.FIXED:
            return f"the password of {who} is {_FIXED[now]}; required: {_FIXED[required]}"
        case Fact.PASSWORD:
            return f"{who} has {_PASSWORD[now]}; required: {_PASSWORD[required]}"
        case Fact.UNTIL:
            return f"{who} {f'expires on {now}' if now else 'has no expiry date'}; required: expiry by {required}"
        case Fact.ROUTES if not now:
            return f"{who} is enabled, but no route allows it to sign in"
        case Fact.ROUTES:
            return f"{who} can sign in by {_routes(now)}; required: only {_routes(required)}"
        case Fact.MEMBERS:
            if required:
                return f"{required} is not in group {who}; required: a member"
            return f"{now} is in group {who}; required: not a member"
        case Fact.STORAGE | Fact.AGES | Fact.NAME | Fact.IDENTITY | Fact.USED | Fact.GIVES_AWAY | Fact.ADMINISTERS:
            return f"{who}: {now}; required: {required}"  # of rules, which have sentences of their own
        case _:
            assert_never(gap.fact)


_ROLE = {
    Role.ADMINISTRATOR: "an administrator",
    Role.STANDARD: "a standard user",
    Role.GUEST: "a guest",
    Role.SERVICE: "a service account",
    Role.SYSTEM: "a system account",
}
_OPEN = {True: "enabled", False: "disabled"}
_FIXED = {True: "fixed", False: "not fixed"}
_PASSWORD = {
    PasswordState.BLANK: "a blank password",
    PasswordState.SET: "a password",
    PasswordState.NONE: "no usable password",
}


def _routes(routes: Any) -> str:
    return joined([str(route) for route in routes]) or "no route"
