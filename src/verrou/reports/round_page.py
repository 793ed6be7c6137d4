"""The page of a round: one file that loads nothing; its filters work without a script.

Up to a few hundred machines each has its findings in words. Of more, those that are alike are one line: their signs
below the names of the rules, whose words stand once."""

# Imports within functions: only a page needs them.

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from attrs import frozen

from verrou.core.errors import BadInput
from verrou.core.judging.rounds import NOT_ASKED, NOT_MET_SIGNS, RULES, SIGNS, LeftOut, Row
from verrou.core.model import counted
from verrou.core.model.verdicts import MARKS
from verrou.reports.rounds import numbers_not_met, rules_of, rules_table, summary
from verrou.reports.tables import shown

MOST_IN_WORDS = 300
"""Up to how many machines each has its findings in words."""


@frozen(repr=False)
class Filter:
    """What a reader can choose to see: ``mark`` is the class of the lines that it leaves."""

    mark: str
    words: str


FILTERS: Mapping[str, Filter] = {
    "all": Filter("", "all machines"),
    "high": Filter("h", "with a high finding"),
    "medium": Filter("m", "with a medium finding"),
    "low": Filter("l", "with a low finding"),
    "waived": Filter("w", "with waivers"),
    "unknown": Filter("u", "with something not known"),
    "well": Filter("y", "all well"),
}


def _marks(row: Row) -> str:
    marks = [FILTERS[word].mark for word in FILTERS if getattr(row, word, 0)]
    return " ".join([*marks, FILTERS["well"].mark] if row.all_met else marks)


def as_page(rows: Sequence[Row], left_out: Sequence[LeftOut], older: int) -> str:
    """Return the page of a round."""
    from verrou.reports.figures import machines_by_rules, rules_by_machines
    from verrou.reports.pages import page, trusted

    many = len(rows) > MOST_IN_WORDS
    rules = rules_table(rows).rows
    figure, missing = None, ""
    try:
        drawn = rules_by_machines(rules) if many else machines_by_rules(rows)
        figure = trusted(drawn)
    except BadInput as reason:
        missing = f"No picture: {reason}."
    marks = [_marks(row) for row in rows]
    filters = [
        {
            "key": key,
            "mark": each.mark,
            "words": each.words,
            "count": len(rows) if key == "all" else sum(each.mark in mine for mine in marks),
        }
        for key, each in FILTERS.items()
    ]
    by_machine = "Machines by rules: the worst machine on top, the rule that most machines miss on the left."
    by_rule = "Rules by how many machines do not meet them; those that every machine meets are left out."
    return page(
        "round.html",
        title=f"Round over {counted(len(rows), 'machine')}",
        summary=f"{summary(rows, len(left_out), older)}.",
        rows=[] if many else [_in_words(row, mine) for row, mine in zip(rows, marks, strict=True)],
        parts=list(_parts(rows)) if many else [],
        filters=[each for each in filters if each["count"]],
        left_out=left_out,
        rules=rules,
        figure=figure,
        no_figure=missing,
        caption=by_rule if many else by_machine,
    )


def _in_words(row: Row, marks: str) -> dict[str, Any]:
    return {
        "machine": row.machine,
        "baseline": row.baseline,
        "met": row.met,
        "assessed": row.assessed,
        "counts": numbers_not_met(row),
        "oldest_waiver": row.oldest_waiver,
        "worst": row.worst,
        "not_met": list(_by_severity(row)),
        "at": f"{row.at:%Y-%m-%d}",
        "marks": marks,
    }


def _by_severity(row: Row) -> Iterator[tuple[str, str]]:
    for severity, sign in NOT_MET_SIGNS.items():
        if names := ", ".join(rules_of(row, sign)):
            yield str(severity), names
    if row.listed:
        yield "listed", shown(list(row.listed))


SHOWN_AS = {SIGNS["met"]: "\u00b7", NOT_ASKED: " "}
"""What of a line catches no eye."""


def _parts(rows: Sequence[Row]) -> Iterator[dict[str, Any]]:
    """Yield the machines of each baseline: the rules that it requires, and a line for machines that are alike."""
    by_baseline: dict[str, list[Row]] = {}
    for row in rows:
        by_baseline.setdefault(row.baseline, []).append(row)
    for baseline, mine in by_baseline.items():
        required = [n for n in range(len(RULES)) if any(row.signs[n] != NOT_ASKED for row in mine)]
        alike: dict[tuple[object, ...], list[Row]] = {}
        for row in mine:  # what an account counts as is not in its name
            alike.setdefault((row.signs, row.listed, *(getattr(row, mark) for mark in MARKS)), []).append(row)
        lines = [
            {
                "machines": group[0].machine if len(group) == 1 else "",
                "count": counted(len(group), "machine"),
                "names": shown([row.machine for row in group]) if len(group) > 1 else "",
                "marks": _marks(group[0]),
                "numbers": " ".join(str(getattr(group[0], word)) for word in (*NOT_MET_SIGNS, "unknown")),
                "signs": "".join(SHOWN_AS.get(sign, sign) for sign in (group[0].signs[n] for n in required)).rstrip(),
                "more": _more(group),
            }
            for group in alike.values()
        ]
        yield {
            "baseline": baseline,
            "machines": counted(len(mine), "machine"),
            "groups": counted(len(lines), "group") if len(lines) < len(mine) else "",
            "rules": [RULES[n] for n in required],
            "lines": lines,
            "more": any(line["more"] for line in lines),
        }


def _more(group: Sequence[Row]) -> str:
    waivers = [row.oldest_waiver for row in group if row.oldest_waiver is not None]
    until = f"first waiver until {min(waivers)}" if waivers else ""
    return "; ".join(filter(None, (shown(list(group[0].listed)), until)))
