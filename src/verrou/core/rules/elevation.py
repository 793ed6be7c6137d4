"""What is required before a program is elevated, of which account, and for which programs."""

import math
from collections.abc import Mapping

from attrs import frozen

from verrou.core.model.facts import Effect
from verrou.core.model.programs import Program
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Rule
from verrou.core.values import CommandRights, Commands, Span, Table, Value, YesNo

PRESET = "preset"
"""The key of a baseline's family that names one of :data:`PRESETS`."""
GIVES = Table(
    rows={
        Program.SYSTEM: "the system's own programs",
        Program.SIGNED: "signed programs",
        Program.UNSIGNED: "unsigned programs",
        Program.INSTALLER: "installers",
        Program.REMOTE_HELP: "remote help",
    },
    options=("nothing", "approval", "password", "admin-password", "denied"),
)
"""What has to be given before a program of each kind is elevated; ``password`` is the account's own."""


def _statement(who: str) -> dict[Value | None, str]:
    sentences = {
        "nothing": f"{who} can elevate any program without a prompt",
        "approval": f"{who} confirm the prompt before a program is elevated",
        "password": f"{who} enter their own password before a program is elevated",
        "admin-password": f"{who} enter an administrator's password before a program is elevated",
        "denied": f"{who} cannot elevate programs",
    }
    return {
        **{GIVES.uniform(word): text for word, text in sentences.items()},
        None: f"to elevate a program, {who} give: {{}}",
    }


RULES = (
    Rule(
        id="elevation.administrator",
        title="what administrators give before a program of each kind is elevated",
        statement=_statement("administrators"),
        kind=GIVES,
        severity=Severity.HIGH,
        why_severe="without a prompt, every program an administrator opens can change the whole machine",
        takes_effect=Effect.NOW,
        protects=(
            "A program opened by mistake, such as a mail attachment, cannot change the machine "
            "unnoticed; with a password, nor can someone who finds the session open. Denied for "
            "unsigned programs, no one can be persuaded to elevate a program of unknown origin."
        ),
        costs=(
            "One prompt for each change. If prompts are frequent, people confirm without reading. Older "
            "tools and those of small vendors are often unsigned; where they are denied, they stop working."
        ),
        controls=("AC-6", "IA-11", "CM-14"),
    ),
    Rule(
        id="elevation.builtin",
        title="what the built-in administrator gives before a program of each kind is elevated",
        statement=_statement("users of the built-in administrator"),
        kind=GIVES,
        severity=Severity.LOW,
        why_severe="it matters only while that account is in use; then every program it opens has full rights",
        takes_effect=Effect.NOW,
        protects="The same protection for the built-in account.",
        costs="Repairs done with that account bring more prompts.",
        controls=("AC-6", "IA-11"),
    ),
    Rule(
        id="elevation.standard",
        title="what standard users give before a program of each kind is elevated",
        statement=_statement("standard users"),
        kind=GIVES,
        severity=Severity.LOW,
        why_severe="an administrator's password typed in another user's session can be captured there",
        takes_effect=Effect.NOW,
        protects="No administrator types a password in a session that another program may be watching.",
        costs="With denied, an administrator has to sign in for every small task.",
        controls=("AC-6(10)",),
    ),
    Rule(
        id="elevation.guest",
        title="what guests give before a program of each kind is elevated",
        statement=_statement("guests"),
        kind=GIVES,
        severity=Severity.MEDIUM,
        why_severe="anyone can use a guest's session, and a program left in it can capture the password typed there",
        takes_effect=Effect.NOW,
        protects="No administrator's password is ever typed in a session that strangers use.",
        costs="An administrator has to sign in to help a guest.",
        controls=("AC-6(10)",),
    ),
    Rule(
        id="elevation.commands",
        title="who can run single commands as an administrator",
        statement={
            CommandRights(): "no one can run single commands as an administrator",
            None: "single commands are run as an administrator by: {}",
        },
        kind=Commands(),
        severity=Severity.MEDIUM,
        why_severe="a command with administrator rights that can start another program gives all of them",
        takes_effect=Effect.NOW,
        protects="Someone who has to restart one service does not need to be an administrator.",
        costs="Each command must be listed with its arguments; another spelling is denied.",
        controls=("AC-6",),
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


Written = str | bool | dict[str, str]
"""A value as a baseline file writes it."""


@frozen(repr=False)
class Preset:
    """A set of values for the whole family, as a baseline file writes them, with its purpose and its cost."""

    reason: str
    gives_up: str
    values: Mapping[str, Written]


def _preset(reason: str, gives_up: str, **values: Written) -> Preset:
    return Preset(reason, gives_up, {f"elevation.{key}": value for key, value in values.items()})


PRESETS: Mapping[str, Preset] = {
    "password-each-time": _preset(
        "administrators prove each change themselves",
        "only time: every elevation asks for a password",
        administrator="password",
        builtin="password",
        standard="denied",
        guest="denied",
        prompt_apart=True,
        helpers_reach_prompt=False,
        remembered_for="never",
        unanswered_after="1 minute",
    ),
    "password-for-minutes": _preset(
        "one password starts a few minutes of work",
        "for some minutes after an answer, anyone at the keyboard has the rights too",
        administrator="password",
        builtin="password",
        standard="admin-password",
        guest="denied",
        prompt_apart=True,
        helpers_reach_prompt=False,
        remembered_for="5 minutes",
        unanswered_after="2 minutes",
    ),
    "confirm-only": _preset(
        "the user sees what asks for elevation",
        "a click is enough, so an open session can be misused",
        administrator={"all": "approval", "system": "nothing"},
        builtin={"all": "approval", "system": "nothing"},
        standard="admin-password",
        guest="denied",
        prompt_apart=False,
        helpers_reach_prompt=True,
        remembered_for="15 minutes",
        unanswered_after="5 minutes",
    ),
    "no-prompt": _preset(
        "administrators are never interrupted",
        "every program an administrator opens can change the whole machine, unnoticed",
        administrator="nothing",
        builtin="nothing",
        standard="admin-password",
        guest="denied",
        prompt_apart=False,
        helpers_reach_prompt=True,
        remembered_for="1 hour",
        unanswered_after="never",
    ),
}
"""From the one that asks most to the one that asks nothing."""
