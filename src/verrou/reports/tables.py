"""Tables of facts, printed as text for people, as JSON or as CSV from the same rows."""

# Imports within functions: one format needs each.

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache
from typing import TYPE_CHECKING, Any, Generic, TypeVar, overload

from attrs import evolve, field, frozen

from verrou.reports.terminal import Line, Terminal, console, printable

__all__ = [
    "BAD",
    "DOUBTFUL",
    "GOOD",
    "QUIET",
    "Column",
    "RowsOf",
    "Table",
    "columns_of",
    "complain",
    "console",
    "print_table",
    "shown",
]

if TYPE_CHECKING:
    from json import JSONEncoder

BAD, DOUBTFUL, GOOD, QUIET = "bold red", "yellow", "green", "dim"
T = TypeVar("T")


@frozen(eq=False, repr=False)
class Column:
    """Column of a table.

    ``key`` is its name in CSV, ``title`` its heading. ``text`` and ``data`` say where it is shown; ``keep_whole``
    columns never wrap; ``under`` names a key whose value is printed below in a quieter style."""

    key: str
    title: str
    text: bool = True
    data: bool = True
    keep_whole: bool = False
    under: str = ""
    separator: str = ", "


class RowsOf(Sequence[Mapping[str, Any]], Generic[T]):
    """Rows of items, each made when it is asked for: of many items, few are shown."""

    def __init__(self, items: Sequence[T], make: Callable[[T], Mapping[str, Any]]) -> None:
        self._items, self._make = items, make

    def __len__(self) -> int:
        return len(self._items)

    @overload
    def __getitem__(self, at: int) -> Mapping[str, Any]: ...
    @overload
    def __getitem__(self, at: slice) -> "RowsOf[T]": ...
    def __getitem__(self, at: int | slice) -> "Mapping[str, Any] | RowsOf[T]":
        return RowsOf(self._items[at], self._make) if isinstance(at, slice) else self._make(self._items[at])


@frozen(eq=False, repr=False)
class Table:
    """One table of facts. ``styles`` colours the first cell of a row, by row number; ``style`` by the row itself."""

    name: str
    columns: tuple[Column, ...]
    rows: Sequence[Mapping[str, Any]]
    styles: Mapping[int, str] = field(factory=dict)
    style: Callable[[Mapping[str, Any]], str] = lambda _: ""

    def first(self, limit: int | None) -> "Table":
        """Return the table with its first rows alone."""
        return evolve(self, rows=self.rows[:limit])


def shown(value: object, separator: str = ", ") -> str:
    """Return a value for a screen: lists joined, and nothing in it that moves a cursor or changes direction."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return separator.join(shown(item) for item in value)
    return printable(str(value))


def complain(message: str) -> None:
    """Print a message on standard error, one line each; a terminal wraps between words."""
    out = console(stderr=True)
    for line in message.split("\n"):
        text = f"verrou: {shown(line)}"
        if out.is_shown:
            out.print(text)
        else:
            out.stream.write(f"{text}\n")


def as_json(data: object, indent: int | None = 2) -> str:
    """Return stable, readable JSON; one line without ``indent``.

    What moves a cursor or changes direction is escaped (RFC 8259, section 7): people read it on a terminal, and names
    and lines of files come from others."""
    text = f"{_encoder(indent).encode(data)}\n"
    if text.replace("\n", "").isprintable():
        return text
    return "".join(c if c.isprintable() or c == "\n" else _encoder(None, plain=True).encode(c)[1:-1] for c in text)


@cache
def _encoder(indent: int | None, *, plain: bool = False) -> "JSONEncoder":
    """Return what writes JSON; ``plain``: with every sign but those of ASCII escaped."""
    from json import JSONEncoder

    return JSONEncoder(indent=indent, ensure_ascii=plain, default=str)


def json_parts(data: object) -> Iterator[str]:
    """Yield readable JSON part by part. A value of an object that is an iterator is a list whose items are made when
    they are written, each on a line of its own."""
    if not isinstance(data, Mapping) or not any(isinstance(value, Iterator) for value in data.values()):
        yield as_json(data)
        return
    before = "{\n"
    for key, value in data.items():
        yield f"{before}  {as_json(key, None).rstrip()}: "
        if isinstance(value, Iterator):
            separator = "["
            for item in value:
                yield f"{separator}\n    {as_json(item, None).rstrip()}"
                separator = ","
            yield "[]" if separator == "[" else "\n  ]"
        else:
            yield as_json(value, None).rstrip()
        before = ",\n"
    yield "\n}\n"


def as_csv(table: Table) -> str:
    """Return the rows with a heading line. A cell that a spreadsheet would run as a formula gets an apostrophe
    first."""
    import csv
    import io

    stream = io.StringIO()
    writer = csv.writer(stream, lineterminator="\n")
    keys = [column.key for column in table.columns if column.data]
    writer.writerow(keys)
    for row in table.rows:
        writer.writerow([_cell(shown(row.get(key))) for key in keys])
    return stream.getvalue()


def _cell(text: str) -> str:
    return f"'{text}" if text.lstrip().startswith(("=", "+", "-", "@", "\t", "\r")) else text


def print_table(out: Terminal, table: Table) -> None:
    """Print a table with a heading over each column."""
    columns = [column for column in table.columns if column.text]
    rows = []
    for number, row in enumerate(table.rows):
        style = table.styles.get(number, "") or table.style(row)
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
    """Return columns from (key, title) pairs.

    ``hidden`` ones are not in the text, ``only_text`` not in CSV; ``listed`` ones have a line for each item."""
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
