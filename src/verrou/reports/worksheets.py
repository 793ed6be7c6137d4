"""Worksheets and what became of them as sheets."""

from collections.abc import Sequence

from verrou.core.model import Snapshot
from verrou.core.plan.steps import SetRules, Step, TrySignIn
from verrou.core.plan.worksheet import ChangePlan
from verrou.core.rules import CATALOGUE, reading_of, value_now
from verrou.machines import Outcome, RestoreResult, StepResult
from verrou.reports.sheets import BAD, GOOD, QUIET, Table, columns_of

STYLES = {Outcome.DONE: GOOD, Outcome.UNCHANGED: QUIET, Outcome.REJECTED: BAD, Outcome.UNDONE: GOOD}


def worksheet_sheet(steps: Sequence[tuple[Step, StepResult]], snapshot: Snapshot, *, rehearsed: bool) -> Table:
    """The steps in order, with what the machine answered to each on the private copy; what sets rules also says what
    each is now."""
    rows = [
        {
            "step": number,
            "dry_run": str(result.outcome),
            "takes_effect": "" if isinstance(step, TrySignIn) else str(step.effect),
            "what": step.what,
            "change": _does(step, snapshot),
            "why": "; ".join(filter(None, (_reason(step), step.concerns, _answer(result)))),
        }
        for number, (step, result) in enumerate(steps, start=1)
    ]
    columns = columns_of(
        ("step", "step"),
        ("dry_run", "dry run"),
        ("takes_effect", "takes effect"),
        ("change", "change"),
        whole=("dry_run", "takes_effect"),
        hidden=() if rehearsed else ("dry_run",),
        under={"change": "why"},
        listed=("change",),
    )
    styles = {i: STYLES[result.outcome] for i, (_, result) in enumerate(steps) if result.outcome is not Outcome.DONE}
    return Table("steps", columns, tuple(rows), styles)


def _answer(result: StepResult) -> str:
    if result.outcome is Outcome.REJECTED:
        return f"would be rejected: {result.said}"
    return "no change needed" if result.outcome is Outcome.UNCHANGED and not result.said else result.said


def _reason(step: Step) -> str:
    """The reason in words, or else what the step is for."""
    return step.why or (f"for {', '.join(step.closes)}" if step.closes and not isinstance(step, SetRules) else "")


def _does(step: Step, snapshot: Snapshot) -> list[str] | str:
    if not isinstance(step, SetRules):
        return step.what
    lines, same = [], []
    for each in step.settings:
        rule = CATALOGUE[each.rule_id]
        now, coming = value_now(rule, reading_of(rule, snapshot)), each.kind.say(each.value)
        if now == coming:
            same.append(f"{each.rule_id}: no change ({coming})")
        else:
            lines.append(f"{each.rule_id}: {now} → {coming}")
    if len(lines) + len(same) == 1:
        return f"set {(lines or same)[0]}"
    return ["set together", *(f"  {line}" for line in (*lines, *same))]


def manual_sheet(worksheet: ChangePlan, *, waits: bool = False) -> Table:
    """The manual steps, or what only waits to take effect: each advice once, with all that it is about."""
    subjects: dict[str, list[str]] = {}
    for item in (each for each in worksheet.manual if each.waits is waits):
        subjects.setdefault(item.advice, []).append(item.subject)
    rows = tuple({"subject": about, "advice": advice} for advice, about in subjects.items())
    heads = ("takes effect later", "when") if waits else ("manual step", "action")
    columns = columns_of(("subject", heads[0]), ("advice", heads[1]), whole=("subject",), listed=("subject",))
    return Table("manual", columns, rows)


def results_sheet(steps: Sequence[tuple[Step, StepResult]]) -> Table:
    """What became of each step, a line each."""
    rows = []
    for number, (step, result) in enumerate(steps, start=1):
        lasting = result.outcome is Outcome.DONE and not isinstance(step, TrySignIn)
        when = f"takes effect: {step.effect}" if lasting else ""
        row = {
            "outcome": f"{number:>3}  {result.outcome:<7}",
            "what": step.what,
            "said": "; ".join(filter(None, (result.said, when))),
        }
        rows.append(row)
    columns = columns_of(("outcome", ""), ("what", ""), whole=("outcome",), under={"what": "said"})
    return Table("results", columns, tuple(rows), {i: STYLES[r.outcome] for i, (_, r) in enumerate(steps)})


def put_back_sheet(items: Sequence[RestoreResult]) -> Table:
    """What comes of each place that an undo goes back over; what is as it was already is left out."""
    told = [item for item in items if item.outcome is not Outcome.UNCHANGED or item.said]
    rows = tuple({"outcome": str(item.outcome), "place": item.place, "said": item.said} for item in told)
    styles = {i: STYLES[item.outcome] for i, item in enumerate(told)}
    return Table(
        "undo",
        columns_of(("outcome", "dry run"), ("place", "place"), whole=("outcome",), under={"place": "said"}),
        rows,
        styles,
    )
