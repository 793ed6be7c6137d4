"""Whoever sits here: asked at prompts, typing lines, with the files that a command line names.

Every question and every file of the user goes through the one object of :func:`user`, so that a command runs the same
on a computer across a cable, where all of this is at the other end."""

# Imports within functions: most commands ask nothing.

import errno
import os
import select
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TextIO

import click

from verrou.core.errors import BadInput, MachineRefused

if TYPE_CHECKING:
    from verrou.core.history.records import RunRecord
    from verrou.core.model import Snapshot
    from verrou.machines.protocol import Visitor


class User(Protocol):
    """The user of a command. All that is asked can raise :class:`click.Abort`: the user ended it."""

    @property
    def can_be_asked(self) -> bool:
        """Whether there is a terminal to ask at."""
        ...

    @property
    def has_logbook(self) -> bool:
        """Whether the user has configured a logbook."""
        ...

    @property
    def visitor(self) -> "Visitor | None":
        """The user as one who came from another computer."""
        ...

    def still_arrives(self) -> bool:
        """Have the user connect anew after changes; return whether that got in, which no answer is not."""
        ...

    def confirm(self, question: str) -> bool:
        """Ask a question that is answered with yes or no."""
        ...

    def hidden(self, prompt: str, *, twice: bool = False) -> str:
        """Ask for what nobody may see, such as a password; ``twice`` against a slip."""
        ...

    def choose(self, prompt: str, words: Sequence[str]) -> str:
        """Ask for one of a few words."""
        ...

    def typed(self, prompt: str) -> str:
        """Ask for a line. Raises: EOFError, KeyboardInterrupt: the user ended it."""
        ...

    def line(self) -> str:
        """Return the next line of standard input, with its end; empty at the end of it."""
        ...

    def baseline(self, name: str, named_in: str) -> tuple[str, str]:
        """Return the text of a baseline file and its place, relative to the file that names it. Raises: BadInput."""
        ...

    def baselines_here(self) -> Sequence[str]:
        """Return the names of the baseline files in the user's folder."""
        ...

    def survey(self, address: str) -> "Snapshot":
        """Return the state of a machine or a survey that the user named. Raises: VerrouError."""
        ...

    def new_name(self, stem: str, suffix: str) -> str:
        """Return the name of a file that does not exist yet in the user's folder."""
        ...

    def write_new(self, file: Path, content: str | bytes) -> None:
        """Write a file for people, and never over an existing one. Raises: BadInput: it exists, or cannot be
        written."""
        ...

    def reserve(self, file: Path) -> None:
        """Create the file for generated passwords, readable for its owner alone, before anything is changed.

        Raises: BadInput: it already exists, or cannot be created."""
        ...

    def hand_over(self, passwords: Mapping[str, str], file: Path | None) -> None:
        """Show generated passwords once, or write them to the reserved file; an unused file is deleted.

        They are in the output, or the file is on disk, when this returns. Raises: MachineRefused: they could not be
        handed over."""
        ...

    def discard(self, file: Path) -> None:
        """Delete the reserved file: nothing was changed."""
        ...

    def before_applying(self, entry: int) -> None:
        """Learn that the changes of a journal entry are applied next. Raises: MachineRefused: nothing may be
        changed."""
        ...

    def check_logbook(self, logbook: str | None) -> None:
        """Check the address of the logbook before anything is done. Raises: BadInput."""
        ...

    def record(self, record: "RunRecord", logbook: str | None, beside: Path | None) -> None:
        """Store a record, on disk when this returns, and deliver it to the logbook once all output is printed."""
        ...


class LocalUser:
    """The user of this computer, at its terminal or behind a pipe."""

    @property
    def can_be_asked(self) -> bool:
        return sys.stdin.isatty()

    @property
    def has_logbook(self) -> bool:
        return bool(os.environ.get(LOGBOOK))

    @property
    def visitor(self) -> None:
        return None

    def still_arrives(self) -> bool:
        return True

    def confirm(self, question: str) -> bool:
        return click.confirm(question)

    def hidden(self, prompt: str, *, twice: bool = False) -> str:
        answer: str = click.prompt(prompt, hide_input=True, confirmation_prompt=twice, err=True)
        return answer

    def choose(self, prompt: str, words: Sequence[str]) -> str:
        chosen: str = click.prompt(prompt, type=click.Choice(words), show_choices=False)
        return chosen

    def typed(self, prompt: str) -> str:
        return input(prompt)

    def line(self) -> str:
        return sys.stdin.readline()

    def baseline(self, name: str, named_in: str) -> tuple[str, str]:
        from verrou.cli.baseline_files import baseline_file

        return baseline_file(name, named_in)

    def baselines_here(self) -> Sequence[str]:
        from verrou.cli.baseline_files import is_baseline

        return [str(path) for path in sorted(Path().glob("*.toml")) if is_baseline(str(path))]

    def survey(self, address: str) -> "Snapshot":
        from verrou.cli.handing_over import is_across, survey_of
        from verrou.cli.observing import looked_at
        from verrou.machines.registry import open_machine

        return survey_of(address) if is_across(address) else looked_at(open_machine(address))

    def new_name(self, stem: str, suffix: str) -> str:
        names = (f"{stem}{f'-{number}' if number > 1 else ''}{suffix}" for number in range(1, 1000))
        return next(name for name in names if not Path(name).exists())

    def write_new(self, file: Path, content: str | bytes) -> None:
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

    def reserve(self, file: Path) -> None:
        try:
            os.close(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600))
        except OSError as error:
            raise BadInput(
                f"{file}: {error.strerror}; nothing was changed. Give a new file for the passwords."
            ) from None

    def hand_over(self, passwords: Mapping[str, str], file: Path | None) -> None:
        lines = [f"{name}: {password}" for name, password in passwords.items()]
        try:
            if file is not None and not lines:
                file.unlink()
            elif file is not None:
                with open(file, "w", encoding="utf-8") as stream:
                    stream.write("\n".join(lines) + "\n")
                    stream.flush()
                    os.fsync(stream.fileno())
                click.echo(f"Generated passwords: {file} (only you can read it). Hand them over, then delete the file.")
            elif lines:
                sys.stdout.flush()  # a reader who closed the output is noticed before there is a secret to lose
                click.echo("Generated passwords (shown only once):")
                for line in lines:
                    click.echo(f"  {line}")
            sys.stdout.flush()
            if file is None and lines and _nobody_reads(sys.stdout):
                raise BrokenPipeError(errno.EPIPE, os.strerror(errno.EPIPE))
        except OSError as error:
            raise MachineRefused(
                f"nothing was changed: the generated passwords could not be shown ({error.strerror}). "
                "To save them to a file: --password-file"
            ) from None

    def discard(self, file: Path) -> None:
        file.unlink(missing_ok=True)

    def before_applying(self, entry: int) -> None:
        try:
            sys.stdout.flush()
        except BrokenPipeError:
            raise MachineRefused("nothing was changed: the output could not be written") from None

    def check_logbook(self, logbook: str | None) -> None:
        from verrou.cli.logbook_option import place_of_logbook

        place_of_logbook(logbook, Path())

    def record(self, record: "RunRecord", logbook: str | None, beside: Path | None) -> None:
        from verrou.cli.logbook_option import place_of_logbook, print_delivery
        from verrou.records.logbook import deliver_soon, waiting
        from verrou.reports.tables import complain

        place = place_of_logbook(logbook, beside.parent if beside is not None else Path())
        try:
            waiting.put(place.waiting, record)
        except BadInput as error:
            complain(str(error))
            return

        def deliver() -> None:
            with suppress(OSError):
                sys.stdout.flush()
            print_delivery(deliver_soon(place), place)

        click.get_current_context().call_on_close(deliver)


def check_new_name(file: Path) -> None:
    """Check that a file of that name could be created. Raises: BadInput: it is empty, or not printable."""
    if not file.name or not file.name.isprintable():
        raise BadInput(f"invalid value {str(file)!r}; expected the name of a new file, such as desk-01")


def _nobody_reads(stream: TextIO) -> bool:
    """Return whether the other end of a pipe has been closed, by poll(2)."""
    try:
        poll = select.poll()
        poll.register(stream.fileno(), 0)
        return any(event & (select.POLLERR | select.POLLHUP) for _, event in poll.poll(0))
    except (OSError, ValueError):
        return False


LOGBOOK = "VERROU_LOGBOOK"
"""The environment variable that configures a logbook."""

_present: list[User] = [LocalUser()]


def user() -> User:
    """Return the user of the command that runs."""
    return _present[-1]


def sit_down(other: User) -> None:
    """Let another user be the one of every command from now on."""
    _present.append(other)
