"""Guards: promises about the machine after a plan, judged on the copy.

The predicted effect of each step tells which step breaks a promise."""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence

from attrs import evolve, frozen

from verrou.core import advice
from verrou.core.errors import GuardRefused
from verrou.core.judging.administrator_guards import (
    LOOK_AHEAD,
    UNTRIED,
    administrators_denied,
    blank_administrator,
    last_administrator,
    lasting_administrator,
    untried,
    untried_administrator,
)
from verrou.core.judging.conflicts import contradiction
from verrou.core.judging.review import Candidate, Refusal, StepEffect, candidate_of, effects
from verrou.core.model import (
    Account,
    AccountName,
    PasswordState,
    Role,
    Snapshot,
    counted,
    joined,
    name_list,
)
from verrou.core.model.access import (
    doubts,
    opens_without_proof,
    possible_administrators,
    role_of,
    usable_administrators,
)
from verrou.core.model.known import Known, any_of
from verrou.core.model.routes import Route
from verrou.core.rules import set_together_with
from verrou.core.steps.step import (
    GIVES_PASSWORD,
    FilesChoice,
    GroupStep,
    Membership,
    Remove,
    SetEnabled,
    SetRules,
    Step,
    TrySignIn,
    account_of,
    takes_access,
)

MOST_FILES = 10
"""Most files named in a refusal; the plan counts all of them."""


@frozen(repr=False)
class Guard:
    """One guard.

    ``sentence`` is the promise; ``check`` yields what breaks it. Some can be overridden by name; ``may_going_back`` are
    those that an undo can override, too, since it restores an earlier state."""

    name: str
    sentence: str
    check: Callable[[Candidate], Iterator[Refusal]]
    may_be_accepted: bool = False
    may_going_back: bool = False


OWN_ACCOUNT = "own-account"
OVERRIDING_OWN = f"--override {OWN_ACCOUNT}"
ARRIVES_WITHIN = 60
"""Seconds within which a new connection has to succeed, where a second sign-in could not be tried beforehand."""


def _own_account(candidate: Candidate) -> Iterator[Refusal]:
    found = list(_own_account_kept(candidate))
    arrival = candidate.arrival
    if not found and arrival is not None and arrival.succeeded is Known.NO:
        what = f"a second sign-in as {arrival.account}, tried on the private copy, failed: {arrival.message}"
        found = [Refusal(OWN_ACCOUNT, 0, what, f"do it at the console, or override this guard: {OVERRIDING_OWN}")]
    yield from found


def _own_account_kept(candidate: Candidate) -> Iterator[Refusal]:
    own = candidate.before.machine.in_use
    was = candidate.before.by_name.get(AccountName(own)) if own else None
    if was is None:
        return
    actual = next((a for a in candidate.after.by_identity.get(was.identity, ()) if a.builtin is was.builtin), None)
    role = role_of(was, candidate.before)
    if (
        actual is None
        or (was.enabled and not actual.enabled)
        or (role is Role.ADMINISTRATOR and role_of(actual, candidate.after) is not role)
    ):
        cause = next((effect for effect in candidate.done if account_of(effect.step) == own), None)
        yield Refusal(
            OWN_ACCOUNT,
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would disable, demote or remove {own}, the account you are using",
            f"use another account, or override this guard: {OVERRIDING_OWN}",
        )
        return
    route = candidate.before.machine.came_by
    before = _comes_through(was, route, candidate.before)
    if _rank(_comes_through(actual, route, candidate.after)) < _rank(before):
        cause = next((s for s in candidate.done if _rank(_comes_through(was, route, s.after)) < _rank(before)), None)
        phrase = f"{Route(route).phrase}, the route in use"
        yield Refusal(
            OWN_ACCOUNT,
            cause.number if cause else 0,
            f"{cause.step.what} would deny {own} sign-in {phrase}"
            if cause
            else f"{own} could not sign in any more {phrase}, once the machine reads its settings again",
            f"do it at the console, or override this guard: {OVERRIDING_OWN}",
        )


def _comes_through(account: Account, route: str, snapshot: Snapshot) -> Known:
    """Return whether a route admits an account, whatever credential it has."""
    entry_points = [
        entry_point for entry_point in snapshot.entry_points if entry_point.route == route and not entry_point.automatic
    ]
    decided = [(entry_point, entry_point.admissions.get(account.name)) for entry_point in entry_points]
    return any_of(
        Known.of(entry_point.admits(account)) if found is None else any_of((found.password, found.key, found.name))
        for entry_point, found in decided
    )


def _rank(answer: Known) -> int:
    """Return the order of an answer: not known is less than a yes and more than a no."""
    return (Known.NO, Known.UNKNOWN, Known.YES).index(answer)


def _open_guest(candidate: Candidate) -> Iterator[Refusal]:
    was = _remotely_blank(candidate.before.accounts, candidate.before)
    now = _remotely_blank(candidate.after.accounts, candidate.after)
    fresh = {name: routes for name, routes in now.items() if name not in was}
    if not fresh:
        return
    cause = next((effect for effect in candidate.done if _opens(effect, fresh)), None)
    by = ", ".join(sorted({route for routes in fresh.values() for route in routes}))
    yield Refusal(
        "remote-blank-password",
        cause.number if cause else 0,
        f"{cause.step.what if cause else 'it'} would let {', '.join(sorted(fresh))} sign in remotely ({by}) with a "
        "blank password",
        "to undo anyway: --override remote-blank-password"
        if candidate.going_back
        else "set a password, or set password.blank_accepted=console first",
    )


def _opens(effect: StepEffect, names: Collection[str]) -> bool:
    was, now = (
        {account.name for account in snapshot.accounts if account.name in names}
        & _remotely_blank(snapshot.accounts, snapshot).keys()
        for snapshot in (effect.before, effect.after)
    )
    return bool(now - was)


def _remotely_blank(accounts: Iterable[Account], snapshot: Snapshot) -> dict[str, list[Route]]:
    """Return the accounts that can, or may, sign in with a blank password by another route than the console."""
    blank = (account for account in accounts if account.password is PasswordState.BLANK)
    far: tuple[Route, ...] = tuple(route for route in Route if route is not Route.CONSOLE)
    found = {str(each.name): [route for route in far if opens_without_proof(each, route, snapshot)] for each in blank}
    return {name: routes for name, routes in found.items() if routes}


def _orphaned_files(candidate: Candidate) -> Iterator[Refusal]:
    for effect in candidate.done:
        step = effect.step
        account = effect.before.by_name.get(account_of(step) or AccountName(""))
        if account is None or not isinstance(step, Remove | SetEnabled) or not takes_access(step):
            continue
        files = step.files
        if files is None and (account.home or isinstance(step, Remove)):
            yield Refusal(
                "orphaned-files",
                effect.number,
                f"the files of {account.name} in {account.home} could not be listed",
                "repair that first, or override this guard: --override orphaned-files",
            )
        elif isinstance(step, Remove) and step.choice is FilesChoice.HAND_OVER:
            continue
        elif files is not None and isinstance(step, Remove) and files.elsewhere_count:
            yield Refusal(
                "orphaned-files",
                effect.number,
                f"{counted(files.elsewhere_count, 'file')} of {account.name} outside its home folder would have no "
                "owner, or a new account with the same ID would own them: "
                f"{name_list(list(files.elsewhere), MOST_FILES)}",
                "give them to another account (--files hand-over --to NAME), delete them, or override this guard: "
                "--override orphaned-files",
            )


GUARDS = (
    Guard(
        "last-administrator",
        "afterwards, and at every moment while changes are applied, at least one administrator is enabled, unlocked "
        "and not expired, has a password that can be used, a shell that starts and what elevation needs, and can "
        "sign in at the console",
        last_administrator,
    ),
    Guard(
        "expiring-administrator",
        f"that is still so after {LOOK_AHEAD.days} days, by the expiry dates, password ages and dates in elevation "
        "lines known today, and no lock that only an administrator can end covers all of them",
        lasting_administrator,
        may_be_accepted=True,
    ),
    Guard(
        UNTRIED,
        "before an administrator is demoted, disabled or removed, a remaining one has signed in and elevated in a test",
        untried_administrator,
    ),
    Guard(
        "blank-administrator",
        "no account with a blank password becomes an administrator, and no administrator gets one",
        blank_administrator,
        may_be_accepted=True,
    ),
    Guard(
        "conflict",
        "no rules, and no settings of an account, that contradict each other",
        contradiction,
    ),
    Guard(
        "administrators-denied",
        "no denial covers every administrator at the console, or on a route that one of them is using",
        administrators_denied,
    ),
    Guard(
        "remote-blank-password",
        "a blank password is accepted at the console only",
        _open_guest,
        may_going_back=True,
    ),
    Guard(
        OWN_ACCOUNT,
        "the account in use is not demoted, disabled or removed by itself, and can still sign in by the route in use",
        _own_account,
        may_be_accepted=True,
    ),
    Guard(
        "orphaned-files",
        "disabling or removing an account names its files and where they are, and leaves no file without an owner",
        _orphaned_files,
        may_be_accepted=True,
    ),
)
ACCEPTABLE = tuple(guard.name for guard in GUARDS if guard.may_be_accepted)
ACCEPTABLE_GOING_BACK = tuple(guard.name for guard in GUARDS if guard.may_be_accepted or guard.may_going_back)


def refusals(snapshot: Snapshot, steps: Sequence[Step], accepted: Collection[str] = ()) -> list[Refusal]:
    """Return the refusals of all guards for ``steps`` on ``snapshot``, as predicted."""
    return refusals_on(candidate_of(snapshot, steps), accepted)


def refusals_on(candidate: Candidate, accepted: Collection[str] = ()) -> list[Refusal]:
    """Return the refusals of all guards for a plan, except overridden guards that allow it."""
    acceptable = ACCEPTABLE_GOING_BACK if candidate.going_back else ACCEPTABLE
    asked = [guard for guard in GUARDS if not (guard.name in acceptable and guard.name in accepted)]
    return [refusal for guard in asked for refusal in guard.check(candidate)]


def arrival_warnings(candidate: Candidate, accepted: Collection[str] = ()) -> Iterator[str]:
    """Yield what to know about the way back in that could not be tried on the copy."""
    arrival = candidate.arrival
    if arrival is None or arrival.succeeded is not Known.UNKNOWN:
        return
    who = f"Whether {arrival.account} can still sign in from your computer"
    yield f"{who} could not be tried on the private copy: {arrival.message}."
    if OWN_ACCOUNT not in accepted:
        yield (
            f"After the changes are applied, a new connection must succeed within {ARRIVES_WITHIN} seconds; otherwise "
            "they are undone."
        )


def warnings(candidate: Candidate) -> list[str]:
    """Return warnings for promises that were already broken before the plan."""
    if candidate.usable_after or candidate.usable_before:
        return []
    if perhaps := possible_administrators(candidate.before):
        found = [
            f"{each.name} by {Route.CONSOLE}: {why}"
            for each in perhaps
            for why in doubts(each, Route.CONSOLE, candidate.before)
        ]
        message = f" ({found[0]})" if found else ""
        return [f"It is not known whether {joined([each.name for each in perhaps])} can elevate{message}."]
    return [
        "No administrator can sign in at the console, before or after these steps. Create one with a password first: "
        + advice.add_administrator()
    ]


def with_trials(snapshot: Snapshot, steps: Sequence[Step]) -> list[Step]:
    """Return the steps with a test sign-in of a remaining administrator before the first that removes an untested one.

    Preferred is an account whose password the plan sets, then one that is not built in, then the one that signed in
    last."""
    candidate = effects(snapshot, steps)
    effect = next(untried(candidate), None)
    if effect is None:
        return list(steps)
    known = {step.account for step in steps[: effect.number - 1] if isinstance(step, GIVES_PASSWORD)}
    left = [a for a in usable_administrators(effect.after) if a.identity in effect.usable_before]
    if not left:
        return list(steps)

    def fitness(account: Account) -> tuple[bool, bool, bool, float]:
        seen = account.last_sign_in.timestamp() if account.last_sign_in else 0.0
        stays = account.identity in candidate[-1].usable_after
        return stays, account.name in known, account.builtin is None, seen

    trial = TrySignIn(max(left, key=fitness).name, why="tested first because it replaces the administrator below")
    at = effect.number - 1
    return with_trials(snapshot, [*steps[:at], trial, *steps[at:]])


def check(candidate: Candidate, accepted: Collection[str] = ()) -> None:
    """Pass a plan, or raise GuardRefused with a line for each refusal."""
    refuse(refusals_on(candidate, accepted))


def refuse(found: Sequence[Refusal]) -> None:
    """Stop here where there are refusals. Raises: GuardRefused: a line for each refusal."""
    if found:
        raise GuardRefused("\n".join(map(str, found)))


def preconditions(snapshot: Snapshot, steps: Sequence[Step]) -> Mapping[str, object]:
    """Return what a plan rests on, by name: administrators, and the accounts, groups and rules of its steps.

    What changes by itself (failed attempts, sign-ins) does not count."""
    found: dict[str, object] = {"the administrators": frozenset(a.identity for a in usable_administrators(snapshot))}
    for step in steps:
        if isinstance(step, SetRules):
            readings = {rule_id: snapshot.readings.get(rule_id) for rule_id in set_together_with(step.values)}
            found |= {
                f"rule {rule_id}": None if r is None else (r.value, r.status, r.enforced)
                for rule_id, r in readings.items()
            }
        if (name := account_of(step)) is not None:
            found[f"account {name}"] = _lasting_facts(snapshot.by_name.get(name))
        if isinstance(step, Membership | GroupStep):
            group = snapshot.group(step.group)
            found[f"group {step.group}"] = None if group is None else (group.identity, group.grants)
    return found


def _lasting_facts(account: Account | None) -> Account | None:
    if account is None:
        return None
    return evolve(
        account, last_sign_in=None, failed_attempts=0, locked_until=None, sessions=(), source=None, granted_by=()
    )


def check_unchanged(planned: Mapping[str, object], now: Mapping[str, object]) -> None:
    """Check the guard ``changed-machine``: the preconditions of the plan are still true.

    Raises: GuardRefused: with what changed."""
    moved = sorted(what for what in planned if planned[what] != now.get(what))
    if moved:
        raise GuardRefused(
            f"blocked by the guard changed-machine: {', '.join(moved)} changed since the plan was made. "
            "Run the command again."
        )
