"""One of a few words, the name of a built-in account, and a notice."""

from attrs import frozen

from verrou.core.values.kind import (
    TEXT,
    BuiltinName,
    JsonSchema,
    Kind,
    Members,
    Notice,
    Unacceptable,
    Value,
    ValueData,
    either,
    exactly,
    nearest,
)


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


@frozen(eq=False, repr=False)
class Words(Kind):
    """A title and a text that people read.

    It has no order: the words are the required ones or not; an empty requirement asks for nothing."""

    @property
    def keys(self) -> frozenset[str]:
        return frozenset({"title", "text"})

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
