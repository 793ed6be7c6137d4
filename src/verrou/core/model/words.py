"""Numbers, sizes and lists of names, in words for a line."""


def counted(number: int, noun: str) -> str:
    """``1 file``, ``2 files``."""
    return f"{number} {noun}" if number == 1 else f"{number} {noun}{'es' if noun.endswith('s') else 's'}"


def say_size(size: int) -> str:
    """A number of bytes for people: ``812 bytes``, ``3.4 MB``."""
    for unit, one in (("GB", 10**9), ("MB", 10**6), ("kB", 10**3)):
        if size >= one:
            return f"{size / one:.1f} {unit}"
    return counted(size, "byte")


def name_list(names: list[str], most: int = 4) -> str:
    """Names for one line: the first few and how many more."""
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"
