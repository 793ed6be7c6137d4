"""verrou verify: audit again, and test the rules."""

import click

from verrou.cli.baseline_files import load_baseline
from verrou.cli.logbook_option import Keeping, keeping
from verrou.cli.observing import looked_at, tried
from verrou.cli.options import baseline_option, format_option, machine_option
from verrou.cli.output import print_facts
from verrou.core.history.runs import Run
from verrou.core.judging.audit import audit as hold_against
from verrou.core.model.verdicts import Result
from verrou.machines.protocol import Machine
from verrou.reports.findings import audit_data, audit_table, trials_data, trials_table
from verrou.reports.tables import console, print_table, shown


@click.command()
@machine_option
@baseline_option
@format_option
@keeping
@click.option("--all", "everything", is_flag=True, help="Show passed tests, too.")
def verify(machine: Machine, baseline_name: str, style: str, kept: Keeping, everything: bool) -> None:
    """Audit a machine, then test the rules with temporary accounts."""
    baseline = load_baseline(baseline_name)
    snapshot = looked_at(machine, asked=True)
    found = hold_against(snapshot, baseline)
    results = tried(machine, snapshot)
    table = trials_table(results)

    def text() -> None:
        out = console()
        out.print(f"{shown(found.machine)} audited against: {shown(found.baseline)}")
        out.print(f"{found.tally}.", style="bold")
        out.print()
        not_met = audit_table(found.applicable_only(), every=False)
        if not_met.rows:
            print_table(out, not_met)
            out.print()
        notable = trials_table([each for each in results if everything or each.result is not Result.PASSED])
        if notable.rows:
            print_table(out, notable)
            out.print()
        counts = {result: sum(r.result is result for r in results) for result in Result}
        counted_results = ", ".join(f"{count} {result}" for result, count in counts.items() if count)
        out.print(f"Tests: {counted_results}.", style="bold")
        if counts[Result.PASSED] and not everything:
            out.print("Passed tests are hidden; to show them: --all", style="dim")
        if snapshot.machine.asked:
            out.print(f"For the answers, {snapshot.machine.asked}.", style="dim")

    data = {**audit_data(found), "tests": trials_data(results)}
    kept.record(Run.VERIFY, snapshot, found, baseline, trials=results)
    print_facts(style, table, data, text)
    failed = any(result.result is Result.FAILED for result in results)
    click.get_current_context().exit(0 if found.all_met and not failed else 1)
