"""Line numbers of the keys of a TOML text: the standard parser gives values without them."""

import re
from collections.abc import Mapping

Path = tuple[str | int, ...]

_HEADER = re.compile(r"\s*(\[\[?)([^\]\[]+)\]\]?\s*(#.*)?$")
_KEY = re.compile(r"""\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_\-. ])+?)\s*=(.*)$""", re.DOTALL)
_PART = re.compile(r"""\s*(?:"([^"]*)"|'([^']*)'|([^."']+?))\s*(?:\.|$)""")


def line_index(text: str) -> Mapping[Path, int]:
    """Return each table header and key of ``text`` as a path, with its line (1 for the first).

    ``[[waiver]]`` tables count from 0: ``("waiver", 0, "rule")``. Lines inside a multi-line string are skipped."""
    index: dict[Path, int] = {}
    table: Path = ()
    counts: dict[Path, int] = {}
    closing: str | None = None
    for number, line in enumerate(text.split("\n"), start=1):
        if closing is not None:
            if closing in line:
                closing = None
            continue
        if header := _HEADER.match(line):
            table = _split(header[2])
            if header[1] == "[[":
                position = counts.get(table, -1) + 1
                counts[table] = position
                table = (*table, position)
            index.setdefault(table, number)
        elif key := _KEY.match(line):
            path = (*table, *_split(key[1]))
            for end in range(len(table) + 1, len(path) + 1):
                index.setdefault(path[:end], number)
            for quotes in ('"""', "'''"):
                if key[2].count(quotes) == 1:
                    closing = quotes
    return index


def line_of(index: Mapping[Path, int], path: Path) -> int | None:
    """Return the line of ``path``, or of the nearest table around it."""
    while path:
        if path in index:
            return index[path]
        path = path[:-1]
    return None


def _split(dotted: str) -> Path:
    return tuple(m[1] or m[2] or m[3] or "" for m in _PART.finditer(dotted.strip()) if m[0])
