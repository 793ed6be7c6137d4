"""What somebody who is signed in may do to the machine itself."""

from verrou.core.model.facts import Effect
from verrou.core.rules.declaration import Rule, Severity
from verrou.core.values import EVERYBODY, Listed


def _right(key: str, what: str, severity: Severity, why: str, protects: str, costs: str, *controls: str) -> Rule:
    return Rule(
        id=f"rights.{key}",
        title=f"who may {what}",
        says={
            frozenset(): f"nobody may {what} without an administrator's password",
            frozenset({EVERYBODY}): f"everybody who is signed in may {what}",
            None: f"may {what}: {{}}",
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
        Severity.SLIGHT,
        "whoever shuts a shared machine down ends the work of the others, and may start it from a stick",
        "A terminal that is meant to run keeps running.",
        "People who are not listed cannot switch it off in the evening but by the plug, which is worse for the disk.",
        "AC-3",
    ),
    _right(
        "set_clock",
        "set the clock",
        Severity.SERIOUS,
        "a wrong clock opens accounts that have ended, lengthens passwords' lives, and falsifies every record",
        "Ends, ages and locks of accounts, and the times in every record, are what they should be.",
        "Without a network somebody has to come when the clock has drifted.",
        "AU-8",
        "AC-6",
    ),
    _right(
        "install_software",
        "install software",
        Severity.SERIOUS,
        "what is installed runs for everybody, and often with all rights",
        "Nobody brings programs along that everybody then runs.",
        "Each program that somebody needs has to be asked for.",
        "CM-11",
        "AC-6",
    ),
)
