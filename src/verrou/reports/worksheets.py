"""Worksheets and what became of them as sheets."""

from collections.abc import Sequence

from verrou.core.model import Posture
from verrou.core.plan import Worksheet
from verrou.core.rules import CATALOGUE, reading_of, value_now
from verrou.core.steps import SetRules, Step, TrySignIn
from verrou.machines import Outcome, PutBack, StepResult
from verrou.reports.sheets import BAD, GOOD, QUIET, Sheet, columns_of


def worksheet_sheet(steps: Sequence[Step], posture: Posture) -> Sheet:
    """The steps in order; what sets rules also says what each is now."""
    rows = [
        {
            "step": number,
            "what": step.what,
            "does": _does(step, posture),
            "why": "; ".join(filter(None, (_reason(step), step.concerns))),
            "takes_effect": "" if isinstance(step, TrySignIn) else str(step.effect),
        }
        for number, step in enumerate(steps, start=1)
    ]
    columns = columns_of(
        ("step", "step"),
        ("takes_effect", "takes effect"),
        ("does", "does"),
        whole=("takes_effect",),
        under={"does": "why"},
        listed=("does",),
    )
    return Sheet("steps", columns, tuple(rows))


_SUBJECT_TABLES = {rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"}


def _reason(step: Step) -> str:
    return f"for {step.why}" if step.why.partition(".")[0] in _SUBJECT_TABLES else step.why


def _does(step: Step, posture: Posture) -> list[str] | str:
    if not isinstance(step, SetRules):
        return step.what
    lines = [
        f"{rule.id}: {value_now(rule, reading_of(rule, posture))} → {rule.kind.say(value)}"
        for rule, value in step.rules
    ]
    return ["set together", *lines] if len(lines) > 1 else f"set {lines[0]}"


def by_hand_sheet(worksheet: Worksheet) -> Sheet:
    """What is left for a person."""
    rows = [{"subject": item.subject, "advice": item.advice} for item in worksheet.by_hand]
    return Sheet(
        "by_hand", columns_of(("subject", "left by hand"), ("advice", "what to do"), whole=("subject",)), tuple(rows)
    )


def results_sheet(number: int, step: Step, result: StepResult) -> Sheet:
    """One line for a step that was done."""
    style = {Outcome.DONE: GOOD, Outcome.ALREADY: QUIET, Outcome.REFUSED: BAD, Outcome.UNDONE: GOOD}[result.outcome]
    lasting = result.outcome is Outcome.DONE and not isinstance(step, TrySignIn)
    when = f"takes effect: {step.effect}" if lasting else ""
    row = {
        "outcome": f"{number:>3}  {result.outcome:<7}",
        "what": step.what,
        "said": "; ".join(filter(None, (result.said, when))),
    }
    columns = columns_of(("outcome", ""), ("what", ""), whole=("outcome",), under={"what": "said"})
    return Sheet("results", columns, (row,), {0: style})


def put_back_sheet(items: Sequence[PutBack]) -> Sheet:
    """What became of each thing that an undo put back."""
    rows = tuple({"outcome": str(item.outcome), "item": item.item, "said": item.said} for item in items)
    styles = {i: BAD if item.outcome is Outcome.REFUSED else GOOD for i, item in enumerate(items)}
    return Sheet(
        "undo", columns_of(("outcome", ""), ("item", ""), whole=("outcome",), under={"item": "said"}), rows, styles
    )
