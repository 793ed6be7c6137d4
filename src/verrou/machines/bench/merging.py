"""Undo our own change in a bench machine's file that others wrote since: item by item, key by key."""

import json
from collections.abc import Mapping
from typing import Any

KEYS = {"accounts": "id", "groups": "id", "disk": "place", "archives": "place", "sessions": "token"}
"""Lists of a bench machine, each with the key that identifies its items."""
THEIRS_ALONE = ("clock", "next")
"""Counters that only increase."""
_GONE = object()


def merge(before: bytes, after: bytes, now: bytes) -> tuple[bytes, list[str]]:
    """Return ``now`` without our change from ``before`` to ``after``, and what others changed as well, which stays."""
    kept: list[str] = []
    merged = _merged(json.loads(before), json.loads(after), json.loads(now), "", kept)
    return (json.dumps(merged, indent=1, ensure_ascii=False) + "\n").encode(), sorted(kept)


def _merged(was: Any, ours: Any, theirs: Any, where: str, kept: list[str]) -> Any:
    if was == ours or theirs == was or where.strip() in THEIRS_ALONE:
        return theirs
    if theirs == ours:
        return was
    if isinstance(was, dict) and isinstance(ours, dict) and isinstance(theirs, dict):
        return _merged_maps(was, ours, theirs, where, kept)
    if isinstance(was, list) and isinstance(ours, list) and isinstance(theirs, list):
        key = KEYS.get(where.strip())
        if key is None:
            stay = [item for item in theirs if item in was or item not in ours]
            return stay + [item for item in was if item not in ours and item not in stay]
        first, second, third = ({item[key]: item for item in items} for items in (was, ours, theirs))
        return list(_merged_maps(first, second, third, where, kept).values())
    kept.append(where.strip())
    return theirs


def _merged_maps(
    was: Mapping[Any, Any], ours: Mapping[Any, Any], theirs: Mapping[Any, Any], where: str, kept: list[str]
) -> dict[Any, Any]:
    result: dict[Any, Any] = {}
    for key in [*was, *(key for key in theirs if key not in was)]:
        old, new, now = (side.get(key, _GONE) for side in (was, ours, theirs))
        merged = _merged(old, new, now, f"{where} {key}", kept)
        if merged is not _GONE:
            result[key] = merged
    return result
