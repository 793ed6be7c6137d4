"""verrou account: single changes, with the same plan, guards and journal as harden."""

from collections.abc import Sequence
from datetime import date
from typing import Any

import click

from verrou.cli import completing
from verrou.cli.change import single
from verrou.cli.change_options import ChangeSettings, change_options
from verrou.cli.command_group import CommandGroup
from verrou.cli.observing import known_account, known_group, looked_at
from verrou.cli.options import OneOf, format_option, machine_option
from verrou.cli.output import print_facts
from verrou.core.days import DAY_WORDS, day_of
from verrou.core.errors import BadInput
from verrou.core.model import Account, AccountName, Detail, Effect, Flag, PasswordState, Role, Snapshot
from verrou.core.model.access import is_person, role_of
from verrou.core.model.ageing import exempt_from_ageing
from verrou.core.model.background_jobs import act_text, own_jobs
from verrou.core.model.states import AccountState, states_of
from verrou.core.prediction.account_creation import check_name, new_account, role_steps, swap_steps
from verrou.core.steps.step import (
    FilesChoice,
    Join,
    Leave,
    Remove,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetPassword,
    Step,
    StopJobs,
    TrySignIn,
    Unlock,
)
from verrou.core.surveys.data import account_data
from verrou.machines.protocol import Machine
from verrou.reports.surveys import account_facts, accounts_table, hidden_accounts
from verrou.reports.tables import Table, columns_of, console, print_table

ROLES = OneOf([Role.STANDARD.value, Role.GUEST.value, Role.ADMINISTRATOR.value])


class Day(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """A day, or with ``never`` none."""

    name = "day"

    def __init__(self, *, or_never: bool = False) -> None:
        self.or_never = or_never

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> date | str:
        if isinstance(value, date):
            return value
        if self.or_never and value == "never":
            return "never"
        if (day := day_of(value)) is not None:
            return day
        raise BadInput(f"invalid value {value!r}; expected {DAY_WORDS}" + (', or "never"' if self.or_never else ""))


def check_day(snapshot: Snapshot, day: date | str | None) -> None:
    """Reject a day that has passed by the machine's own clock."""
    today = snapshot.machine.now.date()
    if isinstance(day, date) and day < today:
        raise BadInput(
            f"{day} is before today ({today} on {snapshot.machine.name}). "
            "Give a later day, or disable the account now: verrou account disable NAME"
        )


def check_kept(snapshot: Snapshot, **given: str | None) -> None:
    """Reject details that the machine does not store, or that no one could read, before anything happens."""
    for key, text in given.items():
        if text and not text.isprintable():
            raise BadInput(f"--{key.replace('_', '-')}: contains control characters. Remove them.")
        if text and Detail(key) not in snapshot.machine.details:
            kept = ", ".join(str(detail).replace("_", " ") for detail in snapshot.machine.details)
            what = key.replace("_", " ")
            raise BadInput(
                f"{snapshot.machine.name} cannot store a {what}; a {snapshot.machine.kind} machine stores: {kept}"
            )


@click.group(cls=CommandGroup)
def account() -> None:
    """List, create, change, enable, disable and remove accounts; set passwords."""


@account.command("list")
@machine_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Include system and service accounts.")
@click.option("--role", type=OneOf([role.value for role in Role]), help="Show only accounts with this role.")
@click.option("--state", type=OneOf([state.value for state in AccountState]), help="Show only accounts in this state.")
def list_accounts(machine: Machine, style: str, everyone: bool, role: str | None, state: str | None) -> None:
    """List accounts with their role and state."""
    snapshot = looked_at(machine)
    asked = bool(role or state)
    chosen = [a for a in snapshot.accounts if _fits(a, snapshot, role, state)]
    table, folded = accounts_table(snapshot, everyone or asked or style != "text", chosen, console().width)

    def text() -> None:
        out = console()
        print_table(out, table)
        if not chosen:
            out.print("No accounts match.")
        if folded:
            out.print(f"\n{hidden_accounts(folded)}")

    data = [account_data(a, snapshot) for a in chosen] if style == "json" else None
    print_facts(style, table, data, text)


def _fits(each: Account, snapshot: Snapshot, role: str | None, state: str | None) -> bool:
    return (role is None or role_of(each, snapshot) == role) and (state is None or state in states_of(each, snapshot))


@account.command("show")
@click.argument("name", shell_complete=completing.accounts)
@machine_option
@format_option
def show_account(name: str, machine: Machine, style: str) -> None:
    """Show one account and the lines that define it."""
    snapshot = looked_at(machine)
    found = snapshot.by_name[known_account(snapshot, name)]
    rows = tuple({"about": about, "is": text} for about, text in account_facts(found, snapshot))
    table = Table("account", columns_of(("about", ""), ("is", ""), whole=("about",)), rows)
    print_facts(style, table, account_data(found, snapshot), lambda: print_table(console(), table))


@account.command("unlock")
@click.argument("name", shell_complete=completing.accounts)
@change_options()
def unlock(machine: Machine, name: str, settings: ChangeSettings) -> None:
    """Unlock an account and clear its failed attempts."""
    single(machine, lambda snapshot: [Unlock(known_account(snapshot, name))], settings)


@account.command("add")
@click.argument("name")
@click.option("--role", type=ROLES, default="standard", show_default=True, help="Role of the account.")
@click.option("--full-name", default="", help="Full name of the user.")
@click.option("--note", default="", help="Purpose of the account, if the machine can store it.")
@click.option("--home", default="", help="Home folder, instead of the usual one (Linux).")
@click.option("--shell", default="", help="Login shell, instead of the usual one (Linux).")
@click.option("--until", type=Day(), metavar="DAY", help="Last day on which the account works.")
@click.option("--keep-password", is_flag=True, help="Do not require a password change at the first sign-in.")
@click.option(
    "--fixed/--not-fixed", "cannot_change", default=None, help="Only an administrator can change the password."
)
@click.option(
    "--temporary-home/--permanent-home",
    default=None,
    help="Give each session an empty home folder that is deleted afterwards.",
)
@change_options("ask", "stdin", "generate", "blank")
def add(
    machine: Machine,
    name: str,
    role: str,
    until: date | None,
    keep_password: bool,
    cannot_change: bool | None,
    temporary_home: bool | None,
    password: str,
    settings: ChangeSettings,
    **words: str,
) -> None:
    """Create an account.

    A standard user gets a first password and must change it. A guest is added to the guests and not to the users, has a
    fixed password, and gets an empty home folder in each session. An administrator can elevate.
    """

    def make(snapshot: Snapshot) -> Sequence[Step]:
        check_name(snapshot, name)
        check_day(snapshot, until)
        check_kept(snapshot, **{key: text for key, text in words.items() if key != "home"})
        if words["home"] and Detail.HOME not in snapshot.machine.details:
            raise BadInput(f"{snapshot.machine.name} chooses the home folder of each account. Leave out --home.")
        if temporary_home and not snapshot.machine.temporary_homes:
            raise BadInput(
                f"{snapshot.machine.name} cannot give each session an empty home folder. Leave out --temporary-home."
            )
        return new_account(
            snapshot,
            AccountName(name),
            Role(role),
            password=password,
            must_change=False if keep_password else None,
            cannot_change=cannot_change,
            home_kept=None if temporary_home is None else not temporary_home,
            until=until,
            **words,
        )

    single(machine, make, settings)


@account.command("password")
@click.argument("name", shell_complete=completing.accounts)
@click.option("--keep-password", is_flag=True, help="Do not require a password change at the next sign-in.")
@change_options("ask", "stdin", "generate", "blank")
def set_password(machine: Machine, name: str, keep_password: bool, password: str, settings: ChangeSettings) -> None:
    """Set the password of an account. A disabled account stays disabled."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        account = snapshot.by_name[known_account(snapshot, name)]
        marks = {flag for flag in Flag if flag is not Flag.CHANGE_DUE and getattr(account, flag)}
        excluded = any(pair[0] is Flag.CHANGE_DUE and pair[1] in marks for pair in snapshot.machine.excluding)
        must_change = not (keep_password or excluded or password == "blank" or exempt_from_ageing(account, snapshot))
        return [SetPassword(account.name, password, must_change=must_change)]

    single(machine, make, settings)


@account.command("change")
@click.argument("name", shell_complete=completing.accounts)
@click.option("--role", type=ROLES, help="Change the role to this.")
@click.option(
    "--join",
    "joins",
    multiple=True,
    metavar="GROUP",
    shell_complete=completing.groups,
    help="Add the account to this group; can be repeated.",
)
@click.option(
    "--leave",
    "leaves",
    multiple=True,
    metavar="GROUP",
    shell_complete=completing.groups,
    help="Remove the account from this group; can be repeated.",
)
@click.option(
    "--until", type=Day(or_never=True), metavar="DAY", help='Last day on which the account works, or "never".'
)
@click.option(
    "--change-due/--no-change-due",
    "must_change",
    default=None,
    help="Require a password change at the next sign-in, or do not.",
)
@click.option(
    "--fixed/--not-fixed", "cannot_change", default=None, help="Only an administrator can change the password."
)
@click.option(
    "--ageing-exempt/--ageing-applies",
    "never_ends",
    default=None,
    help="Exempt the account from password ageing, or do not.",
)
@click.option("--full-name", help="Full name of the user.")
@click.option("--note", help="Purpose of the account, if the machine can store it.")
@click.option("--shell", help="Login shell (Linux).")
@click.option("--no-hint", is_flag=True, help="Remove its password hint.")
@click.option("--no-questions", is_flag=True, help="Remove its recovery questions.")
@change_options()
def change_account(
    machine: Machine,
    name: str,
    role: str | None,
    joins: tuple[str, ...],
    leaves: tuple[str, ...],
    until: date | str | None,
    must_change: bool | None,
    cannot_change: bool | None,
    never_ends: bool | None,
    no_hint: bool,
    no_questions: bool,
    settings: ChangeSettings,
    **words: str | None,
) -> None:
    """Change the role, groups, expiry or details of an account."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        found = known_account(snapshot, name)
        check_day(snapshot, until)
        check_kept(snapshot, **words)
        steps: list[Step] = [Join(found, known_group(snapshot, group)) for group in joins]
        steps += [SetEnd(found, until if isinstance(until, date) else None)] if until is not None else []
        marks = SetFlags(found, must_change, cannot_change, never_ends)
        steps += [marks] if marks.flags else []
        details = [(Detail(key), text) for key, text in words.items() if text is not None]
        details += [(Detail.HINT, "")] if no_hint else []
        details += [(Detail.RECOVERY_QUESTIONS, "")] if no_questions else []
        steps += [SetDetails(found, tuple(details))] if details else []
        steps += role_steps(snapshot, found, Role(role)) if role else []
        steps += [Leave(found, known_group(snapshot, group)) for group in leaves]
        if not steps:
            already = f"{found} already has the role {role}" if role else "no change was given"
            raise BadInput(f"{already}. For what can be changed: verrou account change --help")
        return steps

    single(machine, make, settings)


@account.command("swap")
@click.argument("old", shell_complete=completing.accounts)
@click.argument("new", shell_complete=completing.accounts)
@click.option("--full-name", default="", help="Full name, if NEW has to be created.")
@change_options("ask", "stdin", "generate")
def swap(machine: Machine, old: str, new: str, full_name: str, password: str, settings: ChangeSettings) -> None:
    """Transfer administrator rights: create or promote NEW, test it, then demote OLD.

    A built-in administrator is disabled, any other becomes a standard user. If NEW cannot sign in or elevate, OLD is
    not changed.
    """

    def make(snapshot: Snapshot) -> Sequence[Step]:
        leaving = known_account(snapshot, old)
        coming = snapshot.account_called(new)
        if coming is None:
            check_name(snapshot, new)
        taking_over = AccountName(new) if coming is None else coming.name
        return swap_steps(snapshot, leaving, taking_over, password, full_name)

    single(machine, make, settings)


@account.command("test")
@click.argument("name", shell_complete=completing.accounts)
@change_options(changes=False)
def try_account(machine: Machine, name: str, settings: ChangeSettings) -> None:
    """Test that an account has the rights of its role and no others.

    It signs in at the console. An administrator must be able to elevate, a standard user must not, and a guest must be
    denied by every other route. Nothing is changed.
    """

    def make(snapshot: Snapshot) -> Sequence[Step]:
        found = snapshot.by_name[known_account(snapshot, name)]
        blank = found.password is PasswordState.BLANK
        return [TrySignIn(found.name, role_of(found, snapshot), blank)]

    single(machine, make, settings)


@account.command("rename")
@click.argument("name", shell_complete=completing.accounts)
@click.argument("new_name")
@change_options()
def rename(machine: Machine, name: str, new_name: str, settings: ChangeSettings) -> None:
    """Rename an account; ID, groups and files stay."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        found = known_account(snapshot, name)
        if new_name.casefold() != found.casefold():
            check_name(snapshot, new_name)
        return [Rename(found, AccountName(new_name), effect=Effect.NEXT_SIGN_IN)]

    single(machine, make, settings)


@account.command("enable")
@click.argument("name", shell_complete=completing.accounts)
@change_options()
def enable(machine: Machine, name: str, settings: ChangeSettings) -> None:
    """Enable an account."""
    single(
        machine,
        lambda snapshot: [SetEnabled(known_account(snapshot, name), True, effect=Effect.NEXT_SIGN_IN)],
        settings,
    )


@account.command("disable")
@click.argument("name", shell_complete=completing.accounts)
@click.option("--until", type=Day(), metavar="DAY", help="Last day on which it works, instead of now.")
@click.option("--stop-jobs", is_flag=True, help="Also remove its crontab, at jobs and automatically started services.")
@change_options()
def disable(machine: Machine, name: str, until: date | None, stop_jobs: bool, settings: ChangeSettings) -> None:
    """Disable an account; files and groups stay."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        found = known_account(snapshot, name)
        check_day(snapshot, until)
        closing = SetEnd(found, until) if until else SetEnabled(found, False, effect=Effect.NEXT_SIGN_IN)
        return [*([StopJobs(found)] if stop_jobs else []), closing]

    single(machine, make, settings)


@account.command("remove")
@click.argument("name", shell_complete=completing.accounts)
@click.option(
    "--files",
    type=OneOf([choice.value for choice in FilesChoice]),
    required=True,
    help="What to do with the files: keep the home folder for root, archive it, delete it, or transfer all files to "
    "another account.",
)
@click.option(
    "--to",
    metavar="NAME",
    shell_complete=completing.accounts,
    help="Account that gets the files, with --files hand-over.",
)
@change_options()
def remove(machine: Machine, name: str, files: str, to: str | None, settings: ChangeSettings) -> None:
    """Remove an account permanently. Files outside its home folder are listed; only hand-over changes them."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        found = snapshot.by_name[known_account(snapshot, name)]
        if found.builtin is not None or not is_person(found):
            instead = f"verrou account disable {found.name}" if is_person(found) else "remove its package"
            raise BadInput(f"{found.name} is built in and cannot be removed. Instead: {instead}")
        jobs = own_jobs(found)
        stopping = [StopJobs(found.name, why="; ".join(map(act_text, jobs)))] if jobs else []
        if (to is not None) is not (files == FilesChoice.HAND_OVER):
            raise BadInput("--files hand-over needs --to NAME, and --to needs --files hand-over")
        taker = known_account(snapshot, to) if to is not None else ""
        if taker == found.name:
            raise BadInput(f"{taker} is the account being removed. Name another account for its files.")
        return [*stopping, Remove(found.name, FilesChoice(files), to=taker, effect=Effect.NEXT_SIGN_IN)]

    single(machine, make, settings)
