"""What somebody meets who uses a shared computer. None of it binds an administrator, who can lift it."""

from verrou.core.model.facts import Effect
from verrou.core.rules.declaration import Rule, Severity
from verrou.core.values import EVERYBODY, Choice, Listed, YesNo

NOT_ADMINISTRATORS = (
    "It does not bind an administrator, who can lift it: a strong administrator password is part of the same job."
)

RULES = (
    Rule(
        id="sharing.hidden_drives",
        title="drives that shared-use accounts cannot browse to",
        says={
            frozenset(): "shared-use accounts browse to every drive",
            frozenset({"all"}): "shared-use accounts browse to no drive",
            None: "shared-use accounts cannot browse to: {}",
        },
        kind=Listed(more_is_stricter=True, every="all", none="none", of_people=False),
        severity=Severity.SLIGHT,
        why_severe="strangers look through what is not meant for them, and leave things there",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"Visitors do not wander over the disk, or to a stick that somebody left in. {NOT_ADMINISTRATORS}",
        costs="People cannot bring or take files on a stick. A program that names a file by its whole path may still "
        "reach it: this is a hedge, rights on the files are the wall.",
        controls=("AC-3", "MP-7"),
    ),
    Rule(
        id="sharing.settings_closed",
        title="the machine's settings are closed to shared-use accounts",
        says={
            True: "the machine's settings are closed to shared-use accounts",
            False: "shared-use accounts may open the machine's settings",
        },
        asks={True: "they should be closed", False: "they may be open"},
        kind=YesNo(stricter=True),
        severity=Severity.SLIGHT,
        why_severe="the next person finds the machine as the last one left it",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"The machine stays as it was set up. {NOT_ADMINISTRATORS}",
        costs="Nobody but an administrator makes the letters larger or changes the printer; set up beforehand what "
        "people need to read and work.",
        controls=("CM-5",),
    ),
    Rule(
        id="sharing.installer",
        title="who may run an installer",
        says={
            "everyone": "everybody may run an installer",
            "administrators": "only administrators may run an installer",
            "nobody": "nobody may run an installer",
        },
        kind=Choice(("everyone", "administrators", "nobody")),
        severity=Severity.SERIOUS,
        why_severe="what one person installs runs for the next",
        takes_effect=Effect.NOW,
        protects="Nobody brings a program along that waits for the next person's password.",
        costs="Each program that somebody needs has to be asked for; with nobody, an administrator lifts the rule "
        "first.",
        controls=("CM-11",),
    ),
    Rule(
        id="sharing.applies_to",
        title="who is covered by the limits of a shared computer",
        says={
            frozenset(): "nobody is covered by the limits of a shared computer",
            frozenset({EVERYBODY}): "everybody but administrators is covered by the limits of a shared computer",
            None: "covered by the limits of a shared computer: {}",
        },
        kind=Listed(more_is_stricter=True),
        severity=Severity.SERIOUS,
        why_severe="the limits hold for nobody who is not named",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"It is said who is meant, so that nobody is covered or left out by accident. {NOT_ADMINISTRATORS}",
        costs="A new account is not covered unless it is in a group that is.",
        controls=("AC-6",),
    ),
)
