"""What a finding says, in words: what is and what should be are typed until here."""

from collections.abc import Callable, Mapping
from typing import Any

from verrou.core.audit import Finding
from verrou.core.model import PasswordState, name_list
from verrou.core.plan.gaps import Fact, Gap
from verrou.core.rules import value_now

_YES_NO: Mapping[Fact, tuple[str, str]] = {
    Fact.ENABLED: ("enabled", "disabled"),
    Fact.FIXED: ("password fixed", "password not fixed"),
}


def _said(gap: Gap, value: Any, words: str) -> str:
    match gap.fact:
        case Fact.THERE:
            return "there" if value is True else str(value)
        case Fact.ENABLED | Fact.FIXED:
            return _YES_NO[gap.fact][0 if value else 1]
        case Fact.PASSWORD:
            return "blank password" if value is PasswordState.BLANK else "a password"
        case Fact.ENDS:
            return f"ends {value}" if value else "no end"
        case Fact.WAYS:
            return f"gets in by {', '.join(value)}" if value else "gets in by no way"
        case Fact.MEMBERS:
            return words.format(value) if value else ""
        case _:
            return "" if value is None else str(value)


def _of_declared(finding: Finding, which: Callable[[Gap], str]) -> str:
    return ", ".join(dict.fromkeys(filter(None, map(which, finding.gaps))))


def found_words(finding: Finding) -> str:
    """What is."""
    demand = finding.demand
    if demand is None:
        if any(gap.fact is Fact.THERE for gap in finding.gaps):
            return f"no such {finding.subject.partition('.')[0].removesuffix('s')}"
        return _of_declared(finding, lambda gap: _said(gap, gap.is_now, "with {}") or _missing(gap)) or "as listed"
    if demand.rule.derived is not None and demand.rule.derived.compares:
        return name_list([gap.who for gap in finding.gaps]) or "none"
    assert finding.reading is not None
    return value_now(demand.rule, finding.reading)


def _missing(gap: Gap) -> str:
    return f"without {gap.wanted}" if gap.fact is Fact.MEMBERS else ""


def wanted_words(finding: Finding) -> str:
    """What should be."""
    demand = finding.demand
    if demand is None:
        return _of_declared(finding, lambda gap: _said(gap, gap.wanted, "with {}") or _too_many(gap)) or "as listed"
    if demand.rule.derived is not None and demand.rule.derived.compares:
        return "none enabled" if demand.desired.target(demand.rule, None) != "leave" else "anything goes"
    return demand.desired.say(demand.rule)


def _too_many(gap: Gap) -> str:
    return f"without {gap.is_now}" if gap.fact is Fact.MEMBERS else ""
