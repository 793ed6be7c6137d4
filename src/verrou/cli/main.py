"""The command line: a group whose commands are imported when they are called."""

import importlib
from collections.abc import Mapping
from typing import Any

import click

from verrou import __version__
from verrou.core.errors import MachineRefused, VerrouError

COMMANDS: Mapping[str, str] = {
    "demo": "verrou.demo.command:demo",
    "survey": "verrou.cli.look:survey",
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
    "schema": "verrou.cli.schemas:schema",
    "machine": "verrou.cli.machines:machine",
}


class LazyGroup(click.Group):
    """Finds its commands by name in a table of ``module:attribute``, in the table's order."""

    def __init__(self, *args: Any, table: Mapping[str, str], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.table = table

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.table)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        place = self.table.get(cmd_name)
        if place is None:
            return None
        module, _, attribute = place.partition(":")
        command = getattr(importlib.import_module(module), attribute)
        assert isinstance(command, click.Command)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in self.table:
            from verrou.core.values import nearest

            close = nearest(args[0], list(self.table))
            hint = f"did you mean {close}?" if close else "verrou --help lists the commands"
            ctx.fail(f"there is no command {args[0]!r}; {hint}")
        return super().resolve_command(ctx, args)

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except VerrouError as error:
            from verrou.reports.sheets import shown

            for line in str(error).split("\n"):
                click.echo(f"verrou: {shown(line)}", err=True)
            ctx.exit(error.exit_code)
        except RecursionError:
            click.echo("verrou: the input is nested too deeply", err=True)
            ctx.exit(2)
        except BrokenPipeError:
            raise
        except OSError as error:
            where = f": {error.filename}" if error.filename else ""
            click.echo(f"verrou: {error.strerror or error}{where}", err=True)
            ctx.exit(MachineRefused.exit_code)


@click.group(cls=LazyGroup, table=COMMANDS, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="verrou", message="%(prog)s %(version)s")
def cli() -> None:
    """Audit and harden the local accounts of a computer that stands alone, and prove that the result holds.

    \b
    A first round:   verrou demo
                     verrou survey -m MACHINE
                     verrou audit  -m MACHINE -b shared-desk
                     verrou harden -m MACHINE -b shared-desk --preview

    Exit: 0 all well; 1 something falls short or is disproved; 2 wrong use or unreadable input; 3 a guard refused;
    4 the machine refused or the run broke off; 5 not enough rights.
    """
