"""polkit rules that are plain enough to be read: the answer of each to an action, by polkit(8).

Rules are programs: one with anything but conditions on action and subject, and an answer, is not understood, and only
polkit knows its result."""

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from attrs import define, field, frozen

ANSWERS = ("no", "yes", "auth_self", "auth_self_keep", "auth_admin", "auth_admin_keep")
_TOKEN = re.compile(
    r"""(?P<space>\s+|//[^\n\r\u2028\u2029]*|/\*.*?\*/)|(?P<text>"(?:[^"\\\n\r]|\\["\\]|\\u[0-9a-f]{4})*"|'[^'"\\\n\r]*')|(?P<word>[A-Za-z_]\w*)"""
    r"""|(?P<number>-?[0-9]+)|(?P<sign>===|==|!==|!=|>=|&&|\|\||[!(){}\[\].,;?:>])""",
    re.DOTALL,
)


@frozen(repr=False)
class Subject:
    """A user at the machine, with the groups of the account."""

    user: str
    groups: Sequence[str] = ()


Condition = Callable[[str, Subject], bool]
Rule = Callable[[str, Subject], str | None]
"""What a rule answers to an action; None where it leaves that to the next one."""


class NotPlain(Exception):
    """The file contains more than plain rules."""


def plain_rules(text: str) -> list[Rule]:
    """Return the rules of one file, in order; rules about who is an administrator are skipped.

    Raises: NotPlain: it contains something else."""
    return list(_Reader(list(_tokens(text))).rules())


def answer(rules: Sequence[Rule], action: str, who: Subject) -> str | None:
    """Return the first answer of the rules; None where none answers, so that the action's own applies."""
    return next((message for rule in rules if (message := rule(action, who)) is not None), None)


def _tokens(text: str) -> Iterator[str]:
    at = 0
    while at < len(text):
        found = _TOKEN.match(text, at)
        if found is None:
            raise NotPlain
        at = found.end()
        if found.lastgroup != "space":
            yield found[0]


@define(repr=False)
class _Reader:
    """Reads tokens from left to right. ``names`` are the current function's names of action and subject."""

    tokens: list[str]
    at: int = 0
    names: tuple[str, str] = ("", "")
    _depth: int = field(default=0, init=False)

    def rules(self) -> Iterator[Rule]:
        while self.at < len(self.tokens):
            self.needs("polkit", ".")
            kind = self.take()
            self.needs("(", "function", "(")
            action = self.take()
            self.needs(",")
            self.names = (action, self.take())
            self.needs(")", "{")
            if kind == "addRule":
                yield self.statements()
            elif kind == "addAdminRule":
                self.list_of_administrators()
            else:
                raise NotPlain
            self.needs(")")
            self.accept(";")

    def list_of_administrators(self) -> None:
        self.needs("return")
        self.texts()
        self.accept(";")
        self.needs("}")

    def statements(self) -> Rule:
        """Return the statements up to the closing brace: the first that answers decides."""
        found: list[Rule] = []
        while not self.accept("}"):
            found.append(self.statement())
        return lambda action, who: next((message for each in found if (message := each(action, who)) is not None), None)

    def statement(self) -> Rule:
        self.deeper()
        if self.accept("{"):
            return self.statements()
        if self.accept("if"):
            self.needs("(")
            condition = self.either()
            self.needs(")")
            then = self.statement()
            otherwise = self.statement() if self.accept("else") else _nothing
            return lambda action, who: then(action, who) if condition(action, who) else otherwise(action, who)
        self.needs("return")
        found = self.result()
        self.accept(";")
        return found

    def result(self) -> Rule:
        at = self.at
        try:
            condition = self.either()
            self.needs("?")
        except NotPlain:
            self.at = at
            return self.plain_result()
        yes = self.plain_result()
        self.needs(":")
        no = self.plain_result()
        return lambda action, who: yes(action, who) if condition(action, who) else no(action, who)

    def plain_result(self) -> Rule:
        token = self.take()
        if token == "polkit":
            self.needs(".", "Result", ".")
            token = self.take().lower()
        else:
            token = _unquoted(token)
        if token not in ANSWERS:
            raise NotPlain  # NOT_HANDLED too: it ends its rule without an answer, and what follows does not run
        return lambda action, who: token

    def either(self) -> Condition:
        self.deeper()
        found = [self.both()]
        while self.accept("||"):
            found.append(self.both())
        return lambda action, who: any(each(action, who) for each in found)

    def both(self) -> Condition:
        found = [self.one()]
        while self.accept("&&"):
            found.append(self.one())
        return lambda action, who: all(each(action, who) for each in found)

    def one(self) -> Condition:
        self.deeper()
        if self.accept("!"):
            inner = self.one()
            return lambda action, who: not inner(action, who)
        if self.accept("("):
            inner = self.either()
            self.needs(")")
            return inner
        if self.sees("["):
            listed = self.texts()
            self.needs(".", "indexOf", "(", self.names[0], ".", "id", ")")
            self.is_found()
            return lambda action, who: action in listed
        token = self.take()
        if token in ("true", "false"):
            return lambda action, who: token == "true"
        self.needs(".")
        if token == self.names[0]:
            self.needs("id")
            return self.about(lambda action, who: action)
        if token != self.names[1]:
            raise NotPlain
        match self.take():
            case "user":
                return self.about(lambda action, who: who.user)
            case "isInGroup":
                self.needs("(")
                group = self.text()
                self.needs(")")
                return lambda action, who: group in who.groups
            case "active" | "local":
                return lambda action, who: True  # who is asked about sits at the machine
        raise NotPlain

    def about(self, value: Callable[[str, Subject], str]) -> Condition:
        """Return a condition: a comparison, or the beginning of a text."""
        if self.accept("."):
            method = self.take()
            self.needs("(")
            text = self.text()
            self.needs(")")
            if method == "startsWith":
                return lambda action, who: value(action, who).startswith(text)
            if method != "indexOf":
                raise NotPlain
            sign, number = self.take(), self.take()
            if sign in ("==", "===") and number == "0":
                return lambda action, who: value(action, who).startswith(text)
            if (sign, number) in FOUND:
                return lambda action, who: text in value(action, who)
            raise NotPlain
        sign, text = self.take(), self.text()
        if sign in ("==", "==="):
            return lambda action, who: value(action, who) == text
        if sign in ("!=", "!=="):
            return lambda action, who: value(action, who) != text
        raise NotPlain

    def is_found(self) -> None:
        if (self.take(), self.take()) not in FOUND:
            raise NotPlain

    def texts(self) -> list[str]:
        self.needs("[")
        found: list[str] = []
        while not self.accept("]"):
            found.append(self.text())
            if not self.accept(","):
                self.needs("]")
                break
        return found

    def text(self) -> str:
        return _unquoted(self.take())

    # Tokens

    def deeper(self) -> None:
        self._depth += 1
        if self._depth > MOST_PARTS:
            raise NotPlain

    def sees(self, token: str) -> bool:
        return self.at < len(self.tokens) and self.tokens[self.at] == token

    def accept(self, token: str) -> bool:
        seen = self.sees(token)
        self.at += seen
        return seen

    def take(self) -> str:
        if self.at >= len(self.tokens):
            raise NotPlain
        self.at += 1
        return self.tokens[self.at - 1]

    def needs(self, *tokens: str) -> None:
        for token in tokens:
            if not self.accept(token):
                raise NotPlain


FOUND: Mapping[tuple[str, str], bool] = {(">=", "0"): True, (">", "-1"): True, ("!=", "-1"): True, ("!==", "-1"): True}
"""Comparisons with the result of indexOf that mean it was found."""
MOST_PARTS = 300
"""Parts of one file; a program with more is not read."""


def _nothing(action: str, who: Subject) -> str | None:
    return None


def _unquoted(token: str) -> str:
    if token[:1] not in ("'", '"'):
        raise NotPlain
    return str(json.loads(f'"{token[1:-1]}"', strict=False))  # a string of a program may contain a tab
