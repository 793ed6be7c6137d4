"""Documentation carried in the program: the handbook, the manual page, completion for shells."""

# Imports within functions: the commands themselves, which import this module.

import re
from collections.abc import Iterator, Sequence
from textwrap import dedent

import click

from verrou import __version__, packaged_text
from verrou.cli.command_group import VERBOSE
from verrou.cli.options import OneOf
from verrou.core.errors import BadInput

CHAPTERS = (
    "first-machine",
    "public-terminal",
    "leaving",
    "handing-over",
    "mounted-disk",
    "round",
    "lab",
    "logbook",
    "interrupted",
    "portable",
    "practice",
    "reference",
)
"""Chapters of the handbook by task; the reference has the rest."""
SHELLS = ("bash", "zsh", "fish")


@click.command()
@click.argument("chapter", type=OneOf(CHAPTERS), required=False)
def handbook(chapter: str | None) -> None:
    """List the chapters of the handbook, or show one."""
    if chapter:
        click.echo(packaged_text("handbook", f"{chapter}.md"), nl=False)
        return
    for name in CHAPTERS:
        title = packaged_text("handbook", f"{name}.md").partition("\n")[0].removeprefix("# ")
        click.echo(f"verrou handbook {name:<18} {title}")


@click.command()
@click.argument("shell", type=OneOf(SHELLS))
def completion(shell: str) -> None:
    """Print the completion script for a shell.

    \b
    bash:  verrou completion bash > ~/.local/share/bash-completion/completions/verrou
    zsh:   verrou completion zsh > SOME_FOLDER_OF_FPATH/_verrou
    fish:  verrou completion fish > ~/.config/fish/completions/verrou.fish
    """
    from click.shell_completion import get_completion_class

    from verrou.cli.main import cli

    kind = get_completion_class(shell)
    if kind is None:
        raise BadInput(f"this version of Click has no completion for {shell}")
    click.echo(kind(cli, {}, "verrou", "_VERROU_COMPLETE").source())


@click.command()
def manual() -> None:
    """Print the manual page. To read it: verrou manual | man -l -"""
    from verrou.cli.main import cli

    click.echo("\n".join(manual_lines(cli)))


def manual_lines(program: click.Group) -> Iterator[str]:
    """Yield the lines of the manual page for man(7)."""
    yield f'.TH VERROU 1 "" "verrou {__version__}"'
    yield ".SH NAME"
    yield rf"verrou \- {_roff(_sentence(program))}"
    yield ".SH SYNOPSIS"
    yield ".B verrou"
    yield r"\fICOMMAND\fR [\fIOPTION\fR]..."
    yield ".SH DESCRIPTION"
    yield from _paragraphs(program.help or "")
    yield ".SH OPTIONS OF EVERY COMMAND"
    yield from _options([each for each in program.params if each.name == VERBOSE], click.Context(program))
    yield ".SH COMMANDS"
    for path, command in _commands(program, "verrou"):
        yield from _command(path, command)
    yield ".SH SEE ALSO"
    yield r"\fBverrou handbook\fR lists the handbook's chapters and shows each."


def _commands(group: click.Group, path: str) -> Iterator[tuple[str, click.Command]]:
    """Yield every command that does something, with the words that call it."""
    context = click.Context(group, info_name=path)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            yield from _commands(command, f"{path} {name}")
        elif command is not None:
            yield f"{path} {name}", command


def _command(path: str, command: click.Command) -> Iterator[str]:
    context = click.Context(command, info_name=path)
    pieces = [piece for piece in command.collect_usage_pieces(context) if piece != "[OPTIONS]"]
    yield ".SS " + _roff(" ".join([path, *pieces]))
    yield from _paragraphs(command.help or "")
    # Without --help, which Click adds by itself.
    yield from _options([each for each in command.params if each.name != VERBOSE], context)


def _options(parameters: Sequence[click.Parameter], context: click.Context) -> Iterator[str]:
    for parameter in parameters:
        record = parameter.get_help_record(context)
        if record is None or isinstance(parameter, click.Argument):
            continue
        yield ".TP"
        yield rf"\fB{_roff(record[0])}\fR"
        yield _roff(" ".join(record[1].split()))


def _sentence(command: click.Command) -> str:
    first = (command.help or "").partition("\n")[0].rstrip(".")
    return first[:1].lower() + first[1:]


def _paragraphs(text: str) -> Iterator[str]:
    """Yield the paragraphs of a help text; one that begins with a backspace keeps its lines, as in Click."""
    for number, paragraph in enumerate(re.split(r"\n\s*\n", text.strip())):
        if number:
            yield ".PP"
        kept = "\b" in paragraph
        unindented = dedent(paragraph.replace("\b", "").strip("\n"))
        lines = [_roff(line if kept else line.strip()) for line in unindented.splitlines() if line.strip()]
        if kept:
            yield from (".nf", *lines, ".fi")
        else:
            yield " ".join(lines)


def _roff(text: str) -> str:
    """Return a text in which nothing is a request to the formatter (man(7), groff_man_style(7))."""
    escaped = text.replace("\\", r"\e").replace("-", r"\-").replace("'", r"\(aq")
    return rf"\&{escaped}" if escaped.startswith(".") else escaped
