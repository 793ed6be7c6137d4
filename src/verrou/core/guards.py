"""What no worksheet may do. Each guard is a promise about the machine after each of its steps."""

from collections.abc import Callable, Iterator, Sequence

from attrs import frozen

from verrou.core.access import usable_administrators
from verrou.core.errors import GuardRefused
from verrou.core.model import Posture
from verrou.core.rules import agreements, reading_of
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
    """``sentence`` is the promise; ``check`` yields what breaks it."""

    name: str
    sentence: str
    check: Callable[[Posture, Sequence[Step]], Iterator[Refusal]]


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
)


def refusals(posture: Posture, steps: Sequence[Step]) -> list[Refusal]:
    """What the guards have against doing ``steps`` on a machine that stands as ``posture``."""
    return [refusal for guard in GUARDS for refusal in guard.check(posture, steps)]


def check(posture: Posture, steps: Sequence[Step]) -> None:
    """Raise GuardRefused when any guard refuses."""
    if found := refusals(posture, steps):
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
