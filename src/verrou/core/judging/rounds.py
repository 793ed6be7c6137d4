"""Rows of a round: the same few facts of each machine."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from functools import lru_cache
from operator import attrgetter
from typing import Any, Self

from attrs import fields, frozen

from verrou.core.judging.audit import Audit, Finding
from verrou.core.model import Snapshot
from verrou.core.model.verdicts import MARK_OF, MARKS, Severity, Tally, Verdict
from verrou.core.rules import CATALOGUE

RULES = tuple(CATALOGUE)
"""Order of the rules in a row."""
NOT_ASKED = "."
SIGNS = {
    "high": "H",
    "medium": "M",
    "low": "L",
    "unknown": "?",
    "waived": "w",
    "not_applicable": "-",
    "met": "+",
}
"""Sign of a rule, by what its finding counts as (:data:`verrou.core.model.verdicts.MARK_OF`)."""
NOT_MET_SIGNS = {severity: SIGNS[severity] for severity in Severity}
PLACES = {rule_id: number for number, rule_id in enumerate(RULES)}


@frozen(kw_only=True, weakref_slot=False)  # there are thousands
class Row(Tally):
    """One machine of a round.

    ``identity`` tells it from every other machine. ``signs`` has a sign for each of :data:`RULES`, ``listed`` the
    accounts and groups that do not meet theirs. ``worst`` is the most severe finding in words, ``oldest_waiver`` the
    day on which the first waiver expires, ``interrupted`` a run that did not end, ``recorded`` when a record of the
    machine was written, in seconds since 1970; None for the machine itself."""

    machine: str
    identity: str
    address: str
    system: str
    at: datetime
    baseline: str
    oldest_waiver: date | None = None
    worst: str = ""
    signs: str
    listed: tuple[str, ...] = ()
    interrupted: str = ""
    recorded: float | None = None

    @property
    def content(self) -> "Content":
        """What the content of its record alone decides: the values of :data:`CONTENT`."""
        found: Content = _content(self)
        return found

    @classmethod
    def placed(cls, content: "Content", address: str, recorded: float | None, texts: dict[str, str]) -> Self:
        """Return the row with this content, of the record that is there now. Through ``texts``, the same for all rows
        of a round, the same text is the same object in thousands of them."""
        parts = dict(zip(CONTENT, content, strict=True))
        for name in SHARED:
            parts[name] = texts.setdefault(parts[name], parts[name])
        return cls(**parts, address=address, recorded=recorded)


Content = tuple[Any, ...]
CONTENT = tuple(field.name for field in fields(Row) if field.name not in ("address", "recorded"))
"""What the content of a record decides of its row, and not its file."""
SHARED = ("system", "baseline", "worst", "signs")
"""Texts that many rows have."""
_content = attrgetter(*CONTENT)


def worst_first(rows: list[Row]) -> None:
    """Sort rows by their findings, the most severe first, then by name and address. It makes no sort keys, which would
    be a quarter of what a round keeps."""
    for name in ("address", "machine"):
        rows.sort(key=attrgetter(name))
    for name in ("unknown", "low", "medium", "high"):
        rows.sort(key=attrgetter(name), reverse=True)


@lru_cache(maxsize=128)
def by_verdict(signs: str) -> Mapping[str, Sequence[str]]:
    """Return the required rules, by verdict, as the signs of a row tell them."""
    found: dict[str, list[str]] = {}
    for rule_id, sign in zip(RULES, signs, strict=True):
        if sign != NOT_ASKED:
            found.setdefault(_VERDICT_OF[sign], []).append(rule_id)
    return found


SIGN_OF = {key: SIGNS[mark] for key, mark in MARK_OF.items()}
_VERDICT_OF = {sign: str(verdict) for (verdict, _), sign in SIGN_OF.items()}


@frozen(repr=False)
class LeftOut:
    """A machine that could not be read, and why."""

    address: str
    reason: str


NOT_SETTLED = (Verdict.NOT_MET, Verdict.UNKNOWN)


def row_of(
    found: Audit, snapshot: Snapshot, address: str, statement: Callable[[Finding], str], recorded: float | None = None
) -> Row:
    """Return the row of an audit; ``statement`` gives a finding in words, for ``recorded`` see :class:`Row`."""
    signs = [NOT_ASKED] * len(RULES)
    counts = dict.fromkeys(MARKS, 0)
    listed = []
    until = None
    for finding in found.findings:
        key = finding.verdict, finding.severity
        counts[MARK_OF[key]] += 1
        place = PLACES.get(finding.subject)
        if place is not None:
            signs[place] = SIGN_OF[key]
        elif finding.verdict is Verdict.NOT_MET:
            listed.append(finding.subject)
        if finding.waiver is not None:
            until = min(until or finding.waiver.until, finding.waiver.until)
    machine = snapshot.machine
    first = found.findings[0] if found.findings else None
    worst = statement(first) if first is not None and first.verdict in NOT_SETTLED else ""
    return Row(
        **counts,
        machine=machine.name,
        identity=machine.known_by,
        address=address,
        system=machine.system,
        at=machine.now,
        baseline=found.baseline,
        oldest_waiver=until,
        worst=worst,
        signs="".join(signs),
        listed=tuple(listed),
        interrupted=machine.interrupted,
        recorded=recorded,
    )
