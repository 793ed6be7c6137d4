"""Who gets in by which way and becomes what, why, and what the sign-in screen shows: as sheets and as plain data."""

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
from verrou.core.model.elevation import Program, PromptOutcome, elevation_outcome
from verrou.core.model.known import Known
from verrou.core.model.reasons import Reason, Why
from verrou.core.model.screens import Screens, screens_of
from verrou.core.model.ways import Route
from verrou.core.rules import CATALOGUE
from verrou.core.survey import plain
from verrou.reports.reading_words import reading_says
from verrou.reports.sheets import BAD, Table, columns_of


class AccessData(TypedDict):
    """One account: what opens each way to it (null for none), what is not known of that and why, where the system asked
    itself answers otherwise than its files read, and what it meets that wants to administer, by kind of program."""

    account: str
    role: KnownRole
    routes: dict[Route, Credential | None]
    unknown: list[str]
    differs: list[str]
    elevation: dict[Program, PromptOutcome]


class ReasonData(TypedDict):
    """One link of a chain of reasons."""

    helps: bool
    says: str
    source: Source | None
    change: str


class WhyData(TypedDict):
    """Why an account gets in by a way or becomes an administrator, or does not."""

    account: str
    asked: str
    answer: Known
    chain: list[ReasonData]
    keeps: list[ReasonData]


class AutomaticSignInData(TypedDict):
    """Somebody who gets in without being asked; no name for a session of nobody in particular. Where it is not
    ``known``, nobody may."""

    account: str
    says: str
    source: Source | None
    known: bool


class DeniedAccountData(TypedDict):
    """An account that is refused at the console right now, and the first reason."""

    account: str
    says: str


class ScreensData(TypedDict):
    """What the sign-in screen and the lock screen show and refuse; ``listed`` is null where no account is listed.
    ``says`` tells each rule of theirs in a sentence."""

    listed: list[str] | None
    last: str
    automatic: list[AutomaticSignInData]
    open: list[str]
    denied: list[DeniedAccountData]
    says: dict[str, str]


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
"""What stands in the column of administration."""


def access_data(accounts: Sequence[Account], snapshot: Snapshot) -> list[AccessData]:
    """Plain data of each account."""
    return [
        {
            "account": account.name,
            "role": known_role(account, snapshot),
            "routes": {way: weakest_credential(account, way, snapshot) for way in Route},
            "unknown": _not_known(account, snapshot),
            "differs": _differing(account, snapshot),
            "elevation": {program: elevation_outcome(account, snapshot, program) for program in Program},
        }
        for account in accounts
    ]


def _not_known(account: Account, snapshot: Snapshot) -> list[str]:
    """By which ways it is not known whether the account gets in, and what was not understood."""
    return [f"{way}: {each}" for way in Route for each in doubts(account, way, snapshot)]


def not_known(accounts: Sequence[Account], snapshot: Snapshot) -> list[str]:
    """The same of several accounts, a line for what is not known of the same ones."""
    found = _alike((each, account.name) for account in accounts for each in _not_known(account, snapshot))
    return [f"not known for {joined(names)}: {each}" for each, names in found.items()]


def differing(accounts: Sequence[Account], snapshot: Snapshot) -> list[str]:
    """Where the system, asked itself, answers otherwise than its files read, a line for the same answer."""
    found = _alike((each, account.name) for account in accounts for each in _differing(account, snapshot))
    return [f"{joined(names)}: {each}" for each, names in found.items()]


def _differing(account: Account, snapshot: Snapshot) -> list[str]:
    decided = ((gate.way, gate.admissions.get(account.name)) for gate in snapshot.entry_points)
    return [f"{way}: {each.says}" for way, each in decided if each is not None and each.differs]


def _alike(told: Iterable[tuple[str, str]]) -> dict[str, list[str]]:
    """The names by what is told of them."""
    found: dict[str, list[str]] = {}
    for each, name in told:
        found.setdefault(each, []).append(name)
    return found


def worth_a_line(snapshot: Snapshot, everyone: bool) -> list[Account]:
    """The accounts of a view of access, administrators first."""
    chosen = [a for a in snapshot.accounts if everyone or needs_a_look(a, snapshot)]
    return sorted(chosen, key=lambda a: (list(Role).index(role_of(a, snapshot)), not a.enabled))


def access_sheet(rows: Sequence[AccessData], snapshot: Snapshot) -> Table:
    """A line an account. What nobody can have meant is marked: a person's way in that asks nothing, somebody of the
    system or a service who gets in, an administrator who is asked nothing."""
    ways = [way for way in Route if any(gate.way is way for gate in snapshot.entry_points)]
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
        line |= {way: _opens(row, way) for way in Route}
        line["elevation"] = MEETS[row["elevation"][Program.SIGNED]]
        line |= {f"{program}": str(met) for program, met in row["elevation"].items()}
        lines.append(line)
    heads = {Route.NETWORK: "network", Route.REMOTE_SCREEN: "remote screen", Route.REMOTE_SHELL: "remote shell"}
    pairs = [("mark", ""), ("account", "account"), ("role", "role")]
    pairs += [(str(way), heads.get(way, str(way))) for way in Route]
    pairs += [("elevation", "elevation"), *((str(program), str(program)) for program in Program)]
    hidden = (*(str(way) for way in Route if way not in ways), *map(str, Program))
    columns = columns_of(
        *pairs, whole=[key for key, _ in pairs if key != "account"], hidden=hidden, only_text=("mark",)
    )
    return Table("access", columns, tuple(lines), styles)


def _opens(row: AccessData, way: Route) -> str:
    """What opens a way, with a question mark where less may be enough."""
    how = row["routes"][way]
    doubtful = any(each.startswith(f"{way}: ") for each in row["unknown"])
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
    """The chain as plain data."""
    return {
        "account": answer.account,
        "asked": answer.asked,
        "answer": answer.answer,
        "chain": [_reason(reason) for reason in answer.chain],
        "keeps": [_reason(reason) for reason in answer.keeps],
    }


def _reason(reason: Reason) -> ReasonData:
    return {"helps": reason.helps, "says": reason.says, "source": _source_data(reason.source), "change": reason.change}


def _source_data(source: Source | None) -> Any:
    return None if source is None else plain(source)


def why_sheet(answer: Why) -> Table:
    """The chain, a line a reason."""
    rows = [
        {
            "part": part,
            "number": str(number),
            "says": reason.says,
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
        ("says", ""),
        ("source", "source"),
        ("change", "change"),
        ("below", ""),
        whole=("number",),
        hidden=("part", "source", "change", "below"),
        only_text=("below",),
        under={"says": "below"},
    )
    return Table("why", columns, tuple(rows))


def _to_change(reason: Reason, answer: Why) -> str:
    if not reason.change:
        return ""
    return f"{'to find out' if answer.answer is Known.UNKNOWN else 'to change it'}: {reason.change}"


SCREEN_RULES = tuple(rule_id for rule_id, rule in CATALOGUE.items() if rule.family == "screen")


def screens_data(snapshot: Snapshot) -> ScreensData:
    """What the screens show, as plain data."""
    found = screens_of(snapshot)
    return {
        "listed": None if found.listed is None else list(found.listed),
        "last": found.last,
        "automatic": [
            {"account": u.account, "says": u.says, "source": _source_data(u.source), "known": u.known}
            for u in found.unasked
        ],
        "open": list(found.open),
        "denied": [{"account": r.account, "says": r.says} for r in found.refused],
        "says": {rule_id: _says(snapshot, rule_id) for rule_id in SCREEN_RULES},
    }


def _says(snapshot: Snapshot, rule_id: str) -> str:
    rule = CATALOGUE[rule_id]
    reading = snapshot.readings.get(rule_id)
    return reading_says(rule, reading) if reading is not None and reading.status is not Status.NOT_APPLICABLE else ""


BEFORE = ("screen.notice", "screen.attention_key", "screen.shut_down_button")
LOCKED = ("screen.locks_after", "screen.locked_shows")


def signin_sheet(snapshot: Snapshot) -> Table:
    """What somebody meets who stands before the machine, and before a session that was left; a line a fact."""
    found = screens_of(snapshot)
    lines: list[tuple[str, str, str]] = []
    for rule_id in BEFORE:
        lines.append(("before sign-in", _says(snapshot, rule_id), _source(snapshot, rule_id)))
    lines += [("listed accounts", says, _source(snapshot, "screen.hidden_accounts")) for says in _who_is_listed(found)]
    lines.append(("listed accounts", _last_says(found, snapshot), _source(snapshot, "screen.shows_last_account")))
    for each in found.unasked:
        who = each.account or "anyone"
        lines.append(
            ("automatic sign-in" if each.known else "not known", f"{who}: {each.says}", str(each.source or ""))
        )
    lines += [("no password needed", name, "") for name in found.open]
    lines += [("denied now", f"{each.account}: {each.says}", "") for each in found.refused]
    for rule_id in LOCKED:
        lines.append(("locked session", _says(snapshot, rule_id), _source(snapshot, rule_id)))
    rows, styles, former = [], {}, ""
    for number, (part, says, source) in enumerate(line for line in lines if line[1]):
        if part in ("automatic sign-in", "no password needed"):
            styles[number] = BAD
        rows.append({"part": "" if part == former else part, "about": part, "says": says, "source": source})
        former = part
    columns = columns_of(
        ("part", ""),
        ("about", "about"),
        ("says", ""),
        ("source", "source"),
        whole=("part",),
        hidden=("about", "source"),
        only_text=("part",),
        under={"says": "source"},
    )
    return Table("signin", columns, tuple(rows), styles)


def _who_is_listed(found: Screens) -> list[str]:
    if found.listed is None:
        return ["no account is listed; users type their name"]
    return [joined(found.listed, most=40) or "nobody"]


def _last_says(found: Screens, snapshot: Snapshot) -> str:
    if found.last:
        return f"last account used: {found.last}"
    return _says(snapshot, "screen.shows_last_account")


def _source(snapshot: Snapshot, rule_id: str) -> str:
    reading = snapshot.readings.get(rule_id)
    if reading is None:
        return ""
    said = [str(reading.source)] if reading.source is not None else []
    said += [reading.reason] if reading.reason else []
    said += [f"overrides {source}" for source in reading.overrides[:2]]
    return "; ".join(said)
