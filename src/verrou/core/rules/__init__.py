"""The catalogue of rules, with lookups."""

# Imports within functions: steps are made only for a plan: for a quick start of what only looks.

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache
from typing import TYPE_CHECKING, NamedTuple

from verrou.core.model import Reading, Snapshot, Status, absent, joined, unreadable
from verrou.core.rules import builtin, elevation, lockout, logon, password, population, rights, screen, sharing
from verrou.core.rules.declaration import WHEN, Agreement, Rule, sentence
from verrou.core.rules.elevation import PRESET, Preset
from verrou.core.values import Value

if TYPE_CHECKING:
    from verrou.core.steps.step import RuleSetting

__all__ = [
    "CATALOGUE",
    "PRESET",
    "PRESETS",
    "WHEN",
    "Agreement",
    "Disagreement",
    "Rule",
    "agreements",
    "disagreements",
    "reading_of",
    "sentence",
    "set_together",
    "set_together_with",
    "setting",
    "value_now",
]

FAMILIES = (builtin, population, password, lockout, logon, rights, elevation, screen, sharing)
CATALOGUE: Mapping[str, Rule] = {rule.id: rule for family in FAMILIES for rule in family.RULES}
PRESETS: Mapping[str, Mapping[str, Preset]] = {"elevation": elevation.PRESETS}
"""By family: sets of values that bear a name."""


def reading_of(rule: Rule, snapshot: Snapshot) -> Reading:
    """Return the reading of a rule, derived from the accounts or as the machine gave it."""
    if rule.derived is not None:
        missing = snapshot.machine.unread
        if missing and (unread := [str(each) for each in rule.derived.needs if each in missing]):
            one = snapshot.machine.full_rights
            return unreadable(f"{joined(unread)} can be read by {one} alone", f"run as {one}")
        return rule.derived.read(snapshot)
    return snapshot.readings.get(rule.id) or absent(f"a {snapshot.machine.kind} machine has no such rule")


def setting(rule_id: str, value: Value) -> "RuleSetting":
    """Return what a step needs to know to set a rule."""
    from verrou.core.steps.step import RuleSetting

    rule = CATALOGUE[rule_id]
    return RuleSetting(rule.id, rule.kind, value)


class Disagreement(NamedTuple):
    """Two rules whose values contradict each other."""

    rule: Rule
    agreement: Agreement
    other: Rule
    mine: Value
    theirs: Value

    def __str__(self) -> str:
        rule, other = self.rule, self.other
        mine, theirs = rule.kind.format(self.mine), other.kind.format(self.theirs)
        return f"{rule.id} ({mine}) {self.agreement.words} {other.id} ({theirs})"


def disagreements(value_of: Callable[[Rule], Value | None]) -> Iterator[Disagreement]:
    """Yield the pairs of rules that contradict each other, by the values that ``value_of`` gives."""
    for rule, agreement, other in agreements():
        mine, theirs = value_of(rule), value_of(other)
        if mine is None or theirs is None:
            continue
        if not agreement.holds(rule, mine, other, theirs):
            yield Disagreement(rule, agreement, other, mine, theirs)


@cache
def agreements() -> tuple[tuple[Rule, Agreement, Rule], ...]:
    """Return every pair of rules that must agree, as (rule, agreement, other rule)."""
    return tuple(
        (rule, agreement, CATALOGUE[agreement.other]) for rule in CATALOGUE.values() for agreement in rule.agreements
    )


@cache
def set_together(rule_id: str) -> tuple[str, ...]:
    """Return the rules that are set in one step with ``rule_id``, itself included, in the catalogue's order."""
    ties = [{str(rule.id), str(other.id)} for rule, agreement, other in agreements() if agreement.pulls]
    ties += [{str(rule.id), *rule.set_with} for rule in CATALOGUE.values() if rule.set_with]
    tied = {rule_id}
    while grown := [tie for tie in ties if tie & tied and not tie <= tied]:
        tied = tied.union(*grown)
    return tuple(other for other in CATALOGUE if other in tied)


def set_together_with(rule_ids: Iterable[str]) -> set[str]:
    """Return the rules of :func:`set_together` for several."""
    return {tied for rule_id in rule_ids for tied in set_together(rule_id)}


def value_now(rule: Rule, reading: Reading) -> str:
    """Return the value of a reading in words for a table, or the reason why there is none."""
    if reading.status is not Status.READ:
        return reading.status.value
    text = "not set" if reading.value is None else rule.kind.format(reading.value)
    if not reading.enforced:
        text += " (not enforced)"
    if reading.pending is not None:
        text += f" ({rule.kind.format(reading.pending)} {WHEN[rule.takes_effect]})"
    return text
