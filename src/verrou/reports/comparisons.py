"""Table and data of a comparison."""

from typing import TypedDict

from verrou.core.judging.comparison import Comparison, Direction
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, QUIET, Table, columns_of

STYLES = {Direction.STRICTER: GOOD, Direction.LOOSER: BAD, Direction.DIFFERENT: DOUBTFUL, Direction.SAME: QUIET}


class ComparedData(TypedDict):
    """One fact on both sides; None where a side has no such account, group or rule."""

    direction: Direction
    subject: str
    fact: str
    one: str | None
    other: str | None


class ComparisonData(TypedDict):
    """Two sides, their differences, and the number of lines by direction."""

    one: str
    other: str
    counts: dict[str, int]
    lines: list[ComparedData]


def comparison_data(found: Comparison, one: str, other: str, every: bool) -> ComparisonData:
    """Return the comparison for ``--format json``; without ``every`` only what differs."""
    return {
        "one": one,
        "other": other,
        "counts": {str(turn): found.count(turn) for turn in Direction},
        "lines": [
            {
                "direction": line.direction,
                "subject": line.subject,
                "fact": line.fact,
                "one": line.one if line.one or line.fact else None,
                "other": line.other if line.other or line.fact else None,
            }
            for line in (found.lines if every else found.differing)
        ],
    }


def comparison_table(data: ComparisonData, missing: str = "not there", *, blocks: bool = True) -> Table:
    """Return a row for each difference, the two sides under their names; ``missing`` marks an absent side.

    In ``blocks``, for people, an account or group is its name with its facts below it."""
    rows: list[dict[str, object]] = []
    styles, last = {}, ""
    for line in data["lines"]:
        empty = "none" if line["fact"] else missing
        if blocks and line["fact"] and line["subject"] != last:
            rows.append({"about": line["subject"]})
        last = line["subject"]
        styles[len(rows)] = STYLES[line["direction"]]
        about = f"  {line['fact']}, {line['direction']}" if line["fact"] else line["subject"]
        below = "" if line["fact"] else str(line["direction"])
        rows.append(
            {
                **line,
                "about": about,
                "below": below,
                "one": line["one"] or empty,
                "other": line["other"] or empty,
            }
        )
    columns = columns_of(
        ("direction", "direction"),
        ("subject", "subject"),
        ("fact", "fact"),
        ("about", ""),
        ("one", data["one"]),
        ("other", data["other"]),
        whole=("about",),
        hidden=("direction", "subject", "fact"),
        only_text=("about",),
        under={"about": "below"},
    )
    return Table("comparison", columns, tuple(rows), styles)


def counted_turns(found: Comparison) -> str:
    """Return how much differs, in a sentence."""
    message = [f"{found.count(turn)} {turn}" for turn in Direction if turn is not Direction.SAME and found.count(turn)]
    return f"{', '.join(message) or 'nothing differs'}; {found.count(Direction.SAME)} the same"
