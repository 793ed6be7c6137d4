"""Read many survey files in a row; equal parts are parsed once.

A survey file has the form that :func:`verrou.reports.tables.as_json` gives it: its sections in one order, each part of
a section on lines of its own. The text is split at those lines, each part is checked to be one whole JSON value, and
parts seen before are not parsed again. A text of any other form is parsed as any JSON."""

import json
from collections.abc import Callable, Hashable, Mapping
from sys import intern
from typing import Any, Generic, NamedTuple, TypeVar, cast

from attrs import fields, resolve_types

from verrou.core.model import Account, Group, MachineFacts, Reading, Snapshot
from verrou.core.model.routes import EntryPoint
from verrou.core.rules import CATALOGUE
from verrou.core.surveys.data import FORMAT, reader_of, reading_from, snapshot_from, structured

T = TypeVar("T")
Key = TypeVar("Key", bound=Hashable)
MOST_REMEMBERED, MOST_MEMBERS = 1_000, 5_000
"""How many parts of a survey are remembered of each kind, and how many members of its objects, which are short; of so
many accounts it is known that they came once."""
DERIVED = frozenset(rule.id for rule in CATALOGUE.values() if rule.derived is not None)
OF_A_MACHINE = ("name", "address", "now", "identity")
OF_AN_ACCOUNT = ("name", "identity", "full_name", "home", "password_changed", "last_sign_in")
"""Members in which hardly two machines, or accounts, are equal."""
SECTIONS = ("accounts", "groups", "readings", "warnings", "entry_points")
START = f'{{\n  "format": "{FORMAT}",\n  "machine": '
*BEFORE_SECTIONS, BEFORE_WARNINGS, BEFORE_LAST = (f',\n  "{name}": ' for name in SECTIONS)
BETWEEN_READINGS, BETWEEN_OBJECTS = "\n    },\n", "\n    },\n    {"


_DECODER = json.JSONDecoder()


class Remembered(dict[Key, Any], Generic[Key]):
    """Cache of results by input, of at most ``most`` entries, so that memory is bounded however many surveys are
    read."""

    def __init__(self, most: int) -> None:
        super().__init__()
        self.most = most

    def once(self, key: Key, read: Callable[[Key], T]) -> T:
        """Return the cached result, or ``read`` it."""
        found: T | None = self.get(key)
        if found is None:
            found = read(key)
            if len(self) >= self.most:
                self.clear()
            self[key] = found
        return found


class Recurring(Remembered[Key]):
    """Cache for inputs most of which never come again: results are kept of those that come a second time."""

    def __init__(self, most: int) -> None:
        super().__init__(most)
        self.seen = set[int]()

    def once(self, key: Key, read: Callable[[Key], T]) -> T:
        """Return the cached result, or ``read`` it."""
        known: T | None = self.get(key)
        if known is not None:
            return known
        mark = hash(key)
        if mark in self.seen:
            return super().once(key, read)
        if len(self.seen) >= MOST_MEMBERS:
            self.seen.clear()
        self.seen.add(mark)
        return read(key)


class OtherForm(Exception):
    """The text does not have the form of survey files."""


class Named(NamedTuple):
    """A reading and its rule; None for an unknown rule."""

    rule_id: str
    reading: Reading | None


class Members(Generic[T]):
    """Reads objects of one class member by member; equal texts are parsed once.

    ``own``: names of members that hardly two objects share, told by their places alone. The others are parsed together,
    once for all objects that are alike in them."""

    def __init__(self, kind: type[T], indent: int, *own: str) -> None:
        self.kind = kind
        self.begins = "\n" + indent * " " + '"'
        self.between = "," + self.begins
        self.readers = {field.name: reader_of(field.type) for field in fields(resolve_types(cast(Any, kind)))}
        self.own = sorted(map([*self.readers].index, own), reverse=True)  # what is taken out moves none of the others
        self.known = Remembered[str](MOST_MEMBERS)
        self.alike = Remembered[str](MOST_REMEMBERED)

    def read(self, part: str) -> T:
        """Return the object whose members are in ``part``, each on lines of its own."""
        if not part.startswith(self.begins):
            raise OtherForm
        members = part[len(self.begins) :].split(self.between)
        own = [members.pop(place) for place in self.own]
        known, member = self.known, self._member
        given = dict([known.get(text) or known.once(text, member) for text in own])
        given |= self.alike.once(self.between.join(members), self._members)
        if len(given) != len(self.readers):  # of an earlier version, or one twice
            raise OtherForm
        return self.kind(**given)

    def _members(self, part: str) -> dict[str, Any]:
        found = dict(map(self._member, part.split(self.between)))
        return {name: value for name, value in found.items() if name in self.readers}

    def _member(self, text: str) -> tuple[str, Any]:
        name, _, value = text.partition('": ')
        raw, end = _DECODER.raw_decode(value)
        if end != len(value) or not name.isidentifier():
            raise OtherForm
        reader = self.readers.get(name)
        # An argument is found sooner by the very object that its parameter is named by.
        return intern(name), None if reader is None else reader(raw)


class SurveyReader:
    """Reads surveys and caches their parts. Equal readings of several machines are one object; so are equal groups."""

    def __init__(self) -> None:
        self.groups, self.entry_points = Remembered[str](MOST_REMEMBERED), Remembered[str](MOST_REMEMBERED)
        self.accounts = Recurring[str](MOST_REMEMBERED)  # those that come with a system are the same on each
        self.machine, self.account = Members(MachineFacts, 4, *OF_A_MACHINE), Members(Account, 6, *OF_AN_ACCOUNT)
        self.group = Members(Group, 6, "name")
        self.kept, self.derived = Remembered[str](MOST_REMEMBERED), Remembered[str](MOST_REMEMBERED)

    def snapshot(self, text: str) -> Snapshot:
        """Return the snapshot of a survey.

        Raises: BadInput: this is no survey. ValueError, RecursionError: this is no JSON."""
        try:
            return self._from_parts(text)
        except (OtherForm, LookupError, TypeError, AttributeError, ValueError, ExceptionGroup):
            return snapshot_from(json.loads(text))

    def _from_parts(self, text: str) -> Snapshot:
        sections = _sections(text)
        machine = self.machine.read(_inside(sections["machine"], "{", "\n  }"))
        accounts = tuple(self.accounts.once(part, self.account.read) for part in _objects(sections["accounts"]))
        groups = tuple(self.groups.once(part, self.group.read) for part in _objects(sections["groups"]))
        entry_points = self.entry_points.once(
            sections["entry_points"], lambda part: structured(json.loads(part), tuple[EntryPoint, ...])
        )
        readings = self._readings(sections["readings"])
        warnings = structured(json.loads(sections["warnings"]), tuple[str, ...])
        return Snapshot(machine, accounts, groups, readings, warnings, entry_points)

    def _readings(self, section: str) -> Mapping[str, Reading]:
        found: list[Named] = []
        for part in _split(section, "{\n", BETWEEN_READINGS, "\n    }\n  }"):
            if (known := self.kept.get(part)) is not None:
                found.append(known)
            elif _name_of(part) in DERIVED:  # they name people, so few are equal
                self.derived.once(part, _reading)
            else:
                found.append(self.kept.once(part, _reading))
        return {each.rule_id: each.reading for each in found if each.reading is not None}


def _sections(text: str) -> Mapping[str, str]:
    """Return the text of each section. Raises: OtherForm, ValueError: one is missing, or it has another form."""
    if not text.startswith(START) or not text.endswith("\n}\n"):
        raise OtherForm
    begins, ends, at = [len(START)], [], len(START)
    for before in BEFORE_SECTIONS:
        at = text.index(before, at)
        ends.append(at)
        begins.append(at + len(before))
    # The readings are half of a survey: their end is found sooner from behind.
    last = text.rindex(BEFORE_LAST, at)
    end = text.rindex(BEFORE_WARNINGS, at, last)
    parts = map(slice, (*begins, end + len(BEFORE_WARNINGS), last + len(BEFORE_LAST)), (*ends, end, last, -3))
    return dict(zip(("machine", *SECTIONS), map(text.__getitem__, parts), strict=True))


def _objects(section: str) -> list[str]:
    return _split(section, "[\n    {", BETWEEN_OBJECTS, "\n    }\n  ]")


def _split(section: str, before: str, between: str, after: str) -> list[str]:
    return _inside(section, before, after).split(between)


def _inside(section: str, before: str, after: str) -> str:
    if not section.startswith(before) or not section.endswith(after):
        raise OtherForm
    return section[len(before) : -len(after)]


def _name_of(reading: str) -> str:
    return reading[reading.find('"') + 1 :].partition('"')[0]


def _reading(part: str) -> Named:
    read = json.loads("{" + part + "}}")
    if len(read) != 1:
        raise OtherForm
    [(rule_id, raw)] = read.items()
    return Named(rule_id, reading_from(rule_id, raw))
