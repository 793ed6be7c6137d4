"""What a password must be, how long it lives, and how it is stored."""

import math
from collections.abc import Iterator
from datetime import timedelta

from verrou.core.model import Effect, Posture
from verrou.core.model.ways import Way
from verrou.core.plan.gaps import Fact, Gap
from verrou.core.rules.declaration import Agreement, Rule, Severity
from verrou.core.values import Choice, Count, NameSet, Span, Value, YesNo


def _stored_otherwise(posture: Posture, wanted: Value, listed: frozenset[str]) -> Iterator[Gap]:
    """What is stored already changes with the account's next password."""
    for account in posture.accounts:
        if account.password_scheme and isinstance(wanted, frozenset) and account.password_scheme not in wanted:
            stored = f"{account.name} has a {account.password_scheme} password"
            advice = f"{stored}; give it a new one: verrou account password {account.name}"
            yield Gap(account.name, Fact.STORAGE, account.password_scheme, wanted, by_hand=advice)


RULES = (
    Rule(
        id="password.min_length",
        title="length of a password",
        says={0: "a password of any length is enough", None: "passwords of {} are enough"},
        kind=Count("characters", 0, 256, more_is_stricter=True),
        severity=Severity.GRAVE,
        why_severe="length is what makes guessing long; everything else adds little to a short password",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Short passwords fall to guessing, at the keyboard and from a stolen disk.",
        costs="Longer passwords are mistyped more often; a phrase of several words helps.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.classes",
        title="kinds of character (lower, upper, digit, symbol) in a password",
        says={
            0: "passwords of one kind of character are enough",
            1: "passwords of one kind of character are enough",
            None: "passwords of {} of character are enough",
        },
        kind=Count("kinds", 0, 4, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="length matters more; kinds of character keep out the plainest words",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A plain word or a row of digits alone is refused.",
        costs="People put a capital first and a digit last; a high number makes passwords harder to type on a "
        "foreign keyboard.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.remember",
        title="earlier passwords that may not come again",
        says={
            0: "the old password may come again at once",
            1: "the last password may not come again",
            None: "the last {} may not come again",
        },
        kind=Count("passwords", 0, 400, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="it only matters where passwords must be changed",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A forced change cannot be answered with the old password. The one in use counts as the first.",
        costs="People number their passwords. Together with a minimum age it cannot be run through in a minute.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.max_age",
        title="when a password must be changed",
        says={"never": "passwords never have to be changed", None: "passwords have to be changed after {}"},
        kind=Span("day", 1, 3650, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.SLIGHT,
        why_severe="a password that was seen or shared stays good until it is changed",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="A password known to last season's staff stops working by itself.",
        costs="Frequent changes make weaker passwords; an account nobody used for long asks for a new one first.",
        controls=("IA-5(1)",),
        agreements=(Agreement(">", "password.min_age"),),
    ),
    Rule(
        id="password.min_age",
        title="how soon a password may be changed again",
        says={timedelta(): "a password may be changed again at once", None: "a password may be changed again after {}"},
        kind=Span("day", 0, 3650, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="it only guards the memory of earlier passwords",
        takes_effect=Effect.NOW,
        protects="Nobody runs through the remembered passwords in a minute to get the old one back.",
        costs="Somebody whose password was seen cannot change it the same day without an administrator.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.warn_before",
        title="warning before a password ends",
        says={
            timedelta(): "nobody is warned before a password ends",
            None: "people are warned {} before a password ends",
        },
        kind=Span("day", 0, 99, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="without a warning people meet the change when they have no time for it",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="People choose a good password in time instead of any password in haste.",
        costs="A line at every sign-in of the last days.",
        controls=("IA-5(1)",),
        agreements=(Agreement("<", "password.max_age"),),
    ),
    Rule(
        id="password.may_contain_name",
        title="a password may contain the account's name",
        says={
            True: "a password may contain the account's name",
            False: "a password may not contain the account's name",
        },
        asks={False: "it should not", True: "it may"},
        kind=YesNo(stricter=False),
        severity=Severity.SERIOUS,
        why_severe="the account's name is the first thing anybody tries",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Passwords such as the name with a year behind it are refused.",
        costs="Hardly anything; very short account names can refuse a good password by chance.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.dictionary",
        title="passwords are looked up in a dictionary",
        says={
            "unchecked": "words of the dictionary are taken as passwords",
            "checked": "passwords are looked up in a dictionary",
        },
        asks={"checked": "they should be refused", "unchecked": "they may be"},
        kind=Choice(("unchecked", "checked")),
        severity=Severity.SERIOUS,
        why_severe="common words and patterns are tried first",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Words, reversed words and keyboard rows are refused even when they are long.",
        costs="The refusal can surprise; on Linux a missing dictionary refuses every password.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.storage",
        title="how passwords are stored",
        says="passwords are stored as {}",
        kind=NameSet(("yescrypt", "gost-yescrypt", "scrypt", "bcrypt", "sha512", "sha256", "pbkdf2")),
        severity=Severity.GRAVE,
        why_severe="a weak or reversible form gives the password to whoever reads the disk",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A stolen disk does not give away the passwords on it.",
        costs="Nothing for new passwords; an account with an old form needs a new password to get the new one.",
        controls=("IA-5(1)",),
        gaps=_stored_otherwise,
    ),
    Rule(
        id="password.blank_ways",
        title="ways by which a blank password is good",
        says={frozenset(): "a blank password opens no way in", None: "a blank password gets in by {}"},
        kind=NameSet(tuple(map(str, Way)), none="none"),
        severity=Severity.GRAVE,
        why_severe="where a blank password is good from afar, everybody on the network can get in as that account",
        takes_effect=Effect.NOW,
        protects="A guest with a blank password can be used by whoever stands at the machine, and by nobody else; with "
        "none, by nobody at all.",
        costs="Nobody should miss the ways from afar. With none, every account needs a password.",
        controls=("AC-17", "IA-5"),
    ),
)
