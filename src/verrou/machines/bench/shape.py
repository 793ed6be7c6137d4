"""The shape of a bench machine's file, checked before its authority trusts it. It shares nothing with the rest."""

import types
from collections.abc import Callable
from datetime import datetime
from functools import cache
from typing import Any, Union, get_args, get_origin, get_type_hints, is_typeddict

from verrou.machines.bench.data import Moment

LARGEST = 10**12
"""No number of a machine is larger."""
Fault = tuple[str, str]
"""A place within a value, and what is wrong there."""
Check = Callable[[Any], Fault | None]


def fault(value: Any, kind: Any) -> str:
    """Return where a value is not of a type, and what is there; empty where it is.

    Types are those of :mod:`~.data`: plain ones, lists, optional ones and typed dictionaries."""
    found = _check_of(kind)(value)
    return "" if found is None else f"{found[0].lstrip('.')}{found[1]}"


@cache
def _check_of(kind: Any) -> Check:
    """Return the check of a type, put together once: a machine's file has thousands of values."""
    origin, arguments = get_origin(kind), get_args(kind)
    if origin in (Union, types.UnionType):
        return _any_of([_check_of(each) for each in arguments])
    if origin is list:
        return _all_of(_check_of(arguments[0]))
    if is_typeddict(kind):
        hints = get_type_hints(kind)
        return _with_keys([(key, _check_of(hints[key])) for key in hints if key in kind.__required_keys__])
    if kind is Moment:
        return lambda value: None if _is_moment(value) else _strange(value)
    if kind is int:
        return lambda value: None if type(value) is int and abs(value) <= LARGEST else _strange(value)
    plain = origin or kind
    return lambda value: None if type(value) is plain else _strange(value)


def _any_of(checks: list[Check]) -> Check:
    def check(value: Any) -> Fault | None:
        found = [each(value) for each in checks]
        return None if None in found else found[0]

    return check


def _all_of(inner: Check) -> Check:
    def check(value: Any) -> Fault | None:
        if type(value) is not list:
            return _strange(value)
        for number, each in enumerate(value):
            if (found := inner(each)) is not None:
                return f"[{number}]{found[0]}", found[1]
        return None

    return check


def _with_keys(members: list[tuple[str, Check]]) -> Check:
    def check(value: Any) -> Fault | None:
        if type(value) is not dict:
            return _strange(value)
        for key, inner in members:
            if key not in value:
                return f".{key}", " is missing"
            if (found := inner(value[key])) is not None:
                return f".{key}{found[0]}", found[1]
        return None

    return check


def _is_moment(value: object) -> bool:
    try:
        return type(value) is str and datetime.fromisoformat(value).tzinfo is None
    except ValueError:
        return False


def _strange(value: object) -> Fault:
    return "", f": found {value!r:.40}"
