"""The sign-off sheet of one machine: its contents, and how it is written (HTML, Markdown, JSON, JUnit XML)."""

# Imports within functions: only a page, or a file of one form, needs them.

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any, TypedDict

from attrs import frozen

from verrou.core.baselines.baseline import Baseline
from verrou.core.errors import BadInput
from verrou.core.history.entries import JournalEntry
from verrou.core.judging.audit import Audit, Finding
from verrou.core.model import MachineFacts, joined, name_list
from verrou.core.model.verdicts import MARKS, Result, Severity, TrialResult, Verdict
from verrou.core.planning.change_plan import ManualStep
from verrou.core.surveys.data import plain
from verrou.reports.finding_text import finding_text
from verrou.reports.findings import trials_data
from verrou.reports.records import entry_data
from verrou.reports.tables import as_json, shown


class SignedMachine(TypedDict):
    """The machine of a sheet; ``clock`` is its own time."""

    name: str
    system: str
    identity: str
    clock: str


class SignedBaseline(TypedDict):
    """The baseline of the audit; ``digest`` is SHA-256 over its text and those it builds on."""

    title: str
    digest: str


class LineData(TypedDict):
    """A finding before and now.

    ``statement`` describes the present, ``message`` the past; ``before`` is None, and ``message`` empty, where the past
    is not known."""

    subject: str
    severity: Severity
    statement: str
    message: str
    before: Verdict | None
    now: Verdict


class SignedWaiver(TypedDict):
    """A waiver: its reason, author and last day; ``lapsed``: that day has passed."""

    rule: str
    reason: str
    by: str
    until: date
    lapsed: bool


class ManualStepData(TypedDict):
    """A finding that no step closes."""

    subject: str
    advice: str


class SignOffData(TypedDict):
    """The whole sheet.

    ``interrupted`` is a run that did not end: nothing is signed off then. ``summary`` has three lines. ``left`` is not
    met now, ``changed`` is met now and was not before, ``met`` was met all along, ``not_applicable`` are rules that
    this machine does not have."""

    machine: SignedMachine
    baseline: SignedBaseline
    by: str
    at: str
    tool: str
    interrupted: str
    summary: list[str]
    verdict: str
    before: dict[str, int] | None
    no_before: str
    now: dict[str, int]
    left: list[LineData]
    changed: list[LineData]
    met: list[LineData]
    not_applicable: list[LineData]
    manual: list[ManualStepData]
    later: list[ManualStepData]
    waivers: list[SignedWaiver]
    tests: list[dict[str, Any]]
    entries: list[dict[str, Any]]


@frozen(repr=False)
class Signed:
    """Input of a sheet. ``before`` is the audit before the first of ``entries``; without one, ``no_before`` says
    why."""

    facts: MachineFacts
    baseline: Baseline
    now: Audit
    before: Audit | None
    no_before: str
    entries: Sequence[JournalEntry]
    tests: Sequence[TrialResult]
    manual: Sequence[ManualStep]
    by: str
    at: str
    tool: str


def sign_off_data(signed: Signed) -> SignOffData:
    """Return the sheet as plain data."""
    before = {finding.subject: finding for finding in signed.before.findings} if signed.before else {}
    lines: dict[str, list[LineData]] = {"left": [], "changed": [], "met": [], "not_applicable": []}
    for finding in signed.now.findings:
        was = before.get(finding.subject)
        place = "not_applicable" if finding.verdict is Verdict.NOT_APPLICABLE else "left"
        if finding.verdict is Verdict.MET:
            place = "met" if was is None or was.verdict is Verdict.MET else "changed"
        lines[place].append(
            {
                "subject": finding.subject,
                "severity": finding.severity,
                "statement": finding_text(finding),
                "message": "" if was is None else finding_text(was),
                "before": None if was is None else was.verdict,
                "now": finding.verdict,
            }
        )
    return {
        "machine": {
            "name": signed.facts.name,
            "system": signed.facts.system,
            "identity": signed.facts.identity,
            "clock": f"{signed.facts.now:%Y-%m-%d %H:%M}",
        },
        "baseline": {"title": signed.baseline.title, "digest": signed.baseline.digest},
        "by": signed.by,
        "at": signed.at,
        "tool": signed.tool,
        "interrupted": signed.facts.interrupted,
        "summary": _summary(signed),
        "verdict": f"{signed.now.tally}{_tried(signed.tests)}.",
        "before": plain(signed.before.tally) if signed.before else None,
        "no_before": signed.no_before,
        "now": plain(signed.now.tally),
        "left": lines["left"],
        "changed": lines["changed"],
        "met": lines["met"],
        "not_applicable": lines["not_applicable"],
        "manual": _left(signed, waits=False),
        "later": _left(signed, waits=True),
        "waivers": [waiver for finding in signed.now.findings for waiver in _waivers(finding)],
        "tests": trials_data(signed.tests),
        "entries": [entry_data(entry, running=False) for entry in signed.entries],
    }


def _left(signed: Signed, *, waits: bool) -> list[ManualStepData]:
    return [{"subject": item.subject, "advice": item.advice} for item in signed.manual if item.waits is waits]


def _summary(signed: Signed) -> list[str]:
    """Return the summary: before, now, and what is left for whom."""
    before = signed.before.tally if signed.before else f"not known: {signed.no_before}"
    now = signed.now.tally
    manual = list(dict.fromkeys(item.subject for item in signed.manual if not item.waits))
    not_met = [f for f in signed.now.findings if f.verdict in (Verdict.NOT_MET, Verdict.UNKNOWN)]
    later = list(dict.fromkeys(item.subject for item in signed.manual if item.waits))
    steps = [f.subject for f in not_met if f.subject not in (*manual, *later)]
    parts = [f"{signed.by} runs verrou harden for {name_list(steps)}"] if steps else []
    parts += [f"manual steps, listed below: {name_list(manual)}"] if manual else []
    parts += [f"takes effect later: {name_list(later)}"] if later else []
    waived = [f.waiver for f in signed.now.findings if f.waiver is not None]
    parts += [f"{len(waived)} waived by {joined(sorted({waiver.by for waiver in waived}))}"] if waived else []
    return [f"Before: {before}.", f"Now: {now}.", f"Remaining: {'; '.join(parts) or 'nothing'}."]


def _tried(trials: Sequence[TrialResult]) -> str:
    counted = {proof: sum(trial.result is proof for trial in trials) for proof in Result}
    message = ", ".join(f"{n} {proof}" for proof, n in counted.items() if n)
    return f"; tests: {message}" if message else ""


def _waivers(finding: Finding) -> list[SignedWaiver]:
    given = ((finding.waiver, False), (finding.lapsed, True))
    return [
        {"rule": finding.subject, "reason": w.reason, "by": w.by, "until": w.until, "lapsed": lapsed}
        for w, lapsed in given
        if w is not None
    ]


def as_html(data: SignOffData) -> str:
    """Return the sheet as a page: one file that loads nothing, with the figure where Matplotlib is installed."""
    from verrou.reports.figures import severities
    from verrou.reports.pages import page, trusted

    figure, missing = None, ""
    try:
        figure = trusted(severities(data["before"], data["now"]))
    except BadInput as reason:
        missing = f"No picture: {reason}."
    return page("sign_off.html", sheet=data, figure=figure, no_figure=missing, **_sides(data))


def as_markdown(data: SignOffData) -> str:
    """Return the same as Markdown."""
    from verrou.reports.pages import page

    return page("sign_off.md", sheet=data, **_sides(data))


def _sides(data: SignOffData) -> dict[str, Any]:
    sides = [{"name": "before", "counts": data["before"]}] if data["before"] else []
    return {"counted": MARKS, "sides": [*sides, {"name": "now", "counts": data["now"]}]}


def as_junit(data: SignOffData) -> str:
    """Return the findings and tests as JUnit XML test cases.

    What is not met is a failure, what could not be read an error, what is waived or not applicable is skipped."""
    from xml.etree import ElementTree

    suites = ElementTree.Element("testsuites")
    findings = [*data["left"], *data["changed"], *data["met"], *data["not_applicable"]]
    _suite(suites, data, "findings", [(line["subject"], line["statement"], *_case(line)) for line in findings])
    _suite(
        suites, data, "tests", [(t["rule"], f"{t['test']}: {t['seen']}", *TRIED[t["result"]]) for t in data["tests"]]
    )
    ElementTree.indent(suites)
    return ElementTree.tostring(suites, encoding="unicode", xml_declaration=False) + "\n"


ENDED: Mapping[Verdict, str] = {
    Verdict.NOT_MET: "failure",
    Verdict.UNKNOWN: "error",
    Verdict.WAIVED: "skipped",
    Verdict.NOT_APPLICABLE: "skipped",
    Verdict.MET: "",
}
TRIED: Mapping[Result, tuple[str, str]] = {
    Result.PASSED: ("", ""),
    Result.FAILED: ("failure", "failed"),
    Result.NOT_RUN: ("skipped", "not-run"),
}


def _case(line: LineData) -> tuple[str, str]:
    return ENDED[line["now"]], str(line["severity"] if line["now"] is Verdict.NOT_MET else line["now"])


def _suite(suites: Any, data: SignOffData, name: str, cases: Sequence[tuple[str, str, str, str]]) -> None:
    from xml.etree import ElementTree

    ended = [case[2] for case in cases]
    counted = {
        f"{word}s" if word != "skipped" else word: str(ended.count(word)) for word in ("failure", "error", "skipped")
    }
    suite = ElementTree.SubElement(
        suites,
        "testsuite",
        {
            "name": shown(f"{data['baseline']['title']}: {name}"),
            "hostname": shown(data["machine"]["name"]),
            "timestamp": data["at"].replace(" ", "T"),
            "time": "0",
            "tests": str(len(cases)),
            **counted,
        },
    )
    for subject, statement, outcome, kind in cases:
        case = ElementTree.SubElement(
            suite, "testcase", {"classname": f"verrou.{name}", "name": shown(subject), "time": "0"}
        )
        if outcome:
            text = {"message": shown(statement)} | ({"type": kind} if outcome != "skipped" else {})
            ElementTree.SubElement(case, outcome, text)


WRITTEN = {".html": as_html, ".md": as_markdown, ".json": as_json, ".xml": as_junit}
"""How a sheet is written, by the end of the file's name."""
