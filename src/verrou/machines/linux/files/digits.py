"""Numbers in files, as programs write them."""

MOST = 11
"""Digits of the largest number that a system knows as an ID, and of any that a setting can mean."""


def digits(text: str, most: int = MOST) -> int | None:
    """Return a number of ASCII digits; None for any other text, and for more than ``most`` digits behind leading zeros.

    Python takes other signs for digits, too, and refuses to read thousands of them."""
    if not (text.isascii() and text.isdigit()):
        return None
    behind_zeros = text.lstrip("0") or "0"
    return int(behind_zeros) if len(behind_zeros) <= most else None
