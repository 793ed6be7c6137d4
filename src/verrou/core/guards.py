"""What no worksheet may do. Each guard is a promise about the machine as it will be, judged on the rehearsed copy; what
each step by itself was foreseen to do tells which one broke it."""

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
from verrou.core.model.ways import Route
from verrou.core.plan.foresee import predict
from verrou.core.plan.steps import (
    GIVES_PASSWORD,
    FilesChoice,
    Remove,
    Rename,
    SetPassword,
    SetRules,
    Step,
    TrySignIn,
    account_of,
    takes_access,
)
from verrou.core.rules import CATALOGUE, Agreement, Rule, disagreements, reading_of, set_together_with
from verrou.core.values import Value

MOST_FILES = 10
"""How many files a refusal names; a worksheet counts all of them."""


@frozen(eq=False)
class StepEffect:
    """One step of a worksheet with the machine before and after it, and the identities of the administrators who are
    usable before and after. ``touched`` are the accounts that are other ones after the step, as they are then; None
    where any account may mean something else, since groups, ways or rules changed."""

    number: int
    step: Step
    before: Snapshot
    after: Snapshot
    usable_before: frozenset[str]
    usable_after: frozenset[str]
    touched: tuple[Account, ...] | None

    @property
    def lost(self) -> frozenset[str]:
        """The administrators that the step takes away."""
        return self.usable_before - self.usable_after


def stages(snapshot: Snapshot, steps: Sequence[Step]) -> list[StepEffect]:
    """The steps in order, each with what the machine is before and after it."""
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
    """The usable administrators after a step; where that is enough, only accounts that it changed are looked at."""
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
    """A worksheet to be judged: the machine before and after it, and its stages. ``refused`` are the numbers of the
    steps that the machine would refuse. ``gap`` tells where, while it lands, nobody could administer;
    ``failed_trials`` who was tried and did not get through, with what the machine said. ``going_back`` tells an undo
    from other worksheets. ``rehearsed`` is False where ``after`` was only foreseen. ``tried_before`` were tried by the
    run that this one goes on with."""

    before: Snapshot
    after: Snapshot
    stages: Sequence[StepEffect]
    refused: frozenset[int] = frozenset()
    gap: str = ""
    failed_trials: Mapping[str, str] = field(factory=dict)
    going_back: bool = False
    rehearsed: bool = False
    tried_before: frozenset[str] = frozenset()

    @cached_property
    def usable_before(self) -> list[Account]:
        """The administrators who can sit down at the console before it."""
        return usable_administrators(self.before)

    @cached_property
    def usable_after(self) -> list[Account]:
        """Those who can afterwards."""
        return usable_administrators(self.after)

    @cached_property
    def taken_away(self) -> list[Account]:
        """Those who perhaps administer before it, and certainly do not afterwards."""
        left = {_which(account, self.after) for account in possible_administrators(self.after)}
        return [each for each in possible_administrators(self.before) if _which(each, self.before) not in left]

    @property
    def done(self) -> list[StepEffect]:
        """The stages of the steps that the machine would not refuse."""
        return [stage for stage in self.stages if stage.number not in self.refused]


def _which(account: Account, snapshot: Snapshot) -> tuple[str, str]:
    """What tells an account from any other, whatever it is called; of several with one identity its name does."""
    return account.identity, account.name if len(snapshot.by_identity[account.identity]) > 1 else ""


def candidate_of(snapshot: Snapshot, steps: Sequence[Step]) -> Candidate:
    """The course of a worksheet as it is foreseen."""
    found = stages(snapshot, steps)
    return Candidate(snapshot, found[-1].after if found else snapshot, found)


@frozen
class Refusal:
    """Which step breaks which guard, and what would mend it. ``step`` counts from 1; 0 is the worksheet as a whole."""

    guard: str
    step: int
    reason: str
    mend: str

    def __str__(self) -> str:
        where = f"step {self.step}" if self.step else "the plan"
        return f"{where} is blocked by the guard {self.guard}: {self.reason}. {self.mend[:1].upper()}{self.mend[1:]}"


@frozen
class Guard:
    """``sentence`` is the promise; ``check`` yields what breaks it. Some may be overridden by name, on purpose;
    ``may_going_back`` those that an undo may override as well, since it goes back to what stood before."""

    name: str
    sentence: str
    check: Callable[[Candidate], Iterator[Refusal]]
    may_be_accepted: bool = False
    may_going_back: bool = False


def _last_administrator(course: Candidate) -> Iterator[Refusal]:
    if not course.usable_after:
        if not course.usable_before and not course.taken_away:
            return  # nothing is taken away; the worksheet's warning says how it stands
        blamed = next((stage for stage in course.done if stage.usable_before and not stage.usable_after), None)
        yield Refusal(
            "last-administrator",
            blamed.number if blamed else 0,
            f"{blamed.step.what if blamed else 'it'} would leave no administrator who can sign in{_unsure(course)}",
            "create another administrator first; verrou account swap OLD NEW does both",
        )
    elif course.gap:
        yield Refusal(
            "last-administrator",
            0,
            f"for a moment while changes are applied ({course.gap}), no administrator could sign in",
            "create the new administrator in a run of its own first",
        )


def _unsure(course: Candidate) -> str:
    """Who may be left and is not known to be."""
    unsure = [account.name for account in possible_administrators(course.after)]
    return f", of whom that is known: {joined(unsure)} may be one" if unsure else ""


def nobody_left(mend: str) -> Refusal:
    """What is said where nobody can administer now, nor afterwards, and somebody could otherwise."""
    return Refusal("last-administrator", 0, "no administrator could sign in afterwards, and none can now", mend)


LOOK_AHEAD = timedelta(days=90)
"""How far ahead an administrator must last."""


def _lasting_administrator(course: Candidate) -> Iterator[Refusal]:
    if not course.usable_after or why_not_lasting(course.before, course.usable_before):
        return
    if why := why_not_lasting(course.after, course.usable_after):
        ending = (s for s in course.done if why_not_lasting(s.after, usable_administrators(s.after)))
        blamed = next(ending, None)
        yield Refusal(
            "expiring-administrator",
            blamed.number if blamed else 0,
            why,
            "keep another administrator without an expiry date, or use --override expiring-administrator",
        )


def why_not_lasting(snapshot: Snapshot, usable: Sequence[Account]) -> str:
    """Why there will be no usable administrator within :data:`LOOK_AHEAD`, by the ends, ages and days of grace that are
    written down today, or by a lock that only an administrator can lift; nothing where there will be one. ``usable``
    are those of today."""
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
    """When an account ends, or the lines that make it an administrator do."""
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


def _untried_administrator(course: Candidate) -> Iterator[Refusal]:
    if course.going_back:
        return  # to whoever administered before: nobody takes over who did not do so already
    before = {account.identity for account in course.usable_before}
    after = course.usable_after
    lost = before - {account.identity for account in after}
    if not lost or not after or tried_names(course) & {account.name for account in after}:
        return
    blamed = next((stage for stage in course.done if stage.lost), None)
    names = ", ".join(account.name for account in after)
    told = [f"the test sign-in of {name} failed ({said})" for name, said in course.failed_trials.items()]
    failed = ", ".join(told) or "that sign-in has not been tested"
    yield Refusal(
        UNTRIED,
        blamed.number if blamed else 0,
        f"{blamed.step.what if blamed else 'it'} would leave only {names}, and {failed}",
        f"test it in the same run: verrou account swap OLD {after[0].name}",
    )


def tried_names(course: Candidate) -> set[str]:
    """Who was signed in by a trial since getting its password, or is at work here right now, by the name it has
    afterwards."""
    tried = {course.before.machine.in_use, *course.tried_before} - {""}
    for stage in course.done:
        name = account_of(stage.step)
        if isinstance(stage.step, TrySignIn) and stage.step.role is Role.ADMINISTRATOR:
            tried.add(stage.step.account)
        elif isinstance(stage.step, SetPassword) and name is not None:
            tried.discard(name)
        elif isinstance(stage.step, Rename) and name in tried:
            tried = (tried - {stage.step.account}) | {stage.step.new_name}
    return tried


def untried(course: Sequence[StepEffect]) -> Iterator[StepEffect]:
    """The stages that take an administrator away while none of those who are left has been tried before."""
    tried: set[str] = set()
    for stage in course:
        if (own := stage.before.by_name.get(AccountName(stage.before.machine.in_use))) is not None:
            tried.add(own.identity)
        account = stage.before.by_name.get(account_of(stage.step) or AccountName(""))
        if account is not None and isinstance(stage.step, TrySignIn) and stage.step.role is Role.ADMINISTRATOR:
            tried.add(account.identity)
        elif account is not None and isinstance(stage.step, SetPassword):
            tried.discard(account.identity)
        if stage.lost and stage.usable_after and not stage.usable_after & tried:
            yield stage


def _contradiction(course: Candidate) -> Iterator[Refusal]:
    asked: dict[str, Value] = {}
    for stage in course.stages:  # also where the machine would refuse the step: it is why
        if isinstance(stage.step, SetRules):
            asked |= stage.step.values
            yield from _rules_that_contradict(stage.number, stage.step, course)
            yield from _lists_that_contradict(stage.number, stage.step, asked)
        elif (name := account_of(stage.step)) is not None:
            yield from _flags_that_exclude(stage, name)


def _rules_that_contradict(number: int, step: SetRules, course: Candidate) -> Iterator[Refusal]:
    """By what was asked for, and of the other rules by what comes of them; not what contradicted before, either."""
    about = set_together_with(step.values)
    was = {rule_id: reading_of(CATALOGUE[rule_id], course.before).value for rule_id in about}
    comes = {rule_id: _coming(reading_of(CATALOGUE[rule_id], course.after)) for rule_id in about}
    values: dict[str, Value | None] = {**comes, **step.values}
    for rule, agreement, other in disagreements(lambda rule: values.get(rule.id)):
        pair = {rule.id, other.id}
        new = any(values[rule_id] != was[rule_id] for rule_id in pair)
        if new and agreement.pulls and pair & step.values.keys():
            yield _disagree(number, rule, agreement, other, values)


def _lists_that_contradict(number: int, step: SetRules, asked: Mapping[str, Value]) -> Iterator[Refusal]:
    """Only what the worksheet itself asks for: a list that stood there before may name whom another now does, since
    what is denied wins; whoever sets both at once has mistyped."""
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
        f"{rule.id} ({rule.kind.say(mine)}) {agreement.words} {other.id} ({other.kind.say(theirs)})",
        f"set {other.id} in the same run",
    )


def _coming(reading: Reading) -> Value | None:
    return reading.value if reading.pending is None else reading.pending


FLAG_WORDS = {
    Flag.CHANGE_DUE: "must change the password at the next sign-in",
    Flag.CANNOT_CHANGE: "has a fixed password",
    Flag.AGEING_EXEMPT: "is exempt from password ageing",
}


def _flags_that_exclude(stage: StepEffect, name: str) -> Iterator[Refusal]:
    excluding = stage.after.machine.excluding
    if not excluding or stage.before.accounts is stage.after.accounts:
        return
    was, now = (side.by_name.get(AccountName(name)) for side in (stage.before, stage.after))
    for one, other in excluding if now is not None else ():
        both = getattr(now, one) and getattr(now, other)
        if both and not (was is not None and getattr(was, one) and getattr(was, other)):
            yield Refusal(
                "conflict",
                stage.number,
                f"{name} {FLAG_WORDS[one]} and {FLAG_WORDS[other]}; this machine cannot combine the two",
                "remove one of the two",
            )


def _own_account(course: Candidate) -> Iterator[Refusal]:
    own = course.before.machine.in_use
    was = course.before.by_name.get(AccountName(own)) if own else None
    if was is None:
        return
    is_now = next((a for a in course.after.by_identity.get(was.identity, ()) if a.builtin is was.builtin), None)
    role = role_of(was, course.before)
    if (
        is_now is None
        or (was.enabled and not is_now.enabled)
        or (role is Role.ADMINISTRATOR and role_of(is_now, course.after) is not role)
    ):
        blamed = next((stage for stage in course.done if account_of(stage.step) == own), None)
        yield Refusal(
            "own-account",
            blamed.number if blamed else 0,
            f"{blamed.step.what if blamed else 'it'} would disable, demote or remove {own}, the account you are using",
            "use another account, or override this guard: --override own-account",
        )
        return
    way = course.before.machine.came_by
    before = _comes_through(was, way, course.before)
    if _rank(_comes_through(is_now, way, course.after)) < _rank(before):
        blamed = next((s for s in course.done if _rank(_comes_through(was, way, s.after)) < _rank(before)), None)
        yield Refusal(
            "own-account",
            blamed.number if blamed else 0,
            f"{blamed.step.what if blamed else 'it'} would deny {own} sign-in {Route(way).phrase}, the route in use",
            "do it at the console, or override this guard: --override own-account",
        )


def _comes_through(account: Account, way: str, snapshot: Snapshot) -> Known:
    """Whether a way lets an account through, whatever it has to show."""
    gates = [gate for gate in snapshot.entry_points if gate.way == way and not gate.unasked]
    decided = [(gate, gate.admissions.get(account.name)) for gate in gates]
    return any_of(
        Known.of(gate.lets_through(account)) if found is None else any_of((found.password, found.key, found.name))
        for gate, found in decided
    )


def _rank(answer: Known) -> int:
    """What is not known is less than a yes, and more than a no."""
    return (Known.NO, Known.UNKNOWN, Known.YES).index(answer)


def _blank_administrator(course: Candidate) -> Iterator[Refusal]:
    known = {_which(account, course.before) for account in _blank_administrators(course.before)}
    fresh = [a.name for a in _blank_administrators(course.after) if _which(a, course.after) not in known]
    if fresh:
        blamed = next((s for s in course.done if {a.name for a in _blank_administrators(s.after)} & set(fresh)), None)
        yield Refusal(
            "blank-administrator",
            blamed.number if blamed else 0,
            f"{blamed.step.what if blamed else 'it'} would let anyone elevate as {joined(fresh)} without a password",
            f"set a password first (verrou account password {fresh[0]}), or override this guard: "
            "--override blank-administrator",
        )


def _blank_administrators(snapshot: Snapshot) -> list[Account]:
    return [
        account
        for account in snapshot.accounts
        if account.password is PasswordState.BLANK and account.enabled and administers(account, snapshot)
    ]


def _open_guest(course: Candidate) -> Iterator[Refusal]:
    was = _open_from_afar(course.before.accounts, course.before)
    now = _open_from_afar(course.after.accounts, course.after)
    fresh = {name: ways for name, ways in now.items() if name not in was}
    if not fresh:
        return
    blamed = next((stage for stage in course.done if _opens(stage, fresh)), None)
    by = ", ".join(sorted({way for ways in fresh.values() for way in ways}))
    yield Refusal(
        "remote-blank-password",
        blamed.number if blamed else 0,
        f"{blamed.step.what if blamed else 'it'} would let {', '.join(sorted(fresh))} sign in remotely ({by}) with a "
        "blank password",
        "to undo anyway: --override remote-blank-password"
        if course.going_back
        else "set a password, or set password.blank_accepted=console first",
    )


def _opens(stage: StepEffect, names: Collection[str]) -> bool:
    was, now = (
        {account.name for account in snapshot.accounts if account.name in names}
        & _open_from_afar(snapshot.accounts, snapshot).keys()
        for snapshot in (stage.before, stage.after)
    )
    return bool(now - was)


def _open_from_afar(accounts: Iterable[Account], snapshot: Snapshot) -> dict[str, list[Route]]:
    """The accounts that a blank password opens by another way than the console, or may, with these ways."""
    blank = (account for account in accounts if account.password is PasswordState.BLANK)
    far: tuple[Route, ...] = tuple(way for way in Route if way is not Route.CONSOLE)
    found = {str(each.name): [way for way in far if opens_without_proof(each, way, snapshot)] for each in blank}
    return {name: ways for name, ways in found.items() if ways}


ADMIN = Role.ADMINISTRATOR


def _shut_door(course: Candidate) -> Iterator[Refusal]:
    """By the console always; by another way where an administrator is inside through it, or came so."""
    if not any(account.enabled and role_of(account, course.after) is ADMIN for account in course.after.accounts):
        return  # no list is to blame for that
    was, now = (_administrators_by_way(snapshot) for snapshot in (course.before, course.after))
    for way, names in was.items():
        if not names or now.get(way) or (way is not Route.CONSOLE and not _inside_by(course.before, way)):
            continue
        blamed = next((s for s in course.done if not _administrators_by_way(s.after).get(way)), None)
        yield Refusal(
            "administrators-denied",
            blamed.number if blamed else 0,
            f"{blamed.step.what if blamed else 'it'} would deny every administrator sign-in {way.phrase}: "
            f"{joined(sorted(names))}",
            "keep one of them: deny a group that does not contain them all, or allow one by name",
        )


def _administrators_by_way(snapshot: Snapshot) -> dict[Route, set[str]]:
    """By each way, the enabled administrators whom no list turns away."""
    found: dict[Route, set[str]] = {gate.way: set() for gate in snapshot.entry_points}
    for account in snapshot.accounts:
        if account.enabled and role_of(account, snapshot) is Role.ADMINISTRATOR:
            for gate in snapshot.entry_points:
                if not gate.unasked and gate.lets_through(account):
                    found[gate.way].add(account.name)
    return found


def _inside_by(snapshot: Snapshot, way: Route) -> bool:
    """Whether an administrator is signed in by that way now, or whoever is at work came by it."""
    inside = (account for account in snapshot.accounts if role_of(account, snapshot) is Role.ADMINISTRATOR)
    return snapshot.machine.came_by == way or any(way in account.inside_by for account in inside)


def _orphaned_files(course: Candidate) -> Iterator[Refusal]:
    for stage in course.done:
        step = stage.step
        account = stage.before.by_name.get(account_of(step) or AccountName(""))
        if account is None or not takes_access(step):
            continue
        files = getattr(step, "files", None)
        if files is None and (account.home or isinstance(step, Remove)):
            yield Refusal(
                "orphaned-files",
                stage.number,
                f"the files of {account.name} in {account.home} could not be listed",
                "repair that first, or override this guard: --override orphaned-files",
            )
        elif isinstance(step, Remove) and step.choice is FilesChoice.HAND_OVER:
            continue
        elif files is not None and isinstance(step, Remove) and files.elsewhere_count:
            yield Refusal(
                "orphaned-files",
                stage.number,
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
        _shut_door,
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
    """What the guards have against doing ``steps`` on a machine that stands as ``snapshot``, as it is foreseen."""
    return refusals_on(candidate_of(snapshot, steps), accepted)


def refusals_on(course: Candidate, accepted: Collection[str] = ()) -> list[Refusal]:
    """What the guards have against a worksheet; the accepted ones are not asked, where they may be accepted at all."""
    acceptable = ACCEPTABLE_GOING_BACK if course.going_back else ACCEPTABLE
    asked = [guard for guard in GUARDS if not (guard.name in acceptable and guard.name in accepted)]
    return [refusal for guard in asked for refusal in guard.check(course)]


def warnings(course: Candidate) -> list[str]:
    """What the guards would promise and cannot, since it was not so before either."""
    if course.usable_after or course.usable_before:
        return []
    if perhaps := possible_administrators(course.before):
        found = [
            f"{each.name} by {Route.CONSOLE}: {why}"
            for each in perhaps
            for why in doubts(each, Route.CONSOLE, course.before)
        ]
        said = f" ({found[0]})" if found else ""
        return [f"It is not known whether {joined([each.name for each in perhaps])} can elevate{said}."]
    return [
        "No administrator can sign in at the console, before or after these steps. Create one with a password first: "
        "verrou account add NAME --role administrator"
    ]


def with_trials(snapshot: Snapshot, steps: Sequence[Step]) -> list[Step]:
    """The steps, with a trial of an administrator who stays before the first that takes one away untried.

    An account whose password the worksheet itself gives is tried before others, then one that is no built-in one, then
    the one that signed in last.
    """
    course = stages(snapshot, steps)
    stage = next(untried(course), None)
    if stage is None:
        return list(steps)
    known = {step.account for step in steps[: stage.number - 1] if isinstance(step, GIVES_PASSWORD)}
    left = [a for a in usable_administrators(stage.after) if a.identity in stage.usable_before]
    if not left:
        return list(steps)

    def fitness(account: Account) -> tuple[bool, bool, bool, float]:
        seen = account.last_sign_in.timestamp() if account.last_sign_in else 0.0
        stays = account.identity in course[-1].usable_after
        return stays, account.name in known, account.builtin is None, seen

    trial = TrySignIn(max(left, key=fitness).name, why="tested first because it replaces the administrator below")
    at = stage.number - 1
    return with_trials(snapshot, [*steps[:at], trial, *steps[at:]])


def check(course: Candidate, accepted: Collection[str] = ()) -> None:
    """Let a worksheet pass.

    Raises:
        GuardRefused: a line for each refusal.
    """
    refuse(refusals_on(course, accepted))


def refuse(found: Sequence[Refusal]) -> None:
    """Stop here when there are any.

    Raises:
        GuardRefused: a line for each refusal.
    """
    if found:
        raise GuardRefused("\n".join(map(str, found)))


def steps_before_loss(course: Sequence[StepEffect]) -> int:
    """How many steps come before the first that takes a usable administrator away: they land first."""
    return next((stage.number - 1 for stage in course if stage.lost), len(course))


def preconditions(snapshot: Snapshot, steps: Sequence[Step]) -> Mapping[str, object]:
    """What a worksheet rests on, by what to call it: who administers, and the accounts, groups and rules that its steps
    are about. What moves by itself (tries, sign-ins) does not count."""
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
        if (group_name := getattr(step, "group", None)) is not None:
            group = snapshot.group(group_name)
            found[f"group {group_name}"] = None if group is None else (group.identity, group.grants)
    return found


def _lasting_facts(account: Account | None) -> Account | None:
    if account is None:
        return None
    return evolve(
        account, last_sign_in=None, failed_attempts=0, locked_until=None, sessions=(), source=None, granted_by=()
    )


def check_unchanged(planned: Mapping[str, object], now: Mapping[str, object]) -> None:
    """The guard ``changed-machine``: what the worksheet rests on is still so.

    Raises:
        GuardRefused: it is not; the message names what moved.
    """
    moved = sorted(what for what in planned if planned[what] != now.get(what))
    if moved:
        raise GuardRefused(
            f"blocked by the guard changed-machine: {', '.join(moved)} changed since the plan was made. "
            "Run the command again."
        )
