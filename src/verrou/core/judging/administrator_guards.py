"""Guards that keep an administrator usable: tested, lasting, with a password, and admitted."""

from collections.abc import Iterator, Sequence
from datetime import date, timedelta

from verrou.core import advice
from verrou.core.judging.review import Candidate, Refusal, StepEffect, which
from verrou.core.model import (
    Account,
    AccountName,
    Builtin,
    PasswordState,
    Role,
    Snapshot,
    joined,
)
from verrou.core.model.access import (
    administers,
    possible_administrators,
    role_of,
    usable_administrator,
    usable_administrators,
)
from verrou.core.model.ageing import usable_until
from verrou.core.model.routes import Route
from verrou.core.steps.step import (
    Rename,
    SetPassword,
    TrySignIn,
    account_of,
)


def last_administrator(candidate: Candidate) -> Iterator[Refusal]:
    if not candidate.usable_after:
        if not candidate.usable_before and not candidate.taken_away:
            return  # nothing is removed; a warning of the plan reports the state
        cause = next((effect for effect in candidate.done if effect.usable_before and not effect.usable_after), None)
        yield Refusal(
            "last-administrator",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would leave no administrator who can sign in{_unsure(candidate)}",
            f"create another administrator first; {advice.swap()} does both",
        )
    elif candidate.gap:
        yield Refusal(
            "last-administrator",
            0,
            f"for a moment while changes are applied ({candidate.gap}), no administrator could sign in",
            "Create the new administrator in a separate run first",
        )


def _unsure(candidate: Candidate) -> str:
    """Return the administrators who may remain but are not known to."""
    unsure = [account.name for account in possible_administrators(candidate.after)]
    return f" known; {joined(unsure)} may be one" if unsure else ""


def nobody_left(mend: str) -> Refusal:
    """Return the refusal where no administrator is usable before or after, and one could be."""
    return Refusal("last-administrator", 0, "no administrator could sign in afterwards, and none can now", mend)


LOOK_AHEAD = timedelta(days=90)
"""How far ahead an administrator must last."""


def lasting_administrator(candidate: Candidate) -> Iterator[Refusal]:
    if not candidate.usable_after or why_not_lasting(candidate.before, candidate.usable_before):
        return
    if why := why_not_lasting(candidate.after, candidate.usable_after):
        ending = (s for s in candidate.done if why_not_lasting(s.after, usable_administrators(s.after)))
        cause = next(ending, None)
        yield Refusal(
            "expiring-administrator",
            cause.number if cause else 0,
            why,
            "Keep another administrator without an expiry date, or use --override expiring-administrator",
        )


def why_not_lasting(snapshot: Snapshot, usable: Sequence[Account]) -> str:
    """Return why no administrator will be usable within :data:`LOOK_AHEAD` days; empty where one will be.

    Reasons are expiry days, ages and days of grace set today, and a lock that only an administrator can lift.
    ``usable`` are the administrators of today."""
    if not usable:
        return "there is no administrator who can sign in now"
    last_day = snapshot.machine.now.date() + LOOK_AHEAD
    lasting = [account for account in usable if usable_administrator(account, snapshot, last_day)]
    names = ", ".join(account.name for account in usable)
    if not lasting:
        ends = [day for account in usable if (day := _last_day(account, snapshot)) is not None]
        when = f" ({max(ends)})" if ends else ""
        return f"no administrator would be left once {names} has expired{when}, within {LOOK_AHEAD.days} days"
    if _locks_for_good(snapshot) and all(_can_lock(account, snapshot) for account in usable):
        return f"failed attempts could lock {names}, and then no administrator would be left to unlock them"
    return ""


def _last_day(account: Account, snapshot: Snapshot) -> date | None:
    """Return when an account, or the lines that make it an administrator, expire."""
    days = [day for day in (usable_until(account, snapshot), account.elevates_until) if day is not None]
    return min(days, default=None)


def _locks_for_good(snapshot: Snapshot) -> bool:
    readings = [snapshot.readings.get(rule_id) for rule_id in ("lockout.after", "lockout.lasts")]
    after, lasts = readings
    if after is None or lasts is None or not (after.enforced and lasts.enforced):
        return False
    return isinstance(after.value, int) and lasts.value == "until-unlocked"


def _can_lock(account: Account, snapshot: Snapshot) -> bool:
    exempts = snapshot.readings.get("lockout.exempts")
    return account.builtin is not Builtin.ADMIN or (exempts is not None and exempts.value != "built-in")


UNTRIED = "untested-administrator"


def untried_administrator(candidate: Candidate) -> Iterator[Refusal]:
    if candidate.going_back:
        return  # to someone who was an administrator before: no one new takes over
    before = {account.identity for account in candidate.usable_before}
    after = candidate.usable_after
    lost = before - {account.identity for account in after}
    if not lost or not after or tried_names(candidate) & {account.name for account in after}:
        return
    cause = next((effect for effect in candidate.done if effect.lost), None)
    names = ", ".join(account.name for account in after)
    text = [f"the test sign-in of {name} failed ({message})" for name, message in candidate.failed_trials.items()]
    failed = ", ".join(text) or "that sign-in has not been tested"
    yield Refusal(
        UNTRIED,
        cause.number if cause else 0,
        f"{cause.step.what if cause else 'it'} would leave only {names}, and {failed}",
        f"test it in the same run: {advice.swap(after[0].name)}",
    )


def tried_names(candidate: Candidate) -> set[str]:
    """Return who was tested since the password was set, or is at work here now, by name after the plan."""
    tried = {candidate.before.machine.in_use, *candidate.tried_before} - {""}
    for effect in candidate.done:
        name = account_of(effect.step)
        if isinstance(effect.step, TrySignIn) and effect.step.role is Role.ADMINISTRATOR:
            tried.add(effect.step.account)
        elif isinstance(effect.step, SetPassword) and name is not None:
            tried.discard(name)
        elif isinstance(effect.step, Rename) and name in tried:
            tried = (tried - {effect.step.account}) | {effect.step.new_name}
    return tried


def untried(candidate: Sequence[StepEffect]) -> Iterator[StepEffect]:
    """Yield the step effects that remove an administrator while none of those left has been tested before."""
    tried: set[str] = set()
    for effect in candidate:
        if (own := effect.before.by_name.get(AccountName(effect.before.machine.in_use))) is not None:
            tried.add(own.identity)
        account = effect.before.by_name.get(account_of(effect.step) or AccountName(""))
        if account is not None and isinstance(effect.step, TrySignIn) and effect.step.role is Role.ADMINISTRATOR:
            tried.add(account.identity)
        elif account is not None and isinstance(effect.step, SetPassword):
            tried.discard(account.identity)
        if effect.lost and effect.usable_after and not effect.usable_after & tried:
            yield effect


def blank_administrator(candidate: Candidate) -> Iterator[Refusal]:
    known = {which(account, candidate.before) for account in _blank_administrators(candidate.before)}
    fresh = [a.name for a in _blank_administrators(candidate.after) if which(a, candidate.after) not in known]
    if fresh:
        cause = next((s for s in candidate.done if {a.name for a in _blank_administrators(s.after)} & set(fresh)), None)
        yield Refusal(
            "blank-administrator",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would let anyone elevate as {joined(fresh)} without a password",
            f"set a password first ({advice.set_password(fresh[0])}), or override this guard: "
            "--override blank-administrator",
        )


def _blank_administrators(snapshot: Snapshot) -> list[Account]:
    return [
        account
        for account in snapshot.accounts
        if account.password is PasswordState.BLANK and account.enabled and administers(account, snapshot)
    ]


ADMIN = Role.ADMINISTRATOR


def administrators_denied(candidate: Candidate) -> Iterator[Refusal]:
    """Check the console always, and another route where an administrator is signed in or came by it."""
    if not any(account.enabled and role_of(account, candidate.after) is ADMIN for account in candidate.after.accounts):
        return  # no list is to blame for that
    was, now = (_administrators_by_route(snapshot) for snapshot in (candidate.before, candidate.after))
    for route, names in was.items():
        if not names or now.get(route) or (route is not Route.CONSOLE and not _inside_by(candidate.before, route)):
            continue
        cause = next((s for s in candidate.done if not _administrators_by_route(s.after).get(route)), None)
        yield Refusal(
            "administrators-denied",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would deny every administrator sign-in {route.phrase}: "
            f"{joined(sorted(names))}",
            "keep one of them: deny a group that does not contain them all, or allow one by name",
        )


def _administrators_by_route(snapshot: Snapshot) -> dict[Route, set[str]]:
    """Return the enabled administrators that no list denies, by route."""
    found: dict[Route, set[str]] = {entry_point.route: set() for entry_point in snapshot.entry_points}
    for account in snapshot.accounts:
        if account.enabled and role_of(account, snapshot) is Role.ADMINISTRATOR:
            for entry_point in snapshot.entry_points:
                if not entry_point.automatic and entry_point.admits(account):
                    found[entry_point.route].add(account.name)
    return found


def _inside_by(snapshot: Snapshot, route: Route) -> bool:
    """Return whether an administrator is signed in by that route now, or the person at work came by it."""
    inside = (account for account in snapshot.accounts if role_of(account, snapshot) is Role.ADMINISTRATOR)
    return snapshot.machine.came_by == route or any(route in account.inside_by for account in inside)
