"""What closes a finding: steps, or what a person has to decide, for the rules that no setting keeps and for what a
baseline declares."""

from collections.abc import Callable, Iterator, Sequence
from datetime import timedelta

from attrs import frozen

from verrou.core.audit import Finding, shortfalls
from verrou.core.baseline import Baseline, WantedAccount
from verrou.core.model import (
    Account,
    Builtin,
    Detail,
    Effect,
    Grant,
    PasswordState,
    Posture,
    Role,
)
from verrou.core.model.access import role_of, ways_in
from verrou.core.plan.making import NoWay, new_account, role_steps
from verrou.core.plan.steps import (
    CreateGroup,
    Join,
    Leave,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetRules,
    Step,
)
from verrou.core.rules import reading_of
from verrou.core.rules.population import (
    blank_accounts,
    ended,
    temporary,
    unending_accounts,
    unlisted,
    unused,
    with_hints,
    with_questions,
)
from verrou.core.values import NOT_SHIPPED, BuiltinName


@frozen
class ByHand:
    """A finding that no step closes, and what a person can do about it."""

    subject: str
    advice: str


Closer = Callable[[Posture, Baseline, Finding], Iterator[Step | ByHand]]


def _builtin_enabled(which: Builtin) -> Closer:
    def close(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
        account = posture.builtin(which)
        demand = baseline.demands[finding.subject]
        if account is not None:
            enable = bool(demand.desired.target(demand.rule, account.enabled))
            yield SetEnabled(account.name, enable, why=finding.subject, effect=demand.rule.takes_effect)

    return close


def _builtin_name(which: Builtin) -> Closer:
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


def _unending_passwords(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    for account in _but_for_guests(unending_accounts(posture), posture, baseline, finding):
        if account.ages_exempt:
            yield SetFlags(account.name, ages_exempt=False, why=finding.subject)
        advice = f"the password of {account.name} never ends; ask for password.max_age in the baseline"
        yield ByHand(finding.subject, advice)


def _limit(baseline: Baseline, finding: Finding) -> timedelta | None:
    """The span that a baseline asks for; None where it asks for none."""
    demand = baseline.demands[finding.subject]
    target = demand.desired.target(demand.rule, None)
    return target if isinstance(target, timedelta) else None


def _unused_for(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    limit = _limit(baseline, finding)
    for account in unused(posture, limit) if limit is not None else ():
        if account.name in baseline.accounts:
            advice = (
                f"nobody uses {account.name}, which the baseline lists; take it out there, or have somebody sign in"
            )
            yield ByHand(finding.subject, advice)
        else:
            yield SetEnabled(account.name, False, why=finding.subject, effect=Effect.NEXT_SIGN_IN)


def _temporary_until(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    limit = _limit(baseline, finding)
    if limit is None:
        return
    last = posture.machine.now.date() + limit
    for account in temporary(posture):
        if account.ends is None or account.ends > last:
            yield SetEnd(account.name, last, why=finding.subject)


def _ended_accounts(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    for account in ended(posture):
        yield SetEnabled(account.name, False, why=finding.subject, effect=Effect.NEXT_SIGN_IN)


def _give_nothing_away(detail: Detail, find: Callable[[Posture], list[Account]]) -> Closer:
    def close(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
        for account in find(posture):
            yield SetDetails(account.name, ((detail, ""),), why=finding.subject)

    return close


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


SPECIAL: dict[str, Closer] = {
    "builtin.admin_enabled": _builtin_enabled(Builtin.ADMIN),
    "builtin.guest_enabled": _builtin_enabled(Builtin.GUEST),
    "builtin.admin_name": _builtin_name(Builtin.ADMIN),
    "builtin.guest_name": _builtin_name(Builtin.GUEST),
    "password.storage": _storage,
    "population.ended_accounts": _ended_accounts,
    "population.hints": _give_nothing_away(Detail.HINT, with_hints),
    "population.recovery_questions": _give_nothing_away(Detail.RECOVERY_QUESTIONS, with_questions),
    "population.temporary_until": _temporary_until,
    "population.unending_passwords": _unending_passwords,
    "population.unlisted": _unlisted,
    "population.unused_for": _unused_for,
}


AFTERWARDS: dict[str, Callable[[Posture, Baseline, Finding], Iterator[ByHand]]] = {
    "population.administrators": _administrators,
    "population.blank_passwords": _blank_passwords,
    "population.duplicate_ids": _duplicate_ids,
}
"""What only a person can decide, asked of the machine as it will be after the steps: they may have closed it."""


def declared(posture: Posture, baseline: Baseline, finding: Finding) -> Iterator[Step | ByHand]:
    """Steps for a declared account or group."""
    table, _, name = finding.subject.partition(".")
    yield from (_group if table == "groups" else _account)(posture, baseline, finding.subject, name)


def _group(posture: Posture, baseline: Baseline, subject: str, name: str) -> Iterator[Step | ByHand]:
    wanted = baseline.groups[name]
    group = posture.group(name)
    if group is None and name.isdigit():
        yield ByHand(subject, f"there is no group of identity {name}, and an identity cannot be chosen; name the group")
        return
    if group is None:
        yield CreateGroup(name, wanted.note if Detail.GROUP_NOTE in posture.machine.details else "", why=subject)
    coming = {account.name for account in baseline.accounts.values() if account.enabled}
    for member in wanted.members:
        if group is not None and member in group.members:
            continue
        if member in posture.by_name or member in coming:
            yield Join(member, group.name if group else name, why=subject)
        else:
            yield ByHand(subject, f"there is no account {member} that could join {name}")


def _account(posture: Posture, baseline: Baseline, subject: str, name: str) -> Iterator[Step | ByHand]:
    wanted = baseline.accounts[name]
    account = posture.by_name.get(name)
    if account is None:
        yield from _creation(posture, wanted, subject)
        return
    try:
        yield from role_steps(posture, name, wanted.role, subject)
    except NoWay as reason:
        yield ByHand(subject, str(reason))
    should_be_open = wanted.is_open(posture.machine.now.date())
    blank = account.password is PasswordState.BLANK and wanted.password != "blank" and should_be_open
    if blank:
        opened = "" if account.enabled else f", then verrou account enable {name}"
        yield ByHand(subject, f"verrou account password {name}{opened}")
    elif account.enabled is not should_be_open:
        yield SetEnabled(name, should_be_open, why=subject, effect=Effect.NEXT_SIGN_IN)
    if any("ends" in should for _, should in shortfalls(posture, wanted)):
        yield SetEnd(name, wanted.expires, why=subject)
    if wanted.cannot_change is not None and account.cannot_change is not wanted.cannot_change:
        yield SetFlags(name, cannot_change=wanted.cannot_change, why=subject)
    yield from _ways(posture, account, wanted, subject)


def _ways(posture: Posture, account: Account, wanted: WantedAccount, subject: str) -> Iterator[Step | ByHand]:
    """Leave the groups that open a way that should be shut; what else opens one is for a person."""
    for way in ways_in(account, posture) if wanted.ways_in else ():
        if way in wanted.ways_in:
            continue
        gate = next(gate for gate in posture.gates if gate.way is way)
        opening = [group for group in account.groups if gate.opened_by(group)]
        roles = [g for g in opening if posture.granting.get(g)]
        if opening and not roles:
            yield from (Leave(account.name, group, why=subject) for group in opening)
        else:
            by = f"being in {', '.join(roles)}" if roles else str(gate.source or "the machine lets everybody in so")
            yield ByHand(subject, f"{account.name} gets in by {way} ({by}); shut that way for it by hand")


def _creation(posture: Posture, wanted: WantedAccount, subject: str) -> Iterator[Step | ByHand]:
    if wanted.password == "keep":
        yield ByHand(subject, f'{wanted.name} is to be made, so password = "keep" says nothing; use ask or generate')
        return
    details = posture.machine.details
    try:
        yield from new_account(
            posture,
            wanted.name,
            wanted.role,
            password=wanted.password,
            must_change=False if wanted.role is Role.ADMINISTRATOR else None,
            cannot_change=wanted.cannot_change,
            home_kept=None if wanted.home is None else wanted.home == "kept",
            full_name=wanted.full_name,
            note=wanted.note if Detail.NOTE in details else "",
            shell=wanted.shell if Detail.SHELL in details else "",
            expires=wanted.expires,
            why=subject,
        )
    except NoWay as reason:
        yield ByHand(subject, str(reason))
