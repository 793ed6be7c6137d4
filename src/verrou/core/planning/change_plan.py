"""From findings to a change plan: ordered steps that close them, and manual steps."""

from collections.abc import Mapping
from datetime import timedelta
from typing import assert_never

from attrs import evolve, frozen

from verrou.core import advice
from verrou.core.baselines.baseline import Baseline
from verrou.core.judging.audit import Audit, Finding, audit, is_satisfied_by
from verrou.core.judging.guards import with_trials
from verrou.core.model import Effect, Snapshot
from verrou.core.model.verdicts import Verdict
from verrou.core.prediction.predict import predict
from verrou.core.rules import CATALOGUE, WHEN, Rule, agreements, disagreements, reading_of, set_together, setting
from verrou.core.steps.step import (
    Adjustment,
    CreateAccount,
    CreateGroup,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetEnabled,
    SetGroupNote,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    account_of,
)
from verrou.core.values import Value

MOST_ROUNDS = 4
"""How often what the steps themselves bring up is closed behind them."""


@frozen(repr=False)
class ManualStep:
    """A finding that no step closes, with the action for a person.

    ``waits``: it is set already and takes effect later; ``advice`` says when."""

    subject: str
    advice: str
    waits: bool = False


@frozen(repr=False)
class ChangePlan:
    """Steps in the order in which they are done, and the manual steps."""

    machine: str
    steps: tuple[Step, ...]
    manual: tuple[ManualStep, ...]


def plan_changes(
    snapshot: Snapshot, baseline: Baseline, found: Audit, only: frozenset[str] = frozenset()
) -> ChangePlan:
    """Return the plan that closes the findings that are not met; ``only`` restricts it to families.

    The order never locks anyone out: accounts are created and allowed in first, then rules are set, and what removes
    something (leaving a group, disabling) comes last. What only those steps cause, such as the missing expiry of a
    new guest, is closed after them. Manual steps are found on the machine as it will be, since a step may have
    closed them."""
    baseline = baseline.on(snapshot)
    steps: list[Step] = []
    predicted = snapshot
    not_met = after = _to_close(found, only)
    asked_for = {_gap(finding) for finding in not_met}
    for _ in range(MOST_ROUNDS):
        if not not_met:
            break
        further = _closing(predicted, baseline, not_met)
        steps += further
        for step in further:
            predicted = predict(step, predicted)
        after = _to_close(audit(predicted, baseline), only)
        not_met = [finding for finding in after if _gap(finding) not in asked_for]
        asked_for |= {_gap(finding) for finding in not_met}
    manual = [item for finding in after for item in _manual(predicted, finding)]
    return ChangePlan(snapshot.machine.name, tuple(with_trials(snapshot, steps)), tuple(dict.fromkeys(manual)))


def _gap(finding: Finding) -> tuple[object, ...]:
    """Return the key of a gap; for a declared account or group with the fact, which differs once it exists."""
    facts = [(gap.fact, str(gap.actual)) for gap in finding.gaps] if finding.requirement is None else []
    return finding.subject, *facts


def _to_close(found: Audit, only: frozenset[str]) -> list[Finding]:
    open_ones = [f for f in found.findings if f.verdict in (Verdict.NOT_MET, Verdict.UNKNOWN, Verdict.NOT_APPLICABLE)]
    return [f for f in open_ones if not only or f.subject.partition(".")[0] in only]


def _manual(snapshot: Snapshot, finding: Finding) -> list[ManualStep]:
    """Return the manual steps for the findings that remain."""
    reading = finding.reading
    if finding.verdict is not Verdict.NOT_MET:
        message = reading.remedy or (reading.reason if finding.verdict is Verdict.UNKNOWN else "") if reading else ""
        return [ManualStep(finding.subject, message)] if message else []
    advice = [gap.manual for gap in finding.gaps if gap.manual]
    if finding.requirement is not None and finding.requirement.rule.derived is None:
        if _takes_effect_later(snapshot, finding):
            return [ManualStep(finding.subject, WHEN[finding.requirement.rule.counts_on(snapshot)], waits=True)]
        refused = _refused(snapshot, finding) or _preventing(snapshot, finding)
        advice = [*filter(None, (reading.remedy if reading else "", refused)), *advice]
    return [ManualStep(finding.subject, message) for message in advice]


def _preventing(snapshot: Snapshot, finding: Finding) -> str:
    """Return what prevents the requirement, and what a person can decide about it."""
    why = conflict_with_present(snapshot, finding.subject, {finding.subject: _target(snapshot, finding)})
    return f"{why}: relax one of the two ({advice.set_rule()}), or add a waiver" if why else ""


def _takes_effect_later(snapshot: Snapshot, finding: Finding) -> bool:
    """Return whether the requirement is set already and only takes effect later."""
    coming = finding.reading.pending if finding.reading else None
    return (
        coming is not None
        and finding.requirement is not None
        and is_satisfied_by(snapshot, finding.requirement, coming)
    )


def _refused(snapshot: Snapshot, finding: Finding) -> str:
    """Return why this machine does not accept the required value."""
    requirement = finding.requirement
    accepted_values = snapshot.accepted_values.get(finding.subject) if requirement else None
    if requirement is None or accepted_values is None:
        return ""
    return requirement.rule.kind.why_not_accepted(_target(snapshot, finding), accepted_values)


def _target(snapshot: Snapshot, finding: Finding) -> Value:
    """Return the value to set: one that only is not enforced is enforced as it is, never loosened."""
    assert finding.requirement is not None and finding.reading is not None
    rule, desired = finding.requirement.rule, finding.requirement.desired
    now = finding.reading.value
    return now if now is not None and is_satisfied_by(snapshot, finding.requirement, now) else desired.target(rule, now)


def _closing(snapshot: Snapshot, baseline: Baseline, not_met: list[Finding]) -> list[Step]:
    """Return steps that close findings, in their order."""
    steps: list[Step] = []
    required_values: dict[str, Value] = {}
    also_closes: dict[str, list[str]] = {}
    for finding in not_met:
        if finding.verdict is not Verdict.NOT_MET:
            continue
        for step in (step for gap in finding.gaps for step in gap.steps):
            if not isinstance(step, SetRules):
                steps.append(evolve(step, closes=(finding.subject,)))
                continue
            # Several accounts may ask for the same list: it is set once, with all of them.
            for rule_id, value in step.values.items():
                kind, before = CATALOGUE[rule_id].kind, required_values.get(rule_id)
                required_values[rule_id] = value if before is None else kind.target(before, value)
                also_closes.setdefault(rule_id, []).append(finding.subject)
        reading = finding.reading
        if finding.requirement is None or finding.requirement.rule.derived is not None or reading is None:
            continue
        if not (reading.remedy or _takes_effect_later(snapshot, finding) or _refused(snapshot, finding)):
            target, kind = _target(snapshot, finding), finding.requirement.rule.kind
            before = required_values.get(finding.subject)
            required_values[finding.subject] = target if before is None else kind.target(before, target)
    for rule_id in [each for each in required_values if conflict_with_present(snapshot, each, required_values)]:
        del required_values[rule_id]
    _set_along_what_is_met(snapshot, baseline, required_values)
    for step in rule_steps(snapshot, required_values):
        reasons = [baseline.requirements[rule_id].reason for rule_id in step.values if rule_id in baseline.requirements]
        closes = [subject for rule_id in step.values for subject in also_closes.get(rule_id, ())]
        named = tuple(dict.fromkeys((*step.closes, *closes)))
        steps.append(evolve(step, closes=named, why="; ".join(filter(None, (*reasons, step.why)))))
    steps.sort(key=_place)
    return _merged(steps)


def conflict_with_present(snapshot: Snapshot, rule_id: str, required: Mapping[str, Value]) -> str:
    """Return why a value cannot be set together with a stricter one that no one asked to change; empty where it can."""
    about = [rule for rule in CATALOGUE.values() if rule.id in set_together(rule_id)]
    standing = {rule.id: reading_of(rule, snapshot).value for rule in about}
    for found in disagreements(lambda rule: required.get(rule.id, standing.get(rule.id))):
        pair: dict[str, Rule] = {found.rule.id: found.other, found.other.id: found.rule}
        if rule_id not in pair or pair[rule_id].id in required or found.agreement.relation not in ("<", ">"):
            continue  # where one may pull the other along, it is set along
        return str(found)
    return ""


def _set_along_what_is_met(snapshot: Snapshot, baseline: Baseline, required: dict[str, Value]) -> None:
    """Set rules that are met again together with those they are tied to, so that no side effect changes them.

    Rules that already contradict each other are left alone."""
    for rule_id in [tied for asked in required for tied in set_together(asked)]:
        reading = reading_of(CATALOGUE[rule_id], snapshot)
        if rule_id in required or rule_id not in baseline.requirements or reading.value is None or not reading.enforced:
            continue
        if not conflict_with_present(snapshot, rule_id, {rule_id: reading.value}):
            required[rule_id] = reading.value


def rule_steps(snapshot: Snapshot, required: dict[str, Value]) -> list[SetRules]:
    """Return the steps that set ``wanted``, tied rules in one step with what has to change along."""
    steps: list[SetRules] = []
    left = {rule_id: required[rule_id] for rule_id in CATALOGUE if rule_id in required}
    while left:
        tied = set_together(next(iter(left)))
        values = {rule_id: left.pop(rule_id) for rule_id in tied if rule_id in left}
        asked = dict(values)
        _bring_into_agreement(snapshot, values)
        pulled = ", ".join(rule_id for rule_id in values if rule_id not in asked)
        why = f"{pulled} set as well: its present value would contradict the others" if pulled else ""
        effect = max((CATALOGUE[rule_id].counts_on(snapshot) for rule_id in values), key=list(Effect).index)
        ordered = tuple(setting(rule_id, values[rule_id]) for rule_id in tied if rule_id in values)
        steps.append(SetRules(ordered, closes=tuple(asked), why=why, effect=effect))
    return steps


def _bring_into_agreement(snapshot: Snapshot, values: dict[str, Value]) -> None:
    """Add each tied rule whose present value would contradict ``values``.

    A longest age brings the shorter ones below it, and none of them makes it longer."""
    standing = {rule_id: reading_of(CATALOGUE[rule_id], snapshot).value for rule_id in _tied_to(values)}
    for rule, agreement, other, _, _ in disagreements(lambda rule: values.get(rule.id, standing.get(rule.id))):
        if (rule.id in values) == (other.id in values):
            continue
        follower, leader = (other, rule) if rule.id in values else (rule, other)
        value = values[leader.id]
        if agreement.relation == ">=":
            values[follower.id] = value
        elif isinstance(value, timedelta) and agreement.relation == (">" if leader is rule else "<"):
            values[follower.id] = value - timedelta(days=1)


def _tied_to(values: Mapping[str, Value]) -> set[str]:
    return {end.id for rule, _, other in agreements() for end in (rule, other) if {rule.id, other.id} & values.keys()}


def _place(step: Step) -> int:
    """Return the order of a step: granting before setting, and setting before removing."""
    match step:
        case CreateGroup():
            return 0
        case CreateAccount():
            return 1
        case Join() | SetEnabled(enabled=True):
            return 2
        case SetRules():
            return 3
        case Leave():
            return 5
        case SetEnabled():
            return 6
        case Remove() | RemoveGroup():
            return 7
    if isinstance(step, StopJobs | TrySignIn | Rename | Adjustment | SetGroupNote):
        return 4
    assert_never(step)


def _merged(steps: list[Step]) -> list[Step]:
    """Merge the same step of two findings into one with both reasons; a later step uses the account's name at that
    time."""
    merged: dict[Step, Step] = {}
    names: dict[str, str] = {}
    for step in steps:
        name = account_of(step)
        if isinstance(step, Rename):
            names[step.account] = step.new_name
        elif name in names:
            step = evolve(step, account=names[name])  # type: ignore[arg-type]
        key = evolve(step, why="", closes=())
        if key in merged:
            earlier = merged[key]
            reasons = dict.fromkeys(filter(None, (earlier.why, step.why)))
            step = evolve(step, why="; ".join(reasons), closes=tuple(dict.fromkeys((*earlier.closes, *step.closes))))
        merged[key] = step
    return list(merged.values())
