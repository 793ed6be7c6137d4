"""What a machine will be after a step, from facts alone: where it cannot be rehearsed, and to say which step of a
worksheet is to blame."""

from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta
from typing import Any, TypeVar, assert_never

from attrs import evolve

from verrou.core.model import (
    Account,
    AccountName,
    Detail,
    Flag,
    Grant,
    Group,
    GroupName,
    Origin,
    PasswordState,
    Posture,
    Reading,
    unreadable,
)
from verrou.core.model.acting import lasting_acts
from verrou.core.model.ageing import left_out
from verrou.core.model.ways import EVERYBODY as EVERYBODY_INSIDE
from verrou.core.model.ways import AccessListEntry, EntryPoint, Principals, Route, allow_only
from verrou.core.plan.roles import ROLE_GRANTS
from verrou.core.plan.steps import (
    CreateAccount,
    CreateGroup,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetGroupNote,
    SetPassword,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    Unlock,
)
from verrou.core.rules import CATALOGUE, agreements, set_together_with
from verrou.core.values import EVERYBODY, GROUP, Value

N = TypeVar("N", bound=str)


def predict(step: Step, posture: Posture) -> Posture:
    """The machine after the step, as far as the facts tell."""
    match step:
        case SetRules():
            return _rules_set(step, posture)
        case CreateAccount():
            return _account_made(step, posture)
        case SetEnabled():
            return _enabled(step, posture)
        case Remove():
            return _removed(step, posture)
        case StopJobs():
            return _changed(posture, step.account, lambda a: evolve(a, acts=lasting_acts(a)))
        case TrySignIn():
            return posture
        case Rename():
            return _renamed(step, posture)
        case Join():
            return _member(posture, step.account, step.group, joins=True)
        case Leave():
            return _member(posture, step.account, step.group, joins=False)
        case SetPassword():
            return _password_given(step, posture)
        case Unlock():
            return _changed(posture, step.account, lambda a: evolve(a, locked_until=None, failed_attempts=0))
        case SetEnd():
            return _changed(posture, step.account, lambda a: evolve(a, until=step.until))
        case SetFlags():
            return _flags_set(step, posture)
        case SetDetails():
            return _described(step, posture)
        case CreateGroup():
            return _group_made(step, posture)
        case RemoveGroup():
            return _group_removed(step, posture)
        case SetGroupNote():
            return _group_noted(step, posture)
        case _:
            assert_never(step)


def _rules_set(step: SetRules, posture: Posture) -> Posture:
    asked = step.values
    readings = dict(posture.readings)
    for rule_id, value in asked.items():
        leader = next((rule for rule in CATALOGUE.values() if rule_id in rule.set_with), None)
        led = posture.readings.get(leader.id) if leader is not None and leader.id not in asked else None
        if rule_id in readings and led is not None and isinstance(led.value, str):
            readings[rule_id] = unreadable(f"it is enforced only if {leader.id if leader else ''} is")
        elif rule_id in readings:
            before, takes = readings[rule_id], posture.takes.get(rule_id)
            settled = CATALOGUE[rule_id].kind.resulting(before.value, value)
            readings[rule_id] = _set_to(settled, before, takes is not None and takes.waits)
    for rule_id in set_together_with(asked) - asked.keys():
        if rule_id in readings and _may_be_pulled(rule_id, asked):
            readings[rule_id] = unreadable("this machine may set it together with the others")
    aged = [(rule_id, value) for rule_id, value in asked.items() if rule_id in AGES]
    accounts, machine = posture.accounts, posture.machine
    if aged and machine.ages_by_account:
        accounts = tuple(_with_ages(account, posture, aged) for account in accounts)
        days = {rule_id: value.days if isinstance(value, timedelta) else None for rule_id, value in aged}
        machine = evolve(machine, ages_given=tuple((dict(machine.ages_given) | days).items()))
    posture = evolve(posture, machine=machine, readings=readings, accounts=accounts)
    ways = {Route(rule_id.split(".")[1]) for rule_id in asked if rule_id.startswith("logon.")}
    return evolve(
        posture,
        entry_points=tuple(_through(gate, posture) if gate.way in ways else gate for gate in posture.entry_points),
    )


def _set_to(value: Value, reading: Reading, waits: bool) -> Reading:
    """A rule that was set: it acts at once, or waits for what brings it into effect."""
    if waits:
        return evolve(reading, pending=None if value == reading.value else value)
    return evolve(reading, value=value, enforced=True, pending=None, overrides=())


def _through(gate: EntryPoint, posture: Posture) -> EntryPoint:
    """A gate as the two lists of its way have it."""
    if gate.unasked:
        return gate
    allowed, denied = (posture.readings.get(f"logon.{gate.way}.{key}") for key in ("allowed", "denied"))
    passes = []
    if denied is not None and isinstance(denied.value, frozenset) and denied.value:
        passes.append(AccessListEntry(False, (_circle(denied.value),), denied.source, settable=True))
    if allowed is not None and isinstance(allowed.value, frozenset) and EVERYBODY not in allowed.value:
        passes.append(allow_only(_circle(allowed.value), allowed.source, settable=True))
    return evolve(gate, passes=tuple(passes), also=())


def _circle(names: frozenset[str]) -> Principals:
    if EVERYBODY in names:
        return EVERYBODY_INSIDE
    groups = sorted(name.removeprefix(GROUP) for name in names if name.startswith(GROUP))
    return Principals(tuple(sorted(name for name in names if not name.startswith(GROUP))), tuple(groups))


def _with_ages(account: Account, posture: Posture, aged: Sequence[tuple[str, Value]]) -> Account:
    """The ages of an account that a person signs in with: those that are stricter already stay, unless the rule is
    loosened."""
    if not is_aged(account, posture):
        return account
    changes: dict[str, Any] = {}
    for rule_id, value in aged:
        if rule_id == "password.min_age" and account.cannot_change:
            continue
        fact = AGES[rule_id]
        kind, reading = CATALOGUE[rule_id].kind, posture.readings.get(rule_id)
        before = reading.value if reading is not None else None
        days = getattr(account, fact)
        has: Value = (
            timedelta(days=min(days or 0, timedelta.max.days)) if days is not None or fact != "max_age" else "never"
        )
        tightening = before is not None and kind.rank(value) > kind.rank(before)
        if not (tightening and kind.rank(has) >= kind.rank(value)):
            changes[fact] = value.days if isinstance(value, timedelta) else None
    return evolve(account, **changes) if changes else account


def _account_made(step: CreateAccount, posture: Posture) -> Posture:
    if step.account in posture.by_name:
        return posture
    state = PasswordState.BLANK if step.password == "blank" else PasswordState.SET
    ages = dict(posture.machine.ages_given)
    if ages and step.cannot_change:
        ages = dict.fromkeys(ages, None) | {"password.warn_before": ages["password.warn_before"]}
    made = Account(
        name=step.account,
        identity=f"new:{step.account}",
        full_name=step.full_name,
        note=step.note,
        password=state,
        password_changed=None if step.must_change and ages else posture.machine.now.date(),
        change_due=step.must_change,
        cannot_change=step.cannot_change,
        until=step.until,
        max_age=ages.get("password.max_age"),
        min_age=ages.get("password.min_age"),
        warn_before=ages.get("password.warn_before"),
        home_kept=step.home_kept,
        home=step.home,
    )
    posture = posture.with_account(made)
    for grant in ROLE_GRANTS[step.role]:
        if group := posture.group_with(grant):
            posture = _member(posture, step.account, group.name, joins=True)
    return posture


def _enabled(step: SetEnabled, posture: Posture) -> Posture:
    def change(account: Account) -> Account:
        blank = account.password is PasswordState.BLANK
        gone = blank and posture.machine.disabling_clears_blank and not step.enabled
        password = PasswordState.NONE if gone else account.password
        return evolve(account, enabled=step.enabled, password=password)

    return _changed(posture, step.account, change)


def _removed(step: Remove, posture: Posture) -> Posture:
    groups = tuple(evolve(g, members=_without(g.members, step.account)) for g in posture.groups)
    left = tuple(account for account in posture.accounts if account.name != step.account)
    return evolve(posture, accounts=left, groups=groups)


def _renamed(step: Rename, posture: Posture) -> Posture:
    renamed = _changed(posture, step.account, lambda account: evolve(account, name=step.new_name))
    groups = tuple(
        evolve(g, members=tuple(step.new_name if m == step.account else m for m in g.members)) for g in renamed.groups
    )

    def called(circle: Principals) -> Principals:
        names = tuple(str(step.new_name) if name == step.account else name for name in circle.accounts)
        return evolve(circle, accounts=names)

    gates = tuple(_with_circles(gate, called) for gate in renamed.entry_points)
    return evolve(renamed, groups=groups, entry_points=gates)


def _with_circles(gate: EntryPoint, change: Callable[[Principals], Principals]) -> EntryPoint:
    """A gate whose lists name others."""

    def changed(passes: tuple[AccessListEntry, ...]) -> tuple[AccessListEntry, ...]:
        return tuple(evolve(each, who=tuple(map(change, each.who))) for each in passes)

    return evolve(gate, passes=changed(gate.passes), also=tuple(map(changed, gate.also)))


def _password_given(step: SetPassword, posture: Posture) -> Posture:
    state = PasswordState.BLANK if step.password == "blank" else PasswordState.SET
    today = posture.machine.now.date()

    def change(account: Account) -> Account:
        due = step.must_change and not left_out(account, posture)
        day = None if due and posture.machine.ages_by_account else today
        return evolve(account, password=state, change_due=due, password_changed=day)

    return _changed(posture, step.account, change)


def _flags_set(step: SetFlags, posture: Posture) -> Posture:
    return _changed(posture, step.account, lambda account: _marked(step, account, posture))


def _marked(step: SetFlags, account: Account, posture: Posture) -> Account:
    flags = step.flags
    if not posture.machine.ages_by_account:
        marks: dict[str, Any] = {flag.value: on for flag, on in flags.items()}
        return evolve(account, **marks)
    # Where each account has ages of its own, a mark is nothing but what these say.
    fresh = dict(posture.machine.ages_given)
    due = flags.get(Flag.CHANGE_DUE)
    if due is not None:
        off = posture.machine.now.date() if account.change_due else account.password_changed
        account = evolve(account, change_due=due, password_changed=None if due else off)
    fixed = flags.get(Flag.CANNOT_CHANGE)
    if fixed is not None:
        account = evolve(account, min_age=None if fixed else fresh["password.min_age"], cannot_change=fixed)
    exempt = flags.get(Flag.AGEING_EXEMPT)
    if exempt is not None:
        account = evolve(account, max_age=None if exempt else fresh["password.max_age"])
    return account


def _described(step: SetDetails, posture: Posture) -> Posture:
    values: dict[str, Any] = {detail.value: text for detail, text in step.details}
    if Detail.RECOVERY_QUESTIONS in values:
        values["recovery_questions"] = ()
    return _changed(posture, step.account, lambda a: evolve(a, **values))


def _group_made(step: CreateGroup, posture: Posture) -> Posture:
    if posture.group(step.group):
        return posture
    grants = (Grant.GUEST_USE,) if step.confined else ()
    made = Group(step.group, f"new:{step.group}", grants=grants, note=step.note)
    posture = evolve(posture, groups=(*posture.groups, made))
    if not step.confined:
        return posture
    out = AccessListEntry(False, (Principals(groups=(step.group,)),))
    gates = tuple(g if g.way is Route.CONSOLE else evolve(g, passes=(out, *g.passes)) for g in posture.entry_points)
    return evolve(posture, entry_points=gates)


def _group_removed(step: RemoveGroup, posture: Posture) -> Posture:
    groups = tuple(group for group in posture.groups if group.name != step.group)
    accounts = tuple(
        evolve(a, groups=_without(a.groups, step.group)) if step.group in a.groups else a for a in posture.accounts
    )

    def without(circle: Principals) -> Principals:
        return evolve(circle, groups=_without(circle.groups, step.group))

    gates = tuple(_with_circles(gate, without) for gate in posture.entry_points)
    return evolve(posture, groups=groups, accounts=accounts, entry_points=gates)


def _group_noted(step: SetGroupNote, posture: Posture) -> Posture:
    groups = tuple(evolve(g, note=step.note) if g.name == step.group else g for g in posture.groups)
    return evolve(posture, groups=groups)


AGES: Mapping[str, str] = {
    "password.max_age": "max_age",
    "password.min_age": "min_age",
    "password.warn_before": "warn_before",
}
"""The rules that a machine may keep with each account, and the fact that holds them there."""


def is_aged(account: Account, posture: Posture) -> bool:
    """Whether the ages of passwords are about the account: one that somebody signs in to with a password."""
    person = account.origin in (Origin.ADDED, Origin.BUILT_IN) and not left_out(account, posture)
    return person and account.password is PasswordState.SET and account.enabled


def _may_be_pulled(rule_id: str, asked: Mapping[str, Value]) -> bool:
    """Whether a machine may change the rule by itself when ``asked`` is set beside it."""
    return any(rule_id in CATALOGUE[each].set_with for each in asked) or any(
        {rule.id, other.id} == {rule_id, each}
        for rule, agreement, other in agreements()
        for each in asked
        if agreement.pulls
    )


def _without(names: tuple[N, ...], name: N) -> tuple[N, ...]:
    return tuple(other for other in names if other != name)


def _changed(posture: Posture, name: str, change: Callable[[Account], Account]) -> Posture:
    return posture.with_accounts(tuple([change(a) if a.name == name else a for a in posture.accounts]))


def _member(posture: Posture, account: AccountName, group: GroupName, *, joins: bool) -> Posture:
    if account not in posture.by_name:
        return posture
    posture = _changed(
        posture,
        account,
        lambda a: evolve(a, groups=_without(a.groups, group) + ((group,) if joins else ())),
    )
    groups = tuple(
        evolve(g, members=_without(g.members, account) + ((account,) if joins else ())) if g.name == group else g
        for g in posture.groups
    )
    return evolve(posture, groups=groups)
