"""verrou report: the sign-off sheet."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import click

from verrou import version_line
from verrou.cli.baseline_files import load_baseline
from verrou.cli.observing import looked_at, tried
from verrou.cli.options import OneOf, baseline_option, machine_option
from verrou.cli.user import user
from verrou.core.errors import BadInput, VerrouError
from verrou.core.history.entries import JournalEntry
from verrou.core.judging.audit import audit
from verrou.core.model.verdicts import Result
from verrou.core.planning.change_plan import plan_changes
from verrou.machines.protocol import Machine
from verrou.records.earlier import standing_since
from verrou.records.transactions import current_user
from verrou.reports.sign_off import WRITTEN, Signed, sign_off_data

FORMATS = {"markdown": ".md", "html": ".html", "json": ".json", "junit": ".xml"}


@click.command()
@machine_option
@baseline_option
@click.option(
    "--save", type=click.Path(path_type=Path), help="New file; its ending (.html, .md, .json or .xml) sets the format."
)
@click.option("--format", "style", type=OneOf(list(FORMATS)), help="Output format.  [default: markdown]")
@click.option(
    "--since", type=int, metavar="N", help="Compare with the state before journal entry N instead of the first."
)
@click.option("--no-tests", is_flag=True, help="Leave out the tests.")
def report(
    machine: Machine, baseline_name: str, save: Path | None, style: str | None, since: int | None, no_tests: bool
) -> None:
    """Create the sign-off sheet of a machine."""
    suffix = FORMATS[style] if style else save.suffix.lower() if save else FORMATS["markdown"]
    if suffix not in WRITTEN:
        raise BadInput(f"{save}: invalid ending {suffix!r}; expected one of {', '.join(WRITTEN)}. Or use --format.")
    baseline = load_baseline(baseline_name)
    snapshot = looked_at(machine)
    now = audit(snapshot, baseline)
    before, missing = None, "nothing was changed by Verrou"
    entries: Sequence[JournalEntry] = ()
    try:
        earlier, entries = standing_since(machine, since)
        before = audit(earlier, baseline) if earlier is not None else None
    except VerrouError as reason:
        if since is not None:
            raise
        missing = str(reason)
    results = [] if no_tests else tried(machine, snapshot)
    signed = Signed(
        snapshot.machine,
        baseline,
        now,
        before,
        missing,
        entries,
        results,
        plan_changes(snapshot, baseline, now).manual,
        current_user(),
        f"{datetime.now():%Y-%m-%d %H:%M:%S}",
        version_line(),
    )
    text = WRITTEN[suffix](sign_off_data(signed))
    if save is None:
        click.echo(text, nl=False)
    else:
        user().write_new(save, text)
        click.echo(f"Saved: {save}", err=True)
    disproved = any(result.result is Result.FAILED for result in results)
    click.get_current_context().exit(0 if now.all_met and not disproved else 1)
