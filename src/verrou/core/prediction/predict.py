"""Predict the machine after a step from facts alone.

Used where no dry run is possible, and to find the step that breaks a guard."""

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
    Reading,
    Snapshot,
    unreadable,
)
from verrou.core.model.ageing import exempt_from_ageing
from verrou.core.model.background_jobs import lasting_acts
from verrou.core.model.roles import ROLE_GRANTS
from verrou.core.model.routes import EVERYONE as EVERYBODY_INSIDE
from verrou.core.model.routes import AccessListEntry, EntryPoint, Principals, Route, allow_only
from verrou.core.rules import CATALOGUE, agreements, set_together_with
from verrou.core.steps.step import (
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
from verrou.core.values import EVERYONE, GROUP, Value

N = TypeVar("N", bound=str)


def predict(step: Step, snapshot: Snapshot) -> Snapshot:
    """Return the machine after the step, as far as the facts tell."""
    match step:
        case SetRules():
            return _rules_set(step, snapshot)
        case CreateAccount():
            return _account_made(step, snapshot)
        case SetEnabled():
            return _enabled(step, snapshot)
        case Remove():
            return _removed(step, snapshot)
        case StopJobs():
            return _changed(snapshot, step.account, lambda a: evolve(a, acts=lasting_acts(a)))
        case TrySignIn():
            return snapshot
        case Rename():
            return _renamed(step, snapshot)
        case Join():
            return _member(snapshot, step.account, step.group, joins=True)
        case Leave():
            return _member(snapshot, step.account, step.group, joins=False)
        case SetPassword():
            return _password_given(step, snapshot)
        case Unlock():
            return _changed(snapshot, step.account, lambda a: evolve(a, locked_until=None, failed_attempts=0))
        case SetEnd():
            return _changed(snapshot, step.account, lambda a: evolve(a, until=step.until))
        case SetFlags():
            return _flags_set(step, snapshot)
        case SetDetails():
            return _described(step, snapshot)
        case CreateGroup():
            return _group_made(step, snapshot)
        case RemoveGroup():
            return _group_removed(step, snapshot)
        case SetGroupNote():
            return _group_noted(step, snapshot)
        case _:
            assert_never(step)


def _rules_set(step: SetRules, snapshot: Snapshot) -> Snapshot:
    asked = step.values
    readings = dict(snapshot.readings)
    for rule_id, value in asked.items():
        leader = next((rule for rule in CATALOGUE.values() if rule_id in rule.set_with), None)
        led = snapshot.readings.get(leader.id) if leader is not None and leader.id not in asked else None
        if rule_id in readings and led is not None and isinstance(led.value, str):
            readings[rule_id] = unreadable(f"it is enforced only if {leader.id if leader else ''} is")
        elif rule_id in readings:
            before, accepted_values = readings[rule_id], snapshot.accepted_values.get(rule_id)
            settled = CATALOGUE[rule_id].kind.resulting(before.value, value)
            readings[rule_id] = _set_to(settled, before, accepted_values is not None and accepted_values.waits)
    for rule_id in set_together_with(asked) - asked.keys():
        if rule_id in readings and _may_be_pulled(rule_id, asked):
            readings[rule_id] = unreadable("this machine may set it together with the others")
    aged = [(rule_id, value) for rule_id, value in asked.items() if rule_id in AGES]
    accounts, machine = snapshot.accounts, snapshot.machine
    if aged and machine.ages_by_account:
        accounts = tuple(_with_ages(account, snapshot, aged) for account in accounts)
        days = {rule_id: value.days if isinstance(value, timedelta) else None for rule_id, value in aged}
        machine = evolve(machine, ages_given=tuple((dict(machine.ages_given) | days).items()))
    snapshot = evolve(snapshot, machine=machine, readings=readings, accounts=accounts)
    routes = {Route(rule_id.split(".")[1]) for rule_id in asked if rule_id.startswith("logon.")}
    return evolve(
        snapshot,
        entry_points=tuple(
            _through(entry_point, snapshot) if entry_point.route in routes else entry_point
            for entry_point in snapshot.entry_points
        ),
    )


def _set_to(value: Value, reading: Reading, waits: bool) -> Reading:
    """Return the reading of a rule that was set, effective at once or later."""
    if waits:
        return evolve(reading, pending=None if value == reading.value else value)
    return evolve(reading, value=value, enforced=True, pending=None, overrides=())


def _through(entry_point: EntryPoint, snapshot: Snapshot) -> EntryPoint:
    """Return an entry point with the two lists of its route."""
    if entry_point.automatic:
        return entry_point
    allowed, denied = (snapshot.readings.get(f"logon.{entry_point.route}.{key}") for key in ("allowed", "denied"))
    entries = []
    if denied is not None and isinstance(denied.value, frozenset) and denied.value:
        entries.append(AccessListEntry(False, (_principals(denied.value),), denied.source, settable=True))
    if allowed is not None and isinstance(allowed.value, frozenset) and EVERYONE not in allowed.value:
        entries.append(allow_only(_principals(allowed.value), allowed.source, settable=True))
    return evolve(entry_point, entries=tuple(entries), also=())


def _principals(names: frozenset[str]) -> Principals:
    if EVERYONE in names:
        return EVERYBODY_INSIDE
    groups = sorted(name.removeprefix(GROUP) for name in names if name.startswith(GROUP))
    return Principals(tuple(sorted(name for name in names if not name.startswith(GROUP))), tuple(groups))


def _with_ages(account: Account, snapshot: Snapshot, aged: Sequence[tuple[str, Value]]) -> Account:
    """Return the ages of an account that a person signs in with; stricter ones stay, unless the rule is loosened."""
    if not is_aged(account, snapshot):
        return account
    changes: dict[str, Any] = {}
    for rule_id, value in aged:
        if rule_id == "password.min_age" and account.cannot_change:
            continue
        fact = AGES[rule_id]
        kind, reading = CATALOGUE[rule_id].kind, snapshot.readings.get(rule_id)
        before = reading.value if reading is not None else None
        days = getattr(account, fact)
        has: Value = (
            timedelta(days=min(days or 0, timedelta.max.days)) if days is not None or fact != "max_age" else "never"
        )
        tightening = before is not None and kind.rank(value) > kind.rank(before)
        if not (tightening and kind.rank(has) >= kind.rank(value)):
            changes[fact] = value.days if isinstance(value, timedelta) else None
    return evolve(account, **changes) if changes else account


def _account_made(step: CreateAccount, snapshot: Snapshot) -> Snapshot:
    if step.account in snapshot.by_name:
        return snapshot
    state = PasswordState.BLANK if step.password == "blank" else PasswordState.SET
    ages = dict(snapshot.machine.ages_given)
    if ages and step.cannot_change:
        ages = dict.fromkeys(ages, None) | {"password.warn_before": ages["password.warn_before"]}
    made = Account(
        name=step.account,
        identity=f"new:{step.account}",
        full_name=step.full_name,
        note=step.note,
        password=state,
        password_changed=None if step.must_change and ages else snapshot.machine.now.date(),
        change_due=step.must_change,
        cannot_change=step.cannot_change,
        until=step.until,
        max_age=ages.get("password.max_age"),
        min_age=ages.get("password.min_age"),
        warn_before=ages.get("password.warn_before"),
        home_kept=step.home_kept,
        home=step.home,
    )
    snapshot = snapshot.with_account(made)
    for grant in ROLE_GRANTS[step.role]:
        if group := snapshot.group_with(grant):
            snapshot = _member(snapshot, step.account, group.name, joins=True)
    return snapshot


def _enabled(step: SetEnabled, snapshot: Snapshot) -> Snapshot:
    def change(account: Account) -> Account:
        blank = account.password is PasswordState.BLANK
        gone = blank and snapshot.machine.disabling_clears_blank and not step.enabled
        password = PasswordState.NONE if gone else account.password
        return evolve(account, enabled=step.enabled, password=password)

    return _changed(snapshot, step.account, change)


def _removed(step: Remove, snapshot: Snapshot) -> Snapshot:
    groups = tuple(evolve(g, members=_without(g.members, step.account)) for g in snapshot.groups)
    left = tuple(account for account in snapshot.accounts if account.name != step.account)
    return evolve(snapshot, accounts=left, groups=groups)


def _renamed(step: Rename, snapshot: Snapshot) -> Snapshot:
    renamed = _changed(snapshot, step.account, lambda account: evolve(account, name=step.new_name))
    groups = tuple(
        evolve(g, members=tuple(step.new_name if m == step.account else m for m in g.members)) for g in renamed.groups
    )

    def called(principals: Principals) -> Principals:
        names = tuple(str(step.new_name) if name == step.account else name for name in principals.accounts)
        return evolve(principals, accounts=names)

    entry_points = tuple(_with_principals(entry_point, called) for entry_point in renamed.entry_points)
    return evolve(renamed, groups=groups, entry_points=entry_points)


def _with_principals(entry_point: EntryPoint, change: Callable[[Principals], Principals]) -> EntryPoint:
    """Return an entry point whose lists name other principals."""

    def changed(entries: tuple[AccessListEntry, ...]) -> tuple[AccessListEntry, ...]:
        return tuple(evolve(each, who=tuple(map(change, each.who))) for each in entries)

    return evolve(entry_point, entries=changed(entry_point.entries), also=tuple(map(changed, entry_point.also)))


def _password_given(step: SetPassword, snapshot: Snapshot) -> Snapshot:
    state = PasswordState.BLANK if step.password == "blank" else PasswordState.SET
    today = snapshot.machine.now.date()

    def change(account: Account) -> Account:
        due = step.must_change and not exempt_from_ageing(account, snapshot)
        day = None if due and snapshot.machine.ages_by_account else today
        return evolve(account, password=state, change_due=due, password_changed=day)

    return _changed(snapshot, step.account, change)


def _flags_set(step: SetFlags, snapshot: Snapshot) -> Snapshot:
    return _changed(snapshot, step.account, lambda account: _marked(step, account, snapshot))


def _marked(step: SetFlags, account: Account, snapshot: Snapshot) -> Account:
    flags = step.flags
    if not snapshot.machine.ages_by_account:
        marks: dict[str, Any] = {flag.value: on for flag, on in flags.items()}
        return evolve(account, **marks)
    # Where each account has ages of its own, a mark is nothing but what these say.
    fresh = dict(snapshot.machine.ages_given)
    due = flags.get(Flag.CHANGE_DUE)
    if due is not None:
        off = snapshot.machine.now.date() if account.change_due else account.password_changed
        account = evolve(account, change_due=due, password_changed=None if due else off)
    fixed = flags.get(Flag.CANNOT_CHANGE)
    if fixed is not None:
        account = evolve(account, min_age=None if fixed else fresh["password.min_age"], cannot_change=fixed)
    exempt = flags.get(Flag.AGEING_EXEMPT)
    if exempt is not None:
        account = evolve(account, max_age=None if exempt else fresh["password.max_age"])
    return account


def _described(step: SetDetails, snapshot: Snapshot) -> Snapshot:
    values: dict[str, Any] = {detail.value: text for detail, text in step.details}
    if Detail.RECOVERY_QUESTIONS in values:
        values["recovery_questions"] = ()
    return _changed(snapshot, step.account, lambda a: evolve(a, **values))


def _group_made(step: CreateGroup, snapshot: Snapshot) -> Snapshot:
    if snapshot.group(step.group):
        return snapshot
    grants = (Grant.GUEST_USE,) if step.confined else ()
    made = Group(step.group, f"new:{step.group}", grants=grants, note=step.note)
    snapshot = evolve(snapshot, groups=(*snapshot.groups, made))
    if not step.confined:
        return snapshot
    out = AccessListEntry(False, (Principals(groups=(step.group,)),))
    entry_points = tuple(
        g if g.route is Route.CONSOLE else evolve(g, entries=(out, *g.entries)) for g in snapshot.entry_points
    )
    return evolve(snapshot, entry_points=entry_points)


def _group_removed(step: RemoveGroup, snapshot: Snapshot) -> Snapshot:
    groups = tuple(group for group in snapshot.groups if group.name != step.group)
    accounts = tuple(
        evolve(a, groups=_without(a.groups, step.group)) if step.group in a.groups else a for a in snapshot.accounts
    )

    def without(principals: Principals) -> Principals:
        return evolve(principals, groups=_without(principals.groups, step.group))

    entry_points = tuple(_with_principals(entry_point, without) for entry_point in snapshot.entry_points)
    return evolve(snapshot, groups=groups, accounts=accounts, entry_points=entry_points)


def _group_noted(step: SetGroupNote, snapshot: Snapshot) -> Snapshot:
    groups = tuple(evolve(g, note=step.note) if g.name == step.group else g for g in snapshot.groups)
    return evolve(snapshot, groups=groups)


AGES: Mapping[str, str] = {
    "password.max_age": "max_age",
    "password.min_age": "min_age",
    "password.warn_before": "warn_before",
}
"""Rules that a machine may store with each account, by the fact that stores them."""


def is_aged(account: Account, snapshot: Snapshot) -> bool:
    """Return whether password ageing applies to the account: one that a person signs in to with a password."""
    person = account.origin in (Origin.ADDED, Origin.BUILT_IN) and not exempt_from_ageing(account, snapshot)
    return person and account.password is PasswordState.SET and account.enabled


def _may_be_pulled(rule_id: str, asked: Mapping[str, Value]) -> bool:
    """Return whether a machine may change the rule by itself when ``asked`` is set with it."""
    return any(rule_id in CATALOGUE[each].set_with for each in asked) or any(
        {rule.id, other.id} == {rule_id, each}
        for rule, agreement, other in agreements()
        for each in asked
        if agreement.pulls
    )


def _without(names: tuple[N, ...], name: N) -> tuple[N, ...]:
    return tuple(other for other in names if other != name)


def _changed(snapshot: Snapshot, name: str, change: Callable[[Account], Account]) -> Snapshot:
    return snapshot.with_accounts(tuple([change(a) if a.name == name else a for a in snapshot.accounts]))


def _member(snapshot: Snapshot, account: AccountName, group: GroupName, *, joins: bool) -> Snapshot:
    if account not in snapshot.by_name:
        return snapshot
    snapshot = _changed(
        snapshot,
        account,
        lambda a: evolve(a, groups=_without(a.groups, group) + ((group,) if joins else ())),
    )
    groups = tuple(
        evolve(g, members=_without(g.members, account) + ((account,) if joins else ())) if g.name == group else g
        for g in snapshot.groups
    )
    return evolve(snapshot, groups=groups)
