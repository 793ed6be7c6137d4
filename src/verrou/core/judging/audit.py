"""A snapshot audited against a baseline: one finding for each rule, account and group that the baseline names."""

# Imports within functions: for a quick start of what only looks.

from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import date
from functools import cached_property, partial
from typing import overload

from attrs import evolve, field, frozen

from verrou.core.baselines.baseline import Baseline, Requirement, Waiver, WantedAccount, WantedGroup
from verrou.core.baselines.desired import AtLeast, in_words_of
from verrou.core.made_often import made_often
from verrou.core.model import Reading, Role, Snapshot, Source, Status, unreadable
from verrou.core.model.access import known_role
from verrou.core.model.known import Known
from verrou.core.model.snapshot import BY_WHAT_THEY_ARE
from verrou.core.model.verdicts import Severity, Tally, Verdict
from verrou.core.rules import CATALOGUE, Rule, reading_of
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.values import Value

Gaps = tuple[Gap, ...]


def _found(gaps: Gaps | Callable[[], Gaps]) -> Gaps:
    return gaps() if callable(gaps) else gaps


@made_often
class Finding:
    """One line of an audit.

    ``subject`` is a rule id, ``accounts.NAME`` or ``groups.NAME``. A finding about a rule has the reading and the
    requirement."""

    subject: str
    title: str
    verdict: Verdict
    severity: Severity
    reading: Reading | None = None
    requirement: Requirement | None = None
    _gaps: Gaps | Callable[[], Gaps] = field(default=(), eq=_found)
    requirement_reason: str = ""
    source: Source | None = None
    waiver: Waiver | None = None
    lapsed: Waiver | None = None

    @property
    def gaps(self) -> Gaps:
        """The accounts and groups that do not meet it, each with the steps that close it; found when somebody asks."""
        if callable(self._gaps):
            object.__setattr__(self, "_gaps", self._gaps())
        return _found(self._gaps)

    @property
    def reason(self) -> str:
        """The reason for the state, in words."""
        ended = f"the waiver by {self.lapsed.by} expired {self.lapsed.until}" if self.lapsed else ""
        return f"{self.reading.reason if self.reading else ''} {ended}".strip()


@frozen(repr=False)
class Audit:
    """All findings on one machine, the most severe first."""

    machine: str
    baseline: str
    findings: tuple[Finding, ...]

    @cached_property
    def tally(self) -> Tally:
        """The number of findings of each verdict."""
        return Tally.of(self.findings)

    def applicable_only(self) -> "Audit":
        """Return the same audit without findings that are not applicable, for a list of what is left to do."""
        return evolve(self, findings=tuple(f for f in self.findings if f.verdict is not Verdict.NOT_APPLICABLE))

    @property
    def all_met(self) -> bool:
        """Whether every assessed finding is met."""
        return self.tally.all_met


_ORDER = (Verdict.NOT_MET, Verdict.UNKNOWN, Verdict.NOT_APPLICABLE, Verdict.WAIVED, Verdict.MET)
_PLACES = {
    (verdict, severity): (number, severity.weight) for number, verdict in enumerate(_ORDER) for severity in Severity
}


def _place(finding: Finding) -> tuple[int, int]:
    return _PLACES[finding.verdict, finding.severity]


Settled = dict[tuple[str, int], tuple[Reading, Finding | None]]
"""By a rule and the identity of its reading, which is kept so that nothing else gets it: the finding, where neither
accounts nor who is in which group have a part in it; None for another."""
FindingCache = dict[tuple[str, tuple[str, ...]], Settled]
"""What is settled against one baseline, by the kind of machine and what it calls its groups."""
MOST_KNOWN, MOST_NAMINGS = 20_000, 50
"""Of how many readings findings are remembered, and of how many ways to call groups."""


def audit(snapshot: Snapshot, baseline: Baseline, known: FindingCache | None = None) -> Audit:
    """Audit ``snapshot`` against ``baseline``. Waivers expire by the machine's own clock.

    To audit many machines against one baseline, with one object for equal readings, pass the same ``known`` each
    time."""
    baseline = baseline.on(snapshot)
    settled = {} if known is None else _settled(snapshot, known)
    findings = [
        *(_settled_finding(snapshot, baseline, requirement, settled) for requirement in baseline.requirements.values()),
        *(_account_finding(snapshot, required) for required in baseline.accounts.values()),
        *(_group_finding(snapshot, baseline, required) for required in baseline.groups.values()),
    ]
    today = snapshot.machine.now.date()
    if baseline.waivers:
        findings = [_waived(finding, baseline, snapshot.machine.name, today) for finding in findings]
    findings.sort(key=_place)
    return Audit(snapshot.machine.name, baseline.title, tuple(findings))


def _settled(snapshot: Snapshot, known: FindingCache) -> Settled:
    """Return what is known of readings on machines that are alike in all that a reading's finding depends on."""
    key = snapshot.machine.kind, tuple(map(snapshot.own_name_of, BY_WHAT_THEY_ARE))
    if key not in known and len(known) >= MOST_NAMINGS:
        known.clear()
    found = known.setdefault(key, {})
    if len(found) > MOST_KNOWN:
        found.clear()
    return found


def _settled_finding(snapshot: Snapshot, baseline: Baseline, asked: Requirement, settled: Settled) -> Finding:
    """Return the finding on a rule, found only once where it depends on nothing but the reading."""
    rule_id = asked.rule.id
    reading = snapshot.readings.get(rule_id)
    if reading is None:
        return _rule_finding(snapshot, baseline, asked)
    known = settled.get((rule_id, id(reading)))
    if known is not None:
        return known[1] or _rule_finding(snapshot, baseline, asked)
    finding = _rule_finding(snapshot, baseline, asked)
    settled[rule_id, id(reading)] = reading, finding if _is_independent(snapshot, asked) else None
    return finding


def _is_independent(snapshot: Snapshot, asked: Requirement) -> bool:
    """Return whether the finding depends on the reading alone, not on accounts or groups.

    Group members can only turn a list that misses names into one that is met."""
    rule = asked.rule
    if rule.derived is not None or rule.gaps is not None:
        return False
    reading = snapshot.readings.get(rule.id)
    if not rule.kind.names_people or reading is None or reading.value is None:
        return True
    desired = _asked_here(asked, snapshot).desired
    return isinstance(desired, AtLeast) and rule.kind.at_least(reading.value, desired.value)


def is_satisfied(snapshot: Snapshot, requirement: Requirement, reading: Reading) -> bool:
    """Return whether the enforced value satisfies the requirement."""
    known = reading.status is Status.READ and reading.enforced and reading.value is not None
    return known and is_satisfied_by(snapshot, requirement, reading.value)


def is_satisfied_by(snapshot: Snapshot, requirement: Requirement, value: Value | None) -> bool:
    """Return whether a value satisfies the requirement, given who is in which group."""
    rule, desired = requirement.rule, requirement.desired
    if value is None:
        return False
    if isinstance(desired, AtLeast):
        return rule.kind.at_least_expanded(value, desired.value, snapshot.members)
    return desired.satisfied_by(rule, value)


def remarkable(snapshot: Snapshot, baseline: Baseline) -> Mapping[Rule, Sequence[str]]:
    """Return the rules that a survey shows first, the most severe before the others.

    They are configured but not enforced, not known, or weaker than ``baseline`` requires; a rule about accounts comes
    with those that do not meet it."""
    found: dict[Rule, Sequence[str]] = {}
    baseline = baseline.on(snapshot)
    for rule in CATALOGUE.values():
        reading = reading_of(rule, snapshot)
        requirement = _asked_here(baseline.requirements.get(rule.id), snapshot)
        idle = reading.status is Status.READ and reading.value is not None and not reading.enforced
        weak = (
            requirement is not None
            and reading.status is Status.READ
            and not is_satisfied(snapshot, requirement, reading)
        )
        if idle or weak or reading.status is Status.UNKNOWN:
            found[rule] = about(_gaps(snapshot, requirement, reading)) if requirement is not None and weak else ()
    return {rule: found[rule] for rule in sorted(found, key=lambda rule: rule.severity.weight)}


@overload
def _asked_here(requirement: Requirement, snapshot: Snapshot) -> Requirement: ...
@overload
def _asked_here(requirement: Requirement | None, snapshot: Snapshot) -> Requirement | None: ...
def _asked_here(requirement: Requirement | None, snapshot: Snapshot) -> Requirement | None:
    """Return the requirement with the names that this machine uses."""
    if requirement is None or not requirement.rule.kind.names_people:
        return requirement
    desired = in_words_of(requirement.desired, requirement.rule, snapshot.own_spelling)
    return requirement if desired is requirement.desired else evolve(requirement, desired=desired)


def about(gaps: Sequence[Gap]) -> list[str]:
    """Return the subjects of gaps for a sentence."""
    return [gap.actual if gap.fact is Fact.IDENTITY else gap.who for gap in gaps if gap.who]


def _gaps(snapshot: Snapshot, requirement: Requirement, reading: Reading, listed: Collection[str] = ()) -> Gaps:
    rule = requirement.rule
    target = requirement.desired.target(rule, reading.value)
    return tuple(rule.gaps(snapshot, target, frozenset(listed))) if rule.gaps else ()


def _rule_finding(snapshot: Snapshot, baseline: Baseline, asked: Requirement) -> Finding:
    rule, requirement = asked.rule, _asked_here(asked, snapshot)
    reading = reading_of(rule, snapshot)
    compares = rule.derived is not None and rule.derived.compares
    gaps: Gaps | Callable[[], Gaps] = ()
    if compares and reading.status is not Status.UNKNOWN:
        gaps = _gaps(snapshot, requirement, reading, baseline.accounts)
        verdict = Verdict.NOT_MET if gaps else Verdict.MET
    elif reading.status is not Status.READ:
        verdict = Verdict.NOT_APPLICABLE if reading.status is Status.NOT_APPLICABLE else Verdict.UNKNOWN
    elif is_satisfied(snapshot, requirement, reading):
        verdict = Verdict.MET
    else:
        verdict, gaps = Verdict.NOT_MET, partial(_gaps, snapshot, requirement, reading, baseline.accounts)
    return Finding(
        subject=rule.id,
        title=rule.title,
        verdict=verdict,
        severity=rule.severity,
        reading=None if compares else reading,
        requirement=requirement,
        gaps=gaps,
        requirement_reason=requirement.reason,
        source=reading.source,
    )


def _account_finding(snapshot: Snapshot, required: WantedAccount) -> Finding:
    from verrou.core.judging.baseline_accounts import account_doubts, account_gaps

    account = snapshot.by_name.get(required.name)
    gaps = tuple(account_gaps(snapshot, required))
    doubts = () if gaps else tuple(account_doubts(snapshot, required))
    grave = account is not None and known_role(account, snapshot) in (Role.ADMINISTRATOR, Known.UNKNOWN)
    grave = grave and required.role is not Role.ADMINISTRATOR
    return Finding(
        subject=f"accounts.{required.name}",
        title=f"account {required.name}",
        verdict=Verdict.NOT_MET if gaps else Verdict.UNKNOWN if doubts else Verdict.MET,
        severity=Severity.HIGH if grave else Severity.MEDIUM,
        reading=unreadable("; ".join(doubts)) if doubts else None,
        gaps=gaps,
        requirement_reason=required.reason,
        source=account.source if account else None,
    )


def _group_finding(snapshot: Snapshot, baseline: Baseline, required: WantedGroup) -> Finding:
    from verrou.core.judging.baseline_accounts import group_gaps

    group = snapshot.group_called(required.name)
    coming = frozenset(account.name for account in baseline.accounts.values() if account.enabled)
    gaps = tuple(group_gaps(snapshot, required, coming))
    return Finding(
        subject=f"groups.{required.name}",
        title=f"group {required.name}",
        verdict=Verdict.NOT_MET if gaps else Verdict.MET,
        severity=Severity.LOW,
        gaps=gaps,
        requirement_reason=required.reason,
        source=group.source if group else None,
    )


def _waived(finding: Finding, baseline: Baseline, machine: str, today: date) -> Finding:
    if finding.verdict is not Verdict.NOT_MET:
        return finding
    for waiver in baseline.waivers:
        if waiver.rule != finding.subject or waiver.machine not in (None, machine):
            continue
        if waiver.until < today:
            finding = evolve(finding, lapsed=waiver)
            continue
        return evolve(finding, verdict=Verdict.WAIVED, waiver=waiver)
    return finding
