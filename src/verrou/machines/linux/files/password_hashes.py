"""Password fields: the scheme of a hash that some password can match, by the formats of crypt(5)."""

import ctypes
import re
from collections.abc import Mapping
from functools import cache

_SIGNS = "[./A-Za-z0-9]"
SHAPES: Mapping[str, tuple[str, re.Pattern[str]]] = {
    prefix: (scheme, re.compile(shape.replace("@", _SIGNS)))
    for prefix, scheme, shape in (
        ("y", "yescrypt", r"\$y\$@+\$@{0,86}\$@{43}"),
        ("gy", "gost-yescrypt", r"\$gy\$@+\$@{0,86}\$@{43}"),
        ("7", "scrypt", r"\$7\$@{11,97}\$@{43}"),
        ("2", "bcrypt", r"\$2\$[0-9]{2}\$@{53}"),
        ("2a", "bcrypt", r"\$2a\$[0-9]{2}\$@{53}"),
        ("2b", "bcrypt", r"\$2b\$[0-9]{2}\$@{53}"),
        ("2x", "bcrypt", r"\$2x\$[0-9]{2}\$@{53}"),
        ("2y", "bcrypt", r"\$2y\$[0-9]{2}\$@{53}"),
        ("6", "sha512", r"\$6\$(?:rounds=[1-9][0-9]+\$)?[^$:\n]{0,16}\$@{86}"),
        ("5", "sha256", r"\$5\$(?:rounds=[1-9][0-9]+\$)?[^$:\n]{0,16}\$@{43}"),
        ("sha1", "sha1", r"\$sha1\$[1-9][0-9]+\$@{1,64}\$@{28}"),
        ("md5", "md5", r"\$md5(?:,rounds=[1-9][0-9]+)?\$@{8}\${1,2}@{22}"),
        ("1", "md5", r"\$1\$[^$:\n]{0,8}\$@{22}"),
        ("3", "md4", r"\$3\$\$[0-9a-f]{32}"),
    )
}
"""By the prefix of a hash: what the scheme is called, and the shape of a whole one."""
_WITHOUT_PREFIX = re.compile(f"(?:{_SIGNS}{{13}}|_{_SIGNS}{{19}}|{_SIGNS}{{24,178}})")
"""The old hashes: plain, extended and big DES."""
UNKNOWN = "unknown"


def scheme_of(stored: str) -> str:
    """Return the scheme of a stored hash, without lock marks; empty where no password can match it."""
    stored = stored.lstrip("!")
    if not stored.startswith("$"):
        return "des" if _WITHOUT_PREFIX.fullmatch(stored) else ""
    prefix = stored[1:].partition("$")[0].partition(",")[0]
    if prefix in SHAPES:
        scheme, shape = SHAPES[prefix]
        return scheme if shape.fullmatch(stored) else ""
    return UNKNOWN if _libcrypt_takes(stored) else ""


@cache
def _check() -> "ctypes._NamedFuncPointer | None":
    for name in ("libcrypt.so.1", "libcrypt.so.2"):
        try:
            return ctypes.CDLL(name).crypt_checksalt
        except (OSError, AttributeError):
            continue
    return None


INVALID = 1
"""What crypt_checksalt(3) answers to a hash of no scheme that it knows."""


def _libcrypt_takes(stored: str) -> bool:
    """Return whether this computer's libcrypt knows the scheme; yes where the library is missing."""
    check = _check()
    if check is None:
        return True
    return bool(check(stored.encode("utf-8", "surrogateescape")) != INVALID)
