"""Yes or no, and numbers."""

from collections.abc import Mapping

from attrs import field, frozen

from verrou.core.values.kind import (
    JsonSchema,
    Kind,
    Scale,
    Unacceptable,
    Value,
    ValueData,
    either,
    exactly,
    nearest,
    number_of,
    seen_number,
    singular,
    typed_number,
    with_words,
    word_schemas,
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
        return with_words(f"a whole number from {self.low} to {self.high}", self.words)

    def parse(self, raw: object) -> Value:
        if isinstance(raw, str) and raw in self.words:
            return raw
        if isinstance(raw, bool) or not isinstance(raw, int) or not self.low <= raw <= self.high:
            raise Unacceptable(raw, self.accepted, nearest(raw, list(self.words)))
        return raw

    def parse_text(self, text: str) -> Value:
        return self.parse(typed_number(text))

    def _load(self, raw: object) -> Value:
        return seen_number(raw) if isinstance(raw, int) else self.parse(raw)

    def dump(self, value: Value) -> ValueData:
        return {"word": value} if isinstance(value, str) else {"number": number_of(value), "unit": self.unit}

    def schema(self) -> JsonSchema:
        return either(exactly(number={"type": "integer"}, unit={"const": self.unit}), *word_schemas(self.words))

    def written_schema(self) -> JsonSchema:
        number = {"type": "integer", "minimum": self.low, "maximum": self.high}
        return either(number, *([{"enum": list(self.words)}] if self.words else []))

    def format(self, value: Value) -> str:
        if isinstance(value, str):
            return value
        return f"{value} {singular(self.unit) if value == 1 else self.unit}"

    def amount(self, value: Value) -> float:
        """Return the value's place on the plain number scale, special words included."""
        return self.words[value] if isinstance(value, str) else float(number_of(value))
