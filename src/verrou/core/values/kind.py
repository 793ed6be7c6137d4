"""What every kind of value offers, so that baseline files, screens, survey files, comparison and machines need to know
nothing else: type, range, special words, and which direction is stricter."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, Any, ClassVar, TypeAlias, TypedDict

from attrs import frozen

if TYPE_CHECKING:
    from verrou.core.model.facts import Effect


@frozen(repr=False)
class BuiltinName:
    """Name of a built-in account, and whether it still is the original one."""

    name: str
    original: bool


@frozen(repr=False)
class Notice:
    """Text shown at the machine before sign-in."""

    title: str = ""
    text: str = ""

    @property
    def words(self) -> list[str]:
        """Title and text without their spacing, by which two notices are compared."""
        return f"{self.title} {self.text}".split()


@frozen(repr=False)
class Cells:
    """One word for each of several things: pairs of the thing's key and its word, in the order of their kind."""

    pairs: tuple[tuple[str, str], ...]

    @property
    def words(self) -> dict[str, str]:
        """By thing its word."""
        return dict(self.pairs)


@frozen(repr=False)
class CommandRights:
    """Who may run which commands: pairs of an account, or ``group:NAME``, and a command."""

    pairs: frozenset[tuple[str, str]] = frozenset()


Value: TypeAlias = bool | int | timedelta | str | frozenset[str] | BuiltinName | Notice | Cells | CommandRights
JsonSchema: TypeAlias = dict[str, Any]
Members: TypeAlias = Mapping[str, Collection[str]]
"""The accounts in each group."""


class ValueData(TypedDict, total=False):
    """A value as plain data: a yes or no, a number with its unit, a duration (ISO 8601), a word, names, a name with
    whether it is the original one, a notice with its title, a word for each of several things, or commands by who may
    run them."""

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
    cells: dict[str, str]
    commands: dict[str, list[str]]


def exactly(**properties: JsonSchema) -> JsonSchema:
    """Return the JSON Schema of an object that has these properties and no other."""
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


def either(*schemas: JsonSchema) -> JsonSchema:
    """Return the JSON Schema of a value that satisfies one of several."""
    return schemas[0] if len(schemas) == 1 else {"anyOf": list(schemas)}


TEXT: JsonSchema = {"type": "string"}
NAMES: JsonSchema = {"type": "array", "items": TEXT}


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


@frozen(repr=False)
class AcceptedValues:
    """Values that one machine accepts for a rule: bounds and special words; None where it sets no bound of its own.

    ``cannot`` says why it accepts nothing, ``why`` why only these words. ``uniform`` says why all cells of a table have
    one value. A value that ``waits`` takes effect only when the event of the rule has happened. ``effect`` is when a
    change takes effect here, where that differs from the rule."""

    least: Value | None = None
    most: Value | None = None
    words: tuple[str, ...] | None = None
    cannot: str = ""
    uniform: str = ""
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

    @property
    def keys(self) -> frozenset[str]:
        """The keys of a table by which a baseline file writes a value, where it does."""
        return frozenset()

    def is_written_as_table(self, raw: Mapping[str, object]) -> bool:
        """Return whether a table of a baseline file is a value itself, and no form around one."""
        return bool(raw) and set(raw) <= self.keys

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

    def accepted_instead(self, value: Value, accepted_values: AcceptedValues) -> Value | None:
        """Return the next stricter value that a machine accepts; None where it accepts none."""
        stricter = [word for word in accepted_values.words or () if self.at_least(word, value)]
        return min(stricter, key=self.rank, default=None)

    def _words_of(self, value: Value) -> set[str]:
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


EVERYONE, NOBODY = "everyone", "nobody"


def singular(unit: str) -> str:
    """Return the singular: ``failed attempts`` -> ``failed attempt``; ``characters`` -> ``character``."""
    return unit[:-3] + "y" if unit.endswith("ies") else unit.removesuffix("s")


def typed_number(text: str) -> int | str:
    """Return the number typed, where the text is one: only in typed text is a number text."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else text


MOST_SEEN = 10**12
"""More than any number that a machine has for a rule; arithmetic on such sizes is safe."""


def seen_number(raw: object) -> int:
    """Return a number read from a machine."""
    if isinstance(raw, bool) or not isinstance(raw, int) or abs(raw) > MOST_SEEN:
        raise Unacceptable(raw, "a whole number")
    return raw


def number_of(value: Value) -> int:
    assert isinstance(value, int)
    return value


def words_of(value: Value) -> frozenset[str]:
    assert isinstance(value, frozenset)
    return value


def cells_of(value: Value) -> dict[str, str]:
    """Return the word of each row of a table."""
    assert isinstance(value, Cells)
    return value.words


def word_schemas(words: Mapping[str, float]) -> list[JsonSchema]:
    return [exactly(word={"enum": list(words)})] if words else []


def with_words(text: str, words: Mapping[str, float]) -> str:
    return text + "".join(f', or "{word}"' for word in words)
