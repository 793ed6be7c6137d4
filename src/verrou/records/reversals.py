"""Interrupted runs finished, and runs undone: plans like any other, under the same guards."""

from collections.abc import Callable, Sequence

from attrs import evolve

from verrou.core import advice
from verrou.core.errors import BadInput, GuardRefused, MachineRefused
from verrou.core.history.entries import JournalEntry
from verrou.core.judging import administrator_guards, guards, review
from verrou.core.model import Snapshot
from verrou.machines.changes import (
    RestoreResult,
)
from verrou.machines.protocol import ChangeableMachine, Copy, DryRunUnavailable
from verrou.records.dry_runs import DryRun, new_twins
from verrou.records.interruptions import until_applied
from verrou.records.journal import Journal
from verrou.records.transactions import (
    MOST_DRY_RUNS,
    RunInfo,
    apply,
    apply_all,
    clean_up_entries,
    current_user,
    is_unchanged,
    keeps_changing,
    locked_journal,
    refuse_interrupted,
    still_to_apply,
)


def dry_run_resume(machine: ChangeableMachine, journal: Journal, entry: JournalEntry) -> DryRun:
    """Do the rest of an interrupted run on a private copy of the machine, with what others wrote since.

    Raises: MachineRefused: no copy can be made."""
    snapshot = machine.observe(asked=True)
    try:
        with machine.dry_run() as copy:
            items: list[RestoreResult] = []
            places: set[str] = set()
            for change in still_to_apply(machine, journal.changes(entry.number), entry.number, otherwise=True):
                if change.place in places:
                    copy.mark()
                    places.clear()
                places.add(change.place)
                items.append(copy.go_on(change, machine.stands(change, entry.number)))
            return _settled(snapshot, copy, items, tried=frozenset(entry.tried))
    except DryRunUnavailable as reason:
        raise MachineRefused(
            f"entry {entry.number} is still interrupted: {reason}. "
            f"To try again: {advice.resume()}. To revert: {advice.undo()}"
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
        review.Candidate(
            *(snapshot, after, ()),
            gap=gap,
            going_back=going_back,
            dry_run_made=True,
            tried_before=tried,
            arrival=copy.arrival(changes),
        ),
        changes,
        copy.stamps(),
        (*copy.notices(changes), *message),
        (*copy.obstacles(changes), *new_twins(snapshot, after)),
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
        found = [administrator_guards.nobody_left(f"to return to a state with an administrator: {advice.undo()}")]
    if found:
        words = "\n".join(map(str, found))
        raise GuardRefused(
            f"{words}\nentry {entry.number} stays interrupted, since the machine has changed. "
            f"To revert: {advice.undo(entry.number)}"
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


def resume(
    machine: ChangeableMachine, info: RunInfo | None = None, ready: Callable[[DryRun, int], None] = lambda _, __: None
) -> tuple[JournalEntry | None, list[int]]:
    """Finish the interrupted run under the guards, and delete what finished ones left.

    Returns its entry, if there was one, and the entries of which something was deleted. Raises: BadInput: there is
    nothing to finish. GuardRefused: a guard blocks it now. MachineRefused: it was interrupted again, or the machine is
    locked."""
    info = info or RunInfo("resume")
    journal = Journal(machine.records_folder())
    left = [entry.number for entry in journal.pending_cleanup()]
    with locked_journal(machine, info.command) as journal:
        entry = journal.interrupted_entry()
        if entry is None:
            if left:
                clean_up_entries(machine, journal)
                return None, left
            raise BadInput(f"{machine.name}: no run was interrupted, so there is nothing to finish")
        with machine.held():
            dry_run = _settled_resume(machine, journal, entry, info)
            ready(dry_run, entry.number)
            with until_applied():
                apply_all(machine, journal, dry_run.changes, entry.number)
                clean_up_entries(machine, journal)
        machine.notify(f"entry {entry.number}: resumed ({entry.command}), by {current_user()}", entry.places)
        return entry, left


def _settled_resume(machine: ChangeableMachine, journal: Journal, entry: JournalEntry, info: RunInfo) -> DryRun:
    """Return the dry run of the rest of a run on the present state, while the machine's locks keep others from
    writing."""
    for _ in range(MOST_DRY_RUNS):
        dry_run = dry_run_resume(machine, journal, entry)
        check_resume(machine, journal, dry_run, entry, info)
        if not machine.moved(dry_run.stamps):
            return dry_run
    raise keeps_changing(machine, dry_run)


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
        raise BadInput(f"the journal has {what}. To list it: {advice.list_journal()}")
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
            [
                administrator_guards.nobody_left(
                    f"to finish the run, after which an administrator can sign in: {advice.resume()}"
                )
            ]
        )
    if dry_run.blockers:
        raise MachineRefused("nothing was changed: " + "\n".join(dry_run.blockers))


def undo(
    machine: ChangeableMachine,
    dry_run: DryRun,
    entries: Sequence[JournalEntry],
    info: RunInfo,
    ready: Callable[[DryRun, int], None] = lambda _, __: None,
) -> int:
    """Apply the dry run of an undo, after calling ``ready`` with it and the entry's number; see :func:`commit`."""
    numbers = [entry.number for entry in entries]
    with locked_journal(machine, info.command) as journal, machine.held():
        for _ in range(MOST_DRY_RUNS):
            if is_unchanged(machine, dry_run):
                ready(dry_run, journal.next_number())
                return apply(machine, journal, dry_run, evolve(info, undoes=tuple(numbers)))
            dry_run = dry_run_undo(machine, journal, numbers)
            check_undo(machine, journal, dry_run, entries, info)
    raise keeps_changing(machine, dry_run)
