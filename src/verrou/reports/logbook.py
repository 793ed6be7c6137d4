"""Tables and data of the logbook: what was done, and the trend over time."""

from collections.abc import Mapping, Sequence
from datetime import date
from typing import TYPE_CHECKING, Any, TypedDict

from verrou.core.audit import Verdict
from verrou.core.logbook import MachineHistory, Moment, Run, RunRecord, Trend, soon
from verrou.core.model import counted
from verrou.core.model.access import KnownRole
from verrou.core.model.known import Known
from verrou.core.rules import Severity
from verrou.core.trials import Result
from verrou.reports.sheets import BAD, DOUBTFUL, GOOD, QUIET, Table, columns_of

if TYPE_CHECKING:
    from verrou.core.logbook import FindingRecord


class FindingRecordData(TypedDict):
    """Verdict on a rule, account or group; ``waived_until`` is the last day of its waiver."""

    subject: str
    severity: Severity
    verdict: Verdict
    waived_until: date | None
    waived_by: str


class AccountRecordData(TypedDict):
    """An account of a machine at an audit."""

    name: str
    role: KnownRole
    enabled: bool


class ReadingRecordData(TypedDict):
    """State of a rule, in words."""

    rule: str
    words: str


class TrialRecordData(TypedDict):
    """Test of a rule, with its result."""

    rule: str
    test: str
    result: Result


class RecordData(TypedDict):
    """One run.

    ``number`` counts the records of the logbook, the oldest first; ``at`` is UTC, ``clock`` the machine's own time;
    ``entry`` is its journal's."""

    number: int
    run: Run
    at: str
    clock: str
    by: str
    tool: str
    machine: str
    identity: str
    system: str
    baseline: str
    digest: str
    entry: int | None
    met: int
    high: int
    medium: int
    low: int
    unknown: int
    waived: int
    not_applicable: int
    findings: list[FindingRecordData]
    accounts: list[AccountRecordData]
    readings: list[ReadingRecordData]
    tests: list[TrialRecordData]


Numbered = Sequence[tuple[int, RunRecord]]
"""Records, each with its number in the logbook."""


def record_data(number: int, record: RunRecord) -> RecordData:
    """Return one record for JSON."""
    not_met = [finding.severity for finding in record.findings if finding.verdict is Verdict.NOT_MET]
    return {
        "number": number,
        "run": record.run,
        "at": f"{record.at:%Y-%m-%d %H:%M:%S}",
        "clock": f"{record.clock:%Y-%m-%d %H:%M:%S}",
        "by": record.by,
        "tool": record.tool,
        "machine": record.machine,
        "identity": record.identity,
        "system": record.system,
        "baseline": record.baseline,
        "digest": record.digest,
        "entry": record.entry,
        "met": record.count(Verdict.MET),
        "high": not_met.count(Severity.HIGH),
        "medium": not_met.count(Severity.MEDIUM),
        "low": not_met.count(Severity.LOW),
        "unknown": record.count(Verdict.UNKNOWN),
        "waived": record.count(Verdict.WAIVED),
        "not_applicable": record.count(Verdict.NOT_APPLICABLE),
        "findings": [_finding(each) for each in record.findings],
        "accounts": [{"name": a.name, "role": a.role, "enabled": a.enabled} for a in record.accounts],
        "readings": [{"rule": r.rule, "words": r.words} for r in record.readings],
        "tests": [{"rule": t.rule, "test": t.test, "result": t.result} for t in record.trials],
    }


def _finding(finding: "FindingRecord") -> FindingRecordData:
    return {
        "subject": finding.subject,
        "severity": finding.severity,
        "verdict": finding.verdict,
        "waived_until": finding.waived_until,
        "waived_by": finding.waived_by,
    }


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
    if not record.findings:
        return ""
    out_of = record.count(Verdict.MET, Verdict.NOT_MET, Verdict.UNKNOWN)
    return f"{record.count(Verdict.MET)} of {out_of}"


def _came(record: RunRecord) -> str:
    not_met = [finding.severity for finding in record.findings if finding.verdict is Verdict.NOT_MET]
    parts = [f"{not_met.count(severity)} {severity}" for severity in Severity if severity in not_met]
    parts += [f"{n} not known"] if (n := record.count(Verdict.UNKNOWN)) else []
    if record.findings and not parts:
        parts = ["every requirement is met"]
    proofs = [trial.result for trial in record.trials]
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
        lines.append(("journal", f"entry {record.entry}", f"verrou journal show {record.entry} -m {record.machine}"))
    for finding in record.findings:
        text = str(finding.severity) if finding.verdict is Verdict.NOT_MET else str(finding.verdict)
        waived = f"until {finding.waived_until} by {finding.waived_by}" if finding.waived_until else ""
        lines.append(("finding", finding.subject, f"{text} {waived}".strip()))
    for account in record.accounts:
        role = "role unknown" if account.role is Known.UNKNOWN else str(account.role)
        lines.append(("account", account.name, role if account.enabled else f"{role}, disabled"))
    lines += [("rule", reading.rule, reading.words) for reading in record.readings]
    lines += [("trial", trial.rule, f"{trial.result}: {trial.test}") for trial in record.trials]
    rows = tuple({"what": what, "which": which, "how": how} for what, which, how in lines)
    return Table("record", columns_of(("what", "what"), ("which", "which"), ("how", "how"), whole=("what",)), rows)


# Trend


class MomentData(TypedDict):
    """Score of a machine, or of several together, from one moment on, by the machines' own time."""

    at: str
    met: int
    high: int
    medium: int
    low: int
    unknown: int


class RegressionData(TypedDict):
    """A rule that is not met and was met before, with the last day on which it was met."""

    subject: str
    severity: Severity
    met_until: date
    not_met_since: date


class EndingData(TypedDict):
    """A waiver that expires soon, or has expired."""

    subject: str
    until: date
    by: str


class HistoryData(TypedDict):
    """Audit history of one machine."""

    machine: str
    identity: str
    baseline: str
    moments: list[MomentData]
    regressed: list[RegressionData]
    ending: list[EndingData]
    undone: bool


class TrendData(TypedDict):
    """Histories of all machines; ``on`` is today, and waivers are reported until ``ending_by``."""

    on: date
    ending_by: date
    families: list[str]
    machines: list[HistoryData]
    together: list[MomentData]


def _moment(moment: Moment) -> MomentData:
    not_met = {str(severity): moment.not_met[severity] for severity in Severity}
    return {
        "at": f"{moment.at:%Y-%m-%d %H:%M:%S}",
        "met": moment.met,
        "high": not_met["high"],
        "medium": not_met["medium"],
        "low": not_met["low"],
        "unknown": moment.unknown,
    }


def trend_data(found: Trend, today: date, families: Sequence[str]) -> TrendData:
    """Return the trend for ``--format json``."""
    return {
        "on": today,
        "ending_by": soon(today),
        "families": list(families),
        "machines": [
            {
                "machine": history.machine,
                "identity": history.identity,
                "baseline": history.baseline,
                "moments": [_moment(moment) for moment in history.moments],
                "regressed": [
                    {
                        "subject": each.subject,
                        "severity": each.severity,
                        "met_until": each.met_until,
                        "not_met_since": each.not_met_since,
                    }
                    for each in history.regressed
                ],
                "ending": [{"subject": e.subject, "until": e.until, "by": e.by} for e in history.ending],
                "undone": history.undone,
            }
            for history in found.histories
        ],
        "together": [_moment(moment) for moment in found.together],
    }


MOST_MOMENTS = 5
"""Most moments in a line."""


def histories_table(found: Trend) -> Table:
    """Return one row for each machine, those with regressions first; in CSV too."""
    rows, styles = [], {}
    for line, history in enumerate(found.histories):
        first, last = history.moments[0], history.moments[-1]
        styles[line] = BAD if history.regressed else DOUBTFUL if not_met_of(last) else GOOD
        notes = [f"{first.at:%Y-%m-%d} to {last.at:%Y-%m-%d}"]
        notes += ["a run was undone since. Audit again."] if history.undone else []
        rows.append(
            {
                "machine": history.machine,
                "first_seen": f"{first.at:%Y-%m-%d}",
                "last_seen": f"{last.at:%Y-%m-%d}",
                "over_time": _over_time(history),
                "met": last.met,
                **{str(severity): last.not_met[severity] for severity in Severity},
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


def not_met_of(moment: Moment) -> int:
    """Return how many findings are not met at a moment."""
    return sum(moment.not_met.values())


def _over_time(history: MachineHistory) -> str:
    text = [str(not_met_of(moment)) for moment in history.moments]
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
    now = f"now {last.met} met and {not_met_of(last)} not met ({last.not_met[Severity.HIGH]} high)"
    return f"{machines}: {now}; {back or 'none'} regressed"


def trend_page(found: Trend, today: date, about: str) -> str:
    """Return the page of the trend: one file that loads nothing, with the figure where Matplotlib is installed."""
    from verrou.core.errors import BadInput
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
