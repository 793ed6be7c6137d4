"""verrou harden and verrou undo, and the one way in which every command changes a machine."""

from collections.abc import Callable, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import click

from verrou.cli.options import (
    F,
    baseline_option,
    collect_passwords,
    hand_over,
    load_baseline,
    machine_option,
    reserve,
    tell_troubles,
)
from verrou.core import guards
from verrou.core.errors import BadInput, MachineRefused
from verrou.core.model import Posture
from verrou.core.steps import Step
from verrou.machines import Machine, Outcome, Secrets, StepResult

if TYPE_CHECKING:
    from verrou.records.carry_out import Run


def accept_option(command: F) -> F:
    """``--accept GUARD``."""
    return click.option(
        "--accept",
        "accepted",
        multiple=True,
        type=click.Choice(guards.ACCEPTABLE),
        help="Do it although this guard refuses; the journal records it.",
    )(command)


def change_options(*passwords: str) -> Callable[[F], F]:
    """What every command that changes a machine takes: ``-m``, ``--yes``, ``--preview``, ``--accept``, and where
    passwords come from. All but the machine reach the command as ``how``, for :func:`change`.

    With ``passwords``, the ways in which a new password may come about (see
    :data:`verrou.core.steps.HOW_A_PASSWORD_COMES`), the command gets the one chosen as ``password``.
    """

    def decorate(command: F) -> F:
        @wraps(command)
        def gathered(
            *args: Any,
            yes: bool,
            preview: bool,
            accepted: tuple[str, ...],
            password: str,
            password_file: Path | None = None,
            **kwargs: Any,
        ) -> Any:
            how = {"yes": yes, "preview": preview, "accepted": accepted}
            how |= {"typed": password != "stdin", "password_file": password_file}
            if passwords:
                kwargs["password"] = "ask" if password == "stdin" else password
            return command(*args, how=how, **kwargs)

        options = [
            accept_option,
            click.option("--preview", is_flag=True, help="Show the worksheet and stop."),
            click.option("--yes", is_flag=True, help="Do not ask."),
            machine_option,
        ]
        if "generate" in passwords:
            options.append(
                click.option(
                    "--password-file", type=click.Path(path_type=Path), help="A new file for generated passwords."
                )
            )
        options.append(
            click.option(
                "--password",
                type=click.Choice(passwords or ("ask", "stdin")),
                default="ask",
                show_default=True,
                help=_password_help(passwords),
            )
        )
        for option in options:
            gathered = option(gathered)
        return cast(F, gathered)

    return decorate


def _password_help(passwords: Sequence[str]) -> str:
    if not passwords:
        return "How to give the password of an administrator who is tried: at a hidden prompt, or on standard input."
    more = (", or made" if "generate" in passwords else "") + (", or none at all" if "blank" in passwords else "")
    return f"Typed at a hidden prompt, or a line of standard input{more}."


def change(
    machine: Machine,
    posture: Posture,
    steps: Sequence[Step],
    *,
    command: str,
    yes: bool,
    preview: bool,
    typed: bool = True,
    password_file: Path | None = None,
    baseline: str = "",
    carry_on: bool = False,
    accepted: Sequence[str] = (),
) -> "Run":
    """Show the worksheet, ask, do it, and tell what became of each step. Leaves with the exit code on a refusal."""
    from verrou.core.making import remarks
    from verrou.core.steps import account_of
    from verrou.records.carry_out import carry_out, with_files
    from verrou.reports.sheets import BAD, DOUBTFUL, console, print_sheet, shown
    from verrou.reports.worksheets import results_sheet, worksheet_sheet

    out = console()
    with console(stderr=True).status("Looking at the files of accounts"):
        steps = with_files(machine, posture, steps)
    print_sheet(out, worksheet_sheet(steps, posture))
    for remark in remarks(posture, steps):
        out.print(shown(remark), style=DOUBTFUL)
    out.print()
    guards.check(posture, steps, accepted)
    if preview:
        out.print("This is a preview; nothing was changed.")
        click.get_current_context().exit(0)
    number = "this step" if len(steps) == 1 else f"these {len(steps)} steps"
    if not yes and not click.confirm(f"Do {number} on {shown(machine.name)}?"):
        out.print("Nothing was changed.")
        click.get_current_context().exit(0)
    secrets, generated = collect_passwords(steps, posture, typed)
    if generated and password_file is not None:
        reserve(password_file)
    done = 0
    made = Secrets()

    def tell(step: Step, result: StepResult) -> None:
        nonlocal done
        done += 1
        print_sheet(out, results_sheet(done, step, result))
        name = account_of(step)
        if result.outcome is Outcome.DONE and name is not None and name in generated:
            made[name] = generated[name]

    try:
        run = carry_out(
            machine,
            steps,
            posture.fingerprint,
            secrets,
            command=command,
            baseline=baseline,
            carry_on=carry_on,
            accepted=accepted,
            tell=tell,
        )
    finally:
        # Whatever happens after an account got its password, the password is handed over.
        if generated:
            hand_over(made, password_file)
    for surprise in run.surprises:
        out.print(
            f"{surprise.rule} came out otherwise: asked for {surprise.asked}, the machine says {surprise.came_out}",
            style=BAD,
        )
    out.print(f"Journal entry {run.entry}; verrou undo goes back.")
    if not run.all_well:
        raise MachineRefused("not every step came out as asked, see above; verrou undo takes the others back")
    return run


def single(machine: Machine, make: Callable[[Posture], Sequence[Step]], command: str, how: dict[str, Any]) -> None:
    """Look at the machine, make the steps, and go the way of every change."""
    from verrou.core.guards import with_trials
    from verrou.core.making import NoWay

    posture = machine.observe()
    tell_troubles(posture)
    try:
        steps = with_trials(posture, make(posture))
    except NoWay as reason:
        raise BadInput(str(reason)) from None
    change(machine, posture, steps, command=command, **how)


@click.command()
@baseline_option
@click.option("--only", "families", multiple=True, metavar="FAMILY", help="Only this family of rules; may be repeated.")
@click.option("--carry-on", is_flag=True, help="Go on although the last run broke off.")
@click.option("--password-file", type=click.Path(path_type=Path), help="A new file for generated passwords.")
@change_options()
def harden(
    machine: Machine,
    baseline_name: str,
    families: tuple[str, ...],
    carry_on: bool,
    how: dict[str, Any],
) -> None:
    """Close what falls short: show the worksheet, ask, do it, and read the machine again."""
    from verrou.core.audit import audit as hold_against
    from verrou.core.plan import plan
    from verrou.core.rules import CATALOGUE
    from verrou.reports.sheets import console, print_sheet, shown
    from verrou.reports.worksheets import by_hand_sheet

    known = sorted({rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"})
    for family in families:
        if family not in known:
            raise click.BadParameter(f"found {family!r}, accepted: {', '.join(known)}", param_hint="--only")
    baseline = load_baseline(baseline_name)
    posture = machine.observe()
    tell_troubles(posture)
    worksheet = plan(posture, baseline, hold_against(posture, baseline), frozenset(families))
    out = console()
    if worksheet.by_hand:
        print_sheet(out, by_hand_sheet(worksheet))
        out.print()
    if not worksheet.steps:
        out.print(f"{shown(machine.name)}: there is nothing that a step could close.")
        return
    run = change(
        machine,
        posture,
        worksheet.steps,
        command="harden",
        baseline=baseline.title,
        carry_on=carry_on,
        **how,
    )
    after = hold_against(run.after, baseline)
    out.print(f"{after.score}. verrou verify proves it by trials.", style="bold")
    click.get_current_context().exit(0 if after.all_well else 1)


@click.command()
@machine_option
@click.option("--entry", type=int, help="Go back over this entry of the journal instead of the last one.")
@click.option("--list", "only_list", is_flag=True, help="Show the journal and stop.")
@click.option("--yes", is_flag=True, help="Do not ask.")
def undo(machine: Machine, entry: int | None, only_list: bool, yes: bool) -> None:
    """The way back: put back what stood there before the last run, wherever nobody else wrote since."""
    from verrou.records.carry_out import undo as go_back
    from verrou.records.journal import Journal
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet, shown
    from verrou.reports.worksheets import put_back_sheet

    out = console()
    entries = Journal(machine.records_folder()).entries()
    if only_list:
        rows = tuple(
            {
                "entry": e.number,
                "at": e.begun,
                "by": e.by,
                "command": e.command,
                "state": f"undone {e.undone}" if e.undone else "done" if e.finished else "broke off",
                "steps": len(e.steps),
                "accepted": ", ".join(e.accepted),
            }
            for e in entries
        )
        columns = columns_of(*((key, key) for key in ("entry", "at", "by", "command", "state", "steps", "accepted")))
        print_sheet(out, Sheet("journal", columns, rows))
        return
    if not yes:
        left = [e for e in entries if e.undone is None and entry in (None, e.number)]
        if left:
            out.print(f"Entry {left[-1].number}, {left[-1].command} of {left[-1].begun}:")
            for step in left[-1].steps:
                out.print(f"  {shown(step)}")
            if not click.confirm(f"Go back over it on {shown(machine.name)}?"):
                out.print("Nothing was changed.")
                return
    gone_over, items = go_back(machine, entry)
    print_sheet(out, put_back_sheet(items))
    if any(item.outcome is Outcome.REFUSED for item in items):
        raise MachineRefused(
            f"entry {gone_over.number} is undone in part; look at what was left alone, then run verrou undo again"
        )
    out.print(f"Entry {gone_over.number} ({gone_over.command}, {gone_over.begun}) is undone.")
