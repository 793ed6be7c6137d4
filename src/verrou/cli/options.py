"""Options that several commands share: machine, baseline and format."""

# Imports within functions: an error needs them.

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from verrou.cli import completing
from verrou.cli.baseline_files import INCLUDED_BASELINES
from verrou.cli.handing_over import HandedOver, is_across, is_this
from verrou.cli.user import user
from verrou.core.errors import BadInput
from verrou.machines.linux.kind import THIS
from verrou.machines.protocol import Asking, Lacks, Machine
from verrou.machines.registry import addresses_text, open_machine
from verrou.reports.tables import Table, print_table
from verrou.reports.terminal import Terminal

F = TypeVar("F", bound=Callable[..., Any])


class MachineType(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """An address that becomes a machine."""

    name = "machine"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Machine:
        return opened(value) if isinstance(value, str) else value


def opened(address: str) -> Machine:
    """Open the machine at an address. Raises: HandedOver: it is across a cable. VerrouError: it cannot be opened."""
    if is_across(address):
        raise HandedOver(address)
    if not is_this(address):
        return open_machine(address)
    from verrou.machines.linux.machine import LinuxMachine

    return LinuxMachine(Path("/"), address, user().visitor)


class OneOf(click.Choice):  # type: ignore[type-arg,unused-ignore]
    """One of a few words; any other is rejected in the form of all errors."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if value in self.choices:
            return value
        from verrou.core.values import nearest, show_raw

        close = nearest(value, self.choices)
        hint = f". Did you mean {close}?" if close else ""
        option = f"{param.opts[-1]}: " if param is not None else ""
        raise BadInput(f"{option}invalid value {show_raw(value)}; expected one of {', '.join(self.choices)}{hint}")


EVERY = "all"
"""The word for a list without an end."""
PAGE = 100
"""How much of a long list a person reads."""


class Limit(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """How many lines: a number, or all of them, which is None."""

    name = "limit"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int | None:
        if isinstance(value, int) or value is None or value == EVERY:
            return value if isinstance(value, int) else None
        if value.isascii() and value.isdigit() and 0 < int(value) < 2**31:
            return int(value)
        raise BadInput(f"--limit: invalid value {value!r}; expected a number from 1 on, or {EVERY}")


def _the_one_machine(context: click.Context, __: click.Parameter, machines: tuple[Machine, ...]) -> Machine:
    """Reject two machines in one command: both would be meant, and only one be done."""
    if len(machines) > 1:
        named = ", ".join(machine.address for machine in machines)
        raise BadInput(f"{len(machines)} machines given ({named}). Give -m once.")
    machine = machines[0] if machines else opened(os.environ.get("VERROU_MACHINE") or THIS)
    required: list[Asking] = context.meta.get(ASKING, [])
    if len(required) > 1:
        raise BadInput("--files-only and --ask-system cannot be combined. Use one of them.")
    if required:
        _set_asking(machine, required[0])
    return machine


def _set_asking(machine: Machine, how: Asking) -> None:
    askable = machine.askable
    if not isinstance(askable, Lacks):
        askable.asking = how
    elif how is Asking.SYSTEM:
        raise BadInput(f"--ask-system: {machine.name} cannot be asked: {askable.reason}")


ASKING = "verrou.asking"


def _asking(how: Asking) -> Callable[[click.Context, click.Parameter, bool], None]:
    def required(context: click.Context, _: click.Parameter, given: bool) -> None:
        if given:
            context.meta.setdefault(ASKING, []).append(how)

    return required


def machine_option(command: F) -> F:
    """Add ``-m MACHINE``, by default this computer, and the choice whether its own programs are asked."""
    for name, how, help_text in (
        ("--ask-system", Asking.SYSTEM, "Also ask PAM and sshd of a mounted disk, run in isolation."),
        ("--files-only", Asking.FILES_ONLY, "Only read files; run no program of the machine."),
    ):
        flag = click.option(
            name, is_flag=True, is_eager=True, expose_value=False, callback=_asking(how), help=help_text
        )
        command = flag(command)
    return click.option(
        "-m",
        "--machine",
        type=MachineType(),
        multiple=True,
        callback=_the_one_machine,
        metavar="MACHINE",
        shell_complete=completing.machines,
        help=f"{addresses_text()}, or ssh://[USER@]HOST[:PORT]; default: VERROU_MACHINE, or this.",
    )(command)


def _a_baseline(_: click.Context, __: click.Parameter, name: str | None) -> str:
    if name is None:
        raise BadInput(f"no baseline given. Use -b FILE, or an included one: -b {', -b '.join(INCLUDED_BASELINES)}")
    return name


def baseline_option(command: F) -> F:
    """Add ``-b BASELINE``."""
    return click.option(
        "-b",
        "--baseline",
        "baseline_name",
        callback=_a_baseline,
        metavar="BASELINE",
        shell_complete=completing.baselines,
        help=f"Baseline file, or an included one: {', '.join(INCLUDED_BASELINES)}.",
    )(command)


def format_option(command: F) -> F:
    """Add ``--format``."""
    return click.option(
        "--format",
        "style",
        type=OneOf(["text", "json", "csv"]),
        default="text",
        show_default=True,
        help="Output format.",
    )(command)


def limit_option(what: str) -> Callable[[F], F]:
    """Add ``--limit``: how many of a long list are shown; None for all of them."""
    return click.option("--limit", type=Limit(), default=PAGE, show_default=True, help=f"How many {what}, or {EVERY}.")


def print_first(out: Terminal, table: Table, limit: int | None) -> None:
    """Print the first rows of a table, and how many more there are."""
    print_table(out, table.first(limit))
    if limit is not None and len(table.rows) > limit:
        out.print(f"and {len(table.rows) - limit} more (--limit {EVERY})", style="dim")
