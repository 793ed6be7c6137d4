"""Expiry dates of disabled accounts, stored until the account is enabled again.

On Linux the end date of shadow(5) keeps a disabled account from signing in with keys, so its own date has to be stored
elsewhere meanwhile: ``NAME:DAYS`` on a line, days since 1970-01-01."""

from collections.abc import Mapping

from verrou.machines.linux.root import Root

ENDS_KEPT = "/etc/verrou/ends-of-disabled-accounts"
CLOSED_FOR_GOOD = "1"
"""The end date that closes an account for keys as well: the second day of 1970. shadow(5) warns against 0."""


def ends_kept(root: Root) -> Mapping[str, str]:
    """Return the expiry of disabled accounts, in days since 1970-01-01, by account name."""
    pairs = (line.partition(":") for line in root.lines(ENDS_KEPT) if not line.startswith("#"))
    return {name: days for name, _, days in pairs if name and days.isascii() and days.isdigit() and len(days) < 8}


def with_end_kept(ends: Mapping[str, str]) -> str:
    """Return the text of the file."""
    return "".join(f"{name}:{days}\n" for name, days in sorted(ends.items()))
