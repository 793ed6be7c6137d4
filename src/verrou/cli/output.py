"""What a command hands to people: facts in a format, files that are never overwritten, a question."""

import shlex
import sys
from collections.abc import Callable
from pathlib import Path

import click

from verrou.core.errors import BadInput, NotAgreed
from verrou.reports.tables import Table, as_csv, as_json


def typed_command() -> str:
    """Return the command as it was typed, for the journal: no secret is ever an argument."""
    context = click.get_current_context()
    words = context.find_root().obj
    return shlex.join(words) if words else context.command_path.partition(" ")[2]


def check_new_name(file: Path) -> None:
    """Check that a file of that name could be created. Raises: BadInput: it is empty, or not printable."""
    if not file.name or not file.name.isprintable():
        raise BadInput(f"invalid value {str(file)!r}; expected the name of a new file, such as desk-01")


def write_new(file: Path, content: str | bytes) -> None:
    """Write a file for people, and never over an existing one. Raises: BadInput: it exists, or cannot be written."""
    check_new_name(file)
    try:
        stream = open(file, "xb")  # noqa: SIM115
        try:
            with stream:
                stream.write(content if isinstance(content, bytes) else content.encode("utf-8", "backslashreplace"))
        except OSError:
            file.unlink()  # half a file is none
            raise
    except FileExistsError:
        raise BadInput(f"{file} already exists and was not changed. Choose another name.") from None
    except OSError as error:
        raise BadInput(f"{file}: {error.strerror}. Give a file in a folder that you can write to.") from None


def agreed(question: str) -> None:
    """Ask for confirmation. Raises: NotAgreed: it was denied, or no one could be asked."""
    try:
        answer = click.confirm(question)
    except click.Abort:
        if sys.stdin.isatty():
            raise
        click.echo()
        raise NotAgreed("nothing was changed: no answer. Use --yes to skip the prompt.") from None
    if not answer:
        raise NotAgreed("cancelled; nothing was changed")


def print_facts(style: str, table: Table, data: object, print_text: Callable[[], None]) -> None:
    """Print facts in the requested format."""
    if style == "json":
        click.echo(as_json(data), nl=False)
    elif style == "csv":
        click.echo(as_csv(table), nl=False)
    else:
        print_text()
