"""Who has an account at all: rules that are read off the accounts, not off a setting."""

from verrou.core.access import is_person, role_of, usable_administrators
from verrou.core.model import Account, Effect, PasswordState, Posture, Reading, Role, Source, absent, name_list
from verrou.core.rules.declaration import Rule, Severity
from verrou.core.values import Choice, Count

FROM_ACCOUNTS = {"linux": "derived from the accounts", "bench": "derived from the accounts"}


def blank_accounts(posture: Posture) -> list[Account]:
    """Enabled accounts that a blank password opens."""
    return [a for a in posture.accounts if a.enabled and a.password is PasswordState.BLANK]


def _administrators(posture: Posture) -> Reading:
    names = [account.name for account in usable_administrators(posture)]
    return Reading(len(names), source=Source("accounts", text=name_list(names) or "nobody"))


def unending_accounts(posture: Posture) -> list[Account]:
    """Enabled accounts of people whose password never has to be changed."""
    return [
        a
        for a in posture.accounts
        if a.enabled and is_person(a) and a.password is PasswordState.SET and not a.password_ages
    ]


def _worst_of(accounts: list[Account], posture: Posture, none: str) -> Reading:
    """nobody, guests or anybody, by who the accounts are."""
    guests_only = all(role_of(a, posture) is Role.GUEST for a in accounts)
    value = "nobody" if not accounts else "guests" if guests_only else "anybody"
    return Reading(value, source=Source("accounts", text=name_list([a.name for a in accounts]) or none))


def _duplicate_ids(posture: Posture) -> Reading:
    doubled = [[a.name for a in twins] for twins in posture.by_identity.values() if len(twins) > 1]
    said = "; ".join(f"{' and '.join(names)} are one" for names in doubled[:3])
    return Reading("allowed" if doubled else "forbidden", source=Source("accounts", text=said or "no two are one"))


def unlisted(posture: Posture, listed: frozenset[str]) -> list[Account]:
    """Enabled accounts of people that ``listed`` does not name; built-in ones have rules of their own."""
    return [
        account
        for account in posture.accounts
        if account.enabled and account.builtin is None and is_person(account) and account.name not in listed
    ]


RULES = (
    Rule(
        id="population.unlisted",
        title="accounts that the baseline does not list",
        kind=Choice(("leave", "report", "disable")),
        severity=Severity.SERIOUS,
        why_severe="an account nobody asked for is a door nobody watches",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Accounts left over from earlier seasons come to light, or are closed.",
        costs="Every account that shall stay must be listed in the baseline.",
        kept=FROM_ACCOUNTS,
        controls=("AC-2",),
        derive=lambda _: absent("it compares the accounts with a baseline: verrou audit shows it"),
    ),
    Rule(
        id="population.administrators",
        title="administrators who could sign in now",
        kind=Count("administrators", 1, 99, more_is_stricter=False),
        severity=Severity.GRAVE,
        why_severe="with none nobody can mend the machine; with many nobody knows who did what",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Few people can change everything, and never nobody.",
        costs="Somebody who was an administrator has to ask.",
        kept=FROM_ACCOUNTS,
        controls=("AC-6(5)",),
        derive=_administrators,
    ),
    Rule(
        id="population.blank_passwords",
        title="who may have a blank password",
        kind=Choice(("anybody", "guests", "nobody")),
        severity=Severity.GRAVE,
        why_severe="a blank password is no password",
        takes_effect=Effect.NOW,
        protects="Nobody gets in as somebody else by pressing the return key.",
        costs="Each account needs a password, or must be disabled.",
        kept=FROM_ACCOUNTS,
        controls=("IA-5",),
        derive=lambda posture: _worst_of(blank_accounts(posture), posture, "no blank one"),
    ),
    Rule(
        id="population.unending_passwords",
        title="who may keep a password for ever",
        kind=Choice(("anybody", "guests", "nobody")),
        severity=Severity.SERIOUS,
        why_severe="an account that is left out of the age of passwords keeps last season's password",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="The age of passwords holds for everybody, not only for those nobody made an exception for.",
        costs="Somebody who signs in rarely is asked for a new password more often than they come.",
        kept={
            "linux": "the longest age in each account's line of /etc/shadow",
            "bench": "a mark on the account, or no longest age at all",
        },
        controls=("IA-5(1)",),
        derive=lambda posture: _worst_of(unending_accounts(posture), posture, "no unending one"),
    ),
    Rule(
        id="population.duplicate_ids",
        title="two names for one identity",
        kind=Choice(("allowed", "forbidden")),
        severity=Severity.GRAVE,
        why_severe="what one of them does looks as if the other had done it, and a second root is easily overlooked",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Every account is one account: closing it closes it.",
        costs="A spare name for the administrator must become an account of its own.",
        kept=FROM_ACCOUNTS,
        controls=("AC-2", "IA-2"),
        derive=_duplicate_ids,
    ),
)
