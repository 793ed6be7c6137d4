"""Guards: promises about the machine after a plan, judged on the copy.

The predicted effect of each step tells which step breaks a promise."""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date, timedelta
from functools import cached_property

from attrs import define, evolve, field, frozen

from verrou.core.errors import GuardRefused
from verrou.core.model import (
    Account,
    AccountName,
    Builtin,
    Flag,
    PasswordState,
    Reading,
    Role,
    Snapshot,
    counted,
    joined,
    name_list,
)
from verrou.core.model.access import (
    administers,
    doubts,
    opens_without_proof,
    possible_administrators,
    role_of,
    usable_administrator,
    usable_administrators,
)
from verrou.core.model.ageing import usable_until
from verrou.core.model.known import Known, any_of
from verrou.core.model.routes import Route
from verrou.core.prediction.predict import predict
from verrou.core.rules import CATALOGUE, Agreement, Rule, disagreements, reading_of, set_together_with
from verrou.core.steps.step import (
    GIVES_PASSWORD,
    FilesChoice,
    GroupStep,
    Membership,
    Remove,
    Rename,
    SetEnabled,
    SetPassword,
    SetRules,
    Step,
    TrySignIn,
    account_of,
    takes_access,
)
from verrou.core.values import Value

MOST_FILES = 10
"""Most files named in a refusal; the plan counts all of them."""


@frozen(eq=False)
class StepEffect:
    """Effect of one step: the machine before and after it, and the IDs of the usable administrators.

    ``touched`` are the accounts changed by the step, as they are afterwards; None where any account may be affected,
    since groups, routes or rules changed."""

    number: int
    step: Step
    before: Snapshot
    after: Snapshot
    usable_before: frozenset[str]
    usable_after: frozenset[str]
    touched: tuple[Account, ...] | None

    @property
    def lost(self) -> frozenset[str]:
        """The administrators that the step removes."""
        return self.usable_before - self.usable_after


def effects(snapshot: Snapshot, steps: Sequence[Step]) -> list[StepEffect]:
    """Return the steps in order, each with what the machine is before and after it."""
    found: list[StepEffect] = []
    usable = frozenset(account.identity for account in usable_administrators(snapshot))
    for number, step in enumerate(steps, start=1):
        after = predict(step, snapshot)
        touched = _touched(snapshot, after)
        usable_after = _usable_after(after, usable, touched)
        found.append(StepEffect(number, step, snapshot, after, usable, usable_after, touched))
        snapshot, usable = after, usable_after
    return found


def _touched(before: Snapshot, after: Snapshot) -> tuple[Account, ...] | None:
    there = len(before.accounts)
    if (
        before.entry_points is not after.entry_points
        or before.readings is not after.readings
        or len(after.accounts) < there
    ):
        return None
    if before.groups is not after.groups and before.administering != after.administering:
        return None
    # Comparing tuples asks each pair first whether it is one object, which is fast.
    if after.accounts[:there] == before.accounts:
        return after.accounts[there:]
    pairs = zip(before.accounts, after.accounts[:there], strict=True)
    return (*(new for old, new in pairs if old is not new), *after.accounts[there:])


def _usable_after(after: Snapshot, usable: frozenset[str], touched: tuple[Account, ...] | None) -> frozenset[str]:
    """Return the usable administrators after a step, looking only at changed accounts where that is enough."""
    if touched is None:
        return frozenset(account.identity for account in usable_administrators(after))
    if not touched:
        return usable
    again = {account.identity for account in touched}
    if not again.isdisjoint(usable):
        touched = tuple(account for account in after.accounts if account.identity in again)
    return (usable - again) | {account.identity for account in touched if usable_administrator(account, after)}


@define(frozen=True, eq=False, slots=False)
class Candidate:
    """Change plan under review: snapshots before and after, and the effect of each step.

    ``refused`` are the numbers of steps that the machine would reject. ``gap`` says at which moment of applying it no
    administrator could sign in; ``failed_trials`` are failed test sign-ins, with the machine's message. ``going_back``:
    the plan is an undo. ``rehearsed`` is False where ``after`` is only predicted. ``tried_before`` were tested by the
    run that this one resumes."""

    before: Snapshot
    after: Snapshot
    effects: Sequence[StepEffect]
    refused: frozenset[int] = frozenset()
    gap: str = ""
    failed_trials: Mapping[str, str] = field(factory=dict)
    going_back: bool = False
    dry_run_made: bool = False
    tried_before: frozenset[str] = frozenset()

    @cached_property
    def usable_before(self) -> list[Account]:
        """The administrators usable at the console before the plan."""
        return usable_administrators(self.before)

    @cached_property
    def usable_after(self) -> list[Account]:
        """The administrators usable at the console after it."""
        return usable_administrators(self.after)

    @cached_property
    def taken_away(self) -> list[Account]:
        """Possible administrators before it who are known not to be any afterwards."""
        left = {_which(account, self.after) for account in possible_administrators(self.after)}
        return [each for each in possible_administrators(self.before) if _which(each, self.before) not in left]

    @property
    def done(self) -> list[StepEffect]:
        """Effects of the steps that the machine would not reject."""
        return [effect for effect in self.effects if effect.number not in self.refused]


def _which(account: Account, snapshot: Snapshot) -> tuple[str, str]:
    """Return a key that identifies an account under any name; the name where several share one ID."""
    return account.identity, account.name if len(snapshot.by_identity[account.identity]) > 1 else ""


def candidate_of(snapshot: Snapshot, steps: Sequence[Step]) -> Candidate:
    """Return the candidate of a plan as predicted from facts."""
    found = effects(snapshot, steps)
    return Candidate(snapshot, found[-1].after if found else snapshot, found)


@frozen
class Refusal:
    """Which step breaks which guard, and what to do about it. ``step`` counts from 1; 0 is the whole plan."""

    guard: str
    step: int
    reason: str
    mend: str

    def __str__(self) -> str:
        where = f"step {self.step}" if self.step else "the plan"
        return f"{where} is blocked by the guard {self.guard}: {self.reason}. {self.mend[:1].upper()}{self.mend[1:]}"


@frozen
class Guard:
    """One guard.

    ``sentence`` is the promise; ``check`` yields what breaks it. Some can be overridden by name; ``may_going_back`` are
    those that an undo can override, too, since it restores an earlier state."""

    name: str
    sentence: str
    check: Callable[[Candidate], Iterator[Refusal]]
    may_be_accepted: bool = False
    may_going_back: bool = False


def _last_administrator(candidate: Candidate) -> Iterator[Refusal]:
    if not candidate.usable_after:
        if not candidate.usable_before and not candidate.taken_away:
            return  # nothing is removed; a warning of the plan reports the state
        cause = next((effect for effect in candidate.done if effect.usable_before and not effect.usable_after), None)
        yield Refusal(
            "last-administrator",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would leave no administrator who can sign in{_unsure(candidate)}",
            "create another administrator first; verrou account swap OLD NEW does both",
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


def _lasting_administrator(candidate: Candidate) -> Iterator[Refusal]:
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
    return account.builtin is not Builtin.ADMIN or (exempts is not None and exempts.value == "nobody")


UNTRIED = "untested-administrator"


def _untried_administrator(candidate: Candidate) -> Iterator[Refusal]:
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
        f"test it in the same run: verrou account swap OLD {after[0].name}",
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


def _contradiction(candidate: Candidate) -> Iterator[Refusal]:
    asked: dict[str, Value] = {}
    for effect in candidate.effects:  # also where the machine would refuse the step: it is why
        if isinstance(effect.step, SetRules):
            asked |= effect.step.values
            yield from _rules_that_contradict(effect.number, effect.step, candidate)
            yield from _lists_that_contradict(effect.number, effect.step, asked)
        elif (name := account_of(effect.step)) is not None:
            yield from _flags_that_exclude(effect, name)


def _rules_that_contradict(number: int, step: SetRules, candidate: Candidate) -> Iterator[Refusal]:
    """Find rules that contradict each other after the plan, as requested or as they result, but did not before."""
    about = set_together_with(step.values)
    was = {rule_id: reading_of(CATALOGUE[rule_id], candidate.before).value for rule_id in about}
    comes = {rule_id: _coming(reading_of(CATALOGUE[rule_id], candidate.after)) for rule_id in about}
    values: dict[str, Value | None] = {**comes, **step.values}
    for rule, agreement, other in disagreements(lambda rule: values.get(rule.id)):
        pair = {rule.id, other.id}
        new = any(values[rule_id] != was[rule_id] for rule_id in pair)
        if new and agreement.pulls and pair & step.values.keys():
            yield _disagree(number, rule, agreement, other, values)


def _lists_that_contradict(number: int, step: SetRules, asked: Mapping[str, Value]) -> Iterator[Refusal]:
    """Find contradicting lists among those that the plan itself requests.

    A list that was there before may name an account that another list now names: a denial wins. Setting both at once is
    a mistake."""
    for rule, agreement, other in disagreements(lambda rule: asked.get(rule.id)):
        if not agreement.pulls and {rule.id, other.id} & step.values.keys():
            yield _disagree(number, rule, agreement, other, asked)


def _disagree(
    number: int, rule: Rule, agreement: Agreement, other: Rule, values: Mapping[str, Value | None]
) -> Refusal:
    mine, theirs = values[rule.id], values[other.id]
    assert mine is not None and theirs is not None
    return Refusal(
        "conflict",
        number,
        f"{rule.id} ({rule.kind.format(mine)}) {agreement.words} {other.id} ({other.kind.format(theirs)})",
        f"set {other.id} in the same run",
    )


def _coming(reading: Reading) -> Value | None:
    return reading.value if reading.pending is None else reading.pending


FLAG_WORDS = {
    Flag.CHANGE_DUE: "must change the password at the next sign-in",
    Flag.CANNOT_CHANGE: "has a fixed password",
    Flag.AGEING_EXEMPT: "is exempt from password ageing",
}


def _flags_that_exclude(effect: StepEffect, name: str) -> Iterator[Refusal]:
    excluding = effect.after.machine.excluding
    if not excluding or effect.before.accounts is effect.after.accounts:
        return
    was, now = (side.by_name.get(AccountName(name)) for side in (effect.before, effect.after))
    for one, other in excluding if now is not None else ():
        both = getattr(now, one) and getattr(now, other)
        if both and not (was is not None and getattr(was, one) and getattr(was, other)):
            yield Refusal(
                "conflict",
                effect.number,
                f"{name} {FLAG_WORDS[one]} and {FLAG_WORDS[other]}; this machine cannot combine the two",
                "remove one of the two",
            )


def _own_account(candidate: Candidate) -> Iterator[Refusal]:
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
            "own-account",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would disable, demote or remove {own}, the account you are using",
            "use another account, or override this guard: --override own-account",
        )
        return
    route = candidate.before.machine.came_by
    before = _comes_through(was, route, candidate.before)
    if _rank(_comes_through(actual, route, candidate.after)) < _rank(before):
        cause = next((s for s in candidate.done if _rank(_comes_through(was, route, s.after)) < _rank(before)), None)
        yield Refusal(
            "own-account",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would deny {own} sign-in {Route(route).phrase}, the route in use",
            "do it at the console, or override this guard: --override own-account",
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


def _blank_administrator(candidate: Candidate) -> Iterator[Refusal]:
    known = {_which(account, candidate.before) for account in _blank_administrators(candidate.before)}
    fresh = [a.name for a in _blank_administrators(candidate.after) if _which(a, candidate.after) not in known]
    if fresh:
        cause = next((s for s in candidate.done if {a.name for a in _blank_administrators(s.after)} & set(fresh)), None)
        yield Refusal(
            "blank-administrator",
            cause.number if cause else 0,
            f"{cause.step.what if cause else 'it'} would let anyone elevate as {joined(fresh)} without a password",
            f"set a password first (verrou account password {fresh[0]}), or override this guard: "
            "--override blank-administrator",
        )


def _blank_administrators(snapshot: Snapshot) -> list[Account]:
    return [
        account
        for account in snapshot.accounts
        if account.password is PasswordState.BLANK and account.enabled and administers(account, snapshot)
    ]


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


ADMIN = Role.ADMINISTRATOR


def _administrators_denied(candidate: Candidate) -> Iterator[Refusal]:
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
        _last_administrator,
    ),
    Guard(
        "expiring-administrator",
        f"that is still so after {LOOK_AHEAD.days} days, by the expiry dates, password ages and dates in elevation "
        "lines known today, and no lock that only an administrator can end covers all of them",
        _lasting_administrator,
        may_be_accepted=True,
    ),
    Guard(
        UNTRIED,
        "before an administrator is demoted, disabled or removed, a remaining one has signed in and elevated in a test",
        _untried_administrator,
    ),
    Guard(
        "blank-administrator",
        "no account with a blank password becomes an administrator, and no administrator gets one",
        _blank_administrator,
        may_be_accepted=True,
    ),
    Guard(
        "conflict",
        "no rules, and no settings of an account, that contradict each other",
        _contradiction,
    ),
    Guard(
        "administrators-denied",
        "no denial covers every administrator at the console, or on a route that one of them is using",
        _administrators_denied,
    ),
    Guard(
        "remote-blank-password",
        "a blank password is accepted at the console only",
        _open_guest,
        may_going_back=True,
    ),
    Guard(
        "own-account",
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
        "verrou account add NAME --role administrator"
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


def steps_before_loss(candidate: Sequence[StepEffect]) -> int:
    """Return how many steps come before the first that removes a usable administrator: they are applied first."""
    return next((effect.number - 1 for effect in candidate if effect.lost), len(candidate))


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
