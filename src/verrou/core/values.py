"""Kinds of values: type, range, special words, and which direction is stricter.

Every kind offers what :class:`Kind` declares, so that baseline files, screens, survey files, comparison and machines
need to know nothing else."""

import math
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, Any, ClassVar, TypeAlias, TypedDict

from attrs import field, frozen

if TYPE_CHECKING:
    from verrou.core.model.facts import Effect


@frozen
class BuiltinName:
    """Name of a built-in account, and whether it still is the original one."""

    name: str
    original: bool


@frozen
class Notice:
    """Text shown at the machine before sign-in."""

    title: str = ""
    text: str = ""

    @property
    def words(self) -> list[str]:
        """Title and text without their spacing, by which two notices are compared."""
        return f"{self.title} {self.text}".split()


Value: TypeAlias = bool | int | timedelta | str | frozenset[str] | BuiltinName | Notice
JsonSchema: TypeAlias = dict[str, Any]
Members: TypeAlias = Mapping[str, Collection[str]]
"""The accounts in each group."""


class ValueData(TypedDict, total=False):
    """A value as plain data: a yes or no, a number with its unit, a duration (ISO 8601), a word, names, a name with
    whether it is the original one, or a notice with its title."""

    answer: bool
    number: int
    unit: str
    duration: str
    word: str
    names: list[str]
    name: str
    original: bool
    title: str
    text: str


def exactly(**properties: JsonSchema) -> JsonSchema:
    """Return the JSON Schema of an object that has these properties and no other."""
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


def either(*schemas: JsonSchema) -> JsonSchema:
    """Return the JSON Schema of a value that satisfies one of several."""
    return schemas[0] if len(schemas) == 1 else {"anyOf": list(schemas)}


TEXT: JsonSchema = {"type": "string"}
NAMES: JsonSchema = {"type": "array", "items": TEXT}
ISO_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?")


def iso_duration(span: timedelta) -> str:
    """Return a duration as ISO 8601 writes it: ``P90D``, ``PT45M``, ``P1DT2H``."""
    minutes, seconds = divmod(span.seconds, 60)
    hours, minutes = divmod(minutes, 60)
    times = "".join(f"{count}{sign}" for count, sign in ((hours, "H"), (minutes, "M"), (seconds, "S")) if count)
    days = f"{span.days}D" if span.days or not times else ""
    return f"P{days}{f'T{times}' if times else ''}"


def _from_iso(text: str) -> timedelta | None:
    match = ISO_DURATION.fullmatch(text)
    if match is None or not any(match.groups()) or any(len(part or "") > 9 for part in match.groups()):
        return None
    days, hours, minutes, seconds = (int(part or 0) for part in match.groups())
    return timedelta(days=days, hours=hours, minutes=minutes, seconds=seconds)


class Unacceptable(ValueError):
    """A raw value that a kind does not accept. ``found`` and ``accepted`` are for the message."""

    def __init__(self, found: object, accepted: str, nearest: str | None = None) -> None:
        self.found, self.accepted, self.nearest = found, accepted, nearest
        meant = nearest if nearest is None or nearest.startswith("[") else repr(nearest)
        hint = f". Did you mean {meant}?" if meant else ""
        super().__init__(f"invalid value {show_raw(found)}; expected {accepted}{hint}")


def as_list(raw: object) -> str | None:
    """Return how a text would be written as a list of one, for a message; None for anything but text."""
    return f'["{raw}"]' if isinstance(raw, str) and raw.isprintable() and '"' not in raw else None


def show_raw(raw: object) -> str:
    """Return a raw value for a one-line message: quoted, shortened, without control characters."""
    text = "true" if raw is True else "false" if raw is False else str(raw) if isinstance(raw, int) else repr(raw)
    return text if len(text) <= 60 else text[:57] + "..."


def nearest(word: object, choices: Sequence[str]) -> str | None:
    """Return the choice spelled most like ``word``, or None when nothing is near."""
    from difflib import get_close_matches

    close = get_close_matches(str(word).lower(), [str(c) for c in choices], n=1, cutoff=0.6)
    return close[0] if close else None


_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400, "week": 604800}
_SHORT_UNITS = {
    **dict.fromkeys(("s", "sec", "secs"), "second"),
    **dict.fromkeys(("m", "min", "mins"), "minute"),
    **dict.fromkeys(("h", "hr", "hrs"), "hour"),
    "d": "day",
    "w": "week",
}
_DURATION = re.compile(r"\s*(\d{1,9})\s*([a-z]+)\s*", re.IGNORECASE)
DURATION_EXAMPLE = 'a whole number with a unit, such as "45 minutes" or "90 days"'


def parse_duration(raw: object, accepted: str = DURATION_EXAMPLE) -> timedelta:
    """Return ``"45 minutes"``, or short ``"45 min"`` and ``"45m"``, as a timedelta.

    Raises: Unacceptable: for a bare number, or a unit of no fixed length (months)."""
    match = _DURATION.fullmatch(raw) if isinstance(raw, str) else None
    if match is None:
        raise Unacceptable(raw, accepted)
    number, written = int(match[1]), match[2].lower()
    unit = _SHORT_UNITS.get(written, written.removesuffix("s"))
    if unit not in _UNITS:
        close = nearest(unit, list(_UNITS))
        raise Unacceptable(raw, accepted, f"{number} {close}s" if close else None)
    return timedelta(seconds=number * _UNITS[unit])


def format_duration(span: timedelta) -> str:
    """Return a timedelta in the largest unit, up to days, that divides it: ``45 minutes``, ``1 hour``, ``90 days``."""
    seconds = int(span.total_seconds())
    for unit in ("day", "hour", "minute", "second"):
        count, rest = divmod(seconds, _UNITS[unit])
        if rest == 0 and (count or unit == "second"):
            return f"{count} {unit}{'' if count == 1 else 's'}"
    raise AssertionError("every number of seconds is a whole number of seconds")


@frozen
class AcceptedValues:
    """Values that one machine accepts for a rule: bounds and special words; None where it sets no bound of its own.

    ``cannot`` says why it accepts nothing, ``why`` why only these words. A value that ``waits`` takes effect only
    when the event of the rule has happened. ``effect`` is when a change takes effect here, where that differs from
    the rule."""

    least: Value | None = None
    most: Value | None = None
    words: tuple[str, ...] | None = None
    cannot: str = ""
    waits: bool = False
    why: str = ""
    effect: "Effect | None" = None


class Kind(ABC):
    """Type of a rule's value. Each kind owns its values: nothing else asks which kind it is."""

    has_scale: ClassVar[bool] = False
    """Whether its values are on a scale of plain numbers, so that ranges and agreements are possible."""
    takes_names: ClassVar[bool] = False
    """Whether ``only`` can require a list of names and no other."""

    @property
    def names_people(self) -> bool:
        """Whether a value may name accounts or groups, so that its meaning depends on the machine."""
        return False

    keys: ClassVar[frozenset[str]] = frozenset()
    """The keys of a table by which a baseline file writes a value, where it does."""

    @property
    @abstractmethod
    def accepted(self) -> str:
        """Accepted values, in words."""

    @abstractmethod
    def parse(self, raw: object) -> Value:
        """Return a value from a baseline file. Raises: Unacceptable."""

    def parse_text(self, text: str) -> Value:
        """Return a value from a command line. Raises: Unacceptable."""
        return self.parse(text)

    def load(self, data: object) -> Value:
        """Return a value of a machine from what :meth:`dump` gave; it may be outside the range of requirements.

        Bare values are accepted too. Raises: Unacceptable."""
        raw = data
        if isinstance(data, dict):
            raw = next(
                (data[key] for key in ("answer", "number", "duration", "word", "names", "name") if key in data), None
            )
        return self._load(raw)

    def _load(self, raw: object) -> Value:
        return self.parse(raw)

    @abstractmethod
    def dump(self, value: Value) -> ValueData:
        """Return the value as plain data that needs no knowledge of the rule."""

    def written(self, value: Value) -> object:
        """Return the value as a baseline file has it: what :meth:`parse` takes."""
        return value

    @abstractmethod
    def schema(self) -> JsonSchema:
        """Return the JSON Schema of what :meth:`dump` gives."""

    @abstractmethod
    def written_schema(self) -> JsonSchema:
        """Return the JSON Schema of a plain value in a baseline file."""

    def format(self, value: Value) -> str:
        """Return the value for people."""
        return str(value)

    @abstractmethod
    def rank(self, value: Value) -> float:
        """Return the strictness: higher is stricter."""

    def amount(self, value: Value) -> float:
        """Return the value's place on the scale, where :attr:`has_scale`."""
        raise Unacceptable(value, f"{self.accepted} (it has no scale)")

    def same(self, value: Value, required: Value) -> bool:
        """Return whether the value is exactly the required one."""
        return value == required

    def at_least(self, value: Value, required: Value) -> bool:
        """Return whether the value is at least as strict as the required one."""
        return self.rank(value) >= self.rank(required)

    def target(self, value: Value, required: Value) -> Value:
        """Return the value to set where the present one does not satisfy the requirement."""
        return required

    def at_least_expanded(self, value: Value, required: Value, members: Members) -> bool:
        """Return whether the value is at least as strict, given who is in which group."""
        return self.at_least(value, required)

    def with_group_names(self, value: Value, name_of: Callable[[str], str]) -> Value:
        """Return the value with the names of one machine.

        ``name_of`` gives its name of an account, or of a group written ``group:NAME``."""
        return value

    def resulting(self, value: Value | None, required: Value) -> Value:
        """Return the resulting value when ``wanted`` is set over ``value``."""
        return required

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        """Return whether the value read back satisfies the one requested."""
        return self.same(value, required)

    def direction(self) -> str:
        """Return the words before a plain required value, such as "at least"; may be empty."""
        return ""

    def ask(self, value: Value) -> str:
        """Return a plain required value for people."""
        return f"{self.direction()} {self.format(value)}".strip()

    @property
    @abstractmethod
    def plain_meaning(self) -> str:
        """What a plain value in a baseline requires, in a sentence."""

    def why_not_accepted(self, value: Value, accepted_values: AcceptedValues) -> str:
        """Return why a machine does not accept the value, in words; empty where it does."""
        if accepted_values.cannot:
            return accepted_values.cannot
        if accepted_values.words is not None and not self._words_of(value) <= set(accepted_values.words):
            because = f", since {accepted_values.why}" if accepted_values.why else ""
            return f"this machine accepts {' or '.join(accepted_values.words) or 'no such word'}{because}"
        if isinstance(value, str) or not self.has_scale:
            return ""
        if accepted_values.least is not None and self.amount(value) < self.amount(accepted_values.least):
            return f"this machine accepts {self.format(accepted_values.least)} or more"
        if accepted_values.most is not None and self.amount(value) > self.amount(accepted_values.most):
            return f"this machine accepts {self.format(accepted_values.most)} or less"
        return ""

    @staticmethod
    def _words_of(value: Value) -> set[str]:
        return set(value) if isinstance(value, frozenset) else {value} if isinstance(value, str) else set()


class Scale(Kind):
    """Common base of numbers and durations."""

    has_scale = True
    more_is_stricter: bool
    words: Mapping[str, float]

    def rank(self, value: Value) -> float:
        return self.amount(value) if self.more_is_stricter else -self.amount(value)

    def direction(self) -> str:
        return "at least" if self.more_is_stricter else "at most"

    @property
    def plain_meaning(self) -> str:
        return (
            "at least that much; more is stricter" if self.more_is_stricter else "at most that much; less is stricter"
        )


# Kinds are declared once and never compared: without generated methods a survey starts faster.
@frozen(eq=False, repr=False)
class YesNo(Kind):
    """Yes or no. ``stricter`` is the stricter answer."""

    stricter: bool

    @property
    def accepted(self) -> str:
        return "true or false, without quotes"

    def parse(self, raw: object) -> Value:
        if isinstance(raw, bool):
            return raw
        raise Unacceptable(raw, self.accepted)

    def parse_text(self, text: str) -> Value:
        answers = {"yes": True, "true": True, "no": False, "false": False}
        if text.lower() not in answers:
            raise Unacceptable(text, "yes or no")
        return answers[text.lower()]

    def dump(self, value: Value) -> ValueData:
        return {"answer": bool(value)}

    def schema(self) -> JsonSchema:
        return exactly(answer={"type": "boolean"})

    def written_schema(self) -> JsonSchema:
        return {"type": "boolean"}

    def format(self, value: Value) -> str:
        return "yes" if value else "no"

    def rank(self, value: Value) -> float:
        return float(value is self.stricter)

    @property
    def plain_meaning(self) -> str:
        return f"that answer; {self.format(self.stricter)} is the strict one and always meets the requirement"


@frozen(eq=False, repr=False)
class Count(Scale):
    """A whole number of ``unit``. ``words`` are special words with their place on the scale, e.g. never = infinity."""

    unit: str
    low: int
    high: int
    more_is_stricter: bool
    words: Mapping[str, float] = field(factory=dict)

    @property
    def accepted(self) -> str:
        return _with_words(f"a whole number from {self.low} to {self.high}", self.words)

    def parse(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.words:
            return raw
        if isinstance(raw, bool) or not isinstance(raw, int) or not self.low <= raw <= self.high:
            raise Unacceptable(raw, self.accepted, nearest(raw, list(self.words)))
        return raw

    def parse_text(self, text: str) -> Value:
        return self.parse(_typed_number(text))

    def _load(self, raw: object) -> Value:
        return _seen_number(raw) if isinstance(raw, int) else self.parse(raw)

    def dump(self, value: Value) -> ValueData:
        return {"word": value} if isinstance(value, str) else {"number": _number(value), "unit": self.unit}

    def schema(self) -> JsonSchema:
        return either(exactly(number={"type": "integer"}, unit={"const": self.unit}), *_word_schemas(self.words))

    def written_schema(self) -> JsonSchema:
        number = {"type": "integer", "minimum": self.low, "maximum": self.high}
        return either(number, *([{"enum": list(self.words)}] if self.words else []))

    def format(self, value: Value) -> str:
        if isinstance(value, str):
            return value
        return f"{value} {singular(self.unit) if value == 1 else self.unit}"

    def amount(self, value: Value) -> float:
        """Return the value's place on the plain number scale, special words included."""
        return self.words[value] if isinstance(value, str) else float(_number(value))


@frozen(eq=False, repr=False)
class Span(Scale):
    """A duration from ``low`` to ``high`` in whole ``unit`` (``"minute"`` or ``"day"``), or a special word."""

    unit: str
    low: int
    high: int
    more_is_stricter: bool
    words: Mapping[str, float] = field(factory=dict)

    @property
    def accepted(self) -> str:
        low, high = (timedelta(seconds=count * _UNITS[self.unit]) for count in (self.low, self.high))
        return _with_words(f"a duration of {self.format(low)} to {self.format(high)}, with its unit", self.words)

    def parse(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.words:
            return raw
        bare = isinstance(raw, int) and not isinstance(raw, bool)
        if bare or (isinstance(raw, str) and raw.isascii() and raw.isdigit()):
            raise Unacceptable(raw, self.accepted, self._if_taken(f"{raw} {self.unit}s"))
        try:
            span = parse_duration(raw, self.accepted)
        except Unacceptable as unacceptable:
            close = self._if_taken(unacceptable.nearest) or nearest(raw, list(self.words))
            raise Unacceptable(raw, self.accepted, close) from None
        count, rest = divmod(span.total_seconds(), _UNITS[self.unit])
        if rest or not self.low <= count <= self.high:
            raise Unacceptable(raw, self.accepted)
        return span

    def _if_taken(self, proposal: str | None) -> str | None:
        """Return the proposal, where it would be accepted."""
        try:
            return proposal if proposal is not None and self.parse(proposal) is not None else None
        except Unacceptable:
            return None

    def _load(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.words:
            return raw
        span = _from_iso(raw) if isinstance(raw, str) else None
        return parse_duration(raw) if span is None else span

    def dump(self, value: Value) -> ValueData:
        return {"word": value} if isinstance(value, str) else {"duration": iso_duration(_span(value))}

    def written(self, value: Value) -> object:
        return self.format(value)

    def schema(self) -> JsonSchema:
        duration = {"type": "string", "pattern": f"^{ISO_DURATION.pattern}$"}
        return either(exactly(duration=duration), *_word_schemas(self.words))

    def written_schema(self) -> JsonSchema:
        units = "|".join((*(f"{unit}s?" for unit in _UNITS), *_SHORT_UNITS))
        duration = {"type": "string", "pattern": f"^\\s*[0-9]+\\s*({units})\\s*$"}
        return either(duration, *([{"enum": list(self.words)}] if self.words else []))

    def format(self, value: Value) -> str:
        if value == timedelta():
            return f"0 {self.unit}s"
        return format_duration(value) if isinstance(value, timedelta) else str(value)

    def amount(self, value: Value) -> float:
        """Return the value in seconds, special words included."""
        return self.words[value] if isinstance(value, str) else _span(value).total_seconds()


@frozen(eq=False, repr=False)
class Choice(Kind):
    """One of a few words, from the loosest to the strictest.

    With ``or_stricter`` a machine that is set to one may result in a stricter one, since what the rule forbids may not
    exist there."""

    options: tuple[str, ...]
    or_stricter: bool = False

    def resulting(self, value: Value | None, required: Value) -> Value:
        return value if self.or_stricter and value is not None and self.at_least(value, required) else required

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        return self.at_least(value, required) if self.or_stricter else self.same(value, required)

    @property
    def accepted(self) -> str:
        return "one of " + ", ".join(f'"{o}"' for o in self.options)

    def parse(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.options:
            return raw
        raise Unacceptable(raw, self.accepted, nearest(raw, self.options))

    def dump(self, value: Value) -> ValueData:
        return {"word": str(value)}

    def schema(self) -> JsonSchema:
        return exactly(word={"enum": list(self.options)})

    def written_schema(self) -> JsonSchema:
        return {"enum": list(self.options)}

    def rank(self, value: Value) -> float:
        return float(self.options.index(str(value)))

    @property
    def plain_meaning(self) -> str:
        return f"that or stricter; from the loosest to the strictest: {', '.join(self.options)}"


NOT_SHIPPED = "changed"


@frozen(eq=False, repr=False)
class Name(Kind):
    """Name of a built-in account; ``"changed"`` requires any name but the original one."""

    @property
    def accepted(self) -> str:
        return f'an account name, or "{NOT_SHIPPED}" for any other than the original one'

    def parse(self, raw: object) -> Value:
        if not isinstance(raw, str) or not raw.strip() or not raw.isprintable():
            raise Unacceptable(raw, self.accepted)
        return BuiltinName(raw, original=False)

    def dump(self, value: Value) -> ValueData:
        assert isinstance(value, BuiltinName)
        return {"name": value.name, "original": value.original}

    def written(self, value: Value) -> object:
        assert isinstance(value, BuiltinName)
        return value.name

    def schema(self) -> JsonSchema:
        return exactly(name=TEXT, original={"type": "boolean"})

    def written_schema(self) -> JsonSchema:
        return TEXT

    def format(self, value: Value) -> str:
        if isinstance(value, BuiltinName):
            if value.name == NOT_SHIPPED:
                return "any name but the original one"
            return f"{value.name} (the original name)" if value.original else value.name
        return str(value)

    def rank(self, value: Value) -> float:
        return float(isinstance(value, BuiltinName) and not value.original)

    @property
    def plain_meaning(self) -> str:
        return "that name, whatever its case"

    def _load(self, raw: object) -> Value:
        return self.parse(raw)

    def same(self, value: Value, required: Value) -> bool:
        """Return whether the account has the required name, compared without case; any new name for ``changed``."""
        if not (isinstance(value, BuiltinName) and isinstance(required, BuiltinName)):
            return False
        if required.name == NOT_SHIPPED:
            return not value.original
        return value.name.casefold() == required.name.casefold()

    def at_least(self, value: Value, required: Value) -> bool:
        return self.same(value, required)


class Names(Kind):
    """Common base of sets of names."""

    takes_names = True

    def _load(self, raw: object) -> Value:
        if isinstance(raw, list) and all(isinstance(item, str) for item in raw):
            return frozenset(raw)
        raise Unacceptable(raw, self.accepted)

    def dump(self, value: Value) -> ValueData:
        return {"names": sorted(_words(value))}

    def written(self, value: Value) -> object:
        return sorted(_words(value))

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
        return ", ".join(sorted(_words(value))) or self.none or "none"

    def rank(self, value: Value) -> float:
        return -float(len(_words(value)))

    def at_least(self, value: Value, required: Value) -> bool:
        return _words(value) <= _words(required)

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        return self.at_least(value, required)

    def direction(self) -> str:
        return "only"

    @property
    def plain_meaning(self) -> str:
        return "any of these and no other"


GROUP = "group:"
"""Prefix of a group's name, where accounts and groups are listed together."""
EVERYONE, NOBODY = "everyone", "nobody"


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
        names = sorted(_words(value), key=lambda name: (not name.startswith(GROUP), name))
        return ", ".join(f"group {n.removeprefix(GROUP)}" if n.startswith(GROUP) else n for n in names) or self.none

    def rank(self, value: Value) -> float:
        size = math.inf if self.every in _words(value) else float(len(_words(value)))
        return size if self.more_is_stricter else -size

    @property
    def names_people(self) -> bool:
        return self.of_people

    def at_least(self, value: Value, required: Value) -> bool:
        return self.at_least_expanded(value, required, {})

    def at_least_expanded(self, value: Value, required: Value, members: Members) -> bool:
        large, small = (value, required) if self.more_is_stricter else (required, value)
        held = set(_words(large))
        for name in _words(large):
            held |= set(members.get(name.removeprefix(GROUP), ())) if name.startswith(GROUP) else set()
        return self.every in held or _words(small) <= held

    def target(self, value: Value, required: Value) -> Value:
        """Return the target with those who are denied or covered already."""
        if not self.more_is_stricter or self.every in _words(required):
            return required
        return _words(value) | _words(required)

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        """Return whether the same names, or the same people, resulted: a machine may list group members one by one.

        Others may be denied besides those requested, but not where no one was to be."""
        if self.more_is_stricter and _words(required):
            return self.at_least_expanded(value, required, members)
        return self.same(value, required) or self._people(value, members) == self._people(required, members)

    def _people(self, value: Value, members: Members) -> frozenset[str]:
        """Return the accounts that a list expands to; a group without members stays a group."""
        found: set[str] = set()
        for name in _words(value):
            inside = members.get(name.removeprefix(GROUP), ()) if name.startswith(GROUP) else ()
            found |= set(inside) or {name}
        return frozenset(found)

    def with_group_names(self, value: Value, name_of: Callable[[str], str]) -> Value:
        return frozenset(map(name_of, _words(value))) if self.of_people else value

    def direction(self) -> str:
        return "at least" if self.more_is_stricter else "no one but" if self.of_people else "only"

    def ask(self, value: Value) -> str:
        if self.every in _words(value) or not _words(value):
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
        strange = _words(value) - {self.every, *accepted_values.words}
        known = ", ".join((*accepted_values.words, self.every, self.none))
        return f"this machine accepts {known}" if strange else ""


@frozen(eq=False, repr=False)
class Words(Kind):
    """A title and a text that people read.

    It has no order: the words are the required ones or not; an empty requirement asks for nothing."""

    keys = frozenset({"title", "text"})

    @property
    def accepted(self) -> str:
        return '{ title = "…", text = "…" }, on a command line TITLE | TEXT; "none" for no notice'

    def parse(self, raw: object) -> Value:
        if raw == "none":
            return Notice()
        if isinstance(raw, str):
            raw = {"text": raw}
        if not isinstance(raw, dict) or not raw or set(raw) - self.keys:
            raise Unacceptable(raw, self.accepted)
        for text in raw.values():
            if not isinstance(text, str) or not all(c.isprintable() or c == "\n" for c in text):
                raise Unacceptable(text, f"{self.accepted}, without control characters")
        notice = Notice(raw.get("title", "").strip(), raw.get("text", "").strip())
        if "\n" in notice.title:
            raise Unacceptable(notice.title, "a title of one line")
        return notice

    def parse_text(self, text: str) -> Value:
        title, bar, rest = text.partition("|")
        return self.parse({"title": title, "text": rest} if bar else text)

    def load(self, data: object) -> Value:
        if isinstance(data, dict) and all(isinstance(data.get(key, ""), str) for key in self.keys):
            return Notice(data.get("title", ""), data.get("text", ""))
        raise Unacceptable(data, self.accepted)

    def dump(self, value: Value) -> ValueData:
        assert isinstance(value, Notice)
        return {"title": value.title, "text": value.text}

    def written(self, value: Value) -> object:
        assert isinstance(value, Notice)
        return {"title": value.title, "text": value.text}

    def schema(self) -> JsonSchema:
        return exactly(title=TEXT, text=TEXT)

    def written_schema(self) -> JsonSchema:
        table = {
            "type": "object",
            "properties": dict.fromkeys(sorted(self.keys), TEXT),
            "additionalProperties": False,
        }
        return either(TEXT, table)

    def format(self, value: Value) -> str:
        assert isinstance(value, Notice)
        message = " ".join(value.words)
        return f'"{message if len(message) <= 60 else message[:57] + "..."}"' if message else "none"

    def rank(self, value: Value) -> float:
        assert isinstance(value, Notice)
        return float(bool(value.words))

    def same(self, value: Value, required: Value) -> bool:
        return isinstance(value, Notice) and isinstance(required, Notice) and value.words == required.words

    def at_least(self, value: Value, required: Value) -> bool:
        return self.same(value, required) or (isinstance(required, Notice) and not required.words)

    @property
    def plain_meaning(self) -> str:
        return "these words and no other, however they are broken into lines"


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
        return self.parse(_typed_number(text))

    def _load(self, raw: object) -> Value:
        return frozenset(map(str, raw)) if isinstance(raw, list) else _seen_number(raw)

    def dump(self, value: Value) -> ValueData:
        return (
            {"names": sorted(value)} if isinstance(value, frozenset) else {"number": _number(value), "unit": self.unit}
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
        return float(len(value) if isinstance(value, frozenset) else _number(value))

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


def singular(unit: str) -> str:
    """Return the singular: ``failed attempts`` -> ``failed attempt``; ``characters`` -> ``character``."""
    return unit[:-3] + "y" if unit.endswith("ies") else unit.removesuffix("s")


def _typed_number(text: str) -> int | str:
    """Return the number typed, where the text is one: only in typed text is a number text."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else text


MOST_SEEN = 10**12
"""More than any number that a machine has for a rule; arithmetic on such sizes is safe."""


def _seen_number(raw: object) -> int:
    """Return a number read from a machine."""
    if isinstance(raw, bool) or not isinstance(raw, int) or abs(raw) > MOST_SEEN:
        raise Unacceptable(raw, "a whole number")
    return raw


def _number(value: Value) -> int:
    assert isinstance(value, int)
    return value


def _words(value: Value) -> frozenset[str]:
    assert isinstance(value, frozenset)
    return value


def _span(value: Value) -> timedelta:
    assert isinstance(value, timedelta)
    return value


def _word_schemas(words: Mapping[str, float]) -> list[JsonSchema]:
    return [exactly(word={"enum": list(words)})] if words else []


def _with_words(text: str, words: Mapping[str, float]) -> str:
    return text + "".join(f', or "{word}"' for word in words)
