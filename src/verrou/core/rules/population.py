"""Who has an account at all: rules that are read off the accounts, not off a setting."""

import math
from collections.abc import Callable
from datetime import date, timedelta

from verrou.core.model import (
    Account,
    Detail,
    Effect,
    PasswordState,
    Posture,
    Reading,
    Role,
    Source,
    absent,
    name_list,
)
from verrou.core.model.access import is_person, role_of, usable_administrators, useful_hint
from verrou.core.model.ageing import expired, left_out, password_ages
from verrou.core.rules.declaration import Rule, Severity
from verrou.core.values import Choice, Count, Span

FROM_ACCOUNTS = {"linux": "derived from the accounts", "bench": "derived from the accounts"}


def blank_accounts(posture: Posture) -> list[Account]:
    """Enabled accounts that a blank password opens."""
    return [a for a in posture.accounts if a.enabled and a.password is PasswordState.BLANK]


def _administrators(posture: Posture) -> Reading:
    names = [account.name for account in usable_administrators(posture)]
    return Reading(len(names), source=Source("accounts", text=name_list(names) or "nobody"))


def unending_accounts(posture: Posture) -> list[Account]:
    """Enabled accounts of people whose password never has to be changed, but for those that a machine leaves out."""
    return [
        a
        for a in posture.accounts
        if a.enabled
        and is_person(a)
        and not left_out(a, posture)
        and a.password is PasswordState.SET
        and not password_ages(a, posture)
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


def _others(posture: Posture) -> list[Account]:
    """Enabled accounts of people, but for the built-in ones, which have rules of their own."""
    return [a for a in posture.accounts if a.enabled and a.builtin is None and is_person(a)]


def last_used(account: Account) -> date | None:
    """The day of the last sign-in, or of the first password where there was none; None when nobody knows."""
    return account.last_sign_in.date() if account.last_sign_in else account.password_changed


def _used_by_somebody(posture: Posture) -> list[Account]:
    """Accounts of which somebody could have made use; not those that wait for their owner's first sign-in, to set a
    password that nobody has had yet."""
    return [a for a in _unexpired(posture) if not a.sessions and not (a.password_due and last_used(a) is None)]


def unused(posture: Posture, limit: timedelta) -> list[Account]:
    """Enabled accounts of people in which nobody has signed in for longer than ``limit``."""
    since = posture.machine.now.date() - limit
    days = {a.name: last_used(a) for a in _used_by_somebody(posture)}
    return [posture.by_name[name] for name, day in days.items() if day is None or day < since]


def _unexpired(posture: Posture) -> list[Account]:
    return [account for account in _others(posture) if not expired(account, posture, posture.machine.now.date())]


def _unused_for(posture: Posture) -> Reading:
    used = {a.name: last_used(a) for a in _used_by_somebody(posture)}
    unknown = [name for name, day in used.items() if day is None]
    if unknown:
        return Reading("never", source=Source("accounts", text=f"{name_list(unknown)} never signed in"))
    days = {name: day for name, day in used.items() if day is not None}
    if not days:
        return Reading(timedelta(), source=Source("accounts", text="nobody to ask of"))
    longest = min(days, key=lambda name: days[name])
    idle = max(posture.machine.now.date() - days[longest], timedelta())
    used_once = posture.by_name[longest].last_sign_in is not None
    said = f"last signed in {days[longest]}" if used_once else f"never signed in, password of {days[longest]}"
    return Reading(idle, source=Source("accounts", text=f"{longest}: {said}"))


def temporary(posture: Posture) -> list[Account]:
    """Guests and accounts with an end that has not passed."""
    return [a for a in _unexpired(posture) if a.ends is not None or role_of(a, posture) is Role.GUEST]


def _temporary_until(posture: Posture) -> Reading:
    found = temporary(posture)
    endless = [a.name for a in found if a.ends is None]
    if endless:
        return Reading("never", source=Source("accounts", text=f"{name_list(endless)}: no end"))
    ends = {a.name: a.ends for a in found if a.ends is not None}
    if not ends:
        return Reading(timedelta(), source=Source("accounts", text="no guest and nobody with an end"))
    last = max(ends, key=lambda name: ends[name])
    return Reading(
        ends[last] - posture.machine.now.date(), source=Source("accounts", text=f"{last} until {ends[last]}")
    )


def ended(posture: Posture) -> list[Account]:
    """Accounts of people whose end has passed and that nobody has disabled."""
    return [account for account in _others(posture) if expired(account, posture, posture.machine.now.date())]


def _ended(posture: Posture) -> Reading:
    names = [a.name for a in ended(posture)]
    return Reading("left-open" if names else "disabled", source=Source("accounts", text=name_list(names) or "none"))


def with_hints(posture: Posture) -> list[Account]:
    """Accounts whose hint may tell somebody something."""
    return [account for account in posture.accounts if useful_hint(account.hint)]


def with_questions(posture: Posture) -> list[Account]:
    """Accounts that open to whoever answers a few questions."""
    return [account for account in posture.accounts if account.recovery_questions]


def _giving_away(detail: Detail, what: str, find: Callable[[Posture], list[Account]]) -> Callable[[Posture], Reading]:
    """The reading of a rule about something that a machine may keep beside a password."""

    def read(posture: Posture) -> Reading:
        if detail not in posture.machine.details:
            return absent(f"this machine keeps no {what}")
        names = [account.name for account in find(posture)]
        return Reading("allowed" if names else "forbidden", source=Source("accounts", text=name_list(names) or "none"))

    return read


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
    Rule(
        id="population.unused_for",
        title="longest time without a sign-in",
        kind=Span("day", 1, 9999, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.SERIOUS,
        why_severe="nobody notices when an account that nobody uses is used by somebody else",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Accounts of people who left without a word come to light, and are disabled by harden.",
        costs="Somebody who comes back after a long time has to ask. Accounts that the baseline lists are only "
        "shown, and left open.",
        kept={
            "linux": "the last sign-in in /var/log/lastlog; without one, the day of the password in /etc/shadow",
            "bench": "the last sign-in that the authority keeps; without one, the day of the password",
        },
        controls=("AC-2(3)",),
        derive=_unused_for,
    ),
    Rule(
        id="population.temporary_until",
        title="how far away the end of guests and temporary accounts may be",
        kind=Span("day", 1, 9999, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.SERIOUS,
        why_severe="an account for a season that has no end stays for years",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Guests, and accounts that have an end at all, stop working by themselves.",
        costs="Somebody must lengthen what is still needed: verrou account change NAME --ends DAY.",
        kept={
            "linux": "the end date in each account's line of /etc/shadow",
            "bench": "the end that the authority keeps of each account",
        },
        controls=("AC-2(2)",),
        derive=_temporary_until,
    ),
    Rule(
        id="population.ended_accounts",
        title="accounts past their end",
        kind=Choice(("left-open", "disabled")),
        severity=Severity.SLIGHT,
        why_severe="an account past its end lets nobody in, but one changed date opens it again",
        takes_effect=Effect.NOW,
        protects="Who reads the list sees at once who is gone, and a wrong clock opens nothing.",
        costs="Coming back takes two steps: another end, and enabling.",
        kept=FROM_ACCOUNTS,
        controls=("AC-2(3)",),
        derive=_ended,
    ),
    Rule(
        id="population.hints",
        title="hints that help to remember a password",
        kind=Choice(("allowed", "forbidden")),
        severity=Severity.SERIOUS,
        why_severe="everybody at the sign-in screen can read a hint, and many hints are the password",
        takes_effect=Effect.NOW,
        protects="The screen tells a stranger nothing. Signs alone, or words that say there is none, are no hint.",
        costs="Who forgets a password needs an administrator.",
        kept={"linux": "not kept: no such hints", "bench": "a text beside each account"},
        controls=("IA-5", "IA-6"),
        derive=_giving_away(Detail.HINT, "hints", with_hints),
    ),
    Rule(
        id="population.recovery_questions",
        title="questions whose answers open an account",
        kind=Choice(("allowed", "forbidden")),
        severity=Severity.SERIOUS,
        why_severe="a birthplace or the name of a dog is easier to find out than any password",
        takes_effect=Effect.NOW,
        protects="Nobody gets in by knowing somebody.",
        costs="Who forgets a password needs an administrator.",
        kept={"linux": "not kept: no such questions", "bench": "questions and hashed answers beside each account"},
        controls=("IA-5",),
        derive=_giving_away(Detail.RECOVERY_QUESTIONS, "recovery questions", with_questions),
    ),
    Rule(
        id="population.online_identities",
        title="accounts tied to an identity that an outside service keeps",
        kind=Choice(("allowed", "existing-only", "forbidden")),
        severity=Severity.SERIOUS,
        why_severe="whoever takes over the outside identity takes over the account, and no rule of this machine holds "
        "for its password",
        takes_effect=Effect.NOW,
        protects="Who may get in is decided on this machine alone. existing-only lets no further account be tied.",
        costs="Tied accounts need a password of this machine before forbidden, or they stay out.",
        kept={
            "linux": "not kept: accounts are in /etc/passwd alone",
            "bench": "a number of the authority, and a mark on each account that is tied",
        },
        controls=("AC-2", "IA-2"),
    ),
)
