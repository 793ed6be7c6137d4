"""Text for people: as wide as the terminal, wrapped between words, plain tables, no blanks at a line's end."""

import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple, TextIO

PIPE_WIDTH = 100
LEAST_WIDTH = 40
LEAST_COLUMN = 22
"""How many signs a column of words needs to be read."""
STYLES = {"bold": "1", "dim": "2", "bold red": "1;31", "yellow": "33", "green": "32"}
"""What a style is on a terminal (ECMA-48)."""


def _columns(usual: int) -> int:
    from shutil import get_terminal_size  # it brings three archivers with it

    return get_terminal_size((usual, 24)).columns


class Line(NamedTuple):
    """A line of a cell, with its style."""

    text: str
    style: str = ""


class Terminal:
    """Where text for people goes. Without colour in a pipe, or with NO_COLOR."""

    def __init__(self, stream: TextIO) -> None:
        self.stream = stream
        shown = stream.isatty()
        self.is_shown = shown
        self.colour = shown and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
        asked = shown or "COLUMNS" in os.environ
        wide = getattr(stream, "columns", PIPE_WIDTH)  # a terminal across a cable says it
        self.width = max(_columns(wide) if asked else PIPE_WIDTH, LEAST_WIDTH)

    def print(self, text: str = "", style: str = "") -> None:
        """Print a text, wrapped between words.

        Lines that begin with blanks continue at the same indent. Names and lines of files come from others: what moves
        a cursor is escaped."""
        for line in map(printable, text.split("\n")):
            indent = line[: len(line) - len(line.lstrip(" "))]
            for part in broken(line, self.width, indent):
                self._write(self._styled(part, style))

    def table(self, heads: Sequence[str], rows: Sequence[Sequence[Sequence[Line]]], whole: Sequence[bool]) -> None:
        """Print columns with two blanks between; ``whole`` ones never wrap, the others share the remaining width."""
        widths = self._widths(heads, rows, whole)
        if any(width < asked for width, asked in self._cramped(heads, rows, whole, widths)):
            self._stacked(heads, rows, whole)
            return
        if any(heads):
            self._row([[Line(head, "bold")] for head in heads], widths)
        for row in rows:
            self._row(row, widths)

    @contextmanager
    def status(self, what: str) -> Iterator[None]:
        """Print what is going on, at a terminal only."""
        if self.is_shown:
            self.stream.write(f"{what} ...")
            self.stream.flush()
        try:
            yield
        finally:
            if self.is_shown:
                self.stream.write("\r" + " " * (len(what) + 4) + "\r")
                self.stream.flush()

    def _widths(
        self, heads: Sequence[str], rows: Sequence[Sequence[Sequence[Line]]], whole: Sequence[bool]
    ) -> list[int]:
        asked = [max((len(line.text) for row in rows for line in row[at]), default=0) for at in range(len(heads))]
        asked = [max(wide, len(head)) for wide, head in zip(asked, heads, strict=True)]
        left = self.width - 2 * (len(heads) - 1)
        narrow = [at for at, fixed in enumerate(whole) if not fixed]
        left -= sum(asked[at] for at, fixed in enumerate(whole) if fixed)
        # A column that needs less than a fair share gets it; the others divide the rest.
        while narrow:
            share = max(left // len(narrow), 8)
            modest = [at for at in narrow if asked[at] <= share]
            if not modest:
                for at in narrow:
                    asked[at] = share
                break
            left -= sum(asked[at] for at in modest)
            narrow = [at for at in narrow if at not in modest]
        return asked

    @staticmethod
    def _cramped(
        heads: Sequence[str], rows: Sequence[Sequence[Sequence[Line]]], whole: Sequence[bool], widths: Sequence[int]
    ) -> Iterator[tuple[int, int]]:
        """Yield the width of each column that may wrap, with the least that can be read."""
        for at, width in enumerate(widths):
            if not whole[at]:
                longest = max((len(line.text) for row in rows for line in row[at]), default=0)
                yield width, min(LEAST_COLUMN, longest)

    def _stacked(self, heads: Sequence[str], rows: Sequence[Sequence[Sequence[Line]]], whole: Sequence[bool]) -> None:
        """Print rows as blocks in a narrow window.

        The cells that identify a row are on one line; the others are below it, each after its heading, short ones
        together."""
        named = self._naming(rows, whole)
        for row in rows:
            name = [line for cell in row[:named] for line in cell[:1] if line.text]
            for text in broken("  ".join(line.text for line in name), self.width):
                self._write(self._styled(text, name[0].style if name else ""))
            self._below(line for cell in row[:named] for line in cell[1:])
            rest = list(zip(heads[named:], row[named:], whole[named:], strict=True))
            not_met = [f"{head} {cell[0].text}".strip() for head, cell, kept in rest if kept and cell and cell[0].text]
            self._below([Line("; ".join(not_met))])
            for head, cell, kept in rest:
                lines = cell[1:] if kept else cell
                if head and lines and lines[0].text and not kept:
                    lines = [Line(f"{head}: {lines[0].text.strip()}", lines[0].style), *lines[1:]]
                self._below(lines)

    @staticmethod
    def _naming(rows: Sequence[Sequence[Sequence[Line]]], whole: Sequence[bool]) -> int:
        """Return how many columns identify a row: a mark, what follows it, and one more where both never wrap."""
        marked = len(whole) > 1 and all(len(line.text) < 2 for row in rows for line in row[0])
        named = 1 + marked
        return named + (named < len(whole) and whole[named - 1] and whole[named])

    def _below(self, lines: Iterable[Line]) -> None:
        for line in lines:
            for text in broken(f"    {line.text.strip()}", self.width, "    ") if line.text else ():
                self._write(self._styled(text, line.style))

    def _row(self, cells: Sequence[Sequence[Line]], widths: Sequence[int]) -> None:
        columns = [
            [
                Line(part, line.style)
                for line in cell
                for part in broken(line.text, width, "    " * line.text.startswith("  "))
            ]
            for cell, width in zip(cells, widths, strict=True)
        ]
        for at in range(max(map(len, columns))):
            parts = []
            for column, width in zip(columns, widths, strict=True):
                line = column[at] if at < len(column) else Line("")
                parts.append(self._styled(line.text, line.style) + " " * (width - len(line.text)))
            self._write("  ".join(parts))

    def _styled(self, text: str, style: str) -> str:
        return f"\x1b[{STYLES[style]}m{text}\x1b[0m" if style and text and self.colour else text

    def _write(self, line: str) -> None:
        self.stream.write(f"{line.rstrip(' ')}\n")


def printable(text: str) -> str:
    """Return a text in which nothing moves a cursor or changes direction; bytes that are not UTF-8 are shown as
    such."""
    return text if text.isprintable() else "".join(c if c.isprintable() or c == " " else _escaped(c) for c in text)


def _escaped(character: str) -> str:
    if 0xD800 <= ord(character) <= 0xDFFF:
        return f"\\x{ord(character) & 0xFF:02x}"
    return character.encode("unicode_escape").decode("ascii")


def broken(text: str, width: int, indent: str = "") -> list[str]:
    """Return a line as lines of at most ``width`` characters, wrapped between words where possible."""
    if len(text) <= width:
        return [text]
    indent = indent[: width // 2]  # or the rest would never get shorter
    lines, start, lead = [], 0, ""
    while len(lead) + len(text) - start > width:
        room, least = start + width - len(lead), start + len(indent) + 1 - len(lead)
        at = text.rfind(" ", least, room + 1)
        if at < least:
            at = room
        lines.append((lead + text[start:at]).rstrip())
        lead, start = indent, at
        while start < len(text) and text[start].isspace():
            start += 1
    return [*lines, lead + text[start:]]


def console(*, stderr: bool = False) -> Terminal:
    """Return the terminal, or what replaces it."""
    return Terminal(sys.stderr if stderr else sys.stdout)
