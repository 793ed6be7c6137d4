"""The way back in for a user who came from another computer, where it could not be tried before the changes."""

from verrou.cli.user import user
from verrou.core.errors import BrokeOff, MachineRefused, VerrouError
from verrou.core.judging.guards import ACCEPTABLE_GOING_BACK, ARRIVES_WITHIN, OWN_ACCOUNT
from verrou.core.model.known import Known
from verrou.machines.protocol import Machine, to_change
from verrou.records import reversals
from verrou.records.dry_runs import DryRun
from verrou.records.journal import Journal
from verrou.records.transactions import RunInfo


def keep_arrival(machine: Machine, dry_run: DryRun, number: int, info: RunInfo) -> None:
    """Have the user connect anew after a run was applied, where that could not be tried before; else undo the run.

    Raises: MachineRefused: it was undone. BrokeOff: it could not be undone."""
    arrival = dry_run.candidate.arrival
    if arrival is None or arrival.succeeded is not Known.UNKNOWN or OWN_ACCOUNT in info.overridden:
        return
    if user().still_arrives():
        return
    changeable = to_change(machine)
    changeable.visitor = None
    journal = Journal(changeable.records_folder())
    entries = reversals.to_undo(journal, number, None)
    reason = f"no new connection of {arrival.account} succeeded within {ARRIVES_WITHIN} seconds"
    back = RunInfo(f"undo --entry {number}", overridden=ACCEPTABLE_GOING_BACK)
    try:
        undone = reversals.dry_run_undo(changeable, journal, [number])
        reversals.check_undo(changeable, journal, undone, entries, back)
        by = reversals.undo(changeable, undone, entries, back)
    except VerrouError as why:
        raise BrokeOff(f"{reason}, and entry {number} could not be undone: {why}") from None
    raise MachineRefused(f"{reason}, so entry {number} was undone (entry {by})")
