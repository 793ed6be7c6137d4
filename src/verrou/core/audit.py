"""A posture held against a baseline: one finding for each rule, account and group that the baseline names."""

from collections.abc import Iterator
from datetime import date
from enum import StrEnum

from attrs import evolve, frozen

from verrou.core.baseline import Baseline, Demand, Waiver, WantedAccount, WantedGroup
from verrou.core.model import PasswordState, Posture, Reading, Role, Source, Status, name_list
from verrou.core.model.access import role_of, ways_in
from verrou.core.rules import Severity, reading_of, value_now
from verrou.core.rules.population import unlisted


class Verdict(StrEnum):
    """Of a finding. ABSENT: this machine has no such rule. Neither that nor UNREADABLE counts as holding."""

    HOLDS = "holds"
    SHORT = "short"
    WAIVED = "waived"
    ABSENT = "absent"
    UNREADABLE = "unreadable"


@frozen
class Finding:
    """One line of an audit. ``subject`` is a rule id, ``accounts.NAME`` or ``groups.NAME``."""

    subject: str
    title: str
    verdict: Verdict
    severity: Severity
    found: str
    wanted: str
    reason: str = ""
    remedy: str = ""
    because: str = ""
    source: Source | None = None
    overruled: tuple[Source, ...] = ()
    waiver: Waiver | None = None


@frozen
class Score:
    """How many findings of each verdict; only ``holds`` counts as holding, and waived and absent ones are left out."""

    holds: int
    short: int
    waived: int
    absent: int
    unreadable: int

    @property
    def counted(self) -> int:
        """How many the score is out of."""
        return self.holds + self.short + self.unreadable

    def __str__(self) -> str:
        left_out = [f"{n} {word}" for n, word in ((self.waived, "waived"), (self.absent, "absent")) if n]
        unread = f" ({self.unreadable} could not be read and count as short)" if self.unreadable else ""
        tail = f"; left out of the count: {', '.join(left_out)}" if left_out else ""
        return f"{self.holds} of {self.counted} hold{unread}{tail}"


@frozen
class Audit:
    """All findings on one machine, the gravest shortfalls first."""

    machine: str
    baseline: str
    findings: tuple[Finding, ...]

    @property
    def score(self) -> Score:
        counts = {verdict: sum(f.verdict is verdict for f in self.findings) for verdict in Verdict}
        return Score(*(counts[verdict] for verdict in Verdict))

    @property
    def all_well(self) -> bool:
        """Nothing falls short and nothing was unreadable."""
        return self.score.holds == self.score.counted


def audit(posture: Posture, baseline: Baseline) -> Audit:
    """Hold ``posture`` against ``baseline``. Waivers count by the machine's own date."""
    findings = [
        *(_rule_finding(posture, baseline, demand) for demand in baseline.demands.values()),
        *(_account_finding(posture, wanted) for wanted in baseline.accounts.values()),
        *(_group_finding(posture, wanted) for wanted in baseline.groups.values()),
    ]
    today = posture.machine.now.date()
    waived = [_waived(finding, baseline, posture.machine.name, today) for finding in findings]
    order = {Verdict.SHORT: 0, Verdict.UNREADABLE: 1, Verdict.ABSENT: 2, Verdict.WAIVED: 3, Verdict.HOLDS: 4}
    waived.sort(key=lambda finding: (order[finding.verdict], finding.severity.weight))
    return Audit(posture.machine.name, baseline.title, tuple(waived))


def meets(demand: Demand, reading: Reading) -> bool:
    """Whether what is in force is what is asked for."""
    return (
        reading.status is Status.READ
        and reading.in_force
        and reading.value is not None
        and demand.desired.met_by(demand.rule, reading.value)
    )


def _rule_finding(posture: Posture, baseline: Baseline, demand: Demand) -> Finding:
    rule = demand.rule
    if rule.id == "population.unlisted":
        return _unlisted_finding(posture, baseline, demand)
    reading = reading_of(rule, posture)
    verdicts = {Status.ABSENT: Verdict.ABSENT, Status.UNREADABLE: Verdict.UNREADABLE}
    return Finding(
        subject=rule.id,
        title=rule.title,
        verdict=verdicts.get(reading.status) or (Verdict.HOLDS if meets(demand, reading) else Verdict.SHORT),
        severity=rule.severity,
        found=value_now(rule, reading),
        wanted=demand.desired.say(rule),
        reason=reading.reason,
        remedy=reading.remedy,
        because=demand.because,
        source=reading.source,
        overruled=reading.overruled,
    )


def _unlisted_finding(posture: Posture, baseline: Baseline, demand: Demand) -> Finding:
    leave = demand.desired.candidates(demand.rule) == ["leave"]
    strangers = [] if leave else unlisted(posture, frozenset(baseline.accounts))
    return Finding(
        subject=demand.rule.id,
        title=demand.rule.title,
        verdict=Verdict.SHORT if strangers else Verdict.HOLDS,
        severity=demand.rule.severity,
        found=name_list([a.name for a in strangers]) or ("not asked" if leave else "none"),
        wanted="anything goes" if leave else "none enabled",
        because=demand.because,
        source=Source("accounts"),
    )


def shortfalls(posture: Posture, wanted: WantedAccount) -> Iterator[tuple[str, str]]:
    """In what an account that is there differs from the wanted one, as (what is, what should be)."""
    account = posture.by_name[wanted.name]
    role = role_of(account, posture)
    if role is not wanted.role:
        yield role, wanted.role
    should_be_open = wanted.is_open(posture.machine.now.date())
    if account.enabled is not should_be_open:
        yield ("enabled" if account.enabled else "disabled"), ("enabled" if should_be_open else "disabled")
    blank = account.password is PasswordState.BLANK
    if blank and wanted.password != "blank" and account.enabled:
        yield "blank password", "a password"
    if wanted.expires is not None and (account.ends is None or account.ends > wanted.expires):
        yield (f"ends {account.ends}" if account.ends else "no end"), f"ends {wanted.expires}"
    if wanted.cannot_change is not None and account.cannot_change is not wanted.cannot_change:
        can, cannot = "may change its password", "cannot change its password"
        yield (cannot if account.cannot_change else can), (cannot if wanted.cannot_change else can)
    further = [way for way in ways_in(account, posture) if way not in wanted.ways_in] if wanted.ways_in else []
    if further:
        yield f"gets in by {', '.join(further)} too", f"by {', '.join(wanted.ways_in)} only"


def _account_finding(posture: Posture, wanted: WantedAccount) -> Finding:
    account = posture.by_name.get(wanted.name)
    if account is None:
        gaps = [("no such account", f"{wanted.role}, {'enabled' if wanted.enabled else 'disabled'}")]
        verdict = Verdict.SHORT if wanted.enabled else Verdict.HOLDS
    else:
        gaps = list(shortfalls(posture, wanted))
        verdict = Verdict.SHORT if gaps else Verdict.HOLDS
    grave = account is not None and role_of(account, posture) is Role.ADMINISTRATOR is not wanted.role
    return Finding(
        subject=f"accounts.{wanted.name}",
        title=f"account {wanted.name}",
        verdict=verdict,
        severity=Severity.GRAVE if grave else Severity.SERIOUS,
        found=", ".join(is_now for is_now, _ in gaps) or "as listed",
        wanted=", ".join(should for _, should in gaps) or f"{wanted.role}",
        because=wanted.because,
        source=account.source if account else None,
    )


def _group_finding(posture: Posture, wanted: WantedGroup) -> Finding:
    group = posture.group(wanted.name)
    missing = [name for name in wanted.members if group is None or name not in group.members]
    found = "no such group" if group is None else f"without {name_list(missing)}" if missing else "as listed"
    return Finding(
        subject=f"groups.{wanted.name}",
        title=f"group {wanted.name}",
        verdict=Verdict.SHORT if missing or group is None else Verdict.HOLDS,
        severity=Severity.SLIGHT,
        found=found,
        wanted=f"with {name_list(list(wanted.members))}",
        because=wanted.because,
        source=group.source if group else None,
    )


def _waived(finding: Finding, baseline: Baseline, machine: str, today: date) -> Finding:
    if finding.verdict is not Verdict.SHORT:
        return finding
    for waiver in baseline.waivers:
        if waiver.rule != finding.subject or waiver.machine not in (None, machine):
            continue
        if waiver.until < today:
            finding = evolve(finding, reason=f"{finding.reason} the waiver by {waiver.by} ended {waiver.until}".strip())
            continue
        return evolve(finding, verdict=Verdict.WAIVED, waiver=waiver)
    return finding
