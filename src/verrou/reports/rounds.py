"""Table, data and page of a round over many machines."""

# Imports within functions: only a page needs them.

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from verrou.core.errors import BadInput
from verrou.core.judging.rounds import NOT_ASKED, NOT_MET_SIGNS, RULES, LeftOut, Row
from verrou.core.model import counted
from verrou.core.model.verdicts import Severity
from verrou.core.rules import CATALOGUE
from verrou.core.surveys.data import plain
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, Table, as_json, columns_of, shown

NOT_SHOWN = ("identity", "signs", "recorded")
"""What of a row is the round's own affair."""


def row_data(row: Row) -> dict[str, Any]:
    """Return one machine for JSON: its row, with the required rules by verdict."""
    return {**plain(row, without=NOT_SHOWN), "assessed": row.assessed, "rules": row.rules}


def round_data(rows: Sequence[Row], left_out: Sequence[LeftOut], older: int) -> dict[str, Any]:
    """Return the round for ``--format json``: machines, the worst first, what could not be read, and how many older
    surveys were skipped."""
    return {"machines": [row_data(row) for row in rows], "left_out": [plain(each) for each in left_out], "older": older}


def as_lines(rows: Iterable[Row]) -> Iterator[str]:
    """Yield a line of JSON a machine."""
    for row in rows:
        yield as_json(row_data(row), indent=None).rstrip()


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
                "not_met": list(_names(row, *NOT_MET_SIGNS.values())) + list(row.listed),
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


def _not_met(row: Row) -> list[tuple[str, int]]:
    found: list[tuple[str, int]] = [*row.by_severity.items(), ("unknown", row.unknown)]
    return [(word, count) for word, count in found if count]


def _notes(row: Row) -> Iterator[str]:
    if row.interrupted:
        yield row.interrupted
    if row.unknown:
        yield f"{row.unknown} not known"
    if row.oldest_waiver:
        yield f"{row.waived} waived, the first until {row.oldest_waiver}"


def _names(row: Row, *signs: str) -> Iterator[str]:
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


FILTERS: Mapping[str, str] = {
    "all": "all machines",
    "high": "with a high finding",
    "medium": "with a medium finding",
    "low": "with a low finding",
    "waived": "with waivers",
    "unknown": "with something not known",
    "well": "all well",
}


def _keys(row: Row) -> list[str]:
    keys = [word for word in ("high", "medium", "low", "waived", "unknown") if getattr(row, word)]
    return [*keys, "well"] if row.all_met else keys


def as_page(rows: Sequence[Row], left_out: Sequence[LeftOut], older: int) -> str:
    """Return the page of the round: one file that loads nothing; its filters work without a script."""
    from verrou.reports.figures import MOST_ROWS, machines_by_rules
    from verrou.reports.pages import page, trusted

    figure, missing = None, ""
    try:
        figure = trusted(machines_by_rules(rows))
    except BadInput as reason:
        missing = f"No picture: {reason}."
    keys = [_keys(row) for row in rows]
    text = [
        {
            "machine": row.machine,
            "baseline": row.baseline,
            "met": row.met,
            "assessed": row.assessed,
            "counts": _not_met(row),
            "oldest_waiver": row.oldest_waiver,
            "worst": row.worst,
            "not_met": list(_by_severity(row)),
            "at": f"{row.at:%Y-%m-%d}",
            "marks": mine,
        }
        for row, mine in zip(rows, keys, strict=True)
    ]
    filters = [
        {"key": key, "words": words, "count": len(rows) if key == "all" else sum(key in mine for mine in keys)}
        for key, words in FILTERS.items()
    ]
    cut = f" Only the {MOST_ROWS} worst of {len(rows)} are shown." if len(rows) > MOST_ROWS else ""
    return page(
        "round.html",
        title=f"Round over {counted(len(rows), 'machine')}",
        summary=f"{summary(rows, len(left_out), older)}.",
        rows=text,
        filters=[each for each in filters if each["count"]],
        left_out=left_out,
        rules=_rules(rows),
        figure=figure,
        no_figure=missing,
        caption=f"Machines by rules: the worst machine on top, the rule that most machines miss on the left.{cut}",
    )


def _by_severity(row: Row) -> Iterator[tuple[str, str]]:
    for severity, sign in NOT_MET_SIGNS.items():
        if names := ", ".join(_names(row, sign)):
            yield str(severity), names
    if row.listed:
        yield "listed", shown(list(row.listed))


def _rules(rows: Sequence[Row]) -> list[dict[str, Any]]:
    """Return how many machines do not meet each rule."""
    found = []
    for number, rule_id in enumerate(RULES):
        signs = [row.signs[number] for row in rows]
        not_met = sum(sign in NOT_MET_SIGNS.values() for sign in signs)
        if not_met:
            rule = CATALOGUE[rule_id]
            asked = len(signs) - signs.count(NOT_ASKED)
            severity: Severity = rule.severity
            found.append(
                {"rule": rule_id, "title": rule.title, "not_met": not_met, "asked": asked, "severity": str(severity)}
            )
    return sorted(found, key=lambda line: -line["not_met"])
