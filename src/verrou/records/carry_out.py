"""Worksheets rehearsed on a private copy, and landed whole or not at all; going back and going on are done alike."""

import getpass
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress

from attrs import evolve, field, frozen

from verrou.core import guards
from verrou.core.differences import differences
from verrou.core.entries import JournalEntry, RunState
from verrou.core.errors import BadInput, BrokeOff, GuardRefused, MachineRefused, VerrouError
from verrou.core.model import AccountName, Role, Snapshot, Status
from verrou.core.model.access import role_of, usable_administrators
from verrou.core.model.acting import own_jobs
from verrou.core.plan.foresee import predict
from verrou.core.plan.steps import (
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
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.trials import TrialResult, run_trials
from verrou.machines import (
    CannotLook,
    Change,
    ChangeSet,
    Copy,
    DryRunUnavailable,
    FolderOperation,
    Machine,
    Outcome,
    PlaceState,
    RestoreResult,
    Secrets,
    Stamps,
    StepResult,
)
from verrou.records.interruptions import until_landed
from verrou.records.journal import Journal
from verrou.records.machine_lock import is_held, machine_lock
from verrou.records.standing import words_of


@frozen
class Mismatch:
    """What came out otherwise than it was asked for."""

    subject: str
    asked: str
    came_out: str


@frozen
class DryRun:
    """The dry run of a plan: the result of each step, the machine afterwards, and the change set. ``trials`` are the
    tests on the copy. Where no copy could be made, ``prediction_reason`` says why, and ``after`` is predicted.
    ``entry`` is that of the journal, once the changes are applied."""

    before: Snapshot
    after: Snapshot
    steps: tuple[tuple[Step, StepResult], ...]
    course: guards.Candidate
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
        """The steps that the machine would refuse."""
        return [(step, result) for step, result in self.steps if result.outcome is Outcome.REJECTED]

    @property
    def mismatches(self) -> list[Mismatch]:
        """What would come out otherwise than it was asked for."""
        return list(_surprises(self.steps, self.after))


@frozen
class RunInfo:
    """What the journal is told of a run beside its steps."""

    command: str
    baseline: str = ""
    overridden: tuple[str, ...] = ()
    undoes: tuple[int, ...] = ()


def do_dry_run(
    machine: Machine, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool = False
) -> DryRun:
    """Do ``steps`` on a private copy of the machine, observe the copy, and with ``test`` test its rules there.
    Passwords that are not in ``secrets`` get stand-ins, and whoever has to be tried with one is not tried yet.

    Raises:
        NotEnoughRights, MachineRefused, BadInput: nothing can be changed here at all.
    """
    steps = with_files(machine, snapshot, steps)
    try:
        with machine.dry_run() as copy:
            return _dry_run_on(copy, snapshot, steps, secrets, test)
    except DryRunUnavailable as reason:
        return predicted_run(snapshot, steps, str(reason))


def predicted_run(snapshot: Snapshot, steps: Sequence[Step], why: str) -> DryRun:
    """What the steps would make of the machine, as far as that follows from facts."""
    course = guards.candidate_of(snapshot, steps)
    results = tuple((step, StepResult(Outcome.DONE)) for step in steps)
    return DryRun(snapshot, course.after, results, course, prediction_reason=why)


def _dry_run_on(copy: Copy, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool) -> DryRun:
    stages = guards.stages(snapshot, steps)
    giving = guards.steps_before_loss(stages)
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
        guards.Candidate(snapshot, after, stages, refused, gap, _failed_trials(steps, results), rehearsed=True),
        changes,
        copy.stamps(),
        tuple(copy.remarks(changes)),
        (*copy.obstacles(changes), *_new_twins(snapshot, after)),
        _trials(copy, after) if test else (),
    )


def _tried_again(
    copy: Copy, steps: Sequence[Step], results: list[StepResult], given: Secrets, after: Snapshot
) -> list[StepResult]:
    """The results, with those of trials by what comes of them on the finished copy: what a step after a trial did may
    be what the account rests on. Who administers no more by then is tried where the worksheet has it alone."""
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
    """Accounts that would come to have one identity: a number that was free may have been given away since."""
    for identity, twins in after.by_identity.items():
        if len(twins) > 1 and len(before.by_identity.get(identity, ())) < len(twins):
            names = " and ".join(account.name for account in twins)
            yield f"{names} would share ID {identity}. Change one of them first."


def _failed_trials(steps: Sequence[Step], results: Sequence[StepResult]) -> dict[str, str]:
    """Who was tried and did not get through, with what the machine said."""
    pairs = zip(steps, results, strict=True)
    return {s.account: r.said for s, r in pairs if isinstance(s, TrySignIn) and r.outcome is Outcome.REJECTED}


def _trials(copy: Copy, after: Snapshot) -> tuple[TrialResult, ...]:
    from random import SystemRandom

    return tuple(run_trials(copy.attempt, after, SystemRandom()))


def _with_stand_ins(steps: Sequence[Step], secrets: Secrets, snapshot: Snapshot) -> Secrets:
    """The secrets, and for each password that is not known yet one that nobody will ever use."""
    from random import SystemRandom

    from verrou.core.passwords import make_password, policy_of

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
    """What was asked for and stands otherwise."""
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
            shown = "unset" if stands is None else kind.say(stands)
            shown += "" if reading.enforced else " (not enforced)"
            why = reading.reason or (str(reading.source) if reading.source else "")
            yield Mismatch(setting.rule_id, kind.say(value), f"{shown} ({why})" if why else shown)


def commit(
    machine: Machine,
    rehearsal: DryRun,
    secrets: Secrets,
    told: RunInfo,
    hand_over: Callable[[DryRun], None] = lambda _: None,
) -> tuple[int, DryRun]:
    """Land what was rehearsed. Where something moved meanwhile that the worksheet does not rest on, it is rehearsed
    again on what stands, and goes on. ``hand_over`` is called with what is about to land: what people must be given,
    such as passwords, is theirs before anything changes. Answers with the entry's number and what landed.

    Raises:
        GuardRefused: what it rests on moved. MachineRefused: an earlier run broke off, another holds the machine, or
        this run broke off.
    """
    if rehearsal.prediction_reason:
        raise MachineRefused(f"nothing was changed: no dry run is possible: {rehearsal.prediction_reason}")
    with _at_work(machine, told.command) as journal:
        refuse_interrupted(journal)
        with machine.held():
            if not _stands(machine, rehearsal):
                rehearsal = _again(machine, rehearsal, secrets, told)
            hand_over(rehearsal)
            return _land(machine, journal, rehearsal, told), rehearsal


def _stands(machine: Machine, rehearsal: DryRun) -> bool:
    """Whether everything that the rehearsal read or changes still is as it was."""
    return not _otherwise(machine, rehearsal)


def _otherwise(machine: Machine, rehearsal: DryRun) -> list[str]:
    """What is not as the rehearsal read it or found it."""
    first: dict[str, Change | FolderOperation] = {}
    for change in rehearsal.changes:
        first.setdefault(change.place, change)
    found = [place for place, change in first.items() if machine.stands(change, 0) is not PlaceState.BEFORE]
    return list(dict.fromkeys((*machine.moved(rehearsal.stamps), *found)))


def _restless(machine: Machine, rehearsal: DryRun) -> MachineRefused:
    """What is never as it was rehearsed, time after time."""
    where = ", ".join(_otherwise(machine, rehearsal)) or "something"
    return MachineRefused(
        f"nothing was changed: {where} is never as it was on the private copy; something keeps writing there, or it "
        "is a link to where the copy is empty, such as /tmp"
    )


def _again(machine: Machine, planned: DryRun, secrets: Secrets, told: RunInfo) -> DryRun:
    """Rehearse on what stands now; nobody who keeps to the machine's locks writes meanwhile."""
    steps = [step for step, _ in planned.steps]
    for _ in range(MOST_REHEARSALS):
        snapshot = machine.observe(asked=True)
        guards.check_unchanged(guards.preconditions(planned.before, steps), guards.preconditions(snapshot, steps))
        again = do_dry_run(machine, snapshot, steps, secrets)
        if again.prediction_reason:
            raise MachineRefused(f"nothing was changed: no dry run is possible: {again.prediction_reason}")
        guards.check(again.course, told.overridden)
        refused = {n for n, (_, result) in enumerate(again.steps) if result.outcome is Outcome.REJECTED}
        if refused - {n for n, (_, result) in enumerate(planned.steps) if result.outcome is Outcome.REJECTED}:
            step, result = again.steps[min(refused)]
            raise GuardRefused(
                f"blocked by the guard changed-machine: the machine changed since the plan was made, and a step would "
                f"now be rejected: {step.what} ({result.said}). Run the command again."
            )
        if _stands(machine, again):
            return again
    raise _restless(machine, again)


MOST_REHEARSALS = 5
"""How often a worksheet is rehearsed again while somebody who keeps to no lock writes."""


def _land(machine: Machine, journal: Journal, rehearsal: DryRun, told: RunInfo) -> int:
    with until_landed():
        try:
            number = journal.begin(_lines(rehearsal, told), rehearsal.changes)
        except OSError as error:
            raise MachineRefused(f"nothing was changed: the journal cannot be written: {_io_words(error)}") from None
        _land_all(machine, journal, _still_to_land(machine, rehearsal.changes, number), number)
        _sweep(machine, journal, number)
    machine.notify(f"entry {number}: {told.command}, by {current_user()}", [change.place for change in rehearsal.changes])
    return number


def _land_all(machine: Machine, journal: Journal, changes: Iterable[Change | FolderOperation], number: int) -> None:
    """Land the changes of an entry, and close it.

    Raises:
        BrokeOff: not all of them did.
    """
    try:
        for change in changes:
            machine.land(change, number)
        journal.finish(number)
    except (OSError, KeyboardInterrupt) as error:
        why = _io_words(error) if isinstance(error, OSError) else "it was interrupted"
        raise BrokeOff(
            f"entry {number} was interrupted: {why}. To finish: verrou resume. To revert: verrou undo"
        ) from None


def _io_words(error: OSError) -> str:
    return f"{error.strerror}{f' ({error.filename})' if error.filename else ''}"


def _sweep(machine: Machine, journal: Journal, number: int | None = None) -> None:
    """Delete what finished entries moved away (or the one of that number), and what was staged; what cannot be deleted
    now, the next run does.

    Raises:
        BrokeOff: something is left.
    """
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


def _lines(rehearsal: DryRun, told: RunInfo) -> dict[str, object]:
    """What the journal tells of a run; no secret is in any of it."""
    steps = [
        {"what": f"{s.what} ({s.concerns})" if s.concerns else s.what, "outcome": str(r.outcome), "said": r.said}
        for s, r in rehearsal.steps
    ]
    steps += [{"what": f"restored {p.place}", "outcome": str(p.outcome), "said": p.said} for p in rehearsal.put_back]
    found = differences(rehearsal.before, rehearsal.after)
    return {
        "command": told.command,
        "by": current_user(),
        "baseline": told.baseline,
        "overridden": list(told.overridden),
        "steps": steps,
        "differences": [{"subject": d.subject, "fact": d.fact, "was": d.was, "now": d.now} for d in found],
        "undoes": list(told.undoes),
        "tried": sorted(guards.tried_names(rehearsal.course)),
    }


def note(machine: Machine, rehearsal: DryRun, state: RunState, told: RunInfo, why: str = "") -> int | None:
    """Tell the journal of a run that changed nothing; a machine that takes no journal is told nothing."""
    lines = _lines(evolve(rehearsal, after=rehearsal.before), told) | {"why": why}
    if state is RunState.REJECTED:
        lines["steps"] = [
            {"what": step.what, "outcome": str(r.outcome), "said": r.said}
            if r.outcome is Outcome.REJECTED
            else {"what": step.what, "outcome": "not done", "said": ""}
            for step, r in rehearsal.steps
        ]
    try:
        with _at_work(machine, told.command) as journal:
            return journal.note(state, lines)
    except (VerrouError, OSError):
        return None


@contextmanager
def _at_work(machine: Machine, command: str) -> Iterator[Journal]:
    """The journal, under the machine's one lock; what a finished entry left to be deleted is deleted first. What cannot
    be deleted stands in nobody's way."""
    journal = Journal(machine.records_folder())
    journal.make_folder()
    with machine_lock(journal.folder, machine.name, command, current_user()):
        with suppress(BrokeOff):
            _sweep(machine, journal)
        yield journal


def check_whole(machine: Machine) -> None:
    """Before anything is rehearsed or asked: a run that broke off is named.

    Raises:
        MachineRefused: one did, or nothing can be changed here.
    """
    journal = Journal(machine.records_folder())
    if not is_held(journal.folder):
        refuse_interrupted(journal)


def refuse_interrupted(journal: Journal) -> None:
    """Refuse to change a machine on which a run was interrupted.

    Raises:
        MachineRefused: one did.
    """
    if entry := journal.interrupted_entry():
        raise MachineRefused(words_of(entry))


def dry_run_resume(machine: Machine, journal: Journal, entry: JournalEntry) -> DryRun:
    """What is left of a run that broke off, done on a private copy of the machine as it stands now: with what others
    wrote since.

    Raises:
        MachineRefused: no copy can be made.
    """
    snapshot = machine.observe(asked=True)
    try:
        with machine.dry_run() as copy:
            items: list[RestoreResult] = []
            places: set[str] = set()
            for change in _still_to_land(machine, journal.changes(entry.number), entry.number, otherwise=True):
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
    """What comes of a copy on which everything was put back, or done that was left."""
    said = copy.finish_restore()
    after = copy.observe()
    changes, gap = copy.changes(snapshot, after)
    return DryRun(
        snapshot,
        after,
        (),
        guards.Candidate(snapshot, after, (), gap=gap, going_back=going_back, rehearsed=True, tried_before=tried),
        changes,
        copy.stamps(),
        (*copy.remarks(changes), *said),
        (*copy.obstacles(changes), *_new_twins(snapshot, after)),
        put_back=tuple(items),
    )


def check_resume(machine: Machine, journal: Journal, rehearsal: DryRun, entry: JournalEntry, told: RunInfo) -> None:
    """Let what is left of a run land.

    Raises:
        GuardRefused: a guard is against it, on the machine as it stands now. MachineRefused: it could not land.
    """
    accepted = (*entry.overridden, *told.overridden)
    found = guards.refusals_on(rehearsal.course, accepted)
    if not found and _only_the_other_way(rehearsal, lambda: dry_run_undo(machine, journal, [entry.number])):
        found = [guards.nobody_left("to return to a state with an administrator: verrou undo")]
    if found:
        words = "\n".join(map(str, found))
        raise GuardRefused(
            f"{words}\nentry {entry.number} stays interrupted, since the machine has changed. "
            f"To revert: verrou undo --entry {entry.number}"
        )
    if rehearsal.blockers:
        raise MachineRefused(f"entry {entry.number} is still interrupted: " + "\n".join(rehearsal.blockers))


def _only_the_other_way(rehearsal: DryRun, other: Callable[[], DryRun]) -> bool:
    """Whether nobody can administer now nor afterwards, and somebody could if it were gone the other way."""
    if rehearsal.course.usable_before or rehearsal.course.usable_after:
        return False
    try:
        return bool(other().course.usable_after)
    except (MachineRefused, BadInput):
        return False


def resume(machine: Machine, told: RunInfo | None = None) -> tuple[JournalEntry | None, list[int]]:
    """Finish the run that broke off, judged like any worksheet, and delete what finished ones left. Answers with its
    entry, if there was one, and the entries of which something was deleted.

    Raises:
        BadInput: there is nothing to finish. GuardRefused: it may not be finished any more. MachineRefused: it broke
        off again, or the machine is held.
    """
    told = told or RunInfo("resume")
    journal = Journal(machine.records_folder())
    left = [entry.number for entry in journal.pending_cleanup()]
    with _at_work(machine, told.command) as journal:
        entry = journal.interrupted_entry()
        if entry is None:
            if left:
                _sweep(machine, journal)
                return None, left
            raise BadInput(f"{machine.name}: no run was interrupted, so there is nothing to finish")
        with machine.held():
            rehearsal = _settled_resume(machine, journal, entry, told)
            with until_landed():
                _land_all(machine, journal, rehearsal.changes, entry.number)
                _sweep(machine, journal)
        machine.notify(f"entry {entry.number}: resumed ({entry.command}), by {current_user()}", entry.places)
        return entry, left


def _settled_resume(machine: Machine, journal: Journal, entry: JournalEntry, told: RunInfo) -> DryRun:
    """What is left of a run, judged on what stands; nobody who keeps to the machine's locks writes meanwhile."""
    for _ in range(MOST_REHEARSALS):
        rehearsal = dry_run_resume(machine, journal, entry)
        check_resume(machine, journal, rehearsal, entry, told)
        if not machine.moved(rehearsal.stamps):
            return rehearsal
    raise _restless(machine, rehearsal)


def _still_to_land(
    machine: Machine, changes: ChangeSet, number: int, *, otherwise: bool = False
) -> Iterator[Change | FolderOperation]:
    """What of a change set has yet to land, in its order; with ``otherwise`` also what somebody else wrote to since."""
    last = {change.place: change for change in changes if isinstance(change, Change)}
    for change in changes:
        if isinstance(change, Change) and machine.stands(last[change.place], number) is PlaceState.AFTER:
            continue
        stands = machine.stands(change, number)
        if stands is PlaceState.BEFORE or (otherwise and stands is PlaceState.OTHER and isinstance(change, Change)):
            yield change


def dry_run_undo(machine: Machine, journal: Journal, numbers: Sequence[int]) -> DryRun:
    """Go back over entries, the newest first, on a private copy: with what others wrote since.

    Raises:
        BadInput: what was kept of an entry is not what was written.
    """
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
    """The entries that an undo goes back over, the newest first: the last one that changed something, one that is
    named, or all after ``back_to``.

    Raises:
        BadInput: there is nothing to go back over.
    """
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
    machine: Machine, journal: Journal, rehearsal: DryRun, entries: Sequence[JournalEntry], told: RunInfo
) -> None:
    """Let an undo land.

    Raises:
        GuardRefused: a guard is against it. MachineRefused: it could not land.
    """
    guards.check(rehearsal.course, told.overridden)
    broken = next((entry for entry in entries if entry.is_interrupted), None)
    if broken and _only_the_other_way(rehearsal, lambda: dry_run_resume(machine, journal, broken)):
        guards.refuse(
            [guards.nobody_left("to finish the run, after which an administrator can sign in: verrou resume")]
        )
    if rehearsal.blockers:
        raise MachineRefused("nothing was changed: " + "\n".join(rehearsal.blockers))


def undo(machine: Machine, rehearsal: DryRun, entries: Sequence[JournalEntry], told: RunInfo) -> int:
    """Land an undo that was rehearsed; see :func:`commit`."""
    numbers = [entry.number for entry in entries]
    with _at_work(machine, told.command) as journal, machine.held():
        for _ in range(MOST_REHEARSALS):
            if _stands(machine, rehearsal):
                return _land(machine, journal, rehearsal, evolve(told, undoes=tuple(numbers)))
            rehearsal = dry_run_undo(machine, journal, numbers)
            check_undo(machine, journal, rehearsal, entries, told)
    raise _restless(machine, rehearsal)


def with_files(machine: Machine, snapshot: Snapshot, steps: Sequence[Step]) -> list[Step]:
    """The steps, those that close or remove an account with what it keeps on the machine, as far as that can be
    looked at."""
    stopped = {step.account for step in steps if isinstance(step, StopJobs)}
    closing = sum(takes_access(step) for step in steps)
    return [_with_files(machine, snapshot, step, stopped, alone=closing == 1) for step in steps]


def _with_files(machine: Machine, snapshot: Snapshot, step: Step, stopped: Collection[str], *, alone: bool) -> Step:
    """``alone``: no other account is closed along with it, so that there is time to look everywhere."""
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
    """Whether a worksheet holds nothing but trials, so that it changes nothing."""
    return all(isinstance(step, TrySignIn) for step in steps)


def current_user() -> str:
    """Whoever runs this, by the name they signed in with."""
    try:
        return os.environ.get("SUDO_USER") or getpass.getuser()
    except (KeyError, OSError):
        return str(os.geteuid())
