"""``python -m verrou`` and the ``verrou`` command."""

import atexit
import codecs
import gc
import os
import sys
import threading
from contextlib import suppress
from typing import NoReturn

GARBAGE_THRESHOLDS = (300_000, 20, 20)
"""A command makes many small objects that live until it ends, so that looking for garbage often is time lost."""


def main() -> None:
    """Run the command line; the exit codes are listed in :mod:`verrou.core.errors`."""
    gc.set_threshold(*GARBAGE_THRESHOLDS)
    _open_streams()
    try:
        from verrou.cli.main import run

        _leave(run())
    except ModuleNotFoundError as missing:
        if (missing.name or "").partition(".")[0] not in sys.stdlib_module_names:
            raise
        sys.exit(_without(missing.name or ""))


def _leave(code: int) -> NoReturn:
    """End the process without taking every object apart first, which takes a fifth of the time of a small command."""
    if threading.active_count() > 1:
        sys.exit(code)  # which waits for them
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError):
            stream.flush()
    os._exit(code)


def _without(module: str) -> int:
    """Print that Python lacks a part of its standard library, and return the exit code."""
    sys.stderr.write(
        f"verrou: this Python has no module {module}, which belongs to its standard library; install the whole of it "
        "(the package python3 on Debian, where python3-minimal alone is too little)\n"
    )
    return 2


def _open_streams() -> None:
    """Give the process usable standard streams: an empty one for a closed one; unprintable characters are replaced."""
    codecs.register_error("verrou-plain", _plain)
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        stream = getattr(sys, name)
        if stream is None:
            descriptor = os.open(os.devnull, os.O_RDWR)
            if descriptor != number:
                os.dup2(descriptor, number)
                os.close(descriptor)
            setattr(sys, name, open(number, "w" if number else "r", encoding="utf-8", closefd=False))  # noqa: SIM115
        elif number:
            stream.reconfigure(errors="verrou-plain")


PLAINER = {"→": "->", "…": "...", "“": '"', "”": '"', "’": "'", "–": "-"}
"""Replacements for characters that a terminal cannot show; a question mark for any other."""


def _plain(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeEncodeError)
    signs = error.object[error.start : error.end]
    return "".join(PLAINER.get(sign, "?") for sign in signs), error.end


if __name__ == "__main__":
    main()
