"""Tables of the accounts and rules of a machine."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from verrou.core import advice
from verrou.core.judging.group_text import gives
from verrou.core.model import Account, Builtin, PasswordState, Reading, Role, Snapshot, Status, Unread, counted, joined
from verrou.core.model.access import (
    has_route,
    known_role,
    locked,
    needs_a_look,
    role_of,
    routes_now,
    routes_of,
    routes_unknown,
)
from verrou.core.model.ageing import expired, must_change, password_ages
from verrou.core.model.background_jobs import act_text
from verrou.core.model.known import Known
from verrou.core.model.routes import Route
from verrou.core.model.states import AccountState, states_of, useful_hint
from verrou.core.rules import CATALOGUE, Rule, reading_of, value_now
from verrou.core.rules.population import administrators
from verrou.machines.rule_places import where_set
from verrou.reports.reading_text import reading_text
from verrou.reports.tables import BAD, DOUBTFUL, RowsOf, Table, columns_of, shown

MOST_IN_TEXT = 200


ROOM_FOR_ALL = 110
"""Columns of a terminal from which on each fact about an account has a column of its own."""


def accounts_table(
    snapshot: Snapshot, everyone: bool, among: Sequence[Account] | None = None, width: int = ROOM_FOR_ALL
) -> tuple[Table, int]:
    """Return the accounts worth a look (or all) ``among`` some, and how many are hidden.

    In less ``width`` than :data:`ROOM_FOR_ALL` the text has a line for the facts instead of columns."""
    candidates = snapshot.accounts if among is None else among
    chosen = [a for a in candidates if everyone or needs_a_look(a, snapshot)]
    chosen.sort(key=lambda a: (list(Role).index(role_of(a, snapshot)), not a.enabled))
    wide, in_columns = width >= ROOM_FOR_ALL, ("routes", "last_sign_in", "password_age", "groups")
    columns = columns_of(
        ("mark", ""),
        ("account", "account"),
        ("role", "role"),
        ("state", "state"),
        ("routes", "routes"),
        ("last_sign_in", "last used"),
        ("password_age", "password"),
        ("groups", "groups"),
        ("origin", "origin"),
        ("password_since", "password since"),
        ("full_name", "full name"),
        ("identity", "identity"),
        ("facts", ""),
        whole=("mark", "account", "role", "last_sign_in", "password_age"),
        hidden=("origin", "password_since", "full_name", "identity", "facts", *(() if wide else in_columns)),
        only_text=("facts",),
        under={"account": "origin"} if wide else {"account": "origin", "state": "facts"},
    )
    rows = RowsOf(chosen, lambda account: _account_row(account, snapshot))
    marked = Table("accounts", columns, rows, style=lambda row: BAD if row["mark"] else "")
    return marked, len(candidates) - len(chosen)


def _account_row(account: Account, snapshot: Snapshot) -> Mapping[str, Any]:
    routes, used = _routes(account, snapshot), last_sign_in(account, snapshot, "%Y-%m-%d")
    facts = (
        f"by {shown(routes)}" if routes else "cannot sign in",
        f"last sign-in {used}" if used != "never" else "never signed in",
        _password_words(account, snapshot),
        f"in {shown(account.groups) or 'no group'}",
    )
    return {
        "mark": "!" if _worry(account, snapshot) else "",
        "account": account.name,
        "role": role_words(account, snapshot),
        "state": list(states_of(account, snapshot).values()) or [_plain_state(account)],
        "last_sign_in": used,
        "password_age": _password_age(account, snapshot),
        "routes": routes or ["none"],
        "groups": list(account.groups),
        "origin": _origin(account),
        "password_since": str(account.password_changed or ""),
        "full_name": account.full_name,
        "identity": account.identity,
        "facts": "; ".join(facts),
    }


def _plain_state(account: Account) -> str:
    """Return the state of an account without notable states."""
    if not account.may_sign_in:
        return "cannot sign in"
    return "enabled" if account.password is not PasswordState.UNKNOWN else "not known whether enabled"


def role_words(account: Account, snapshot: Snapshot) -> str:
    """Return the role of an account in words, as far as it is known."""
    role = str(role_of(account, snapshot))
    return f"{role}, or administrator" if known_role(account, snapshot) is Known.UNKNOWN else role


def _password_age(account: Account, snapshot: Snapshot) -> str:
    """Return the age of the password, in words for a narrow column."""
    if account.password is not PasswordState.SET:
        return str(account.password)
    if account.password_changed is None:
        return "set"
    days = (snapshot.machine.now.date() - account.password_changed).days
    return "set today" if days == 0 else counted(days, "day")


def _password_words(account: Account, snapshot: Snapshot) -> str:
    """Return the state and age of the password as a phrase."""
    age = _password_age(account, snapshot)
    return {
        PasswordState.SET: f"password {age if age.startswith('set') else f'set {age} ago'}",
        PasswordState.BLANK: "blank password",
        PasswordState.NONE: "no usable password",
        PasswordState.UNKNOWN: "password not known",
    }[account.password]


def last_sign_in(account: Account, snapshot: Snapshot, form: str) -> str:
    """Return when someone last signed in as the account; unknown where no record can be trusted."""
    if account.last_sign_in is not None:
        return account.last_sign_in.strftime(form)
    return "unknown" if snapshot.machine.no_sign_ins else "never"


def _routes(account: Account, snapshot: Snapshot) -> list[str]:
    """Return the routes of now, with a question mark where it is not known."""
    doubtful = () if locked(account, snapshot) else routes_unknown(account, snapshot)
    return [*map(str, routes_now(account, snapshot)), *(f"{route}?" for route in doubtful)]


def _worry(account: Account, snapshot: Snapshot) -> bool:
    """Return whether to mark an account.

    A blank password (except of a guest at the console), a system account that can sign in, an expired account, a
    hint."""
    states = states_of(account, snapshot)
    role = role_of(account, snapshot)
    plumbing_gets_in = role in (Role.SERVICE, Role.SYSTEM) and has_route(account, snapshot)
    doubled = account.builtin is None and len(snapshot.by_identity[account.identity]) > 1
    ended = expired(account, snapshot, snapshot.machine.now.date()) and account.enabled
    hinted = account.enabled and AccountState.HINT in states
    watched = role is Role.GUEST and set(routes_of(account, snapshot)) <= {Route.CONSOLE}
    acts = bool(states.keys() & {AccountState.STILL_ACTS, AccountState.KEY_OPENS_OTHERS})
    blank = AccountState.BLANK in states and not watched
    return blank or plumbing_gets_in or doubled or ended or hinted or acts


def _origin(account: Account) -> str:
    if account.builtin is None:
        return ""
    renamed = account.original_name is not None and account.original_name.casefold() != account.name.casefold()
    return f"built in, was {account.original_name}" if renamed else "built in"


def rules_table(snapshot: Snapshot, rules: Iterable[Rule]) -> Table:
    """Return each rule with its value, what set it, and when a change takes effect."""
    rows, styles = [], {}
    for number, rule in enumerate(rules):
        reading = reading_of(rule, snapshot)
        if reading.status is not Status.READ or not reading.enforced:
            styles[number] = DOUBTFUL
        rows.append(
            {
                "rule": rule.id,
                "value": value_now(rule, reading),
                "statement": reading_text(rule, reading),
                "set_by": "; ".join(filter(None, (decided_by(reading), what_helps(rule, reading, snapshot)))),
                "overrides": [str(source) for source in reading.overrides],
                "takes_effect": str(rule.counts_on(snapshot)),
                "status": str(reading.status),
                "enforced": reading.enforced,
            }
        )
    columns = columns_of(
        ("rule", "rule"),
        ("takes_effect", "takes effect"),
        ("value", "value"),
        ("statement", "statement"),
        ("set_by", "set by"),
        ("overrides", "overrides"),
        ("status", "status"),
        ("enforced", "in force"),
        whole=("rule", "takes_effect"),
        hidden=("statement", "set_by", "overrides", "status", "enforced"),
        under={"value": "set_by"},
    )
    return Table("rules", columns, tuple(rows), styles)


def rule_sentences(snapshot: Snapshot, rules: Iterable[Rule], weak: Mapping[Rule, Sequence[str]]) -> Table:
    """Return each rule as a sentence with its source and id; ``weak`` ones are marked, with the accounts not meeting
    them."""
    rows, styles = [], {}
    for number, rule in enumerate(rules):
        reading = reading_of(rule, snapshot)
        who = rule.format_statement_about(weak.get(rule, ()))
        if rule in weak:
            styles[number] = BAD if reading.status is Status.READ and reading.enforced else DOUBTFUL
        rows.append(
            {
                "mark": "!" if rule in weak else "",
                "statement": who or reading_text(rule, reading),
                "rule": rule.id,
                "by": "" if who else decided_by(reading),
            }
        )
    columns = columns_of(
        ("mark", ""), ("statement", ""), ("rule", ""), whole=("mark", "rule"), under={"statement": "by"}
    )
    return Table("rules", columns, tuple(rows), styles)


def what_helps(rule: Rule, reading: Reading, snapshot: Snapshot) -> str:
    """Return what would enforce a rule that is configured but not enforced; empty where nothing here could."""
    accepted_values = snapshot.accepted_values.get(rule.id)
    if reading.status is not Status.READ or reading.enforced or reading.remedy:
        return ""
    if accepted_values is not None and accepted_values.cannot:
        return accepted_values.cannot
    leader = next((other for other in CATALOGUE.values() if rule.id in other.set_with), None)
    return f"{advice.set_rule(f'{leader.id if leader else rule.id}=VALUE')} enforces it"


def decided_by(reading: Reading) -> str:
    """Return source and reason in one cell, without repetition."""
    parts = [str(reading.source)] if reading.source else []
    if reading.reason and not any(reading.reason in part for part in parts):
        parts.append(reading.reason)
    parts += [f"overrides {source}" for source in reading.overrides[:2]]
    if reading.remedy:
        parts.append(reading.remedy)
    return "; ".join(parts)


def summary_lines(snapshot: Snapshot) -> list[str]:
    """Return the machine in two lines: what it is; how many accounts can sign in, and who is an administrator."""
    facts = snapshot.machine
    inside = sum(has_route(each, snapshot) and not locked(each, snapshot) for each in snapshot.accounts)
    names = [account.name for account in administrators(snapshot)]
    who = (
        f"{'administrator' if len(names) == 1 else 'administrators'}: {shown(joined(names))}"
        if names
        else "no account has administrator rights"
    )
    may = "may" if Unread.PASSWORDS in facts.unread else "can"
    who = "administrators are not known" if Unread.ADMINISTRATION in facts.unread else who
    return [
        f"{shown(facts.name)}: {shown(facts.system)}, {facts.now:%Y-%m-%d %H:%M}",
        f"{inside} of {counted(len(snapshot.accounts), 'account')} {may} sign in; {who}",
    ]


def account_facts(account: Account, snapshot: Snapshot) -> list[tuple[str, str]]:
    """Return all facts of one account, in words, as (heading, text)."""
    shut = account.builtin is Builtin.ADMIN and not account.enabled
    given = [str(line) for line in account.granted_by]
    for name in account.groups:
        group = snapshot.group(name)
        if group and (what := gives(group, snapshot)):
            lines = f" ({', '.join(map(str, group.granted_by))})" if group.granted_by else ""
            given.append(f"group {name}: {', '.join(what)}{lines}")
    password = {
        PasswordState.SET: f"stored as {account.password_scheme}",
        PasswordState.BLANK: "blank: no password needed",
        PasswordState.NONE: "no usable password",
        PasswordState.UNKNOWN: f"not known: only {snapshot.machine.full_rights} can read it",
    }[account.password]
    changed = f", set on {account.password_changed}" if account.password_changed else ""
    age = "must be changed when too old" if password_ages(account, snapshot) else "exempt from ageing"
    age = "must be changed at the next sign-in" if must_change(account, snapshot, snapshot.machine.now.date()) else age
    age = age if account.password is PasswordState.SET else ""
    fixed = "fixed: only an administrator can change it" if account.cannot_change else ""
    facts = [
        ("account", account.name),
        ("full name", account.full_name),
        ("note", account.note),
        ("ID", account.identity),
        ("origin", _origin(account) or str(account.origin)),
        ("role", role_words(account, snapshot)),
        ("granted by", "; ".join(given)),
        ("disabled", where_set("builtin.admin_enabled").get(snapshot.machine.kind, "") if shut else ""),
        ("notes", ", ".join(states_of(account, snapshot).values()) or "none"),
        (
            "routes",
            "none while locked" if locked(account, snapshot) else ", ".join(_routes(account, snapshot)) or "none",
        ),
        ("signed in", "; ".join(account.sessions)),
        ("password", "; ".join(filter(None, (f"{password}{changed}", age, fixed)))),
        ("until", str(account.until or "")),
        ("last sign-in", last_sign_in(account, snapshot, "%Y-%m-%d %H:%M")),
        ("groups", ", ".join(account.groups)),
        ("keys", counted(account.keys, "key") + " for the remote shell" if account.keys else ""),
        ("processes", f"{account.processes} running now" if account.processes else ""),
        *(("runs jobs" if n == 0 else "", message) for n, message in enumerate(map(act_text, account.acts))),
        ("hint", account.hint + ("" if useful_hint(account.hint) else " (reveals nothing)") if account.hint else ""),
        ("recovery", "; ".join(account.recovery_questions)),
        ("linked to", account.linked_identity),
        ("home", account.home + ("" if account.home_kept else ", temporary: deleted after each session")),
        ("shell", account.shell),
        ("defined in", str(account.source or "")),
    ]
    return [(about, text) for about, text in facts if text]


def hidden_line(number: int, noun: str, which: str) -> str:
    """Return the line about what a list hides: ``1 rule with nothing to report is hidden; …``."""
    are, them = ("is", "it") if number == 1 else ("are", "them")
    return f"{counted(number, noun)} {which} {are} hidden; use --all to show {them}."


def hidden_accounts(number: int) -> str:
    """Return the line about the accounts that a list hides."""
    return hidden_line(number, "system account", "that cannot sign in")
