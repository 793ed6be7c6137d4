"""``python -m verrou`` and the ``verrou`` command."""

import gc

GARBAGE_THRESHOLDS = (100_000, 20, 20)
"""A command makes many small objects that live until it ends, so that looking for garbage often is time lost."""


def main() -> None:
    """Run the command line; the exit codes are listed in :mod:`verrou.core.errors`."""
    gc.set_threshold(*GARBAGE_THRESHOLDS)
    from verrou.cli.main import cli

    cli(prog_name="verrou")


if __name__ == "__main__":
    main()
