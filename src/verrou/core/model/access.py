"""What an account amounts to, by which ways it gets in, and who can still administer: derived, never from names."""

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
from verrou.core.model.ways import Admission, EntryPoint, Route

KnownRole = Role | Literal[Known.UNKNOWN]


def grants_of(account: Account, snapshot: Snapshot) -> frozenset[Grant]:
    """What the account is given, by itself and by its groups."""
    given = frozenset(account.grants)
    for group in account.groups:
        if group in snapshot.granting:
            given |= snapshot.granting[group]
    return given - frozenset(account.denied_grants)


def role_of(account: Account, snapshot: Snapshot) -> Role:
    """Administration outweighs everything; then who made the account; then whether it is only a guest."""
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
    """Return the role that a record holds; older ones hold nothing where it is not known."""
    return Known.UNKNOWN if word in (None, Known.UNKNOWN) else Role(word)


def known_role(account: Account, snapshot: Snapshot) -> KnownRole:
    """Return the role of an account. It is not known where a standard user or a guest may be an administrator by what
    could not be read or understood."""
    role = role_of(account, snapshot)
    doubtful = Unread.ADMINISTRATION in snapshot.machine.unread and role in (Role.STANDARD, Role.GUEST)
    return Known.UNKNOWN if doubtful else role


def is_person(account: Account) -> bool:
    """Whether somebody is meant to sign in as it: made by a person, or a built-in administrator or guest."""
    return account.origin is Origin.ADDED or account.builtin in (Builtin.ADMIN, Builtin.GUEST)


def can_sign_in(account: Account, snapshot: Snapshot, on: date | None = None) -> bool:
    """Enabled, unexpired, with a password (a blank one counts) and a shell; a lock passes by itself and does not.
    ``on``: the day that is asked about, today without it."""
    return (
        account.enabled
        and account.may_sign_in
        and account.password is not PasswordState.NONE
        and not expired(account, snapshot, on or snapshot.machine.now.date())
    )


def locked(account: Account, snapshot: Snapshot) -> bool:
    """Whether wrong passwords have locked the account, and still do."""
    return account.locked_until is not None and account.locked_until > snapshot.machine.now


def routes_now(account: Account, snapshot: Snapshot) -> tuple[Route, ...]:
    """The ways by which somebody gets in as the account right now: none while it is locked."""
    return () if locked(account, snapshot) else routes_of(account, snapshot)


def routes_of(account: Account, snapshot: Snapshot) -> tuple[Route, ...]:
    """The ways by which it is known that somebody gets in as the account, a lock aside: a gate of the machine that lets
    it through and is opened by what the account has, a password, a blank one or a key."""
    found = {gate.way: True for gate in snapshot.entry_points if admitted(account, gate, snapshot) in KNOWN_TO_OPEN}
    return tuple(found)


def routes_unknown(account: Account, snapshot: Snapshot) -> tuple[Route, ...]:
    """The ways of which it is not known whether somebody gets in by them as the account, a lock aside."""
    found = {
        gate.way: True for gate in snapshot.entry_points if admitted(account, gate, snapshot) is Credential.UNKNOWN
    }
    known = routes_of(account, snapshot)
    return tuple(way for way in found if way not in known)


def admitted(account: Account, gate: EntryPoint, snapshot: Snapshot) -> "Credential | None":
    """What opens a gate to an account as it is, a lock aside; None where nothing does."""
    decided = gate.admissions.get(account.name)
    if decided is not None:
        return _decided(account, gate, decided) if account.may_sign_in else None
    return accepted_credential(account, gate, snapshot) if _is_open(account, snapshot) else None


def signed_in_unasked(account: Account, gate: EntryPoint, snapshot: Snapshot) -> bool:
    """Whether the machine signs the account in by itself through this gate: one that is closed or has ended is not,
    unless what the gate asks lets it in all the same."""
    return bool(gate.unasked) and admitted(account, gate, snapshot) in KNOWN_TO_OPEN


def _is_open(account: Account, snapshot: Snapshot) -> bool:
    """Whether an account is enabled, has a shell and has not ended."""
    return account.enabled and account.may_sign_in and not expired(account, snapshot, snapshot.machine.now.date())


class Credential(StrEnum):
    """What opens a gate to an account, the easiest first: nothing that anybody does, a name alone, a blank password, a
    password, a key. UNKNOWN: it is not known whether anything does."""

    AUTOMATIC = "automatic"
    NAME = "name"
    BLANK = "blank"
    PASSWORD = "password"
    KEY = "key"
    UNKNOWN = "unknown"


KNOWN_TO_OPEN = frozenset(Credential) - {Credential.UNKNOWN}


def accepted_credential(account: Account, gate: EntryPoint, snapshot: Snapshot) -> Credential | None:
    """What opens a gate to an account that is open itself; None where nothing does."""
    if account.name in gate.admissions:
        return _decided(account, gate, gate.admissions[account.name])
    return _opening(account, gate, snapshot) if gate.lets_through(account) else None


def _answers(account: Account, gate: EntryPoint, decided: Admission) -> dict[Credential, Known]:
    """What could open a gate, the easiest first, and whether it does."""
    with_nothing = Credential.AUTOMATIC if gate.unasked else Credential.NAME
    with_password = Credential.BLANK if account.password is PasswordState.BLANK else Credential.PASSWORD
    return {with_nothing: decided.name, with_password: decided.password, Credential.KEY: decided.key}


def doubts(account: Account, way: Route, snapshot: Snapshot) -> list[str]:
    """What is not known of how the account gets in by a way: whether at all, or whether less than what is known is
    enough."""
    found = {}
    for gate in snapshot.entry_points:
        decided = gate.admissions.get(account.name)
        how = admitted(account, gate, snapshot) if gate.way is way else None
        if decided is None or how is None:
            continue
        if how is Credential.UNKNOWN:
            found[decided.says] = True
            continue
        answers = _answers(account, gate, decided)
        easier = [answer for each, answer in answers.items() if list(answers).index(each) < list(answers).index(how)]
        if Known.UNKNOWN in easier:
            found[f"{decided.says}, so less than its {how} may be enough"] = True
    return list(found)


def opens_without_proof(account: Account, way: Route, snapshot: Snapshot) -> bool:
    """Whether less than a password or a key lets somebody in by a way as the account, or may, a lock aside."""
    found = {admitted(account, gate, snapshot) for gate in snapshot.entry_points if gate.way is way}
    return bool(found - {None, Credential.PASSWORD, Credential.KEY}) or bool(doubts(account, way, snapshot))


def _decided(account: Account, gate: EntryPoint, decided: Admission) -> Credential | None:
    answers = _answers(account, gate, decided)
    known = next((how for how, answer in answers.items() if answer is Known.YES), None)
    return known or (Credential.UNKNOWN if Known.UNKNOWN in answers.values() else None)


def weakest_credential(account: Account, way: Route, snapshot: Snapshot) -> Credential | None:
    """The easiest of what opens a way to the account right now; None where it does not get in by that way."""
    if locked(account, snapshot):
        return None
    found = {admitted(account, gate, snapshot) for gate in snapshot.entry_points if gate.way is way}
    if found <= {None}:
        return None
    return next(each for each in Credential if each in found)


def barred(account: Account, snapshot: Snapshot) -> bool:
    """Whether the account is tied to an outside identity on a machine that lets in no such accounts."""
    if not account.linked_identity:
        return False
    reading = snapshot.readings.get("population.linked_identities")
    return reading is not None and reading.value == "forbidden"


def _opening(account: Account, gate: EntryPoint, snapshot: Snapshot) -> Credential | None:
    if barred(account, snapshot):
        return None
    if not gate.proof:
        return Credential.AUTOMATIC if gate.unasked else Credential.NAME
    key = Credential.KEY if account.keys and gate.keys else None
    if not gate.passwords or gate.keys_only.contains(account):
        return key
    if account.password is PasswordState.BLANK:
        return Credential.BLANK if gate.blank and gate.way in blank_ways(snapshot) else key
    return Credential.PASSWORD if account.password in (PasswordState.SET, PasswordState.UNKNOWN) else key


def blank_ways(snapshot: Snapshot) -> frozenset[str]:
    """The ways by which the machine's rule lets a blank password be good; not known counts as all."""
    reading = snapshot.readings.get("password.blank_accepted")
    known = reading is not None and reading.status is Status.READ and reading.enforced
    value = reading.value if reading is not None and known else None
    return value if isinstance(value, frozenset) else frozenset(Route)


def gets_in(account: Account, snapshot: Snapshot) -> bool:
    """Whether there is any way in for the account; a machine whose gates are not known is taken to have a console."""
    if barred(account, snapshot):
        return False
    return (
        can_sign_in(account, snapshot) or bool(routes_of(account, snapshot)) or bool(routes_unknown(account, snapshot))
    )


def ways_given(group: Group, snapshot: Snapshot) -> list[Route]:
    """The ways that being in the group opens."""
    return list(dict.fromkeys(gate.way for gate in snapshot.entry_points if gate.opened_by(group.name)))


def ways_taken(group: Group, snapshot: Snapshot) -> list[Route]:
    """The ways that being in the group closes."""
    shut = {gate.way: True for gate in snapshot.entry_points}
    for gate in snapshot.entry_points:
        shut[gate.way] = shut[gate.way] and gate.shut_by(group.name)
    return [way for way, by_all in shut.items() if by_all]


def administers(account: Account, snapshot: Snapshot) -> bool:
    """Whether the account is given administration, by itself or by a group."""
    given = Grant.ADMINISTRATION in account.grants or any(group in snapshot.administering for group in account.groups)
    return given and Grant.ADMINISTRATION not in account.denied_grants


def usable_administrators(snapshot: Snapshot, on: date | None = None) -> list[Account]:
    """Administrators of whom it is known that they could sit down at the console on that day (today without one): able
    to sign in there, not locked, with a real password that they may change when it is due, and with what they must give
    to elevate."""
    return [account for account in snapshot.accounts if usable_administrator(account, snapshot, on)]


def usable_administrator(account: Account, snapshot: Snapshot, on: date | None = None) -> bool:
    """Whether the account is one of :func:`usable_administrators`."""
    if not administers(account, snapshot) or account.password is not PasswordState.SET:
        return False
    return _could_administer(account, snapshot, on) and not _looked_up_as_another(account, snapshot)


def possible_administrators(snapshot: Snapshot) -> list[Account]:
    """Those who administer today, or would if what is not known of them were good: a password that could not be read,
    a number that another account has too."""
    perhaps = (PasswordState.SET, PasswordState.UNKNOWN)
    return [
        account
        for account in snapshot.accounts
        if administers(account, snapshot)
        and account.password in perhaps
        and _could_administer(account, snapshot, None, doubts=True)
    ]


def _could_administer(account: Account, snapshot: Snapshot, on: date | None, *, doubts: bool = False) -> bool:
    """Whether everything but its password lets an account administer; with ``doubts`` where that is not known, too."""
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
            _by_password(account, gate) in ((Known.YES, Known.UNKNOWN) if doubts else (Known.YES,))
            for gate in snapshot.entry_points
            if gate.way is Route.CONSOLE and not gate.unasked
        )
    )


def _by_password(account: Account, gate: EntryPoint) -> Known:
    """Whether a gate lets an account through that has a password."""
    if account.name in gate.admissions:
        return gate.admissions[account.name].password
    return Known.of(gate.lets_through(account))


def _has_what_elevation_asks(account: Account, snapshot: Snapshot, day: date) -> bool:
    """Whether there is a password that elevation would take, where it asks for that of another account."""
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
    """Whether the system, looking its number up, finds another account first, and elevates by what that one may and
    has. The identity as which the system itself works needs no elevation."""
    first = snapshot.by_identity[account.identity][0]
    admin = snapshot.builtin(Builtin.ADMIN)
    the_system = snapshot.machine.admin_left_out and admin is not None and admin.identity == account.identity
    return first.name != account.name and not the_system


def needs_a_look(account: Account, snapshot: Snapshot) -> bool:
    """Whether a list that folds plumbing away must still show the account: a person's, or one that can get in."""
    return is_person(account) or gets_in(account, snapshot) or Grant.ADMINISTRATION in grants_of(account, snapshot)
