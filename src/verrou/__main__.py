"""``python -m verrou`` and the ``verrou`` command."""

import codecs
import gc
import os
import sys

GARBAGE_THRESHOLDS = (100_000, 20, 20)
"""A command makes many small objects that live until it ends, so that looking for garbage often is time lost."""


def main() -> None:
    """Run the command line; the exit codes are listed in :mod:`verrou.core.errors`."""
    gc.set_threshold(*GARBAGE_THRESHOLDS)
    _open_streams()
    from verrou.cli.main import run

    sys.exit(run())


def _open_streams() -> None:
    """A standard stream that was closed is an empty one, and a sign that one cannot show is shown as another."""
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
"""What stands for a sign that a terminal cannot show; for any other a question mark."""


def _plain(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeEncodeError)
    signs = error.object[error.start : error.end]
    return "".join(PLAINER.get(sign, "?") for sign in signs), error.end


if __name__ == "__main__":
    main()
