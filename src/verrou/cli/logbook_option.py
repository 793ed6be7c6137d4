"""Recording results in a logbook, for commands that observe or change a machine."""

# Imports within functions: for a quick start of runs that no logbook records.

import os
from collections.abc import Callable, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import click

from verrou.cli.options import F
from verrou.cli.user import LOGBOOK, user

if TYPE_CHECKING:
    from verrou.core.baselines.baseline import Baseline
    from verrou.core.history.runs import Run
    from verrou.core.judging.audit import Audit
    from verrou.core.model import Snapshot
    from verrou.core.model.verdicts import TrialResult
    from verrou.records.logbook import Delivery, Place


def logbook_option(command: F) -> F:
    """Add ``--logbook WHERE``."""
    return click.option(
        "--logbook",
        metavar="WHERE",
        help=f"Logbook: a file, or postgresql://USER@HOST/DATABASE without a password; also {LOGBOOK}.",
    )(command)


def place_of_logbook(logbook: str | None, folder: Path) -> "Place":
    """Return the logbook given or configured, or else that of ``folder``."""
    from verrou.records.logbook.place import place_of

    return place_of(logbook or os.environ.get(LOGBOOK, ""), folder)


class Keeping:
    """Records the result of a command, if requested. A logbook that cannot be reached is no failure."""

    def __init__(self, asked: bool, logbook: str | None) -> None:
        self.asked = asked or logbook is not None or user().has_logbook
        self.logbook = logbook
        if self.asked:
            user().check_logbook(logbook)

    def record(
        self,
        run: "Run",
        snapshot: "Snapshot",
        found: "Audit | None" = None,
        baseline: "Baseline | None" = None,
        *,
        trials: "Sequence[TrialResult]" = (),
        entry: int | None = None,
        beside: Path | None = None,
    ) -> None:
        """Record a run, if requested; ``beside`` is where a survey was saved.

        The record is on disk when this returns. It is delivered to the logbook after all output, since its reader may
        close the output early."""
        if not self.asked:
            return
        import uuid
        from datetime import UTC, datetime

        from verrou import version_line
        from verrou.core.judging.recording import record_of
        from verrou.records.transactions import current_user
        from verrou.reports.tables import shown

        record = record_of(
            run,
            snapshot,
            shown,
            key=uuid.uuid4().hex,
            at=datetime.now(UTC).replace(tzinfo=None),
            by=current_user(),
            tool=version_line(),
            found=found,
            digest=baseline.digest if baseline else "",
            trials=trials,
            entry=entry,
        )
        user().record(record, self.logbook, beside)


def print_delivery(delivery: "Delivery", place: "Place") -> None:
    """Print on standard error how many waiting records were delivered."""
    from verrou.core.model import counted
    from verrou.reports.tables import complain, shown

    for each in delivery.foreign:
        complain(f"left where it is: {each}")
    if delivery.waiting:
        stored = f"{counted(delivery.waiting, 'record')} stored in {place.waiting}"
        complain(f"{stored} until the logbook can be reached: {delivery.reason}")
    elif delivery.delivered:
        click.echo(f"Recorded in {shown(place.shown)}: {counted(delivery.delivered, 'record')}", err=True)


def keeping(command: F) -> F:
    """Add ``--log`` and ``--logbook``; the command gets them as ``kept``, a :class:`Keeping`."""

    @click.option("--log", is_flag=True, help="Record the result in the logbook.")
    @logbook_option
    @wraps(command)
    def with_keeping(*args: Any, log: bool, logbook: str | None, **kwargs: Any) -> Any:
        return cast(Callable[..., Any], command)(*args, kept=Keeping(log, logbook), **kwargs)

    return cast(F, with_keeping)
