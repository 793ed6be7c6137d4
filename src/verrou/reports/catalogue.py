"""The catalogue and its explanations."""

from collections.abc import Sequence
from typing import TypedDict

from verrou.core.model import Effect
from verrou.core.rules import CATALOGUE, Rule, Severity
from verrou.machines import where_kept
from verrou.reports.sheets import Sheet, columns_of


class RuleData(TypedDict):
    """A rule of the catalogue."""

    rule: str
    title: str
    accepted: str
    severity: Severity
    takes_effect: Effect


class ExplanationData(TypedDict):
    """One thing that is declared of a rule."""

    about: str
    text: str


def explanation(rule: Rule) -> list[tuple[str, str]]:
    """All that is declared of a rule, as (heading, text)."""
    parts = [
        ("What it sets", f"{rule.title}; {rule.kind.accepted}"),
        ("A plain value means", rule.kind.plain_meaning),
        ("Protects", rule.protects),
        ("Costs", rule.costs),
        ("When it falls short", f"{rule.severity}: {rule.why_severe}"),
        ("Takes effect", str(rule.takes_effect)),
        *((f"Kept on {kind}", text) for kind, text in where_kept(rule.id).items()),
        *(("Must agree", f"{agreement.words} {agreement.other}") for agreement in rule.agreements),
        *(("Set together with", other) for other in rule.set_with),
        *(("NIST SP 800-53", ", ".join(rule.controls)) for _ in rule.controls[:1]),
    ]
    return [(heading, text) for heading, text in parts if text]


def rule_list() -> list[RuleData]:
    """The catalogue as plain data."""
    return [
        {
            "rule": rule.id,
            "title": rule.title,
            "accepted": rule.kind.accepted,
            "severity": rule.severity,
            "takes_effect": rule.takes_effect,
        }
        for rule in CATALOGUE.values()
    ]


def rule_list_sheet(rules: Sequence[RuleData]) -> Sheet:
    """The catalogue."""
    columns = columns_of(
        ("rule", "rule"),
        ("title", "what it sets"),
        ("accepted", "accepted"),
        ("severity", "severity"),
        ("takes_effect", "takes effect"),
        whole=("rule", "severity"),
        hidden=("takes_effect",),
    )
    return Sheet("catalogue", columns, tuple(dict(row) for row in rules))
