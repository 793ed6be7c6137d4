"""Facts as sheets of rows, printed as text for people, as JSON or as CSV from the same rows."""

from collections.abc import Mapping, Sequence
from typing import Any

from attrs import field, frozen

from verrou.reports.terminal import Line, Terminal, console, printable

__all__ = [
    "BAD",
    "DOUBTFUL",
    "GOOD",
    "QUIET",
    "Column",
    "Table",
    "columns_of",
    "complain",
    "console",
    "print_table",
    "shown",
]

BAD, DOUBTFUL, GOOD, QUIET = "bold red", "yellow", "green", "dim"


@frozen(eq=False, repr=False)
class Column:
    """``key`` in CSV, ``title`` over the text. ``text`` and ``data`` say where it is shown; ``keep_whole`` columns are
    never broken over lines; ``under`` names a key whose value stands below in quieter letters."""

    key: str
    title: str
    text: bool = True
    data: bool = True
    keep_whole: bool = False
    under: str = ""
    separator: str = ", "


@frozen(eq=False, repr=False)
class Table:
    """One table of facts. ``styles`` colours the first cell of a row, by row number."""

    name: str
    columns: tuple[Column, ...]
    rows: tuple[Mapping[str, Any], ...]
    styles: Mapping[int, str] = field(factory=dict)


def shown(value: object, separator: str = ", ") -> str:
    """A value as it may stand on a screen: lists joined, nothing in it that moves a cursor or turns a line."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return separator.join(shown(item) for item in value)
    return printable(str(value))


def complain(message: str) -> None:
    """A message on standard error, a line each; on a terminal lines are broken between words."""
    out = console(stderr=True)
    for line in message.split("\n"):
        text = f"verrou: {shown(line)}"
        if out.is_shown:
            out.print(text)
        else:
            out.stream.write(f"{text}\n")


def as_json(data: object, indent: int | None = 2) -> str:
    """Stable, readable JSON, one line without ``indent``. What moves a cursor or turns a line is escaped (RFC 8259,
    section 7): people read it on a terminal, and names and lines of files are other people's."""
    import json

    text = json.dumps(data, indent=indent, ensure_ascii=False, default=str) + "\n"
    if text.replace("\n", "").isprintable():
        return text
    return "".join(c if c.isprintable() or c == "\n" else json.dumps(c)[1:-1] for c in text)


def as_csv(sheet: Table) -> str:
    """The rows with a heading line. A cell that a spreadsheet would run as a formula gets an apostrophe before it."""
    import csv
    import io

    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    keys = [column.key for column in sheet.columns if column.data]
    writer.writerow(keys)
    for row in sheet.rows:
        writer.writerow([_cell(shown(row.get(key))) for key in keys])
    return stream.getvalue()


def _cell(text: str) -> str:
    return f"'{text}" if text.lstrip().startswith(("=", "+", "-", "@", "\t", "\r")) else text


def print_table(out: Terminal, sheet: Table) -> None:
    """The sheet as a table, a heading over each column."""
    columns = [column for column in sheet.columns if column.text]
    rows = []
    for number, row in enumerate(sheet.rows):
        style = sheet.styles.get(number, "")
        cells = []
        for position, column in enumerate(columns):
            text = shown(row.get(column.key), column.separator)
            cell = [Line(part, style if position == 0 else "") for part in text.split("\n")]
            if column.under and row.get(column.under):
                cell.append(Line(shown(row[column.under]), "dim"))
            cells.append(cell)
        rows.append(cells)
    out.table([column.title for column in columns], rows, [column.keep_whole for column in columns])


def columns_of(
    *pairs: tuple[str, str],
    whole: Sequence[str] = (),
    hidden: Sequence[str] = (),
    only_text: Sequence[str] = (),
    under: Mapping[str, str] | None = None,
    listed: Sequence[str] = (),
) -> tuple[Column, ...]:
    """Columns from (key, title) pairs; ``hidden`` stay out of the text, ``only_text`` out of CSV; ``listed``
    ones have a line for each item."""
    below = under or {}
    return tuple(
        Column(
            key,
            title,
            text=key not in hidden,
            data=key not in only_text,
            keep_whole=key in whole,
            under=below.get(key, ""),
            separator="\n" if key in listed else ", ",
        )
        for key, title in pairs
    )
