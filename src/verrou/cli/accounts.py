"""verrou account: single changes, through the same worksheet, guards and journal as harden."""

from collections.abc import Sequence
from datetime import date
from typing import Any

import click

from verrou.cli import completing
from verrou.cli.change import change_options, single
from verrou.cli.command_group import CommandGroup
from verrou.cli.options import (
    OneOf,
    format_option,
    known_account,
    known_group,
    looked_at,
    machine_option,
    print_facts,
)
from verrou.core.days import DAY_WORDS, day_of
from verrou.core.errors import BadInput
from verrou.core.model import Account, AccountName, Detail, Effect, Flag, PasswordState, Posture, Role
from verrou.core.model.states import State, states_of
from verrou.core.plan.steps import (
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
from verrou.machines import Machine

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
        raise BadInput(f"found {value!r}, accepted: {DAY_WORDS}" + (', or "never"' if self.or_never else ""))


def check_day(posture: Posture, day: date | str | None) -> None:
    """Refuse a day that has passed on the machine's own clock."""
    today = posture.machine.now.date()
    if isinstance(day, date) and day <= today:
        raise BadInput(
            f"{day} is not after today, {today} on {posture.machine.name}; "
            "name a later day, or close the account now: verrou account disable NAME"
        )


def check_kept(posture: Posture, **given: str | None) -> None:
    """Refuse words that the machine does not keep, or nobody could read, before anything happens."""
    for key, text in given.items():
        if text and not text.isprintable():
            raise BadInput(f"--{key.replace('_', '-')}: it holds characters that cannot be shown; leave them out")
        if text and Detail(key) not in posture.machine.details:
            kept = ", ".join(str(detail).replace("_", " ") for detail in posture.machine.details)
            what = key.replace("_", " ")
            raise BadInput(f"{posture.machine.name} keeps no {what}; a {posture.machine.kind} machine keeps: {kept}")


@click.group(cls=CommandGroup)
def account() -> None:
    """Accounts: see them, make, change, open, close and remove them, give passwords, hand administration over."""


@account.command("list")
@machine_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Show system and service accounts too.")
@click.option("--role", type=OneOf([role.value for role in Role]), help="Only accounts that amount to this.")
@click.option("--state", type=OneOf([state.value for state in State]), help="Only accounts in this state.")
def list_accounts(machine: Machine, style: str, everyone: bool, role: str | None, state: str | None) -> None:
    """Who has an account, what each amounts to, and what stands out."""
    from verrou.core.survey import account_data
    from verrou.reports.sheets import console, print_sheet
    from verrou.reports.surveys import accounts_sheet, folded_line

    posture = looked_at(machine)
    asked = bool(role or state)
    chosen = [a for a in posture.accounts if _fits(a, posture, role, state)]
    sheet, folded = accounts_sheet(posture, everyone or asked or style != "text", chosen, console().width)

    def text() -> None:
        out = console()
        print_sheet(out, sheet)
        if not chosen:
            out.print("No account is like that.")
        if folded:
            out.print(f"\n{folded_line(folded)}")

    data = [account_data(a, posture) for a in chosen] if style == "json" else None
    print_facts(style, sheet, data, text)


def _fits(each: Account, posture: Posture, role: str | None, state: str | None) -> bool:
    from verrou.core.model.access import role_of

    return (role is None or role_of(each, posture) == role) and (state is None or state in states_of(each, posture))


@account.command("show")
@click.argument("name", shell_complete=completing.accounts)
@machine_option
@format_option
def show_account(name: str, machine: Machine, style: str) -> None:
    """All of one account, with the lines that decide it."""
    from verrou.core.survey import account_data
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet
    from verrou.reports.surveys import account_facts

    posture = looked_at(machine)
    found = posture.by_name[known_account(posture, name)]
    rows = tuple({"about": about, "is": text} for about, text in account_facts(found, posture))
    sheet = Sheet("account", columns_of(("about", ""), ("is", ""), whole=("about",)), rows)
    print_facts(style, sheet, account_data(found, posture), lambda: print_sheet(console(), sheet))


@account.command("unlock")
@click.argument("name", shell_complete=completing.accounts)
@change_options()
def unlock(machine: Machine, name: str, how: dict[str, Any]) -> None:
    """Lift a lock after wrong passwords now, and forget the tries."""
    single(machine, lambda posture: [Unlock(known_account(posture, name))], how)


@account.command("add")
@click.argument("name")
@click.option("--role", type=ROLES, default="standard", show_default=True, help="What the account shall amount to.")
@click.option("--full-name", default="", help="The person's name.")
@click.option("--note", default="", help="What the account is for, where the machine keeps that.")
@click.option("--home", default="", help="A folder of its own instead of the usual one (Linux).")
@click.option("--shell", default="", help="A shell instead of the usual one (Linux).")
@click.option("--ends", "end", type=Day(), metavar="DAY", help="The day from which on it is closed.")
@click.option("--keep-password", is_flag=True, help="Do not ask for another password at the first sign-in.")
@click.option(
    "--fixed/--not-fixed", "cannot_change", default=None, help="Whether an administrator alone changes its password."
)
@click.option("--fresh-home/--kept-home", default=None, help="Whether each session gets a home that nothing stays in.")
@change_options("ask", "stdin", "generate", "blank")
def add(
    machine: Machine,
    name: str,
    role: str,
    end: date | None,
    keep_password: bool,
    cannot_change: bool | None,
    fresh_home: bool | None,
    password: str,
    how: dict[str, Any],
    **words: str,
) -> None:
    """Make an account that a person signs in with, the whole of it in one go.

    A standard user gets a first password and must change it. A guest joins the guests and not the ordinary users,
    has a fixed password, and finds a fresh home in each session. An administrator can elevate.
    """

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.plan.making import check_name, new_account

        check_name(posture, name)
        check_day(posture, end)
        check_kept(posture, **{key: text for key, text in words.items() if key != "home"})
        if words["home"] and posture.machine.kind != "linux":
            raise BadInput(f"{posture.machine.name} gives each account its home; leave --home out")
        if fresh_home and not posture.machine.fleeting_homes:
            raise BadInput(f"{posture.machine.name} cannot give each session a fresh home; leave --fresh-home out")
        return new_account(
            posture,
            AccountName(name),
            Role(role),
            password=password,
            must_change=False if keep_password else None,
            cannot_change=cannot_change,
            home_kept=None if fresh_home is None else not fresh_home,
            expires=end,
            **words,
        )

    single(machine, make, how)


@account.command("password")
@click.argument("name", shell_complete=completing.accounts)
@click.option("--keep-password", is_flag=True, help="Do not ask for another password at the next sign-in.")
@change_options("ask", "stdin", "generate", "blank")
def set_password(machine: Machine, name: str, keep_password: bool, password: str, how: dict[str, Any]) -> None:
    """Give an account another password. A disabled account stays disabled."""

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.model.ageing import left_out

        account = posture.by_name[known_account(posture, name)]
        marks = {flag for flag in Flag if flag is not Flag.MUST_CHANGE and getattr(account, flag)}
        excluded = any(pair[0] is Flag.MUST_CHANGE and pair[1] in marks for pair in posture.machine.excluding)
        must_change = not (keep_password or excluded or password == "blank" or left_out(account, posture))
        return [SetPassword(account.name, password, must_change=must_change)]

    single(machine, make, how)


@account.command("change")
@click.argument("name", shell_complete=completing.accounts)
@click.option("--role", type=ROLES, help="Raise or lower it to this.")
@click.option(
    "--join",
    "joins",
    multiple=True,
    metavar="GROUP",
    shell_complete=completing.groups,
    help="Join this group; may be repeated.",
)
@click.option(
    "--leave",
    "leaves",
    multiple=True,
    metavar="GROUP",
    shell_complete=completing.groups,
    help="Leave this group; may be repeated.",
)
@click.option(
    "--ends", "end", type=Day(or_never=True), metavar="DAY", help='The day from which on it is closed, or "never".'
)
@click.option("--password-due/--not-due", "must_change", default=None, help="Whether a new password is due.")
@click.option(
    "--fixed/--not-fixed", "cannot_change", default=None, help="Whether an administrator alone changes its password."
)
@click.option("--does-not-age/--ages", "never_ends", default=None, help="Whether its password ages.")
@click.option("--full-name", help="The person's name.")
@click.option("--note", help="What the account is for, where the machine keeps that.")
@click.option("--shell", help="Another shell (Linux).")
@click.option("--no-hint", is_flag=True, help="Take its password hint away.")
@click.option("--no-questions", is_flag=True, help="Take its recovery questions away.")
@change_options()
def change_account(
    machine: Machine,
    name: str,
    role: str | None,
    joins: tuple[str, ...],
    leaves: tuple[str, ...],
    end: date | str | None,
    must_change: bool | None,
    cannot_change: bool | None,
    never_ends: bool | None,
    no_hint: bool,
    no_questions: bool,
    how: dict[str, Any],
    **words: str | None,
) -> None:
    """Change what an account amounts to, its groups, its end, its marks or its words, in one worksheet."""

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.plan.making import role_steps

        found = known_account(posture, name)
        check_day(posture, end)
        check_kept(posture, **words)
        steps: list[Step] = [Join(found, known_group(posture, group)) for group in joins]
        steps += [SetEnd(found, end if isinstance(end, date) else None)] if end is not None else []
        marks = SetFlags(found, must_change, cannot_change, never_ends)
        steps += [marks] if marks.flags else []
        details = [(Detail(key), text) for key, text in words.items() if text is not None]
        details += [(Detail.HINT, "")] if no_hint else []
        details += [(Detail.RECOVERY_QUESTIONS, "")] if no_questions else []
        steps += [SetDetails(found, tuple(details))] if details else []
        steps += role_steps(posture, found, Role(role)) if role else []
        steps += [Leave(found, known_group(posture, group)) for group in leaves]
        if not steps:
            already = f"{found} is {role} already" if role else "nothing to change was named"
            raise BadInput(f"{already}; verrou account change --help lists what can be changed")
        return steps

    single(machine, make, how)


@account.command("swap")
@click.argument("old", shell_complete=completing.accounts)
@click.argument("new", shell_complete=completing.accounts)
@click.option("--full-name", default="", help="The person's name, where NEW is to be made.")
@change_options("ask", "stdin", "generate")
def swap(machine: Machine, old: str, new: str, full_name: str, password: str, how: dict[str, Any]) -> None:
    """Hand administration over from OLD to NEW: make or raise NEW, try it, and only then lower OLD.

    A built-in administrator is disabled, any other becomes a standard user. When NEW cannot sign in, or cannot elevate,
    nothing is taken from OLD.
    """

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.plan.making import check_name, swap_steps

        leaving = known_account(posture, old)
        coming = posture.account_called(new)
        if coming is None:
            check_name(posture, new)
        taking_over = AccountName(new) if coming is None else coming.name
        return swap_steps(posture, leaving, taking_over, password, full_name)

    single(machine, make, how)


@account.command("try")
@click.argument("name", shell_complete=completing.accounts)
@change_options(changes=False)
def try_account(machine: Machine, name: str, how: dict[str, Any]) -> None:
    """Whether an account is what it amounts to: a trial that nothing remains of.

    It signs in at the console. An administrator elevates, a standard user must not be able to, and a guest must be
    refused by every other way.
    """

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.model.access import role_of

        found = posture.by_name[known_account(posture, name)]
        blank = found.password is PasswordState.BLANK
        return [TrySignIn(found.name, role_of(found, posture), blank)]

    single(machine, make, how)


@account.command("rename")
@click.argument("name", shell_complete=completing.accounts)
@click.argument("new_name")
@change_options()
def rename(machine: Machine, name: str, new_name: str, how: dict[str, Any]) -> None:
    """Give an account another name; its identity, groups and files stay."""

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.plan.making import check_name

        found = known_account(posture, name)
        if new_name.casefold() != found.casefold():
            check_name(posture, new_name)
        return [Rename(found, AccountName(new_name), effect=Effect.NEXT_SIGN_IN)]

    single(machine, make, how)


@account.command("enable")
@click.argument("name", shell_complete=completing.accounts)
@change_options()
def enable(machine: Machine, name: str, how: dict[str, Any]) -> None:
    """Open an account that is closed."""
    single(
        machine,
        lambda posture: [SetEnabled(known_account(posture, name), True, effect=Effect.NEXT_SIGN_IN)],
        how,
    )


@account.command("disable")
@click.argument("name", shell_complete=completing.accounts)
@click.option("--on", "day", type=Day(), metavar="DAY", help="Close it from that day on, instead of now.")
@click.option("--stop-jobs", is_flag=True, help="Take away its crontab, at jobs and services that start by themselves.")
@change_options()
def disable(machine: Machine, name: str, day: date | None, stop_jobs: bool, how: dict[str, Any]) -> None:
    """Close an account; its files and groups stay."""

    def make(posture: Posture) -> Sequence[Step]:
        found = known_account(posture, name)
        check_day(posture, day)
        closing = SetEnd(found, day) if day else SetEnabled(found, False, effect=Effect.NEXT_SIGN_IN)
        return [*([StopJobs(found)] if stop_jobs else []), closing]

    single(machine, make, how)


@account.command("remove")
@click.argument("name", shell_complete=completing.accounts)
@click.option(
    "--files",
    type=OneOf([choice.value for choice in FilesChoice]),
    required=True,
    help="What happens to its files: its home is kept for the administrators, put into an archive, or deleted for "
    "good; or all that it has, elsewhere too, is handed over to somebody.",
)
@click.option(
    "--to", metavar="NAME", shell_complete=completing.accounts, help="Who gets the files, with --files hand-over."
)
@change_options()
def remove(machine: Machine, name: str, files: str, to: str | None, how: dict[str, Any]) -> None:
    """Take an account away for good. Files outside its home are counted and listed, and touched by hand-over alone."""

    def make(posture: Posture) -> Sequence[Step]:
        from verrou.core.model.access import is_person
        from verrou.core.model.acting import own_jobs, say_act

        found = posture.by_name[known_account(posture, name)]
        if found.builtin is not None or not is_person(found):
            instead = f"verrou account disable {found.name} closes it" if is_person(found) else "remove its package"
            raise BadInput(f"{found.name} came with the system and stays; {instead}")
        jobs = own_jobs(found)
        stopping = [StopJobs(found.name, why="; ".join(map(say_act, jobs)))] if jobs else []
        if (to is not None) is not (files == FilesChoice.HAND_OVER):
            raise BadInput("--files hand-over and --to NAME go together: say who gets the files")
        taker = known_account(posture, to) if to is not None else ""
        if taker == found.name:
            raise BadInput(f"{taker} leaves, so its files cannot be handed over to it; name somebody else")
        return [*stopping, Remove(found.name, FilesChoice(files), to=taker, effect=Effect.NEXT_SIGN_IN)]

    single(machine, make, how)
