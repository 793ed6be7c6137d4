"""Groups of commands that list each with its whole sentence, and suggest the nearest for an unknown one."""

import click


class CommandGroup(click.Group):
    """A group whose list shows whole sentences."""

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Return the commands, each with its first sentence."""
        commands = [(name, self.get_command(ctx, name)) for name in self.list_commands(ctx)]
        rows = [(name, command.get_short_help_str(limit=LONGEST)) for name, command in commands if command is not None]
        with formatter.section("Commands"):
            formatter.write_dl(rows)

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


LONGEST = 400
"""More than any first sentence has."""
