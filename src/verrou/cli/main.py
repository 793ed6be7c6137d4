"""The command line: a group whose commands are imported when they are called."""

import importlib
import os
import sys
from collections.abc import Mapping, Sequence
from typing import Any

import click

from verrou import version_line
from verrou.cli.command_group import CommandGroup, verbose_option, with_verbose
from verrou.cli.handing_over import HandedOver, run_there
from verrou.core.errors import BadInput, MachineRefused, VerrouError

COMMANDS: Mapping[str, str] = {
    "demo": "verrou.demo.command:demo",
    "visit": "verrou.cli.visit:visit",
    "survey": "verrou.cli.survey_and_audit:survey",
    "access": "verrou.cli.access:access",
    "why": "verrou.cli.access:why",
    "signin": "verrou.cli.access:signin",
    "audit": "verrou.cli.survey_and_audit:audit",
    "harden": "verrou.cli.harden:harden",
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
    "trend": "verrou.cli.trend:trend",
    "schema": "verrou.cli.schemas:schema",
    "machine": "verrou.cli.machines:machine",
    "sit": "verrou.cli.sit:sit",
    "handbook": "verrou.cli.documentation:handbook",
    "manual": "verrou.cli.documentation:manual",
    "completion": "verrou.cli.documentation:completion",
}


class _NobodyReads(Exception):
    """The reader of the output has gone. On an EPIPE Click would exit with 1, as if a requirement were not met."""


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
        return with_verbose(command)


def _print_version(ctx: click.Context, _: click.Parameter, asked: bool) -> None:
    if asked and not ctx.resilient_parsing:
        click.echo(version_line())
        ctx.exit()


@click.group(
    cls=LazyGroup,
    table=COMMANDS,
    params=[verbose_option()],
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_print_version,
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
    """Run one command and return its exit code.

    Errors are the caller's. The command as typed is stored for the journal."""
    ended = cli.main(list(words), prog_name="verrou", standalone_mode=False, obj=tuple(words))
    return ended if isinstance(ended, int) else 0


def run(arguments: Sequence[str] | None = None) -> int:
    """Run the command line and return its exit code.

    Every error is printed in one form, whatever raised it: one line with what is wrong, where, and what to do."""
    words = sys.argv[1:] if arguments is None else arguments
    try:
        try:
            ended = call(words)
        except HandedOver as over:
            ended = run_there(words, over.address)
        sys.stdout.flush()
        return ended
    except VerrouError as error:
        try:
            sys.stdout.flush()
        except OSError:
            _write_nothing_more()
        return _print_error(str(error), error.exit_code)
    except click.UsageError as error:
        where = error.ctx.command_path if error.ctx is not None else "verrou"
        if isinstance(error, _ASKS_FOR_HELP):
            click.echo(error.ctx.get_help() if error.ctx is not None else "", err=True)
            return BadInput.exit_code
        message = _sentence(error)
        return _print_error(
            message if message.endswith("?") or "--help" in message else f"{message}. For help: {where} --help",
            BadInput.exit_code,
        )
    except click.Abort:
        return _print_error("interrupted; what had not begun to change is as it was", INTERRUPTED)
    except RecursionError:
        return _print_error("the input is nested too deeply", BadInput.exit_code)
    except (BrokenPipeError, _NobodyReads):
        _write_nothing_more()
        return MachineRefused.exit_code
    except OSError as error:
        where = f": {error.filename}" if error.filename else ""
        return _print_error(f"{error.strerror or error}{where}", MachineRefused.exit_code)


_ASKS_FOR_HELP: Any = getattr(click.exceptions, "NoArgsIsHelpError", ())
"""How newer versions of Click say that a group was called without a command."""
INTERRUPTED = 130
"""Exit code of a program interrupted at the keyboard, as in shells."""


def _write_nothing_more() -> None:
    """Keep the interpreter from writing the rest of the output at exit, when no one reads it."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _print_error(message: str, code: int) -> int:
    from verrou.reports.tables import complain

    complain(message)
    return code


def _sentence(error: click.UsageError) -> str:
    """Return a Click error in the form of our own: without a capital and a full stop."""
    message = " ".join(error.format_message().split()).rstrip(".").replace(". Choose from:", "; choose from:")
    return message[:1].lower() + message[1:]
