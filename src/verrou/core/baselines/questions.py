"""Questions about a computer, and the baseline that the answers select: an included one, and what is stricter."""

from collections.abc import Mapping, Sequence

from attrs import frozen

from verrou.core.baselines.baseline import Baseline
from verrou.core.baselines.toml_text import comment, key, value
from verrou.core.rules import CATALOGUE, Rule
from verrou.core.values import Value


@frozen(repr=False)
class AnswerOption:
    """One answer: its words, what it builds on or requires beyond that, and why."""

    words: str
    builds_on: str = ""
    asks: Mapping[str, object] = {}
    reason: str = ""


@frozen(repr=False)
class Question:
    """One question with its answers by keyword."""

    asks: str
    answers: Mapping[str, AnswerOption]


QUESTIONS: Mapping[str, Question] = {
    "used_by": Question(
        "Who uses this computer?",
        {
            "named": AnswerOption("one or two named people, in an office", builds_on="office"),
            "shifts": AnswerOption("several named people in turn", builds_on="shared-desk"),
            "public": AnswerOption("strangers", builds_on="public-terminal"),
            "unknown": AnswerOption("not decided yet", builds_on="essential"),
        },
    ),
    "watched": Question(
        "Who can see the screen while someone uses it?",
        {
            "always": AnswerOption("staff, all day"),
            "sometimes": AnswerOption(
                "staff, now and then",
                asks={"screen.locks_after": "10 minutes", "lockout.lasts": "45 minutes"},
                reason="perhaps no one sees who uses it",
            ),
            "never": AnswerOption(
                "no one",
                asks={
                    "screen.locks_after": "5 minutes",
                    "lockout.after": 5,
                    "lockout.lasts": "2 hours",
                    "lockout.forget_after": "2 hours",
                    "population.hints": "forbidden",
                },
                reason="no one sees who guesses",
            ),
        },
    ),
    "shared_by": Question(
        "How many people share it in a year?",
        {
            "1-2": AnswerOption("one or two"),
            "3-10": AnswerOption(
                "three to ten",
                asks={"population.unused_for": "180 days", "population.expired_accounts": "disabled"},
                reason="some of them leave within the year",
            ),
            "more": AnswerOption(
                "more than ten",
                asks={
                    "population.unused_for": "90 days",
                    "population.expired_accounts": "disabled",
                    "population.temporary_limit": "180 days",
                    "screen.shows_last_account": False,
                },
                reason="most of them leave within the year",
            ),
        },
    ),
}


def written(title: str, answers: Mapping[str, str], administrators: Sequence[str], base: Baseline) -> str:
    """Return the text of a baseline.

    ``answers`` are keywords by question; ``base`` is the baseline that the first answer builds on. What it requires
    already, or more strictly, is inherited from it."""
    chosen = {name: question.answers[answers[name]] for name, question in QUESTIONS.items()}
    builds_on = next(answer.builds_on for answer in chosen.values() if answer.builds_on)
    text = "".join(
        comment(f"{question.asks} {chosen[name].words.capitalize()}.") for name, question in QUESTIONS.items()
    )
    text += f"\n[baseline]\ntitle     = {value(title)}\nbuilds_on = {value([builds_on])}\n"
    families: dict[str, str] = {}
    for answer in chosen.values():
        for rule_id, raw in answer.asks.items():
            rule = CATALOGUE[rule_id]
            if not _beyond(rule, rule.kind.parse(raw), base):
                continue
            line = f"{key(*rule.key.split('.'))} = {value({'value': raw, 'reason': answer.reason})}\n"
            families[rule.family] = families.get(rule.family, "") + line
    if administrators:
        named = {"only": list(administrators), "reason": "only the named administrators have these rights"}
        families["population"] = families.get("population", "") + f"administrators = {value(named)}\n"
    text += "".join(f"\n[{family}]\n{lines}" for family, lines in families.items())
    return text + "\n" + comment(LEFT_TO_WRITE)


def _beyond(rule: Rule, required: Value, base: Baseline) -> bool:
    """Return whether a value is stricter than all that a baseline requires."""
    below = base.requirements.get(rule.id)
    asked = [] if below is None else below.desired.candidates(rule)
    return all(rule.kind.at_least(required, each) and required != each for each in asked)


LEFT_TO_WRITE = """You can add: accounts and groups that the computer should have, and waivers.

[accounts.daypass]
role     = "guest"
password = "blank"
routes   = ["console"]

[[waiver]]
rule    = "screen.attention_key"
machine = "hide-01"
reason  = "why this one need not be met"
by      = "who decided it"
until   = 2027-06-30"""
