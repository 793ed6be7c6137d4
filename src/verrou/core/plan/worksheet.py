"""From findings to a worksheet: ordered steps that close them, and what a person has to decide."""

from collections.abc import Iterator

from attrs import evolve, frozen

from verrou.core.audit import Audit, Finding, Verdict, audit
from verrou.core.baseline import Baseline
from verrou.core.guards import with_trials
from verrou.core.model import Effect, Posture
from verrou.core.plan.closers import AFTERWARDS, SPECIAL, ByHand, declared
from verrou.core.plan.steps import (
    CreateAccount,
    CreateGroup,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetEnabled,
    SetRules,
    Step,
    account_of,
)
from verrou.core.rules import CATALOGUE, agreements, reading_of, set_together
from verrou.core.values import Count, Span, Value

MOST_ROUNDS = 4
"""How often what the steps themselves bring up is closed behind them."""


@frozen
class Worksheet:
    """The steps in the order in which they are done, and what is left by hand."""

    machine: str
    steps: tuple[Step, ...]
    by_hand: tuple[ByHand, ...]


def plan(posture: Posture, baseline: Baseline, found: Audit, only: frozenset[str] = frozenset()) -> Worksheet:
    """The worksheet that closes the short findings of ``found``; ``only`` keeps it to those families.

    The order never shuts the door: accounts are made and let in first, then rules are set, and what takes something
    away (leaving a group, disabling) comes last. What falls short only because of that, such as the end that a new
    guest lacks, is closed behind it.
    """
    steps: list[Step] = []
    by_hand: list[ByHand] = []
    foreseen = posture
    short = after = _to_close(found, only)
    asked_for = {_gap(finding) for finding in short}
    for _ in range(MOST_ROUNDS):
        if not short:
            break
        further = _closing(foreseen, baseline, short, by_hand)
        steps += further
        for step in further:
            foreseen = step.foresee(foreseen)
        after = _to_close(audit(foreseen, baseline), only)
        short = [finding for finding in after if _gap(finding) not in asked_for]
        asked_for |= {_gap(finding) for finding in short}
    for finding in after:
        if finding.subject in AFTERWARDS:
            by_hand += AFTERWARDS[finding.subject](foreseen, baseline, finding)
    left = {finding.subject for finding in after}
    return Worksheet(
        posture.machine.name,
        tuple(with_trials(posture, steps)),
        tuple(dict.fromkeys(item for item in by_hand if item.subject in left)),
    )


def _gap(finding: Finding) -> tuple[str, str]:
    """What tells one gap from another: for a declared account or group also in what it falls short, which is another
    thing once it has been made."""
    return finding.subject, finding.found if finding.subject.startswith(("accounts.", "groups.")) else ""


def _to_close(found: Audit, only: frozenset[str]) -> list[Finding]:
    open_ones = [f for f in found.findings if f.verdict in (Verdict.SHORT, Verdict.UNREADABLE, Verdict.ABSENT)]
    return [f for f in open_ones if not only or f.subject.partition(".")[0] in only]


def _closing(posture: Posture, baseline: Baseline, short: list[Finding], by_hand: list[ByHand]) -> list[Step]:
    """Steps that close findings, in their order; what none closes is added to ``by_hand``."""
    steps: list[Step] = []
    wanted_values: dict[str, Value] = {}
    for finding in short:
        if finding.verdict is not Verdict.SHORT:
            if finding.remedy or finding.verdict is Verdict.UNREADABLE:
                by_hand.append(ByHand(finding.subject, finding.remedy or finding.reason))
        elif finding.subject in AFTERWARDS:
            continue
        elif finding.subject in SPECIAL:
            _collect(SPECIAL[finding.subject](posture, baseline, finding), steps, by_hand)
        elif finding.subject in baseline.demands:
            demand = baseline.demands[finding.subject]
            if finding.remedy:
                by_hand.append(ByHand(finding.subject, finding.remedy))
            else:
                now = reading_of(demand.rule, posture).value
                # A value that only lacks force is put into force as it is, never loosened.
                if now is None or not demand.desired.met_by(demand.rule, now):
                    now = demand.desired.target(demand.rule, now)
                wanted_values[finding.subject] = now
        else:
            _collect(declared(posture, baseline, finding), steps, by_hand)
    _keep_what_holds(posture, baseline, wanted_values)
    for setting in rule_steps(posture, wanted_values):
        reasons = [baseline.demands[rule.id].because for rule, _ in setting.rules if rule.id in baseline.demands]
        steps.append(evolve(setting, why="; ".join(filter(None, (*reasons, setting.why)))))
    steps.sort(key=_place)
    return _merged(steps)


def _keep_what_holds(posture: Posture, baseline: Baseline, wanted: dict[str, Value]) -> None:
    """Rules that hold are set again beside the ones they are tied to, so that no side effect pulls them along."""
    for rule_id in [tied for asked in wanted for tied in set_together(asked)]:
        reading = reading_of(CATALOGUE[rule_id], posture)
        if rule_id not in wanted and rule_id in baseline.demands and reading.in_force and reading.value is not None:
            wanted[rule_id] = reading.value


def rule_steps(posture: Posture, wanted: dict[str, Value]) -> list[SetRules]:
    """Steps that set ``wanted``, tied rules in one step; a tied rule that would stand in the way is set along."""
    steps: list[SetRules] = []
    left = {rule_id: wanted[rule_id] for rule_id in CATALOGUE if rule_id in wanted}
    while left:
        tied = set_together(next(iter(left)))
        values = {rule_id: left.pop(rule_id) for rule_id in tied if rule_id in left}
        asked = dict(values)
        _bring_into_agreement(posture, values)
        pulled = ", ".join(rule_id for rule_id in values if rule_id not in asked)
        why = f"{pulled} set along: as it is, it would contradict the others" if pulled else ""
        effect = max((CATALOGUE[rule_id].takes_effect for rule_id in values), key=list(Effect).index)
        ordered = tuple((rule_id, values[rule_id]) for rule_id in tied if rule_id in values)
        steps.append(SetRules(values=ordered, why=why, effect=effect))
    return steps


def _bring_into_agreement(posture: Posture, values: dict[str, Value]) -> None:
    """Add to ``values`` each tied rule whose present value could not stand beside them."""
    for rule, agreement, other in agreements():
        if (rule.id in values) == (other.id in values):
            continue
        assert isinstance(rule.kind, Count | Span) and isinstance(other.kind, Count | Span)
        mine = values.get(rule.id, reading_of(rule, posture).value)
        theirs = values.get(other.id, reading_of(other, posture).value)
        if mine is None or theirs is None:
            continue
        if agreement.holds(rule.kind.amount(mine), other.kind.amount(theirs)):
            continue
        if agreement.relation == ">=":
            follower, leader = (other, mine) if rule.id in values else (rule, theirs)
            values[follower.id] = leader


def _collect(items: Iterator[Step | ByHand], steps: list[Step], by_hand: list[ByHand]) -> None:
    for item in items:
        if isinstance(item, ByHand):
            by_hand.append(item)
        else:
            steps.append(item)


def _place(step: Step) -> int:
    """Giving comes before setting, and setting before taking away."""
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
        case _:
            return 4


def _merged(steps: list[Step]) -> list[Step]:
    """Steps asked for by two findings stand once, with both reasons; a later step names an account as it is then."""
    merged: dict[Step, Step] = {}
    names: dict[str, str] = {}
    for step in steps:
        name = account_of(step)
        if isinstance(step, Rename):
            names[step.account] = step.new_name
        elif name in names:
            step = evolve(step, account=names[name])  # type: ignore[arg-type]
        key = evolve(step, why="")
        if key in merged:
            step = evolve(step, why=f"{merged[key].why}, {step.why}")
        merged[key] = step
    return list(merged.values())
