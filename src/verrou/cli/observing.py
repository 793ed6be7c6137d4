"""A machine observed and tested for a command, and its accounts and groups by name."""

# Imports within functions: tests are not run by most commands.

from collections.abc import Sequence

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.model import AccountName, Group, GroupName, Snapshot
from verrou.core.model.verdicts import TrialResult
from verrou.core.values import nearest, show_raw
from verrou.machines.protocol import DryRunUnavailable, Lacks, Machine
from verrou.records.standing import observed
from verrou.reports.tables import complain, console


def looked_at(machine: Machine, *, changing: bool = False, asked: bool = False) -> Snapshot:
    """Observe a machine, and print its warnings and an interrupted run on standard error.

    Commands that are about to change it are stopped for that run instead. ``asked``: the system itself is asked, for a
    dry run or a test later."""
    snapshot = observed(machine, asked=asked)
    broken = snapshot.machine.interrupted
    for trouble in (*((f"{snapshot.machine.name}: {broken}",) if broken and not changing else ()), *snapshot.warnings):
        complain(trouble)
    return snapshot


def tried(machine: Machine, snapshot: Snapshot) -> list[TrialResult]:
    """Return the results of the tests; all *not run* where there can be none."""
    from random import SystemRandom

    from verrou.core.testing.trials import not_tried, run_trials

    testable = machine.testable
    if isinstance(testable, Lacks):
        return not_tried(testable.reason)
    with console(stderr=True).status("Testing with a temporary account"):
        try:
            with testable.tests() as attempt:
                return list(run_trials(attempt, snapshot, SystemRandom()))
        except (DryRunUnavailable, NotEnoughRights, MachineRefused) as reason:
            return not_tried(str(reason))


def known_account(snapshot: Snapshot, name: str) -> AccountName:
    """Return the account with that name, or else the only one with that ID.

    Raises: BadInput: the machine has no such account."""
    if (found := snapshot.account_called(name)) is not None:
        return found.name
    if len(twins := snapshot.by_identity.get(name, ())) == 1:
        return twins[0].name
    raise _unknown(snapshot, "account", name, list(snapshot.by_name))


def known_group(snapshot: Snapshot, name: str) -> GroupName:
    """Return the name of :func:`group_named`."""
    return group_named(snapshot, name).name


def group_named(snapshot: Snapshot, name: str) -> Group:
    """Return the group with that name, or else the one with that ID.

    Raises: BadInput: the machine has no such group."""
    if found := snapshot.group(name):
        return found
    raise _unknown(snapshot, "group", name, [group.name for group in snapshot.groups])


def _unknown(snapshot: Snapshot, what: str, name: str, known: Sequence[str]) -> BadInput:
    close = nearest(name, known)
    hint = f"Did you mean {close}?" if close else f"To list them: verrou {what} list"
    return BadInput(f"{snapshot.machine.name} has no {what} {show_raw(name)}. {hint}")
