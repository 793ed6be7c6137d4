"""verrou machine: bench machines."""

from datetime import datetime
from pathlib import Path

import click
from click.core import ParameterSource

from verrou.cli.at_the_bench import at_the_bench
from verrou.cli.command_group import CommandGroup
from verrou.cli.options import OneOf, machine_option
from verrou.cli.passwords import collect_passwords
from verrou.cli.user import check_new_name, user
from verrou.core.advice import command
from verrou.core.errors import BadInput
from verrou.core.model import AccountName, Role
from verrou.core.prediction.account_creation import check_name
from verrou.core.steps.step import CreateAccount
from verrou.machines.bench.authority import LANGUAGES, Authority, No
from verrou.machines.bench.kind import BENCH
from verrou.machines.bench.machine import BenchMachine
from verrou.machines.bench.practice import make_practice
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.bench.steps import do_step
from verrou.machines.changes import Secrets
from verrou.machines.protocol import Machine


@click.group(cls=CommandGroup)
def machine() -> None:
    """Create and restart bench machines (simulated workstations)."""


@machine.command("new")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--owner", default="owner", show_default=True, help="First account, an administrator.")
@click.option("--bare", is_flag=True, help="Without the first account, so no one can sign in.")
@click.option(
    "--password",
    type=OneOf(["ask", "stdin", "generate"]),
    default="ask",
    show_default=True,
    help="Password of the first account: hidden prompt, standard input, or generated.",
)
@click.option(
    "--edition", type=OneOf(["full", "basic"]), default="full", show_default=True, help="Edition of the machine."
)
@click.option(
    "--language", type=OneOf(sorted(LANGUAGES)), default="en", show_default=True, help="Language of the built-in names."
)
@click.option(
    "--flawed",
    metavar="SEED",
    help="To practise: with flaws of every family, a job sheet and its baseline; the same for the same SEED.",
)
def new(file: Path, owner: str, bare: bool, password: str, edition: str, language: str, flawed: str | None) -> None:
    """Create a bench machine with one administrator."""
    check_new_name(file)
    file = BENCH.file_for(file)
    if file.exists():
        raise BadInput(f"{file} already exists. Choose another name.")
    if not file.parent.is_dir():
        raise BadInput(f"{file.parent}: no such folder. Create it first.")
    name = file.name.removesuffix(BENCH.suffix)
    if flawed is not None:
        _practice(file, name, flawed)
        return
    made = Authority.fresh(name, datetime.now().replace(microsecond=0), edition, language)
    generated = Secrets()
    if not bare:
        generated = _set_up(made, owner, password)
    made.save(file)
    user().hand_over(generated, None)
    who = "no one can sign in yet" if bare else f"{owner} administers"
    click.echo(f"{file}: new bench machine, {edition} edition; {who}. Next: verrou survey -m {file}")


def _practice(file: Path, name: str, seed: str) -> None:
    """Create a machine to practise on, with its job sheet as a page and as a baseline, and its passwords."""
    others = ("owner", "bare", "password", "edition", "language")
    context = click.get_current_context()
    if given := [each for each in others if context.get_parameter_source(each) is ParameterSource.COMMANDLINE]:
        raise BadInput(f"--flawed and --{given[0]} cannot be combined: the seed decides.")
    page, baseline, handed = (file.with_name(f"{name}{ending}") for ending in ("-job.txt", ".toml", "-passwords.txt"))
    for each in (page, baseline, handed):
        if each.exists():
            raise BadInput(f"{each} already exists. Choose another name.")
    practice = make_practice(name, seed)
    user().reserve(handed)
    handed.write_text("".join(f"{who}: {password}\n" for who, password in practice.passwords.items()), "utf-8")
    user().write_new(page, practice.page)
    user().write_new(baseline, practice.baseline)
    practice.machine.save(file)
    click.echo(f"{file}: new bench machine with {len(practice.flaws)} flaws, to practise on.")
    click.echo(f"{page}: its job sheet; {handed}: the passwords of its users (only you can read them).")
    click.echo(f"When it is done, check it: {command('audit', '-m', str(file), '-b', str(baseline))}")


@machine.command("restart")
@machine_option
def restart(machine: Machine) -> None:
    """Restart a bench machine: sessions end, and pending rules take effect."""
    if not isinstance(machine, BenchMachine):
        raise BadInput(f"{machine.address} is not a bench machine. Restart it as any computer.")
    with at_the_bench(machine, "machine restart") as made:
        name = made.restart()
    click.echo(f"{machine.name} restarted; " + (f"{name} is signed in" if name else "no one is signed in"))


def _set_up(made: Authority, owner: str, password: str) -> Secrets:
    """Create the owner's account, and return its password if one was generated."""
    snapshot = snapshot_of(made, made.name)
    check_name(snapshot, owner)
    how = "generate" if password == "generate" else "ask"
    how = "generate" if password == "generate" else "ask"
    step = CreateAccount(AccountName(owner), Role.ADMINISTRATOR, password=how, must_change=False)
    secrets, generated = collect_passwords([step], snapshot, typed=password != "stdin")
    try:
        do_step(made, step, secrets)
    except No as reason:
        raise BadInput(f"{owner}: {reason}; nothing was created") from None
    return generated
