"""From findings to a worksheet: ordered steps that close them, and what a person has to decide."""

from collections.abc import Callable, Iterator, Sequence

from attrs import evolve, frozen

from verrou.core.access import role_of
from verrou.core.audit import Audit, Finding, Verdict, audit, shortfalls
from verrou.core.baseline import Baseline, WantedAccount
from verrou.core.model import Account, Builtin, Effect, Grant, PasswordState, Posture, Role
from verrou.core.rules import CATALOGUE, agreements, reading_of, set_together
from verrou.core.rules.population import blank_accounts, unending_accounts, unlisted
from verrou.core.steps import (
    ROLE_GRANTS,
    ROLES_COME_FROM,
    CreateAccount,
    Join,
    Leave,
    Rename,
    SetEnabled,
    SetEnd,
    SetRules,
    Step,
)
from verrou.core.values import NOT_SHIPPED, BuiltinName, Count, Span, Value


@frozen
class ByHand:
    """A finding that no step closes, and what a person can do about it."""

    subject: str
    advice: str


@frozen
class Worksheet:
    """The steps in the order in which they are done, and what is left by hand. ``based_on`` is the posture's digest."""

    machine: str
    steps: tuple[Step, ...]
    by_hand: tuple[ByHand, ...]
    based_on: str


def plan(posture: Posture, baseline: Baseline, found: Audit, only: frozenset[str] = frozenset()) -> Worksheet:
    """The worksheet that closes the short findings of ``found``; ``only`` keeps it to those families.

    The order never shuts the door: accounts are made and let in first, then rules are set, and what takes something
    away (leaving a group, disabling) comes last.
    """
    steps: list[Step] = []
    by_hand: list[ByHand] = []
    short = [f for f in found.findings if f.verdict in (Verdict.SHORT, Verdict.UNREADABLE, Verdict.ABSENT)]
    if only:
        short = [f for f in short if f.subject.partition(".")[0] in only]
    wanted_values: dict[str, Value] = {}
    for finding in short:
        if finding.verdict is not Verdict.SHORT:
            if finding.remedy or finding.verdict is Verdict.UNREADABLE:
                by_hand.append(ByHand(finding.subject, finding.remedy or finding.reason))
        elif finding.subject in _AFTERWARDS:
            continue
        elif finding.subject in _SPECIAL:
            _collect(_SPECIAL[finding.subject](posture, baseline, finding), steps, by_hand)
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
            _collect(_declared(posture, baseline, finding), steps, by_hand)
    _keep_what_holds(posture, baseline, wanted_values)
    for setting in rule_steps(posture, wanted_values):
        reasons = [baseline.demands[rule.id].because for rule, _ in setting.rules if rule.id in baseline.demands]
        steps.append(evolve(setting, why="; ".join(filter(None, (*reasons, setting.why)))))
    steps.sort(key=_place)
    ordered = _merged(steps)
    foreseen = posture
    for step in ordered:
        foreseen = step.foresee(foreseen)
    for finding in short:
        if finding.subject in _AFTERWARDS:
            by_hand += _AFTERWARDS[finding.subject](foreseen, baseline, finding)
    left = {f.subject for f in audit(foreseen, baseline).findings if f.verdict is not Verdict.HOLDS}
    return Worksheet(
        posture.machine.name,
        tuple(ordered),
        tuple(item for item in by_hand if item.subject in left),
        posture.fingerprint,
    )


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


def _builtin_enabled(which: Builtin) -> Callable[[Posture, Baseline, Finding], Iterator[Step | ByHand]]:
    def close(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
        account = posture.builtin(which)
        demand = baseline.demands[finding.subject]
        if account is not None:
            enable = bool(demand.desired.target(demand.rule, account.enabled))
            yield SetEnabled(account.name, enable, why=finding.subject, effect=demand.rule.takes_effect)

    return close


def _builtin_name(which: Builtin) -> Callable[[Posture, Baseline, Finding], Iterator[Step | ByHand]]:
    def close(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
        account = posture.builtin(which)
        demand = baseline.demands[finding.subject]
        wanted = demand.desired.target(demand.rule, None)
        if account is None or not isinstance(wanted, BuiltinName):
            return
        if wanted.name == NOT_SHIPPED:
            yield ByHand(
                finding.subject,
                f"choose a name: verrou account rename {account.name} NEW-NAME, "
                f'or {demand.rule.key} = "NEW-NAME" in the baseline',
            )
        else:
            yield Rename(account.name, wanted.name, why=finding.subject, effect=demand.rule.takes_effect)

    return close


def _administrators(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[ByHand]:
    group = posture.group_with(Grant.ADMINISTRATION)
    name = group.name if group else "ADMINISTRATORS"
    yield ByHand(
        finding.subject,
        f"decide who administers: verrou group join {name} ACCOUNT, or verrou group leave {name} ACCOUNT",
    )


def _blank_passwords(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[ByHand]:
    for account in _but_for_guests(blank_accounts(posture), posture, baseline, finding):
        advice = f"verrou account password {account.name}, or verrou account disable {account.name}"
        yield ByHand(finding.subject, advice)


def _but_for_guests(
    accounts: Sequence[Account], posture: Posture, baseline: Baseline, finding: Finding
) -> list[Account]:
    """The accounts that a rule of nobody, guests or anybody is about: guests are not, where it lets guests."""
    demand = baseline.demands[finding.subject]
    guests_may = demand.desired.candidates(demand.rule) == ["guests"]
    return [a for a in accounts if not (guests_may and role_of(a, posture) is Role.GUEST)]


def _unending_passwords(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[ByHand]:
    for account in _but_for_guests(unending_accounts(posture), posture, baseline, finding):
        yield ByHand(
            finding.subject,
            f"{account.name} is left out of the age of passwords; ask for password.max_age in the baseline, "
            "or take the exception away with the system's own means",
        )


def _duplicate_ids(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[ByHand]:
    for twins in posture.by_identity.values():
        if len(twins) > 1:
            names = " and ".join(account.name for account in twins)
            yield ByHand(finding.subject, f"{names} are one; give all but one an identity of their own, or remove them")


def _unlisted(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    demand = baseline.demands[finding.subject]
    for account in unlisted(posture, frozenset(baseline.accounts)):
        if demand.desired.candidates(demand.rule) == ["disable"]:
            yield SetEnabled(account.name, False, why=finding.subject, effect=Effect.NEXT_SIGN_IN)
        else:
            yield ByHand(
                finding.subject,
                f"list {account.name} under [accounts.{account.name}] in the baseline, "
                f"or verrou account disable {account.name}",
            )


def _storage(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    """What new passwords get can be set; what is stored already changes with the account's next password."""
    demand = baseline.demands[finding.subject]
    reading = reading_of(demand.rule, posture)
    coming = reading.value if reading.pending is None else reading.pending
    accepted = demand.desired.target(demand.rule, reading.value)
    if coming is not None and not demand.desired.met_by(demand.rule, coming):
        yield SetRules(values=((demand.rule.id, accepted),), why=demand.because, effect=demand.rule.takes_effect)
    for account in posture.accounts:
        if account.password_scheme and isinstance(accepted, frozenset) and account.password_scheme not in accepted:
            stored = f"{account.name} has a {account.password_scheme} password"
            yield ByHand(finding.subject, f"{stored}; give it a new one: verrou account password {account.name}")


_SPECIAL: dict[str, Callable[[Posture, Baseline, Finding], Iterator[Step | ByHand]]] = {
    "builtin.admin_enabled": _builtin_enabled(Builtin.ADMIN),
    "builtin.guest_enabled": _builtin_enabled(Builtin.GUEST),
    "builtin.admin_name": _builtin_name(Builtin.ADMIN),
    "builtin.guest_name": _builtin_name(Builtin.GUEST),
    "password.storage": _storage,
    "population.unlisted": _unlisted,
}


_AFTERWARDS: dict[str, Callable[[Posture, Baseline, Finding], Iterator[ByHand]]] = {
    "population.administrators": _administrators,
    "population.blank_passwords": _blank_passwords,
    "population.duplicate_ids": _duplicate_ids,
    "population.unending_passwords": _unending_passwords,
}
"""What only a person can decide, asked of the machine as it will be after the steps: they may have closed it."""


def _declared(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    """Steps for a declared account or group."""
    table, _, name = finding.subject.partition(".")
    if table == "groups":
        wanted_group = baseline.groups[name]
        group = posture.group(name)
        if group is None:
            yield ByHand(finding.subject, f"there is no group {name}; make it with the system's own means first")
            return
        coming = {account.name for account in baseline.accounts.values() if account.enabled}
        for member in wanted_group.members:
            if member in group.members:
                continue
            if member in posture.by_name or member in coming:
                yield Join(member, name, why=finding.subject)
            else:
                yield ByHand(finding.subject, f"there is no account {member} that could join {name}")
        return
    wanted = baseline.accounts[name]
    account = posture.by_name.get(name)
    if account is None:
        yield from _creation(posture, wanted, finding.subject)
        return
    role = role_of(account, posture)
    if role is not wanted.role:
        yield from _role_change(posture, wanted, role, finding.subject)
    blank = account.password is PasswordState.BLANK and wanted.password != "blank" and wanted.enabled
    if blank:
        opened = "" if account.enabled else f", then verrou account enable {name}"
        yield ByHand(finding.subject, f"verrou account password {name}{opened}")
    elif account.enabled is not wanted.enabled:
        yield SetEnabled(name, wanted.enabled, why=finding.subject, effect=Effect.NEXT_SIGN_IN)
    if any("ends" in should for _, should in shortfalls(posture, wanted)):
        yield SetEnd(name, wanted.expires, why=finding.subject)


def _creation(posture: Posture, wanted: WantedAccount, subject: str) -> Iterator[Step | ByHand]:
    if wanted.role is Role.GUEST and posture.group_with(Grant.GUEST_USE) is None:
        yield ByHand(subject, f"this machine has no group that makes a guest of {wanted.name}")
        return
    if wanted.password == "keep":
        yield ByHand(subject, f'{wanted.name} is to be made, so password = "keep" says nothing; use ask or generate')
        return
    made = CreateAccount(
        wanted.name,
        wanted.role,
        wanted.full_name,
        wanted.password,
        must_change=wanted.password != "blank" and wanted.role is Role.STANDARD,
        why=subject,
        effect=Effect.NOW,
    )
    yield made
    if wanted.expires is not None:
        yield SetEnd(wanted.name, wanted.expires, why=subject)


def _role_change(posture: Posture, wanted: WantedAccount, role: Role, subject: str) -> Iterator[Step | ByHand]:
    """Join what gives the wanted role, leave what gives more or other."""
    account = posture.by_name[wanted.name]
    needed = ROLE_GRANTS[wanted.role]
    given_by_itself = set(account.grants) - set(needed)
    gates = {grant: posture.group_with(grant) for grant in needed}
    essential = needed[-1]
    if given_by_itself or (gates[essential] is None and wanted.role is not Role.STANDARD):
        yield ByHand(subject, f"{wanted.name} is {role} and should be {wanted.role}; no group here can change that")
        return
    for group in gates.values():
        if group is not None and group.name not in account.groups:
            yield Join(wanted.name, group.name, why=subject)
    for name in account.groups:
        group = posture.group(name)
        if group and set(group.grants) & ROLES_COME_FROM and not set(group.grants) & set(needed):
            yield Leave(wanted.name, name, why=subject)


def _place(step: Step) -> int:
    """Giving comes before setting, and setting before taking away."""
    match step:
        case CreateAccount():
            return 0
        case Join() | SetEnabled(enabled=True):
            return 1
        case SetRules():
            return 2
        case Leave():
            return 4
        case SetEnabled():
            return 5
        case _:
            return 3


def _merged(steps: list[Step]) -> list[Step]:
    """Steps asked for by two findings stand once, with both reasons; a later step names an account as it is then."""
    merged: dict[Step, Step] = {}
    names: dict[str, str] = {}
    for step in steps:
        if isinstance(step, Rename):
            names[step.account] = step.new_name
        elif not isinstance(step, SetRules) and step.account in names:
            step = evolve(step, account=names[step.account])
        key = evolve(step, why="")
        if key in merged:
            step = evolve(step, why=f"{merged[key].why}, {step.why}")
        merged[key] = step
    return list(merged.values())
