"""What no worksheet may do. Each guard is a promise about the machine after each of its steps."""

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence

from attrs import frozen

from verrou.core.access import role_of, usable_administrator, usable_administrators, ways_in
from verrou.core.errors import GuardRefused
from verrou.core.gates import Way
from verrou.core.model import Account, Flag, PasswordState, Posture, Role, counted, name_list
from verrou.core.rules import agreements, reading_of
from verrou.core.steps import (
    GIVES_PASSWORD,
    CreateAccount,
    Remove,
    SetPassword,
    SetRules,
    Step,
    TrySignIn,
    account_of,
    takes_access,
)
from verrou.core.values import Count, Span

MOST_FILES = 10
"""How many files a refusal names; a worksheet counts all of them."""


@frozen(eq=False)
class Stage:
    """One step of a worksheet with the machine before and after it, and the identities of the administrators who are
    usable before and after. ``touched`` are the accounts that are other ones after the step, as they are then; None
    where any account may mean something else, since groups, ways or rules changed."""

    number: int
    step: Step
    before: Posture
    after: Posture
    usable_before: frozenset[str]
    usable_after: frozenset[str]
    touched: tuple[Account, ...] | None

    @property
    def lost(self) -> frozenset[str]:
        """The administrators that the step takes away."""
        return self.usable_before - self.usable_after


def stages(posture: Posture, steps: Sequence[Step]) -> list[Stage]:
    """The steps in order, each with what the machine is before and after it."""
    found: list[Stage] = []
    usable = frozenset(account.identity for account in usable_administrators(posture))
    for number, step in enumerate(steps, start=1):
        after = step.foresee(posture)
        touched = _touched(posture, after)
        usable_after = _usable_after(after, usable, touched)
        found.append(Stage(number, step, posture, after, usable, usable_after, touched))
        posture, usable = after, usable_after
    return found


def _touched(before: Posture, after: Posture) -> tuple[Account, ...] | None:
    there = len(before.accounts)
    if before.gates is not after.gates or before.readings is not after.readings or len(after.accounts) < there:
        return None
    if before.groups is not after.groups and before.administering != after.administering:
        return None
    # Comparing tuples asks each pair first whether it is one object, which is fast.
    if after.accounts[:there] == before.accounts:
        return after.accounts[there:]
    pairs = zip(before.accounts, after.accounts[:there], strict=True)
    return (*(new for old, new in pairs if old is not new), *after.accounts[there:])


def _usable_after(after: Posture, usable: frozenset[str], touched: tuple[Account, ...] | None) -> frozenset[str]:
    """The usable administrators after a step; where that is enough, only accounts that it changed are looked at."""
    if touched is None:
        return frozenset(account.identity for account in usable_administrators(after))
    if not touched:
        return usable
    again = {account.identity for account in touched}
    if not again.isdisjoint(usable):
        touched = tuple(account for account in after.accounts if account.identity in again)
    return (usable - again) | {account.identity for account in touched if usable_administrator(account, after)}


@frozen
class Refusal:
    """Which step breaks which guard, and what would mend it. ``step`` counts from 1; 0 is the machine as it is."""

    guard: str
    step: int
    reason: str
    mend: str

    def __str__(self) -> str:
        where = f"step {self.step}" if self.step else "the worksheet"
        return f"guard {self.guard} refuses {where}: {self.reason}; {self.mend}"


@frozen
class Guard:
    """``sentence`` is the promise; ``check`` yields what breaks it. Some may be overridden by name, on purpose."""

    name: str
    sentence: str
    check: Callable[[Sequence[Stage]], Iterator[Refusal]]
    may_be_accepted: bool = False


def _last_administrator(course: Sequence[Stage]) -> Iterator[Refusal]:
    for stage in course:
        if stage.usable_before and not stage.usable_after:
            yield Refusal(
                "last-administrator",
                stage.number,
                f"{stage.step.what} would leave no administrator who can sign in",
                "make another administrator first, or leave this one as it is",
            )
            return
    if course and not course[-1].usable_after:
        yield Refusal(
            "last-administrator",
            0,
            "no administrator could sign in at the console, neither before nor after it",
            "begin with an administrator who has a password (verrou account add NAME --role administrator)",
        )


def _untried_administrator(course: Sequence[Stage]) -> Iterator[Refusal]:
    for stage in untried(course):
        left = [a.name for a in usable_administrators(stage.after)]
        yield Refusal(
            "untried-administrator",
            stage.number,
            f"{stage.step.what} would leave it to {', '.join(left)}, and nobody has tried whether that works",
            f"try it first in the same worksheet (verrou account swap OLD {left[0]})",
        )


def untried(course: Sequence[Stage]) -> Iterator[Stage]:
    """The stages that take an administrator away while none of those who are left has been tried: signed in by a
    trial since it got its password, or at work here right now."""
    tried: set[str] = set()
    for stage in course:
        if (own := stage.before.by_name.get(stage.before.machine.in_use)) is not None:
            tried.add(own.identity)
        account = stage.before.by_name.get(account_of(stage.step) or "")
        if account is not None and isinstance(stage.step, TrySignIn):
            tried.add(account.identity)
        elif account is not None and isinstance(stage.step, SetPassword):
            tried.discard(account.identity)
        if stage.lost and stage.usable_after and not stage.usable_after & tried:
            yield stage


def _contradiction(course: Sequence[Stage]) -> Iterator[Refusal]:
    for stage in course:
        if isinstance(stage.step, SetRules):
            yield from _rules_that_contradict(stage.number, stage.step, stage.after)
        elif (name := account_of(stage.step)) is not None:
            yield from _flags_that_exclude(stage, name)


def _rules_that_contradict(number: int, step: SetRules, after: Posture) -> Iterator[Refusal]:
    touched = {rule_id for rule_id, _ in step.values}
    for rule, agreement, other in agreements():
        if not touched & {rule.id, other.id}:
            continue
        assert isinstance(rule.kind, Count | Span) and isinstance(other.kind, Count | Span)
        mine, theirs = reading_of(rule, after).value, reading_of(other, after).value
        if mine is None or theirs is None:
            continue
        if not agreement.holds(rule.kind.amount(mine), other.kind.amount(theirs)):
            yield Refusal(
                "contradiction",
                number,
                f"{rule.id} ({rule.kind.say(mine)}) {agreement.words} {other.id} ({other.kind.say(theirs)})",
                f"set {other.id} in the same worksheet",
            )


FLAG_WORDS = {
    Flag.MUST_CHANGE: "has to change its password at the next sign-in",
    Flag.CANNOT_CHANGE: "may not change it",
    Flag.AGES_EXEMPT: "is left out of the age of passwords",
}


def _flags_that_exclude(stage: Stage, name: str) -> Iterator[Refusal]:
    excluding = stage.after.machine.excluding
    if not excluding or stage.before.accounts is stage.after.accounts:
        return
    was, now = stage.before.by_name.get(name), stage.after.by_name.get(name)
    for one, other in excluding if now is not None else ():
        both = getattr(now, one) and getattr(now, other)
        if both and not (was is not None and getattr(was, one) and getattr(was, other)):
            yield Refusal(
                "contradiction",
                stage.number,
                f"{name} {FLAG_WORDS[one]} and {FLAG_WORDS[other]}: on this machine one excludes the other",
                "take one of the two away",
            )


def _own_account(course: Sequence[Stage]) -> Iterator[Refusal]:
    own = course[0].before.machine.in_use if course else ""
    if not own or own not in course[0].before.by_name:
        return
    for stage in course:
        was, is_now = stage.before.by_name[own], stage.after.by_name.get(own)
        role = role_of(was, stage.before)
        closed = is_now is None or (was.enabled and not is_now.enabled)
        demoted = is_now is not None and role is Role.ADMINISTRATOR and role_of(is_now, stage.after) is not role
        if closed or demoted:
            yield Refusal(
                "own-account",
                stage.number,
                f"{stage.step.what} is about the account you are using",
                "do it from another account, or say --accept own-account",
            )
            return


def _open_guest(course: Sequence[Stage]) -> Iterator[Refusal]:
    opened = _open_from_afar(course[0].before.accounts, course[0].before) if course else {}
    for stage in course:
        if stage.touched is None:
            now = _open_from_afar(stage.after.accounts, stage.after)
        else:
            names = {account.name for account in stage.touched}
            stay = {name: ways for name, ways in opened.items() if name not in names}
            now = {**stay, **_open_from_afar(stage.touched, stage.after)}
        if fresh := {name: ways for name, ways in now.items() if name not in opened}:
            by = ", ".join(sorted({way for ways in fresh.values() for way in ways}))
            yield Refusal(
                "open-guest",
                stage.number,
                f"{stage.step.what} would let {', '.join(sorted(fresh))} in without a password by {by}",
                "give it a password, or set password.blank_console_only=yes first",
            )
            return
        opened = now


def _open_from_afar(accounts: Iterable[Account], posture: Posture) -> dict[str, list[Way]]:
    """The accounts that a blank password opens by another way than the console, with these ways."""
    blank = [account for account in accounts if account.password is PasswordState.BLANK]
    ways: dict[str, list[Way]] = {a.name: [way for way in ways_in(a, posture) if way is not Way.CONSOLE] for a in blank}
    return {name: far for name, far in ways.items() if far}


def _orphaned_files(course: Sequence[Stage]) -> Iterator[Refusal]:
    for stage in course:
        step = stage.step
        account = stage.before.by_name.get(account_of(step) or "")
        if account is None or not takes_access(step):
            continue
        files = getattr(step, "files", None)
        if files is None and (account.home or isinstance(step, Remove)):
            yield Refusal(
                "orphaned-files",
                stage.number,
                f"the files of {account.name} in {account.home} could not be looked at, so nobody knows what is left",
                "mend that first, or say --accept orphaned-files",
            )
        elif files is not None and isinstance(step, Remove) and files.elsewhere_count:
            yield Refusal(
                "orphaned-files",
                stage.number,
                f"{counted(files.elsewhere_count, 'file')} of {account.name} outside its home would belong to nobody, "
                f"or to the next account that gets its number: {name_list(list(files.elsewhere), MOST_FILES)}",
                "hand them to somebody or delete them first, or say --accept orphaned-files",
            )


GUARDS = (
    Guard(
        "last-administrator",
        "afterwards at least one administrator is enabled, unlocked, unexpired, has a password and may sign in at the "
        "console",
        _last_administrator,
    ),
    Guard(
        "untried-administrator",
        "before an administrator is demoted, disabled or removed, one of those who stay was signed in by a trial",
        _untried_administrator,
    ),
    Guard(
        "contradiction",
        "no set of rules, and no marks on an account, that cannot hold together",
        _contradiction,
    ),
    Guard(
        "open-guest",
        "a blank password gets in at the console only",
        _open_guest,
    ),
    Guard(
        "own-account",
        "the account in use is not demoted, disabled or removed by its own hand",
        _own_account,
        may_be_accepted=True,
    ),
    Guard(
        "orphaned-files",
        "disabling or removing an account names its files and where they are, and none is left that belongs to nobody",
        _orphaned_files,
        may_be_accepted=True,
    ),
)
ACCEPTABLE = tuple(guard.name for guard in GUARDS if guard.may_be_accepted)


def refusals(posture: Posture, steps: Sequence[Step], accepted: Collection[str] = ()) -> list[Refusal]:
    """What the guards have against doing ``steps`` on a machine that stands as ``posture``."""
    return refusals_on(stages(posture, steps), accepted)


def refusals_on(course: Sequence[Stage], accepted: Collection[str] = ()) -> list[Refusal]:
    """What the guards have against a worksheet whose stages are known; the accepted ones are not asked, where they may
    be accepted at all."""
    asked = [guard for guard in GUARDS if not (guard.may_be_accepted and guard.name in accepted)]
    return [refusal for guard in asked for refusal in guard.check(course)]


def with_trials(posture: Posture, steps: Sequence[Step]) -> list[Step]:
    """The steps, with a trial of an administrator who stays before the first that takes one away untried.

    An account whose password the worksheet itself gives is tried before others, then one that is no built-in one, then
    the one that signed in last.
    """
    course = stages(posture, steps)
    stage = next(untried(course), None)
    if stage is None:
        return list(steps)
    known = {step.account for step in steps[: stage.number - 1] if isinstance(step, GIVES_PASSWORD)}
    left = [a for a in usable_administrators(stage.after) if a.identity in stage.usable_before]
    if not left:
        return list(steps)

    def fitness(account: Account) -> tuple[bool, bool, float]:
        seen = account.last_sign_in.timestamp() if account.last_sign_in else 0.0
        return account.name in known, account.builtin is None, seen

    trial = TrySignIn(max(left, key=fitness).name, why="it takes over, so it is tried before anything is taken away")
    at = stage.number - 1
    return with_trials(posture, [*steps[:at], trial, *steps[at:]])


def check(posture: Posture, steps: Sequence[Step], accepted: Collection[str] = ()) -> list[Stage]:
    """The stages of a worksheet, when no guard refuses it.

    Raises:
        GuardRefused: a line for each refusal.
    """
    course = stages(posture, steps)
    if found := refusals_on(course, accepted):
        raise GuardRefused("\n".join(map(str, found)))
    return course


def runs(course: Sequence[Stage]) -> list[list[Step]]:
    """The steps in order, cut wherever one begins to take a usable administrator away, or ends to. A step about an
    account that should not be there by then may take one away as well, when an earlier step is refused."""
    cut: list[list[Step]] = []
    taking_before = None
    for stage in course:
        name = account_of(stage.step)
        absent = name is not None and name not in stage.before.by_name and not isinstance(stage.step, CreateAccount)
        taking = bool(stage.lost) or absent
        if taking != taking_before:
            cut.append([])
        cut[-1].append(stage.step)
        taking_before = taking
    return cut


def check_unmoved(planned_from: str, posture: Posture) -> None:
    """The guard ``moved-machine``: the machine is still what the worksheet was planned from.

    Raises:
        GuardRefused: when the digest of ``posture`` is not ``planned_from``.
    """
    if posture.fingerprint != planned_from:
        raise GuardRefused(
            "guard moved-machine refuses the worksheet: the machine changed since it was planned; "
            "run the command again and read the new worksheet"
        )


def check_way_back(now: Posture, then: Posture) -> None:
    """The guard ``last-administrator`` for going back from ``now`` to ``then``.

    Raises:
        GuardRefused: nobody could administer the machine any more.
    """
    if usable_administrators(now) and not usable_administrators(then):
        raise GuardRefused(
            "guard last-administrator refuses the way back: no administrator could sign in as it was before; "
            "keep what was done, and change single things back with verrou"
        )
