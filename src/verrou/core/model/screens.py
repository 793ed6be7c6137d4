"""What the sign-in screen and the lock screen of a machine show and refuse, derived from what it keeps."""

from attrs import frozen

from verrou.core.model.access import Credential, accepted_credential, admitted, is_person, routes_now, signed_in_unasked
from verrou.core.model.facts import Account, Builtin, Reading, Source, Status
from verrou.core.model.reasons import why
from verrou.core.model.snapshot import Snapshot
from verrou.core.model.ways import Route
from verrou.core.values import EVERYBODY, GROUP


@frozen(repr=False)
class AutomaticSignIn:
    """Somebody who is signed in without being asked: an account, or nobody in particular (``""``). Not ``known``: it
    is not known whether anybody is."""

    account: str
    says: str
    source: Source | None
    known: bool = True


@frozen(repr=False)
class DeniedAccount:
    """An account that a person might try at the console, and what stands against it first."""

    account: str
    says: str


@frozen(repr=False)
class Screens:
    """``listed`` are the accounts that the sign-in screen shows, None where it lists nobody at all; ``open`` those that
    get in without a password once somebody chooses them."""

    listed: tuple[str, ...] | None
    last: str
    unasked: tuple[AutomaticSignIn, ...]
    open: tuple[str, ...]
    refused: tuple[DeniedAccount, ...]


def screens_of(snapshot: Snapshot) -> Screens:
    """What the sign-in screen would show and refuse right now."""
    people = [account for account in snapshot.accounts if is_person(account)]
    by_console = {account.name: Route.CONSOLE in routes_now(account, snapshot) for account in people}
    refused = [
        DeniedAccount(account.name, next((r.says for r in why(account, Route.CONSOLE, snapshot).chain), "denied"))
        for account in people
        if not by_console[account.name]
    ]
    without = [a.name for a in people if by_console[a.name] and _without_password(a, snapshot)]
    return Screens(
        _listed(people, snapshot),
        _last(people, snapshot),
        tuple(_unasked(snapshot)),
        tuple(without),
        tuple(refused),
    )


def _known(snapshot: Snapshot, rule_id: str) -> Reading | None:
    reading = snapshot.readings.get(rule_id)
    return reading if reading is not None and reading.status is Status.READ and reading.enforced else None


def _listed(people: list[Account], snapshot: Snapshot) -> tuple[str, ...] | None:
    reading = _known(snapshot, "screen.hidden_accounts")
    hidden = reading.value if reading is not None else None
    if not isinstance(hidden, frozenset) or EVERYBODY in hidden:
        return None
    groups = {name.removeprefix(GROUP) for name in hidden if name.startswith(GROUP)}
    there = [a for a in people if (a.enabled or snapshot.machine.lists_disabled) and a.may_sign_in]
    if snapshot.machine.admin_left_out:  # it is the system itself, and no person
        there = [a for a in there if a.builtin is not Builtin.ADMIN]
    return tuple(a.name for a in there if a.name not in hidden and not groups & set(a.groups))


def _last(people: list[Account], snapshot: Snapshot) -> str:
    reading = _known(snapshot, "screen.shows_last_account")
    seen = [account for account in people if account.last_sign_in is not None]
    if reading is None or reading.value is not True or not seen:
        return ""
    return max(seen, key=lambda account: account.last_sign_in.timestamp() if account.last_sign_in else 0.0).name


def _unasked(snapshot: Snapshot) -> list[AutomaticSignIn]:
    found = []
    for gate in snapshot.entry_points:
        if not gate.unasked:
            continue
        names = [a.name for a in snapshot.accounts if signed_in_unasked(a, gate, snapshot)]
        perhaps = [a.name for a in snapshot.accounts if admitted(a, gate, snapshot) is Credential.UNKNOWN]
        if perhaps:
            found.append(
                AutomaticSignIn(perhaps[0] if len(perhaps) == 1 else "", gate.unasked, gate.source, known=False)
            )
        found += [AutomaticSignIn(name, gate.unasked, gate.source) for name in names]
        there = any(gate.decided_by(a) not in gate.passes for a in snapshot.accounts)
        if not names and not perhaps and not there:
            named = [name for each in gate.passes for circle in each.who[1:] for name in circle.accounts]
            says = f"{gate.unasked}, though there is no account {named[0]}" if named else gate.unasked
            found.append(AutomaticSignIn("", says, gate.source))
    return found


def _without_password(account: Account, snapshot: Snapshot) -> bool:
    console = [gate for gate in snapshot.entry_points if gate.way is Route.CONSOLE]
    return any(accepted_credential(account, gate, snapshot) in (Credential.NAME, Credential.BLANK) for gate in console)
