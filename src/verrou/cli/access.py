"""verrou access, verrou why and verrou signin: who can sign in, how, and with which rights."""

import click
from attrs import evolve

from verrou.cli import completing
from verrou.cli.baseline_files import load_baseline
from verrou.cli.observing import known_account, looked_at
from verrou.cli.options import format_option, machine_option
from verrou.cli.output import print_facts
from verrou.core.errors import BadInput
from verrou.core.judging.audit import audit
from verrou.core.model import AccountName, Snapshot
from verrou.core.model.acts import UserAct, why_act
from verrou.core.model.known import Known
from verrou.core.model.reasons import ELEVATE, why_administrator
from verrou.core.model.reasons import why as reasons
from verrou.core.model.routes import Route
from verrou.core.planning.change_plan import plan_changes
from verrou.core.values import nearest, show_raw
from verrou.machines.changes import Secrets
from verrou.machines.protocol import Machine
from verrou.records.dry_runs import do_dry_run
from verrou.reports.access import (
    access_data,
    access_table,
    differing,
    not_known,
    screens_data,
    signin_table,
    why_data,
    why_table,
    worth_a_line,
)
from verrou.reports.tables import complain, console, print_table, shown

as_option = click.option(
    "--as",
    "as_baseline",
    metavar="BASELINE",
    help="Show the result of hardening with this baseline (dry run; nothing is changed).",
)


def _snapshot(machine: Machine, as_baseline: str | None) -> Snapshot:
    """Return the machine as it is, or as it would be after hardening."""
    snapshot = looked_at(machine, asked=as_baseline is not None)
    if as_baseline is None:
        return snapshot

    baseline = load_baseline(as_baseline)
    steps = plan_changes(snapshot, baseline, audit(snapshot, baseline)).steps
    with console(stderr=True).status("Dry run on a private copy"):
        dry_run = do_dry_run(machine, snapshot, steps, Secrets())
    if dry_run.prediction_reason:
        complain(f"this is a prediction; no dry run was possible: {dry_run.prediction_reason}")
    for step, result in dry_run.rejected:
        complain(f"step would be rejected: {step.what}: {result.message}")
    return dry_run.after


def _heading(snapshot: Snapshot, as_baseline: str | None) -> str:
    name = shown(snapshot.machine.name)
    return f"{name} after hardening with {shown(as_baseline)} (nothing was changed)" if as_baseline else name


@click.command()
@click.argument("accounts", metavar="[ACCOUNT]...", nargs=-1, shell_complete=completing.accounts)
@machine_option
@as_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Include system accounts that cannot sign in.")
def access(accounts: tuple[str, ...], machine: Machine, as_baseline: str | None, style: str, everyone: bool) -> None:
    """Show who can sign in, by which route and with what, and who can elevate."""
    snapshot = _snapshot(machine, as_baseline)
    chosen = worth_a_line(snapshot, everyone or style != "text")
    if accounts:
        names = {known_account(snapshot, name) for name in accounts}
        chosen = [account for account in snapshot.accounts if account.name in names]
    rows = access_data(chosen, snapshot)
    table = access_table(rows, snapshot)

    def text() -> None:
        out = console()
        out.print(_heading(snapshot, as_baseline), style="bold")
        print_table(out, table)
        out.print()
        for each in map(shown, not_known(chosen, snapshot)):
            out.print(f"? {each}")
        for each in map(shown, differing(chosen, snapshot)):
            out.print(each)
        for row in (row for row in rows if row["session"]):
            out.print(shown(f"{row['account']} is signed in: {row['session']}"))
        out.print("Each column shows what is needed to sign in. Reasons: verrou why ACCOUNT ROUTE", style="dim")

    print_facts(style, table, rows, text)


@click.command()
@click.argument("account_name", metavar="ACCOUNT", shell_complete=completing.accounts)
@click.argument("asked", metavar="ROUTE|ACT", shell_complete=completing.routes)
@machine_option
@as_option
@format_option
def why(account_name: str, asked: str, machine: Machine, as_baseline: str | None, style: str) -> None:
    """Explain why an account can or cannot sign in by a route, or do something once it is signed in.

    ROUTE is console, network, remote-screen or remote-shell. ACT is elevate, run-system, run-signed, run-unsigned,
    install, shut-down or set-clock."""
    choices = [*map(str, Route), ELEVATE, *map(str, UserAct)]
    if asked not in choices:
        close = nearest(asked, choices)
        hint = f". Did you mean {close}?" if close else ""
        raise BadInput(f"ROUTE|ACT: invalid value {show_raw(asked)}; expected one of {', '.join(choices)}{hint}")
    snapshot = _snapshot(machine, as_baseline)
    account = snapshot.by_name[AccountName(known_account(snapshot, account_name))]
    if asked in list(UserAct):
        answer, does = why_act(UserAct(asked), account, snapshot), UserAct(asked).phrase
    elif asked == ELEVATE:
        answer, does = why_administrator(account, snapshot), "elevate"
    else:
        answer, does = reasons(account, Route(asked), snapshot), f"sign in {Route(asked).phrase}"
    table = why_table(answer)

    def text() -> None:
        out = console()
        first = f"; {answer.prompt}" if answer.prompt else ""
        message = {
            Known.YES: f"Yes: {account.name} can {does}{first}.",
            Known.NO: f"No: {account.name} cannot {does}.",
            Known.UNKNOWN: f"Not known: whether {account.name} can {does}.",
        }[answer.answer]
        out.print(_heading(snapshot, as_baseline))
        out.print(shown(message), style="bold")
        parts = {part: [row for row in table.rows if row["part"] == part] for part in ("chain", "keeps")}
        print_table(out, evolve(table, rows=tuple(parts["chain"])))
        if len(parts["keeps"]) > 1:
            out.print("Each of these is enough on its own:")
            print_table(out, evolve(table, rows=tuple(parts["keeps"])))

    print_facts(style, table, why_data(answer), text)


@click.command()
@machine_option
@as_option
@format_option
def signin(machine: Machine, as_baseline: str | None, style: str) -> None:
    """Show what the sign-in screen and the lock screen display, allow and deny."""
    snapshot = _snapshot(machine, as_baseline)
    table = signin_table(snapshot)

    def text() -> None:
        out = console()
        out.print(_heading(snapshot, as_baseline), style="bold")
        print_table(out, table)

    print_facts(style, table, screens_data(snapshot), text)
