"""The trend over the audits of a logbook."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta
from operator import add, attrgetter

from attrs import frozen

from verrou.core.history.records import FindingRecord
from verrou.core.model.verdicts import MARKS, Severity, Tally, Verdict


@frozen(repr=False)
class Moment(Tally):
    """The findings on one machine at an audit, or on several together at the end of a day."""

    at: datetime = datetime.min


@frozen(repr=False)
class Regression:
    """A rule that is not met now and was met before, with the last day on which it was met."""

    subject: str
    severity: Severity
    met_until: date
    not_met_since: date


@frozen(repr=False)
class EndingWaiver:
    """A waiver that expires soon, or has expired."""

    subject: str
    until: date
    by: str


@frozen(repr=False)
class MachineHistory:
    """Audit history of one machine: scores over time, regressions, expiring waivers.

    ``moments``: those of all its ``audits``, or of the first and the last of them. ``undone``: a run was undone after
    the last audit against a baseline."""

    machine: str
    identity: str
    baseline: str
    audits: int
    moments: tuple[Moment, ...]
    regressed: tuple[Regression, ...]
    ending: tuple[EndingWaiver, ...]
    undone: bool = False


@frozen(repr=False)
class Trend:
    """Histories of several machines, the worst first; and all together at the end of each day, where required."""

    histories: Sequence[MachineHistory]
    together: Sequence[Moment] = ()


SOON = timedelta(days=30)
"""How far ahead expiring waivers are reported."""
FIRST, LAST = 2, 3
"""How many of the first and of the last moments of a history are shown in a line."""


def soon(today: date) -> date:
    """Return the last day for which expiring waivers are reported."""
    return today + min(SOON, date.max - today)


def worst_first(histories: Iterable[MachineHistory]) -> list[MachineHistory]:
    """Return histories in the order in which they are shown."""
    return sorted(
        histories,
        key=lambda history: (
            -len(history.regressed),
            -history.moments[-1].not_met,
            history.machine,
            history.identity,
        ),
    )


_marks = attrgetter(*MARKS)


def together(histories: Iterable[MachineHistory]) -> list[Moment]:
    """Return all machines together at the end of each day, each as it was last audited; of histories with every
    moment."""
    changes: dict[date, list[int]] = {}
    ends: dict[date, datetime] = {}
    for history in histories:
        before: Sequence[int] = [0] * len(MARKS)
        for moment in history.moments:
            now, day = _marks(moment), moment.at.date()
            change = changes.setdefault(day, [0] * len(MARKS))
            changes[day] = [count + new - old for count, new, old in zip(change, now, before, strict=True)]
            ends[day] = max(ends.get(day, moment.at), moment.at)
            before = now
    counted = [0] * len(MARKS)
    found = []
    for day in sorted(changes):
        counted = list(map(add, counted, changes[day]))
        found.append(Moment(**dict(zip(MARKS, counted, strict=True)), at=ends[day]))
    return found


def family_of(subject: str) -> str:
    """Return the family of a rule; of a finding on an account or a group, ``accounts`` or ``groups``."""
    return subject.partition(".")[0]


ALL = ""
"""The family of a summary over all findings."""


def summaries_of(findings: Sequence[FindingRecord]) -> dict[str, Tally]:
    """Return how many findings of each family have each verdict, and how many of all have."""
    by_family: dict[str, list[FindingRecord]] = {ALL: list(findings)} if findings else {}
    for finding in findings:
        if (family := family_of(finding.subject)) != ALL:
            by_family.setdefault(family, []).append(finding)
    return {family: Tally.of(found) for family, found in by_family.items()}


@frozen(repr=False)
class Lapse:
    """Since when a rule has not been met or not been assessed, after it was met until a day."""

    met_until: date
    since: date


@frozen(repr=False)
class Audited:
    """An audit as far as the next one of the machine against the same baseline depends on it."""

    day: date
    verdicts: Mapping[str, Verdict]
    lapses: Mapping[str, Lapse]

    @classmethod
    def after(cls, before: "Audited | None", day: date, verdicts: Mapping[str, Verdict]) -> "Audited":
        """Return an audit with its lapses, which follow from the audit before.

        What is waived or not known in between ends no lapse; what was not applicable begins none."""
        lapses = {}
        for subject, verdict in verdicts.items():
            if before is not None and verdict not in SETTLED:
                match before.verdicts.get(subject, Verdict.NOT_APPLICABLE):
                    case Verdict.MET:
                        lapses[subject] = Lapse(before.day, day)
                    case _ if subject in before.lapses:
                        lapses[subject] = before.lapses[subject]
        return cls(day, verdicts, lapses)


SETTLED = (Verdict.MET, Verdict.NOT_APPLICABLE)
"""Verdicts that end a lapse."""
