"""A table: one of a few words for each of several things, such as what is required for each kind of program."""

from collections import Counter
from collections.abc import Mapping

from attrs import frozen

from verrou.core.values.kind import (
    AcceptedValues,
    Cells,
    JsonSchema,
    Kind,
    Members,
    Unacceptable,
    Value,
    ValueData,
    cells_of,
    either,
    exactly,
    nearest,
)

ALL = "all"
"""The key of a written table that stands for every row without a key of its own."""


@frozen(eq=False, repr=False)
class Table(Kind):
    """A word for each row, compared cell by cell.

    ``rows`` are the keys of the rows, each with its words in a sentence; ``options`` the words of a cell, from the
    loosest to the strictest. A requirement may leave rows out; the value of a machine has them all."""

    rows: Mapping[str, str]
    options: tuple[str, ...]

    @property
    def accepted(self) -> str:
        words = ", ".join(f'"{each}"' for each in self.options)
        example = f'{{ {ALL} = "{self.options[1]}", {next(iter(self.rows))} = "{self.options[0]}" }}'
        return f"one of {words}; or a table of them by {', '.join(self.rows)} and {ALL}, such as {example}"

    @property
    def keys(self) -> frozenset[str]:
        return frozenset((*self.rows, ALL))

    def uniform(self, word: str) -> Cells:
        """Return the table that has one word in every row."""
        return Cells(tuple((row, word) for row in self.rows))

    def parse(self, raw: object) -> Value:
        raw = {ALL: raw} if isinstance(raw, str) else raw
        if not isinstance(raw, dict) or not raw:
            raise Unacceptable(raw, self.accepted)
        words: dict[str, str] = {}
        for row, word in sorted(raw.items(), key=lambda pair: pair[0] != ALL):
            if row not in self.keys:
                raise Unacceptable(row, self.accepted, nearest(row, sorted(self.keys)))
            if not isinstance(word, str) or word not in self.options:
                raise Unacceptable(word, self.accepted, nearest(word, self.options))
            words |= dict.fromkeys(self.rows, word) if row == ALL else {row: word}
        return self._table(words)

    def parse_text(self, text: str) -> Value:
        """Return the table of a command line: ``WORD``, ``ROW=WORD``, or several with commas between them."""
        written: dict[str, str] = {}
        for each in text.split(","):
            row, equals, word = (part.strip() for part in each.partition("="))
            row, word = (row, word) if equals else (ALL, row)
            if row in written:
                raise Unacceptable(text, f"one word for {row}")
            written[row] = word
        return self.parse(written)

    def _table(self, words: Mapping[str, str]) -> Cells:
        return Cells(tuple((row, words[row]) for row in self.rows if row in words))

    def load(self, data: object) -> Value:
        value = self.parse(data["cells"] if isinstance(data, dict) and "cells" in data else data)
        if missing := self.rows.keys() - cells_of(value).keys():
            raise Unacceptable(data, f"a word for {min(missing)}")
        return value

    def dump(self, value: Value) -> ValueData:
        return {"cells": dict(cells_of(value))}

    def written(self, value: Value) -> object:
        words = cells_of(value)
        if words.keys() < self.rows.keys():
            return words
        base, others = self._base_and_others(words)
        return {ALL: base, **others} if others else base

    def _base_and_others(self, words: Mapping[str, str]) -> tuple[str, dict[str, str]]:
        """Return the word of most rows, of equally many the first, and the rows that have another."""
        base = Counter(words.values()).most_common(1)[0][0]
        return base, {row: word for row, word in words.items() if word != base}

    def schema(self) -> JsonSchema:
        return exactly(cells=self._table_schema(tuple(self.rows)))

    def written_schema(self) -> JsonSchema:
        return either({"enum": list(self.options)}, self._table_schema((*self.rows, ALL)))

    def _table_schema(self, keys: tuple[str, ...]) -> JsonSchema:
        properties: JsonSchema = {key: {"enum": list(self.options)} for key in keys}
        return {"type": "object", "properties": properties, "additionalProperties": False, "minProperties": 1}

    def format(self, value: Value) -> str:
        words = cells_of(value)
        if words.keys() < self.rows.keys():
            return self._by_word(words)
        base, others = self._base_and_others(words)
        return f"{base}, but {self._by_word(others)}" if others else base

    def _by_word(self, words: Mapping[str, str]) -> str:
        """Return the rows of each word: ``nothing for installers, denied for unsigned programs and remote help``."""
        found: dict[str, list[str]] = {}
        for row, word in words.items():
            found.setdefault(word, []).append(self.rows[row])
        return ", ".join(f"{word} for {' and '.join(rows)}" for word, rows in found.items())

    def rank(self, value: Value) -> float:
        return float(sum(map(self.options.index, cells_of(value).values())))

    def same(self, value: Value, required: Value) -> bool:
        return cells_of(required).items() <= cells_of(value).items()

    def at_least(self, value: Value, required: Value) -> bool:
        words, strictness = cells_of(value), self.options.index
        return all(
            row in words and strictness(words[row]) >= strictness(word) for row, word in cells_of(required).items()
        )

    def target(self, value: Value, required: Value) -> Value:
        """Return the table with the stricter word of each row."""
        found = cells_of(value)
        for row, word in cells_of(required).items():
            found[row] = max(word, found.get(row, word), key=self.options.index)
        return self._table(found)

    def resulting(self, value: Value | None, required: Value) -> Value:
        return required if value is None else self._table({**cells_of(value), **cells_of(required)})

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        return self.same(value, required)

    def why_not_accepted(self, value: Value, accepted_values: AcceptedValues) -> str:
        words = cells_of(value)
        mixed = len(set(words.values())) > 1 or words.keys() < self.rows.keys()
        if mixed and accepted_values.uniform and not accepted_values.cannot:
            return f"this machine accepts one value for all of them, since {accepted_values.uniform}"
        return super().why_not_accepted(value, accepted_values)

    def accepted_instead(self, value: Value, accepted_values: AcceptedValues) -> Value | None:
        words = accepted_values.words or self.options
        if accepted_values.uniform:
            stricter = [each for word in words if self.at_least(each := self.uniform(word), value)]
            return min(stricter, key=self.rank, default=None)
        found = {row: self._next_stricter(word, words) for row, word in cells_of(value).items()}
        known = {row: word for row, word in found.items() if word is not None}
        return self._table(known) if len(known) == len(found) else None

    def _next_stricter(self, word: str, words: tuple[str, ...]) -> str | None:
        order = self.options.index
        return min((each for each in words if order(each) >= order(word)), key=order, default=None)

    def _words_of(self, value: Value) -> set[str]:
        return set(cells_of(value).values())

    @property
    def plain_meaning(self) -> str:
        order = ", ".join(self.options)
        return f"in each row that or stricter; from the loosest to the strictest: {order}. A word alone is for all rows"
