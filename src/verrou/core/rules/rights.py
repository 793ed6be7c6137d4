"""Rules about what a signed-in user can do to the machine itself."""

from verrou.core.model.facts import Effect
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Rule
from verrou.core.values import EVERYONE, Listed


def _right(
    key: str, what: str, doing: str, severity: Severity, why: str, protects: str, costs: str, *controls: str
) -> Rule:
    return Rule(
        id=f"rights.{key}",
        title=f"who can {what}",
        statement={
            frozenset(): f"no account has the right to {what}",
            frozenset({EVERYONE}): f"every signed-in user can {what}",
            None: f"{doing} is allowed for: {{}}",
        },
        kind=Listed(more_is_stricter=False),
        severity=severity,
        why_severe=why,
        takes_effect=Effect.NOW,
        protects=protects,
        costs=costs,
        controls=controls,
    )


RULES = (
    _right(
        "shut_down",
        "shut the machine down",
        "shutting the machine down",
        Severity.LOW,
        "shutting down ends other users' work, and the machine could be restarted from removable media",
        "A terminal that is meant to run keeps running.",
        "Users who are not listed can only pull the plug, which is worse for the disk.",
        "AC-3",
    ),
    _right(
        "set_clock",
        "set the clock",
        "setting the clock",
        Severity.MEDIUM,
        "a wrong clock reopens expired accounts, extends passwords, and falsifies every record",
        "Expiry dates, password ages, locks and the times in records stay correct.",
        "Without a network, someone has to come when the clock has drifted.",
        "AU-8",
        "AC-6",
    ),
    _right(
        "install_software",
        "install software",
        "installing software",
        Severity.MEDIUM,
        "installed software runs for every user, often with full rights",
        "No one can add programs that everyone then runs.",
        "Users have to ask for each program they need.",
        "CM-11",
        "AC-6",
    ),
)
