"""Two seasons of the station's machines: surveys of then, and records that wait for a logbook.

They are made from the machines as they are laid out, and from what a plan would make of them."""

from collections.abc import Sequence
from datetime import datetime
from functools import reduce
from pathlib import Path

from attrs import evolve, frozen

from verrou import __version__
from verrou.cli.baseline_files import load_baseline
from verrou.core.history.runs import Run
from verrou.core.judging.audit import audit
from verrou.core.judging.recording import record_of
from verrou.core.model import Snapshot
from verrou.core.planning.change_plan import plan_changes
from verrou.core.prediction.predict import predict
from verrou.core.surveys.data import survey_data
from verrou.machines.registry import open_machine
from verrou.machines.survey.kind import SURVEY
from verrou.records.logbook import waiting
from verrou.records.logbook.place import place_of
from verrou.reports.tables import as_json, shown

EVERYTHING = ("",)
"""Every rule, and every account: the machine as it is laid out."""


@frozen(repr=False)
class Visit:
    """One visit: what was done, and by whom.

    ``slid`` are the rules, by the beginning of their ids, and ``people`` the accounts that were as laid out, while all
    else met the baseline. ``saved``: a survey was saved."""

    at: datetime
    run: Run
    by: str
    slid: Sequence[str] = ()
    people: Sequence[str] = ()
    saved: bool = False


def _visit(day: str, run: Run, by: str = "wilma", *slid: str, people: Sequence[str] = (), saved: bool = False) -> Visit:
    return Visit(datetime.fromisoformat(day), run, by, slid, people, saved)


VISITS = {
    "hide-01": (
        "hide-01.toml",
        (
            _visit("2025-04-07 09:10", Run.AUDIT, "wilma", *EVERYTHING, saved=True),
            _visit("2025-04-07 10:40", Run.HARDEN, "wilma", "screen.locked_shows", "sharing."),
            _visit("2025-06-16 14:00", Run.AUDIT, "wilma", "screen.locked_shows", "sharing."),
            _visit("2025-09-22 16:20", Run.AUDIT, "wilma", "sharing.", "lockout.", people=("tern",), saved=True),
            _visit(
                "2026-04-13 09:30", Run.AUDIT, "anselm", "sharing.", "lockout.", "screen.", "rights.", people=("tern",)
            ),
            _visit("2026-04-13 11:05", Run.HARDEN, "anselm", "sharing.", saved=True),
            _visit("2026-06-29 15:00", Run.AUDIT, "anselm", "sharing.", "password.", people=("guillemot",)),
            _visit("2026-09-14 08:30", Run.AUDIT, "anselm", *EVERYTHING, saved=True),
        ),
    ),
    "ringing-02": (
        "ringing-02.toml",
        (
            _visit("2025-04-09 11:00", Run.AUDIT, "wilma", *EVERYTHING, saved=True),
            _visit("2025-04-09 12:15", Run.HARDEN, "wilma", "elevation.helpers"),
            _visit("2025-09-24 10:00", Run.AUDIT, "wilma", "elevation.", saved=True),
            _visit("2026-04-15 10:30", Run.AUDIT, "anselm", "elevation.", "screen.", people=("petrel", "bors")),
            _visit("2026-09-14 08:30", Run.AUDIT, "anselm", *EVERYTHING, saved=True),
        ),
    ),
    "warden-03": (
        "office",
        (
            _visit("2025-04-11 09:00", Run.AUDIT, "wilma", *EVERYTHING, saved=True),
            _visit("2025-10-06 17:00", Run.AUDIT, "wilma", "password.", "lockout.", "elevation."),
            _visit("2026-04-17 16:45", Run.AUDIT, "anselm", "password.", "lockout.", saved=True),
            _visit("2026-09-14 08:30", Run.AUDIT, "anselm", "password.", saved=True),
        ),
    ),
}
"""By machine: the baseline, and the visits."""


def lay_out_seasons(folder: Path) -> None:
    """Write the surveys to ``surveys`` in ``folder``, and the records to the logbook's waiting folder."""
    surveys = folder / "surveys"
    surveys.mkdir()
    place = place_of("", folder)
    for number, (address, (name, visits)) in enumerate(VISITS.items()):
        baseline = load_baseline(str(folder / name) if name.endswith(".toml") else name)
        found = open_machine(str(folder / address)).observe()
        steps = plan_changes(found, baseline, audit(found, baseline)).steps
        hardened = reduce(lambda snapshot, step: predict(step, snapshot), steps, found)
        for count, visit in enumerate(visits):
            snapshot = _stood(found, hardened, visit)
            record = record_of(
                visit.run,
                snapshot,
                shown,
                key=f"{number:016x}{count:016x}",
                at=visit.at,
                by=visit.by,
                tool=f"verrou {__version__}",
                found=audit(snapshot, baseline),
                digest=baseline.digest,
            )
            waiting.put(place.waiting, record)
            if visit.saved:
                file = SURVEY.file_for(surveys / f"{snapshot.machine.name}-{visit.at:%Y-%m}")
                file.write_text(as_json(survey_data(snapshot)), encoding="utf-8")


def _stood(found: Snapshot, hardened: Snapshot, visit: Visit) -> Snapshot:
    """Return the machine at a visit."""
    stood = found if visit.slid == EVERYTHING else hardened
    if stood is hardened:
        slid = {rule: reading for rule, reading in found.readings.items() if rule.startswith(tuple(visit.slid))}
        accounts = tuple(
            found.by_name.get(account.name, account) if account.name in visit.people else account
            for account in hardened.accounts
        )
        stood = evolve(hardened, readings={**hardened.readings, **(slid if visit.slid else {})}, accounts=accounts)
    return evolve(stood, machine=evolve(stood.machine, now=visit.at))
