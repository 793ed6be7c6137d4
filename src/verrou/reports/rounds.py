"""Tables and data of a round over many machines."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from operator import attrgetter
from typing import Any

from attrs import fields

from verrou.core.judging.rounds import NOT_ASKED, NOT_MET_SIGNS, RULES, SIGNS, LeftOut, Row, by_verdict
from verrou.core.model import counted
from verrou.core.model.verdicts import Severity
from verrou.core.rules import CATALOGUE
from verrou.core.surveys.data import plain
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, Table, as_json, columns_of

NOT_SHOWN = ("identity", "signs", "recorded")
"""What of a row is the round's own affair."""
SHOWN = [field.name for field in fields(Row) if field.name not in NOT_SHOWN]
_shown = attrgetter(*SHOWN)


def row_data(row: Row) -> dict[str, Any]:
    """Return one machine for JSON: its row, with the required rules by verdict."""
    return {**_own_data(row), "rules": by_verdict(row.signs)}


def _own_data(row: Row) -> dict[str, Any]:
    first = None if row.oldest_waiver is None else row.oldest_waiver.isoformat()
    shown = dict(zip(SHOWN, _shown(row), strict=True))
    return {**shown, "at": row.at.isoformat(), "oldest_waiver": first, "assessed": row.assessed}


def round_data(rows: Sequence[Row], left_out: Sequence[LeftOut], older: int) -> dict[str, Any]:
    """Return the round for ``--format json``: machines, the worst first, what could not be read, and how many older
    surveys were skipped."""
    return {"machines": [row_data(row) for row in rows], "left_out": [plain(each) for each in left_out], "older": older}


def as_lines(rows: Iterable[Row]) -> Iterator[str]:
    """Yield a line of JSON a machine."""
    for row in rows:
        yield f'{_line(_own_data(row))[:-1]}, "rules": {_rules_line(row.signs)}}}'


def _line(data: object) -> str:
    return as_json(data, indent=None).rstrip()


@lru_cache(maxsize=128)
def _rules_line(signs: str) -> str:
    return _line(by_verdict(signs))


def round_table(rows: Sequence[Row], every: bool = False) -> Table:
    """Return a row for each machine; with ``every`` survey listed, also its file and time."""
    cells, styles = [], {}
    for number, row in enumerate(rows):
        styles[number] = BAD if row.high else DOUBTFUL if not row.all_met else GOOD
        cells.append(
            {
                **row_data(row),
                "score": f"{row.met} of {row.assessed}",
                "notes": "; ".join((*((f"{row.address}, {row.at:%Y-%m-%d %H:%M}",) if every else ()), *_notes(row))),
                "not_met": list(rules_of(row, *NOT_MET_SIGNS.values())) + list(row.listed),
            }
        )
    columns = columns_of(
        ("machine", "machine"),
        ("address", "address"),
        ("system", "system"),
        ("at", "seen"),
        ("baseline", "baseline"),
        ("score", "met"),
        *((key, key) for key in ("met", "assessed", "high", "medium", "low", "unknown", "waived", "not_applicable")),
        ("oldest_waiver", "first waiver expires"),
        ("worst", "most severe finding"),
        ("not_met", "not met"),
        ("interrupted", "interrupted"),
        whole=("machine", "score", "high", "medium", "low"),
        hidden=(
            *("address", "system", "at", "baseline", "met", "assessed", "unknown", "waived", "not_applicable"),
            *("oldest_waiver", "not_met", "interrupted"),
        ),
        only_text=("score",),
        under={"worst": "notes"},
    )
    return Table("round", columns, tuple(cells), styles)


def numbers_not_met(row: Row) -> list[tuple[str, int]]:
    """Return how many findings are not met, by severity, and how many are not known; without zeros."""
    found: list[tuple[str, int]] = [*row.by_severity.items(), ("unknown", row.unknown)]
    return [(word, count) for word, count in found if count]


def _notes(row: Row) -> Iterator[str]:
    if row.interrupted:
        yield row.interrupted
    if row.unknown:
        yield f"{row.unknown} not known"
    if row.oldest_waiver:
        yield f"{row.waived} waived, the first until {row.oldest_waiver}"


def rules_of(row: Row, *signs: str) -> Iterator[str]:
    """Return the rules of a machine that have one of these signs."""
    return (rule_id for rule_id, sign in zip(RULES, row.signs, strict=True) if sign in signs)


def summary(rows: Sequence[Row], left_out: int, older: int) -> str:
    """Return the round in a sentence."""
    well = sum(row.all_met for row in rows)
    high = sum(row.high > 0 for row in rows)
    message = [
        f"{well} of {counted(len(rows), 'machine')} {'meets' if well == 1 else 'meet'} every requirement",
        f"{high} with a high finding" if high else "",
        f"{left_out} skipped" if left_out else "",
        f"{counted(older, 'older survey')} of the same machines skipped" if older else "",
    ]
    return "; ".join(filter(None, message))


def rules_table(rows: Sequence[Row]) -> Table:
    """Return a row for each rule that machines do not meet: on how many, of those where it is required."""
    found: list[dict[str, Any]] = []
    for number, rule_id in enumerate(RULES):
        signs = Counter(row.signs[number] for row in rows)
        not_met = sum(signs[sign] for sign in NOT_MET_SIGNS.values())
        unknown, required = signs[SIGNS["unknown"]], len(rows) - signs[NOT_ASKED]
        if not_met or unknown:
            found.append(
                {
                    "severity": CATALOGUE[rule_id].severity,
                    "title": CATALOGUE[rule_id].title,
                    "rule": rule_id,
                    "not_met": not_met,
                    "unknown": unknown,
                    "machines": f"{not_met} of {required}" + (f", {unknown} not known" if unknown else ""),
                    "required": required,
                }
            )
    found.sort(key=lambda line: (-line["not_met"], line["severity"].weight, -line["unknown"]))
    columns = columns_of(
        ("severity", "severity"),
        ("machines", "machines"),
        ("title", "rule that they do not meet"),
        ("rule", ""),
        whole=("severity", "machines", "rule"),
    )
    styles = {n: BAD if line["severity"] is Severity.HIGH else DOUBTFUL for n, line in enumerate(found)}
    return Table("rules", columns, tuple(found), styles)
