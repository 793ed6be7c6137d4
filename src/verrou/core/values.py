"""What the value of a rule can be: its type, range and words, and which way is stricter.

Every kind offers the same five things, so that the baseline file, the screen, the survey file and the comparison
need to know nothing else: ``parse`` (from TOML or JSON), ``dump`` (back), ``say`` (for people), ``rank`` (strictness:
higher is stricter) and ``accepted`` (what may be written, for error messages and explanations).
"""

import math
import re
from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import Protocol, TypeAlias

from attrs import field, frozen


@frozen
class BuiltinName:
    """The name of an account that came with the system, and whether it still is the name it was shipped with."""

    name: str
    shipped: bool


Value: TypeAlias = bool | int | timedelta | str | frozenset[str] | BuiltinName


class Unacceptable(ValueError):
    """A raw value that a kind does not take. ``found`` and ``accepted`` are for the message."""

    def __init__(self, found: object, accepted: str, nearest: str | None = None) -> None:
        self.found, self.accepted, self.nearest = found, accepted, nearest
        hint = f"; did you mean {nearest!r}?" if nearest else ""
        super().__init__(f"found {show_raw(found)}, accepted: {accepted}{hint}")


def show_raw(raw: object) -> str:
    """A raw value as it may be shown in a one-line message: quoted, shortened, without control characters."""
    text = "true" if raw is True else "false" if raw is False else str(raw) if isinstance(raw, int) else repr(raw)
    return text if len(text) <= 60 else text[:57] + "..."


def nearest(word: object, choices: Sequence[str]) -> str | None:
    """The choice spelled most like ``word``, or None when nothing is near."""
    from difflib import get_close_matches

    close = get_close_matches(str(word).lower(), [str(c) for c in choices], n=1, cutoff=0.6)
    return close[0] if close else None


_UNITS = {"second": 1, "minute": 60, "hour": 3600, "day": 86400, "week": 604800}
_DURATION = re.compile(r"\s*(\d{1,9})\s*([a-z]+?)s?\s*", re.IGNORECASE)
DURATION_EXAMPLE = 'a whole number with a unit, such as "45 minutes" or "90 days"'


def parse_duration(raw: object, accepted: str = DURATION_EXAMPLE) -> timedelta:
    """``"45 minutes"`` as a timedelta. A bare number, or a unit of no fixed length (months), raises Unacceptable."""
    match = _DURATION.fullmatch(raw) if isinstance(raw, str) else None
    if match is None:
        raise Unacceptable(raw, accepted)
    number, unit = int(match[1]), match[2].lower()
    if unit not in _UNITS:
        close = nearest(unit, list(_UNITS))
        raise Unacceptable(raw, accepted, f"{number} {close}s" if close else None)
    return timedelta(seconds=number * _UNITS[unit])


def say_duration(span: timedelta) -> str:
    """A timedelta in the largest unit, up to days, that divides it: ``45 minutes``, ``1 hour``, ``90 days``."""
    seconds = int(span.total_seconds())
    for unit in ("day", "hour", "minute", "second"):
        count, rest = divmod(seconds, _UNITS[unit])
        if rest == 0 and (count or unit == "second"):
            return f"{count} {unit}{'' if count == 1 else 's'}"
    raise AssertionError("every number of seconds is a whole number of seconds")


class Kind(Protocol):
    """The type of a rule's value."""

    @property
    def accepted(self) -> str: ...
    def parse(self, raw: object) -> Value: ...
    def dump(self, value: Value) -> object: ...
    def say(self, value: Value) -> str: ...
    def rank(self, value: Value) -> float: ...
    def direction(self) -> str:
        """The words that stand before a plain wanted value, such as "at least" or "at most"; may be empty."""
        ...

    @property
    def plain_meaning(self) -> str:
        """What a plain value in a baseline asks for, in a sentence."""
        ...


# Kinds are declared once and never compared: without generated methods a survey starts faster.
@frozen(eq=False, repr=False)
class YesNo:
    """Yes or no. ``stricter`` is the strict answer."""

    stricter: bool

    @property
    def accepted(self) -> str:
        return "true or false"

    def parse(self, raw: object) -> Value:
        if isinstance(raw, bool):
            return raw
        if isinstance(raw, str) and raw.lower() in ("yes", "no", "true", "false"):
            return raw.lower() in ("yes", "true")
        raise Unacceptable(raw, self.accepted)

    def dump(self, value: Value) -> object:
        return bool(value)

    def say(self, value: Value) -> str:
        return "yes" if value else "no"

    def rank(self, value: Value) -> float:
        return float(value is self.stricter)

    def direction(self) -> str:
        return ""

    @property
    def plain_meaning(self) -> str:
        return f"that answer; {self.say(self.stricter)} is the strict one, and always meets it"


@frozen(eq=False, repr=False)
class Count:
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
        if isinstance(raw, str) and raw.isascii() and raw.isdigit() and len(raw) < 10:
            raw = int(raw)
        if isinstance(raw, bool) or not isinstance(raw, int) or not self.low <= raw <= self.high:
            raise Unacceptable(raw, self.accepted, nearest(raw, list(self.words)))
        return raw

    def dump(self, value: Value) -> object:
        return value

    def say(self, value: Value) -> str:
        if isinstance(value, str):
            return value
        return f"{value} {singular(self.unit) if value == 1 else self.unit}"

    def amount(self, value: Value) -> float:
        """The value's place on the plain number scale, special words included."""
        return self.words[value] if isinstance(value, str) else float(_number(value))

    def rank(self, value: Value) -> float:
        return self.amount(value) if self.more_is_stricter else -self.amount(value)

    def direction(self) -> str:
        return "at least" if self.more_is_stricter else "at most"

    @property
    def plain_meaning(self) -> str:
        return (
            "at least that much; more is stricter" if self.more_is_stricter else "at most that much; less is stricter"
        )


@frozen(eq=False, repr=False)
class Span:
    """A duration from ``low`` to ``high`` in whole ``unit`` (``"minute"`` or ``"day"``), or a special word."""

    unit: str
    low: int
    high: int
    more_is_stricter: bool
    words: Mapping[str, float] = field(factory=dict)

    @property
    def accepted(self) -> str:
        limits = f"{self.low} to {self.high} {self.unit}s, written with its unit"
        return _with_words(f"a duration of {limits}", self.words)

    def parse(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.words:
            return raw
        bare = isinstance(raw, int) and not isinstance(raw, bool)
        if bare or (isinstance(raw, str) and raw.isascii() and raw.isdigit()):
            raise Unacceptable(raw, self.accepted, f"{raw} {self.unit}s")
        try:
            span = parse_duration(raw, self.accepted)
        except Unacceptable as unacceptable:
            raise Unacceptable(raw, self.accepted, unacceptable.nearest or nearest(raw, list(self.words))) from None
        count, rest = divmod(span.total_seconds(), _UNITS[self.unit])
        if rest or not self.low <= count <= self.high:
            raise Unacceptable(raw, self.accepted)
        return span

    def dump(self, value: Value) -> object:
        return self.say(value)

    def say(self, value: Value) -> str:
        if value == timedelta():
            return f"0 {self.unit}s"
        return say_duration(value) if isinstance(value, timedelta) else str(value)

    def amount(self, value: Value) -> float:
        """The value in seconds, special words included."""
        return self.words[value] if isinstance(value, str) else _span(value).total_seconds()

    def rank(self, value: Value) -> float:
        return self.amount(value) if self.more_is_stricter else -self.amount(value)

    def direction(self) -> str:
        return "at least" if self.more_is_stricter else "at most"

    @property
    def plain_meaning(self) -> str:
        return (
            "at least that much; more is stricter" if self.more_is_stricter else "at most that much; less is stricter"
        )


@frozen(eq=False, repr=False)
class Choice:
    """One of a few words, listed from the loosest to the strictest."""

    options: tuple[str, ...]

    @property
    def accepted(self) -> str:
        return "one of " + ", ".join(f'"{o}"' for o in self.options)

    def parse(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.options:
            return raw
        raise Unacceptable(raw, self.accepted, nearest(raw, self.options))

    def dump(self, value: Value) -> object:
        return value

    def say(self, value: Value) -> str:
        return str(value)

    def rank(self, value: Value) -> float:
        return float(self.options.index(str(value)))

    def direction(self) -> str:
        return ""

    @property
    def plain_meaning(self) -> str:
        return f"that or stricter; from the loosest to the strictest: {', '.join(self.options)}"


NOT_SHIPPED = "not-shipped"


@frozen(eq=False, repr=False)
class Name:
    """The name of a built-in account; ``"not-shipped"`` asks for any other name than the shipped one."""

    @property
    def accepted(self) -> str:
        return f'an account name, or "{NOT_SHIPPED}" for any other than the shipped one'

    def parse(self, raw: object) -> Value:
        if not isinstance(raw, str) or not raw.strip() or not raw.isprintable():
            raise Unacceptable(raw, self.accepted)
        return BuiltinName(raw, shipped=False)

    def dump(self, value: Value) -> object:
        return value.name if isinstance(value, BuiltinName) else value

    def say(self, value: Value) -> str:
        if isinstance(value, BuiltinName):
            if value.name == NOT_SHIPPED:
                return "any name but the shipped one"
            return f"{value.name} (as shipped)" if value.shipped else value.name
        return str(value)

    def rank(self, value: Value) -> float:
        return float(isinstance(value, BuiltinName) and not value.shipped)

    def direction(self) -> str:
        return ""

    @property
    def plain_meaning(self) -> str:
        return "that name, whatever its case"

    def matches(self, value: Value, wanted: Value) -> bool:
        """Whether the account bears the wanted name, compared without case; any new name will do for not-shipped."""
        if not (isinstance(value, BuiltinName) and isinstance(wanted, BuiltinName)):
            return False
        if wanted.name == NOT_SHIPPED:
            return not value.shipped
        return value.name.casefold() == wanted.name.casefold()


@frozen(eq=False, repr=False)
class NameSet:
    """A set of words of which the machine may use any, and no other. A smaller set is stricter."""

    options: tuple[str, ...]

    @property
    def accepted(self) -> str:
        return "a list of " + ", ".join(f'"{o}"' for o in self.options)

    def parse(self, raw: object) -> Value:
        items = [raw] if isinstance(raw, str) else list(raw) if isinstance(raw, list | tuple) else None
        if not items:
            raise Unacceptable(raw, self.accepted)
        for item in items:
            if item not in self.options:
                raise Unacceptable(item, self.accepted, nearest(item, self.options))
        return frozenset(items)

    def dump(self, value: Value) -> object:
        return sorted(value) if isinstance(value, frozenset) else value

    def say(self, value: Value) -> str:
        return ", ".join(sorted(value)) if isinstance(value, frozenset) and value else "none"

    def rank(self, value: Value) -> float:
        return -float(len(value)) if isinstance(value, frozenset) else -math.inf

    def direction(self) -> str:
        return "only"

    @property
    def plain_meaning(self) -> str:
        return "any of these and no other"


def singular(unit: str) -> str:
    """``wrong tries`` -> ``wrong try``; ``characters`` -> ``character``."""
    return unit[:-3] + "y" if unit.endswith("ies") else unit.removesuffix("s")


def _number(value: Value) -> int:
    assert isinstance(value, int)
    return value


def _span(value: Value) -> timedelta:
    assert isinstance(value, timedelta)
    return value


def _with_words(text: str, words: Mapping[str, float]) -> str:
    return text + "".join(f', or "{word}"' for word in words)
