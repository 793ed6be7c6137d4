"""Transactions: dry runs applied whole or not at all, and recorded."""

import getpass
import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress

from attrs import evolve, frozen

from verrou.core import advice
from verrou.core.errors import BrokeOff, GuardRefused, MachineRefused, VerrouError
from verrou.core.history.entries import JournalRecord, RunState, StepRecord
from verrou.core.judging import administrator_guards, guards
from verrou.core.judging.differences import differences
from verrou.log import Log
from verrou.machines.changes import (
    Change,
    ChangeSet,
    FileChange,
    Outcome,
    PlaceState,
    Secrets,
)
from verrou.machines.protocol import ChangeableMachine, Machine, to_change
from verrou.records.dry_runs import DryRun, do_dry_run
from verrou.records.interruptions import until_applied
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held, machine_lock
from verrou.records.standing import how_to_go_on, words_of

LOG = Log(__name__)


@frozen(repr=False)
class RunInfo:
    """Run metadata stored in the journal."""

    command: str
    baseline: str = ""
    overridden: tuple[str, ...] = ()
    undoes: tuple[int, ...] = ()


def commit(
    machine: ChangeableMachine,
    dry_run: DryRun,
    secrets: Secrets,
    info: RunInfo,
    hand_over: Callable[[DryRun, int], None] = lambda _, __: None,
) -> tuple[int, DryRun]:
    """Apply a dry run. Return the entry's number and the dry run that was applied.

    Where something changed meanwhile that the plan does not rest on, the dry run is repeated on the present state.
    ``hand_over`` is called with it and the entry's number before anything changes, so that people have what they must
    get, such as passwords. Raises:
    GuardRefused: a precondition changed. MachineRefused: an earlier run was interrupted, another holds the machine, or
    this run was interrupted."""
    if dry_run.prediction_reason:
        raise MachineRefused(f"nothing was changed: no dry run is possible: {dry_run.prediction_reason}")
    with locked_journal(machine, info.command) as journal:
        refuse_interrupted(journal)
        with machine.held():
            if not is_unchanged(machine, dry_run):
                dry_run = _again(machine, dry_run, secrets, info)
            hand_over(dry_run, journal.next_number())
            return apply(machine, journal, dry_run, info), dry_run


def is_unchanged(machine: ChangeableMachine, dry_run: DryRun) -> bool:
    """Return whether everything that the dry run read or changes is unchanged."""
    return not _differing_places(machine, dry_run)


def _differing_places(machine: ChangeableMachine, dry_run: DryRun) -> list[str]:
    """Return what differs from what the dry run read."""
    first: dict[str, Change] = {}
    for change in dry_run.changes:
        first.setdefault(change.place, change)
    found = [place for place, change in first.items() if machine.stands(change, 0) is not PlaceState.BEFORE]
    return list(dict.fromkeys((*machine.moved(dry_run.stamps), *found)))


def keeps_changing(machine: ChangeableMachine, dry_run: DryRun) -> MachineRefused:
    """Return what differs from the dry run again and again."""
    where = ", ".join(_differing_places(machine, dry_run)) or "something"
    return MachineRefused(
        f"nothing was changed: {where} always differs from the private copy. A program keeps writing there, or it "
        "is a link to where the copy is empty, such as /tmp"
    )


def _again(machine: ChangeableMachine, planned: DryRun, secrets: Secrets, info: RunInfo) -> DryRun:
    """Repeat the dry run on the present state, while the machine's locks keep others from writing."""
    steps = [step for step, _ in planned.steps]
    for _ in range(MOST_DRY_RUNS):
        snapshot = machine.observe(asked=True)
        guards.check_unchanged(guards.preconditions(planned.before, steps), guards.preconditions(snapshot, steps))
        again = do_dry_run(machine, snapshot, steps, secrets)
        if again.prediction_reason:
            raise MachineRefused(f"nothing was changed: no dry run is possible: {again.prediction_reason}")
        guards.check(again.candidate, info.overridden)
        refused = {n for n, (_, result) in enumerate(again.steps) if result.outcome is Outcome.REJECTED}
        if refused - {n for n, (_, result) in enumerate(planned.steps) if result.outcome is Outcome.REJECTED}:
            step, result = again.steps[min(refused)]
            raise GuardRefused(
                f"blocked by the guard changed-machine: the machine changed since the plan was made, and a step would "
                f"now be rejected: {step.what} ({result.message}). Run the command again."
            )
        if is_unchanged(machine, again):
            return again
    raise keeps_changing(machine, again)


MOST_DRY_RUNS = 5
"""Most repetitions of a dry run while someone without the locks writes."""


def apply(machine: ChangeableMachine, journal: Journal, dry_run: DryRun, info: RunInfo) -> int:
    with until_applied():
        try:
            number = journal.begin(_record(dry_run, info), dry_run.changes)
        except OSError as error:
            raise MachineRefused(f"nothing was changed: the journal cannot be written: {_io_words(error)}") from None
        apply_all(machine, journal, still_to_apply(machine, dry_run.changes, number), number)
        clean_up_entries(machine, journal, number)
    machine.notify(f"entry {number}: {info.command}, by {current_user()}", [change.place for change in dry_run.changes])
    return number


def apply_all(machine: ChangeableMachine, journal: Journal, changes: Iterable[Change], number: int) -> None:
    """Apply the changes of an entry, and close it. Raises: BrokeOff: some were not applied."""
    try:
        for change in changes:
            machine.apply(change, number)
        journal.finish(number)
    except (OSError, KeyboardInterrupt) as error:
        why = _io_words(error) if isinstance(error, OSError) else "it was interrupted"
        raise BrokeOff(f"entry {number} was interrupted: {why}. {how_to_go_on()}") from None


def _io_words(error: OSError) -> str:
    return f"{error.strerror}{f' ({error.filename})' if error.filename else ''}"


def clean_up_entries(machine: ChangeableMachine, journal: Journal, number: int | None = None) -> None:
    """Delete staged files and those moved aside by finished entries (or one entry).

    What cannot be deleted now, the next run deletes. Raises: BrokeOff: something is left."""
    for entry in journal.pending_cleanup():
        if number not in (None, entry.number):
            continue
        try:
            machine.clean_up(journal.changes(entry.number), entry.number, staged_only=not entry.finished)
            journal.swept(entry.number)
        except (OSError, KeyboardInterrupt) as error:
            why = _io_words(error) if isinstance(error, OSError) else "that was interrupted"
            raise BrokeOff(
                f"entry {entry.number} is done, but not everything it removes could be deleted: {why}. "
                f"To delete the rest: {advice.resume()}"
            ) from None


def _record(dry_run: DryRun, info: RunInfo) -> JournalRecord:
    """Return what the journal records of a run; it contains no secret."""
    steps = [
        StepRecord(
            f"{step.what} ({step.concerns})" if step.concerns else step.what, str(result.outcome), result.message
        )
        for step, result in dry_run.steps
    ]
    steps += [StepRecord(f"restored {item.place}", str(item.outcome), item.message) for item in dry_run.put_back]
    return JournalRecord(
        command=info.command,
        by=current_user(),
        baseline=info.baseline,
        overridden=info.overridden,
        steps=tuple(steps),
        differences=tuple(differences(dry_run.before, dry_run.after)),
        undoes=info.undoes,
        tried=tuple(sorted(administrator_guards.tried_names(dry_run.candidate))),
    )


def note(machine: Machine, dry_run: DryRun, state: RunState, info: RunInfo, why: str = "") -> int | None:
    """Record a run that changed nothing; a machine without a journal records nothing."""
    record = evolve(_record(evolve(dry_run, after=dry_run.before), info), why=why)
    if state is RunState.REJECTED:
        steps = [
            StepRecord(step.what, str(result.outcome), result.message)
            if result.outcome is Outcome.REJECTED
            else StepRecord(step.what, "not done")
            for step, result in dry_run.steps
        ]
        record = evolve(record, steps=tuple(steps))
    try:
        with locked_journal(to_change(machine), info.command) as journal:
            return journal.note(state, record)
    except (VerrouError, OSError) as error:
        LOG.info("this run is not in the journal: %s", error)
        return None


@contextmanager
def locked_journal(machine: ChangeableMachine, command: str) -> Iterator[Journal]:
    """Yield the journal under the machine's one lock; first delete what finished entries left to be deleted.

    What cannot be deleted stops no one."""
    journal = Journal(machine.records_folder())
    journal.make_folder()
    with machine_lock(journal.folder, machine.name, command, current_user()):
        with suppress(BrokeOff):
            clean_up_entries(machine, journal)
        yield journal


def check_whole(machine: ChangeableMachine) -> None:
    """Check that no run was interrupted, before a dry run or a prompt.

    Raises: MachineRefused: one was, or nothing can be changed here."""
    journal = Journal(machine.records_folder())
    if not is_held(journal.folder):
        refuse_interrupted(journal)


def refuse_interrupted(journal: Journal) -> None:
    """Reject changes of a machine on which a run was interrupted. Raises: MachineRefused: one was."""
    if entry := journal.interrupted_entry():
        raise MachineRefused(words_of(entry))


def still_to_apply(
    machine: ChangeableMachine, changes: ChangeSet, number: int, *, otherwise: bool = False
) -> Iterator[Change]:
    """Yield the changes not yet applied, in order; with ``otherwise`` also those that others wrote to since."""
    last = {change.place: change for change in changes if isinstance(change, FileChange)}
    for change in changes:
        if isinstance(change, FileChange) and machine.stands(last[change.place], number) is PlaceState.AFTER:
            continue
        stands = machine.stands(change, number)
        if stands is PlaceState.BEFORE or (otherwise and stands is PlaceState.OTHER and isinstance(change, FileChange)):
            yield change


def current_user() -> str:
    """Return the name of the user who runs this, as they signed in."""
    try:
        return os.environ.get("SUDO_USER") or getpass.getuser()
    except (KeyError, OSError):
        return str(os.geteuid())
