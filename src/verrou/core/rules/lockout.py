"""Rules about the lock after failed attempts."""

import math

from verrou.core.model import Effect
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Agreement, Rule
from verrou.core.values import Choice, Count, Span

RULES = (
    Rule(
        id="lockout.after",
        title="how many failed attempts lock an account",
        statement={"never": "failed attempts never lock an account", None: "an account is locked after {}"},
        kind=Count("failed attempts", 1, 1000, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.HIGH,
        why_severe="without it, a password can be guessed for as long as someone has the keyboard",
        takes_effect=Effect.NOW,
        protects="Someone alone with the machine cannot try one password after another.",
        costs=(
            "Users who mistype lock themselves out, and anyone can lock out someone else on purpose. "
            "Very low numbers cause more calls than they prevent attacks."
        ),
        controls=("AC-7",),
        set_with=("lockout.lasts", "lockout.forget_after", "lockout.exempts"),
    ),
    Rule(
        id="lockout.lasts",
        title="how long a lock lasts",
        statement={
            "until-unlocked": "a lock lasts until an administrator unlocks the account",
            None: "a lock lasts {}",
        },
        kind=Span("minute", 1, 365 * 24 * 60, more_is_stricter=True, words={"until-unlocked": math.inf}),
        severity=Severity.MEDIUM,
        why_severe="a short lock only slows guessing",
        takes_effect=Effect.NOW,
        protects="Guessing is cut to a few attempts an hour.",
        costs=(
            "The user waits, or an administrator has to come. With until-unlocked only an administrator "
            "can end a lock, so keep a second one."
        ),
        controls=("AC-7",),
        agreements=(Agreement(">=", "lockout.forget_after"),),
    ),
    Rule(
        id="lockout.forget_after",
        title="when failed attempts no longer count",
        statement="failed attempts no longer count after {}",
        kind=Span("minute", 1, 365 * 24 * 60, more_is_stricter=True),
        severity=Severity.LOW,
        why_severe="if attempts are forgotten soon, slow guessing never locks the account",
        takes_effect=Effect.NOW,
        protects="Slow guessing, one attempt every few minutes, still locks the account.",
        costs="Mistakes made in the morning still count at noon.",
        controls=("AC-7",),
    ),
    Rule(
        id="lockout.exempts",
        title="which account is never locked",
        statement={"built-in": "the built-in administrator is never locked", "nobody": "every account can be locked"},
        asks={"nobody": "required: no exemption", "built-in": "required: built-in administrator exempt"},
        kind=Choice(("built-in", "nobody")),
        severity=Severity.LOW,
        why_severe="the account whose name everyone knows can be guessed without limit",
        takes_effect=Effect.NOW,
        protects="The built-in administrator's password cannot be guessed at the console.",
        costs="With until-unlocked and no other administrator, no one is left to unlock it.",
        controls=("AC-7",),
    ),
)
