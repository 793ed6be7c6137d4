"""Adapter of a rule on a bench machine: the authority's key, conversion of its numbers, and accepted values."""

import json
from collections.abc import Callable, Mapping
from typing import Any, TypeAlias

from attrs import evolve, frozen

from verrou.core.model import Reading, Source, absent
from verrou.core.values import AcceptedValues, Value
from verrou.machines.bench.authority import Authority

Written: TypeAlias = tuple[str, Any]
"""A key of the authority, and what to set it to."""


@frozen(eq=False)
class BenchRuleAdapter:
    """Adapter of one rule.

    ``where`` says where it is set, for people, ``key`` under which key. ``write`` is None where the authority decides
    by itself; it raises No for what the authority cannot have meant."""

    where: str
    read: Callable[[Authority], Reading]
    write: Callable[[Authority, Value], Written] | None
    accepted_values: Callable[[Authority], AcceptedValues]
    key: str = ""


def source_of(authority: Authority, key: str) -> Source:
    """Return the source of a key of the authority, as it is enforced now."""
    value = authority.effective(key)
    if isinstance(value, dict) and len(set(map(str, value.values()))) == 1:
        value = next(iter(value.values()))
    return Source(f"setting {key} = {json.dumps(value, ensure_ascii=False)}")


def words(key: str, where: str, words: Mapping[Any, str]) -> BenchRuleAdapter:
    """Convert what the authority stores by the table ``words``."""
    back = {word: number for number, word in words.items()}
    return stored(
        key, where, words.__getitem__, lambda _, value: back[str(value)], lambda _: AcceptedValues(words=tuple(back))
    )


def switch(key: str, where: str) -> BenchRuleAdapter:
    """Convert a switch."""
    return stored(key, where, bool, lambda _, value: value, lambda _: AcceptedValues())


def stored(
    key: str,
    where: str,
    to_value: Callable[[Any], Value],
    from_value: Callable[[Authority, Value], Any],
    accepted_values: Callable[[Authority], AcceptedValues],
) -> BenchRuleAdapter:
    """Return a key of the authority as it counts now, with what waits for a restart or a sign-in.

    An edition that lacks it has no such rule."""

    def read(authority: Authority) -> Reading:
        if authority.lacks(key):
            return absent(f"the {authority.edition} edition of a bench machine has no such rule")
        now, coming = authority.effective(key), authority.policy()[key]
        pending = None if now == coming else to_value(coming)
        return Reading(to_value(now), source=source_of(authority, key), pending=pending)

    def with_waiting(authority: Authority) -> AcceptedValues:
        return evolve(accepted_values(authority), waits=authority.waits(key))

    def write(authority: Authority, value: Value) -> Written:
        return key, from_value(authority, value)

    return BenchRuleAdapter(where, read, write, with_waiting, key)
