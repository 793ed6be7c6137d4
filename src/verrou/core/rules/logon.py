"""Who may come in by which way."""

from verrou.core.model.facts import Effect
from verrou.core.model.ways import Way
from verrou.core.rules.declaration import APART, Agreement, Rule, Severity
from verrou.core.values import EVERYBODY, Listed

BY: dict[Way, tuple[str, Severity, str]] = {
    Way.CONSOLE: (
        "at the console",
        Severity.SERIOUS,
        "whoever has an account there, and is not meant to use this machine, may sit down at it",
    ),
    Way.NETWORK: (
        "over the network",
        Severity.SERIOUS,
        "from another computer somebody can guess unseen, and open what is shared",
    ),
    Way.REMOTE_SCREEN: (
        "by a remote screen",
        Severity.GRAVE,
        "whoever comes by a remote screen can do what somebody at the keyboard can, and nobody sees them",
    ),
    Way.REMOTE_SHELL: (
        "by a remote shell",
        Severity.GRAVE,
        "a remote shell is open to guessing from anywhere, day and night",
    ),
}
COSTS = {
    Way.CONSOLE: "Whoever is left out cannot sit down here any more, a colleague who helps out included. Keep somebody "
    "in who administers.",
    Way.NETWORK: "Whoever is left out no longer reaches what this machine shares; programs that copy things over the "
    "network as that account stop.",
    Way.REMOTE_SCREEN: "Help from afar needs somebody who is let in, or a walk to the machine.",
    Way.REMOTE_SHELL: "Whoever looks after the machine from afar must be let in by name; copies and jobs that come by "
    "the remote shell stop for everybody else.",
}


def _allowed(way: Way) -> Rule:
    by, severity, why = BY[way]
    return Rule(
        id=f"logon.{way}.allowed",
        title=f"who may sign in {by}",
        says={
            frozenset(): f"nobody may sign in {by}",
            frozenset({EVERYBODY}): f"everybody with an account may sign in {by}",
            None: f"may sign in {by}: {{}}",
        },
        kind=Listed(more_is_stricter=False),
        severity=severity,
        why_severe=why,
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"Only those who need it sign in {by}; an account that is forgotten or guessed opens nothing there.",
        costs=COSTS[way],
        controls=("AC-3", "AC-6", "AC-17") if way is not Way.CONSOLE else ("AC-3", "AC-6"),
        agreements=(Agreement(APART, f"logon.{way}.denied"),),
    )


def _denied(way: Way) -> Rule:
    by, severity, why = BY[way]
    return Rule(
        id=f"logon.{way}.denied",
        title=f"who may not sign in {by}, even if allowed",
        says={
            frozenset(): f"nobody is kept from signing in {by} by name",
            frozenset({EVERYBODY}): f"everybody is kept from signing in {by}",
            None: f"kept from signing in {by}: {{}}",
        },
        kind=Listed(more_is_stricter=True),
        severity=severity,
        why_severe=why,
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"Whoever is named here does not sign in {by}, whatever else lets them: what is denied wins.",
        costs="A group that is named takes everybody in it along, an administrator who is in it for another reason "
        "too. " + COSTS[way],
        controls=("AC-3", "AC-6", "AC-17") if way is not Way.CONSOLE else ("AC-3", "AC-6"),
    )


RULES = tuple(make(way) for way in Way for make in (_allowed, _denied))
