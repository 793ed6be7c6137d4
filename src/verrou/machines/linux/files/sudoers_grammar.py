"""The grammar of sudoers(5): one logical line after the other, as typed entries.

An invalid line is an entry too, since sudo skips that line alone."""

import re
from collections.abc import Callable, Iterator, Sequence
from enum import StrEnum
from typing import TypeAlias, TypeVar

from attrs import define, field, frozen

MOST_PARTS = 100_000
"""How many parts a line may have before it counts as broken: nothing that a person wrote has as many."""


class What(StrEnum):
    """Type of a list member."""

    ALL = "ALL"
    NAME = "name"
    ALIAS = "alias"
    NUMBER = "number"
    GROUP = "group"
    GROUP_NUMBER = "group number"
    ELSEWHERE = "kept elsewhere"
    """A netgroup, or a group that a plug-in knows: this machine's files do not say who is in it."""
    COMMAND = "command"


@frozen(repr=False)
class Member:
    """One member of a list of users, runas users, hosts or commands. ``negated``: it excludes what it matches."""

    what: What
    text: str
    negated: bool = False


@frozen(repr=False)
class Allowance:
    """One command of an entry.

    With its target (None: the runas default; an empty tuple: the user itself), whether a password is asked for (None:
    by the defaults), and its validity dates."""

    command: Member
    runas: tuple[Member, ...] | None = None
    asks_password: bool | None = None
    not_before: str = ""
    not_after: str = ""


@frozen(repr=False)
class Privilege:
    """Commands on some hosts."""

    hosts: tuple[Member, ...]
    allowances: tuple[Allowance, ...]


@frozen(repr=False)
class UserSpec:
    """Users with their privileges; ``rest`` is the line after the users, as written."""

    users: tuple[Member, ...]
    privileges: tuple[Privilege, ...]
    rest: str


@frozen(repr=False)
class Alias:
    """A name for a list; ``kind`` is User, Runas, Host or Cmnd."""

    kind: str
    name: str
    members: tuple[Member, ...]


@frozen(repr=False)
class DefaultsEntry:
    """One setting and its scope: none, ``@`` hosts, ``:`` users, ``>`` runas users or ``!`` commands.

    ``value`` is True or False for a switch."""

    scope: str
    members: tuple[Member, ...]
    name: str
    value: str | bool


@frozen(repr=False)
class Include:
    """Another file, or with ``folder`` all of one."""

    path: str
    folder: bool


@frozen(repr=False)
class Unusable:
    """A line, or a part of one, that is not understood; ``why`` says what was found."""

    why: str


Parsed: TypeAlias = UserSpec | Alias | DefaultsEntry | Include | Unusable


class _Wrong(Exception):
    """A syntax error: what was found instead."""


class _NoPath(_Wrong):
    """A word where a command's path is expected."""


_INCLUDE = re.compile(r"[ \t]*[@#]include(dir)?[ \t]+(.*)", re.DOTALL)
_ALIASES = re.compile(r"[ \t]*(User|Runas|Host|Cmnd|Cmd)_Alias[ \t]+")
_DEFAULTS = re.compile(r"[ \t]*Defaults(?:([:@>!])|[ \t]+|$)")
_ALIAS_NAME = re.compile(r"[A-Z][A-Z0-9_]*")
_TAG = re.compile(r"(NO)?(PASSWD|EXEC|SETENV|LOG_INPUT|LOG_OUTPUT|MAIL|FOLLOW|INTERCEPT)[ \t]*:")
_OPTION = re.compile(
    r"(ROLE|TYPE|APPARMOR_PROFILE|PRIVS|LIMITPRIVS|TIMEOUT|CWD|CHROOT|NOTBEFORE|NOTAFTER)[ \t]*=[ \t]*"
)
_DIGEST = re.compile(r"sha(224|256|384|512)[ \t]*:[ \t]*([A-Za-z0-9+/]+={0,2})[ \t]*")
DIGESTS = {
    bits: re.compile(f"[0-9a-fA-F]{{{digits}}}|[A-Za-z0-9+/]{{{signs}}}{fill}")
    for bits, digits, signs, fill in (
        *(("224", 56, 38, "=="), ("256", 64, 43, "=")),
        *(("384", 96, 64, ""), ("512", 128, 86, "==")),
    )
}
"""In hexadecimal digits, or in base 64 with what fills it up."""
_NUMBER = re.compile(r"#(-?\d+)", re.ASCII)
_WORD = re.compile(r"(?:\\[^\n]|[^#>!=:,()\s\\\"])+")
_OPTION_VALUE = re.compile(r"\"(?:\\.|[^\"\\\n])*\"|(?:\\[^\n]|[^\s,\\])+")
_UNQUOTED = re.compile(r"(?:\\[^\n]|[^\s,\\\"])+")
_QUOTED = re.compile(r"\"((?:\\.|[^\"\\])+)\"")
_PATH = re.compile(r"/(?:\\[,:= \t#]|\\[^\n]|[^,:=\\\s#])*")
_ARGUMENTS = re.compile(r"(?:\\[^\n]|[^#:,=\\\n])+")
_NOTHING = re.compile("")
_DATE = re.compile(r"\d{10}(?:\d{2}){0,2}(?:[.,]\d+)?(?:Z|[+-]\d{4})?", re.ASCII)
_PARAMETER = re.compile(r"(!*)[ \t]*([a-z_]+)[ \t]*")


@define(repr=False)
class _LogicalLine:
    """A logical line, read from left to right."""

    text: str
    at: int = 0
    parts: int = field(default=0, init=False)

    def blanks(self) -> None:
        while self.at < len(self.text) and self.text[self.at] in " \t":
            self.at += 1

    def sees(self, sign: str) -> bool:
        return self.text.startswith(sign, self.at)

    def accept(self, sign: str) -> bool:
        self.blanks()
        if not self.sees(sign):
            return False
        self.at += len(sign)
        self.blanks()
        return True

    def match(self, pattern: re.Pattern[str]) -> re.Match[str] | None:
        found = pattern.match(self.text, self.at)
        if found:
            self.at = found.end()
        return found

    def needs(self, pattern: re.Pattern[str], what: str) -> re.Match[str]:
        self.blanks()
        found = self.match(pattern)
        if found is None:
            raise _Wrong(f"{what} is missing before {self.rest()!r}")
        return found

    def rest(self) -> str:
        return self.text[self.at : self.at + 20]

    @property
    def done(self) -> bool:
        self.blanks()
        return self.at >= len(self.text)

    def end(self) -> None:
        if not self.done:
            raise _Wrong(f"{self.rest()!r} is not understood")

    def counted(self) -> None:
        self.parts += 1
        if self.parts > MOST_PARTS:
            raise _Wrong(f"it has more than {MOST_PARTS} parts")


def parsed(text: str) -> Iterator[Parsed]:
    """Yield the meaning of one logical line (without comments)."""
    if not text.strip():
        return
    try:
        yield from _parsed(text)
    except _Wrong as wrong:
        yield Unusable(str(wrong))


def _parsed(text: str) -> Iterator[Parsed]:
    if include := _INCLUDE.fullmatch(text):
        yield _include(include[2], folder=bool(include[1]))
    elif aliases := _ALIASES.match(text):
        kind = "Cmnd" if aliases[1] == "Cmd" else aliases[1]
        yield from _aliases(_LogicalLine(text, aliases.end()), kind)
    elif defaults := _DEFAULTS.match(text):
        yield from _defaults(_LogicalLine(text, defaults.end()), defaults[1] or "")
    else:
        yield from _entry(_LogicalLine(text))


def _include(text: str, *, folder: bool) -> Include:
    quoted = re.fullmatch(r"[ \t]*\"([^\"]*)\"[ \t]*(#.*)?", text)
    if quoted:
        return Include(quoted[1], folder)
    word = re.match(r"(?:\\.|[^\s\\#])+", text)
    rest = text[word.end() :].strip() if word else text
    if word is None or (rest and not rest.startswith("#")):
        raise _Wrong(f"an include of {text.strip()[:40]!r}")
    return Include(re.sub(r"\\(.)", r"\1", word[0]), folder)


def _aliases(line: _LogicalLine, kind: str) -> Iterator[Parsed]:
    one = {"User": _user, "Runas": _user, "Host": _host, "Cmnd": _command}[kind]

    def alias() -> Alias:
        name = line.needs(_ALIAS_NAME, "the name of an alias")[0]
        if name == "ALL":
            raise _Wrong("ALL is not a name for an alias")
        if not line.accept("="):
            raise _Wrong(f"= is missing after {name}")
        return Alias(kind, name, _list(line, one))

    yield from _parts(line, alias)


P = TypeVar("P")


def _parts(line: _LogicalLine, one: Callable[[], P]) -> "Iterator[P | Unusable]":
    """Yield the parts between colons.

    An error spoils the whole line, except in a later part at whose end it is found: then the parts before it count, and
    sudo continues behind it."""
    parts: list[P | Unusable] = [one()]
    while not line.done:
        if not line.accept(":"):
            raise _Wrong(f"{line.rest()!r} is not understood")
        try:
            parts.append(one())
        except _Wrong as wrong:
            line.match(_WORD if isinstance(wrong, _NoPath) else _NOTHING)
            if not line.done and not line.sees(":"):
                raise
            parts.append(Unusable(str(wrong)))
    yield from parts


def _list(line: _LogicalLine, one: Callable[[_LogicalLine], Member]) -> tuple[Member, ...]:
    members = [_negatable(line, one)]
    while line.accept(","):
        members.append(_negatable(line, one))
    return tuple(members)


def _negatable(line: _LogicalLine, one: Callable[[_LogicalLine], Member]) -> Member:
    line.counted()
    negated = False
    while line.accept("!"):
        negated = not negated
    if negated and one is _command and _DIGEST.match(line.text, line.at):
        raise _Wrong(f"! must follow the digest, before {line.rest()!r}")
    member = one(line)
    line.blanks()
    return Member(member.what, member.text, negated is not member.negated)


def _user(line: _LogicalLine) -> Member:
    if line.sees("+"):
        line.at += 1
        return Member(What.ELSEWHERE, f"+{_word(line)}")
    if line.sees("%"):
        line.at += 1
        if line.sees(":"):
            line.at += 1
            text = line.match(_NUMBER)
            return Member(What.ELSEWHERE, f"%:{text[0] if text else _name(line)}")
        if number := line.match(_NUMBER):
            return Member(What.GROUP_NUMBER, number[1])
        return Member(What.GROUP, _name(line))
    if number := line.match(_NUMBER):
        return Member(What.NUMBER, number[1])
    if line.sees('"'):
        quoted = _name(line)
        if quoted[:1] in ("%", "+"):
            return _user(_LogicalLine(_escaped(quoted)))
        return Member(What.NAME, quoted)
    return _plain(line)


def _escaped(text: str) -> str:
    """Return a quoted text as one word."""
    return text[0] + re.sub(r"([^\w%:#+.-])", r"\\\1", text[1:])


def _host(line: _LogicalLine) -> Member:
    if _TAG.match(line.text, line.at):
        raise _Wrong(f"{line.rest()!r} is not a host")
    if line.sees("+"):
        line.at += 1
        return Member(What.ELSEWHERE, f"+{_word(line)}")
    if line.sees('"'):
        return Member(What.NAME, _name(line))
    address = line.match(re.compile(r"[0-9a-fA-F]*:[0-9a-fA-F:.]*:[0-9a-fA-F:.]*(?:/[0-9a-fA-F:.]+)?"))
    return Member(What.NAME, address[0]) if address else _plain(line)


def _plain(line: _LogicalLine) -> Member:
    raw = line.match(_WORD)
    if raw is None:
        raise _Wrong(f"a name is missing before {line.rest()!r}")
    if raw[0] == "ALL":
        return Member(What.ALL, "ALL")
    what = What.ALIAS if _ALIAS_NAME.fullmatch(raw[0]) else What.NAME
    return Member(what, _unescaped(raw[0]))


def _word(line: _LogicalLine) -> str:
    found = line.match(_WORD)
    if found is None:
        raise _Wrong(f"a name is missing before {line.rest()!r}")
    return _unescaped(found[0])


def _name(line: _LogicalLine) -> str:
    """Return a name, quoted or not."""
    if quoted := line.match(_QUOTED):
        return re.sub(r"\\\"", '"', quoted[1])
    return _word(line)


def _unescaped(text: str) -> str:
    hexed = re.sub(r"\\x([0-9a-fA-F]{2})", lambda found: chr(int(found[1], 16)), text)
    return re.sub(r"\\(.)", r"\1", hexed)


def _command(line: _LogicalLine) -> Member:
    start = line.at
    while digest := line.match(_DIGEST):
        if not DIGESTS[digest[1]].fullmatch(digest[2]):
            raise _Wrong(f"{digest[2][:20]!r} is not a digest of sha{digest[1]}")
        line.accept(",")
    digests = line.text[start : line.at]
    if digests and line.accept("!"):
        bare = _command(line)
        return Member(bare.what, digests + bare.text, not bare.negated)
    if path := line.match(_PATH):
        return Member(What.COMMAND, digests + path[0] + ("" if path[0].endswith("/") else _arguments(line)))
    if pattern := line.match(re.compile(r"\^[^\s]*\$")):
        return Member(What.COMMAND, pattern[0] + _arguments(line))
    start = line.at
    word = line.match(re.compile(r"[A-Za-z][A-Za-z0-9_]*"))
    if word is None:
        raise _Wrong(f"a command is missing before {line.rest()!r}")
    if word[0] in ("sudoedit", "list"):
        return Member(What.COMMAND, word[0] + _arguments(line))
    if word[0] == "ALL" and digests:
        return Member(What.COMMAND, f"{digests}ALL")
    if word[0] == "ALL":
        return Member(What.ALL, "ALL")
    if not _ALIAS_NAME.fullmatch(word[0]):
        line.at = start
        raise _NoPath(f"{word[0]!r} is not a command: a path is needed")
    if digests:
        raise _Wrong("a digest must be followed by a path")
    return Member(What.ALIAS, word[0])


def _arguments(line: _LogicalLine) -> str:
    if line.at < len(line.text) and line.text[line.at] in " \t":
        found = line.match(_ARGUMENTS)
        return f" {found[0].strip()}".rstrip() if found else ""
    return ""


def _entry(line: _LogicalLine) -> Iterator[Parsed]:
    line.blanks()
    users = _list(line, _user)
    rest = line.text[line.at :]

    def privilege() -> Privilege:
        hosts = _list(line, _host)
        if not line.accept("="):
            raise _Wrong(f"= is missing before {line.rest()!r}")
        return Privilege(hosts, tuple(_allowances(line)))

    parts = list(_parts(line, privilege))
    yield UserSpec(users, tuple(part for part in parts if isinstance(part, Privilege)), rest)
    yield from (part for part in parts if isinstance(part, Unusable))


def _allowances(line: _LogicalLine) -> Iterator[Allowance]:
    """Yield the commands of a privilege: tags and runas lists apply to those after them, too."""
    runas: tuple[Member, ...] | None = None
    asks: bool | None = None
    dates = {"NOTBEFORE": "", "NOTAFTER": ""}
    while True:
        line.blanks()
        if line.accept("("):
            runas = _runas(line)
        while option := line.match(_OPTION):
            value = line.needs(_UNQUOTED, f"a value of {option[1]}")[0]
            if option[1] in dates:
                if not _DATE.fullmatch(value):
                    raise _Wrong(f"{value[:40]!r} is not a date for {option[1]}")
                dates[option[1]] = value
            line.blanks()
        while tag := line.match(_TAG):
            if tag[2] == "PASSWD":
                asks = tag[1] is None
            line.blanks()
        command = _negatable(line, _command)
        yield Allowance(command, runas, asks, dates["NOTBEFORE"], dates["NOTAFTER"])
        if not line.accept(","):
            return


NOBODY_ELSE: tuple[Member, ...] = ()
"""Runas users where only groups, or no one, is named: the user itself."""


def _runas(line: _LogicalLine) -> tuple[Member, ...]:
    users = NOBODY_ELSE
    line.blanks()
    if not line.sees(":") and not line.sees(")"):
        users = _list(line, _user)
    if line.accept(":") and (users or not line.sees(")")):
        _list(line, _runas_group)
    if not line.accept(")"):
        raise _Wrong(f") is missing before {line.rest()!r}")
    return users


def _runas_group(line: _LogicalLine) -> Member:
    if line.sees("%") or line.sees("+"):
        raise _Wrong(f"{line.rest()!r} is not a group that a command could run with")
    return _user(line)


def _defaults(line: _LogicalLine, scope: str) -> Iterator[Parsed]:
    members: tuple[Member, ...] = ()
    if scope:
        line.blanks()
        members = _list(line, {"@": _host, ":": _user, ">": _user, "!": _command_name}[scope])
    found: list[Parsed] = []
    while True:
        parameter = line.needs(_PARAMETER, "a setting")
        line.blanks()
        value: str | bool = len(parameter[1]) % 2 == 0
        if operator := line.match(re.compile(r"[+-]?=[ \t]*")):
            quoted = line.match(_QUOTED)
            raw = quoted[1] if quoted else (line.match(_OPTION_VALUE) or [""])[0]
            value = _unescaped(raw) if operator[0].strip() == "=" else f"{operator[0].strip()}{raw}"
        found.append(DefaultsEntry(scope, members, parameter[2], value))
        if not line.accept(","):
            break
    line.end()
    yield from found


def _command_name(line: _LogicalLine) -> Member:
    """Return a command of a Defaults line, which has no arguments."""
    line.counted()
    if path := line.match(_PATH):
        return Member(What.COMMAND, path[0])
    return _plain(line)


def logical_lines(lines: Sequence[str]) -> Iterator[tuple[int, str]]:
    """Join lines that end in a backslash and remove comments, each with the number of its first line, from 1.

    A carriage return belongs to the end of a line."""
    first = 0
    parts: list[str] = []
    for number, line in enumerate(lines, start=1):
        first, line = first or number, _without_return(line)
        if not parts and _INCLUDE.fullmatch(line):
            yield number, line
            first = 0
            continue
        bare, commented = _without_comment(line)
        if not commented and bare.endswith("\\") and not bare.endswith("\\\\"):
            parts.append(bare[:-1])
            continue
        yield first, " ".join((*parts, bare))
        first, parts = 0, []
    if parts:
        yield first, " ".join(parts)


def _without_return(line: str) -> str:
    """Remove a carriage return at the end of a line, which belongs to the line's end."""
    return line.removesuffix("\r")


def goes_on_at_its_end(lines: Sequence[str]) -> bool:
    """Return whether the last line of a file is continued, and nothing follows."""
    if not lines:
        return False
    bare, commented = _without_comment(_without_return(lines[-1]))
    return not commented and bare.endswith("\\") and not bare.endswith("\\\\")


_GLUED = re.compile(r"[^\s,=(:!>]\\\r$")


def told_apart_by_return(line: str) -> bool:
    """Return whether a line ends in a backslash and a carriage return, whose meaning depends on the text before.

    They are part of a word, or continue the line."""
    return _GLUED.search(line) is not None


def _without_comment(text: str) -> tuple[str, bool]:
    """Return the text before its comment, and whether there is one.

    ``#`` begins a comment anywhere, except before a number at the beginning of a word, within quotes, and after a
    backslash."""
    quoted = False
    at = 0
    while at < len(text):
        sign = text[at]
        if sign == "\\":
            at += 2
            continue
        if sign == '"':
            quoted = not quoted
        elif sign == "#" and not quoted:
            is_number = re.match(r"#-?[0-9]", text[at : at + 3])
            at_word = at == 0 or text[at - 1] in " \t,!(:%>=@"
            if not (is_number and at_word):
                return text[:at], True
        at += 1
    return text, False
