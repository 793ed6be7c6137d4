"""Adapters of all rules that a bench machine has."""

from collections.abc import Iterable, Mapping
from datetime import timedelta
from typing import Any

from verrou.core.model import Reading, Source, absent
from verrou.core.model.routes import Route
from verrou.core.values import AcceptedValues, Value
from verrou.machines.bench import session_rules as seat_rules
from verrou.machines.bench.adapter import BenchRuleAdapter, Written, source_of, switch, words
from verrou.machines.bench.authority import Authority


def _number(key: str, where: str, *, unit: str = "", trap: str = "", needs_lockout: bool = False) -> BenchRuleAdapter:
    """Convert a whole number, of days or minutes where ``unit`` says so; 0 means the word ``trap``, where there is
    one."""
    one: Any = timedelta(**{unit: 1}) if unit else 1

    def read(authority: Authority) -> Reading:
        number = authority.policy()[key]
        moot = needs_lockout and authority.policy()["try_limit"] == 0
        value = None if number is None else trap if trap and number == 0 else one * number
        reason = "accounts never lock on this machine" if moot else ""
        return Reading(value, source=source_of(authority, key), enforced=not moot, reason=reason)

    def write(_: Authority, value: Value) -> Written:
        return key, 0 if value == trap else value // one if isinstance(value, timedelta) else value

    def accepted_values(authority: Authority) -> AcceptedValues:
        low, high = authority.limits(key)
        return AcceptedValues(one * max(low, 1 if trap else 0), one * high, (trap,) if trap else ())

    return BenchRuleAdapter(where, read, write, accepted_values, key)


def _blank_routes() -> BenchRuleAdapter:
    key = "blank_by"

    def read(authority: Authority) -> Reading:
        return Reading(frozenset(authority.policy()[key]), source=source_of(authority, key))

    def write(_: Authority, value: Value) -> Written:
        assert isinstance(value, frozenset)
        return key, [str(route) for route in Route if str(route) in value]

    def accepted_values(authority: Authority) -> AcceptedValues:
        return AcceptedValues(words=tuple(authority.logon_lists()))

    return BenchRuleAdapter(
        "the routes on which the authority accepts a blank password; by default the console only",
        read,
        write,
        accepted_values,
        key,
    )


def _storage() -> BenchRuleAdapter:
    def read(authority: Authority) -> Reading:
        schemes = {"pbkdf2"} | {account["scheme"] for account in authority.accounts() if account["scheme"]}
        return Reading(frozenset(schemes), source=Source("the authority"))

    cannot = AcceptedValues(cannot="a bench machine's way of storing passwords is fixed")
    return BenchRuleAdapter("what the authority writes", read, None, lambda _: cannot)


ADAPTERS: Mapping[str, BenchRuleAdapter] = {
    "lockout.after": _number("try_limit", "the authority's lock threshold; 0 there means never", trap="never"),
    "lockout.lasts": _number(
        "lock_minutes",
        "the authority's lock minutes; 0 there means until-unlocked",
        unit="minutes",
        trap="until-unlocked",
        needs_lockout=True,
    ),
    "lockout.forget_after": _number(
        "window_minutes", "the authority's counting window in minutes", unit="minutes", needs_lockout=True
    ),
    "lockout.exempts": words(
        "lock_keeper", "a switch of the authority, off by default", {False: "built-in", True: "nobody"}
    ),
    "password.min_length": _number("length", "the authority's shortest length"),
    "password.classes": _number("classes", "the authority's number of kinds"),
    "password.remember": _number("history", "the authority's history length"),
    "password.max_age": _number(
        "age_max_days", "the authority's longest age in days; 0 there means never", unit="days", trap="never"
    ),
    "password.min_age": _number("age_min_days", "the authority's shortest age in days", unit="days"),
    "password.warn_before": _number("warn_days", "the authority's days of warning", unit="days"),
    "password.may_contain_name": switch("name_inside", "a switch of the authority"),
    "password.blank_accepted": _blank_routes(),
    "password.storage": _storage(),
    "population.linked_identities": words(
        "outside",
        "a number of the authority, and a mark on each account that is tied",
        {0: "forbidden", 1: "existing-only", 2: "allowed"},
    ),
    **seat_rules.ADAPTERS,
}
ABSENT: Mapping[str, str] = {
    "password.dictionary": "the authority of a bench machine knows no dictionary",
    **seat_rules.ABSENT,
}
_BUILT_IN = (
    "the account whose ID is 1 (administrator) or 2 (guest); disabled means that no one can sign in as it, on any route"
)
_BUILT_IN_NAME = "the name of the account whose ID is 1 or 2"
DERIVED: Mapping[str, str] = {
    "builtin.admin_enabled": _BUILT_IN,
    "builtin.guest_enabled": _BUILT_IN,
    "builtin.admin_name": _BUILT_IN_NAME,
    "builtin.guest_name": _BUILT_IN_NAME,
    "population.ageing_exempt": "a mark on the account, or no longest age at all",
    "population.unused_for": "the last sign-in stored by the authority; without one, the day the password was set",
    "population.temporary_limit": "the expiry stored for each account",
    "population.hints": "a text beside each account",
    "population.recovery_questions": "questions and hashed answers beside each account",
}
"""Source of a derived rule's facts, where it is worth naming."""


def rules_set_by(keys: Iterable[str]) -> list[str]:
    """Return the rules that are set under keys of the authority, in the order of the keys."""
    rules = {adapter.key: rule_id for rule_id, adapter in ADAPTERS.items()}
    return [rules[key] for key in dict.fromkeys(keys) if key in rules]


def readings(authority: Authority) -> dict[str, Reading]:
    """Return every rule that is not derived."""
    kept = {rule_id: adapter.read(authority) for rule_id, adapter in ADAPTERS.items()}
    return kept | {rule_id: absent(reason) for rule_id, reason in ABSENT.items()}


def accepted_values(authority: Authority) -> dict[str, AcceptedValues]:
    """Return the values that the authority accepts, by rule."""
    return {rule_id: adapter.accepted_values(authority) for rule_id, adapter in ADAPTERS.items()}
