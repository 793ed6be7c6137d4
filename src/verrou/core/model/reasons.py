"""Why an account gets in by a way, or does not; why it may administer, or may not: the chain of reasons, each with
where it stands."""

import shlex
from collections.abc import Iterator
from datetime import datetime

from attrs import frozen

from verrou.core.model.access import (
    KNOWN_TO_OPEN,
    Credential,
    accepted_credential,
    administers,
    admitted,
    barred,
    blank_ways,
    known_role,
    locked,
    role_of,
)
from verrou.core.model.ageing import expired, usable_until
from verrou.core.model.elevation import PromptOutcome, decided_by, elevation_outcome, granted_by, is_the_system
from verrou.core.model.facts import Account, Builtin, Grant, PasswordState, Reading, Role, Source
from verrou.core.model.known import Known
from verrou.core.model.snapshot import Snapshot
from verrou.core.model.ways import EVERYBODY, AccessListEntry, EntryPoint, Principals, Route
from verrou.core.model.words import counted, joined
from verrou.core.values import EVERYBODY as ALL
from verrou.core.values import GROUP

ELEVATE = "elevate"
"""What is asked for instead of a way, to know whether an account may administer."""


@frozen(repr=False)
class Reason:
    """One link of the chain. ``helps``: whether it speaks for a yes. ``change`` is what would turn it round."""

    helps: bool
    says: str
    source: Source | None = None
    change: str = ""


@frozen(repr=False)
class Why:
    """The answer. ``chain`` are the reasons, first cause first: of a no what stands against it, of a yes what lets it
    be one, and otherwise what is not known. ``keeps`` are those that alone would keep a yes one."""

    account: str
    asked: str
    answer: Known
    chain: tuple[Reason, ...]
    keeps: tuple[Reason, ...] = ()

    @property
    def yes(self) -> bool:
        """Whether the answer is known to be yes."""
        return self.answer is Known.YES


def why(account: Account, way: Route, snapshot: Snapshot) -> Why:
    """Why an account gets in by a way right now, or does not."""
    about_account = list(_about_account(account, snapshot))
    gates = [gate for gate in snapshot.entry_points if gate.way is way]
    if not gates:
        none = Reason(
            False, f"this machine does not offer sign-in {way.phrase}", change="nothing; this machine has no such route"
        )
        return Why(account.name, way, Known.NO, (none, *(r for r in about_account if not r.helps)))
    found = [(gate, None if locked(account, snapshot) else admitted(account, gate, snapshot)) for gate in gates]
    open_gates = [gate for gate, how in found if how in KNOWN_TO_OPEN]
    against = [reason for reason in about_account if not reason.helps]
    if open_gates:
        about_account = [reason for reason in about_account if reason.helps]
        by_gate = [(list(_allowing(account, gate, snapshot)), _opened(account, gate, snapshot)) for gate in open_gates]
        keeps = [reason for lets_in, _ in by_gate for reason in lets_in]
        chain = [*about_account, *(reason for lets_in, shown in by_gate for reason in _in_one(lets_in, shown))]
        return Why(account.name, way, Known.YES, tuple(dict.fromkeys(chain)), tuple(dict.fromkeys(keeps)))
    if doubtful := [gate for gate, how in found if how is Credential.UNKNOWN]:
        asks_with = snapshot.machine.asks_with
        chain = [_decided(account, gate, "" if gate.unasked else asks_with) for gate in doubtful]
        return Why(account.name, way, Known.UNKNOWN, tuple(dict.fromkeys(chain)))
    about = [gate for gate in gates if not (gate.unasked and gate.decided_by(account) in gate.passes)]
    for gate in about or gates:
        against += _keeps_out(account, gate, snapshot)
    return Why(account.name, way, Known.NO, tuple(dict.fromkeys(against)))


def _decided(account: Account, gate: EntryPoint, asks_with: str = "") -> Reason:
    """What decides about the account in the place of lists and states, or what of it was not understood."""
    found = gate.admissions[account.name]
    answers = {found.password, found.key, found.name}
    helps = Known.YES in answers
    where = str(found.source.where) if found.source is not None else "its stack"
    change = _look_at(where, asks_with) if Known.UNKNOWN in answers else f"change {where}"
    return Reason(helps, found.says, found.source or gate.source, "" if helps else change)


def why_administrator(account: Account, snapshot: Snapshot) -> Why:
    """Why an account may administer once it is in, or may not; and what it would meet."""
    met, rule = elevation_outcome(account, snapshot), decided_by(account, snapshot)
    asked = Reason(met is not PromptOutcome.DENIED, f"to elevate, {MET_WORDS[met]}", rule.source if rule else None)
    lines = [
        Reason(True, f"administrator rights come from {_given_by(account, source, snapshot)}", source)
        for source in granted_by(account, snapshot)
    ]
    if not lines and (account.builtin is Builtin.ADMIN or is_the_system(account, snapshot)):
        said = "it is the built-in administrator" if account.builtin else "it has the ID of the built-in administrator"
        lines = [Reason(True, said, account.source)]
    if administers(account, snapshot) or role_of(account, snapshot) is Role.ADMINISTRATOR:
        return Why(account.name, ELEVATE, Known.YES, (*lines, asked), tuple(lines))
    if known_role(account, snapshot) is Known.UNKNOWN:
        said = f"it is not known whether a line makes {account.name} an administrator"
        if rule is not None and rule.source is None and rule.reason:
            said += f": {rule.reason}"
        reason = Reason(False, said, rule.source if rule else None, _to_know(snapshot, rule))
        return Why(account.name, ELEVATE, Known.UNKNOWN, (reason,))
    against = [_not_given(account, snapshot)]
    if account.may_run:
        some = joined(account.may_run)
        against.append(Reason(True, f"it can run some commands as root: {some}", next(iter(account.granted_by), None)))
    if met not in (PromptOutcome.DENIED, PromptOutcome.UNKNOWN):
        against.append(asked)
    elif met is PromptOutcome.UNKNOWN:
        against.append(Reason(False, "what else it would be asked for is not known", rule.source if rule else None))
    return Why(account.name, ELEVATE, Known.NO, tuple(against))


def _to_know(snapshot: Snapshot, rule: Reading | None) -> str:
    """What would have to be done to know who administers."""
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
    return Reason(False, f"no group or configuration line makes {account.name} administration", account.source, change)


def _given_by(account: Account, source: Source, snapshot: Snapshot) -> str:
    for name in account.groups:
        group = snapshot.group(name) if name in snapshot.administering else None
        if group is not None and source in (*group.granted_by, group.source):
            return f"group {name}, of which it is a member"
    return "a line that names it"


MET_WORDS = {
    PromptOutcome.NO_PROMPT: "it is asked for nothing",
    PromptOutcome.CONFIRM: "it confirms the prompt",
    PromptOutcome.OWN_PASSWORD: "it enters its own password",
    PromptOutcome.ADMIN_PASSWORD: "it needs an administrator's password",
    PromptOutcome.DENIED: "it is denied",
    PromptOutcome.UNKNOWN: "what it is asked for is not known",
}


def _about_account(account: Account, snapshot: Snapshot) -> Iterator[Reason]:
    """What holds for every way."""
    name, source, typed = account.name, account.source, shlex.quote(account.name)
    if account.enabled:
        yield Reason(True, f"{name} is enabled", source)
    else:
        first = f"verrou account password {typed}, then " if account.password is PasswordState.NONE else ""
        yield Reason(False, f"{name} is disabled", source, f"{first}verrou account enable {typed}")
    if not account.may_sign_in:
        said = account.shell_fault or "its login shell does not allow sign-in"
        yield Reason(False, said, source, f"verrou account change {typed} --shell /bin/bash")
    if expired(account, snapshot, snapshot.machine.now.date()):
        until = usable_until(account, snapshot)
        yield Reason(False, f"{name} expired after {until}", source, f"verrou account change {typed} --until never")
    if locked(account, snapshot):
        by_itself = account.locked_until != datetime.max
        change = f"verrou account unlock {typed}" + (", or the lock ends by itself" if by_itself else "")
        yield Reason(
            False, f"{name} is locked after {counted(account.failed_attempts, 'failed attempt')}", source, change
        )
    if barred(account, snapshot):
        reading = snapshot.readings["population.linked_identities"]
        said = f"{name} is linked to an online identity, and this machine does not let such accounts sign in"
        change = "verrou rule set population.linked_identities=existing-only"
        yield Reason(False, said, reading.source, change)


def _allowing(account: Account, gate: EntryPoint, snapshot: Snapshot) -> Iterator[Reason]:
    """Each line and each membership that alone would let the account through the gate."""
    by = f" ({joined(gate.services)})" if gate.services else ""
    if account.name in gate.admissions:
        yield _decided(account, gate)
        return
    if gate.unasked:
        yield Reason(True, f"automatic sign-in: {gate.unasked}", gate.source)
        return
    named = gate.decided_by(account)
    if named is not None:
        yield Reason(
            True, f"this line allows {account.name} to sign in {gate.way.phrase}{by}", named.source or gate.source
        )
        return
    limits = [
        each
        for passes in gate.lists
        for each in passes
        if not each.lets_in and len(each.who) > 1 and each.who[0] == EVERYBODY
    ]
    if not limits:
        yield Reason(True, f"everyone is allowed to sign in {gate.way.phrase}{by}", gate.source)
    for limit in limits:
        for circle in limit.who[1::2]:
            if circle == EVERYBODY:
                yield Reason(True, f"everyone is allowed to sign in {gate.way.phrase}{by}", limit.source or gate.source)
                continue
            for group in account.groups:
                if circle.names(group):
                    said = f"members of group {group} are allowed to sign in {gate.way.phrase}{by}"
                    yield Reason(True, said, limit.source or gate.source)
            patterns = [each.text for each in circle.account_patterns if each.matches(account.name)]
            if account.name in circle.accounts or patterns:
                how = f", like {patterns[0]}" if account.name not in circle.accounts else ""
                said = f"{account.name} is allowed by name to sign in {gate.way.phrase}{how}{by}"
                yield Reason(True, said, limit.source or gate.source)


def _in_one(lets_in: list[Reason], shown: Reason) -> Iterator[Reason]:
    """What lets somebody through a gate, the first of several, and what has to be shown there."""
    yield from lets_in[:1]
    if not lets_in or shown.source != lets_in[0].source:
        yield shown


def _opened(account: Account, gate: EntryPoint, snapshot: Snapshot) -> Reason:
    """What the account shows at an open gate."""
    words = {
        Credential.AUTOMATIC: "no credential is needed",
        Credential.NAME: "the account name is enough",
        Credential.BLANK: "its password is blank, which is accepted here",
        Credential.PASSWORD: "its password is required",
        Credential.KEY: "its key is enough",
    }
    if account.name in gate.admissions:
        return _decided(account, gate)
    how = accepted_credential(account, gate, snapshot)
    assert how is not None
    source = gate.source if how in (Credential.AUTOMATIC, Credential.NAME) else account.source
    return Reason(True, words[how], source)


def _keeps_out(account: Account, gate: EntryPoint, snapshot: Snapshot) -> Iterator[Reason]:
    """What stands against the account at one gate."""
    by = f"{gate.way} ({joined(gate.services)})" if gate.services else str(gate.way)
    if account.name in gate.admissions:
        yield _decided(account, gate)
        return
    decides = gate.decided_by(account)
    if decides is not None and not decides.lets_in:
        yield Reason(
            False,
            _turned_away(account, gate, decides, by, snapshot),
            decides.source or gate.source,
            _opens_again(account, gate, decides, snapshot),
        )
    if gate.keys_only.contains(account) or not gate.passwords:
        if not account.keys:
            said = f"{by} accepts only a key, and {account.name} has none"
            yield Reason(False, said, gate.source, "a key for it, or passwords allowed there")
    elif account.password is PasswordState.NONE:
        said = f"{account.name} has no usable password"
        yield Reason(False, said, account.source, f"verrou account password {shlex.quote(account.name)}")
    elif account.password is PasswordState.BLANK and not (gate.blank and gate.way in blank_ways(snapshot)):
        reading = snapshot.readings.get("password.blank_accepted")
        source = gate.source if not gate.blank or reading is None else reading.source
        said = f"its password is blank, which {by} does not accept"
        yield Reason(False, said, source, f"verrou account password {shlex.quote(account.name)}")


def _turned_away(account: Account, gate: EntryPoint, decides: AccessListEntry, by: str, snapshot: Snapshot) -> str:
    allowed = _allowed_by(gate, decides)
    if allowed is not None and _list_of(gate, decides, snapshot) == "allowed":
        return f"{by} allows only {joined(allowed) or 'no one'}, and {account.name} is not one of them"
    if decides.who[0] == EVERYBODY:
        return f"everyone is denied sign-in by {by}"
    groups = [group for group in account.groups if any(circle.names(group) for circle in decides.who[::2])]
    return (
        f"members of group {groups[0]} are denied sign-in by {by}"
        if groups
        else f"{account.name} is denied sign-in by {by}"
    )


def _allowed_by(gate: EntryPoint, decides: AccessListEntry) -> list[str] | None:
    """Who alone may come by a line that keeps everybody else out; None where it is about some."""
    if decides.who[0] != EVERYBODY:
        return None
    mine = next(passes for passes in gate.lists if decides in passes)
    before = [each.who[0] for each in mine[: mine.index(decides)] if each.lets_in]
    circles = [*before, *decides.who[1:2]]
    return [name for circle in circles for name in _in_words(circle)]


def _in_words(circle: Principals) -> Iterator[str]:
    yield from (f"group {group}" for group in circle.groups)
    yield from (f"groups like {pattern.text}" for pattern in circle.group_patterns)
    yield from circle.accounts
    yield from (f"accounts like {pattern.text}" for pattern in circle.account_patterns)


def _opens_again(account: Account, gate: EntryPoint, decides: AccessListEntry, snapshot: Snapshot) -> str:
    """What would let an account through a line that keeps it out: a command that does so, where there is one."""
    key = _list_of(gate, decides, snapshot)
    rule_id = f"logon.{gate.way}.{key}"
    reading, source = snapshot.readings.get(rule_id), decides.source or gate.source
    names = reading.value if reading is not None else None
    if not decides.settable or not isinstance(names, frozenset) or (ALL in names and key == "allowed"):
        return f"change {source}" if source is not None else ""
    mine = {ALL, str(account.name), *(f"{GROUP}{group}" for group in account.groups)}
    wanted = names | {str(account.name)} if key == "allowed" else names - mine
    return shlex.join(("verrou", "rule", "set", f"{rule_id}={','.join(sorted(wanted)) or 'nobody'}"))


def _list_of(gate: EntryPoint, decides: AccessListEntry, snapshot: Snapshot) -> str:
    """Which of the two lists of a way a line stands for. One that turns everybody away is the end of the list of those
    who may come, unless the list of those who may not is read as everybody."""
    if decides.who[0] != EVERYBODY:
        return "denied"
    denied = snapshot.readings.get(f"logon.{gate.way}.denied")
    everybody = denied is not None and isinstance(denied.value, frozenset) and ALL in denied.value
    return "denied" if everybody and decides.who == (EVERYBODY,) else "allowed"
