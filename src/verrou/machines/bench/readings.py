"""Read a bench machine's authority into a snapshot."""

import json
import re
from collections.abc import Iterator
from datetime import date, datetime, time

from verrou.core.model import (
    Account,
    AccountName,
    Builtin,
    Detail,
    Flag,
    Grant,
    Group,
    GroupName,
    MachineFacts,
    Naming,
    Origin,
    PasswordState,
    Snapshot,
    Source,
)
from verrou.core.model.routes import EVERYONE, AccessListEntry, EntryPoint, Principals, Route, allow_only
from verrou.machines.bench import rules
from verrou.machines.bench import session as seat
from verrou.machines.bench import state as other_side
from verrou.machines.bench.authority import Authority
from verrou.machines.bench.data import ShownAccount

GRANTS = {
    seat.ADMINISTRATORS: Grant.ADMINISTRATION,
    seat.USERS: Grant.ORDINARY_USE,
    seat.GUESTS: Grant.GUEST_USE,
}
BUILTINS = {
    seat.KEEPER: Builtin.ADMIN,
    seat.PASSERBY: Builtin.GUEST,
    seat.PATTERN: Builtin.OTHER,
}


def snapshot_of(authority: Authority, address: str) -> Snapshot:
    """Return the snapshot of a bench machine."""
    facts = MachineFacts(
        name=authority.name,
        kind="bench",
        system=f"bench machine, {authority.edition} edition",
        address=address,
        now=authority.clock,
        naming=Naming(
            pattern="[^" + re.escape(other_side.FORBIDDEN) + r"\x00-\x1f\x7f]+",
            longest=other_side.LONGEST_NAME,
            words=f"1 to {other_side.LONGEST_NAME} characters, none of {other_side.FORBIDDEN}",
            without_case=True,
        ),
        details=(Detail.FULL_NAME, Detail.NOTE, Detail.HINT, Detail.RECOVERY_QUESTIONS, Detail.GROUP_NOTE),
        excluding=((Flag.CHANGE_DUE, Flag.CANNOT_CHANGE), (Flag.CHANGE_DUE, Flag.AGEING_EXEMPT)),
        temporary_homes=True,
        identity=authority.serial,
    )
    accounts = tuple(_account(kept, authority) for kept in authority.accounts())
    groups = tuple(
        Group(
            GroupName(g["name"]),
            str(g["id"]),
            tuple(map(AccountName, g["members"])),
            (GRANTS[g["id"]],) if g["id"] in GRANTS else (),
            Source(f"group {g['id']}"),
            note=g["note"],
            built_in=g["id"] < other_side.FIRST_GIVEN,
        )
        for g in authority.groups()
    )
    return Snapshot(
        facts,
        accounts,
        groups,
        rules.readings(authority),
        entry_points=tuple(_entry_points(authority)),
        accepted_values=rules.accepted_values(authority),
    )


def _entry_points(authority: Authority) -> Iterator[EntryPoint]:
    """Yield the entry points, and the account that is signed in automatically at each start."""
    accounts = {a["id"]: a["name"] for a in authority.accounts()}
    groups = {g["id"]: g["name"] for g in authority.groups()}

    def principals(listed: list[int] | None) -> Principals:
        if listed is None:
            return EVERYONE
        names = (accounts[each] for each in listed if each in accounts)
        return Principals(tuple(names), tuple(groups[each] for each in listed if each in groups))

    lists: list[tuple[str, tuple[AccessListEntry, ...]]] = []
    for route, (taken, denied) in authority.logon_lists().items():
        entries = []
        for side, listed, keeps_out in (("out", denied, denied != []), ("in", taken, taken is not None)):
            key = f"{side}_{route}"
            source = Source(f"setting {key} = {json.dumps(authority.effective(key))}")
            who = (principals(listed),) if side == "out" else (EVERYONE, principals(listed))
            entries += [AccessListEntry(False, who, source, settable=True)] if keeps_out else []
        lists.append((route, tuple(entries)))
        yield EntryPoint(Route(route), tuple(entries), source=Source(f"sign-in lists of {route}"))
    if name := authority.opens_as():
        source = Source(f"setting opens_as = {authority.effective('opens_as')}")
        by_itself = "the machine signs it in at each start"
        console = next(entries for route, entries in lists if route == Route.CONSOLE)
        yield EntryPoint(
            Route.CONSOLE,
            (allow_only(Principals((name,))),),
            also=(console,),
            proof=False,
            blank=False,
            source=source,
            automatic=by_itself,
        )


def _account(kept: ShownAccount, authority: Authority) -> Account:
    now = authority.clock
    builtin = BUILTINS.get(kept["id"])
    until = kept["locked_until"]
    return Account(
        name=AccountName(kept["name"]),
        identity=str(kept["id"]),
        origin=Origin.BUILT_IN if builtin else Origin.ADDED,
        builtin=builtin,
        original_name=kept["shipped_name"],
        full_name=kept["full_name"],
        groups=tuple(map(GroupName, kept["groups"])),
        enabled=kept["open"],
        password=PasswordState(kept["password"]),
        password_scheme=kept["scheme"],
        password_changed=_day(kept["password_set"]),
        ageing_exempt=kept["never_ends"],
        change_due=kept["must_change"],
        until=last_day(kept["ends"], now),
        locked_until=datetime.max if until == "unlocked" else datetime.fromisoformat(until) if until else None,
        failed_attempts=kept["recent_tries"],
        last_sign_in=datetime.fromisoformat(kept["last_sign_in"]) if kept["last_sign_in"] else None,
        source=Source(f"account {kept['id']}"),
        home=kept["home"],
        note=kept["note"],
        cannot_change=kept["cannot_change"],
        sessions=tuple(
            f"{s['way']} since {datetime.fromisoformat(s['since']):%Y-%m-%d %H:%M}" for s in kept["sessions"]
        ),
        inside_by=tuple(dict.fromkeys(s["way"] for s in kept["sessions"])),
        session_grants=_granted_in(kept),
        home_kept=not kept["emptied"],
        hint=kept["hint"],
        recovery_questions=tuple(kept["questions"]),
        linked_identity=kept["outside"],
        may_run=authority.commands_of(kept["name"]),
    )


def _granted_in(kept: ShownAccount) -> tuple[Grant, ...] | None:
    """Return what the open sessions of an account hold, whatever became of it since."""
    if not kept["sessions"]:
        return None
    return (Grant.ADMINISTRATION,) if any(each["may"] for each in kept["sessions"]) else ()


def last_day(ends: str | None, now: datetime) -> date | None:
    """Return the last day of use of an account that expires at a moment, whole days by its own clock."""
    if ends is None:
        return None
    moment = datetime.fromisoformat(ends)
    last = moment.toordinal() - (moment.time() == time() or (moment <= now and moment.date() == now.date()))
    return date.fromordinal(max(last, 1))


def _day(moment: str | None) -> date | None:
    return datetime.fromisoformat(moment).date() if moment else None
