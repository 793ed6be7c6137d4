"""Undo our own change in a file that others wrote since: theirs stays, and conflicts are reported."""

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from difflib import SequenceMatcher

from verrou.machines.linux.files.account_files import FIELDS, GROUP, GSHADOW

Merged = tuple[bytes, list[str]]
"""The merged content, and what others wrote since and was left alone."""
Merge = Callable[[bytes, bytes, bytes], Merged]
"""From (before, after, now) to that."""
LISTS: Mapping[str, tuple[int, ...]] = {GROUP: (3,), GSHADOW: (2, 3)}
"""The fields of an account file that are lists of names."""


def merger_for(place: str) -> Merge:
    """Return how a file is merged: account files field by field, the rest line by line."""
    if place in FIELDS:
        return lambda before, after, now: merge_records(place, before, after, now)
    if place.endswith(".dat"):
        return merge_paragraphs
    return merge_lines


def merge_records(place: str, before: bytes, after: bytes, now: bytes) -> Merged:
    """Merge passwd(5) and similar files by record, field by field, and lists of names name by name.

    Records match by first field and occurrence. Every other line stays."""
    was, ours, theirs = (_keyed(content.removesuffix(b"\n").split(b"\n"), _name) for content in (before, after, now))
    kept: list[str] = []
    merged = dict(theirs)
    for key in [*was, *(key for key in ours if key not in was)]:
        if was.get(key) == ours.get(key) or theirs.get(key) == was.get(key):
            continue
        if theirs.get(key) == ours.get(key):
            if key in was:
                merged[key] = was[key]
            else:
                del merged[key]
        elif key in was and key in ours and key in theirs:
            merged[key], left = _fields(place, was[key], ours[key], theirs[key])
            kept += [key[0].decode("utf-8", "backslashreplace")] if left else []
        elif key in was or key in theirs:
            kept.append(key[0].decode("utf-8", "backslashreplace"))
    return _ended(b"\n".join(merged.values()), now), kept


def _name(line: bytes) -> bytes:
    return line.split(b":", 1)[0]


def _fields(place: str, was: bytes, ours: bytes, theirs: bytes) -> tuple[bytes, bool]:
    parts = [line.split(b":") for line in (was, ours, theirs)]
    if len({len(part) for part in parts}) > 1:
        return theirs, True
    result, left = [], False
    for position, (old, new, now) in enumerate(zip(*parts, strict=True)):
        if old == new or now == old:
            result.append(now)
        elif now == new:
            result.append(old)
        elif position in LISTS.get(place, ()):
            result.append(_names(old, new, now))
        else:
            result.append(now)
            left = True
    return b":".join(result), left


def _names(old: bytes, new: bytes, now: bytes) -> bytes:
    was, ours, theirs = ([name for name in text.split(b",") if name] for text in (old, new, now))
    stay = [name for name in theirs if name in was or name not in ours]
    return b",".join(stay + [name for name in was if name not in ours and name not in stay])


def merge_paragraphs(before: bytes, after: bytes, now: bytes) -> Merged:
    """Merge paragraphs separated by blank lines, each identified by its first line, as in an updater's database."""
    was, ours, theirs = (_keyed(content.split(b"\n\n"), _first_line) for content in (before, after, now))
    merged = dict(theirs)
    for key in [*was, *(key for key in ours if key not in was)]:
        if was.get(key) != ours.get(key) and theirs.get(key) == ours.get(key):
            if key in was:
                merged[key] = was[key]
            else:
                del merged[key]
    return b"\n\n".join(merged.values()), []


def _first_line(paragraph: bytes) -> bytes:
    return paragraph.strip(b"\n").split(b"\n", 1)[0]


def _keyed(parts: Sequence[bytes], key: Callable[[bytes], bytes]) -> dict[tuple[bytes, int], bytes]:
    seen: Counter[bytes] = Counter()
    found = {}
    for part in parts if parts != [b""] else ():
        name = key(part)
        found[name, seen[name]] = part
        seen[name] += 1
    return found


def merge_lines(before: bytes, after: bytes, now: bytes) -> Merged:
    """Merge by line: each run of lines that we changed is undone where it is as we left it, whatever its neighbours."""
    was, ours, theirs = (content.split(b"\n") for content in (before, after, now))
    where = _positions(ours, theirs)
    result, kept, done = list(theirs), [], 0
    for tag, old_from, old_to, new_from, new_to in reversed(
        SequenceMatcher(None, was, ours, autojunk=False).get_opcodes()
    ):
        if tag == "equal":
            continue
        spot = _spot(where, new_from, new_to, len(ours), len(theirs))
        if spot is None:
            shown = b" ".join(ours[new_from:new_to] or was[old_from:old_to]).decode("utf-8", "backslashreplace")
            kept.append(shown[:80])
            continue
        result[spot : spot + new_to - new_from] = was[old_from:old_to]
        done += 1
    return b"\n".join(result), kept


def _positions(ours: Sequence[bytes], theirs: Sequence[bytes]) -> Mapping[int, int]:
    """Return the position of each of our lines in theirs."""
    found: dict[int, int] = {}
    for block in SequenceMatcher(None, ours, theirs, autojunk=False).get_matching_blocks():
        found |= {block.a + n: block.b + n for n in range(block.size)}
    return found


def _spot(where: Mapping[int, int], start: int, end: int, ours: int, theirs: int) -> int | None:
    """Return the index of the contiguous match, or None."""
    if start < end:
        spots = [where.get(number) for number in range(start, end)]
        first = spots[0]
        whole = first is not None and spots == [first + n for n in range(end - start)]
        return first if whole else None
    # We removed lines: they are restored where the lines around them are still adjacent.
    before, after = (
        where.get(start - 1, -1 if start == 0 else None),
        where.get(start, theirs if start == ours else None),
    )
    if before is not None and after is not None and after == before + 1:
        return after
    return before + 1 if before is not None else after


def _ended(content: bytes, now: bytes) -> bytes:
    return content + (b"\n" if now.endswith(b"\n") and content else b"")
