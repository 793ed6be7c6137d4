"""The guard against rules, lists and marks that cannot hold together."""

from collections.abc import Iterator, Mapping

from verrou.core.judging.review import Candidate, Refusal, StepEffect
from verrou.core.model import (
    AccountName,
    Flag,
    Reading,
)
from verrou.core.rules import CATALOGUE, Disagreement, disagreements, reading_of, set_together_with
from verrou.core.steps.step import (
    SetRules,
    account_of,
)
from verrou.core.values import Value


def contradiction(candidate: Candidate) -> Iterator[Refusal]:
    asked: dict[str, Value] = {}
    for effect in candidate.effects:  # also where the machine would refuse the step: it is why
        if isinstance(effect.step, SetRules):
            asked |= effect.step.values
            yield from _rules_that_contradict(effect.number, effect.step, candidate)
            yield from _lists_that_contradict(effect.number, effect.step, asked)
        elif (name := account_of(effect.step)) is not None:
            yield from _flags_that_exclude(effect, name)


def _rules_that_contradict(number: int, step: SetRules, candidate: Candidate) -> Iterator[Refusal]:
    """Find rules that contradict each other after the plan, as requested or as they result, but did not before."""
    about = set_together_with(step.values)
    was = {rule_id: reading_of(CATALOGUE[rule_id], candidate.before).value for rule_id in about}
    comes = {rule_id: _coming(reading_of(CATALOGUE[rule_id], candidate.after)) for rule_id in about}
    values: dict[str, Value | None] = {**comes, **step.values}
    for each in disagreements(lambda rule: values.get(rule.id)):
        pair = {each.rule.id, each.other.id}
        new = any(values[rule_id] != was[rule_id] for rule_id in pair)
        if new and each.agreement.pulls and pair & step.values.keys():
            yield _disagree(number, each)


def _lists_that_contradict(number: int, step: SetRules, asked: Mapping[str, Value]) -> Iterator[Refusal]:
    """Find contradicting lists among those that the plan itself requests.

    A list that was there before may name an account that another list now names: a denial wins. Setting both at once is
    a mistake."""
    for each in disagreements(lambda rule: asked.get(rule.id)):
        if not each.agreement.pulls and {each.rule.id, each.other.id} & step.values.keys():
            yield _disagree(number, each)


def _disagree(number: int, found: Disagreement) -> Refusal:
    return Refusal("conflict", number, str(found), f"set {found.other.id} in the same run")


def _coming(reading: Reading) -> Value | None:
    return reading.value if reading.pending is None else reading.pending


FLAG_WORDS = {
    Flag.CHANGE_DUE: "must change the password at the next sign-in",
    Flag.CANNOT_CHANGE: "has a fixed password",
    Flag.AGEING_EXEMPT: "is exempt from password ageing",
}


def _flags_that_exclude(effect: StepEffect, name: str) -> Iterator[Refusal]:
    excluding = effect.after.machine.excluding
    if not excluding or effect.before.accounts is effect.after.accounts:
        return
    was, now = (side.by_name.get(AccountName(name)) for side in (effect.before, effect.after))
    for one, other in excluding if now is not None else ():
        both = getattr(now, one) and getattr(now, other)
        if both and not (was is not None and getattr(was, one) and getattr(was, other)):
            yield Refusal(
                "conflict",
                effect.number,
                f"{name} {FLAG_WORDS[one]} and {FLAG_WORDS[other]}; this machine cannot combine the two",
                "remove one of the two",
            )
