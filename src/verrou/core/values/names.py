"""Names of people and of groups, and lists of them."""

import math
from collections.abc import Callable

from attrs import frozen

from verrou.core.values.kind import (
    EVERYONE,
    NAMES,
    NOBODY,
    AcceptedValues,
    JsonSchema,
    Kind,
    Members,
    Unacceptable,
    Value,
    ValueData,
    as_list,
    either,
    exactly,
    nearest,
    number_of,
    seen_number,
    singular,
    typed_number,
    words_of,
)
from verrou.core.values.numbers import Count


class Names(Kind):
    """Common base of sets of names."""

    takes_names = True

    def _load(self, raw: object) -> Value:
        if isinstance(raw, list) and all(isinstance(item, str) for item in raw):
            return frozenset(raw)
        raise Unacceptable(raw, self.accepted)

    def dump(self, value: Value) -> ValueData:
        return {"names": sorted(words_of(value))}

    def written(self, value: Value) -> object:
        return sorted(words_of(value))

    def schema(self) -> JsonSchema:
        return exactly(names=NAMES)


@frozen(eq=False, repr=False)
class NameSet(Names):
    """A set of words of which the machine may use any, and no other.

    A smaller set is stricter; ``none`` is the word for the empty one, where that makes sense."""

    options: tuple[str, ...]
    none: str = ""

    @property
    def accepted(self) -> str:
        return "a list of " + ", ".join(f'"{o}"' for o in self.options) + (f'; or "{self.none}"' if self.none else "")

    def parse(self, raw: object) -> Value:
        items = [] if self.none and raw in (self.none, [self.none]) else raw
        if not isinstance(items, list) or not (items or self.none):
            raise Unacceptable(raw, self.accepted)
        for item in items:
            if item not in self.options:
                raise Unacceptable(item, self.accepted, nearest(item, self.options))
        return frozenset(items)

    def parse_text(self, text: str) -> Value:
        return self.parse([item.strip() for item in text.split(",")])

    def written_schema(self) -> JsonSchema:
        items = {"enum": [*self.options, *([self.none] if self.none else [])]}
        return either({"type": "array", "items": items}, *([{"const": self.none}] if self.none else []))

    def format(self, value: Value) -> str:
        return ", ".join(sorted(words_of(value))) or self.none or "none"

    def rank(self, value: Value) -> float:
        return -float(len(words_of(value)))

    def at_least(self, value: Value, required: Value) -> bool:
        return words_of(value) <= words_of(required)

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        return self.at_least(value, required)

    def direction(self) -> str:
        return "only"

    @property
    def plain_meaning(self) -> str:
        return "any of these and no other"


GROUP = "group:"
"""Prefix of a group's name, where accounts and groups are listed together."""


@frozen(eq=False, repr=False)
class Listed(Names):
    """List of names: accounts, and groups where ``of_people``, or other things.

    ``every`` is the word for all of them, ``none`` for an empty list. ``more_is_stricter``: the list is of those who
    are denied or covered."""

    more_is_stricter: bool
    every: str = EVERYONE
    none: str = NOBODY
    of_people: bool = True

    @property
    def accepted(self) -> str:
        names = f'accounts, and groups written "{GROUP}NAME"' if self.of_people else "names"
        return f'a list of {names}; or "{self.every}", or "{self.none}"'

    def parse(self, raw: object) -> Value:
        items = [raw] if raw in (self.every, self.none) else raw
        if not isinstance(items, list):
            raise Unacceptable(raw, self.accepted, as_list(raw))
        for item in items:
            name = item.removeprefix(GROUP) if isinstance(item, str) and self.of_people else item
            if not isinstance(name, str) or not name.strip() or not name.isprintable() or set(name) & set(",:"):
                raise Unacceptable(item, self.accepted)
        names = frozenset(item.strip() for item in items) - {self.none}
        return frozenset({self.every}) if self.every in names else names

    def parse_text(self, text: str) -> Value:
        return self.parse([item.strip() for item in text.split(",")] if text.strip() else [])

    def written_schema(self) -> JsonSchema:
        return either(NAMES, {"enum": [self.every, self.none]})

    def format(self, value: Value) -> str:
        names = sorted(words_of(value), key=lambda name: (not name.startswith(GROUP), name))
        return ", ".join(f"group {n.removeprefix(GROUP)}" if n.startswith(GROUP) else n for n in names) or self.none

    def rank(self, value: Value) -> float:
        size = math.inf if self.every in words_of(value) else float(len(words_of(value)))
        return size if self.more_is_stricter else -size

    @property
    def names_people(self) -> bool:
        return self.of_people

    def at_least(self, value: Value, required: Value) -> bool:
        return self.at_least_expanded(value, required, {})

    def at_least_expanded(self, value: Value, required: Value, members: Members) -> bool:
        large, small = (value, required) if self.more_is_stricter else (required, value)
        held = set(words_of(large))
        for name in words_of(large):
            held |= set(members.get(name.removeprefix(GROUP), ())) if name.startswith(GROUP) else set()
        return self.every in held or words_of(small) <= held

    def target(self, value: Value, required: Value) -> Value:
        """Return the target with those who are denied or covered already."""
        if not self.more_is_stricter or self.every in words_of(required):
            return required
        return words_of(value) | words_of(required)

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        """Return whether the same names, or the same people, resulted: a machine may list group members one by one.

        Others may be denied besides those requested, but not where no one was to be."""
        if self.more_is_stricter and words_of(required):
            return self.at_least_expanded(value, required, members)
        return self.same(value, required) or self._people(value, members) == self._people(required, members)

    def _people(self, value: Value, members: Members) -> frozenset[str]:
        """Return the accounts that a list expands to; a group without members stays a group."""
        found: set[str] = set()
        for name in words_of(value):
            inside = members.get(name.removeprefix(GROUP), ()) if name.startswith(GROUP) else ()
            found |= set(inside) or {name}
        return frozenset(found)

    def with_group_names(self, value: Value, name_of: Callable[[str], str]) -> Value:
        return frozenset(map(name_of, words_of(value))) if self.of_people else value

    def direction(self) -> str:
        return "at least" if self.more_is_stricter else "no one but" if self.of_people else "only"

    def ask(self, value: Value) -> str:
        if self.every in words_of(value) or not words_of(value):
            return self.format(value)
        return super().ask(value)

    @property
    def plain_meaning(self) -> str:
        if self.more_is_stricter:
            return "all of these, and others may be listed as well"
        return "any of these and no other"

    def why_not_accepted(self, value: Value, accepted_values: AcceptedValues) -> str:
        """Return why a value is not accepted; listed words are checked one by one, besides the words for all and
        none."""
        if accepted_values.cannot or accepted_values.words is None:
            return accepted_values.cannot
        strange = words_of(value) - {self.every, *accepted_values.words}
        known = ", ".join((*accepted_values.words, self.every, self.none))
        return f"this machine accepts {known}" if strange else ""


@frozen(eq=False, repr=False)
class Roster(Kind):
    """Who has something: how many (a whole number of ``unit``, fewer is stricter), or which names.

    A machine's value is the names; an empty one never satisfies a requirement."""

    has_scale = True
    takes_names = True
    unit: str
    low: int
    high: int

    @property
    def accepted(self) -> str:
        return f"a whole number from {self.low} to {self.high}, or {{ only = [names] }}"

    @property
    def names_people(self) -> bool:
        return True

    def with_group_names(self, value: Value, name_of: Callable[[str], str]) -> Value:
        return frozenset(map(name_of, value)) if isinstance(value, frozenset) else value

    def parse(self, raw: object) -> Value:
        if isinstance(raw, list) and raw and all(isinstance(name, str) and name.strip() for name in raw):
            return frozenset(raw)
        return Count(self.unit, self.low, self.high, more_is_stricter=False).parse(raw)

    def parse_text(self, text: str) -> Value:
        return self.parse(typed_number(text))

    def _load(self, raw: object) -> Value:
        return frozenset(map(str, raw)) if isinstance(raw, list) else seen_number(raw)

    def dump(self, value: Value) -> ValueData:
        return (
            {"names": sorted(value)}
            if isinstance(value, frozenset)
            else {"number": number_of(value), "unit": self.unit}
        )

    def written(self, value: Value) -> object:
        return sorted(value) if isinstance(value, frozenset) else value

    def schema(self) -> JsonSchema:
        return either(exactly(names=NAMES), exactly(number={"type": "integer"}, unit={"const": self.unit}))

    def written_schema(self) -> JsonSchema:
        return {"type": "integer", "minimum": self.low, "maximum": self.high}

    def format(self, value: Value) -> str:
        if isinstance(value, frozenset):
            return ", ".join(sorted(value)) or "nobody"
        return f"{value} {singular(self.unit) if value == 1 else self.unit}"

    def amount(self, value: Value) -> float:
        return float(len(value) if isinstance(value, frozenset) else number_of(value))

    def rank(self, value: Value) -> float:
        return -self.amount(value)

    def at_least(self, value: Value, required: Value) -> bool:
        if not value:
            return False
        if isinstance(required, frozenset):
            return isinstance(value, frozenset) and value <= required
        return super().at_least(value, required)

    def same(self, value: Value, required: Value) -> bool:
        return value == required if isinstance(required, frozenset) else self.amount(value) == self.amount(required)

    def direction(self) -> str:
        return "at most"

    def ask(self, value: Value) -> str:
        return f"{self.format(value)} and no one else" if isinstance(value, frozenset) else super().ask(value)

    @property
    def plain_meaning(self) -> str:
        return "at most that many, and at least 1; { only = [names] } requires these and no others"
