"""Doing a worksheet and undoing it: through the guards, with the way back on disk before the first change."""

import getpass
import os
from collections.abc import Callable, Iterator, Sequence

from attrs import evolve, frozen

from verrou.core import guards
from verrou.core.desired import AtLeast, Exactly
from verrou.core.errors import BadInput, MachineRefused, VerrouError
from verrou.core.model import Posture, Status
from verrou.core.rules import reading_of
from verrou.core.steps import Remove, SetEnabled, SetRules, Step, TrySignIn, takes_access
from verrou.core.values import NameSet
from verrou.machines import CannotLook, Machine, Outcome, PutBack, Secrets, StepResult
from verrou.records.journal import Entry, Journal


@frozen
class Surprise:
    """A rule that came out otherwise than it was set."""

    rule: str
    asked: str
    came_out: str


@frozen
class Run:
    """What became of a worksheet."""

    entry: int
    results: tuple[tuple[Step, StepResult], ...]
    surprises: tuple[Surprise, ...]
    after: Posture

    @property
    def all_well(self) -> bool:
        """No step was refused and no rule came out otherwise."""
        return not self.surprises and all(r.outcome is not Outcome.REFUSED for _, r in self.results)


def carry_out(
    machine: Machine,
    steps: Sequence[Step],
    based_on: str,
    secrets: Secrets,
    *,
    command: str,
    baseline: str = "",
    carry_on: bool = False,
    accepted: Sequence[str] = (),
    tell: Callable[[Step, StepResult], None] = lambda step, result: None,
) -> Run:
    """Do ``steps``, planned from the posture with the digest ``based_on``.

    Raises:
        GuardRefused: nothing was touched. MachineRefused: an earlier run broke off, or this one did.
    """
    journal = Journal(machine.records_folder())
    broken_off = journal.unfinished()
    if broken_off and not carry_on:
        raise MachineRefused(
            f"entry {broken_off.number} of the journal ({broken_off.command}, {broken_off.begun}) broke off: "
            "verrou undo goes back to before it, --carry-on goes on from here"
        )
    posture = machine.observe()
    guards.check_unmoved(based_on, posture)
    steps = with_files(machine, posture, steps)
    course = guards.check(posture, steps, accepted)
    if broken_off:
        journal.finish(broken_off.number, machine.remember(()))
    before = machine.remember(steps)
    number = journal.begin(command, _who(), baseline, accepted, [_told(step) for step in steps], before)
    results: list[tuple[Step, StepResult]] = []
    try:
        for step, result in _in_turn(machine, course, secrets, accepted):
            results.append((step, result))
            journal.step(number, step.what, result.outcome, result.said)
            tell(step, result)
    except VerrouError:
        if machine.remember(steps) == before:
            journal.finish(number, before)
        raise
    journal.finish(number, machine.remember(steps))
    after = machine.observe()
    return Run(number, tuple(results), tuple(_surprises(results, after)), after)


def _in_turn(
    machine: Machine, course: Sequence[guards.Stage], secrets: Secrets, accepted: Sequence[str]
) -> Iterator[tuple[Step, StepResult]]:
    """Do the steps, those that take an administrator away in runs of their own: when the machine refused one before,
    the guards look again at what is left, on the machine as it is."""
    left = [stage.step for stage in course]
    tried: list[Step] = []
    for run in guards.runs(course):
        refused = False
        for step, result in zip(run, machine.perform(run, secrets), strict=False):
            refused = refused or result.outcome is Outcome.REFUSED
            if isinstance(step, TrySignIn) and result.outcome is Outcome.DONE:
                tried.append(step)
            yield step, result
        left = left[len(run) :]
        if refused and left and (found := guards.refusals(machine.observe(), [*tried, *left], accepted)):
            why = f"not done, since a step before it was refused: {found[0].reason}"
            yield from ((step, StepResult(Outcome.REFUSED, why)) for step in left)
            return


def _told(step: Step) -> str:
    """A step for the journal, with the files that it names."""
    return f"{step.what} ({step.concerns})" if step.concerns else step.what


def with_files(machine: Machine, posture: Posture, steps: Sequence[Step]) -> list[Step]:
    """The steps, those that close or remove an account with what it keeps on the machine, as far as that can be
    looked at."""
    return [_with_files(machine, posture, step) for step in steps]


def _with_files(machine: Machine, posture: Posture, step: Step) -> Step:
    if not isinstance(step, SetEnabled | Remove) or not takes_access(step) or step.files is not None:
        return step
    account = posture.by_name.get(step.account)
    try:
        found = None if account is None else machine.files_of(account, everywhere=isinstance(step, Remove))
    except CannotLook:
        found = None
    return evolve(step, files=found)


def _surprises(results: Sequence[tuple[Step, StepResult]], after: Posture) -> Iterator[Surprise]:
    """Read again: what was set and stands otherwise now."""
    for step, result in results:
        if not isinstance(step, SetRules) or result.outcome is Outcome.REFUSED:
            continue
        for rule, value in step.rules:
            reading = reading_of(rule, after)
            stands = reading.pending if reading.pending is not None else reading.value
            asked = AtLeast(value) if isinstance(rule.kind, NameSet) else Exactly(value)
            as_asked = stands is not None and asked.met_by(rule, stands)
            if as_asked and reading.status is Status.READ and reading.in_force:
                continue
            shown = "unset" if stands is None else rule.kind.say(stands)
            yield Surprise(rule.id, rule.kind.say(value), shown + ("" if reading.in_force else ", not in force"))


def undo(machine: Machine, number: int | None) -> tuple[Entry, list[PutBack]]:
    """Go back over entry ``number``, or the last one that is not undone.

    Raises:
        BadInput: there is nothing to undo. GuardRefused: the machine would be left without what the guards promise.
    """
    journal = Journal(machine.records_folder())
    left = [entry for entry in journal.entries() if entry.undone is None]
    if number is not None:
        left = [entry for entry in left if entry.number == number]
    if not left:
        what = "nothing" if number is None else f"no entry {number} that is not undone"
        raise BadInput(f"{machine.name}: the journal holds {what}; verrou undo --list shows it")
    entry = left[-1]
    before, after = journal.before(entry.number), journal.after(entry.number)
    guards.check_way_back(machine.observe(), machine.foresee(before))
    done = list(machine.put_back(before, after))
    if all(item.outcome is not Outcome.REFUSED for item in done):
        journal.undone(entry.number)
    return entry, done


def _who() -> str:
    """Whoever runs this, by the name they signed in with."""
    try:
        return os.environ.get("SUDO_USER") or getpass.getuser()
    except (KeyError, OSError):
        return str(os.geteuid())
