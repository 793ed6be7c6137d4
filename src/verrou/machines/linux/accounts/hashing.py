"""Password hashes by the system's own libcrypt (crypt(3)): yescrypt, as Debian's PAM writes it."""

import ctypes
import os
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from functools import cache

from verrou.core.errors import MachineRefused
from verrou.log import Log

LOG = Log(__name__)

YESCRYPT, ROUNDS = b"$y$", 0
"""The scheme of new passwords; 0 stands for its default strength."""
QUICK, FEWEST_ROUNDS = b"$5$", 1000
"""A scheme that every system knows, as quick as it can be had: for words that protect nothing."""
CRYPT_OUTPUT = 384
CRYPT_DATA = 32768


@cache
def _libcrypt() -> ctypes.CDLL:
    for name in ("libcrypt.so.1", "libcrypt.so.2"):
        try:
            library = ctypes.CDLL(name)
        except OSError as error:
            LOG.debug("%s: not loaded: %s", name, error)
            continue
        if hasattr(library, "crypt_gensalt_rn"):
            library.crypt_gensalt_rn.restype = ctypes.c_char_p
            library.crypt_rn.restype = ctypes.c_char_p
            return library
    raise MachineRefused("this computer has no libcrypt that can make yescrypt hashes; install the package libcrypt1")


def hashed(password: str) -> str:
    """Return a new hash of ``password``.

    Raises: MachineRefused: the library is missing or rejects it (a password may not contain a NUL)."""
    return _hash(password, YESCRYPT, ROUNDS)


def quickly_hashed(password: str) -> str:
    """Return a quick hash of a password that protects nothing: what it opens exists in a private copy alone.

    Raises: MachineRefused: see :func:`hashed`."""
    return _hash(password, QUICK, FEWEST_ROUNDS)


def _hash(password: str, scheme: bytes, rounds: int) -> str:
    library = _libcrypt()
    setting = ctypes.create_string_buffer(CRYPT_OUTPUT)
    salt = library.crypt_gensalt_rn(scheme, ctypes.c_ulong(rounds), None, 0, setting, len(setting))
    data = ctypes.create_string_buffer(CRYPT_DATA)
    encoded = password.encode("utf-8")
    made = library.crypt_rn(encoded, salt, data, len(data)) if salt and b"\0" not in encoded else None
    if not made or not made.startswith(scheme):
        raise MachineRefused("libcrypt made no hash of this password; use another one")
    return str(made.decode("ascii"))


def hashed_all(passwords: Mapping[str, str]) -> Mapping[str, str]:
    """Return new hashes by the same keys, on all processors: each takes tens of milliseconds on purpose.

    Raises: MachineRefused: see :func:`hashed`."""
    if len(passwords) < 2:
        return {name: hashed(password) for name, password in passwords.items()}
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return dict(zip(passwords, pool.map(hashed, passwords.values()), strict=True))
