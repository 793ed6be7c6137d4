"""Rules about who can sign in by which route."""

from verrou.core.model.facts import Effect
from verrou.core.model.routes import Route
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import APART, Agreement, Rule
from verrou.core.values import EVERYONE, Listed

WHY: dict[Route, tuple[Severity, str]] = {
    Route.CONSOLE: (
        Severity.MEDIUM,
        "anyone with an account can use this machine, including people who should not",
    ),
    Route.NETWORK: (
        Severity.MEDIUM,
        "passwords can be guessed unseen from another computer, and shared files opened",
    ),
    Route.REMOTE_SCREEN: (
        Severity.HIGH,
        "a remote user can do all that a user at the keyboard can, unseen",
    ),
    Route.REMOTE_SHELL: (
        Severity.HIGH,
        "a remote shell can be attacked from anywhere, day and night",
    ),
}
COSTS = {
    Route.CONSOLE: "Anyone not listed can no longer sign in here, including a colleague who helps out. Keep an "
    "administrator listed.",
    Route.NETWORK: "Anyone not listed can no longer reach shared files; programs that copy over the network with that "
    "account stop.",
    Route.REMOTE_SCREEN: "Remote support needs a listed account, or a walk to the machine.",
    Route.REMOTE_SHELL: "Remote administrators must be listed; copy jobs that use the remote shell with other accounts "
    "stop.",
}
IF_DENIED = {
    Route.CONSOLE: "A denied account can no longer sign in here; deny no group that all administrators are in.",
    Route.NETWORK: "A denied account can no longer reach shared files; programs that copy with it stop.",
    Route.REMOTE_SCREEN: "Remote support needs an account that is not denied, or a walk to the machine.",
    Route.REMOTE_SHELL: "A denied account can no longer be used by remote administrators or by copy jobs.",
}


def _allowed(route: Route) -> Rule:
    by, (severity, why) = route.phrase, WHY[route]
    return Rule(
        id=f"logon.{route}.allowed",
        title=f"who can sign in {by}",
        statement={
            frozenset(): f"no one can sign in {by}",
            frozenset({EVERYONE}): f"every account can sign in {by}",
            None: f"sign-in {by} is allowed for: {{}}",
        },
        kind=Listed(more_is_stricter=False),
        severity=severity,
        why_severe=why,
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"Only accounts that need it can sign in {by}; a forgotten or guessed account is useless there.",
        costs=COSTS[route],
        controls=("AC-3", "AC-6", "AC-17") if route is not Route.CONSOLE else ("AC-3", "AC-6"),
        agreements=(Agreement(APART, f"logon.{route}.denied"),),
    )


def _denied(route: Route) -> Rule:
    by, (severity, why) = route.phrase, WHY[route]
    return Rule(
        id=f"logon.{route}.denied",
        title=f"who is denied sign-in {by}, even if allowed",
        statement={
            frozenset(): f"no one is denied sign-in {by}",
            frozenset({EVERYONE}): f"everyone is denied sign-in {by}",
            None: f"sign-in {by} is denied to: {{}}",
        },
        kind=Listed(more_is_stricter=True),
        severity=severity,
        why_severe=why,
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"A listed account cannot sign in {by}, whatever else allows it: a denial wins.",
        costs="Listing a group denies all its members, including an administrator who belongs to it for another "
        f"reason. {IF_DENIED[route]}",
        controls=("AC-3", "AC-6", "AC-17") if route is not Route.CONSOLE else ("AC-3", "AC-6"),
    )


RULES = tuple(make(route) for route in Route for make in (_allowed, _denied))
