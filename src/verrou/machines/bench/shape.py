"""The shape of a bench machine's file, checked before its authority trusts it. It shares nothing with the rest."""

import types
from collections.abc import Mapping
from datetime import datetime
from functools import cache
from typing import Any, Union, get_args, get_origin, get_type_hints, is_typeddict

from verrou.machines.bench.data import Moment

LARGEST = 10**12
"""No number of a machine is larger."""


def _is_moment(value: object) -> bool:
    try:
        return isinstance(value, str) and datetime.fromisoformat(value).tzinfo is None
    except ValueError:
        return False


def _is_number(value: object) -> bool:
    """Return whether it is a whole number of a size that a machine may have."""
    return type(value) is int and abs(value) <= LARGEST


@cache
def _members(kind: Any) -> Mapping[str, Any]:
    """Return the types of the keys that each mapping of this kind has to have."""
    return {key: hint for key, hint in get_type_hints(kind).items() if key in kind.__required_keys__}


def fault(value: Any, kind: Any, where: str = "") -> str:
    """Return where a value is not of a type, and what is there; empty where it is.

    Types are those of :mod:`~.data`: plain ones, lists, optional ones and typed dictionaries."""
    origin, arguments = get_origin(kind), get_args(kind)
    if origin in (Union, types.UnionType):
        found = [fault(value, each, where) for each in arguments]
        return "" if "" in found else found[0]
    if origin is list:
        if not isinstance(value, list):
            return _strange(value, where)
        return next(filter(None, (fault(each, arguments[0], f"{where}[{n}]") for n, each in enumerate(value))), "")
    if is_typeddict(kind):
        if not isinstance(value, dict):
            return _strange(value, where)
        return next(filter(None, (_member(value, key, each, where) for key, each in _members(kind).items())), "")
    if kind is Moment:
        good = _is_moment(value)
    elif kind is int:
        good = _is_number(value)
    else:
        good = type(value) is (origin or kind)
    return "" if good else _strange(value, where)


def _member(value: Mapping[str, Any], key: str, kind: Any, where: str) -> str:
    inside = f"{where}.{key}".lstrip(".")
    return fault(value[key], kind, inside) if key in value else f"{inside} is missing"


def _strange(value: Any, where: str) -> str:
    return f"{where}: found {value!r:.40}"
