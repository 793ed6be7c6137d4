"""Groups of commands that list each with its whole sentence, and suggest the nearest for an unknown one."""

# Imports within functions: an error, or -v, needs them.

import sys

import click


class CommandGroup(click.Group):
    """A group whose list shows whole sentences."""

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands, each with its first sentence."""
        commands = [(name, self.get_command(ctx, name)) for name in self.list_commands(ctx)]
        rows = [(name, command.get_short_help_str(limit=LONGEST)) for name, command in commands if command is not None]
        with formatter.section("Commands"):
            formatter.write_dl(rows)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        command = super().get_command(ctx, cmd_name)
        return None if command is None else with_verbose(command)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        known = self.list_commands(ctx)
        if args and not args[0].startswith("-") and args[0] not in known:
            from verrou.core.values import nearest, show_raw

            close = nearest(args[0], known)
            hint = f"Did you mean {close}?" if close else f"To list the commands: {ctx.command_path} --help"
            ctx.fail(f"no command {show_raw(args[0])}. {hint}")
        return super().resolve_command(ctx, args)


def with_verbose(command: click.Command) -> click.Command:
    """Add ``-v`` to a command that does something, once."""
    if not isinstance(command, click.Group) and not any(each.name == VERBOSE for each in command.params):
        command.params.append(verbose_option())
    return command


def verbose_option() -> click.Option:
    """Return ``-v``: messages on standard error, from the moment it is read."""
    return click.Option(
        ["-v", "--verbose", VERBOSE],
        count=True,
        is_eager=True,
        expose_value=False,
        callback=_listen,
        help="Report on standard error what is asked, run, changed and skipped; -vv also each file read.",
    )


def _listen(ctx: click.Context, _: click.Parameter, level: int) -> None:
    if level and not ctx.resilient_parsing:
        from verrou.log import DEBUG, INFO, listen
        from verrou.reports.terminal import printable

        listen(sys.stderr, DEBUG if level > 1 else INFO, printable)


VERBOSE = "verbose"
LONGEST = 400
"""More than any first sentence has."""
