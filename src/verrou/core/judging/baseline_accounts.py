"""Differences between declared accounts and groups and those of a machine, and what closes each gap."""

from collections.abc import Iterator
from functools import reduce

from verrou.core import advice
from verrou.core.baselines.baseline import WantedAccount, WantedGroup
from verrou.core.model import Account, AccountName, Detail, Effect, PasswordState, Role, Snapshot, joined
from verrou.core.model.access import doubts, known_role, role_of, routes_of, routes_unknown, signed_in_automatically
from verrou.core.model.known import Known
from verrou.core.model.routes import Route
from verrou.core.prediction.account_creation import NoWay, new_account, role_steps
from verrou.core.prediction.predict import predict
from verrou.core.rules import setting
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.steps.step import CreateGroup, Join, Leave, SetEnabled, SetEnd, SetFlags, SetRules, Step


def group_gaps(snapshot: Snapshot, required: WantedGroup, coming: frozenset[AccountName]) -> Iterator[Gap]:
    """Yield the gaps of a declared group. ``coming`` are accounts that the baseline creates."""
    name, group = required.name, snapshot.group_called(required.name)
    if group is None:
        if name.isdigit():
            advice = f"there is no group with ID {name}, and an ID cannot be chosen. Name the group"
            yield Gap(name, Fact.THERE, False, True, manual=advice)
            return
        note = required.note if Detail.GROUP_NOTE in snapshot.machine.details else ""
        yield Gap(name, Fact.THERE, False, True, (CreateGroup(name, note),))
    for member in required.members:
        if group is not None and member in group.members:
            continue
        if member in snapshot.by_name or member in coming:
            yield Gap(name, Fact.MEMBERS, None, member, (Join(member, group.name if group else name),))
        else:
            advice = f"there is no account {member} that could join {name}"
            yield Gap(name, Fact.MEMBERS, None, member, manual=advice)
    for member in group.members if group is not None and required.only is not None else ():
        if member not in (*(required.only or ()), *required.members):
            yield Gap(name, Fact.MEMBERS, member, None, (Leave(member, group.name if group else name),))


def account_gaps(snapshot: Snapshot, required: WantedAccount) -> Iterator[Gap]:
    """Yield the gaps of a declared account; one gap for the whole account where it is missing."""
    name = required.name
    account = snapshot.by_name.get(name)
    if account is None:
        if required.enabled:
            yield _creation(snapshot, required)
        return
    role, coming = role_of(account, snapshot), snapshot
    if role is not required.role:
        try:
            steps = tuple(role_steps(snapshot, name, required.role))
            yield Gap(name, Fact.ROLE, role, required.role, steps)
            coming = reduce(lambda before, step: predict(step, before), steps, snapshot)
        except NoWay as reason:
            yield Gap(name, Fact.ROLE, role, required.role, manual=str(reason))
    should_be_open = required.is_open(snapshot.machine.now.date())
    blank = account.password is PasswordState.BLANK and required.password != "blank"
    if blank and (should_be_open or account.enabled):
        opened = "" if account.enabled or not should_be_open else f", then {advice.enable(name)}"
        manual = f"{advice.set_password(name)}{opened}" if should_be_open else ""
        yield Gap(name, Fact.PASSWORD, PasswordState.BLANK, PasswordState.SET, manual=manual)
    if account.enabled is not should_be_open:
        # No step enables an account with a blank password: set another password first.
        steps = () if blank and should_be_open else (SetEnabled(name, should_be_open, effect=Effect.NEXT_SIGN_IN),)
        yield Gap(name, Fact.ENABLED, account.enabled, should_be_open, steps)
    if required.until is not None and (account.until is None or account.until > required.until):
        yield Gap(name, Fact.UNTIL, account.until, required.until, (SetEnd(name, required.until),))
    if required.cannot_change is not None and account.cannot_change is not required.cannot_change:
        step = SetFlags(name, cannot_change=required.cannot_change)
        yield Gap(name, Fact.FIXED, account.cannot_change, required.cannot_change, (step,))
    if required.routes:
        yield from _routes(snapshot, coming, account, required)
    gets_in = routes_of(account, snapshot) or routes_unknown(account, snapshot)
    if should_be_open and account.enabled and snapshot.entry_points and not gets_in and not blank:
        manual = f"to see what denies it: {advice.why(name, Route.CONSOLE)}"
        yield Gap(name, Fact.ROUTES, (), required.routes, manual=manual)


def account_doubts(snapshot: Snapshot, required: WantedAccount) -> Iterator[str]:
    """Yield what is not known of a declared account, so that it cannot be called as required."""
    account = snapshot.by_name.get(required.name)
    if account is None:
        return
    if known_role(account, snapshot) is Known.UNKNOWN:
        reading = snapshot.readings.get("elevation.standard")
        why = f" ({reading.reason})" if reading is not None and reading.reason else ""
        yield f"whether {account.name} has administrator rights could not be read{why}"
    if account.password is PasswordState.UNKNOWN:
        yield f"the password of {account.name} could not be read"
    for route in routes_unknown(account, snapshot):
        if (required.routes and route not in required.routes) or not routes_of(account, snapshot):
            yield f"whether it can sign in {route.phrase} is not known: {joined(doubts(account, route, snapshot))}"


def _routes(today: Snapshot, snapshot: Snapshot, account: Account, required: WantedAccount) -> Iterator[Gap]:
    """Yield the gaps of an account's routes.

    Groups that only open a denied route are left; any other route denies the account by name, where the machine has
    such a list. Automatic sign-in belongs to another rule. ``snapshot`` is the machine once the account has its role,
    which may close routes by itself."""
    open_routes = routes_of(account, today)
    further = [route for route in open_routes if route not in required.routes]
    account = snapshot.by_name[account.name]
    steps: list[Step] = []
    advice = []
    for route in (route for route in routes_of(account, snapshot) if route not in required.routes):
        entry_points = [entry_point for entry_point in snapshot.entry_points if entry_point.route is route]
        by_itself = next(
            (entry_point for entry_point in entry_points if signed_in_automatically(account, entry_point, snapshot)),
            None,
        )
        if by_itself is not None:
            advice.append(
                f"{account.name} is signed in automatically {route.phrase} ({by_itself.source}). "
                "Set screen.automatic_signin"
            )
            continue
        opening = [group for group in account.groups if entry_points[0].opened_by(group)]
        if opening and not any(snapshot.granting.get(group) for group in opening):
            steps += [Leave(account.name, group) for group in opening]
        elif (denial := _denial(snapshot, account, route)) is not None:
            steps.append(denial)
        else:
            by = entry_points[0].source or "the machine allows everyone to sign in"
            advice.append(f"{account.name} can sign in {route.phrase} ({by}); deny it that route manually")
    if further:
        yield Gap(account.name, Fact.ROUTES, open_routes, required.routes, tuple(steps), "; ".join(advice))


def _denial(snapshot: Snapshot, account: Account, route: Route) -> SetRules | None:
    """Return the setting that adds the account to a route's denied list; None where the machine has no such list."""
    rule_id = f"logon.{route}.denied"
    reading, accepted_values = snapshot.readings.get(rule_id), snapshot.accepted_values.get(rule_id)
    if reading is None or not isinstance(reading.value, frozenset) or accepted_values is None or accepted_values.cannot:
        return None
    return SetRules((setting(rule_id, reading.value | {str(account.name)}),))


def _creation(snapshot: Snapshot, required: WantedAccount) -> Gap:
    def gap(steps: tuple[Step, ...] = (), manual: str = "") -> Gap:
        return Gap(required.name, Fact.THERE, None, required.role, steps, manual)

    if required.password == "keep":
        return gap(
            manual=f'{required.name} has to be created, so password = "keep" has no meaning; use "ask" or "generate"'
        )
    details = snapshot.machine.details
    try:
        steps = new_account(
            snapshot,
            required.name,
            required.role,
            password=required.password,
            must_change=False if required.role is Role.ADMINISTRATOR else None,
            cannot_change=required.cannot_change,
            home_kept=None if required.home is None else required.home == "permanent",
            full_name=required.full_name,
            note=required.note if Detail.NOTE in details else "",
            shell=required.shell if Detail.SHELL in details else "",
            until=required.until,
        )
    except NoWay as reason:
        return gap(manual=str(reason))
    return gap(tuple(steps))
