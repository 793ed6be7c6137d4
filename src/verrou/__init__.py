"""Verrou audits and hardens the local accounts of computers that stand alone, and proves that the result holds."""

__version__ = "0.2.0"


def packaged_text(*path: str) -> str:
    """Return the text of a file of this package, by its path; the program may be a single file itself.

    Raises: OSError: there is none."""
    import os
    import sys

    loader = sys.modules[__name__].__loader__
    found: bytes = loader.get_data(os.path.join(os.path.dirname(__file__), *path))  # type: ignore[union-attr]
    return found.decode("utf-8")


def archive() -> str:
    """Return the file that the program is, where it runs as one file; empty where it is installed."""
    import sys

    return getattr(getattr(sys.modules[__name__], "__loader__", None), "archive", "")


def version_line() -> str:
    """Return the program's name and version; for the one-file form also its SHA-256, to check against its digest."""
    file = archive()
    if not file:
        return f"verrou {__version__}"
    from hashlib import sha256

    with open(file, "rb") as stream:
        return f"verrou {__version__}, {sha256(stream.read()).hexdigest()}"
