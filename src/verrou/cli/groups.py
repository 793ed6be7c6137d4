"""verrou group: list groups with what each grants and to whom, and change them."""

from collections.abc import Sequence

import click

from verrou.cli import completing
from verrou.cli.accounts import check_kept
from verrou.cli.change import single
from verrou.cli.change_options import ChangeSettings, change_options
from verrou.cli.command_group import CommandGroup
from verrou.cli.observing import group_named, known_account, known_group, looked_at
from verrou.cli.options import format_option, machine_option
from verrou.cli.output import print_facts
from verrou.core.model import GroupName, Snapshot
from verrou.core.prediction.account_creation import check_name
from verrou.core.steps.step import CreateGroup, Join, Leave, RemoveGroup, SetGroupNote, Step
from verrou.machines.protocol import Machine
from verrou.reports.groups import group_data, group_facts, groups_table
from verrou.reports.tables import Table, columns_of, console, print_table


@click.group(cls=CommandGroup)
def group() -> None:
    """List, create, change and remove groups; add and remove members.

    GROUP is a name, or the ID of a group whose name may be in another language.
    """


@group.command("list")
@machine_option
@format_option
@click.option("--all", "everyone", is_flag=True, help="Include groups without members that grant nothing.")
def list_groups(machine: Machine, style: str, everyone: bool) -> None:
    """List groups that have members or grant something."""
    snapshot = looked_at(machine)
    table = groups_table(snapshot, everyone or style != "text")
    data = [group_data(each, snapshot) for each in snapshot.groups]
    print_facts(style, table, data, lambda: print_table(console(), table))


@group.command("show")
@click.argument("name", metavar="GROUP", shell_complete=completing.groups)
@machine_option
@format_option
def show_group(name: str, machine: Machine, style: str) -> None:
    """Show what a group grants, where that is set, and its members."""
    snapshot = looked_at(machine)
    found = group_named(snapshot, name)
    rows = tuple({"about": about, "is": text} for about, text in group_facts(found, snapshot))
    table = Table("group", columns_of(("about", ""), ("is", ""), whole=("about",)), rows)
    print_facts(style, table, group_data(found, snapshot), lambda: print_table(console(), table))


@group.command("add")
@click.argument("name", metavar="GROUP")
@click.option("--note", default="", help="Purpose of the group, if the machine can store it.")
@click.option("--member", "members", multiple=True, metavar="ACCOUNT", help="Account to add at once; can be repeated.")
@change_options()
def add(machine: Machine, name: str, note: str, members: tuple[str, ...], settings: ChangeSettings) -> None:
    """Create a group."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        check_name(snapshot, name, group=True)
        check_kept(snapshot, group_note=note)
        made = GroupName(name)
        return [CreateGroup(made, note), *(Join(known_account(snapshot, member), made) for member in members)]

    single(machine, make, settings)


@group.command("change")
@click.argument("name", metavar="GROUP", shell_complete=completing.groups)
@click.option("--note", required=True, help="Purpose of the group.")
@change_options()
def change_group(machine: Machine, name: str, note: str, settings: ChangeSettings) -> None:
    """Change the note of a group."""

    def make(snapshot: Snapshot) -> Sequence[Step]:
        check_kept(snapshot, group_note=note)
        return [SetGroupNote(known_group(snapshot, name), note)]

    single(machine, make, settings)


@group.command("join")
@click.argument("name", metavar="GROUP", shell_complete=completing.groups)
@click.argument("accounts", metavar="ACCOUNT...", nargs=-1, required=True, shell_complete=completing.accounts)
@change_options()
def join(machine: Machine, name: str, accounts: tuple[str, ...], settings: ChangeSettings) -> None:
    """Add accounts to a group."""
    single(
        machine,
        lambda snapshot: [Join(known_account(snapshot, each), known_group(snapshot, name)) for each in accounts],
        settings,
    )


@group.command("leave")
@click.argument("name", metavar="GROUP", shell_complete=completing.groups)
@click.argument("accounts", metavar="ACCOUNT...", nargs=-1, required=True, shell_complete=completing.accounts)
@change_options()
def leave(machine: Machine, name: str, accounts: tuple[str, ...], settings: ChangeSettings) -> None:
    """Remove accounts from a group."""
    single(
        machine,
        lambda snapshot: [Leave(known_account(snapshot, each), known_group(snapshot, name)) for each in accounts],
        settings,
    )


@group.command("remove")
@click.argument("name", metavar="GROUP", shell_complete=completing.groups)
@change_options()
def remove(machine: Machine, name: str, settings: ChangeSettings) -> None:
    """Remove a group; its members lose what it granted."""
    single(machine, lambda snapshot: [RemoveGroup(known_group(snapshot, name))], settings)
