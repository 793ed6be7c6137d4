"""A change plan under review: snapshots before and after, and the effect of each step."""

from collections.abc import Mapping, Sequence
from functools import cached_property

from attrs import define, field, frozen

from verrou.core.model import (
    Account,
    Snapshot,
)
from verrou.core.model.access import (
    possible_administrators,
    usable_administrator,
    usable_administrators,
)
from verrou.core.model.known import Known
from verrou.core.prediction.predict import predict
from verrou.core.steps.step import (
    Step,
)


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


@frozen(repr=False)
class Arrival:
    """How a second sign-in from another computer went on the private copy, by the account in use there.

    Not known is one that could not be tried."""

    account: str
    succeeded: Known
    message: str


@define(frozen=True, eq=False, slots=False)
class Candidate:
    """Change plan under review: snapshots before and after, and the effect of each step.

    ``refused`` are the numbers of steps that the machine would reject. ``gap`` says at which moment of applying it no
    administrator could sign in; ``failed_trials`` are failed test sign-ins, with the machine's message. ``going_back``:
    the plan is an undo. ``dry_run_made`` is False where ``after`` is only predicted. ``tried_before`` were tested by
    the run that this one resumes. ``arrival`` is a second sign-in from another computer, where the user came from
    one."""

    before: Snapshot
    after: Snapshot
    effects: Sequence[StepEffect]
    refused: frozenset[int] = frozenset()
    gap: str = ""
    failed_trials: Mapping[str, str] = field(factory=dict)
    going_back: bool = False
    dry_run_made: bool = False
    tried_before: frozenset[str] = frozenset()
    arrival: Arrival | None = None

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
        left = {which(account, self.after) for account in possible_administrators(self.after)}
        return [each for each in possible_administrators(self.before) if which(each, self.before) not in left]

    @property
    def done(self) -> list[StepEffect]:
        """Effects of the steps that the machine would not reject."""
        return [effect for effect in self.effects if effect.number not in self.refused]


def which(account: Account, snapshot: Snapshot) -> tuple[str, str]:
    """Return a key that identifies an account under any name; the name where several share one ID."""
    return account.identity, account.name if len(snapshot.by_identity[account.identity]) > 1 else ""


def candidate_of(snapshot: Snapshot, steps: Sequence[Step]) -> Candidate:
    """Return the candidate of a plan as predicted from facts."""
    found = effects(snapshot, steps)
    return Candidate(snapshot, found[-1].after if found else snapshot, found)


@frozen(repr=False)
class Refusal:
    """Which step breaks which guard, and what to do about it. ``step`` counts from 1; 0 is the whole plan."""

    guard: str
    step: int
    reason: str
    mend: str

    def __str__(self) -> str:
        where = f"step {self.step}" if self.step else "the plan"
        return f"{where} is blocked by the guard {self.guard}: {self.reason}. {self.mend[:1].upper()}{self.mend[1:]}"


def steps_before_loss(candidate: Sequence[StepEffect]) -> int:
    """Return how many steps come before the first that removes a usable administrator: they are applied first."""
    return next((effect.number - 1 for effect in candidate if effect.lost), len(candidate))
