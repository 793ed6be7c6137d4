"""Numbers, sizes and lists of names, in words for a line."""

from collections.abc import Sequence


def counted(number: int, noun: str) -> str:
    """Return ``1 file``, ``2 files``."""
    return f"{number} {noun}" if number == 1 else f"{number} {noun}{'es' if noun.endswith('s') else 's'}"


def size_text(size: int) -> str:
    """Return a number of bytes for people: ``812 bytes``, ``3.4 MB``."""
    for unit, one in (("GB", 10**9), ("MB", 10**6), ("kB", 10**3)):
        if size >= one:
            return f"{size / one:.1f} {unit}"
    return counted(size, "byte")


def joined(names: Sequence[str], most: int = 6) -> str:
    """Return names within a sentence: ``ana``, ``ana and bors``, ``ana, bors and tern``."""
    if len(names) > most:
        return f"{', '.join(names[:most])} and {len(names) - most} more"
    return " and ".join(filter(None, (", ".join(names[:-1]), names[-1]))) if names else ""


def name_list(names: Sequence[str], most: int = 4) -> str:
    """Return names for one line: the first few and how many more."""
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"
