"""What a command hands to people: facts in a format, and a question."""

import shlex
from collections.abc import Callable

import click

from verrou.cli.user import user
from verrou.core.errors import NotAgreed
from verrou.reports.tables import Table, as_csv, json_parts


def typed_command() -> str:
    """Return the command as it was typed, for the journal: no secret is ever an argument."""
    context = click.get_current_context()
    words = context.find_root().obj
    return shlex.join(words) if words else context.command_path.partition(" ")[2]


def agreed(question: str) -> None:
    """Ask for confirmation. Raises: NotAgreed: it was denied, or no one could be asked."""
    try:
        answer = user().confirm(question)
    except click.Abort:
        if user().can_be_asked:
            raise
        click.echo()
        raise NotAgreed("nothing was changed: no answer. Use --yes to skip the prompt.") from None
    if not answer:
        raise NotAgreed("cancelled; nothing was changed")


def print_facts(style: str, table: Table, data: object, print_text: Callable[[], None]) -> None:
    """Print facts in the requested format."""
    if style == "json":
        for part in json_parts(data):
            click.echo(part, nl=False)
    elif style == "csv":
        click.echo(as_csv(table), nl=False)
    else:
        print_text()
