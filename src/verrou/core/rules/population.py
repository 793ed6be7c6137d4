"""Rules about accounts, derived from the accounts and not from a setting.

Each is whole here: how it is read, who does not meet it, and what closes the gap."""

# Imports within functions: steps are made only for a plan: for a quick start of what only looks.

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date, timedelta
from functools import wraps
from typing import TYPE_CHECKING, TypeAlias

from verrou.core import advice
from verrou.core.model import (
    ACCOUNTS,
    Account,
    AccountName,
    Builtin,
    Detail,
    Effect,
    Grant,
    PasswordState,
    Reading,
    Role,
    Snapshot,
    Source,
    Unread,
    absent,
    joined,
    name_list,
    unreadable,
)
from verrou.core.model.access import administers, is_person, known_role, role_of
from verrou.core.model.ageing import exempt_from_ageing, expired, password_ages
from verrou.core.model.states import useful_hint
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import DerivedFromAccounts, GapsOf, Rule
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.values import Choice, Roster, Span, Value

if TYPE_CHECKING:  # steps are made when a gap is closed, so that a survey does without
    from verrou.core.steps.step import Step

Find: TypeAlias = Callable[[Snapshot], list[Account]]


def _once(find: Find) -> Find:
    """Compute a result once for each snapshot: reading a rule and finding its gaps need the same."""
    return wraps(find)(lambda snapshot: snapshot.once(find))


def _off_the_accounts(value: Value, names: Sequence[str], none: str) -> Reading:
    return Reading(value, source=Source(ACCOUNTS, text=name_list(names) or none))


# Who administers


@_once
def administrators(snapshot: Snapshot) -> list[Account]:
    """Return all administrators, usable or not; the built-in one only while it is enabled, since systems work as it."""
    return [a for a in snapshot.accounts if administers(a, snapshot) and (a.builtin is not Builtin.ADMIN or a.enabled)]


def _administrators(snapshot: Snapshot) -> Reading:
    names = [account.name for account in administrators(snapshot)]
    return _off_the_accounts(frozenset(names), names, "nobody")


def _other_administrators(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    group = snapshot.group_with(Grant.ADMINISTRATION)
    name = group.name if group else "ADMINISTRATORS"
    found = {account.name for account in administrators(snapshot)}
    if not isinstance(required, frozenset):
        manual = f"decide who is an administrator: {advice.join_group(name)}, or {advice.leave_group(name)}"
        yield Gap("", Fact.ADMINISTERS, found, required, manual=manual)
        return
    for account in sorted(administrators(snapshot), key=lambda each: each.name):
        if (extra := account.name) in required:
            continue
        if account.builtin is not None:
            ends = advice.disable(extra)
        elif group is not None and group.name in account.groups:
            ends = advice.leave_group(name, extra)
        else:
            lines = ", ".join(str(line) for line in account.granted_by)
            ends = (
                f"it has these rights by itself, and not by a group: change {lines}"
                if lines
                else "it has these rights by its ID"
            )
        manual = f"{extra} is an administrator but not one of {name_list(sorted(required))}: {ends}"
        yield Gap(extra, Fact.ADMINISTERS, True, False, manual=manual)
    if not found & required:
        manual = f"none of {name_list(sorted(required))} is an administrator: {advice.join_group(name)}"
        yield Gap("", Fact.ADMINISTERS, found, required, manual=manual)


# Passwords that are blank, or never end


@_once
def _enabled(snapshot: Snapshot) -> list[Account]:
    return [account for account in snapshot.accounts if account.enabled]


@_once
def blank_accounts(snapshot: Snapshot) -> list[Account]:
    """Return enabled accounts with a blank password that is accepted."""
    return [a for a in _enabled(snapshot) if a.password is PasswordState.BLANK]


@_once
def unending_accounts(snapshot: Snapshot) -> list[Account]:
    """Return enabled accounts of people whose password never has to be changed, without those a machine exempts."""
    return [
        a
        for a in _enabled(snapshot)
        if a.password is PasswordState.SET
        and not password_ages(a, snapshot)
        and is_person(a)
        and not exempt_from_ageing(a, snapshot)
    ]


@_once
def _unread_passwords(snapshot: Snapshot) -> list[Account]:
    """Return the enabled accounts of which it is not known whether they have a password."""
    return [a for a in _enabled(snapshot) if a.password is PasswordState.UNKNOWN]


def _worst_of(find: Find, none: str) -> Callable[[Snapshot], Reading]:
    """Return nobody, guests or anyone, by the accounts; unreadable where an unread password decides which."""

    def worst(accounts: list[Account], snapshot: Snapshot) -> str:
        guests_only = all(known_role(a, snapshot) is Role.GUEST for a in accounts)
        return "nobody" if not accounts else "guests" if guests_only else "anyone"

    def read(snapshot: Snapshot) -> Reading:
        accounts, unread = find(snapshot), _unread_passwords(snapshot)
        value = worst(accounts, snapshot)
        if worst([*accounts, *unread], snapshot) != value:
            names = name_list([a.name for a in unread])
            remedy = f"read the machine as {snapshot.machine.full_rights}"
            return unreadable(f"the password of {names} could not be read", remedy)
        return _off_the_accounts(value, [a.name for a in accounts], none)

    return read


def _but_for_guests(accounts: list[Account], snapshot: Snapshot, required: Value) -> list[Account]:
    """Return the accounts that such a rule is about: guests are excluded where it allows guests."""
    return [a for a in accounts if not (required == "guests" and known_role(a, snapshot) is Role.GUEST)]


def _blank_passwords(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    for account in _but_for_guests(blank_accounts(snapshot), snapshot, required):
        manual = f"{advice.set_password(account.name)}, or {advice.disable(account.name)}"
        yield Gap(account.name, Fact.PASSWORD, PasswordState.BLANK, PasswordState.SET, manual=manual)


def _unending_passwords(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    from verrou.core.steps.step import SetFlags

    for account in _but_for_guests(unending_accounts(snapshot), snapshot, required):
        steps = (SetFlags(account.name, ageing_exempt=False),) if account.ageing_exempt else ()
        manual = f"the password of {account.name} does not age; require password.max_age in the baseline"
        yield Gap(account.name, Fact.AGES, False, True, steps, manual=manual)


# Two names for one identity


def _duplicate_ids(snapshot: Snapshot) -> Reading:
    doubled = [[a.name for a in twins] for twins in snapshot.by_identity.values() if len(twins) > 1]
    message = "; ".join(f"{' and '.join(names)} are one" for names in doubled[:3])
    return Reading("allowed" if doubled else "forbidden", source=Source(ACCOUNTS, text=message or "no two are one"))


def _doubled(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    for twins in snapshot.by_identity.values():
        if len(twins) > 1:
            names = joined([account.name for account in twins])
            manual = f"{names} share one ID. Give all but one an ID of their own, or remove them"
            yield Gap(twins[0].name, Fact.IDENTITY, names, None, manual=manual)


# Accounts that no one requested, uses, or disabled in time


@_once
def _others(snapshot: Snapshot) -> list[Account]:
    """Return enabled accounts of people, without the built-in ones, which have rules of their own."""
    return [a for a in _enabled(snapshot) if a.builtin is None and is_person(a)]


def _closing(account: Account) -> "tuple[Step, ...]":
    from verrou.core.steps.step import SetEnabled

    return (SetEnabled(account.name, False, effect=Effect.NEXT_SIGN_IN),)


def _unlisted(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    for account in _others(snapshot) if required != "allow" else ():
        if account.name in listed:
            continue
        if required == "disable":
            yield Gap(account.name, Fact.ENABLED, True, False, _closing(account))
        else:
            manual = (
                f"list {account.name} under [accounts.{account.name}] in the baseline, "
                f"or {advice.disable(account.name)}"
            )
            yield Gap(account.name, Fact.ENABLED, True, False, manual=manual)


def last_used(account: Account, snapshot: Snapshot) -> date | None:
    """Return the day of the last sign-in, None where it is not known.

    For an account that never signed in it is the day its password was set, or the day from which on the machine records
    sign-ins, whichever is later."""
    if account.last_sign_in:
        return account.last_sign_in.date()
    known = [day for day in (account.password_changed, snapshot.machine.sign_ins_since) if day is not None]
    return max(known, default=None) if account.password_changed else None


def _days_of_use(snapshot: Snapshot) -> Mapping[AccountName, date | None]:
    """Return the day of last use of each account that someone could have used.

    Accounts that wait for their owner's first sign-in, to set a password that no one had, are excluded."""
    days = ((account, last_used(account, snapshot)) for account in _unexpired(snapshot) if not account.sessions)
    return {account.name: day for account, day in days if day is not None or not account.change_due}


@_once
def _unexpired(snapshot: Snapshot) -> list[Account]:
    past = set(map(id, ended(snapshot)))
    return [account for account in _others(snapshot) if id(account) not in past]


def _unused_for(snapshot: Snapshot) -> Reading:
    if snapshot.machine.no_sign_ins:
        return unreadable(snapshot.machine.no_sign_ins)
    used = snapshot.once(_days_of_use)
    unknown = [name for name, day in used.items() if day is None]
    if unknown:
        return unreadable(f"it is not known when {name_list(unknown)} was last used")
    days = {name: day for name, day in used.items() if day is not None}
    if not days:
        return Reading(timedelta(), source=Source(ACCOUNTS, text="no account to ask about"))
    longest = min(days, key=days.__getitem__)
    idle = max(snapshot.machine.now.date() - days[longest], timedelta())
    used_once = snapshot.by_name[longest].last_sign_in is not None
    message = f"last signed in {days[longest]}" if used_once else f"not signed in since {days[longest]}"
    return Reading(idle, source=Source(ACCOUNTS, text=f"{longest}: {message}"))


def unused(snapshot: Snapshot, limit: timedelta) -> list[Account]:
    """Return the enabled accounts of people without a sign-in for longer than ``limit``; never a guess."""
    if snapshot.machine.no_sign_ins:
        return []
    since = snapshot.machine.now.date() - limit
    days = snapshot.once(_days_of_use)
    return [snapshot.by_name[name] for name, day in days.items() if day is not None and day < since]


def _unused(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    for account in unused(snapshot, required) if isinstance(required, timedelta) else ():
        used = last_used(account, snapshot)
        if account.name in listed:
            manual = f"no one uses {account.name}, which the baseline lists; remove it there, or have its user sign in"
            yield Gap(account.name, Fact.USED, used, required, manual=manual)
        else:
            yield Gap(account.name, Fact.USED, used, required, _closing(account))


@_once
def temporary(snapshot: Snapshot) -> list[Account]:
    """Return guests, and accounts with an expiry that are not expired."""
    return [a for a in _unexpired(snapshot) if a.until is not None or role_of(a, snapshot) is Role.GUEST]


def _temporary_until(snapshot: Snapshot) -> Reading:
    found = temporary(snapshot)
    endless = [a.name for a in found if a.until is None]
    if endless:
        return Reading("never", source=Source(ACCOUNTS, text=f"{name_list(endless)}: no expiry date"))
    ends = {a.name: a.until for a in found if a.until is not None}
    if not ends:
        return Reading(timedelta(), source=Source(ACCOUNTS, text="no guest and no account with an expiry date"))
    last = max(ends, key=ends.__getitem__)
    return Reading(ends[last] - snapshot.machine.now.date(), source=Source(ACCOUNTS, text=f"{last} until {ends[last]}"))


def _ending_late(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    from verrou.core.steps.step import SetEnd

    if not isinstance(required, timedelta):
        return
    last = snapshot.machine.now.date() + required
    for account in temporary(snapshot):
        if account.until is None or account.until > last:
            yield Gap(account.name, Fact.UNTIL, account.until, last, (SetEnd(account.name, last),))


@_once
def ended(snapshot: Snapshot) -> list[Account]:
    """Return the accounts of people that are expired and not disabled."""
    today = snapshot.machine.now.date()
    return [account for account in _others(snapshot) if expired(account, snapshot, today)]


def _ended(snapshot: Snapshot) -> Reading:
    names = [a.name for a in ended(snapshot)]
    return _off_the_accounts("enabled" if names else "disabled", names, "none")


def _ended_and_open(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
    for account in ended(snapshot):
        yield Gap(account.name, Fact.ENABLED, True, False, _closing(account))


# What reveals a password


@_once
def with_hints(snapshot: Snapshot) -> list[Account]:
    """Return the accounts whose hint may reveal something."""
    return [account for account in snapshot.accounts if useful_hint(account.hint)]


@_once
def with_questions(snapshot: Snapshot) -> list[Account]:
    """Return the accounts that can be recovered by answering questions."""
    return [account for account in snapshot.accounts if account.recovery_questions]


def _giving_away(detail: Detail, what: str, find: Find) -> Callable[[Snapshot], Reading]:
    """Return the reading of a rule about something that a machine may store beside a password."""

    def read(snapshot: Snapshot) -> Reading:
        if detail not in snapshot.machine.details:
            return absent(f"this machine does not store {what}")
        names = [account.name for account in find(snapshot)]
        return _off_the_accounts("allowed" if names else "forbidden", names, "none")

    return read


def _given_away(detail: Detail, find: Find) -> GapsOf:
    def gaps(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
        from verrou.core.steps.step import SetDetails

        for account in find(snapshot):
            step = SetDetails(account.name, ((detail, ""),))
            yield Gap(account.name, Fact.GIVES_AWAY, detail, None, (step,))

    return gaps


RULES = (
    Rule(
        id="population.unlisted",
        title="accounts that the baseline does not list",
        statement="every enabled account is listed in the baseline",
        asks="required: only listed accounts enabled",
        statement_about="{who} {are} enabled and not listed in the baseline",
        kind=Choice(("allow", "report", "disable")),
        severity=Severity.MEDIUM,
        why_severe="an unlisted account can be used without anyone noticing",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Accounts left over from earlier seasons are found, or disabled.",
        costs="Every account that is to stay must be listed in the baseline.",
        controls=("AC-2",),
        derived=DerivedFromAccounts(
            lambda _: absent(f"it compares the accounts with a baseline: {advice.audit()} shows it"),
            advice.disable(),
            compares=True,
        ),
        gaps=_unlisted,
    ),
    Rule(
        id="population.administrators",
        title="who has administrator rights",
        statement="administrators: {}",
        kind=Roster("administrators", 1, 1000),
        severity=Severity.HIGH,
        why_severe="with none, no one can repair the machine; with many, no one knows who did what",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Few people can change everything, and there is always at least one.",
        costs="A former administrator has to ask for changes.",
        controls=("AC-6(5)",),
        derived=DerivedFromAccounts(
            _administrators,
            f"{advice.make_standard()}, or {advice.swap()}",
            needs=(Unread.ADMINISTRATION,),
        ),
        gaps=_other_administrators,
    ),
    Rule(
        id="population.blank_passwords",
        title="who may have a blank password",
        statement={
            "nobody": "no account has a blank password",
            "guests": "only guests have a blank password",
            "anyone": "accounts other than guests have a blank password",
        },
        asks={"nobody": "required: none", "guests": "required: only guests", "anyone": "required: no limit"},
        statement_about="{who} {have} a blank password",
        kind=Choice(("anyone", "guests", "nobody")),
        severity=Severity.HIGH,
        why_severe="a blank password protects nothing",
        takes_effect=Effect.NOW,
        protects="No one can sign in to another person's account by pressing Enter.",
        costs="Every such account needs a password or must be disabled.",
        controls=("IA-5",),
        derived=DerivedFromAccounts(_worst_of(blank_accounts, "no blank one"), advice.set_password()),
        gaps=_blank_passwords,
    ),
    Rule(
        id="population.ageing_exempt",
        title="who may be exempt from password ageing",
        statement={
            "nobody": "no one is exempt from password ageing",
            "guests": "only guests are exempt from password ageing",
            "anyone": "accounts other than guests are exempt from password ageing",
        },
        asks={"nobody": "required: none", "guests": "required: only guests", "anyone": "required: no limit"},
        statement_about="{who} {are} exempt from password ageing",
        kind=Choice(("anyone", "guests", "nobody")),
        severity=Severity.MEDIUM,
        why_severe="an exempt account keeps last season's password",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Password ageing applies to everyone, without forgotten exceptions.",
        costs="People who sign in rarely must change their password almost every time.",
        controls=("IA-5(1)",),
        derived=DerivedFromAccounts(_worst_of(unending_accounts, "no unending one"), advice.apply_ageing()),
        gaps=_unending_passwords,
    ),
    Rule(
        id="population.duplicate_ids",
        title="two names with the same ID",
        statement={"allowed": "some names share one ID", "forbidden": "every account has its own ID"},
        asks="required: one ID for each account",
        statement_about="{who} share one ID",
        kind=Choice(("allowed", "forbidden")),
        severity=Severity.HIGH,
        why_severe="what one does is recorded as the other, and a second root account is easily overlooked",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Disabling an account really disables it.",
        costs="A second name for root must become a separate account.",
        controls=("AC-2", "IA-2"),
        derived=DerivedFromAccounts(_duplicate_ids, advice.remove_keeping_files(), needs=()),
        gaps=_doubled,
    ),
    Rule(
        id="population.unused_for",
        title="longest time without a sign-in",
        statement="the least used account was last used {} ago",
        asks="required: at most {} without a sign-in",
        statement_about="no one has signed in as {who} for too long",
        kind=Span("day", 1, 9999, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.MEDIUM,
        why_severe="no one notices when an unused account is used by someone else",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Accounts of people who left are found, and harden disables them.",
        costs=(
            "Someone who returns after a long absence has to ask. Accounts listed in the baseline are "
            "reported but not disabled."
        ),
        controls=("AC-2(3)",),
        derived=DerivedFromAccounts(_unused_for, advice.disable()),
        gaps=_unused,
    ),
    Rule(
        id="population.temporary_limit",
        title="how far ahead guest and temporary accounts may expire",
        statement={
            "never": "a guest or temporary account has no expiry date",
            None: "the last guest or temporary account expires in {}",
        },
        asks="required: expiry within {}",
        statement_about="{who} {have} no expiry date, or one that is too late",
        kind=Span("day", 1, 9999, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.MEDIUM,
        why_severe="a seasonal account without an expiry date stays for years",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Guest and temporary accounts stop working without anyone having to act.",
        costs=f"An account that is still needed must be extended: {advice.set_until()}.",
        controls=("AC-2(2)",),
        derived=DerivedFromAccounts(_temporary_until, advice.set_until()),
        gaps=_ending_late,
    ),
    Rule(
        id="population.expired_accounts",
        title="expired accounts",
        statement={
            "enabled": "some expired accounts are not disabled",
            "disabled": "every expired account is disabled",
        },
        asks="required: disabled",
        statement_about="{who} {are} expired but not disabled",
        kind=Choice(("enabled", "disabled")),
        severity=Severity.LOW,
        why_severe="an expired account is blocked, but one changed date enables it again",
        takes_effect=Effect.NOW,
        protects="The account list shows who has left, and a wrong clock enables no account.",
        costs="Bringing an account back takes two steps: a new expiry date, and enabling it.",
        controls=("AC-2(3)",),
        derived=DerivedFromAccounts(_ended, advice.disable()),
        gaps=_ended_and_open,
    ),
    Rule(
        id="population.hints",
        title="password hints",
        statement={"allowed": "some password hints reveal something", "forbidden": "no password hint reveals anything"},
        asks="required: no hint that reveals anything",
        statement_about="{who} {have} a password hint that reveals something",
        kind=Choice(("allowed", "forbidden")),
        severity=Severity.MEDIUM,
        why_severe="anyone at the sign-in screen can read a hint, and many hints are the password",
        takes_effect=Effect.NOW,
        protects=(
            'The screen gives strangers no clue. A hint of punctuation, or one that says "none", does not count.'
        ),
        costs="Someone who forgets a password needs an administrator.",
        controls=("IA-5", "IA-6"),
        derived=DerivedFromAccounts(_giving_away(Detail.HINT, "hints", with_hints), advice.drop_hint(), needs=()),
        gaps=_given_away(Detail.HINT, with_hints),
    ),
    Rule(
        id="population.recovery_questions",
        title="recovery questions",
        statement={
            "allowed": "some accounts can be recovered by answering questions",
            "forbidden": "no account can be recovered by answering questions",
        },
        asks="required: none",
        statement_about="{who} can be recovered by answering questions",
        kind=Choice(("allowed", "forbidden")),
        severity=Severity.MEDIUM,
        why_severe="a birthplace or a pet's name is easier to find out than a password",
        takes_effect=Effect.NOW,
        protects="Knowing a person is not enough to get into their account.",
        costs="Someone who forgets a password needs an administrator.",
        controls=("IA-5",),
        derived=DerivedFromAccounts(
            _giving_away(Detail.RECOVERY_QUESTIONS, "recovery questions", with_questions),
            advice.drop_questions(),
            needs=(),
        ),
        gaps=_given_away(Detail.RECOVERY_QUESTIONS, with_questions),
    ),
    Rule(
        id="population.linked_identities",
        title="accounts linked to an online identity",
        statement={
            "allowed": "accounts can be linked to an online identity",
            "existing-only": "no more accounts can be linked to an online identity",
            "forbidden": "linked online identities cannot sign in",
        },
        asks={
            "existing-only": "required: no new links",
            "forbidden": "required: no sign-in",
            "allowed": "required: allowed",
        },
        kind=Choice(("allowed", "existing-only", "forbidden")),
        severity=Severity.MEDIUM,
        why_severe=(
            "anyone who takes over the online identity takes over the account, and no rule here applies to its password"
        ),
        takes_effect=Effect.NOW,
        protects="Sign-in is decided on this machine alone. existing-only prevents new links.",
        costs=('Linked accounts need a local password before "forbidden" is set; otherwise they cannot sign in.'),
        controls=("AC-2", "IA-2"),
    ),
)
