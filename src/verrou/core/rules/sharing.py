"""Limits for users of a shared computer. None of them applies to an administrator, who can lift it."""

from verrou.core.model.facts import Effect
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Rule
from verrou.core.values import EVERYONE, Choice, Listed, YesNo

NOT_ADMINISTRATORS = (
    "The limits do not bind administrators, who can lift them, so administrators need strong passwords too."
)

RULES = (
    Rule(
        id="sharing.hidden_drives",
        title="drives that shared-use accounts cannot browse",
        statement={
            frozenset(): "shared-use accounts can browse every drive",
            frozenset({"all"}): "shared-use accounts cannot browse any drive",
            None: "shared-use accounts cannot browse: {}",
        },
        asks={frozenset({"all"}): "required: hide all drives", None: "required: hide at least {}"},
        kind=Listed(more_is_stricter=True, every="all", none="none", of_people=False),
        severity=Severity.LOW,
        why_severe="strangers look through files that are not theirs, and leave files behind",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"Visitors cannot browse the disk or a USB stick left in the machine. {NOT_ADMINISTRATORS}",
        costs=(
            "People cannot copy files to or from a USB stick. A program that opens a file by its full "
            "path may still reach it: this hides, file permissions protect."
        ),
        controls=("AC-3", "MP-7"),
    ),
    Rule(
        id="sharing.settings_closed",
        title="whether shared-use accounts can open the machine's settings",
        statement={
            True: "shared-use accounts cannot open the machine's settings",
            False: "shared-use accounts can open the machine's settings",
        },
        asks={True: "required: not allowed", False: "required: allowed"},
        kind=YesNo(stricter=True),
        severity=Severity.LOW,
        why_severe="the next user finds the machine as the last one left it",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=f"The machine stays as it was set up. {NOT_ADMINISTRATORS}",
        costs=(
            "Only an administrator can enlarge text or change the printer; set up in advance what people "
            "need to read and work."
        ),
        controls=("CM-5",),
    ),
    Rule(
        id="sharing.installer",
        title="who can run an installer",
        statement={
            "everyone": "anyone can run an installer",
            "administrators": "only administrators can run an installer",
            "nobody": "no one can run an installer",
        },
        kind=Choice(("everyone", "administrators", "nobody")),
        severity=Severity.MEDIUM,
        why_severe="what one user installs runs for the next",
        takes_effect=Effect.NOW,
        protects="No one can leave a program that captures the next user's password.",
        costs=(
            "Users have to ask for each program they need; with nobody, an administrator has to relax the rule first."
        ),
        controls=("CM-11",),
    ),
    Rule(
        id="sharing.applies_to",
        title="which accounts the limits for shared use apply to",
        statement={
            frozenset(): "the limits for shared use apply to no one",
            frozenset({EVERYONE}): "the limits for shared use apply to everyone except administrators",
            None: "the limits for shared use apply to: {}",
        },
        kind=Listed(more_is_stricter=True),
        severity=Severity.MEDIUM,
        why_severe="the limits have no effect on anyone who is not listed",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects=(
            f"It is clear whom the limits apply to; no one is covered or left out by accident. {NOT_ADMINISTRATORS}"
        ),
        costs="A new account is covered only through a group.",
        controls=("AC-6",),
    ),
)
