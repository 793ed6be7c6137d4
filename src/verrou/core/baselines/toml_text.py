"""TOML that people read and change: keys, values and comments as text. (The standard library only reads TOML.)"""

import json
import re
from collections.abc import Mapping
from datetime import date

_BARE = re.compile(r"[A-Za-z0-9_-]+")


def key(*parts: str) -> str:
    """Return a key, its parts quoted where they must be."""
    return ".".join(part if _BARE.fullmatch(part) else _text(part) for part in parts)


def value(raw: object) -> str:
    """Return a value on one line."""
    match raw:
        case bool():
            return "true" if raw else "false"
        case int():
            return str(raw)
        case date():
            return raw.isoformat()
        case list() | tuple():
            return f"[{', '.join(map(value, raw))}]"
        case Mapping():
            return f"{{ {', '.join(f'{key(name)} = {value(each)}' for name, each in raw.items())} }}"
        case _:
            return _text(str(raw))


def comment(text: str) -> str:
    """Return a text as lines of a comment, nothing in it that could end one."""
    shown = (line if line.isprintable() else _text(line) for line in text.splitlines() or [""])
    return "".join(f"# {line}".rstrip() + "\n" for line in shown)


def _text(text: str) -> str:
    """Return a basic string: JSON's signs are TOML's, but for one that TOML wants escaped."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")
