"""Roles, sign-in routes and usable administrators, derived from facts and never from names."""

from datetime import date
from enum import StrEnum
from typing import Literal

from verrou.core.model import (
    Account,
    AccountName,
    Builtin,
    Grant,
    Group,
    Origin,
    PasswordState,
    Role,
    Snapshot,
    Status,
    Unread,
)
from verrou.core.model.ageing import barred_by_age, expired
from verrou.core.model.known import Known
from verrou.core.model.programs import ElevationSubject, Program
from verrou.core.model.routes import Admission, EntryPoint, Route
from verrou.core.values import cells_of

KnownRole = Role | Literal[Known.UNKNOWN]


def grants_of(account: Account, snapshot: Snapshot) -> frozenset[Grant]:
    """Return the grants of an account: its own and those of its groups, without the denied ones."""
    given = frozenset(account.grants)
    for group in account.groups:
        if group in snapshot.granting:
            given |= snapshot.granting[group]
    return given - frozenset(account.denied_grants)


def role_of(account: Account, snapshot: Snapshot) -> Role:
    """Return the role: administrator rights decide first, then who made the account, then whether it is only a
    guest."""
    given = grants_of(account, snapshot)
    if Grant.ADMINISTRATION in given:
        return Role.ADMINISTRATOR
    if account.builtin is Builtin.GUEST or (Grant.GUEST_USE in given and Grant.ORDINARY_USE not in given):
        return Role.GUEST
    if account.origin is Origin.SERVICE:
        return Role.SERVICE
    if account.origin is Origin.SYSTEM or account.builtin is Builtin.OTHER:
        return Role.SYSTEM
    return Role.STANDARD


def as_known_role(word: str | None) -> KnownRole:
    """Return the role that a record holds; older records hold None where it was not known."""
    return Known.UNKNOWN if word in (None, Known.UNKNOWN) else Role(word)


def known_role(account: Account, snapshot: Snapshot) -> KnownRole:
    """Return the role of an account. It is not known where a standard user or a guest may be an administrator by what
    could not be read or understood."""
    role = role_of(account, snapshot)
    doubtful = Unread.ADMINISTRATION in snapshot.machine.unread and role in (Role.STANDARD, Role.GUEST)
    return Known.UNKNOWN if doubtful else role


def is_person(account: Account) -> bool:
    """Return whether a person is meant to use the account: created by one, or a built-in account for people."""
    return account.origin is Origin.ADDED or account.builtin in (Builtin.ADMIN, Builtin.GUEST)


def can_sign_in(account: Account, snapshot: Snapshot, on: date | None = None) -> bool:
    """Return whether it is enabled and not expired, with a password (a blank one counts) and a shell.

    A lock does not count, since it passes by itself. ``on``: the day of the question, today by default."""
    return (
        account.enabled
        and account.may_sign_in
        and account.password is not PasswordState.NONE
        and not expired(account, snapshot, on or snapshot.machine.now.date())
    )


def locked(account: Account, snapshot: Snapshot) -> bool:
    """Return whether failed attempts have locked the account, and still do."""
    return account.locked_until is not None and account.locked_until > snapshot.machine.now


def routes_now(account: Account, snapshot: Snapshot) -> tuple[Route, ...]:
    """Return the routes by which the account can sign in right now: none while it is locked."""
    return () if locked(account, snapshot) else routes_of(account, snapshot)


def routes_of(account: Account, snapshot: Snapshot) -> tuple[Route, ...]:
    """Return the routes by which the account is known to be able to sign in, apart from a lock.

    A route counts where an entry point admits the account and accepts a credential that it has."""
    found = {
        entry_point.route: True
        for entry_point in snapshot.entry_points
        if admitted(account, entry_point, snapshot) in KNOWN_TO_OPEN
    }
    return tuple(found)


def routes_unknown(account: Account, snapshot: Snapshot) -> tuple[Route, ...]:
    """Return the routes of which it is not known whether the account can sign in, apart from a lock."""
    found = {
        entry_point.route: True
        for entry_point in snapshot.entry_points
        if admitted(account, entry_point, snapshot) is Credential.UNKNOWN
    }
    known = routes_of(account, snapshot)
    return tuple(route for route in found if route not in known)


def admitted(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> "Credential | None":
    """Return the weakest credential that an entry point accepts from the account in its state, apart from a lock.

    None: it accepts none."""
    decided = entry_point.admissions.get(account.name)
    if decided is not None:
        return _decided(account, entry_point, decided) if account.may_sign_in else None
    return accepted_credential(account, entry_point, snapshot) if _is_open(account, snapshot) else None


def signed_in_automatically(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> bool:
    """Return whether the machine signs the account in automatically at this entry point.

    A disabled or expired account is not, unless the system itself answered that it is admitted."""
    return bool(entry_point.automatic) and admitted(account, entry_point, snapshot) in KNOWN_TO_OPEN


def _is_open(account: Account, snapshot: Snapshot) -> bool:
    """Return whether an account is enabled, has a login shell and is not expired."""
    return account.enabled and account.may_sign_in and not expired(account, snapshot, snapshot.machine.now.date())


class Credential(StrEnum):
    """What an entry point accepts, the weakest first. UNKNOWN: it is not known whether it accepts anything."""

    AUTOMATIC = "automatic"
    NAME = "name"
    BLANK = "blank"
    PASSWORD = "password"
    KEY = "key"
    UNKNOWN = "unknown"


KNOWN_TO_OPEN = frozenset(Credential) - {Credential.UNKNOWN}


def accepted_credential(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> Credential | None:
    """Return the weakest credential accepted at an entry point from an enabled account; None for none."""
    if account.name in entry_point.admissions:
        return _decided(account, entry_point, entry_point.admissions[account.name])
    return _opening(account, entry_point, snapshot) if entry_point.admits(account) else None


def _answers(account: Account, entry_point: EntryPoint, decided: Admission) -> dict[Credential, Known]:
    """Return each credential, the weakest first, and whether the entry point accepts it."""
    with_nothing = Credential.AUTOMATIC if entry_point.automatic else Credential.NAME
    with_password = Credential.BLANK if account.password is PasswordState.BLANK else Credential.PASSWORD
    return {with_nothing: decided.name, with_password: decided.password, Credential.KEY: decided.key}


def doubts(account: Account, route: Route, snapshot: Snapshot) -> list[str]:
    """Return what is not known about a route: whether the account can sign in, or whether a weaker credential is
    enough."""
    found = {}
    for entry_point in snapshot.entry_points:
        decided = entry_point.admissions.get(account.name)
        how = admitted(account, entry_point, snapshot) if entry_point.route is route else None
        if decided is None or how is None:
            continue
        if how is Credential.UNKNOWN:
            found[decided.statement] = True
            continue
        answers = _answers(account, entry_point, decided)
        easier = [answer for each, answer in answers.items() if list(answers).index(each) < list(answers).index(how)]
        if Known.UNKNOWN in easier:
            found[f"{decided.statement}, so a weaker credential than its {how} may be enough"] = True
    return list(found)


def opens_without_proof(account: Account, route: Route, snapshot: Snapshot) -> bool:
    """Return whether less than a password or a key is, or may be, enough to sign in, apart from a lock."""
    found = {
        admitted(account, entry_point, snapshot) for entry_point in snapshot.entry_points if entry_point.route is route
    }
    return bool(found - {None, Credential.PASSWORD, Credential.KEY}) or bool(doubts(account, route, snapshot))


def _decided(account: Account, entry_point: EntryPoint, decided: Admission) -> Credential | None:
    answers = _answers(account, entry_point, decided)
    known = next((how for how, answer in answers.items() if answer is Known.YES), None)
    return known or (Credential.UNKNOWN if Known.UNKNOWN in answers.values() else None)


def weakest_credential(account: Account, route: Route, snapshot: Snapshot) -> Credential | None:
    """Return the weakest credential accepted for the account on a route right now; None where it cannot sign in."""
    if locked(account, snapshot):
        return None
    found = {
        admitted(account, entry_point, snapshot) for entry_point in snapshot.entry_points if entry_point.route is route
    }
    if found <= {None}:
        return None
    return next(each for each in Credential if each in found)


def barred(account: Account, snapshot: Snapshot) -> bool:
    """Return whether the machine denies the account because it is linked to an online identity."""
    if not account.linked_identity:
        return False
    reading = snapshot.readings.get("population.linked_identities")
    return reading is not None and reading.value == "forbidden"


def _opening(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> Credential | None:
    if barred(account, snapshot):
        return None
    if not entry_point.proof:
        return Credential.AUTOMATIC if entry_point.automatic else Credential.NAME
    key = Credential.KEY if account.keys and entry_point.keys else None
    if not entry_point.passwords or entry_point.keys_only.contains(account):
        return key
    if account.password is PasswordState.BLANK:
        return Credential.BLANK if entry_point.blank and entry_point.route in blank_routes(snapshot) else key
    return Credential.PASSWORD if account.password in (PasswordState.SET, PasswordState.UNKNOWN) else key


def blank_routes(snapshot: Snapshot) -> frozenset[str]:
    """Return the routes on which the rule accepts blank passwords; all of them where it is not known."""
    reading = snapshot.readings.get("password.blank_accepted")
    known = reading is not None and reading.status is Status.READ and reading.enforced
    value = reading.value if reading is not None and known else None
    return value if isinstance(value, frozenset) else frozenset(Route)


def has_route(account: Account, snapshot: Snapshot) -> bool:
    """Return whether the account can sign in by any route. A machine with unknown entry points has a console."""
    if barred(account, snapshot):
        return False
    return (
        can_sign_in(account, snapshot) or bool(routes_of(account, snapshot)) or bool(routes_unknown(account, snapshot))
    )


def granted_routes(group: Group, snapshot: Snapshot) -> list[Route]:
    """Return the routes that membership of the group allows."""
    return list(
        dict.fromkeys(entry_point.route for entry_point in snapshot.entry_points if entry_point.opened_by(group.name))
    )


def denied_routes(group: Group, snapshot: Snapshot) -> list[Route]:
    """Return the routes that membership of the group denies."""
    shut = {entry_point.route: True for entry_point in snapshot.entry_points}
    for entry_point in snapshot.entry_points:
        shut[entry_point.route] = shut[entry_point.route] and entry_point.shut_by(group.name)
    return [route for route, by_all in shut.items() if by_all]


def administers(account: Account, snapshot: Snapshot) -> bool:
    """Return whether the account has administrator rights, by itself or by a group."""
    given = Grant.ADMINISTRATION in account.grants or not snapshot.administering.isdisjoint(account.groups)
    return given and Grant.ADMINISTRATION not in account.denied_grants


def usable_administrators(snapshot: Snapshot, on: date | None = None) -> list[Account]:
    """Return the administrators who are known to be usable at the console on a day (default: today).

    Usable: signs in at the console, is not locked, has a real password that it can change when a change is due, and has
    what elevation asks for."""
    return [account for account in snapshot.accounts if usable_administrator(account, snapshot, on)]


def usable_administrator(account: Account, snapshot: Snapshot, on: date | None = None) -> bool:
    """Return whether the account is one of :func:`usable_administrators`."""
    if not administers(account, snapshot) or account.password is not PasswordState.SET:
        return False
    return _could_administer(account, snapshot, on) and not _looked_up_as_another(account, snapshot)


def possible_administrators(snapshot: Snapshot) -> list[Account]:
    """Return the administrators of today, and those who would be one if what is not known of them were good.

    Not known are a password that could not be read, or an ID that another account has too."""
    perhaps = (PasswordState.SET, PasswordState.UNKNOWN)
    return [
        account
        for account in snapshot.accounts
        if administers(account, snapshot)
        and account.password in perhaps
        and _could_administer(account, snapshot, None, doubts=True)
    ]


def _could_administer(account: Account, snapshot: Snapshot, on: date | None, *, doubts: bool = False) -> bool:
    """Return whether everything but its password makes an account a usable administrator.

    With ``doubts`` also where that is not known."""
    now = snapshot.machine.now
    day = on or now.date()
    return (
        can_sign_in(account, snapshot, day)
        and not barred_by_age(account, snapshot, day)
        and not (day == now.date() and locked(account, snapshot))
        and not barred(account, snapshot)
        and (account.elevates_until is None or day <= max(account.elevates_until, now.date()))
        and _has_what_elevation_asks(account, snapshot, day)
        and all(
            _by_password(account, entry_point) in ((Known.YES, Known.UNKNOWN) if doubts else (Known.YES,))
            for entry_point in snapshot.entry_points
            if entry_point.route is Route.CONSOLE and not entry_point.automatic
        )
    )


def _by_password(account: Account, entry_point: EntryPoint) -> Known:
    """Return whether an entry point admits an account by its password."""
    if account.name in entry_point.admissions:
        return entry_point.admissions[account.name].password
    return Known.of(entry_point.admits(account))


def _has_what_elevation_asks(account: Account, snapshot: Snapshot, day: date) -> bool:
    """Return whether the rules let the account elevate the system's own programs, with which everything can be set
    right, and whether a password exists that elevation accepts, where it asks for another account's."""
    who = ElevationSubject.BUILT_IN if account.builtin is Builtin.ADMIN else ElevationSubject.ADMINISTRATOR
    reading = snapshot.readings.get(f"elevation.{who}")
    if reading is not None and reading.value is not None and cells_of(reading.value).get(Program.SYSTEM) == "denied":
        return False
    if not account.elevates_with:
        return True
    other = snapshot.by_name.get(AccountName(account.elevates_with))
    return (
        other is not None
        and other.enabled
        and other.password is PasswordState.SET
        and not expired(other, snapshot, day)
        and not barred_by_age(other, snapshot, day)
    )


def _looked_up_as_another(account: Account, snapshot: Snapshot) -> bool:
    """Return whether looking up the ID of the account finds another account first, which then decides elevation.

    The identity as which the system itself works needs no elevation."""
    first = snapshot.by_identity[account.identity][0]
    admin = snapshot.builtin(Builtin.ADMIN)
    the_system = snapshot.machine.admin_ageing_exempt and admin is not None and admin.identity == account.identity
    return first.name != account.name and not the_system


def needs_a_look(account: Account, snapshot: Snapshot) -> bool:
    """Return whether a list without system accounts still has to show the account."""
    return is_person(account) or has_route(account, snapshot) or Grant.ADMINISTRATION in grants_of(account, snapshot)
