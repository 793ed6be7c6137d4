"""Tables of plans and their results."""

from collections.abc import Sequence

from verrou.core.model import Snapshot
from verrou.core.planning.change_plan import ChangePlan
from verrou.core.rules import CATALOGUE, reading_of, value_now
from verrou.core.steps.step import SetRules, Step, TrySignIn
from verrou.machines.changes import Outcome, RestoreResult, StepResult
from verrou.reports.tables import BAD, GOOD, QUIET, Table, columns_of

STYLES = {Outcome.DONE: GOOD, Outcome.UNCHANGED: QUIET, Outcome.REJECTED: BAD, Outcome.UNDONE: GOOD}


def plan_table(steps: Sequence[tuple[Step, StepResult]], snapshot: Snapshot, *, dry_run_made: bool) -> Table:
    """Return the steps in order with the result of the dry run; steps that set rules also show the present value."""
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
        hidden=() if dry_run_made else ("dry_run",),
        under={"change": "why"},
        listed=("change",),
    )
    styles = {i: STYLES[result.outcome] for i, (_, result) in enumerate(steps) if result.outcome is not Outcome.DONE}
    return Table("steps", columns, tuple(rows), styles)


def _answer(result: StepResult) -> str:
    if result.outcome is Outcome.REJECTED:
        return f"would be rejected: {result.message}"
    return "no change needed" if result.outcome is Outcome.UNCHANGED and not result.message else result.message


def _reason(step: Step) -> str:
    """Return the reason in words, or else what the step is for."""
    return step.why or (f"for {', '.join(step.closes)}" if step.closes and not isinstance(step, SetRules) else "")


def _does(step: Step, snapshot: Snapshot) -> list[str] | str:
    if not isinstance(step, SetRules):
        return step.what
    lines, same = [], []
    for each in step.settings:
        rule = CATALOGUE[each.rule_id]
        now, coming = value_now(rule, reading_of(rule, snapshot)), each.kind.format(each.value)
        if now == coming:
            same.append(f"{each.rule_id}: no change ({coming})")
        else:
            lines.append(f"{each.rule_id}: {now} → {coming}")
    if len(lines) + len(same) == 1:
        return f"set {(lines or same)[0]}"
    return ["set together", *(f"  {line}" for line in (*lines, *same))]


def manual_table(plan: ChangePlan, *, waits: bool = False) -> Table:
    """Return the manual steps, or those that only wait to take effect: each advice once, with all its subjects."""
    subjects: dict[str, list[str]] = {}
    for item in (each for each in plan.manual if each.waits is waits):
        subjects.setdefault(item.advice, []).append(item.subject)
    rows = tuple({"subject": about, "advice": advice} for advice, about in subjects.items())
    heads = ("takes effect later", "when") if waits else ("manual step", "action")
    columns = columns_of(("subject", heads[0]), ("advice", heads[1]), whole=("subject",), listed=("subject",))
    return Table("manual", columns, rows)


def results_table(steps: Sequence[tuple[Step, StepResult]]) -> Table:
    """Return the result of each step."""
    rows = []
    for number, (step, result) in enumerate(steps, start=1):
        lasting = result.outcome is Outcome.DONE and not isinstance(step, TrySignIn)
        when = f"takes effect: {step.effect}" if lasting else ""
        row = {
            "outcome": f"{number:>3}  {result.outcome:<7}",
            "what": step.what,
            "message": "; ".join(filter(None, (result.message, when))),
        }
        rows.append(row)
    columns = columns_of(("outcome", ""), ("what", ""), whole=("outcome",), under={"what": "message"})
    return Table("results", columns, tuple(rows), {i: STYLES[r.outcome] for i, (_, r) in enumerate(steps)})


def restored_table(items: Sequence[RestoreResult]) -> Table:
    """Return the result of each place that an undo restores, without those that are unchanged."""
    text = [item for item in items if item.outcome is not Outcome.UNCHANGED or item.message]
    rows = tuple({"outcome": str(item.outcome), "place": item.place, "message": item.message} for item in text)
    styles = {i: STYLES[item.outcome] for i, item in enumerate(text)}
    return Table(
        "undo",
        columns_of(("outcome", "dry run"), ("place", "place"), whole=("outcome",), under={"place": "message"}),
        rows,
        styles,
    )
