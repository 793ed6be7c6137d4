"""Options of the commands that change a machine, and the settings that they make."""

from collections.abc import Callable, Sequence
from functools import wraps
from pathlib import Path
from typing import Any, cast

import click
from attrs import frozen

from verrou.cli.options import F, OneOf, machine_option
from verrou.core.judging import guards


@frozen(repr=False)
class ChangeSettings:
    """How a command is to change a machine.

    ``preview`` and ``no_dry_run`` change nothing. ``typed`` passwords come from prompts, others from standard input;
    generated ones go to ``password_file``, or are shown once. ``overridden`` are guards."""

    yes: bool = False
    preview: bool = False
    test: bool = False
    no_dry_run: bool = False
    overridden: tuple[str, ...] = ()
    typed: bool = True
    password_file: Path | None = None

    @property
    def looking(self) -> bool:
        """Whether the result is only shown."""
        return self.preview or self.no_dry_run


def override_option(names: Sequence[str]) -> Callable[[F], F]:
    """Add ``--override GUARD`` with the guards that can be overridden."""
    return click.option(
        "--override",
        "accepted",
        multiple=True,
        type=OneOf(names),
        help="Override this guard. The journal records it.",
    )


def change_options(*passwords: str, changes: bool = True) -> Callable[[F], F]:
    """Add the options of commands that change a machine.

    They are ``-m``, ``--yes``, ``--preview``, ``--test``, ``--no-dry-run``, ``--override``, and where passwords come
    from. All but the machine reach the command as ``settings``. With ``passwords``, the ways to supply a
    new password (see :data:`verrou.core.steps.step.HOW_A_PASSWORD_COMES`), the command gets the one chosen as
    ``password``. A command that only tests, and ``changes`` nothing, has the machine and the password alone."""

    def decorate(command: F) -> F:
        @wraps(command)
        def gathered(
            *args: Any,
            password: str,
            yes: bool = False,
            preview: bool = False,
            test: bool = False,
            no_dry_run: bool = False,
            accepted: tuple[str, ...] = (),
            password_file: Path | None = None,
            **kwargs: Any,
        ) -> Any:
            settings = ChangeSettings(yes, preview, test, no_dry_run, accepted, password != "stdin", password_file)
            if passwords:
                kwargs["password"] = "ask" if password == "stdin" else password
            return command(*args, settings=settings, **kwargs)

        of_changes = [
            override_option(guards.ACCEPTABLE),
            click.option("--no-dry-run", is_flag=True, help="Skip the dry run: show the predicted result and stop."),
            click.option("--test", is_flag=True, help="Run the tests on the private copy before anything is changed."),
            click.option("--preview", is_flag=True, help="Do a dry run on a private copy, show the result, and stop."),
            click.option("--yes", is_flag=True, help="Skip the confirmation prompt."),
        ]
        options = [
            *(of_changes if changes else ()),
            machine_option,
        ]
        if "generate" in passwords:
            options.append(
                click.option(
                    "--password-file", type=click.Path(path_type=Path), help="New file for generated passwords."
                )
            )
        options.append(
            click.option(
                "--password",
                type=OneOf(passwords or ("ask", "stdin")),
                default="ask",
                show_default=True,
                help=_password_help(passwords),
            )
        )
        for option in options:
            gathered = option(gathered)
        return cast(F, gathered)

    return decorate


def _password_help(passwords: Sequence[str]) -> str:
    if not passwords:
        return "How to supply the current password of an account that is tested: hidden prompt or standard input."
    more = (", or made" if "generate" in passwords else "") + (", or none at all" if "blank" in passwords else "")
    return f"Typed at a hidden prompt, or a line of standard input{more}."
