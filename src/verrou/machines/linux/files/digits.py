"""Numbers in files, as programs write them."""

import re

MOST = 11
"""Digits of the largest number that a system knows as an ID, and of any that a setting can mean."""


_AT_FIRST = re.compile(r"\s*([+-]?[0-9]{1,18})", re.ASCII)


def leading_number(text: str) -> int | None:
    """Return the number that a text begins with, as strtol(3) and sscanf(3) read it; None where it begins with none."""
    found = _AT_FIRST.match(text)
    return None if found is None else int(found[1])


def digits(text: str, most: int = MOST) -> int | None:
    """Return a number of ASCII digits; None for any other text, and for more than ``most`` digits behind leading zeros.

    Python takes other signs for digits, too, and refuses to read thousands of them."""
    if not (text.isascii() and text.isdigit()):
        return None
    behind_zeros = text.lstrip("0") or "0"
    return int(behind_zeros) if len(behind_zeros) <= most else None
