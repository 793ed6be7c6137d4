"""Tables and data of the logbook: what was done, and the trend over time."""

# Imports within functions: only a page needs them.

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from verrou.core import advice
from verrou.core.errors import BadInput
from verrou.core.history.records import Run, RunRecord
from verrou.core.history.trend import MachineHistory, Trend, soon
from verrou.core.model import counted
from verrou.core.model.known import Known
from verrou.core.model.verdicts import Result, Severity, Verdict
from verrou.core.surveys.data import plain
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, QUIET, Table, columns_of

Numbered = Sequence[tuple[int, RunRecord]]
"""Records, each with its number in the logbook."""


def record_data(number: int, record: RunRecord) -> dict[str, Any]:
    """Return one record for JSON: its number in the logbook, itself, and how many findings are of each kind."""
    return {"number": number, **plain(record, without=NOT_SHOWN), **plain(record.tally)}


NOT_SHOWN = ("key",)
"""What of a record is the logbook's own affair."""


def log_table(records: Numbered) -> Table:
    """Return one row for each record."""
    rows, styles = [], {}
    for line, (number, record) in enumerate(records):
        data = record_data(number, record)
        styles[line] = BAD if data["high"] else QUIET
        rows.append({**data, "score": _score(record), "when": f"{record.clock:%Y-%m-%d %H:%M}", "came": _came(record)})
    columns = columns_of(
        ("number", "record"),
        ("when", "when"),
        *((key, key) for key in ("machine", "run", "score")),
        ("came", "result"),
        *((key, key) for key in ("by", "at", "clock", "identity", "system", "baseline", "digest", "entry", "tool")),
        *((key, key) for key in ("met", "high", "medium", "low", "unknown", "waived", "not_applicable")),
        whole=("number", "when", "machine", "run", "score"),
        hidden=(
            *("at", "clock", "identity", "system", "baseline", "digest", "entry", "tool"),
            *("met", "high", "medium", "low", "unknown", "waived", "not_applicable"),
        ),
        only_text=("when", "score", "came"),
    )
    return Table("logbook", columns, tuple(rows), styles)


def _score(record: RunRecord) -> str:
    return f"{record.tally.met} of {record.tally.assessed}" if record.findings else ""


def _came(record: RunRecord) -> str:
    tally = record.tally
    parts = [tally.not_met_text] if tally.not_met else []
    parts += [f"{tally.unknown} not known"] if tally.unknown else []
    if record.findings and not parts:
        parts = ["every requirement is met"]
    proofs = [trial.result for trial in record.tests]
    parts += [f"{proofs.count(proof)} {proof}" for proof in Result if proof in proofs]
    if record.run is Run.SURVEY:
        open_accounts = sum(account.enabled for account in record.accounts)
        parts.append(f"{counted(len(record.accounts), 'account')}, {open_accounts} enabled")
    if record.entry is not None:
        parts.append(f"journal entry {record.entry}")
    return ", ".join(parts)


def log_summary(place: str, records: Numbered, out_of: int) -> str:
    """Return the logbook in a sentence."""
    if not records:
        return f"{place}: none of {counted(out_of, 'record')} is of that kind" if out_of else f"{place}: no records yet"
    machines = len({record.identity for _, record in records})
    first, last = (record.clock.date() for record in (records[0][1], records[-1][1]))
    shown = counted(len(records), "record") if len(records) == out_of else f"{len(records)} of {out_of} records"
    return f"{place}: {shown} of {counted(machines, 'machine')}, {first} to {last}"


def record_table(number: int, record: RunRecord) -> Table:
    """Return one record whole: what was not met first, then the rest."""
    lines: list[tuple[str, str, str]] = [
        ("run", str(record.run), f"record {number}, by {record.by} with {record.tool}"),
        ("machine", record.machine, record.system),
        ("clock", f"{record.clock:%Y-%m-%d %H:%M}", f"{record.at:%Y-%m-%d %H:%M} UTC by the computer at work"),
    ]
    if record.baseline:
        lines.append(("baseline", record.baseline, record.digest))
    if record.entry is not None:
        lines.append(("journal", f"entry {record.entry}", advice.show_entry(record.entry, record.machine)))
    for finding in record.findings:
        text = str(finding.severity) if finding.verdict is Verdict.NOT_MET else str(finding.verdict)
        waived = f"until {finding.waived_until} by {finding.waived_by}" if finding.waived_until else ""
        lines.append(("finding", finding.subject, f"{text} {waived}".strip()))
    for account in record.accounts:
        role = "role unknown" if account.role is Known.UNKNOWN else str(account.role)
        lines.append(("account", account.name, role if account.enabled else f"{role}, disabled"))
    lines += [("rule", reading.rule, reading.words) for reading in record.readings]
    lines += [("trial", trial.rule, f"{trial.result}: {trial.test}") for trial in record.tests]
    rows = tuple({"what": what, "which": which, "how": how} for what, which, how in lines)
    return Table("record", columns_of(("what", "what"), ("which", "which"), ("how", "how"), whole=("what",)), rows)


# Trend


def trend_data(found: Trend, today: date, families: Sequence[str]) -> dict[str, Any]:
    """Return the trend for ``--format json``; ``on`` is today, and waivers are reported until ``ending_by``."""
    return {
        "on": today,
        "ending_by": soon(today),
        "families": list(families),
        "machines": [plain(history) for history in found.histories],
        "together": [plain(moment) for moment in found.together],
    }


MOST_MOMENTS = 5
"""Most moments in a line."""


def histories_table(found: Trend) -> Table:
    """Return one row for each machine, those with regressions first; in CSV too."""
    rows, styles = [], {}
    for line, history in enumerate(found.histories):
        first, last = history.moments[0], history.moments[-1]
        styles[line] = BAD if history.regressed else DOUBTFUL if last.not_met else GOOD
        notes = [f"{first.at:%Y-%m-%d} to {last.at:%Y-%m-%d}"]
        notes += ["a run was undone since. Audit again."] if history.undone else []
        rows.append(
            {
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
                "baseline": history.baseline,
                "undone": history.undone,
                "notes": "; ".join(notes),
            }
        )
    columns = columns_of(
        ("machine", "machine"),
        ("first_seen", "first_seen"),
        ("last_seen", "last_seen"),
        ("met", "met"),
        ("over_time", "not met, first to last"),
        *((str(severity), str(severity)) for severity in Severity),
        ("back", "regressed"),
        ("regressed", "regressed"),
        ("baseline", "baseline"),
        ("undone", "undone"),
        whole=("machine", "over_time"),
        hidden=("first_seen", "last_seen", "regressed", "baseline", "undone"),
        only_text=("over_time", "back"),
        under={"over_time": "notes"},
    )
    return Table("trend", columns, tuple(rows), styles)


def _over_time(history: MachineHistory) -> str:
    text = [str(moment.not_met) for moment in history.moments]
    if len(text) > MOST_MOMENTS:
        text = [*text[: MOST_MOMENTS // 2], "…", *text[-MOST_MOMENTS // 2 :]]
    return " → ".join(text)


def regressed_table(found: Trend) -> Table:
    """Return the regressions of each machine, by the days between which they happened, and severity."""
    together: dict[tuple[str, date, date, Severity], list[str]] = {}
    for history in found.histories:
        for each in history.regressed:
            key = (history.machine, each.not_met_since, each.met_until, each.severity)
            together.setdefault(key, []).append(each.subject)
    order = list(Severity)
    keys = sorted(together, key=lambda key: (order.index(key[3]), key[0], key[1]))
    rows = tuple(
        {
            "severity": severity,
            "machine": machine,
            "rules": sorted(together[machine, since, until, severity]),
            "when": f"met on {until}, not met on {since}",
        }
        for machine, since, until, severity in keys
    )
    columns = columns_of(
        ("severity", "severity"),
        ("machine", "machine"),
        ("rules", "regressed"),
        whole=("severity", "machine"),
        under={"rules": "when"},
    )
    styles = {n: BAD if row["severity"] is Severity.HIGH else DOUBTFUL for n, row in enumerate(rows)}
    return Table("regressed", columns, rows, styles)


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
        return "No machine in this logbook has been audited against a baseline."
    first, last = found.together[0], found.together[-1]
    back = sum(bool(history.regressed) for history in found.histories)
    machines = f"{counted(len(found.histories), 'machine')}, {first.at:%Y-%m-%d} to {last.at:%Y-%m-%d}"
    now = f"now {last.met} met and {last.not_met} not met ({last.high} high)"
    return f"{machines}: {now}; {back or 'none'} regressed"


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
