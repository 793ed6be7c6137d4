"""verrou account and verrou group: single changes, through the same worksheet, guards and journal as harden."""

from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any, TypeVar

import click

from verrou.cli.change import accept_option, change
from verrou.cli.options import format_option, machine_option, print_facts, tell_troubles
from verrou.core.errors import BadInput
from verrou.core.model import Account, Effect, Posture, Role
from verrou.core.steps import CreateAccount, Join, Leave, Rename, SetEnabled, SetEnd, SetPassword, Step, Unlock
from verrou.machines import Machine

STATES = ("blank", "disabled", "expired", "locked", "must change", "never ends", "wrong tries", "can sign in")
F = TypeVar("F", bound=Callable[..., Any])


def _change_options(command: F) -> F:
    for option in (
        accept_option,
        click.option("--preview", is_flag=True, help="Show the worksheet and stop."),
        click.option("--yes", is_flag=True, help="Do not ask."),
        machine_option,
    ):
        command = option(command)
    return command


def _password_options(command: F) -> F:
    for option in (
        click.option("--password-file", type=click.Path(path_type=Path), help="A new file for a generated password."),
        click.option(
            "--password",
            type=click.Choice(["ask", "stdin", "generate"]),
            default="ask",
            show_default=True,
            help="Typed at a hidden prompt, one line of standard input, or made.",
        ),
        click.option("--keep-password", is_flag=True, help="Do not ask for another password at the next sign-in."),
    ):
        command = option(command)
    return command


def _single(machine: Machine, make: Callable[[Posture], Step], command: str, **how: Any) -> None:
    posture = machine.observe()
    tell_troubles(posture)
    change(machine, posture, [make(posture)], command=command, **how)


def _known(posture: Posture, name: str) -> str:
    """The name, when the machine has such an account."""
    from verrou.core.values import nearest

    if name in posture.by_name:
        return name
    close = nearest(name, list(posture.by_name))
    raise BadInput(
        f"{posture.machine.name} has no account {name!r}; "
        + (f"did you mean {close}?" if close else "verrou account list shows them")
    )


def _known_group(posture: Posture, name: str) -> str:
    from verrou.core.values import nearest

    if posture.group(name):
        return name
    close = nearest(name, [group.name for group in posture.groups])
    raise BadInput(
        f"{posture.machine.name} has no group {name!r}; "
        + (f"did you mean {close}?" if close else "verrou group list shows them")
    )


@click.group()
def account() -> None:
    """Accounts: see them, make, rename, open and close them, give passwords."""


@account.command("list")
@machine_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Show system and service accounts too.")
@click.option("--role", type=click.Choice([role.value for role in Role]), help="Only accounts that amount to this.")
@click.option("--state", type=click.Choice(STATES), help="Only accounts in this state.")
def list_accounts(machine: Machine, style: str, everyone: bool, role: str | None, state: str | None) -> None:
    """Who has an account, what each amounts to, and what stands out."""
    from verrou.core.survey import account_data
    from verrou.reports.sheets import console, print_sheet
    from verrou.reports.surveys import accounts_sheet, folded_line

    posture = machine.observe()
    tell_troubles(posture)
    asked = bool(role or state)
    chosen = [a for a in posture.accounts if _fits(a, posture, role, state)]
    sheet, folded = accounts_sheet(posture, everyone or asked or style != "text", chosen)

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
    from verrou.core.access import role_of, states_of

    in_role = role is None or role_of(each, posture) == role
    return in_role and (state is None or any(state in words for words in states_of(each, posture)))


@account.command("show")
@click.argument("name")
@machine_option
@format_option
def show_account(name: str, machine: Machine, style: str) -> None:
    """All of one account, with the lines that decide it."""
    from verrou.core.survey import account_data
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet
    from verrou.reports.surveys import account_facts

    posture = machine.observe()
    tell_troubles(posture)
    found = posture.by_name[_known(posture, name)]
    rows = tuple({"about": about, "is": text} for about, text in account_facts(found, posture))
    sheet = Sheet("account", columns_of(("about", ""), ("is", ""), whole=("about",)), rows)
    print_facts(style, sheet, account_data(found, posture), lambda: print_sheet(console(), sheet))


@account.command("unlock")
@click.argument("name")
@_change_options
def unlock(machine: Machine, name: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Lift a lock after wrong passwords now, and forget the tries."""
    _single(
        machine,
        lambda posture: Unlock(_known(posture, name)),
        "account unlock",
        yes=yes,
        preview=preview,
        accepted=accepted,
    )


@account.command("add")
@click.argument("name")
@click.option(
    "--role",
    type=click.Choice([Role.STANDARD.value, Role.GUEST.value, Role.ADMINISTRATOR.value]),
    default=Role.STANDARD.value,
    show_default=True,
    help="What the account shall amount to.",
)
@click.option("--full-name", default="", help="The person's name.")
@_password_options
@_change_options
def add(
    machine: Machine,
    name: str,
    role: str,
    full_name: str,
    password: str,
    keep_password: bool,
    password_file: Path | None,
    yes: bool,
    preview: bool,
    accepted: tuple[str, ...],
) -> None:
    """Make an account that a person signs in with, and give it a first password."""

    def make(posture: Posture) -> Step:
        import re

        naming = posture.machine.naming
        if len(name) > naming.longest or not re.fullmatch(naming.pattern, name):
            raise BadInput(f"{name!r} is no account name on this machine; accepted: {naming.words}")
        if name in posture.by_name or posture.group(name):
            raise BadInput(f"{posture.machine.name} has an account or a group {name!r} already; choose another name")
        how = "generate" if password == "generate" else "ask"
        return CreateAccount(name, Role(role), full_name, how, must_change=not keep_password)

    _single(
        machine,
        make,
        "account add",
        yes=yes,
        preview=preview,
        accepted=accepted,
        typed=password != "stdin",
        password_file=password_file,
    )


@account.command("password")
@click.argument("name")
@_password_options
@_change_options
def set_password(
    machine: Machine,
    name: str,
    password: str,
    keep_password: bool,
    password_file: Path | None,
    yes: bool,
    preview: bool,
    accepted: tuple[str, ...],
) -> None:
    """Give an account another password."""
    how = "generate" if password == "generate" else "ask"
    _single(
        machine,
        lambda posture: SetPassword(_known(posture, name), how, must_change=not keep_password),
        "account password",
        yes=yes,
        preview=preview,
        accepted=accepted,
        typed=password != "stdin",
        password_file=password_file,
    )


@account.command("change")
@click.argument("name")
@click.option(
    "--ends", "end", required=True, metavar="DAY", help='The day from which on it is closed, or "never" for no end.'
)
@_change_options
def change_account(machine: Machine, name: str, end: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Give an account an end, another one, or none."""
    try:
        day = None if end == "never" else date.fromisoformat(end)
    except ValueError:
        raise BadInput(f'--ends: found {end!r}, accepted: a day such as 2027-03-31, or "never"') from None
    _single(
        machine,
        lambda posture: SetEnd(_known(posture, name), day),
        "account change",
        yes=yes,
        preview=preview,
        accepted=accepted,
    )


@account.command("rename")
@click.argument("name")
@click.argument("new_name")
@_change_options
def rename(machine: Machine, name: str, new_name: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Give an account another name; its identity, groups and files stay."""
    _single(
        machine,
        lambda posture: Rename(_known(posture, name), new_name, effect=Effect.NEXT_SIGN_IN),
        "account rename",
        yes=yes,
        preview=preview,
        accepted=accepted,
    )


def _switch(name: str, enabled: bool) -> Callable[[Posture], Step]:
    return lambda posture: SetEnabled(_known(posture, name), enabled, effect=Effect.NEXT_SIGN_IN)


@account.command("enable")
@click.argument("name")
@_change_options
def enable(machine: Machine, name: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Open an account that is closed."""
    _single(machine, _switch(name, True), "account enable", yes=yes, preview=preview, accepted=accepted)


@account.command("disable")
@click.argument("name")
@_change_options
def disable(machine: Machine, name: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Close an account; its files and groups stay."""
    _single(machine, _switch(name, False), "account disable", yes=yes, preview=preview, accepted=accepted)


@click.group()
def group() -> None:
    """Groups: what each gives and to whom; join and leave."""


@group.command("list")
@machine_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Show groups without members that give nothing.")
def list_groups(machine: Machine, style: str, everyone: bool) -> None:
    """Groups with members, or that give something."""
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet

    posture = machine.observe()
    tell_troubles(posture)
    rows = tuple(
        {
            "group": g.name,
            "identity": g.identity,
            "gives": [str(grant) for grant in g.grants],
            "members": list(g.members),
        }
        for g in posture.groups
        if everyone or style != "text" or g.grants or [m for m in g.members if m != g.name]
    )
    keys = ("group", "identity", "gives", "members")
    sheet = Sheet("groups", columns_of(*((key, key) for key in keys), whole=("group", "identity")), rows)
    print_facts(style, sheet, [dict(row) for row in rows], lambda: print_sheet(console(), sheet))


@group.command("join")
@click.argument("group_name", metavar="GROUP")
@click.argument("name", metavar="ACCOUNT")
@_change_options
def join(machine: Machine, group_name: str, name: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Make an account a member of a group."""
    _single(
        machine,
        lambda posture: Join(_known(posture, name), _known_group(posture, group_name)),
        "group join",
        yes=yes,
        preview=preview,
        accepted=accepted,
    )


@group.command("leave")
@click.argument("group_name", metavar="GROUP")
@click.argument("name", metavar="ACCOUNT")
@_change_options
def leave(machine: Machine, group_name: str, name: str, yes: bool, preview: bool, accepted: tuple[str, ...]) -> None:
    """Take an account out of a group."""
    _single(
        machine,
        lambda posture: Leave(_known(posture, name), _known_group(posture, group_name)),
        "group leave",
        yes=yes,
        preview=preview,
        accepted=accepted,
    )
