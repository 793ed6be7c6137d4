"""Rules about what the sign-in and lock screens show, and about automatic sign-in."""

import math

from verrou.core.model.facts import Effect
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Rule
from verrou.core.values import EVERYONE, Choice, Listed, NameSet, Notice, Span, Words, YesNo

RULES = (
    Rule(
        id="screen.automatic_signin",
        title="who is signed in automatically",
        statement={
            "nobody": "no account is signed in automatically",
            "guests": "only a guest account is signed in automatically",
            "anyone": "an account other than a guest is signed in automatically",
        },
        asks={"nobody": "required: none", "guests": "required: a guest at most"},
        kind=Choice(("anyone", "guests", "nobody"), or_stricter=True),
        severity=Severity.HIGH,
        why_severe="anyone who switches the machine on gets that account's rights",
        takes_effect=Effect.RESTART,
        protects="Every user has authenticated.",
        costs="Someone has to sign in after each start, at a counter every morning.",
        controls=("IA-2",),
    ),
    Rule(
        id="screen.hidden_accounts",
        title="which accounts the sign-in screen hides",
        statement={
            frozenset(): "the sign-in screen hides no account",
            frozenset({EVERYONE}): "the sign-in screen lists no accounts",
            None: "the sign-in screen hides: {}",
        },
        asks={frozenset({EVERYONE}): "required: hide all accounts", None: "required: hide at least {}"},
        kind=Listed(more_is_stricter=True),
        severity=Severity.LOW,
        why_severe="anyone at the screen learns which account names to guess at",
        takes_effect=Effect.RESTART,
        protects="An attacker has to find a name first.",
        costs=(
            "Users who are not listed type their name. This is not an access control: a hidden account "
            "can still sign in."
        ),
        controls=("IA-6",),
    ),
    Rule(
        id="screen.shows_last_account",
        title="whether the sign-in screen shows the last account used",
        statement={
            True: "the sign-in screen shows the last account used",
            False: "the sign-in screen does not show the last account used",
        },
        asks={True: "required: shown", False: "required: not shown"},
        kind=YesNo(stricter=False),
        severity=Severity.LOW,
        why_severe="it reveals a name to guess at, and who was here",
        takes_effect=Effect.RESTART,
        protects="The screen does not reveal who works here.",
        costs="Users type their name every time.",
        controls=("IA-6",),
    ),
    Rule(
        id="screen.shut_down_button",
        title="whether the sign-in screen offers to shut down",
        statement={
            True: "anyone can shut down from the sign-in screen",
            False: "the sign-in screen does not offer to shut down",
        },
        asks={True: "required: offered", False: "required: not offered"},
        kind=YesNo(stricter=False),
        severity=Severity.LOW,
        why_severe="anyone passing can end running work, and start the machine from removable media",
        takes_effect=Effect.RESTART,
        protects="A machine that is meant to run keeps running.",
        costs="Someone has to sign in to shut the machine down.",
        controls=("AC-14",),
    ),
    Rule(
        id="screen.locked_shows",
        title="what a locked screen shows about its user",
        statement={
            frozenset({"name", "origin"}): "a locked screen shows the account's name and where it belongs",
            frozenset({"name"}): "a locked screen shows the account's name",
            frozenset({"origin"}): "a locked screen shows where the account belongs",
            frozenset(): "a locked screen does not show who locked it",
        },
        asks={
            frozenset({"name", "origin"}): "required: no more than the name and where it belongs",
            frozenset({"name"}): "required: no more than the name",
            frozenset({"origin"}): "required: no more than where it belongs",
            frozenset(): "required: nothing about its user",
        },
        kind=NameSet(("name", "origin"), none="nothing"),
        severity=Severity.LOW,
        why_severe="it reveals a name to guess at",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="The screen does not reveal who works here.",
        costs="Colleagues cannot see whose session it is before they ask an administrator to end it.",
        controls=("IA-6", "AC-11(1)"),
    ),
    Rule(
        id="screen.attention_key",
        title="whether a secure attention key is required before sign-in",
        statement={
            "required": "a secure attention key is required before sign-in",
            "not-required": "no secure attention key is required before sign-in",
        },
        asks={"required": "required: a secure attention key", "not-required": "required: no secure attention key"},
        kind=Choice(("not-required", "required")),
        severity=Severity.MEDIUM,
        why_severe="a program can imitate the sign-in screen and capture the password",
        takes_effect=Effect.RESTART,
        protects=("Users type their password to the system itself: no program can intercept this key sequence."),
        costs="It takes several keys at once, which not everyone can press and not every keyboard has.",
        controls=("SC-11",),
    ),
    Rule(
        id="screen.locks_after",
        title="when an idle session is locked or ended",
        statement={"never": "idle sessions are never locked", None: "idle sessions are locked or ended after {}"},
        kind=Span("minute", 1, 24 * 60, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.MEDIUM,
        why_severe="anyone who finds an open session can act as its user",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="The next person cannot use a session that was left open.",
        costs=(
            "People who read or present have to type their password again. In a shell, a command running "
            "unattended can be ended."
        ),
        controls=("AC-11", "AC-12"),
    ),
    Rule(
        id="screen.notice",
        title="the notice shown before sign-in",
        statement={Notice(): "no notice is shown before sign-in", None: "notice before sign-in: {}"},
        kind=Words(),
        severity=Severity.LOW,
        why_severe="without it, users can say they did not know the rules",
        takes_effect=Effect.RESTART,
        protects="Users have been told what the machine is for and what is recorded.",
        costs=("One more thing to dismiss; long notices are not read. Do not reveal what kind of machine it is."),
        controls=("AC-8",),
    ),
)
