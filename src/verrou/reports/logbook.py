"""Tables and data of the logbook: what was done."""

from collections.abc import Sequence
from typing import Any

from attrs import fields

from verrou.core import advice
from verrou.core.history.records import Counts, Extent, ListedRun, RunRecord
from verrou.core.history.runs import Run
from verrou.core.model import counted
from verrou.core.model.known import Known
from verrou.core.model.verdicts import Result, Tally, Verdict
from verrou.core.surveys.data import plain
from verrou.reports.tables import BAD, QUIET, Table, columns_of

NOT_SHOWN = ("key",)
"""What of a record is the logbook's own affair."""


def record_data(number: int, record: RunRecord) -> dict[str, Any]:
    """Return one record for JSON: its number in the logbook, itself, and how many findings are of each kind."""
    return {"number": number, **plain(record, without=NOT_SHOWN), **plain(record.tally)}


def listed_data(run: ListedRun) -> dict[str, Any]:
    """Return one line of the list for JSON."""
    return {"number": run.number, **plain(run.facts, without=NOT_SHOWN), **plain(run.tally), **plain(run.counts)}


def listed_table(runs: Sequence[ListedRun]) -> Table:
    """Return one row for each run."""
    rows, styles = [], {}
    for line, run in enumerate(runs):
        styles[line] = BAD if run.tally.high else QUIET
        score = f"{run.tally.met} of {run.tally.assessed}" if run.is_audit else ""
        more = {"score": score, "when": f"{run.facts.clock:%Y-%m-%d %H:%M}", "came": _came(run)}
        rows.append({**listed_data(run), **more})
    counts = tuple(field.name for kind in (Tally, Counts) for field in fields(kind))
    facts = ("at", "clock", "identity", "system", "baseline", "digest", "entry", "tool")
    columns = columns_of(
        ("number", "record"),
        ("when", "when"),
        *((key, key) for key in ("machine", "run", "score")),
        ("came", "result"),
        *((key, key) for key in ("by", *facts, *counts)),
        whole=("number", "when", "machine", "run", "score"),
        hidden=(*facts, *counts),
        only_text=("when", "score", "came"),
    )
    return Table("logbook", columns, tuple(rows), styles)


def _came(run: ListedRun) -> str:
    tally, counts = run.tally, run.counts
    parts = [tally.not_met_text] if tally.not_met else []
    parts += [f"{tally.unknown} not known"] if tally.unknown else []
    if run.is_audit and not parts:
        parts = ["every requirement is met"]
    of_tests = zip(Result, (counts.tests_passed, counts.tests_failed, counts.tests_not_run), strict=True)
    parts += [f"{number} {result}" for result, number in of_tests if number]
    if run.facts.run is Run.SURVEY:
        parts.append(f"{counted(counts.accounts, 'account')}, {counts.accounts_enabled} enabled")
    if run.facts.entry is not None:
        parts.append(f"journal entry {run.facts.entry}")
    return ", ".join(parts)


def logbook_summary(place: str, extent: Extent, shown: int) -> str:
    """Return the logbook in a sentence: how much of it is selected, and how much of that is shown."""
    if extent.first is None or extent.last is None:
        none = f"none of {counted(extent.recorded, 'record')} is of that kind"
        return f"{place}: {none if extent.recorded else 'no records yet'}"
    whole = extent.selected == extent.recorded
    records = counted(extent.selected, "record") if whole else f"{extent.selected} of {extent.recorded} records"
    text = f"{place}: {records} of {counted(extent.machines, 'machine')}, {extent.first.date()} to {extent.last.date()}"
    return text if shown == extent.selected else f"{text}; {shown} are shown (--limit, --skip)"


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
    lines += [("test", trial.rule, f"{trial.result}: {trial.test}") for trial in record.tests]
    rows = tuple({"what": what, "which": which, "how": how} for what, which, how in lines)
    return Table("record", columns_of(("what", "what"), ("which", "which"), ("how", "how"), whole=("what",)), rows)
