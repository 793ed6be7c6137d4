"""verrou harden: a machine brought up to a baseline."""

from pathlib import Path

import click

from verrou.cli import completing
from verrou.cli.baseline_files import load_baseline
from verrou.cli.change import ChangeRun, look_before
from verrou.cli.change_options import ChangeSettings, change_options
from verrou.cli.logbook_option import Keeping, keeping
from verrou.cli.options import baseline_option
from verrou.core.errors import MachineRefused
from verrou.core.history.runs import Run
from verrou.core.judging.audit import Audit, audit
from verrou.core.model.verdicts import Verdict
from verrou.core.planning.change_plan import plan_changes
from verrou.core.rules import CATALOGUE
from verrou.machines.protocol import Machine
from verrou.reports.plan_tables import manual_table
from verrou.reports.tables import console, print_table, shown


def _print_not_met(after: Audit) -> None:
    """Print the findings that are still not met, for the end of a run."""
    not_met = [f.subject for f in after.findings if f.verdict in (Verdict.NOT_MET, Verdict.UNKNOWN)]
    if not_met:
        console().print(f"Still not met: {', '.join(not_met)}.")


@click.command()
@baseline_option
@click.option(
    "--only",
    "families",
    multiple=True,
    metavar="FAMILY",
    shell_complete=completing.families,
    help="Only this family of rules; can be repeated.",
)
@click.option("--password-file", type=click.Path(path_type=Path), help="New file for generated passwords.")
@keeping
@change_options()
def harden(
    machine: Machine,
    baseline_name: str,
    families: tuple[str, ...],
    kept: Keeping,
    settings: ChangeSettings,
) -> None:
    """Bring a machine up to a baseline: dry run, preview, confirmation, change."""
    known = sorted({rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"})
    for family in families:
        if family not in known:
            raise click.BadParameter(
                f"invalid value {family!r}; expected one of {', '.join(known)}", param_hint="--only"
            )
    baseline = load_baseline(baseline_name)
    snapshot = look_before(machine, settings)
    found = audit(snapshot, baseline)
    plan = plan_changes(snapshot, baseline, found, frozenset(families))
    out = console()
    if (manual := manual_table(plan)).rows:
        print_table(out, manual)
        out.print()
    after, all_done = found, True
    if plan.steps:
        done = ChangeRun(machine, snapshot, plan.steps, settings, baseline).run()
        after, all_done = audit(done.after, baseline), not (done.rejected or done.mismatches)
        snapshot, trials, entry = done.after, done.trials, done.entry
    else:
        out.print(f"{shown(machine.name)}: no step can improve the result.")
        trials, entry = (), None
    if (later := manual_table(plan, waits=True)).rows:
        out.print()
        print_table(out, later)
        out.print()
    if not settings.looking:
        kept.record(Run.HARDEN, snapshot, after, baseline, trials=trials, entry=entry)
        out.print(f"{after.tally}. To test it: verrou verify", style="bold")
    _print_not_met(after)
    if not all_done:
        raise MachineRefused(
            "some steps would not give the requested result (see above)"
            if settings.looking
            else "some steps did not give the requested result (see above); the others were applied. "
            "To revert: verrou undo"
        )
    click.get_current_context().exit(0 if after.all_met else 1)
