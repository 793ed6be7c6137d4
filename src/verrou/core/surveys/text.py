"""Read many survey files in a row; equal parts are parsed once.

A survey file has the form that :func:`verrou.reports.tables.as_json` gives it: its sections in one order, each part of
a section on lines of its own. The text is split at those lines, each part is checked to be one whole JSON value, and
parts seen before are not parsed again. A text of any other form is parsed as any JSON."""

import json
from collections.abc import Callable, Hashable, Mapping
from typing import Any, Generic, TypeVar, cast

from attrs import fields, frozen, resolve_types

from verrou.core.model import Account, Group, MachineFacts, Reading, Snapshot
from verrou.core.model.routes import EntryPoint
from verrou.core.rules import CATALOGUE
from verrou.core.surveys.data import FORMAT, reader_of, reading_from, snapshot_from, structured

T = TypeVar("T")
Key = TypeVar("Key", bound=Hashable)
MOST_REMEMBERED, MOST_MEMBERS = 1_000, 5_000
"""How many parts of a survey are remembered of each kind, and how many members of its objects, which are short."""
DERIVED = frozenset(rule.id for rule in CATALOGUE.values() if rule.derived is not None)
SECTIONS = ("accounts", "groups", "readings", "warnings", "entry_points")
START = f'{{\n  "format": "{FORMAT}",\n  "machine": '
BETWEEN_READINGS, BETWEEN_OBJECTS = '\n    },\n    "', "\n    },\n    {"


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


class OtherForm(Exception):
    """The text does not have the form of survey files."""


@frozen(eq=False)
class Named:
    """A reading and its rule; None for an unknown rule. Equal to itself alone."""

    rule_id: str
    reading: Reading | None


class Members(Generic[T]):
    """Reads objects of one class member by member; equal texts are parsed once."""

    def __init__(self, kind: type[T], indent: int) -> None:
        self.kind = kind
        self.begins = "\n" + indent * " " + '"'
        self.between = "," + self.begins
        self.readers = {field.name: reader_of(field.type) for field in fields(resolve_types(cast(Any, kind)))}
        self.known = Remembered[str](MOST_MEMBERS)
        self.others: set[str] = set()

    def read(self, part: str) -> T:
        """Return the object whose members are in ``part``, each on lines of its own."""
        if not part.startswith(self.begins):
            raise OtherForm
        members = part[len(self.begins) :].split(self.between)
        found = [*map(self.known.get, members)]
        if None in found:
            found = [each or self.known.once(text, self._member) for each, text in zip(found, members, strict=True)]
        given: dict[str, Any] = dict(cast(list[tuple[str, Any]], found))
        for name in self.others:
            given.pop(name, None)
        if len(given) != len(self.readers):  # of an earlier version, perhaps
            raise OtherForm
        return self.kind(**given)

    def _member(self, text: str) -> tuple[str, Any]:
        read = json.loads('{"' + text + "}")
        if len(read) != 1:
            raise OtherForm
        [(name, raw)] = read.items()
        if (reader := self.readers.get(name)) is not None:
            return name, reader(raw)
        self.others.add(name)
        return name, None


class SurveyReader:
    """Reads surveys and caches their parts.

    Equal readings of several machines are one object, and so are whole sets of equal readings."""

    def __init__(self) -> None:
        self.accounts, self.entry_points = Remembered[str](MOST_REMEMBERED), Remembered[str](MOST_REMEMBERED)
        self.machine, self.account, self.group = Members(MachineFacts, 4), Members(Account, 6), Members(Group, 6)
        self.kept, self.derived = Remembered[str](MOST_REMEMBERED), Remembered[str](MOST_REMEMBERED)
        self.together = Remembered[tuple[Named, ...]](MOST_REMEMBERED)

    def snapshot(self, text: str) -> Snapshot:
        """Return the snapshot of a survey.

        Raises: BadInput: this is no survey. ValueError, RecursionError: this is no JSON."""
        try:
            return self._from_parts(text)
        except (OtherForm, KeyError, TypeError, AttributeError, ValueError, ExceptionGroup):
            return snapshot_from(json.loads(text))

    def _from_parts(self, text: str) -> Snapshot:
        sections = _sections(text)
        machine = self.machine.read(_inside(sections["machine"], "{", "\n  }"))
        accounts = tuple(
            self.accounts.once(part, self.account.read)
            for part in _split(sections["accounts"], "[\n    {", BETWEEN_OBJECTS, "\n    }\n  ]")
        )
        groups = tuple(map(self.group.read, _split(sections["groups"], "[\n    {", BETWEEN_OBJECTS, "\n    }\n  ]")))
        entry_points = self.entry_points.once(
            sections["entry_points"], lambda part: structured(json.loads(part), tuple[EntryPoint, ...])
        )
        readings = self._readings(sections["readings"])
        warnings = structured(json.loads(sections["warnings"]), tuple[str, ...])
        return Snapshot(machine, accounts, groups, readings, warnings, entry_points)

    def _readings(self, section: str) -> Mapping[str, Reading]:
        found = []
        for part in _split(section, '{\n    "', BETWEEN_READINGS, "\n    }\n  }"):
            if (known := self.kept.get(part)) is not None:
                found.append(known)
            elif part[: part.find('"')] in DERIVED:  # they name people, so few are equal
                self.derived.once(part, _reading)
            else:
                found.append(self.kept.once(part, _reading))
        return self.together.once(tuple(found), _by_rule)


def _sections(text: str) -> Mapping[str, str]:
    """Return the text of each section."""
    if not text.startswith(START) or not text.endswith("\n}\n"):
        raise OtherForm
    found, begins, name = {}, len(START), "machine"
    for following in SECTIONS:
        ends = text.find(f',\n  "{following}": ', begins)
        if ends < 0:
            raise OtherForm
        found[name] = text[begins:ends]
        begins, name = ends + len(f',\n  "{following}": '), following
    found[name] = text[begins:-3]
    return found


def _split(section: str, before: str, between: str, after: str) -> list[str]:
    return _inside(section, before, after).split(between)


def _inside(section: str, before: str, after: str) -> str:
    if not section.startswith(before) or not section.endswith(after):
        raise OtherForm
    return section[len(before) : -len(after)]


def _by_rule(found: tuple[Named, ...]) -> Mapping[str, Reading]:
    return {each.rule_id: each.reading for each in found if each.reading is not None}


def _reading(part: str) -> Named:
    read = json.loads('{"' + part + "}}")
    if len(read) != 1:
        raise OtherForm
    [(rule_id, raw)] = read.items()
    return Named(rule_id, reading_from(rule_id, raw))
