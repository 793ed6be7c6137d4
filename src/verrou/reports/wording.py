"""What a finding says, in sentences: what is and what should be are typed until here."""

from typing import Any

from verrou.core.audit import Finding, Verdict, about
from verrou.core.desired import AtLeast
from verrou.core.model import PasswordState, Role, joined
from verrou.core.plan.gaps import Fact, Gap
from verrou.core.rules import sentence
from verrou.reports.reading_words import reading_says


def finding_says(finding: Finding) -> str:
    """What is and, where that falls short, what is asked for."""
    demand = finding.demand
    if demand is None and finding.verdict is Verdict.UNREADABLE:
        return f"could not be read: whether {finding.title} is as listed"
    if demand is None:
        return "; ".join(map(_gap_says, finding.gaps)) or f"{finding.title} is as listed"
    rule = demand.rule
    short = finding.verdict in (Verdict.SHORT, Verdict.WAIVED)
    said = rule.say_who(about(finding.gaps)) if short else ""
    if not said and finding.reading is not None:
        said = reading_says(rule, finding.reading)
    elif not said:
        said = rule.say(demand.desired.target(rule, None))
    if not short:
        return said
    return f"{said}; {wanted_says(finding)}"


def wanted_says(finding: Finding) -> str:
    """What is asked for, in words that follow a semicolon."""
    assert finding.demand is not None
    rule, desired = finding.demand.rule, finding.demand.desired
    if rule.asks and isinstance(desired, AtLeast):
        return sentence(rule.asks, rule.kind, desired.value)
    return f"asked for: {desired.say(rule)}"


def _gap_says(gap: Gap) -> str:
    """What differs about an account or a group that the baseline lists."""
    who, now, wanted = gap.who, gap.is_now, gap.wanted
    match gap.fact:
        case Fact.THERE:
            return (
                f"there is no group {who}"
                if wanted is True
                else f"there is no account {who}, and there should be {_ROLE[wanted]}"
            )
        case Fact.ROLE:
            return f"{who} is {_ROLE[now]} and should be {_ROLE[wanted]}"
        case Fact.ENABLED:
            return f"{who} is {_OPEN[now]} and should be {_OPEN[wanted]}"
        case Fact.FIXED:
            return f"the password of {who} is {_FIXED[now]} and should be {_FIXED[wanted]}"
        case Fact.PASSWORD:
            return f"{who} has {_PASSWORD[now]} and should have {_PASSWORD[wanted]}"
        case Fact.ENDS:
            return f"{who} {f'ends on {now}' if now else 'has no end'} and should end by {wanted}"
        case Fact.WAYS if not now:
            return f"{who} is enabled, and gets in by no way"
        case Fact.WAYS:
            return f"{who} gets in by {_ways(now)} and should get in by {_ways(wanted)} alone"
        case Fact.MEMBERS:
            return f"{wanted} is missing from group {who}" if wanted else f"{now} is in group {who} and should not be"
        case _:
            return f"{who}: {now} and should be {wanted}"


_ROLE = {
    Role.ADMINISTRATOR: "an administrator",
    Role.STANDARD: "a standard user",
    Role.GUEST: "a guest",
    Role.SERVICE: "an account of a service",
    Role.SYSTEM: "an account of the system",
}
_OPEN = {True: "enabled", False: "disabled"}
_FIXED = {True: "fixed", False: "its own to change"}
_PASSWORD = {PasswordState.BLANK: "a blank password", PasswordState.SET: "a password", PasswordState.NONE: "none"}


def _ways(ways: Any) -> str:
    return joined([str(way) for way in ways]) or "no way"
