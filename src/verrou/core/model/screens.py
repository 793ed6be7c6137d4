"""What the sign-in screen and the lock screen of a machine show and deny, derived from facts."""

from attrs import frozen

from verrou.core.model.access import (
    Credential,
    accepted_credential,
    admitted,
    is_person,
    routes_now,
    signed_in_automatically,
)
from verrou.core.model.facts import Account, Builtin, Reading, Source, Status
from verrou.core.model.reasons import why
from verrou.core.model.routes import Route
from verrou.core.model.snapshot import Snapshot
from verrou.core.values import EVERYONE, GROUP


@frozen(repr=False)
class AutomaticSignIn:
    """An account that is signed in automatically; ``""`` for no account in particular.

    Not ``known``: it is not known whether any is."""

    account: str
    statement: str
    source: Source | None
    known: bool = True


@frozen(repr=False)
class DeniedAccount:
    """An account that a person might try at the console, and the first reason why it is denied."""

    account: str
    statement: str


@frozen(repr=False)
class Screens:
    """What the screens show. ``listed`` are the accounts on the sign-in screen, None for no list at all; ``open``
    those that need no password once chosen."""

    listed: tuple[str, ...] | None
    last: str
    automatic: tuple[AutomaticSignIn, ...]
    open: tuple[str, ...]
    refused: tuple[DeniedAccount, ...]


def screens_of(snapshot: Snapshot) -> Screens:
    """Return what the sign-in screen would show and deny right now."""
    people = [account for account in snapshot.accounts if is_person(account)]
    by_console = {account.name: Route.CONSOLE in routes_now(account, snapshot) for account in people}
    refused = [
        DeniedAccount(account.name, next((r.statement for r in why(account, Route.CONSOLE, snapshot).chain), "denied"))
        for account in people
        if not by_console[account.name]
    ]
    without = [a.name for a in people if by_console[a.name] and _without_password(a, snapshot)]
    return Screens(
        _listed(people, snapshot),
        _last(people, snapshot),
        tuple(_automatic(snapshot)),
        tuple(without),
        tuple(refused),
    )


def _known(snapshot: Snapshot, rule_id: str) -> Reading | None:
    reading = snapshot.readings.get(rule_id)
    return reading if reading is not None and reading.status is Status.READ and reading.enforced else None


def _listed(people: list[Account], snapshot: Snapshot) -> tuple[str, ...] | None:
    reading = _known(snapshot, "screen.hidden_accounts")
    hidden = reading.value if reading is not None else None
    if not isinstance(hidden, frozenset) or EVERYONE in hidden:
        return None
    groups = {name.removeprefix(GROUP) for name in hidden if name.startswith(GROUP)}
    there = [a for a in people if (a.enabled or snapshot.machine.lists_disabled) and a.may_sign_in]
    if snapshot.machine.admin_ageing_exempt:  # it is the system itself, and no person
        there = [a for a in there if a.builtin is not Builtin.ADMIN]
    return tuple(a.name for a in there if a.name not in hidden and not groups & set(a.groups))


def _last(people: list[Account], snapshot: Snapshot) -> str:
    reading = _known(snapshot, "screen.shows_last_account")
    seen = [account for account in people if account.last_sign_in is not None]
    if reading is None or reading.value is not True or not seen:
        return ""
    return max(seen, key=lambda account: account.last_sign_in.timestamp() if account.last_sign_in else 0.0).name


def _automatic(snapshot: Snapshot) -> list[AutomaticSignIn]:
    found = []
    for entry_point in snapshot.entry_points:
        if not entry_point.automatic:
            continue
        names = [a.name for a in snapshot.accounts if signed_in_automatically(a, entry_point, snapshot)]
        perhaps = [a.name for a in snapshot.accounts if admitted(a, entry_point, snapshot) is Credential.UNKNOWN]
        if perhaps:
            found.append(
                AutomaticSignIn(
                    perhaps[0] if len(perhaps) == 1 else "", entry_point.automatic, entry_point.source, known=False
                )
            )
        found += [AutomaticSignIn(name, entry_point.automatic, entry_point.source) for name in names]
        there = any(entry_point.decided_by(a) not in entry_point.entries for a in snapshot.accounts)
        if not names and not perhaps and not there:
            named = [
                name for each in entry_point.entries for principals in each.who[1:] for name in principals.accounts
            ]
            statement = (
                f"{entry_point.automatic}, but there is no account {named[0]}" if named else entry_point.automatic
            )
            found.append(AutomaticSignIn("", statement, entry_point.source))
    return found


def _without_password(account: Account, snapshot: Snapshot) -> bool:
    console = [entry_point for entry_point in snapshot.entry_points if entry_point.route is Route.CONSOLE]
    return any(
        accepted_credential(account, entry_point, snapshot) in (Credential.NAME, Credential.BLANK)
        for entry_point in console
    )
