"""What is read, asked, run and skipped, for ``-v``: Python's logging, made only where someone listens.

Importing logging costs a tenth of a command's start, so a message is passed on only once something else has imported
it: ``-v``, or a program that uses Verrou as a library. Messages name files, programs and reasons, never a secret."""

import sys
from collections.abc import Callable
from typing import Any, TextIO

DEBUG, INFO = 10, 20
"""Levels of logging: each file that is read, and everything else."""


class Log:
    """The messages of one module, under its name."""

    def __init__(self, name: str) -> None:
        self.name = name

    def info(self, text: str, *parts: object) -> None:
        """Report what was asked, run, applied or skipped; ``parts`` fill the ``%s`` of the text."""
        self._report(INFO, text, parts)

    def debug(self, text: str, *parts: object) -> None:
        """Report a detail, such as a file that was read."""
        self._report(DEBUG, text, parts)

    def _report(self, level: int, text: str, parts: tuple[object, ...]) -> None:
        logging: Any = sys.modules.get("logging")
        if logging is not None:
            logging.getLogger(self.name).log(level, text, *parts)


def listen(stream: TextIO, level: int, clean: Callable[[str], str]) -> None:
    """Print messages of at least ``level`` on ``stream``, each once; ``clean`` makes text safe for a terminal."""
    import logging

    printed: set[str] = set()

    def is_new(record: logging.LogRecord) -> bool:
        text = record.getMessage()
        if text in printed:
            return False
        printed.add(text)
        return True

    class Line(logging.Formatter):
        def format(self, record: logging.LogRecord) -> str:
            return clean(f"{record.name.removeprefix('verrou.')}: {record.getMessage()}")

    handler = logging.StreamHandler(stream)
    handler.setFormatter(Line())
    handler.addFilter(is_new)
    logger = logging.getLogger("verrou")
    logger.handlers, logger.propagate = [handler], False
    logger.setLevel(level)
