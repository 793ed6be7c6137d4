"""Numbers in files, as programs write them."""

MOST = 11
"""Digits of the largest number that a system knows as an ID, and of any that a setting can mean."""


def digits(text: str, most: int = MOST) -> int | None:
    """Return a number of ASCII digits; None for any other text, and for more digits than anyone can mean.

    Python takes other signs for digits, too, and refuses to read thousands of them."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= most else None
