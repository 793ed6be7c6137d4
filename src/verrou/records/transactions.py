"""Transactions: plans dry-run on a private copy and applied whole or not at all, undo and resume alike."""

import getpass
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress

from attrs import evolve, field, frozen

from verrou.core.errors import BadInput, BrokeOff, GuardRefused, MachineRefused, VerrouError
from verrou.core.history.entries import JournalEntry, JournalRecord, RunState, StepRecord
from verrou.core.judging import guards
from verrou.core.judging.differences import differences
from verrou.core.model import AccountName, Role, Snapshot, Status
from verrou.core.model.access import role_of, usable_administrators
from verrou.core.model.background_jobs import own_jobs
from verrou.core.model.verdicts import TrialResult
from verrou.core.prediction.predict import predict
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.steps.step import (
    GIVES_PASSWORD,
    CreateAccount,
    Remove,
    Rename,
    SetEnabled,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    takes_access,
)
from verrou.core.testing.trials import run_trials
from verrou.log import Log
from verrou.machines.changes import (
    Change,
    ChangeSet,
    FileChange,
    Outcome,
    PlaceState,
    RestoreResult,
    Secrets,
    Stamps,
    StepResult,
)
from verrou.machines.protocol import CannotLook, ChangeableMachine, Copy, DryRunUnavailable, Lacks, Machine, to_change
from verrou.records.interruptions import until_applied
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held, machine_lock
from verrou.records.standing import words_of

LOG = Log(__name__)


@frozen
class Mismatch:
    """A result that differs from the request."""

    subject: str
    asked: str
    came_out: str


@frozen
class DryRun:
    """The dry run of a plan: the result of each step, the machine afterwards, and the change set.

    ``trials`` are the tests on the copy. Where no copy could be made, ``prediction_reason`` says why, and ``after`` is
    predicted. ``entry`` is the journal's, once the changes are applied."""

    before: Snapshot
    after: Snapshot
    steps: tuple[tuple[Step, StepResult], ...]
    candidate: guards.Candidate
    changes: ChangeSet = ()
    stamps: Stamps = field(factory=dict)
    notices: tuple[str, ...] = ()
    blockers: tuple[str, ...] = ()
    trials: tuple[TrialResult, ...] = ()
    put_back: tuple[RestoreResult, ...] = ()
    prediction_reason: str = ""
    entry: int | None = None

    @property
    def rejected(self) -> list[tuple[Step, StepResult]]:
        """The steps that the machine would reject."""
        return [(step, result) for step, result in self.steps if result.outcome is Outcome.REJECTED]

    @property
    def mismatches(self) -> list[Mismatch]:
        """The results that would differ from the request."""
        return list(_surprises(self.steps, self.after))


@frozen
class RunInfo:
    """Run metadata stored in the journal."""

    command: str
    baseline: str = ""
    overridden: tuple[str, ...] = ()
    undoes: tuple[int, ...] = ()


def do_dry_run(
    machine: Machine, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool = False
) -> DryRun:
    """Do ``steps`` on a private copy of the machine, observe it, and with ``test`` test its rules there.

    Passwords that are not in ``secrets`` get stand-ins, and accounts that would need one for a test are not tested yet.
    Raises: NotEnoughRights, MachineRefused, BadInput: nothing can be changed here at all."""
    steps = with_files(machine, snapshot, steps)
    changeable = machine.changeable
    if isinstance(changeable, Lacks):
        return predicted_run(snapshot, steps, changeable.reason)
    try:
        with changeable.dry_run() as copy:
            return _dry_run_on(copy, snapshot, steps, secrets, test)
    except DryRunUnavailable as reason:
        LOG.info("no dry run, so the result is predicted: %s", reason)
        return predicted_run(snapshot, steps, str(reason))


def predicted_run(snapshot: Snapshot, steps: Sequence[Step], why: str) -> DryRun:
    """Return a prediction of the steps' effect on the machine, from facts."""
    candidate = guards.candidate_of(snapshot, steps)
    results = tuple((step, StepResult(Outcome.DONE)) for step in steps)
    return DryRun(snapshot, candidate.after, results, candidate, prediction_reason=why)


def _dry_run_on(copy: Copy, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool) -> DryRun:
    effects = guards.effects(snapshot, steps)
    giving = guards.steps_before_loss(effects)
    given = _with_stand_ins(steps, secrets, snapshot)
    results = copy.do(steps[:giving], given)
    if giving < len(steps):
        copy.mark()
        results += copy.do(steps[giving:], given)
    after = copy.observe()
    results = _tried_again(copy, steps, results, given, after)
    changes, gap = copy.changes(snapshot, after)
    refused = frozenset(n for n, result in enumerate(results, start=1) if result.outcome is Outcome.REJECTED)
    return DryRun(
        snapshot,
        after,
        tuple(zip(steps, results, strict=True)),
        guards.Candidate(snapshot, after, effects, refused, gap, _failed_trials(steps, results), dry_run_made=True),
        changes,
        copy.stamps(),
        tuple(copy.notices(changes)),
        (*copy.obstacles(changes), *_new_twins(snapshot, after)),
        _trials(copy, after) if test else (),
    )


def _tried_again(
    copy: Copy, steps: Sequence[Step], results: list[StepResult], given: Secrets, after: Snapshot
) -> list[StepResult]:
    """Return the results with each test sign-in repeated on the finished copy.

    A step after the test may have changed what the account depends on. An account that is no administrator by then
    keeps its result."""
    if only_tries(steps):
        return results
    found = list(results)
    left = {account.name for account in usable_administrators(after)}
    for number, step in enumerate(steps):
        if not isinstance(step, TrySignIn) or found[number].outcome is not Outcome.DONE:
            continue
        name = _later_name(step.account, steps[number + 1 :])
        if step.role is Role.ADMINISTRATOR and name in left:
            password = Secrets({name: given[step.account]} if step.account in given else {})
            (found[number],) = copy.do([evolve(step, account=name)], password)
    return found


def _later_name(name: AccountName, steps: Sequence[Step]) -> AccountName:
    for step in steps:
        if isinstance(step, Rename) and step.account == name:
            name = step.new_name
    return name


def _new_twins(before: Snapshot, after: Snapshot) -> Iterator[str]:
    """Yield new accounts that would share an ID: a number that was free may have been used since."""
    for identity, twins in after.by_identity.items():
        if len(twins) > 1 and len(before.by_identity.get(identity, ())) < len(twins):
            names = " and ".join(account.name for account in twins)
            yield f"{names} would share ID {identity}. Change one of them first."


def _failed_trials(steps: Sequence[Step], results: Sequence[StepResult]) -> dict[str, str]:
    """Return the accounts whose test sign-in failed, with the machine's message."""
    pairs = zip(steps, results, strict=True)
    return {s.account: r.message for s, r in pairs if isinstance(s, TrySignIn) and r.outcome is Outcome.REJECTED}


def _trials(copy: Copy, after: Snapshot) -> tuple[TrialResult, ...]:
    from random import SystemRandom

    return tuple(run_trials(copy.attempt, after, SystemRandom()))


def _with_stand_ins(steps: Sequence[Step], secrets: Secrets, snapshot: Snapshot) -> Secrets:
    """Return the secrets, with a random stand-in for each password that is not known yet."""
    from random import SystemRandom

    from verrou.core.testing.passwords import make_password, policy_of

    missing = [s.account for s in steps if isinstance(s, GIVES_PASSWORD) and s.password != "blank"]
    missing = [name for name in missing if name not in secrets]
    if not missing:
        return secrets
    policy, now = policy_of(snapshot), snapshot
    for step in steps:
        if isinstance(step, SetRules):
            now = predict(step, now)
            policy = policy.together(policy_of(now))
    stand_in = make_password(policy, "", SystemRandom())
    given = Secrets(secrets)
    for name in missing:
        given[name] = (
            stand_in if name.casefold() not in stand_in.casefold() else make_password(policy, name, SystemRandom())
        )
    return given


def _surprises(results: Sequence[tuple[Step, StepResult]], after: Snapshot) -> Iterator[Mismatch]:
    """Yield the values that differ from the request."""
    for step, result in results:
        if result.outcome is Outcome.REJECTED:
            continue
        account = after.by_name.get(step.account) if isinstance(step, CreateAccount) else None
        if isinstance(step, CreateAccount) and account is not None and role_of(account, after) is not step.role:
            lines = f" ({', '.join(map(str, account.granted_by))})" if account.granted_by else ""
            yield Mismatch(f"account {step.account}", str(step.role), f"{role_of(account, after)}{lines}")
        if not isinstance(step, SetRules):
            continue
        for setting in step.settings:
            kind, value, reading = setting.kind, setting.value, reading_of(CATALOGUE[setting.rule_id], after)
            stands = reading.pending if reading.pending is not None else reading.value
            as_asked = stands is not None and kind.accepts_result(stands, value, after.members)
            if as_asked and reading.status is Status.READ and reading.enforced:
                continue
            shown = "unset" if stands is None else kind.format(stands)
            shown += "" if reading.enforced else " (not enforced)"
            why = reading.reason or (str(reading.source) if reading.source else "")
            yield Mismatch(setting.rule_id, kind.format(value), f"{shown} ({why})" if why else shown)


def commit(
    machine: ChangeableMachine,
    dry_run: DryRun,
    secrets: Secrets,
    info: RunInfo,
    hand_over: Callable[[DryRun], None] = lambda _: None,
) -> tuple[int, DryRun]:
    """Apply a dry run. Return the entry's number and the dry run that was applied.

    Where something changed meanwhile that the plan does not rest on, the dry run is repeated on the present state.
    ``hand_over`` is called before anything changes, so that people have what they must get, such as passwords. Raises:
    GuardRefused: a precondition changed. MachineRefused: an earlier run was interrupted, another holds the machine, or
    this run was interrupted."""
    if dry_run.prediction_reason:
        raise MachineRefused(f"nothing was changed: no dry run is possible: {dry_run.prediction_reason}")
    with _at_work(machine, info.command) as journal:
        refuse_interrupted(journal)
        with machine.held():
            if not _stands(machine, dry_run):
                dry_run = _again(machine, dry_run, secrets, info)
            hand_over(dry_run)
            return _apply(machine, journal, dry_run, info), dry_run


def _stands(machine: ChangeableMachine, dry_run: DryRun) -> bool:
    """Return whether everything that the dry run read or changes is unchanged."""
    return not _otherwise(machine, dry_run)


def _otherwise(machine: ChangeableMachine, dry_run: DryRun) -> list[str]:
    """Return what differs from what the dry run read."""
    first: dict[str, Change] = {}
    for change in dry_run.changes:
        first.setdefault(change.place, change)
    found = [place for place, change in first.items() if machine.stands(change, 0) is not PlaceState.BEFORE]
    return list(dict.fromkeys((*machine.moved(dry_run.stamps), *found)))


def _ever_changing(machine: ChangeableMachine, dry_run: DryRun) -> MachineRefused:
    """Return what differs from the dry run again and again."""
    where = ", ".join(_otherwise(machine, dry_run)) or "something"
    return MachineRefused(
        f"nothing was changed: {where} always differs from the private copy. A program keeps writing there, or it "
        "is a link to where the copy is empty, such as /tmp"
    )


def _again(machine: ChangeableMachine, planned: DryRun, secrets: Secrets, info: RunInfo) -> DryRun:
    """Repeat the dry run on the present state, while the machine's locks keep others from writing."""
    steps = [step for step, _ in planned.steps]
    for _ in range(MOST_REHEARSALS):
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
        if _stands(machine, again):
            return again
    raise _ever_changing(machine, again)


MOST_REHEARSALS = 5
"""Most repetitions of a dry run while someone without the locks writes."""


def _apply(machine: ChangeableMachine, journal: Journal, dry_run: DryRun, info: RunInfo) -> int:
    with until_applied():
        try:
            number = journal.begin(_record(dry_run, info), dry_run.changes)
        except OSError as error:
            raise MachineRefused(f"nothing was changed: the journal cannot be written: {_io_words(error)}") from None
        _apply_all(machine, journal, _still_to_apply(machine, dry_run.changes, number), number)
        _sweep(machine, journal, number)
    machine.notify(f"entry {number}: {info.command}, by {current_user()}", [change.place for change in dry_run.changes])
    return number


def _apply_all(machine: ChangeableMachine, journal: Journal, changes: Iterable[Change], number: int) -> None:
    """Apply the changes of an entry, and close it. Raises: BrokeOff: some were not applied."""
    try:
        for change in changes:
            machine.apply(change, number)
        journal.finish(number)
    except (OSError, KeyboardInterrupt) as error:
        why = _io_words(error) if isinstance(error, OSError) else "it was interrupted"
        raise BrokeOff(
            f"entry {number} was interrupted: {why}. To finish: verrou resume. To revert: verrou undo"
        ) from None


def _io_words(error: OSError) -> str:
    return f"{error.strerror}{f' ({error.filename})' if error.filename else ''}"


def _sweep(machine: ChangeableMachine, journal: Journal, number: int | None = None) -> None:
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
                "To delete the rest: verrou resume"
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
        tried=tuple(sorted(guards.tried_names(dry_run.candidate))),
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
        with _at_work(to_change(machine), info.command) as journal:
            return journal.note(state, record)
    except (VerrouError, OSError) as error:
        LOG.info("this run is not in the journal: %s", error)
        return None


@contextmanager
def _at_work(machine: ChangeableMachine, command: str) -> Iterator[Journal]:
    """Yield the journal under the machine's one lock; first delete what finished entries left to be deleted.

    What cannot be deleted stops no one."""
    journal = Journal(machine.records_folder())
    journal.make_folder()
    with machine_lock(journal.folder, machine.name, command, current_user()):
        with suppress(BrokeOff):
            _sweep(machine, journal)
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


def dry_run_resume(machine: ChangeableMachine, journal: Journal, entry: JournalEntry) -> DryRun:
    """Do the rest of an interrupted run on a private copy of the machine, with what others wrote since.

    Raises: MachineRefused: no copy can be made."""
    snapshot = machine.observe(asked=True)
    try:
        with machine.dry_run() as copy:
            items: list[RestoreResult] = []
            places: set[str] = set()
            for change in _still_to_apply(machine, journal.changes(entry.number), entry.number, otherwise=True):
                if change.place in places:
                    copy.mark()
                    places.clear()
                places.add(change.place)
                items.append(copy.go_on(change, machine.stands(change, entry.number)))
            return _settled(snapshot, copy, items, tried=frozenset(entry.tried))
    except DryRunUnavailable as reason:
        raise MachineRefused(
            f"entry {entry.number} is still interrupted: {reason}. To try again: verrou resume. To revert: verrou undo"
        ) from None


def _settled(
    snapshot: Snapshot,
    copy: Copy,
    items: Sequence[RestoreResult],
    *,
    going_back: bool = False,
    tried: frozenset[str] = frozenset(),
) -> DryRun:
    """Return the dry run of a copy on which a run was undone or finished."""
    message = copy.finish_restore()
    after = copy.observe()
    changes, gap = copy.changes(snapshot, after)
    return DryRun(
        snapshot,
        after,
        (),
        guards.Candidate(snapshot, after, (), gap=gap, going_back=going_back, dry_run_made=True, tried_before=tried),
        changes,
        copy.stamps(),
        (*copy.notices(changes), *message),
        (*copy.obstacles(changes), *_new_twins(snapshot, after)),
        put_back=tuple(items),
    )


def check_resume(
    machine: ChangeableMachine, journal: Journal, dry_run: DryRun, entry: JournalEntry, info: RunInfo
) -> None:
    """Check that the rest of a run may be applied.

    Raises: GuardRefused: a guard blocks it on the present state. MachineRefused: it could not be applied."""
    accepted = (*entry.overridden, *info.overridden)
    found = guards.refusals_on(dry_run.candidate, accepted)
    if not found and _only_the_other_way(dry_run, lambda: dry_run_undo(machine, journal, [entry.number])):
        found = [guards.nobody_left("to return to a state with an administrator: verrou undo")]
    if found:
        words = "\n".join(map(str, found))
        raise GuardRefused(
            f"{words}\nentry {entry.number} stays interrupted, since the machine has changed. "
            f"To revert: verrou undo --entry {entry.number}"
        )
    if dry_run.blockers:
        raise MachineRefused(f"entry {entry.number} is still interrupted: " + "\n".join(dry_run.blockers))


def _only_the_other_way(dry_run: DryRun, other: Callable[[], DryRun]) -> bool:
    """Return whether no administrator is usable before and after, while the opposite direction would give one."""
    if dry_run.candidate.usable_before or dry_run.candidate.usable_after:
        return False
    try:
        return bool(other().candidate.usable_after)
    except (MachineRefused, BadInput):
        return False


def resume(machine: ChangeableMachine, info: RunInfo | None = None) -> tuple[JournalEntry | None, list[int]]:
    """Finish the interrupted run under the guards, and delete what finished ones left.

    Returns its entry, if there was one, and the entries of which something was deleted. Raises: BadInput: there is
    nothing to finish. GuardRefused: a guard blocks it now. MachineRefused: it was interrupted again, or the machine is
    locked."""
    info = info or RunInfo("resume")
    journal = Journal(machine.records_folder())
    left = [entry.number for entry in journal.pending_cleanup()]
    with _at_work(machine, info.command) as journal:
        entry = journal.interrupted_entry()
        if entry is None:
            if left:
                _sweep(machine, journal)
                return None, left
            raise BadInput(f"{machine.name}: no run was interrupted, so there is nothing to finish")
        with machine.held():
            dry_run = _settled_resume(machine, journal, entry, info)
            with until_applied():
                _apply_all(machine, journal, dry_run.changes, entry.number)
                _sweep(machine, journal)
        machine.notify(f"entry {entry.number}: resumed ({entry.command}), by {current_user()}", entry.places)
        return entry, left


def _settled_resume(machine: ChangeableMachine, journal: Journal, entry: JournalEntry, info: RunInfo) -> DryRun:
    """Return the dry run of the rest of a run on the present state, while the machine's locks keep others from
    writing."""
    for _ in range(MOST_REHEARSALS):
        dry_run = dry_run_resume(machine, journal, entry)
        check_resume(machine, journal, dry_run, entry, info)
        if not machine.moved(dry_run.stamps):
            return dry_run
    raise _ever_changing(machine, dry_run)


def _still_to_apply(
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


def dry_run_undo(machine: ChangeableMachine, journal: Journal, numbers: Sequence[int]) -> DryRun:
    """Undo entries on a private copy, the newest first, with what others wrote since.

    Raises: BadInput: the stored change set of an entry was modified."""
    snapshot = machine.observe(asked=True)
    later: dict[str, int] = {}
    for entry in journal.entries():
        if entry.number > max(numbers) and entry.note is None and entry.undone_by is None:
            later |= dict.fromkeys(entry.places, entry.number)
    items: list[RestoreResult] = []
    try:
        with machine.dry_run() as copy:
            for number in numbers:
                items += [copy.restore(change, later) for change in reversed(journal.changes(number))]
            return _settled(snapshot, copy, items, going_back=True)
    except DryRunUnavailable as reason:
        raise MachineRefused(f"nothing was changed: no dry run is possible: {reason}") from None


def to_undo(journal: Journal, entry: int | None, back_to: int | None) -> list[JournalEntry]:
    """Return the entries to undo, the newest first.

    They are the last one that changed something, one by number, or all after ``back_to``. Raises: BadInput: there is
    nothing to undo."""
    entries = journal.entries()
    changing = [each for each in entries if each.can_be_undone]
    broken = journal.interrupted_entry()
    if entry is not None:
        chosen = [each for each in changing if each.number == entry]
    elif back_to is not None:
        chosen = [each for each in changing if each.number > back_to and not each.undoes]
    else:
        chosen = [broken] if broken else [each for each in changing if not each.undoes][-1:]
    if broken and broken not in chosen:
        refuse_interrupted(journal)
    if not chosen:
        what = "nothing to undo" if entry is None else f"no entry {entry} that can be undone"
        raise BadInput(f"the journal has {what}. To list it: verrou journal list")
    return chosen[::-1]


def check_undo(
    machine: ChangeableMachine, journal: Journal, dry_run: DryRun, entries: Sequence[JournalEntry], info: RunInfo
) -> None:
    """Check that an undo may be applied. Raises: GuardRefused: a guard blocks it. MachineRefused: it could not be
    applied."""
    guards.check(dry_run.candidate, info.overridden)
    broken = next((entry for entry in entries if entry.is_interrupted), None)
    if broken and _only_the_other_way(dry_run, lambda: dry_run_resume(machine, journal, broken)):
        guards.refuse(
            [guards.nobody_left("to finish the run, after which an administrator can sign in: verrou resume")]
        )
    if dry_run.blockers:
        raise MachineRefused("nothing was changed: " + "\n".join(dry_run.blockers))


def undo(machine: ChangeableMachine, dry_run: DryRun, entries: Sequence[JournalEntry], info: RunInfo) -> int:
    """Apply the dry run of an undo; see :func:`commit`."""
    numbers = [entry.number for entry in entries]
    with _at_work(machine, info.command) as journal, machine.held():
        for _ in range(MOST_REHEARSALS):
            if _stands(machine, dry_run):
                return _apply(machine, journal, dry_run, evolve(info, undoes=tuple(numbers)))
            dry_run = dry_run_undo(machine, journal, numbers)
            check_undo(machine, journal, dry_run, entries, info)
    raise _ever_changing(machine, dry_run)


def with_files(machine: Machine, snapshot: Snapshot, steps: Sequence[Step]) -> list[Step]:
    """Return the steps; those that disable or remove an account get its files, as far as they can be listed."""
    stopped = {step.account for step in steps if isinstance(step, StopJobs)}
    closing = sum(takes_access(step) for step in steps)
    return [_with_files(machine, snapshot, step, stopped, alone=closing == 1) for step in steps]


def _with_files(machine: Machine, snapshot: Snapshot, step: Step, stopped: Collection[str], *, alone: bool) -> Step:
    """Add the account's files to a step.

    ``alone``: no other account is disabled with it, so that there is time to search everywhere."""
    if not isinstance(step, SetEnabled | Remove) or not takes_access(step) or step.files is not None:
        return step
    account = snapshot.by_name.get(step.account)
    try:
        found = None if account is None else machine.files_of(account, everywhere=alone or isinstance(step, Remove))
    except CannotLook:
        found = None
    if found is not None and account is not None and account.name in stopped:
        found = found.without(act.source.place for act in own_jobs(account))
    return evolve(step, files=found)


def only_tries(steps: Sequence[Step]) -> bool:
    """Return whether a plan contains nothing but tests, so that it changes nothing."""
    return all(isinstance(step, TrySignIn) for step in steps)


def current_user() -> str:
    """Return the name of the user who runs this, as they signed in."""
    try:
        return os.environ.get("SUDO_USER") or getpass.getuser()
    except (KeyError, OSError):
        return str(os.geteuid())
