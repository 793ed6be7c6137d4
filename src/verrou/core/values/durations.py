"""Durations: as people write them, in ISO 8601, and as a kind of value."""

import re
from collections.abc import Mapping
from datetime import timedelta

from attrs import field, frozen

from verrou.core.values.kind import (
    JsonSchema,
    Scale,
    Unacceptable,
    Value,
    ValueData,
    either,
    exactly,
    nearest,
    with_words,
    word_schemas,
)

ISO_DURATION = r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?"


def iso_duration(span: timedelta) -> str:
    """Return a duration as ISO 8601 writes it: ``P90D``, ``PT45M``, ``P1DT2H``."""
    minutes, seconds = divmod(span.seconds, 60)
    hours, minutes = divmod(minutes, 60)
    times = "".join(f"{count}{sign}" for count, sign in ((hours, "H"), (minutes, "M"), (seconds, "S")) if count)
    days = f"{span.days}D" if span.days or not times else ""
    return f"P{days}{f'T{times}' if times else ''}"


def from_iso(text: str) -> timedelta | None:
    match = re.fullmatch(ISO_DURATION, text)
    if match is None or not any(match.groups()) or any(len(part or "") > 9 for part in match.groups()):
        return None
    days, hours, minutes, seconds = (int(part or 0) for part in match.groups())
    return timedelta(days=days, hours=hours, minutes=minutes, seconds=seconds)


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
        return with_words(f"a duration of {self.format(low)} to {self.format(high)}, with its unit", self.words)

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
        span = from_iso(raw) if isinstance(raw, str) else None
        return parse_duration(raw) if span is None else span

    def dump(self, value: Value) -> ValueData:
        return {"word": value} if isinstance(value, str) else {"duration": iso_duration(span_of(value))}

    def written(self, value: Value) -> object:
        return self.format(value)

    def schema(self) -> JsonSchema:
        duration = {"type": "string", "pattern": f"^{ISO_DURATION}$"}
        return either(exactly(duration=duration), *word_schemas(self.words))

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
        return self.words[value] if isinstance(value, str) else span_of(value).total_seconds()


def span_of(value: Value) -> timedelta:
    assert isinstance(value, timedelta)
    return value
