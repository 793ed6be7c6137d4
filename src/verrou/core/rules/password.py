"""Rules about passwords: content, ageing and storage."""

import math
from collections.abc import Iterator
from datetime import timedelta

from verrou.core import advice
from verrou.core.model import Effect, Snapshot
from verrou.core.model.routes import Route
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import Agreement, Rule
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.values import Choice, Count, NameSet, Span, Value, YesNo


def _stored_otherwise(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    """Yield a gap for each account with a hash of another scheme, which only a new password changes."""
    for account in snapshot.accounts:
        if account.password_scheme and isinstance(required, frozenset) and account.password_scheme not in required:
            stored = f"{account.name} has a {account.password_scheme} password"
            manual = f"{stored}. To set a new one: {advice.set_password(account.name)}"
            yield Gap(account.name, Fact.STORAGE, account.password_scheme, required, manual=manual)


RULES = (
    Rule(
        id="password.min_length",
        title="how many characters a password needs",
        statement={0: "a password can be of any length", None: "passwords need at least {}"},
        kind=Count("characters", 0, 256, more_is_stricter=True),
        severity=Severity.HIGH,
        why_severe="length makes guessing slow; nothing else makes up for a short password",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Short passwords are found by guessing, at the keyboard and from a stolen disk.",
        costs="Longer passwords are mistyped more often; a phrase of several words helps.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.classes",
        title="kinds of character a password must mix (lower, upper, digit, symbol)",
        statement={
            0: "passwords need only one kind of character",
            1: "passwords need only one kind of character",
            None: "passwords need at least {} of character",
        },
        kind=Count("kinds", 0, 4, more_is_stricter=True),
        severity=Severity.LOW,
        why_severe="length matters more; this only stops the simplest words",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A plain word or a row of digits is rejected.",
        costs=(
            "People capitalise the first letter and add a digit; high numbers make passwords hard to "
            "type on a foreign keyboard."
        ),
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.remember",
        title="how many earlier passwords cannot be reused",
        statement={
            0: "an old password can be reused at once",
            1: "the current password cannot be set again",
            None: "the current password and those before it, {} in all, cannot be reused",
        },
        kind=Count("passwords", 0, 400, more_is_stricter=True),
        severity=Severity.LOW,
        why_severe="it matters only where passwords must be changed",
        takes_effect=Effect.NEXT_PASSWORD,
        protects=("A required change cannot be met with the old password. The current password counts as the first."),
        costs=(
            "People add a number to their password. A minimum age stops them from cycling through the list in a minute."
        ),
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.max_age",
        title="when a password must be changed",
        statement={"never": "passwords never have to be changed", None: "passwords must be changed after {}"},
        kind=Span("day", 1, 3650, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.LOW,
        why_severe="a password that was seen or shared keeps working until it is changed",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="A password known to last season's staff stops working by itself.",
        costs=(
            "Frequent changes lead to weaker passwords; an account that was not used for long asks for a "
            "new password first."
        ),
        controls=("IA-5(1)",),
        agreements=(Agreement(">", "password.min_age"),),
    ),
    Rule(
        id="password.min_age",
        title="how soon a password can be changed again",
        statement={
            timedelta(): "a password can be changed again at once",
            None: "a password can be changed again after {}",
        },
        kind=Span("day", 0, 3650, more_is_stricter=True),
        severity=Severity.LOW,
        why_severe="it only protects the rule against reuse",
        takes_effect=Effect.NOW,
        protects="No one can cycle through the remembered passwords to get the old one back.",
        costs="A user whose password was seen cannot change it the same day without an administrator.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.warn_before",
        title="how early users are warned before a password change is due",
        statement={
            timedelta(): "users are not warned before a password change is due",
            None: "users are warned {} before a password change is due",
        },
        kind=Span("day", 0, 99, more_is_stricter=True),
        severity=Severity.LOW,
        why_severe="without a warning, the change comes when there is no time for it",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Users choose a good password in time rather than a poor one in a hurry.",
        costs="One more line at each sign-in during the last days.",
        controls=("IA-5(1)",),
        agreements=(Agreement("<", "password.max_age"),),
    ),
    Rule(
        id="password.may_contain_name",
        title="whether passwords can contain the account name",
        statement={True: "passwords can contain the account name", False: "passwords cannot contain the account name"},
        asks={True: "required: allowed", False: "required: not allowed"},
        kind=YesNo(stricter=False),
        severity=Severity.MEDIUM,
        why_severe="the account name is the first guess",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Passwords such as the name followed by a year are rejected.",
        costs="Very little; a very short account name can rule out a good password by chance.",
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.dictionary",
        title="whether passwords are checked against a dictionary",
        statement={
            "unchecked": "dictionary words are accepted as passwords",
            "checked": "dictionary words are rejected as passwords",
        },
        asks={"checked": "required: rejected", "unchecked": "required: accepted"},
        kind=Choice(("unchecked", "checked")),
        severity=Severity.MEDIUM,
        why_severe="common words and patterns are guessed first",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Words, reversed words and keyboard rows are rejected, however long.",
        costs=("A rejection can surprise users; on Linux, every password is rejected when the dictionary is missing."),
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.storage",
        title="how stored passwords are hashed",
        statement="passwords are stored as {}",
        kind=NameSet(("yescrypt", "gost-yescrypt", "scrypt", "bcrypt", "sha512", "sha256", "pbkdf2")),
        severity=Severity.HIGH,
        why_severe="a weak or reversible form reveals passwords to anyone who can read the disk",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A stolen disk does not reveal the passwords on it.",
        costs="None for new passwords; an account with an old hash needs a new password.",
        controls=("IA-5(1)",),
        gaps=_stored_otherwise,
    ),
    Rule(
        id="password.blank_accepted",
        title="where a blank password is accepted",
        statement={
            frozenset(): "blank passwords are not accepted anywhere",
            None: "blank passwords are accepted at: {}",
        },
        kind=NameSet(tuple(map(str, Route)), none="none"),
        severity=Severity.HIGH,
        why_severe="where blank passwords are accepted remotely, anyone on the network can use that account",
        takes_effect=Effect.NOW,
        protects=("A guest account with a blank password can be used only at the machine; with none, not at all."),
        costs=("Little: blank passwords are rarely needed remotely. With none, every account needs a password."),
        controls=("AC-17", "IA-5"),
    ),
)
