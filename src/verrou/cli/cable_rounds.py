"""A round by a table: machines across cables surveyed, or hardened one after the other, with their files."""

import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click
from attrs import frozen

from verrou.cli.handing_over import far, is_across
from verrou.cli.options import F, OneOf
from verrou.cli.user import user
from verrou.core.errors import BadInput, NotAgreed, VerrouError
from verrou.core.judging.rounds import LeftOut
from verrou.core.model import Snapshot, counted, joined
from verrou.core.surveys.data import survey_data
from verrou.machines.survey.kind import SURVEY
from verrou.records.rounds import Load, Outcome, Statement, Stop, judged, left_out_of
from verrou.reports.tables import as_json, complain, console, shown

if TYPE_CHECKING:
    from verrou.far.rounds import Ended, Visits

AT_ONCE, MOST_AT_ONCE = 8, 64
NONE, SAME, EACH = "none", "same", "each"
T = TypeVar("T")


@frozen(repr=False)
class CableSettings:
    """How machines across cables are visited; ``folder`` gets the new files."""

    at_once: int
    sudo_password: str
    folder: Path | None
    harden: bool
    preview: bool
    yes: bool
    keep_going: bool

    @property
    def given(self) -> str:
        """An option that was given, if any."""
        found = {
            "--at-once": self.at_once != AT_ONCE,
            "--into": self.folder is not None,
            "--harden": self.harden,
            "--preview": self.preview,
            "--yes": self.yes,
            "--keep-going": self.keep_going,
            "--sudo-password": self.sudo_password != NONE,
        }
        return next((name for name, is_given in found.items() if is_given), "")


def cable_options(command: F) -> F:
    """Add the options for machines across cables; the command gets them as ``cables``, a :class:`CableSettings`."""

    @click.option(
        "--at-once",
        type=click.IntRange(1, MOST_AT_ONCE),
        default=AT_ONCE,
        show_default=True,
        help="Number of machines of a table that are surveyed at the same time.",
    )
    @click.option(
        "--sudo-password",
        type=OneOf([NONE, SAME, EACH]),
        default=NONE,
        show_default=True,
        help="Ask for a password for sudo on the machines of a table: the same for all, or one for each.",
    )
    @click.option(
        "--into",
        type=click.Path(path_type=Path),
        help="Folder for new files. Without it, surveys are not kept; sheets and passwords go to the current folder.",
    )
    @click.option("--harden", is_flag=True, help="Harden the machines of a table, one after the other.")
    @click.option("--preview", is_flag=True, help="With --harden: show the preview of each machine, and stop.")
    @click.option("--yes", is_flag=True, help="With --harden: skip the confirmation prompt.")
    @click.option("--keep-going", is_flag=True, help="With --harden: go on after a machine that did not end with 0.")
    @wraps(command)
    def with_cables(*args: Any, into: Path | None, **kwargs: Any) -> Any:
        names = ("at_once", "sudo_password", "harden", "preview", "yes", "keep_going")
        settings = CableSettings(folder=into, **{name: kwargs.pop(name) for name in names})
        return cast(Callable[..., Any], command)(*args, cables=settings, **kwargs)

    return cast(F, with_cables)


def visit_all(
    stops: Sequence[Stop], settings: CableSettings, load: Load, statement: Statement
) -> tuple[int, list[Outcome]]:
    """Visit the machines of a table, and return the exit code so far and the row of each."""
    if settings.folder is not None and not settings.folder.is_dir():
        raise BadInput(f"{settings.folder}: no such folder. Create it first.")
    if not settings.harden and (settings.preview or settings.yes or settings.keep_going):
        raise BadInput("--preview, --yes and --keep-going go with --harden.")
    for stop in stops:
        _check(stop, load, settings.harden)
    visits: Visits = far("rounds").Visits(settings.at_once, _secrets(stops, settings.sudo_password))
    code, left_out = 0, list[LeftOut]()
    if settings.harden:
        code, stops, left_out = _harden(visits, stops, settings)
        if settings.preview or not stops:
            for each in left_out:
                complain(f"skipped: {each.reason}")
            click.get_current_context().exit(code)
    surveyed = watched(_saved(visits.surveys(stops), settings.folder), len(stops), True)
    return code, [*judged(surveyed, load, statement), *left_out]


def _check(stop: Stop, load: Load, hardens: bool) -> None:
    """Check what can be known before a machine is reached. Raises: BadInput."""
    baseline = load(stop.baseline)
    if is_across(stop.address):
        try:
            far("address").address_from(stop.address)
        except BadInput as error:
            raise BadInput(f"{stop.name}: {error}") from None
    elif hardens:
        raise BadInput(f"{stop.name}: {stop.address} is not across a cable. Harden it by itself: verrou harden")
    asked = [account.name for account in baseline.accounts.values() if account.password == "ask"]
    if hardens and asked:
        raise BadInput(
            f"{stop.name}: the baseline {stop.baseline} asks for the password of {joined(asked)}, and a round asks for "
            'none. Use password = "generate", or harden this machine by itself.'
        )


def _secrets(stops: Sequence[Stop], how: str) -> dict[str, str]:
    """Return the passwords for sudo, by the name of the stop: asked for, or lines of standard input."""
    across = [stop.name for stop in stops if is_across(stop.address)]
    if how == SAME:
        return dict.fromkeys(across, _secret("Password for sudo on all machines"))
    return {name: _secret(f"Password for sudo on {name}") for name in across} if how == EACH else {}


def _secret(prompt: str) -> str:
    if user().can_be_asked:
        return user().hidden(prompt)
    line = user().line()
    if not line:
        raise BadInput(f"standard input has no line left for this: {prompt[0].lower()}{prompt[1:]}")
    return line.removesuffix("\n")


def _saved(
    found: Iterable[tuple[Stop, Snapshot | VerrouError]], folder: Path | None
) -> Iterator[tuple[Stop, Snapshot | VerrouError]]:
    """Yield the same, and save each survey to a new file of its name in the table."""
    for stop, snapshot in found:
        if folder is not None and isinstance(snapshot, Snapshot):
            name = user().new_name(str(folder / stop.name), SURVEY.suffix)
            user().write_new(Path(name), as_json(survey_data(snapshot)))
        yield stop, snapshot


def _harden(
    visits: "Visits", stops: Sequence[Stop], settings: CableSettings
) -> tuple[int, Sequence[Stop], list[LeftOut]]:
    """Preview all, ask, and harden one after the other.

    Return the exit code, the machines that can be hardened, and those left out."""
    out = console()
    with console(stderr=True).status(f"Dry runs on {counted(len(stops), 'machine')}"):
        previews = visits.previews(stops)
    why_not = {stop.name: _print_preview(stop, previews[stop.name]) for stop in stops}
    ready = [stop for stop in stops if not why_not[stop.name]]
    left_out = [left_out_of(stop, why_not[stop.name]) for stop in stops if why_not[stop.name]]
    out.print(f"{len(ready)} of {counted(len(stops), 'machine')} can be hardened.", style="bold")
    if settings.preview or not ready:
        return int(bool(left_out)), ready, left_out
    how = "all" if settings.yes else _asked(len(ready))
    code, folder = int(bool(left_out)), settings.folder or Path()
    for number, stop in enumerate(ready):
        if how == EACH and not user().confirm(f"Harden {stop.name}?"):
            continue
        out.print()
        out.print(f"{stop.name}  {shown(stop.address)}", style="bold")
        ended = _hardened(visits, stop, folder)
        code = code or ended
        if ended and not settings.keep_going and number + 1 < len(ready):
            left = joined([other.name for other in ready[number + 1 :]])
            complain(f"stopped after {stop.name} (exit code {ended}); not hardened: {left}. To go on: --keep-going")
            break
    out.print()
    return code, ready, left_out


def _print_preview(stop: Stop, ended: "Ended | VerrouError") -> str:
    """Print the preview of one machine; return why it cannot be hardened, or nothing."""
    out = console()
    out.print(f"{stop.name}  {shown(stop.address)}", style="bold")
    if isinstance(ended, VerrouError):
        out.print("  cannot be reached; see below")
        return str(ended)
    for line in ended.output.splitlines():
        out.print(f"  {line}" if line else "")
    if ended.code in (0, 1):
        return ""
    out.print("  cannot be hardened; see below")
    return " ".join(ended.errors.split()).removeprefix("verrou: ") or f"its preview ended with {ended.code}"


def _asked(count: int) -> str:
    if not user().can_be_asked:
        raise NotAgreed("nothing was changed: no answer. Use --yes to skip the prompt.")
    word = user().choose(
        f"Harden {counted(count, 'machine')} now: all, each (asked one by one), or none", ["all", EACH, NONE]
    )
    if word == NONE:
        raise NotAgreed("cancelled; nothing was changed")
    return word


def _hardened(visits: "Visits", stop: Stop, folder: Path) -> int:
    """Harden one machine and save its sheet; return the exit code."""
    rounds = far("rounds")
    try:
        ended: Ended = rounds.apply(visits, stop, user().new_name(str(folder / f"{stop.name}-passwords"), ".txt"))
        for line in ended.errors.splitlines():
            complain(line.removeprefix("verrou: "))
        file = user().new_name(str(folder / f"{stop.name}-sheet"), ".html")
        sheet: Ended = rounds.sheet(visits, stop, file)
        if Path(file).exists():
            console().print(f"Saved: {shown(file)}")
        else:
            complain(f"{stop.name}: no sheet: {' '.join(sheet.errors.split()).removeprefix('verrou: ')}")
        return ended.code
    except VerrouError as error:
        complain(f"{stop.name}: {error}")
        return error.exit_code


def watched(outcomes: Iterable[T], length: int, long: bool) -> Iterator[T]:
    """Yield the same items, with a progress bar at a terminal."""
    with click.progressbar(
        outcomes, length=length, label="Going round", file=sys.stderr, hidden=not (long and sys.stderr.isatty())
    ) as bar:
        yield from bar
