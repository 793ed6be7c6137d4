"""Tables and data of access, reasons and the sign-in screen."""

from collections.abc import Iterable, Sequence
from typing import Any, TypedDict

from verrou.core.model import Account, Role, Snapshot, Source, Status, joined
from verrou.core.model.access import (
    Credential,
    KnownRole,
    doubts,
    is_person,
    known_role,
    needs_a_look,
    role_of,
    weakest_credential,
)
from verrou.core.model.elevation import PromptOutcome, elevation_outcome
from verrou.core.model.known import Known
from verrou.core.model.programs import Program
from verrou.core.model.reasons import Reason, Why
from verrou.core.model.routes import Route
from verrou.core.model.screens import Screens, screens_of
from verrou.core.model.states import AccountState, states_of
from verrou.core.rules import CATALOGUE
from verrou.core.surveys.data import plain
from verrou.reports.reading_text import reading_text
from verrou.reports.tables import BAD, Table, columns_of


class AccessData(TypedDict):
    """Access of one account.

    By route the accepted credential (null for none), what is not known of it and why, and where the system itself
    answered differently from its files; by kind of program the outcome of elevation; and where an open session has
    other rights than the account, which."""

    account: str
    role: KnownRole
    routes: dict[Route, Credential | None]
    unknown: list[str]
    differs: list[str]
    elevation: dict[Program, PromptOutcome]
    session: str


class ReasonData(TypedDict):
    """One reason of a chain."""

    helps: bool
    statement: str
    source: Source | None
    change: str


class WhyData(TypedDict):
    """Reasons why an account can or cannot sign in by a route, elevate, or do something else to the machine.

    ``prompt`` says what is asked first, for what is done in a session."""

    account: str
    asked: str
    answer: Known
    prompt: str
    chain: list[ReasonData]
    keeps: list[ReasonData]


class AutomaticSignInData(TypedDict):
    """An account signed in automatically; no name for a session without an account. Not ``known``: there may be
    none."""

    account: str
    statement: str
    source: Source | None
    known: bool


class DeniedAccountData(TypedDict):
    """An account that is denied at the console right now, and the first reason."""

    account: str
    statement: str


class ScreensData(TypedDict):
    """What the sign-in and lock screens show and deny; ``listed`` is null where no account is listed.

    ``statement`` has the sentence of each of their rules."""

    listed: list[str] | None
    last: str
    automatic: list[AutomaticSignInData]
    open: list[str]
    denied: list[DeniedAccountData]
    statement: dict[str, str]


OPENS = {
    Credential.AUTOMATIC: "automatic",
    Credential.NAME: "name only",
    Credential.BLANK: "blank",
    Credential.PASSWORD: "password",
    Credential.KEY: "key",
    Credential.UNKNOWN: "?",
    None: "no",
}
MEETS = {
    PromptOutcome.NO_PROMPT: "no prompt",
    PromptOutcome.CONFIRM: "confirm",
    PromptOutcome.OWN_PASSWORD: "own password",
    PromptOutcome.ADMIN_PASSWORD: "admin password",
    PromptOutcome.DENIED: "denied",
    PromptOutcome.UNKNOWN: "?",
}
"""Cells of the elevation column."""


def access_data(accounts: Sequence[Account], snapshot: Snapshot) -> list[AccessData]:
    """Return the access of each account as plain data."""
    return [
        {
            "account": account.name,
            "role": known_role(account, snapshot),
            "routes": {route: weakest_credential(account, route, snapshot) for route in Route},
            "unknown": _not_known(account, snapshot),
            "differs": _differing(account, snapshot),
            "elevation": {program: elevation_outcome(account, snapshot, program) for program in Program},
            "session": _in_session(account, snapshot),
        }
        for account in accounts
    ]


def _in_session(account: Account, snapshot: Snapshot) -> str:
    """Return what an open session has in place of the account's present rights; empty where it is the same."""
    found = states_of(account, snapshot)
    return found.get(AccountState.KEEPS_RIGHTS) or found.get(AccountState.AWAITS_RIGHTS) or ""


def _not_known(account: Account, snapshot: Snapshot) -> list[str]:
    """Return the routes of which access is not known, and what was not understood."""
    return [f"{route}: {each}" for route in Route for each in doubts(account, route, snapshot)]


def not_known(accounts: Sequence[Account], snapshot: Snapshot) -> list[str]:
    """Return the same of several accounts, one line for equal texts."""
    found = _alike((each, account.name) for account in accounts for each in _not_known(account, snapshot))
    return [f"not known for {joined(names)}: {each}" for each, names in found.items()]


def differing(accounts: Sequence[Account], snapshot: Snapshot) -> list[str]:
    """Return where the system itself answered differently from its files, one line for equal answers."""
    found = _alike((each, account.name) for account in accounts for each in _differing(account, snapshot))
    return [f"{joined(names)}: {each}" for each, names in found.items()]


def _differing(account: Account, snapshot: Snapshot) -> list[str]:
    decided = ((entry_point.route, entry_point.admissions.get(account.name)) for entry_point in snapshot.entry_points)
    return [f"{route}: {each.statement}" for route, each in decided if each is not None and each.differs]


def _alike(text: Iterable[tuple[str, str]]) -> dict[str, list[str]]:
    """Return the names by equal text."""
    found: dict[str, list[str]] = {}
    for each, name in text:
        found.setdefault(each, []).append(name)
    return found


def worth_a_line(snapshot: Snapshot, everyone: bool) -> list[Account]:
    """Return the accounts of a view of access, administrators first."""
    chosen = [a for a in snapshot.accounts if everyone or needs_a_look(a, snapshot)]
    return sorted(chosen, key=lambda a: (list(Role).index(role_of(a, snapshot)), not a.enabled))


def access_table(rows: Sequence[AccessData], snapshot: Snapshot) -> Table:
    """Return a row for each account, with what no one can have intended marked.

    That is a person's route without a prompt, a system or service account that can sign in, and an administrator
    without a prompt."""
    routes = [route for route in Route if any(entry_point.route is route for entry_point in snapshot.entry_points)]
    lines, styles = [], {}
    for number, row in enumerate(rows):
        worry = _worry(row, snapshot)
        if worry:
            styles[number] = BAD
        line: dict[str, object] = {
            "mark": "!" if worry else "",
            "account": row["account"],
            "role": row["role"],
        }
        line |= {route: _opens(row, route) for route in Route}
        line["elevation"] = MEETS[row["elevation"][Program.SIGNED]]
        line |= {f"{program}": str(met) for program, met in row["elevation"].items()}
        lines.append(line)
    heads = {Route.NETWORK: "network", Route.REMOTE_SCREEN: "remote screen", Route.REMOTE_SHELL: "remote shell"}
    pairs = [("mark", ""), ("account", "account"), ("role", "role")]
    pairs += [(str(route), heads.get(route, str(route))) for route in Route]
    pairs += [("elevation", "elevation"), *((str(program), str(program)) for program in Program)]
    hidden = (*(str(route) for route in Route if route not in routes), *map(str, Program))
    columns = columns_of(
        *pairs, whole=[key for key, _ in pairs if key != "account"], hidden=hidden, only_text=("mark",)
    )
    return Table("access", columns, tuple(lines), styles)


def _opens(row: AccessData, route: Route) -> str:
    """Return the accepted credential of a route, with a question mark where less may be enough."""
    how = row["routes"][route]
    doubtful = any(each.startswith(f"{route}: ") for each in row["unknown"])
    return OPENS[how] + ("?" if doubtful and how not in (None, Credential.UNKNOWN) else "")


def _worry(row: AccessData, snapshot: Snapshot) -> bool:
    account = snapshot.by_name[row["account"]]  # type: ignore[index]
    how = set(row["routes"].values()) - {None}
    unproved = bool({Credential.AUTOMATIC, Credential.NAME} & how)
    blank = Credential.BLANK in how and row["role"] is not Role.GUEST
    unmeant = bool(how) and not is_person(account)
    free = (
        row["role"] is Role.ADMINISTRATOR and bool(how) and row["elevation"][Program.SIGNED] is PromptOutcome.NO_PROMPT
    )
    return unproved or blank or unmeant or free


def why_data(answer: Why) -> WhyData:
    """Return the chain as plain data."""
    return {
        "account": answer.account,
        "asked": answer.asked,
        "answer": answer.answer,
        "prompt": answer.prompt,
        "chain": [_reason(reason) for reason in answer.chain],
        "keeps": [_reason(reason) for reason in answer.keeps],
    }


def _reason(reason: Reason) -> ReasonData:
    return {
        "helps": reason.helps,
        "statement": reason.statement,
        "source": _source_data(reason.source),
        "change": reason.change,
    }


def _source_data(source: Source | None) -> Any:
    return None if source is None else plain(source)


def why_table(answer: Why) -> Table:
    """Return the chain, a line a reason."""
    rows = [
        {
            "part": part,
            "number": str(number),
            "statement": reason.statement,
            "source": str(reason.source or ""),
            "change": _to_change(reason, answer),
            "below": "; ".join(filter(None, (str(reason.source or ""), _to_change(reason, answer)))),
        }
        for part, reasons in (("chain", answer.chain), ("keeps", answer.keeps))
        for number, reason in enumerate(reasons, start=1)
    ]
    columns = columns_of(
        ("part", "part"),
        ("number", ""),
        ("statement", ""),
        ("source", "source"),
        ("change", "change"),
        ("below", ""),
        whole=("number",),
        hidden=("part", "source", "change", "below"),
        only_text=("below",),
        under={"statement": "below"},
    )
    return Table("why", columns, tuple(rows))


def _to_change(reason: Reason, answer: Why) -> str:
    if not reason.change:
        return ""
    return f"{'to find out' if answer.answer is Known.UNKNOWN else 'to change it'}: {reason.change}"


SCREEN_RULES = tuple(rule_id for rule_id, rule in CATALOGUE.items() if rule.family == "screen")


def screens_data(snapshot: Snapshot) -> ScreensData:
    """Return the screens as plain data."""
    found = screens_of(snapshot)
    return {
        "listed": None if found.listed is None else list(found.listed),
        "last": found.last,
        "automatic": [
            {"account": u.account, "statement": u.statement, "source": _source_data(u.source), "known": u.known}
            for u in found.automatic
        ],
        "open": list(found.open),
        "denied": [{"account": r.account, "statement": r.statement} for r in found.refused],
        "statement": {rule_id: _text(snapshot, rule_id) for rule_id in SCREEN_RULES},
    }


def _text(snapshot: Snapshot, rule_id: str) -> str:
    rule = CATALOGUE[rule_id]
    reading = snapshot.readings.get(rule_id)
    return reading_text(rule, reading) if reading is not None and reading.status is not Status.NOT_APPLICABLE else ""


BEFORE = ("screen.notice", "screen.attention_key", "screen.shut_down_button")
LOCKED = ("screen.locks_after", "screen.locked_shows")


def signin_table(snapshot: Snapshot) -> Table:
    """Return what a person meets at the sign-in screen and at a locked session, one row for each fact."""
    found = screens_of(snapshot)
    lines: list[tuple[str, str, str]] = []
    for rule_id in BEFORE:
        lines.append(("before sign-in", _text(snapshot, rule_id), _source(snapshot, rule_id)))
    lines += [
        ("listed accounts", statement, _source(snapshot, "screen.hidden_accounts"))
        for statement in _who_is_listed(found)
    ]
    lines.append(("listed accounts", _last_text(found, snapshot), _source(snapshot, "screen.shows_last_account")))
    for each in found.automatic:
        who = each.account or "anyone"
        lines.append(
            ("automatic sign-in" if each.known else "not known", f"{who}: {each.statement}", str(each.source or ""))
        )
    lines += [("no password needed", name, "") for name in found.open]
    lines += [("denied now", f"{each.account}: {each.statement}", "") for each in found.refused]
    for rule_id in LOCKED:
        lines.append(("locked session", _text(snapshot, rule_id), _source(snapshot, rule_id)))
    rows, styles, former = [], {}, ""
    for number, (part, statement, source) in enumerate(line for line in lines if line[1]):
        if part in ("automatic sign-in", "no password needed"):
            styles[number] = BAD
        rows.append({"part": "" if part == former else part, "about": part, "statement": statement, "source": source})
        former = part
    columns = columns_of(
        ("part", ""),
        ("about", "about"),
        ("statement", ""),
        ("source", "source"),
        whole=("part",),
        hidden=("about", "source"),
        only_text=("part",),
        under={"statement": "source"},
    )
    return Table("signin", columns, tuple(rows), styles)


def _who_is_listed(found: Screens) -> list[str]:
    if found.listed is None:
        return ["no account is listed; users type their name"]
    return [joined(found.listed, most=40) or "nobody"]


def _last_text(found: Screens, snapshot: Snapshot) -> str:
    if found.last:
        return f"last account used: {found.last}"
    return _text(snapshot, "screen.shows_last_account")


def _source(snapshot: Snapshot, rule_id: str) -> str:
    reading = snapshot.readings.get(rule_id)
    if reading is None:
        return ""
    message = [str(reading.source)] if reading.source is not None else []
    message += [reading.reason] if reading.reason else []
    message += [f"overrides {source}" for source in reading.overrides[:2]]
    return "; ".join(message)
