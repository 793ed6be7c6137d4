"""Tables and data of the trend over time, and its page."""

# Imports within functions: only a page needs them.

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from operator import attrgetter
from typing import Any

from verrou.core.errors import BadInput
from verrou.core.history.trend import FIRST, LAST, MachineHistory, Moment, Trend, soon
from verrou.core.model import counted
from verrou.core.model.verdicts import MARKS, Severity, Tally
from verrou.core.surveys.data import plain
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, RowsOf, Table, columns_of


def trend_data(found: Trend, today: date, families: Sequence[str]) -> dict[str, Any]:
    """Return the trend for ``--format json``, its lists item by item; ``on`` is today, and waivers are reported until
    ``ending_by``."""
    return {
        "on": today,
        "ending_by": soon(today),
        "families": list(families),
        "machines": (plain(history) for history in found.histories),
        "together": (plain(moment) for moment in found.together),
    }


def histories_table(found: Trend) -> Table:
    """Return one row for each machine, those with regressions first; in CSV too."""
    styles = {line: _style(history) for line, history in enumerate(found.histories)}
    columns = columns_of(
        ("machine", "machine"),
        ("first_seen", "first_seen"),
        ("last_seen", "last_seen"),
        ("met", "met"),
        ("over_time", "not met, first to last"),
        *((str(severity), str(severity)) for severity in Severity),
        ("back", "regressed"),
        ("regressed", "regressed"),
        ("audits", "audits"),
        ("baseline", "baseline"),
        ("undone", "undone"),
        whole=("machine", "over_time"),
        hidden=("first_seen", "last_seen", "regressed", "audits", "baseline", "undone"),
        only_text=("over_time", "back"),
        under={"over_time": "notes"},
    )
    return Table("trend", columns, RowsOf(found.histories, _history_row), styles)


def _style(history: MachineHistory) -> str:
    return BAD if history.regressed else DOUBTFUL if history.moments[-1].not_met else GOOD


def _history_row(history: MachineHistory) -> Mapping[str, Any]:
    first, last = history.moments[0], history.moments[-1]
    notes = [f"{first.at:%Y-%m-%d} to {last.at:%Y-%m-%d}"]
    notes += ["a run was undone since. Audit again."] if history.undone else []
    return {
        "machine": history.machine,
        "first_seen": f"{first.at:%Y-%m-%d}",
        "last_seen": f"{last.at:%Y-%m-%d}",
        "over_time": _over_time(history),
        "met": last.met,
        "high": last.high,
        "medium": last.medium,
        "low": last.low,
        "regressed": [each.subject for each in history.regressed],
        "back": len(history.regressed),
        "audits": history.audits,
        "baseline": history.baseline,
        "undone": history.undone,
        "notes": "; ".join(notes),
    }


def _over_time(history: MachineHistory) -> str:
    text = [str(moment.not_met) for moment in history.moments]
    if history.audits > FIRST + LAST:
        text = [*text[:FIRST], "…", *text[-LAST:]]
    return " → ".join(text)


def regressed_table(found: Trend) -> Table:
    """Return the regressions of each machine, by the days between which they happened, and severity."""
    together: dict[tuple[str, date, date, Severity], list[str]] = {}
    for history in found.histories:
        for each in history.regressed:
            key = (history.machine, each.not_met_since, each.met_until, each.severity)
            together.setdefault(key, []).append(each.subject)
    order = {severity: place for place, severity in enumerate(Severity)}
    keys = sorted(together, key=lambda key: (order[key[3]], key[0], key[1]))

    def row(key: tuple[str, date, date, Severity]) -> Mapping[str, Any]:
        machine, since, until, severity = key
        when = f"met on {until}, not met on {since}"
        return {"severity": severity, "machine": machine, "rules": sorted(together[key]), "when": when}

    columns = columns_of(
        ("severity", "severity"),
        ("machine", "machine"),
        ("rules", "regressed"),
        whole=("severity", "machine"),
        under={"rules": "when"},
    )
    styles = {n: BAD if key[3] is Severity.HIGH else DOUBTFUL for n, key in enumerate(keys)}
    return Table("regressed", columns, RowsOf(keys, row), styles)


def ending_table(found: Trend, today: date) -> Table:
    """Return one row for each waiver that expires, the next one first."""
    lines = sorted(
        (each.until, history.machine, each.subject, each.by) for history in found.histories for each in history.ending
    )
    rows = tuple(
        {"until": until, "machine": machine, "rule": rule, "by": by, "note": "ended" if until < today else ""}
        for until, machine, rule, by in lines
    )
    columns = columns_of(
        *((key, key) for key in ("until", "machine", "rule", "by", "note")), whole=("until", "machine", "rule")
    )
    return Table("waivers", columns, rows, {n: BAD for n, row in enumerate(rows) if row["note"]})


def trend_summary(found: Trend) -> str:
    """Return the trend in a sentence."""
    if not found.histories:
        return "No machine in this logbook has been audited against a baseline"
    now = _sum(history.moments[-1] for history in found.histories)
    first, last = (pick(history.moments[at].at for history in found.histories) for pick, at in ((min, 0), (max, -1)))
    back = sum(bool(history.regressed) for history in found.histories)
    machines = f"{counted(len(found.histories), 'machine')}, {first:%Y-%m-%d} to {last:%Y-%m-%d}"
    said = f"now {now.met} met and {now.not_met} not met ({now.high} high)"
    return f"{machines}: {said}; {back or 'none'} regressed"


def _sum(moments: Iterable[Moment]) -> Tally:
    return Tally(*map(sum, zip(*map(attrgetter(*MARKS), moments), strict=True)))


def trend_page(found: Trend, today: date, about: str) -> str:
    """Return the page of the trend: one file that loads nothing, with the figure where Matplotlib is installed."""
    from verrou.reports.figures import courses as drawn
    from verrou.reports.pages import page, trusted

    figure, missing = None, ""
    try:
        figure = trusted(drawn(found))
    except BadInput as reason:
        missing = f"No picture: {reason}."
    return page(
        "trend.html",
        title=f"Trend: {about}",
        summary=f"{trend_summary(found)}.",
        figure=figure,
        no_figure=missing,
        machines=_for_page(histories_table(found)),
        regressed=_for_page(regressed_table(found)),
        ending=_for_page(ending_table(found, today)),
        ending_by=soon(today),
    )


def _for_page(table: Table) -> Mapping[str, Any]:
    """Return a table for a template: titles, and of each cell the value, the text below it, and whether it may wrap."""
    columns = [column for column in table.columns if column.text]
    return {
        "titles": [column.title for column in columns],
        "rows": [
            [(row.get(column.key, ""), row.get(column.under, ""), column.keep_whole) for column in columns]
            for row in table.rows
        ],
    }
