"""What no worksheet may do. Each guard is a promise about the machine after each of its steps."""

from collections.abc import Callable, Collection, Iterator, Sequence

from attrs import frozen

from verrou.core.access import can_sign_in, grants_of, role_of, usable_administrators
from verrou.core.errors import GuardRefused
from verrou.core.model import Grant, PasswordState, Posture, Role, Status
from verrou.core.rules import CATALOGUE, agreements, reading_of
from verrou.core.steps import SetRules, Step
from verrou.core.values import Count, Span


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
    check: Callable[[Posture, Sequence[Step]], Iterator[Refusal]]
    may_be_accepted: bool = False


def _last_administrator(posture: Posture, steps: Sequence[Step]) -> Iterator[Refusal]:
    was = len(usable_administrators(posture))
    for number, step in enumerate(steps, start=1):
        posture = step.foresee(posture)
        usable = len(usable_administrators(posture))
        if usable == 0 and was > 0:
            yield Refusal(
                "last-administrator",
                number,
                f"{step.what} would leave no administrator who can sign in",
                "make another administrator first, or leave this one as it is",
            )
            return
        was = usable
    if was == 0 and steps:
        yield Refusal(
            "last-administrator",
            0,
            "no administrator could sign in at the console, neither before nor after it",
            "begin with an administrator who has a password (verrou account add NAME --role administrator)",
        )


def _contradiction(posture: Posture, steps: Sequence[Step]) -> Iterator[Refusal]:
    for number, step in enumerate(steps, start=1):
        posture = step.foresee(posture)
        if not isinstance(step, SetRules):
            continue
        touched = {rule_id for rule_id, _ in step.values}
        for rule, agreement, other in agreements():
            if not touched & {rule.id, other.id}:
                continue
            assert isinstance(rule.kind, Count | Span) and isinstance(other.kind, Count | Span)
            mine, theirs = reading_of(rule, posture).value, reading_of(other, posture).value
            if mine is None or theirs is None:
                continue
            if not agreement.holds(rule.kind.amount(mine), other.kind.amount(theirs)):
                yield Refusal(
                    "contradiction",
                    number,
                    f"{rule.id} ({rule.kind.say(mine)}) {agreement.words} {other.id} ({other.kind.say(theirs)})",
                    f"set {other.id} in the same worksheet",
                )


def _own_account(posture: Posture, steps: Sequence[Step]) -> Iterator[Refusal]:
    own = posture.machine.in_use
    if own not in posture.by_name:
        return
    for number, step in enumerate(steps, start=1):
        was = posture.by_name[own]
        role = role_of(was, posture)
        after = step.foresee(posture)
        is_now = after.by_name.get(own)
        closed = is_now is None or (was.enabled and not is_now.enabled)
        demoted = is_now is not None and role is Role.ADMINISTRATOR and role_of(is_now, after) is not role
        if closed or demoted:
            yield Refusal(
                "own-account",
                number,
                f"{step.what} is about the account you are using",
                "do it from another account, or say --accept own-account",
            )
            return
        posture = after


def _open_guest(posture: Posture, steps: Sequence[Step]) -> Iterator[Refusal]:
    for number, step in enumerate(steps, start=1):
        after = step.foresee(posture)
        if opened := _open_from_afar(after) - _open_from_afar(posture):
            yield Refusal(
                "open-guest",
                number,
                f"{step.what} would let {', '.join(sorted(opened))} in without a password from the network",
                "give it a password, or set password.blank_console_only=yes and keep it out of remote groups",
            )
            return
        posture = after


def _open_from_afar(posture: Posture) -> set[str]:
    """The accounts that a blank password opens by another way than the console."""
    reading = reading_of(CATALOGUE["password.blank_console_only"], posture)
    anywhere = not (reading.status is Status.READ and reading.value is True)
    today = posture.machine.now.date()
    return {
        account.name
        for account in posture.accounts
        if account.password is PasswordState.BLANK
        and can_sign_in(account, today)
        and (anywhere or Grant.REMOTE_SCREEN in grants_of(account, posture))
    }


GUARDS = (
    Guard(
        "last-administrator",
        "afterwards at least one administrator is enabled, unlocked, unexpired, has a password and may sign in",
        _last_administrator,
    ),
    Guard(
        "contradiction",
        "no set of rules that cannot hold together",
        _contradiction,
    ),
    Guard(
        "open-guest",
        "a blank password gets in at the console only",
        _open_guest,
    ),
    Guard(
        "own-account",
        "the account in use is not demoted or disabled by its own hand",
        _own_account,
        may_be_accepted=True,
    ),
)
ACCEPTABLE = tuple(guard.name for guard in GUARDS if guard.may_be_accepted)


def refusals(posture: Posture, steps: Sequence[Step], accepted: Collection[str] = ()) -> list[Refusal]:
    """What the guards have against doing ``steps`` on a machine that stands as ``posture``; the accepted ones are not
    asked, where they may be accepted at all."""
    asked = [guard for guard in GUARDS if not (guard.may_be_accepted and guard.name in accepted)]
    return [refusal for guard in asked for refusal in guard.check(posture, steps)]


def check(posture: Posture, steps: Sequence[Step], accepted: Collection[str] = ()) -> None:
    """Raise GuardRefused when any guard refuses."""
    if found := refusals(posture, steps, accepted):
        raise GuardRefused("\n".join(map(str, found)))


def runs(posture: Posture, steps: Sequence[Step]) -> list[list[Step]]:
    """The steps in order, cut wherever one begins to take a usable administrator away, or ends to."""
    cut: list[list[Step]] = []
    taking_before = None
    for step in steps:
        after = step.foresee(posture)
        taking = len(usable_administrators(after)) < len(usable_administrators(posture))
        if taking != taking_before:
            cut.append([])
        cut[-1].append(step)
        posture, taking_before = after, taking
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
