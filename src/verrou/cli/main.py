"""The command line: a group whose commands are imported when they are called."""

import importlib
import os
import sys
from collections.abc import Mapping, Sequence
from typing import Any

import click

from verrou import version_line
from verrou.cli.command_group import CommandGroup
from verrou.core.errors import BadInput, MachineRefused, VerrouError

COMMANDS: Mapping[str, str] = {
    "demo": "verrou.demo.command:demo",
    "survey": "verrou.cli.look:survey",
    "access": "verrou.cli.access:access",
    "why": "verrou.cli.access:why",
    "signin": "verrou.cli.access:signin",
    "audit": "verrou.cli.look:audit",
    "harden": "verrou.cli.change:harden",
    "verify": "verrou.cli.verify:verify",
    "undo": "verrou.cli.records:undo",
    "resume": "verrou.cli.records:resume",
    "journal": "verrou.cli.records:journal",
    "account": "verrou.cli.accounts:account",
    "group": "verrou.cli.groups:group",
    "rule": "verrou.cli.rules:rule",
    "baseline": "verrou.cli.baselines:baseline",
    "compare": "verrou.cli.compare:compare",
    "round": "verrou.cli.rounds:go_round",
    "report": "verrou.cli.report:report",
    "logbook": "verrou.cli.logbook:logbook",
    "trend": "verrou.cli.logbook:trend",
    "schema": "verrou.cli.schemas:schema",
    "machine": "verrou.cli.machines:machine",
    "handbook": "verrou.cli.papers:handbook",
    "manual": "verrou.cli.papers:manual",
    "completion": "verrou.cli.papers:completion",
}


class _NobodyReads(Exception):
    """Whoever read the output has gone. Click would end the program itself at an EPIPE, and as if something fell
    short."""


class LazyGroup(CommandGroup):
    """Finds its commands by name in a table of ``module:attribute``, in the table's order."""

    def __init__(self, *args: Any, table: Mapping[str, str], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.table = table

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.table)

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except BrokenPipeError:
            raise _NobodyReads from None

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        place = self.table.get(cmd_name)
        if place is None:
            return None
        module, _, attribute = place.partition(":")
        command = getattr(importlib.import_module(module), attribute)
        assert isinstance(command, click.Command)
        return command


def _tell_version(ctx: click.Context, _: click.Parameter, asked: bool) -> None:
    if asked and not ctx.resilient_parsing:
        click.echo(version_line())
        ctx.exit()


@click.group(cls=LazyGroup, table=COMMANDS, context_settings={"help_option_names": ["-h", "--help"]})
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_tell_version,
    help="Show the version and exit.",
)
def cli() -> None:
    """Audit and harden the local accounts of a computer that stands alone, and prove that the result holds.

    \b
    A first round:   verrou demo
                     verrou survey -m MACHINE
                     verrou audit  -m MACHINE -b shared-desk
                     verrou harden -m MACHINE -b shared-desk --preview

    Exit codes: 0 success; 1 a requirement is not met or a test failed; 2 wrong usage or unreadable input; 3 blocked by
    a guard; 4 rejected by the machine, or interrupted; 5 not enough rights; 6 cancelled.
    """


def call(words: Sequence[str]) -> int:
    """One command, and how it ended; errors are the caller's. What was typed is known to it, for the journal."""
    ended = cli.main(list(words), prog_name="verrou", standalone_mode=False, obj=tuple(words))
    return ended if isinstance(ended, int) else 0


def run(arguments: Sequence[str] | None = None) -> int:
    """The command line, and how it ended. Every error is told in one form, whoever raises it: a line that says what was
    found, where, and what to do."""
    try:
        ended = call(sys.argv[1:] if arguments is None else arguments)
        sys.stdout.flush()
        return ended
    except VerrouError as error:
        try:
            sys.stdout.flush()
        except OSError:
            _write_nothing_more()
        return _tell(str(error), error.exit_code)
    except click.UsageError as error:
        where = error.ctx.command_path if error.ctx is not None else "verrou"
        if isinstance(error, _ASKS_FOR_HELP):
            click.echo(error.ctx.get_help() if error.ctx is not None else "", err=True)
            return BadInput.exit_code
        said = _sentence(error)
        return _tell(
            said if said.endswith("?") or "--help" in said else f"{said}. For help: {where} --help", BadInput.exit_code
        )
    except click.Abort:
        return _tell("interrupted; what had not begun to change is as it was", INTERRUPTED)
    except RecursionError:
        return _tell("the input is nested too deeply", BadInput.exit_code)
    except (BrokenPipeError, _NobodyReads):
        _write_nothing_more()
        return MachineRefused.exit_code
    except OSError as error:
        where = f": {error.filename}" if error.filename else ""
        return _tell(f"{error.strerror or error}{where}", MachineRefused.exit_code)


_ASKS_FOR_HELP: Any = getattr(click.exceptions, "NoArgsIsHelpError", ())
"""How newer versions of Click say that a group was called without a command."""
INTERRUPTED = 130
"""How a program ends that somebody broke off at the keyboard, as shells have it."""


def _write_nothing_more() -> None:
    """Where nobody reads the output, the interpreter is not to write the rest of it at the end either."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _tell(message: str, code: int) -> int:
    from verrou.reports.sheets import complain

    complain(message)
    return code


def _sentence(error: click.UsageError) -> str:
    """What Click found, as our own errors have it: without a capital and a full stop."""
    message = " ".join(error.format_message().split()).rstrip(".").replace(". Choose from:", "; choose from:")
    return message[:1].lower() + message[1:]
