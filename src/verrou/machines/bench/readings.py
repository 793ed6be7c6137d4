"""What a bench machine's authority says of it, in Verrou's words."""

import json
import re
from collections.abc import Callable, Mapping
from datetime import date, datetime, timedelta
from typing import Any, NamedTuple

from verrou.core.model import (
    Account,
    Builtin,
    Detail,
    Flag,
    Grant,
    Group,
    MachineFacts,
    Naming,
    Origin,
    PasswordState,
    Posture,
    Reading,
    Source,
    absent,
)
from verrou.core.model.ways import Circle, Gate, Way, nobody_but
from verrou.core.values import Value
from verrou.machines.bench import authority as other_side
from verrou.machines.bench.authority import Authority


class Kept(NamedTuple):
    """Where the authority keeps a rule: its key, and how its numbers are turned into values and back."""

    key: str
    read: Callable[[Any], Value]
    write: Callable[[Value], Any]


def _trap(unit: str, word: str | None) -> tuple[Callable[[Any], Value], Callable[[Value], Any]]:
    """Durations in whole ``unit`` where 0 means ``word``."""
    one = timedelta(**{unit: 1})
    return (
        lambda number: word if number == 0 and word else one * number,
        lambda value: 0 if value == word else value // one if isinstance(value, timedelta) else value,
    )


def _plain(number: Any) -> Any:
    return number


OUTSIDE = ("forbidden", "existing-only", "allowed")
"""What the authority's number about outside identities says, by the number."""

KEPT: Mapping[str, Kept] = {
    "lockout.after": Kept(
        "try_limit", lambda n: "never" if n == 0 else n, lambda value: 0 if value == "never" else value
    ),
    "lockout.lasts": Kept("lock_minutes", *_trap("minutes", "until-unlocked")),
    "lockout.forget_after": Kept("window_minutes", *_trap("minutes", None)),
    "lockout.covers_admin": Kept("lock_keeper", _plain, _plain),
    "password.min_length": Kept("length", _plain, _plain),
    "password.classes": Kept("classes", _plain, _plain),
    "password.remember": Kept("history", _plain, _plain),
    "password.max_age": Kept("age_max_days", *_trap("days", "never")),
    "password.min_age": Kept("age_min_days", *_trap("days", None)),
    "password.warn_before": Kept("warn_days", *_trap("days", None)),
    "password.may_contain_name": Kept("name_inside", _plain, _plain),
    "password.blank_console_only": Kept("blank_console_only", _plain, _plain),
    "population.online_identities": Kept("outside", lambda n: OUTSIDE[n], lambda value: OUTSIDE.index(str(value))),
}
GRANTS = {
    other_side.ADMINISTRATORS: Grant.ADMINISTRATION,
    other_side.USERS: Grant.ORDINARY_USE,
    other_side.GUESTS: Grant.GUEST_USE,
}
FIRST_MADE = 1000
"""The first identity that the authority gives itself; lower ones came with the machine."""
BUILTINS = {
    other_side.KEEPER: Builtin.ADMIN,
    other_side.VISITOR: Builtin.GUEST,
    other_side.PATTERN: Builtin.OTHER,
}


def posture_of(authority: Authority, address: str) -> Posture:
    """What the authority says of its machine, in Verrou's words."""
    policy = authority.policy()
    locks = policy["try_limit"] != 0
    readings: dict[str, Reading] = {}
    for rule_id, kept in KEPT.items():
        number = policy[kept.key]
        moot = rule_id.startswith("lockout.") and rule_id != "lockout.after" and not locks
        readings[rule_id] = Reading(
            None if number is None else kept.read(number),
            source=Source("authority", text=f"{kept.key} = {json.dumps(number)}"),
            in_force=not moot,
            reason="accounts never lock on this machine" if moot else "",
        )
    schemes = frozenset({"pbkdf2"} | {a["scheme"] for a in authority.accounts() if a["scheme"]})
    readings["password.storage"] = Reading(schemes, source=Source("authority"))
    readings["password.dictionary"] = absent("the authority of a bench machine knows no dictionary")
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
        excluding=((Flag.MUST_CHANGE, Flag.CANNOT_CHANGE), (Flag.MUST_CHANGE, Flag.AGES_EXEMPT)),
        fleeting_homes=True,
    )
    accounts = tuple(map(_account, authority.accounts()))
    groups = tuple(
        Group(
            g["name"],
            str(g["id"]),
            tuple(g["members"]),
            (GRANTS[g["id"]],) if g["id"] in GRANTS else (),
            Source("authority", text=f"group {g['id']}"),
            note=g["note"],
            shipped=g["id"] < FIRST_MADE,
        )
        for g in authority.groups()
    )
    names = {g["id"]: g["name"] for g in authority.groups()}
    gates = tuple(
        Gate(
            Way(way),
            () if taken is None else (nobody_but(Circle(groups=tuple(names[group] for group in taken))),),
            source=Source("authority", text=f"way {way}"),
        )
        for way, taken in authority.ways().items()
    )
    return Posture(facts, accounts, groups, readings, gates=gates)


def _account(kept: dict[str, Any]) -> Account:
    builtin = BUILTINS.get(kept["id"])
    until = kept["locked_until"]
    return Account(
        name=kept["name"],
        identity=str(kept["id"]),
        origin=Origin.BUILT_IN if builtin else Origin.ADDED,
        builtin=builtin,
        shipped_name=kept["shipped_name"],
        full_name=kept["full_name"],
        groups=tuple(kept["groups"]),
        enabled=kept["open"],
        password=PasswordState(kept["password"]),
        password_scheme=kept["scheme"],
        password_changed=_day(kept["password_set"]),
        ages_exempt=kept["never_ends"],
        password_due=kept["must_change"],
        ends=_day(kept["ends"]),
        locked_until=datetime.max if until == "unlocked" else datetime.fromisoformat(until) if until else None,
        wrong_tries=kept["recent_tries"],
        last_sign_in=datetime.fromisoformat(kept["last_sign_in"]) if kept["last_sign_in"] else None,
        source=Source("authority", text=f"account {kept['id']}"),
        home=kept["home"],
        note=kept["note"],
        cannot_change=kept["cannot_change"],
        sessions=tuple(
            f"{s['way']} since {datetime.fromisoformat(s['since']):%Y-%m-%d %H:%M}" for s in kept["sessions"]
        ),
        home_kept=not kept["emptied"],
        hint=kept["hint"],
        recovery_questions=tuple(kept["questions"]),
        outside_identity=kept["outside"],
    )


def _day(moment: str | None) -> date | None:
    return datetime.fromisoformat(moment).date() if moment else None
