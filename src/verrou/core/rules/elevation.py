"""What has to be given before administration is used, by whom, and for which programs."""

import math
from collections.abc import Mapping

from attrs import frozen

from verrou.core.model.facts import Effect
from verrou.core.rules.declaration import Rule, Severity
from verrou.core.values import Choice, Span, Value, YesNo

CHOICE = "choice"
"""The key of a baseline's family that names one of :data:`CHOICES`."""
GIVES = Choice(("nothing", "approval", "password"))


def _gives(who: str) -> dict[Value | None, str]:
    return {
        "nothing": f"{who} is asked nothing before changing the machine",
        "approval": f"{who} approves with a click before changing the machine",
        "password": f"{who} gives a password before changing the machine",
    }


RULES = (
    Rule(
        id="elevation.administrator_gives",
        title="what an administrator gives before using administration",
        says=_gives("an administrator"),
        kind=GIVES,
        severity=Severity.GRAVE,
        why_severe="with nothing to give, every program that an administrator opens may change the whole machine",
        takes_effect=Effect.NOW,
        protects="A program that an administrator opens, a mail's attachment say, does not get the whole machine "
        "unseen; with a password, nor does whoever sits down at a session that was left open.",
        costs="A question each time. Asked too often, people stop reading it and say yes.",
        controls=("AC-6", "IA-11"),
    ),
    Rule(
        id="elevation.builtin_gives",
        title="what the built-in administrator gives before using administration",
        says=_gives("the built-in administrator"),
        kind=GIVES,
        severity=Severity.SLIGHT,
        why_severe="it matters only while that account is used; then all that it opens has all rights",
        takes_effect=Effect.NOW,
        protects="The same, for the account that came with the system.",
        costs="Repairs that are done as that account ask more often.",
        controls=("AC-6", "IA-11"),
    ),
    Rule(
        id="elevation.standard_gives",
        title="what a standard user meets who wants administration",
        says={
            "refused": "a standard user who wants administration is refused",
            "admin-password": "a standard user who wants administration may give an administrator's password",
        },
        kind=Choice(("admin-password", "refused")),
        severity=Severity.SLIGHT,
        why_severe="an administrator's password that is typed into somebody else's session can be watched there",
        takes_effect=Effect.NOW,
        protects="Nobody types an administrator's password into a session that another program may be watching.",
        costs="With refused, an administrator signs in with an account of their own for each small thing.",
        controls=("AC-6(10)",),
    ),
    Rule(
        id="elevation.system_parts",
        title="whether parts of the system itself ask an administrator too",
        says={
            "pass": "parts of the system itself change it without asking an administrator",
            "ask": "parts of the system itself ask an administrator like any other program",
        },
        kind=Choice(("pass", "ask")),
        severity=Severity.SERIOUS,
        why_severe="a program can have a part of the system do what it may not do itself",
        takes_effect=Effect.NOW,
        protects="No program gets round the question by way of the system's own tools.",
        costs="Opening the system's own settings asks each time, too.",
        controls=("AC-6",),
    ),
    Rule(
        id="elevation.installers",
        title="what an installer meets that needs rights",
        says={
            "ask": "an installer that needs rights is recognised and asks for them",
            "fail": "an installer that needs rights fails",
        },
        kind=Choice(("ask", "fail")),
        severity=Severity.SLIGHT,
        why_severe="whoever may answer the question installs what they like",
        takes_effect=Effect.NOW,
        protects="On a machine whose programs are put on by somebody who is meant to, nothing else is installed.",
        costs="With fail, every new program and some updates need the rule loosened first; the installer says little "
        "about why it failed.",
        controls=("CM-11",),
    ),
    Rule(
        id="elevation.unsigned_programs",
        title="what a program meets that nobody vouches for",
        says={
            "ask": "a program that nobody vouches for asks like any other",
            "refused": "a program that nobody vouches for never gets administration",
        },
        kind=Choice(("ask", "refused")),
        severity=Severity.SLIGHT,
        why_severe="the question does not tell where a program comes from that nobody vouches for",
        takes_effect=Effect.NOW,
        protects="Nobody can be talked into giving the machine to a program of unknown origin.",
        costs="Older tools and those of small makers are often unsigned; they stop working for administrators.",
        controls=("CM-14",),
    ),
    Rule(
        id="elevation.prompt_apart",
        title="the question stands where no other program can see or answer it",
        says={True: "the question stands apart from all programs", False: "the question stands among other programs"},
        asks={True: "it should stand apart, where no program sees or answers it", False: "it may stand among them"},
        kind=YesNo(stricter=True),
        severity=Severity.SERIOUS,
        why_severe="a program that sees the question can answer it, or show one of its own",
        takes_effect=Effect.RESTART,
        protects="What is asked comes from the system, and what is answered comes from a person.",
        costs="The screen is taken over for the question. It can break a rare program that draws over everything, or "
        "help for people who use a reader or a switch; try it first.",
        controls=("AC-6", "SC-11"),
    ),
    Rule(
        id="elevation.helpers_reach_prompt",
        title="programs for remote help may still reach that question",
        says={
            True: "programs for remote help reach the question although it stands apart",
            False: "no program for remote help reaches the question",
        },
        asks={True: "they may reach it", False: "they should not reach it"},
        kind=YesNo(stricter=False),
        severity=Severity.SLIGHT,
        why_severe="what lets a helper answer lets in whoever takes the helper's place",
        takes_effect=Effect.RESTART,
        protects="The question is answered by somebody who sits at the machine.",
        costs="Somebody who helps from afar cannot answer, and has to talk the other person through it.",
        controls=("AC-17", "SC-11"),
    ),
    Rule(
        id="elevation.remembered_for",
        title="how long one answer lasts",
        asks={"never": "each use should ask anew", None: "asked for: at most {}"},
        says={"never": "an answer is good for once", None: "an answer is remembered for {}"},
        kind=Span("minute", 1, 24 * 60, more_is_stricter=False, words={"never": 0.0}),
        severity=Severity.SERIOUS,
        why_severe="while an answer is remembered, whoever is at the keyboard has the rights that were asked for",
        takes_effect=Effect.NOW,
        protects="A session that was left for a moment does not give everything away.",
        costs="With never, a repair in ten steps asks ten times.",
        controls=("IA-11",),
    ),
    Rule(
        id="elevation.unanswered_after",
        title="when a question that nobody answers ends as refused",
        says={"never": "a question waits for ever", None: "a question that nobody answers is refused after {}"},
        kind=Span("second", 10, 24 * 60 * 60, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.SLIGHT,
        why_severe="a question that waits can be answered by whoever comes by",
        takes_effect=Effect.NOW,
        protects="Nobody finds a question that somebody else was asked.",
        costs="Whoever has to look a password up may be too slow.",
        controls=("AC-12",),
    ),
)


@frozen
class NamedChoice:
    """A set of values for the whole family, as a baseline file writes them: why somebody would want them, and what
    they give up."""

    because: str
    gives_up: str
    values: Mapping[str, str | bool]


def _choice(because: str, gives_up: str, **values: str | bool) -> NamedChoice:
    return NamedChoice(because, gives_up, {f"elevation.{key}": value for key, value in values.items()})


CHOICES: Mapping[str, NamedChoice] = {
    "prove-each-time": _choice(
        "every use of administration should be somebody's own act",
        "nothing but time: every use of administration asks for a password, and an installer fails",
        administrator_gives="password",
        builtin_gives="password",
        standard_gives="refused",
        system_parts="ask",
        installers="fail",
        unsigned_programs="refused",
        prompt_apart=True,
        helpers_reach_prompt=False,
        remembered_for="never",
        unanswered_after="1 minute",
    ),
    "prove-at-first": _choice(
        "a password begins the work, and some minutes of it follow without another question",
        "for some minutes after an answer, whoever is at the keyboard has the rights too",
        administrator_gives="password",
        builtin_gives="password",
        standard_gives="admin-password",
        system_parts="ask",
        installers="ask",
        unsigned_programs="ask",
        prompt_apart=True,
        helpers_reach_prompt=False,
        remembered_for="5 minutes",
        unanswered_after="2 minutes",
    ),
    "say-yes": _choice(
        "whoever is at the keyboard should see what wants administration",
        "a click is enough, so a session that was left open gives everything away",
        administrator_gives="approval",
        builtin_gives="approval",
        standard_gives="admin-password",
        system_parts="pass",
        installers="ask",
        unsigned_programs="ask",
        prompt_apart=False,
        helpers_reach_prompt=True,
        remembered_for="15 minutes",
        unanswered_after="5 minutes",
    ),
    "ask-nothing": _choice(
        "nothing should stand in the way of whoever administers",
        "every program that an administrator opens may change the whole machine, and nobody is told",
        administrator_gives="nothing",
        builtin_gives="nothing",
        standard_gives="admin-password",
        system_parts="pass",
        installers="ask",
        unsigned_programs="ask",
        prompt_apart=False,
        helpers_reach_prompt=True,
        remembered_for="1 hour",
        unanswered_after="never",
    ),
}
"""From the one that asks most to the one that asks nothing."""
