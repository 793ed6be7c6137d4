"""When wrong passwords lock an account, for how long, and who is covered."""

import math

from verrou.core.model import Effect
from verrou.core.rules.declaration import Agreement, Rule, Severity
from verrou.core.values import Choice, Count, Span

RULES = (
    Rule(
        id="lockout.after",
        title="wrong tries before an account locks",
        says={"never": "wrong passwords never lock an account", None: "an account locks after {}"},
        kind=Count("wrong tries", 1, 1000, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.GRAVE,
        why_severe="without it a password can be guessed for as long as somebody has the keyboard",
        takes_effect=Effect.NOW,
        protects="Somebody alone with the machine cannot try one password after another.",
        costs="People who mistype lock themselves out; anybody can lock out somebody else on purpose. "
        "Very low numbers bring more calls than safety.",
        controls=("AC-7",),
        set_with=("lockout.lasts", "lockout.forget_after", "lockout.exempts"),
    ),
    Rule(
        id="lockout.lasts",
        title="how long a lock lasts",
        says={"until-unlocked": "a lock lasts until an administrator lifts it", None: "a lock lasts {}"},
        kind=Span("minute", 1, 365 * 24 * 60, more_is_stricter=True, words={"until-unlocked": math.inf}),
        severity=Severity.SERIOUS,
        why_severe="a short lock only slows guessing down",
        takes_effect=Effect.NOW,
        protects="Guessing comes to a few tries an hour instead of thousands.",
        costs="The account's owner waits, or an administrator has to come. With until-unlocked nobody gets back in "
        "without an administrator, so keep a second one.",
        controls=("AC-7",),
        agreements=(Agreement(">=", "lockout.forget_after"),),
    ),
    Rule(
        id="lockout.forget_after",
        title="when wrong tries are forgotten",
        says="wrong tries are forgotten after {}",
        kind=Span("minute", 1, 365 * 24 * 60, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="a short memory lets somebody guess slowly without ever being locked out",
        takes_effect=Effect.NOW,
        protects="Slow guessing, one try every few minutes, still ends in a lock.",
        costs="Mistakes of the morning still count at noon.",
        controls=("AC-7",),
    ),
    Rule(
        id="lockout.exempts",
        title="who never locks",
        says={"built-in": "the built-in administrator never locks", "nobody": "every account locks"},
        asks={"nobody": "it should lock too", "built-in": "it may be left out"},
        kind=Choice(("built-in", "nobody")),
        severity=Severity.SLIGHT,
        why_severe="the one account everybody can name is otherwise free to guess at",
        takes_effect=Effect.NOW,
        protects="The built-in administrator's password cannot be guessed at the console either.",
        costs="With a lock that lasts until-unlocked and no other administrator, nobody is left to unlock it.",
        controls=("AC-7",),
    ),
)
