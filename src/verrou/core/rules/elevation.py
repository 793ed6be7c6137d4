"""What is required before a program is elevated, of which account, and for which programs."""

import math
from collections.abc import Mapping

from attrs import frozen

from verrou.core.model.facts import Effect
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Rule
from verrou.core.values import Choice, Span, Value, YesNo

PRESET = "preset"
"""The key of a baseline's family that names one of :data:`PRESETS`."""
GIVES = Choice(("nothing", "approval", "password"))


def _gives(who: str, *, several: bool) -> dict[Value | None, str]:
    s = "" if several else "s"
    return {
        "nothing": f"{who} can change the machine without a prompt",
        "approval": f"{who} confirm{s} each change to the machine",
        "password": f"{who} enter{s} a password before changing the machine",
    }


RULES = (
    Rule(
        id="elevation.administrator_gives",
        title="what an administrator is asked for before a change to the machine",
        statement=_gives("administrators", several=True),
        kind=GIVES,
        severity=Severity.HIGH,
        why_severe="without a prompt, every program an administrator opens can change the whole machine",
        takes_effect=Effect.NOW,
        protects=(
            "A program opened by mistake, such as a mail attachment, cannot change the machine "
            "unnoticed; with a password, nor can someone who finds the session open."
        ),
        costs="One prompt for each change. If prompts are frequent, people confirm without reading.",
        controls=("AC-6", "IA-11"),
    ),
    Rule(
        id="elevation.builtin_gives",
        title="what the built-in administrator is asked for before a change to the machine",
        statement=_gives("the built-in administrator", several=False),
        kind=GIVES,
        severity=Severity.LOW,
        why_severe=("it matters only while that account is in use; then every program it opens has full rights"),
        takes_effect=Effect.NOW,
        protects="The same protection for the built-in account.",
        costs="Repairs done with that account bring more prompts.",
        controls=("AC-6", "IA-11"),
    ),
    Rule(
        id="elevation.standard_gives",
        title="what happens when a standard user tries to elevate",
        statement={
            "denied": "standard users cannot elevate",
            "admin-password": "standard users can elevate with an administrator's password",
        },
        kind=Choice(("admin-password", "denied")),
        severity=Severity.LOW,
        why_severe="an administrator's password typed in another user's session can be captured there",
        takes_effect=Effect.NOW,
        protects="No administrator types a password in a session that another program may be watching.",
        costs="With denied, an administrator has to sign in for every small task.",
        controls=("AC-6(10)",),
    ),
    Rule(
        id="elevation.system_parts",
        title="whether the system's own tools prompt too",
        statement={
            "pass": "the system's own tools elevate without a prompt",
            "ask": "the system's own tools prompt like any other program",
        },
        kind=Choice(("pass", "ask")),
        severity=Severity.MEDIUM,
        why_severe="a program can use a system tool to do what it may not do itself",
        takes_effect=Effect.NOW,
        protects="No program can bypass the prompt through a system tool.",
        costs="Opening the system settings brings a prompt each time.",
        controls=("AC-6",),
    ),
    Rule(
        id="elevation.installers",
        title="what happens when an installer needs elevation",
        statement={
            "ask": "an installer that needs elevation prompts for it",
            "fail": "an installer that needs elevation fails",
        },
        kind=Choice(("ask", "fail")),
        severity=Severity.LOW,
        why_severe="anyone who can answer the prompt can install anything",
        takes_effect=Effect.NOW,
        protects="Where software is installed centrally, nothing else is installed.",
        costs=(
            "With fail, the rule has to be relaxed for new programs and some updates; the installer "
            "hardly says why it failed."
        ),
        controls=("CM-11",),
    ),
    Rule(
        id="elevation.unsigned_programs",
        title="what happens when an unsigned program needs elevation",
        statement={
            "ask": "unsigned programs prompt like any other program",
            "denied": "unsigned programs cannot elevate",
        },
        kind=Choice(("ask", "denied")),
        severity=Severity.LOW,
        why_severe="the prompt does not show where an unsigned program comes from",
        takes_effect=Effect.NOW,
        protects="No one can be persuaded to elevate a program of unknown origin.",
        costs=("Older tools and those of small vendors are often unsigned; they stop working for administrators."),
        controls=("CM-14",),
    ),
    Rule(
        id="elevation.prompt_apart",
        title="whether the prompt is isolated from other programs",
        statement={
            True: "the prompt is isolated from other programs",
            False: "the prompt is an ordinary window that other programs can reach",
        },
        asks={True: "required: isolated", False: "required: ordinary window"},
        kind=YesNo(stricter=True),
        severity=Severity.MEDIUM,
        why_severe="a program that can reach the prompt can answer it, or imitate it",
        takes_effect=Effect.RESTART,
        protects="The prompt comes from the system, and the answer from a person.",
        costs=(
            "The prompt takes over the screen. It can disturb a program that draws over the whole "
            "screen, or assistive technology; test it first."
        ),
        controls=("AC-6", "SC-11"),
    ),
    Rule(
        id="elevation.helpers_reach_prompt",
        title="whether remote support programs can reach the isolated prompt",
        statement={
            True: "remote support programs can reach the isolated prompt",
            False: "remote support programs cannot reach the prompt",
        },
        asks={True: "required: allowed", False: "required: not allowed"},
        kind=YesNo(stricter=False),
        severity=Severity.LOW,
        why_severe=("what lets a supporter answer also lets in anyone who takes over the supporter's connection"),
        takes_effect=Effect.RESTART,
        protects="Only a person at the machine can answer the prompt.",
        costs="A remote supporter cannot answer, and has to guide the user.",
        controls=("AC-17", "SC-11"),
    ),
    Rule(
        id="elevation.remembered_for",
        title="how long an answer to the prompt remains valid",
        asks={"never": "required: a prompt every time", None: "required: at most {}"},
        statement={"never": "every elevation prompts again", None: "an answer remains valid for {}"},
        kind=Span("minute", 1, 24 * 60, more_is_stricter=False, words={"never": 0.0}),
        severity=Severity.MEDIUM,
        why_severe="while an answer is valid, anyone at the keyboard has the elevated rights",
        takes_effect=Effect.NOW,
        protects="A session left for a moment does not hand out administrator rights.",
        costs="With never, a repair in ten steps prompts ten times.",
        controls=("IA-11",),
    ),
    Rule(
        id="elevation.unanswered_after",
        title="when an unanswered prompt times out",
        statement={"never": "an unanswered prompt never times out", None: "an unanswered prompt times out after {}"},
        kind=Span("second", 10, 24 * 60 * 60, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.LOW,
        why_severe="a prompt left open can be answered by anyone who passes",
        takes_effect=Effect.NOW,
        protects="No one can answer a prompt meant for someone else.",
        costs="A user who has to look up a password may be too slow.",
        controls=("AC-12",),
    ),
)


@frozen
class Preset:
    """A set of values for the whole family, as a baseline file writes them, with its purpose and its cost."""

    reason: str
    gives_up: str
    values: Mapping[str, str | bool]


def _preset(reason: str, gives_up: str, **values: str | bool) -> Preset:
    return Preset(reason, gives_up, {f"elevation.{key}": value for key, value in values.items()})


PRESETS: Mapping[str, Preset] = {
    "password-each-time": _preset(
        "administrators prove each change themselves",
        "only time: every elevation asks for a password, and installers fail",
        administrator_gives="password",
        builtin_gives="password",
        standard_gives="denied",
        system_parts="ask",
        installers="fail",
        unsigned_programs="denied",
        prompt_apart=True,
        helpers_reach_prompt=False,
        remembered_for="never",
        unanswered_after="1 minute",
    ),
    "password-for-minutes": _preset(
        "one password starts a few minutes of work",
        "for some minutes after an answer, anyone at the keyboard has the rights too",
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
    "confirm-only": _preset(
        "the user sees what asks for elevation",
        "a click is enough, so an open session can be misused",
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
    "no-prompt": _preset(
        "administrators are never interrupted",
        "every program an administrator opens can change the whole machine, unnoticed",
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
