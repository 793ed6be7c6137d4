"""passwd(5), shadow(5), group(5) and gshadow(5): parsed and edited line by line, with every other byte kept."""

import re
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from string import ascii_letters, digits
from typing import NamedTuple

from attrs import define, field, frozen

PASSWD, SHADOW, GROUP, GSHADOW = "/etc/passwd", "/etc/shadow", "/etc/group", "/etc/gshadow"
SUBUID, SUBGID = "/etc/subuid", "/etc/subgid"


class PasswdField:
    """Field numbers of passwd(5)."""

    NAME, PASSWORD, UID, GID, COMMENT, HOME, SHELL = range(7)


class ShadowField:
    """Field numbers of shadow(5)."""

    NAME, PASSWORD, CHANGED, LEAST, LONGEST, WARNING, GRACE, END, FLAG = range(9)


class GroupField:
    """Field numbers of group(5), and of gshadow(5) but for the group ID."""

    NAME, PASSWORD, GID, MEMBERS = range(4)


FIELDS: Mapping[str, int] = {PASSWD: 7, SHADOW: 9, GROUP: 4, GSHADOW: 4, SUBUID: 3, SUBGID: 3}
LEAST: Mapping[str, int] = {PASSWD: 4, GROUP: 3}
"""Fewest fields. Measured with getent(1): the C library takes missing ones at the end as empty."""
LARGEST = 2**32 - 1
"""The C library passes over a line with a larger number."""
NUMBERS: Mapping[str, tuple[int, ...]] = {PASSWD: (PasswdField.UID, PasswdField.GID), GROUP: (GroupField.GID,)}
AGES: Mapping[str, slice] = {SHADOW: slice(ShadowField.CHANGED, 9)}
"""Numbers or nothing. Measured: with a negative one in any of these, the C library no longer finds the line."""
_NIS = ("+", "-")
_NO_RECORD = (*_NIS, "#")
_ORDINARY = frozenset(ascii_letters + digits + "_")
"""How nearly every record begins; the others are looked at closely."""


@frozen(repr=False)
class Broken:
    """A line that the system ignores."""

    file: str
    line: int
    what: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.what}; the system ignores this line. Repair it first (vipw, vigr)."


class AccountLine(NamedTuple):
    """One valid line: its fields and its line number (``line``, from 1)."""

    name: str
    fields: tuple[str, ...]
    line: int


def is_shadowed(record: AccountLine) -> bool:
    """Return whether the password of a line of passwd(5) is in the shadow file: an x, or two # before the name.

    Both were measured with pam_unix(8)."""
    password = record.fields[PasswdField.PASSWORD]
    return password == "x" or (password[:2] == "##" and password[2:] == record.name)


@define(repr=False)
class AccountFile:
    """One of the account files. Lines that are not records (comments, blank, ``+`` and ``-`` of NIS, broken) stay."""

    name: str
    lines: list[str]
    final_newline: bool = True
    _parsed: tuple[list[AccountLine], list[Broken]] | None = field(default=None, init=False, repr=False, eq=False)
    _index: dict[str, AccountLine] | None = field(default=None, init=False, repr=False, eq=False)
    _nis: bool | None = field(default=None, init=False, repr=False, eq=False)
    revision: int = field(default=0, init=False, repr=False, eq=False)
    """Counts the changes made so far."""

    @classmethod
    def parse(cls, name: str, text: str) -> "AccountFile":
        """Parse any text; :meth:`text` returns the same text."""
        final = text.endswith("\n")
        return cls(name, text.removesuffix("\n").split("\n") if text else [], final or not text)

    def text(self) -> str:
        """Return the whole file."""
        return "\n".join(self.lines) + ("\n" if self.final_newline and self.lines else "")

    def records(self) -> Sequence[AccountLine]:
        """Return the valid lines in order; of two with one name both."""
        return self._read()[0]

    def from_elsewhere(self) -> list[tuple[int, str]]:
        """Return the lines of nss_compat that add or exclude accounts, with numbers from 1: nsswitch.conf(5)."""
        return [(number, line) for number, line in enumerate(self.lines, start=1) if line.startswith(_NIS)]

    def broken(self) -> Sequence[Broken]:
        """Return the invalid records."""
        return self._read()[1]

    def _read(self) -> tuple[list[AccountLine], list[Broken]]:
        if self._parsed is not None:
            return self._parsed
        want, numbers = FIELDS[self.name], NUMBERS.get(self.name, ())
        ages = AGES.get(self.name)
        records: list[AccountLine] = []
        broken: list[Broken] = []
        for number, line in enumerate(self.lines, start=1):
            if line[:1] not in _ORDINARY:  # as nearly all begin
                if not line or line[0] in _NO_RECORD:
                    continue
                if line[0].isspace():
                    line = line.lstrip()
                    if not line or line[0] == "#":
                        continue
            fields = line.split(":")
            if len(fields) < want and (len(fields) >= LEAST.get(self.name, want) or self._is_short_form(fields)):
                fields = [*(fields[:5] if len(fields) == 6 and want == 9 else fields), *[""] * want][:want]
            if len(fields) != want:
                broken.append(Broken(self.name, number, f"{len(fields)} fields; expected {want}"))
            elif not fields[0]:
                broken.append(Broken(self.name, number, "found an empty name"))
            elif not _all_numbers(fields, numbers) and not _made_plain(fields, numbers):
                broken.append(Broken(self.name, number, "a number field is not a number"))
            elif ages and (plain := _ages(fields[ages])) != fields[ages]:
                if plain is None:
                    broken.append(Broken(self.name, number, "a number field is not a number"))
                else:
                    fields[ages] = plain
                    records.append(AccountLine(fields[0], tuple(fields), number))
            else:
                records.append(AccountLine(fields[0], tuple(fields), number))
        self._parsed = records, broken
        return self._parsed

    def _is_short_form(self, fields: list[str]) -> bool:
        """Return whether the C library accepts a shadow line that ends after the maximum age, or with an expiry.

        Measured with getent(1)."""
        if self.name != SHADOW or len(fields) not in (5, 6, 8):
            return False
        return not fields[5].strip() if len(fields) == 6 else bool(fields[-1])

    def find(self, name: str) -> AccountLine | None:
        """Return the first record of that name."""
        if self._index is None:
            self._index = {record.name: record for record in reversed(self.records())}
        return self._index.get(name)

    def replace(self, record: AccountLine, fields: Iterable[str]) -> None:
        """Replace the fields of the record's line."""
        values = tuple(fields)
        assert not any(set(value) & {":", "\n"} for value in values), "a field cannot contain a colon or a line end"
        if values == record.fields:
            return
        self.lines[record.line - 1] = ":".join(values)
        self.revision += 1
        if self._parsed is not None:
            records = self._parsed[0]
            at = bisect_left(records, record.line, key=lambda r: r.line)
            records[at] = AccountLine(values[0], values, record.line)
        if self._index is not None and values[0] == record.name:
            self._index[record.name] = AccountLine(record.name, values, record.line)
        else:
            self._index = None

    def change(self, name: str, values: Mapping[int, str]) -> None:
        """Set fields of a record: :class:`PasswdField` and its like."""
        record = self.find(name)
        assert record is not None, f"{name} is not in {self.name}"
        fields = list(record.fields)
        for at, value in values.items():
            fields[at] = value
        self.replace(record, fields)

    def add(self, *fields: str) -> None:
        """Add a record at the end, before the first NIS line if there is one, since what follows that is not read."""
        assert len(fields) == FIELDS[self.name]
        assert not any(set(value) & {":", "\n"} for value in fields), "a field cannot contain a colon or a line end"
        position = (
            len(self.lines) if self._plain() else next(i for i, text in enumerate(self.lines) if text[:1] in _NIS)
        )
        self.lines.insert(position, ":".join(fields))
        self.final_newline = True
        self.revision += 1
        record = AccountLine(fields[0], fields, position + 1)
        if position < len(self.lines) - 1:
            self._parsed = self._index = None
            return
        if self._parsed is not None:
            self._parsed[0].append(record)
        if self._index is not None:
            self._index.setdefault(record.name, record)

    def _plain(self) -> bool:
        """Return whether no line is a NIS entry. We never add one."""
        if self._nis is None:
            self._nis = any(line.startswith(_NIS) for line in self.lines)
        return not self._nis

    def remove(self, record: AccountLine) -> None:
        """Remove the record's line."""
        del self.lines[record.line - 1]
        self._parsed = self._index = None
        self.revision += 1

    def copied(self) -> "AccountFile":
        """Return a copy to restore from."""
        return AccountFile(self.name, list(self.lines), self.final_newline)


_PLAIN = re.compile(r"0|[1-9][0-9]{0,8}")
_TAKEN = re.compile(r"\s*\+?([0-9]{1,40})")


def _plain_number(text: str) -> str | None:
    """Return a number as the C library parses it: blanks, a plus and zeros in front (measured with getent(1)).

    None for no number, or one that is too large."""
    if _PLAIN.fullmatch(text):
        return text
    taken = _TAKEN.fullmatch(text)
    value = int(taken[1]) if taken and text.isascii() else LARGEST + 1
    return str(value) if value <= LARGEST else None


def _all_numbers(fields: Sequence[str], positions: Sequence[int]) -> bool:
    for position in positions:  # ten thousands of lines: a loop is faster than all()
        text = fields[position]
        if not (text.isdigit() and text.isascii() and len(text) <= 9 and (text[0] != "0" or text == "0")):
            return False
    return True


def _made_plain(fields: list[str], positions: Sequence[int]) -> bool:
    for position in positions:
        plain = _plain_number(fields[position])
        if plain is None:
            return False
        fields[position] = plain
    return True


def _ages(fields: Sequence[str]) -> list[str] | None:
    """Return the age fields and the last one, which is no age, as the C library parses them; None where it rejects
    them."""
    plain = [*map(_age, fields[:-1]), _plain_number(fields[-1]) if fields[-1] else ""]
    return None if None in plain else plain  # type: ignore[return-value]


@lru_cache(maxsize=4096)
def _age(text: str) -> str | None:
    """Return one age field; the largest number is minus one to the C library, which means none."""
    plain = _plain_number(text) if text else ""
    return "" if plain == str(LARGEST) else plain


@lru_cache(maxsize=4096)
def number(text: str) -> int | None:
    """Return a field of digits, with a sign; None for an empty or a wrong one. A large system has few that differ."""
    try:
        return int(text) if text.isascii() and len(text) < 12 else None
    except ValueError:
        return None


def twins(groups: AccountFile) -> Mapping[str, tuple[str, ...]]:
    """Return the group names that share an ID, each with all names of that ID: the system goes by the number."""
    by_gid: dict[str, dict[str, None]] = {}
    for record in groups.records():
        by_gid.setdefault(record.fields[GroupField.GID], {})[record.name] = None
    return {name: tuple(names) for names in by_gid.values() if len(names) > 1 for name in names}


def members_of(text: str) -> list[str]:
    """Return the member list of a group or gshadow line."""
    return [name for part in text.split(",") if (name := part.lstrip())]


def merge_lines(before: bytes, after: bytes, now: bytes) -> tuple[bytes, list[str]]:
    """Undo our change in a file that others changed too, record by record (by first field and occurrence).

    Every other line stays. Returns the merged file, and the names of records that others changed as well, which
    stay."""

    def keyed(content: bytes) -> dict[tuple[bytes, int], bytes]:
        seen: Counter[bytes] = Counter()
        lines = {}
        for line in content.removesuffix(b"\n").split(b"\n") if content else []:
            name = line.split(b":", 1)[0]
            lines[name, seen[name]] = line
            seen[name] += 1
        return lines

    was, ours, theirs = keyed(before), keyed(after), keyed(now)
    kept = []
    merged = dict(theirs)
    for name in [*was, *(n for n in ours if n not in was)]:
        if was.get(name) == ours.get(name):
            continue
        if theirs.get(name) != ours.get(name):
            kept.append(name[0].decode("utf-8", "backslashreplace"))
        elif name in was:
            merged[name] = was[name]
        else:
            del merged[name]
    return b"\n".join(merged.values()) + (b"\n" if now.endswith(b"\n") else b""), kept
