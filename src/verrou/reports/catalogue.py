"""The catalogue and its explanations."""

from collections.abc import Sequence
from typing import TypedDict

from verrou.core.model import Effect
from verrou.core.model.verdicts import Severity
from verrou.core.rules import CATALOGUE, PRESETS, Rule
from verrou.core.rules.elevation import Written
from verrou.core.testing.tested import TESTED
from verrou.machines.rule_places import where_set, why_untested
from verrou.reports.tables import Table, columns_of


class RuleData(TypedDict):
    """A rule of the catalogue."""

    rule: str
    title: str
    accepted: str
    severity: Severity
    takes_effect: Effect


class ExplanationData(TypedDict):
    """One declared property of a rule."""

    about: str
    text: str


def explanation(rule: Rule) -> list[tuple[str, str]]:
    """Return all that is declared of a rule, as (heading, text)."""
    parts = [
        ("What it sets", f"{rule.title}; {rule.kind.accepted}"),
        ("A plain value means", rule.kind.plain_meaning),
        ("Protects", rule.protects),
        ("Costs", rule.costs),
        ("When it is not met", f"{rule.severity}: {rule.why_severe}"),
        ("Takes effect", str(rule.takes_effect)),
        *((f"Where set on {kind}", text) for kind, text in where_set(rule.id).items()),
        ("How it is tested", TESTED.get(rule.id, "")),
        *((f"Not tested on {kind}", text) for kind, text in why_untested(rule.id).items()),
        *(("Must agree", f"{agreement.words} {agreement.other}") for agreement in rule.agreements),
        *(("Set together with", other) for other in rule.set_with),
        *(("NIST SP 800-53", ", ".join(rule.controls)) for _ in rule.controls[:1]),
    ]
    return [(heading, text) for heading, text in parts if text]


def rules_tested() -> str:
    """Return how each rule is tested, as a table of Markdown."""
    lines = ["| rule | test | without a test |", "|---|---|---|"]
    for rule_id, sentence in TESTED.items():
        places = where_set(rule_id)
        reasons = [f"{kind}: {why}" for kind, why in why_untested(rule_id).items()]
        reasons += [f"{kind}: no such rule" for kind, where in places.items() if where.startswith("not available")]
        lines.append(f"| `{rule_id}` | {sentence} | {'; '.join(reasons)} |")
    return "\n".join(lines) + "\n"


def rule_list() -> list[RuleData]:
    """Return the catalogue as plain data."""
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


def rule_list_table(rules: Sequence[RuleData]) -> Table:
    """Return the catalogue."""
    columns = columns_of(
        ("rule", "rule"),
        ("title", "what it sets"),
        ("accepted", "accepted"),
        ("severity", "severity"),
        ("takes_effect", "takes effect"),
        whole=("rule", "severity"),
        hidden=("takes_effect",),
    )
    return Table("catalogue", columns, tuple(dict(row) for row in rules))


FAMILY_WORDS = {
    "builtin": "built-in accounts",
    "population": "accounts and their state",
    "password": "content, ageing and storage of passwords",
    "lockout": "the lock after failed attempts",
    "logon": "who can sign in by which route",
    "rights": "what signed-in users can do to the machine",
    "elevation": "the prompt before elevation",
    "screen": "the sign-in screen, the lock screen and automatic sign-in",
    "sharing": "limits for users of a shared computer",
}
"""What each family is about."""


def family_table(rules: Sequence[RuleData]) -> Table:
    """Return the rules of one family, one row each."""
    columns = columns_of(("rule", ""), ("severity", ""), ("title", ""), whole=("rule", "severity"))
    return Table("family", columns, tuple(dict(row) for row in rules))


class PresetData(TypedDict):
    """A preset: its values, as a baseline file writes them, and its cost."""

    preset: str
    gives_up: str
    values: dict[str, Written]


def presets_data() -> list[PresetData]:
    """Return the presets of all families."""
    return [
        {"preset": name, "gives_up": preset.gives_up, "values": dict(preset.values)}
        for presets in PRESETS.values()
        for name, preset in presets.items()
    ]


def presets_table(presets: Sequence[PresetData]) -> Table:
    """Return the presets with what they set."""
    rows = []
    for each in presets:
        message = {rule_id: CATALOGUE[rule_id].kind for rule_id in each["values"]}
        values = [f"{r.partition('.')[2]}={message[r].format(message[r].parse(v))}" for r, v in each["values"].items()]
        rows.append({"preset": each["preset"], "gives_up": each["gives_up"], "sets": values})
    columns = columns_of(
        ("preset", "preset"),
        ("gives_up", "cost, and values"),
        ("sets", "sets"),
        whole=("preset",),
        hidden=("sets",),
        under={"gives_up": "sets"},
    )
    return Table("presets", columns, tuple(rows))
