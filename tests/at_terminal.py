"""The built program at a pseudo terminal, as somebody who types sees it."""

import os
import pty
import re
import select
import sys
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

PATIENCE = 60
"""Seconds that something may take to appear."""


class AtTerminal:
    """A program that runs at a terminal of its own."""

    def __init__(
        self,
        words: Iterable[object],
        folder: Path,
        program: Sequence[str] = (sys.executable, "-m", "verrou"),
        environment: Mapping[str, str] = os.environ,
    ) -> None:
        self.child, self.terminal = pty.fork()
        if self.child == 0:
            os.chdir(folder)
            os.execvpe(program[0], [*program, *map(str, words)], environment)
        self.shown, self.heeded = "", 0

    def until(self, words: str) -> str:
        """Read on to some words, and return what came before them. What comes after is for the next reading."""
        while (found := re.search(re.escape(words), self.plain[self.heeded :])) is None:
            assert select.select([self.terminal], [], [], PATIENCE)[0], self.plain
            self.shown += os.read(self.terminal, 65536).decode(errors="replace")
        before = self.plain[self.heeded : self.heeded + found.start()]
        self.heeded += found.end()
        return before

    @property
    def plain(self) -> str:
        """All that was shown, without colours, and with one kind of line end."""
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\r", "", self.shown)

    def type(self, line: str) -> None:
        os.write(self.terminal, f"{line}\n".encode())

    def ended(self) -> int:
        """Wait for its end, and return the exit code."""
        try:
            while part := os.read(self.terminal, 65536):
                self.shown += part.decode(errors="replace")
        except OSError:
            pass  # the other end is closed
        os.close(self.terminal)
        return os.waitstatus_to_exitcode(os.waitpid(self.child, 0)[1])
