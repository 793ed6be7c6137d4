"""``python -m verrou`` and the ``verrou`` command."""


def main() -> None:
    """Run the command line; the exit codes are listed in :mod:`verrou.core.errors`."""
    from verrou.cli.main import cli

    cli(prog_name="verrou")


if __name__ == "__main__":
    main()
