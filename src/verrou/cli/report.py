"""verrou report: the sign-off sheet."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import click

from verrou import version_line
from verrou.cli.options import (
    OneOf,
    baseline_option,
    load_baseline,
    looked_at,
    machine_option,
    tried,
    write_new,
)
from verrou.core.entries import Entry
from verrou.core.errors import BadInput, VerrouError
from verrou.machines import Machine

FORMATS = {"markdown": ".md", "html": ".html", "json": ".json", "junit": ".xml"}


@click.command()
@machine_option
@baseline_option
@click.option(
    "--save", type=click.Path(path_type=Path), help="A new file; .html, .md, .json or .xml says what it holds."
)
@click.option("--format", "style", type=OneOf(list(FORMATS)), help="What to print, or to save.  [default: markdown]")
@click.option(
    "--since", type=int, metavar="N", help="Before is before entry N of the journal, and not before the first."
)
@click.option("--untried", is_flag=True, help="Leave the trials out.")
def report(
    machine: Machine, baseline_name: str, save: Path | None, style: str | None, since: int | None, untried: bool
) -> None:
    """The sign-off sheet: what held before, what was done, what holds now, what was proved, waived and left by hand."""
    from verrou.core.audit import audit
    from verrou.core.plan.worksheet import plan
    from verrou.core.trials import Proof
    from verrou.records.carry_out import who
    from verrou.records.earlier import standing_since
    from verrou.reports.sign_off import WRITTEN, Signed, sign_off_data

    suffix = FORMATS[style] if style else save.suffix.lower() if save else FORMATS["markdown"]
    if suffix not in WRITTEN:
        raise BadInput(f"{save}: found the end {suffix!r}, accepted: {', '.join(WRITTEN)}; or say --format")
    baseline = load_baseline(baseline_name)
    posture = looked_at(machine)
    now = audit(posture, baseline)
    before, missing = None, "nothing was changed by Verrou"
    entries: Sequence[Entry] = ()
    try:
        earlier, entries = standing_since(machine, since)
        before = audit(earlier, baseline) if earlier is not None else None
    except VerrouError as reason:
        if since is not None:
            raise
        missing = str(reason)
    results = [] if untried else tried(machine, posture)
    signed = Signed(
        posture.machine,
        baseline,
        now,
        before,
        missing,
        entries,
        results,
        plan(posture, baseline, now).by_hand,
        who(),
        f"{datetime.now():%Y-%m-%d %H:%M:%S}",
        version_line(),
    )
    text = WRITTEN[suffix](sign_off_data(signed))
    if save is None:
        click.echo(text, nl=False)
    else:
        write_new(save, text)
        click.echo(f"Written: {save}", err=True)
    disproved = any(result.proof is Proof.DISPROVED for result in results)
    click.get_current_context().exit(0 if now.all_well and not disproved else 1)
