"""Reasons why an account can or cannot sign in by a route, or elevate, each with its source."""

import shlex
from collections.abc import Iterator
from datetime import datetime

from attrs import frozen

from verrou.core import advice
from verrou.core.model.access import (
    KNOWN_TO_OPEN,
    Credential,
    accepted_credential,
    administers,
    admitted,
    barred,
    blank_routes,
    known_role,
    locked,
    role_of,
)
from verrou.core.model.ageing import expired, usable_until
from verrou.core.model.elevation import PromptOutcome, decided_by, elevation_outcome, granted_by, is_the_system
from verrou.core.model.facts import Account, Builtin, Grant, PasswordState, Reading, Role, Source
from verrou.core.model.known import Known
from verrou.core.model.routes import EVERYONE, AccessListEntry, EntryPoint, Principals, Route
from verrou.core.model.snapshot import Snapshot
from verrou.core.model.text import counted, joined
from verrou.core.values import EVERYONE as ALL
from verrou.core.values import GROUP

ELEVATE = "elevate"
"""Used in place of a route, to ask whether an account can elevate."""


@frozen(repr=False)
class Reason:
    """One reason of the chain. ``helps``: it speaks for a yes. ``change`` is what would reverse it."""

    helps: bool
    statement: str
    source: Source | None = None
    change: str = ""


@frozen(repr=False)
class Why:
    """Answer to a question about access.

    ``chain`` are the reasons, first cause first: for a no what denies, for a yes what allows, otherwise what is not
    known. ``keeps`` are those of which each alone keeps a yes a yes. ``prompt`` says what is asked first."""

    account: str
    asked: str
    answer: Known
    chain: tuple[Reason, ...]
    keeps: tuple[Reason, ...] = ()
    prompt: str = ""

    @property
    def yes(self) -> bool:
        """Whether the answer is known to be yes."""
        return self.answer is Known.YES


def why(account: Account, route: Route, snapshot: Snapshot) -> Why:
    """Return why an account can or cannot sign in by a route right now."""
    about_account = list(_about_account(account, snapshot))
    entry_points = [entry_point for entry_point in snapshot.entry_points if entry_point.route is route]
    if not entry_points:
        none = Reason(
            False,
            f"this machine does not offer sign-in {route.phrase}",
            change="nothing; this machine has no such route",
        )
        return Why(account.name, route, Known.NO, (none, *(r for r in about_account if not r.helps)))
    found = [
        (entry_point, None if locked(account, snapshot) else admitted(account, entry_point, snapshot))
        for entry_point in entry_points
    ]
    open_entry_points = [entry_point for entry_point, how in found if how in KNOWN_TO_OPEN]
    against = [reason for reason in about_account if not reason.helps]
    if open_entry_points:
        about_account = [reason for reason in about_account if reason.helps]
        by_entry_point = [
            (list(_allowing(account, entry_point, snapshot)), _opened(account, entry_point, snapshot))
            for entry_point in open_entry_points
        ]
        keeps = [reason for allows, _ in by_entry_point for reason in allows]
        chain = [*about_account, *(reason for allows, shown in by_entry_point for reason in _in_one(allows, shown))]
        return Why(account.name, route, Known.YES, tuple(dict.fromkeys(chain)), tuple(dict.fromkeys(keeps)))
    if doubtful := [entry_point for entry_point, how in found if how is Credential.UNKNOWN]:
        asks_with = snapshot.machine.asks_with
        chain = [_decided(account, entry_point, "" if entry_point.automatic else asks_with) for entry_point in doubtful]
        return Why(account.name, route, Known.UNKNOWN, tuple(dict.fromkeys(chain)))
    about = [
        entry_point
        for entry_point in entry_points
        if not (entry_point.automatic and entry_point.decided_by(account) in entry_point.entries)
    ]
    for entry_point in about or entry_points:
        against += _denying(account, entry_point, snapshot)
    return Why(account.name, route, Known.NO, tuple(dict.fromkeys(against)))


def _decided(account: Account, entry_point: EntryPoint, asks_with: str = "") -> Reason:
    """Return what the system itself decides about the account, instead of lists and states, or what was not
    understood."""
    found = entry_point.admissions[account.name]
    answers = {found.password, found.key, found.name}
    helps = Known.YES in answers
    where = str(found.source.where) if found.source is not None else "its stack"
    change = _look_at(where, asks_with) if Known.UNKNOWN in answers else f"edit {where}"
    return Reason(helps, found.statement, found.source or entry_point.source, "" if helps else change)


def why_administrator(account: Account, snapshot: Snapshot) -> Why:
    """Return why an account can or cannot elevate once it is signed in, and the prompt it gets."""
    met, rule = elevation_outcome(account, snapshot), decided_by(account, snapshot)
    asked = Reason(met is not PromptOutcome.DENIED, f"to elevate, {MET_WORDS[met]}", rule.source if rule else None)
    lines = [
        Reason(True, f"administrator rights come from {_given_by(account, source, snapshot)}", source)
        for source in granted_by(account, snapshot)
    ]
    if not lines and (account.builtin is Builtin.ADMIN or is_the_system(account, snapshot)):
        message = (
            "it is the built-in administrator" if account.builtin else "it has the ID of the built-in administrator"
        )
        lines = [Reason(True, message, account.source)]
    if administers(account, snapshot) or role_of(account, snapshot) is Role.ADMINISTRATOR:
        return Why(account.name, ELEVATE, Known.YES, (*lines, asked), tuple(lines))
    if known_role(account, snapshot) is Known.UNKNOWN:
        message = f"it is not known whether a line makes {account.name} an administrator"
        if rule is not None and rule.source is None and rule.reason:
            message += f": {rule.reason}"
        reason = Reason(False, message, rule.source if rule else None, _to_know(snapshot, rule))
        return Why(account.name, ELEVATE, Known.UNKNOWN, (reason,))
    against = [_not_given(account, snapshot)]
    if Grant.ADMINISTRATION in (account.session_grants or ()):
        message = f"{account.name} is signed in with administrator rights, and keeps them until it signs out"
        against.append(Reason(True, message, account.source))
    if account.may_run:
        some = joined(account.may_run)
        against.append(Reason(True, f"it can run some commands as root: {some}", next(iter(account.granted_by), None)))
    if met not in (PromptOutcome.DENIED, PromptOutcome.UNKNOWN):
        against.append(asked)
    elif met is PromptOutcome.UNKNOWN:
        against.append(Reason(False, "any other prompt is not known", rule.source if rule else None))
    return Why(account.name, ELEVATE, Known.NO, tuple(against))


def _to_know(snapshot: Snapshot, rule: Reading | None) -> str:
    """Return what to do to find out who is an administrator."""
    if rule is not None and rule.remedy:
        return rule.remedy
    where = str(rule.source.where) if rule is not None and rule.source is not None else "where that is set"
    return _look_at(where, snapshot.machine.asks_with)


def _look_at(where: str, asks_with: str) -> str:
    return f"look at {where}" + (f", or have the system itself asked: {asks_with}" if asks_with else "")


def _not_given(account: Account, snapshot: Snapshot) -> Reason:
    group = snapshot.group_with(Grant.ADMINISTRATION)
    joins = shlex.join(("verrou", "group", "join", group.name, account.name)) if group is not None else ""
    change = joins if group is not None else "a line that makes it an administrator"
    if Grant.ADMINISTRATION in account.denied_grants:
        return Reason(False, "a line denies it administrator rights", next(iter(account.granted_by), None), change)
    return Reason(
        False, f"no group or configuration line gives {account.name} administrator rights", account.source, change
    )


def _given_by(account: Account, source: Source, snapshot: Snapshot) -> str:
    for name in account.groups:
        group = snapshot.group(name) if name in snapshot.administering else None
        if group is not None and source in (*group.granted_by, group.source):
            return f"group {name}, of which it is a member"
    return "a line that names it"


MET_WORDS = {
    PromptOutcome.NO_PROMPT: "there is no prompt",
    PromptOutcome.CONFIRM: "it confirms the prompt",
    PromptOutcome.OWN_PASSWORD: "it enters its own password",
    PromptOutcome.ADMIN_PASSWORD: "it needs an administrator's password",
    PromptOutcome.DENIED: "it is denied",
    PromptOutcome.UNKNOWN: "its prompt is not known",
}


def _about_account(account: Account, snapshot: Snapshot) -> Iterator[Reason]:
    """Yield the reasons that apply to every route."""
    name, source = account.name, account.source
    if account.enabled:
        yield Reason(True, f"{name} is enabled", source)
    else:
        first = f"{advice.set_password(name)}, then " if account.password is PasswordState.NONE else ""
        yield Reason(False, f"{name} is disabled", source, f"{first}{advice.enable(name)}")
    if not account.may_sign_in:
        message = account.shell_fault or "its login shell does not allow sign-in"
        yield Reason(False, message, source, advice.set_shell(name))
    if expired(account, snapshot, snapshot.machine.now.date()):
        until = usable_until(account, snapshot)
        yield Reason(False, f"{name} expired after {until}", source, advice.set_until(name, "never"))
    if locked(account, snapshot):
        by_itself = account.locked_until != datetime.max
        change = advice.unlock(name) + (", or wait until the lock ends" if by_itself else "")
        yield Reason(
            False, f"{name} is locked after {counted(account.failed_attempts, 'failed attempt')}", source, change
        )
    if barred(account, snapshot):
        reading = snapshot.readings["population.linked_identities"]
        message = f"{name} is linked to an online identity, and this machine denies such accounts sign-in"
        change = advice.set_rule("population.linked_identities=existing-only")
        yield Reason(False, message, reading.source, change)


def _allowing(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> Iterator[Reason]:
    """Yield each line and each membership that alone admits the account at the entry point."""
    by = f" ({joined(entry_point.services)})" if entry_point.services else ""
    if account.name in entry_point.admissions:
        yield _decided(account, entry_point)
        return
    if entry_point.automatic:
        yield Reason(True, f"automatic sign-in: {entry_point.automatic}", entry_point.source)
        return
    named = entry_point.decided_by(account)
    if named is not None:
        yield Reason(
            True,
            f"this line allows {account.name} to sign in {entry_point.route.phrase}{by}",
            named.source or entry_point.source,
        )
        return
    limits = [
        each
        for entries in entry_point.lists
        for each in entries
        if not each.allows and len(each.who) > 1 and each.who[0] == EVERYONE
    ]
    if not limits:
        yield Reason(True, f"everyone is allowed to sign in {entry_point.route.phrase}{by}", entry_point.source)
    for limit in limits:
        for principals in limit.who[1::2]:
            if principals == EVERYONE:
                yield Reason(
                    True,
                    f"everyone is allowed to sign in {entry_point.route.phrase}{by}",
                    limit.source or entry_point.source,
                )
                continue
            for group in account.groups:
                if principals.names(group):
                    message = f"members of group {group} are allowed to sign in {entry_point.route.phrase}{by}"
                    yield Reason(True, message, limit.source or entry_point.source)
            patterns = [each.text for each in principals.account_patterns if each.matches(account.name)]
            if account.name in principals.accounts or patterns:
                how = f", like {patterns[0]}" if account.name not in principals.accounts else ""
                message = f"{account.name} is allowed by name to sign in {entry_point.route.phrase}{how}{by}"
                yield Reason(True, message, limit.source or entry_point.source)


def _in_one(allows: list[Reason], shown: Reason) -> Iterator[Reason]:
    """Yield what admits the account, the first of several, and the credential it needs."""
    yield from allows[:1]
    if not allows or shown.source != allows[0].source:
        yield shown


def _opened(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> Reason:
    """Return the credential that the account shows at an entry point that accepts it."""
    words = {
        Credential.AUTOMATIC: "no credential is needed",
        Credential.NAME: "the account name is enough",
        Credential.BLANK: "its password is blank, which is accepted here",
        Credential.PASSWORD: "its password is required",
        Credential.KEY: "its key is enough",
    }
    if account.name in entry_point.admissions:
        return _decided(account, entry_point)
    how = accepted_credential(account, entry_point, snapshot)
    assert how is not None
    source = entry_point.source if how in (Credential.AUTOMATIC, Credential.NAME) else account.source
    return Reason(True, words[how], source)


def _denying(account: Account, entry_point: EntryPoint, snapshot: Snapshot) -> Iterator[Reason]:
    """Yield what denies the account at one entry point."""
    by = f"{entry_point.route} ({joined(entry_point.services)})" if entry_point.services else str(entry_point.route)
    if account.name in entry_point.admissions:
        yield _decided(account, entry_point)
        return
    decides = entry_point.decided_by(account)
    if decides is not None and not decides.allows:
        yield Reason(
            False,
            _denied(account, entry_point, decides, by, snapshot),
            decides.source or entry_point.source,
            _undenied_by(account, entry_point, decides, snapshot),
        )
    if entry_point.keys_only.contains(account) or not entry_point.passwords:
        if not account.keys:
            message = f"{by} accepts only a key, and {account.name} has none"
            yield Reason(False, message, entry_point.source, "a key for it, or passwords allowed there")
    elif account.password is PasswordState.NONE:
        message = f"{account.name} has no usable password"
        yield Reason(False, message, account.source, advice.set_password(account.name))
    elif account.password is PasswordState.BLANK and not (
        entry_point.blank and entry_point.route in blank_routes(snapshot)
    ):
        reading = snapshot.readings.get("password.blank_accepted")
        source = entry_point.source if not entry_point.blank or reading is None else reading.source
        message = f"its password is blank, which {by} does not accept"
        yield Reason(False, message, source, advice.set_password(account.name))


def _denied(account: Account, entry_point: EntryPoint, decides: AccessListEntry, by: str, snapshot: Snapshot) -> str:
    allowed = _only_allowed(entry_point, decides)
    if allowed is not None and _list_of(entry_point, decides, snapshot) == "allowed":
        return f"{by} allows only {joined(allowed) or 'no one'}, and {account.name} is not one of them"
    if decides.who[0] == EVERYONE:
        return f"everyone is denied sign-in by {by}"
    groups = [group for group in account.groups if any(principals.names(group) for principals in decides.who[::2])]
    return (
        f"members of group {groups[0]} are denied sign-in by {by}"
        if groups
        else f"{account.name} is denied sign-in by {by}"
    )


def _only_allowed(entry_point: EntryPoint, decides: AccessListEntry) -> list[str] | None:
    """Return who alone is allowed by a line that denies everyone else; None for a line about certain accounts."""
    if decides.who[0] != EVERYONE:
        return None
    mine = next(entries for entries in entry_point.lists if decides in entries)
    before = [each.who[0] for each in mine[: mine.index(decides)] if each.allows]
    principals = [*before, *decides.who[1:2]]
    return [name for principals in principals for name in _in_words(principals)]


def _in_words(principals: Principals) -> Iterator[str]:
    yield from (f"group {group}" for group in principals.groups)
    yield from (f"groups like {pattern.text}" for pattern in principals.group_patterns)
    yield from principals.accounts
    yield from (f"accounts like {pattern.text}" for pattern in principals.account_patterns)


def _undenied_by(account: Account, entry_point: EntryPoint, decides: AccessListEntry, snapshot: Snapshot) -> str:
    """Return the command that would make a denying line admit the account; empty where there is none."""
    key = _list_of(entry_point, decides, snapshot)
    rule_id = f"logon.{entry_point.route}.{key}"
    reading, source = snapshot.readings.get(rule_id), decides.source or entry_point.source
    names = reading.value if reading is not None else None
    if not decides.settable or not isinstance(names, frozenset) or (ALL in names and key == "allowed"):
        return f"edit {source}" if source is not None else ""
    mine = {ALL, str(account.name), *(f"{GROUP}{group}" for group in account.groups)}
    required = names | {str(account.name)} if key == "allowed" else names - mine
    return shlex.join(("verrou", "rule", "set", f"{rule_id}={','.join(sorted(required)) or 'nobody'}"))


def _list_of(entry_point: EntryPoint, decides: AccessListEntry, snapshot: Snapshot) -> str:
    """Return which of the two lists of a route an entry belongs to.

    An entry that denies everyone ends the list of those allowed, unless the denied list is read as everyone."""
    if decides.who[0] != EVERYONE:
        return "denied"
    denied = snapshot.readings.get(f"logon.{entry_point.route}.denied")
    everyone = denied is not None and isinstance(denied.value, frozenset) and ALL in denied.value
    return "denied" if everyone and decides.who == (EVERYONE,) else "allowed"
