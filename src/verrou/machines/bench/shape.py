"""Shape of a bench machine's file, checked before its authority trusts it. It shares nothing with the rest."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

LARGEST = 10**12
"""No number of a machine is larger."""
Shape = Any
"""A type; one shape in a list, for a list of such; a mapping of keys to shapes, each of which has to be there; a tuple
of shapes, for any of them; or a check of its own."""


def moment(value: Any) -> bool:
    """Return whether a text is a point in time, without a zone."""
    try:
        return isinstance(value, str) and datetime.fromisoformat(value).tzinfo is None
    except ValueError:
        return False


def number(value: Any) -> bool:
    """Return whether it is a whole number of a size that a machine may have."""
    return type(value) is int and abs(value) <= LARGEST


KEPT: Mapping[str, Shape] = {"scheme": str, "salt": str, "hash": str, "blank": bool, "at": moment}
ACCOUNT: Mapping[str, Shape] = {
    "id": number,
    "name": str,
    "open": bool,
    "password": (None, KEPT),
    "tries": [moment],
    **dict.fromkeys(("full_name", "note", "home", "hint", "outside"), str),
    **dict.fromkeys(("emptied", "must_change", "cannot_change", "never_ends"), bool),
    **dict.fromkeys(("ends", "locked_at", "last_sign_in"), (None, moment)),
    "recovery": [{"question": str, "answer": KEPT}],
    "history": [KEPT],
    "own_idle": (None, number),
}
FILE: Mapping[str, Shape] = {
    **dict.fromkeys(("name", "edition", "language"), str),
    "clock": moment,
    "next": number,
    "policy": dict,
    "waiting": dict,
    "accounts": [ACCOUNT],
    "groups": [{"id": number, "name": str, "note": str, "members": [number]}],
    "sessions": [{"token": number, "account": number, "way": str, "since": moment, "may": bool}],
    "disk": [{"place": str, "size": number, "owner": number}],
    "archives": [{"place": str, "sha256": str, "files": [dict]}],
}


def fault(value: Any, shape: Shape, where: str = "") -> str:
    """Return where a value has the wrong shape, and what is there; empty where it is right."""
    if isinstance(shape, tuple):
        found = [fault(value, each, where) for each in shape]
        return "" if "" in found else found[-1]
    if isinstance(shape, list):
        if not isinstance(value, list):
            return _strange(value, where)
        return next(filter(None, (fault(each, shape[0], f"{where}[{n}]") for n, each in enumerate(value))), "")
    if isinstance(shape, Mapping):
        if not isinstance(value, dict):
            return _strange(value, where)
        return next(filter(None, (_member(value, key, each, where) for key, each in shape.items())), "")
    good = value is None if shape is None else type(value) is shape if isinstance(shape, type) else shape(value)
    return "" if good else _strange(value, where)


def _member(value: Mapping[str, Any], key: str, shape: Shape, where: str) -> str:
    inside = f"{where}.{key}".lstrip(".")
    return fault(value[key], shape, inside) if key in value else f"{inside} is missing"


def _strange(value: Any, where: str) -> str:
    return f"{where}: found {value!r:.40}"
