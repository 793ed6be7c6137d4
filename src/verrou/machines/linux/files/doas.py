"""doas(1): which commands accounts can run as root, by doas.conf(5).

The last matching rule decides; with a rule that it cannot parse it denies everyone."""

import shlex
import stat
from collections.abc import Iterator

from attrs import define, field, frozen

from verrou.core.model import Source
from verrou.log import Log
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.files.sudoers import NONE, Elevation, PasswordOwner, Person
from verrou.machines.linux.root import Root

LOG = Log(__name__)

DOAS_CONF = "/etc/doas.conf"
PROGRAMS = ("/usr/bin/doas", "/usr/local/bin/doas")
OPTIONS = ("nopass", "persist", "keepenv", "nolog")


@frozen(repr=False)
class Rule:
    """One line: permit or deny, user (or ``:group``), target account, and command."""

    permits: bool
    who: str
    target: str
    command: tuple[str, ...]
    asks: bool
    source: Source
    remembers: bool = False


@define(repr=False)
class Doas:
    """The rules of a system.

    ``unknown`` are lines that are not understood, so that the result is not known. ``passed_over`` says why the file or
    the program does not count; ``program`` is its path, empty where it is not installed."""

    program: str = ""

    rules: list[Rule] = field(factory=list)
    unknown: list[Source] = field(factory=list)
    passed_over: list[Source] = field(factory=list)

    @classmethod
    def load(cls, root: Root) -> "Doas":
        """Read the rules, where the program is installed with its set-user-ID bit."""
        found = cls()
        program = next((path for path in PROGRAMS if root.exists(path)), "")
        if not program or not root.exists(DOAS_CONF):
            return found
        found.program = program
        for path, wrong in ((program, _useless), (DOAS_CONF, _unsafe)):
            try:
                why = wrong(root.place(path).stat().st_mode, root.place(path).stat().st_uid)
            except OSError as error:
                LOG.info("%s: skipped: %s", path, error.strerror)
                continue
            if why:
                found.passed_over.append(Source(path, None, f"{why}, so no one elevates by it"))
        text = root.text(DOAS_CONF) or ""
        if text and not text.endswith("\n"):
            found.passed_over.append(Source(DOAS_CONF, None, "its last line has no end, so no one elevates by it"))
        if not found.passed_over:
            for number, line in _logical(root.lines(DOAS_CONF)):
                found._read(Source(DOAS_CONF, number, line), line)
        return found

    def _read(self, source: Source, line: str) -> None:
        try:
            words = shlex.split(line, comments=True)
        except ValueError:
            words = ["?"]
        if not words:
            return
        action, rest = words[0], words[1:]
        asks, in_braces, remembers = True, False, False
        while rest and (in_braces or rest[0] in OPTIONS or rest[0] == "setenv"):
            word = rest.pop(0)
            in_braces = (in_braces or word == "setenv") and "}" not in word
            asks, remembers = asks and word != "nopass", remembers or word == "persist"
        who, target, command = rest[0] if rest else "", "", tuple[str, ...]()
        rest = rest[1:]
        if rest[:1] == ["as"] and len(rest) > 1:
            target, rest = rest[1], rest[2:]
        if rest[:1] == ["cmd"] and len(rest) > 1:
            command, rest = tuple(each for each in rest[1:] if each != "args"), []
        if action not in ("permit", "deny") or not who or rest:
            self.unknown.append(Source(source.place, source.line, f"{line} is not understood"))
            return
        self.rules.append(Rule(action == "permit", who, target, command, asks, source, remembers))

    def elevation(self, person: Person) -> Elevation:
        """Return what an account can run as root, as far as it is known."""
        if self.unknown or not self.rules:
            return NONE
        mine = [rule for rule in self.rules if rule.target in ("", "root", "0") and _is_about(rule, person)]
        whole = [rule for rule in mine if not rule.command]
        decides = whole[-1] if whole else None
        if decides is not None and decides.permits:
            password = PasswordOwner.OWN if decides.asks else PasswordOwner.NONE
            return Elevation(everything=True, password=password, sources=(decides.source,))
        later = mine[mine.index(decides) + 1 :] if decides is not None else mine
        some = [rule for rule in later if rule.permits]
        if not some:
            return NONE
        password = PasswordOwner.OWN if any(rule.asks for rule in some) else PasswordOwner.NONE
        commands = tuple(dict.fromkeys(" ".join(rule.command) for rule in some))
        return Elevation(commands=commands, password=password, sources=tuple(rule.source for rule in some))

    def what_counts_of(self, person: Person) -> tuple[Rule, ...]:
        """Return the rules about a person: all that distinguishes it from others."""
        return tuple(rule for rule in self.rules if _is_about(rule, person))

    def by_group(self, group: str, gid: int) -> tuple[Source, ...]:
        """Return the line that makes administrators of a group's members."""
        found = self.elevation(Person("", -1, (group,), (gid,)))
        return found.sources if found.everything else ()


def either(one: Elevation, other: Elevation) -> Elevation:
    """Return what an account can do with two programs for elevation."""
    if other.everything and (not one.everything or other.password is PasswordOwner.NONE):
        return other
    if one.everything or not other.sources:
        return one
    return (
        other
        if not one.sources
        else Elevation(
            commands=tuple(dict.fromkeys((*one.commands, *other.commands))),
            but=one.but,
            password=one.password,
            sources=(*one.sources, *other.sources),
            whose=one.whose,
        )
    )


def _is_about(rule: Rule, person: Person) -> bool:
    if rule.who.startswith(":"):
        group = rule.who[1:]
        return group in person.groups or digits(group) in person.gids
    return rule.who == person.name or digits(rule.who) == person.uid


def _useless(mode: int, owner: int) -> str:
    if owner != 0:
        return "it does not belong to root"
    return "" if mode & stat.S_ISUID else "it lacks its set-user-ID bit"


def _unsafe(mode: int, owner: int) -> str:
    if owner != 0:
        return "it does not belong to root"
    return "others can write it" if mode & (stat.S_IWGRP | stat.S_IWOTH) else ""


def _logical(lines: list[str]) -> Iterator[tuple[int, str]]:
    """Yield lines joined after a backslash, each with the number of its first."""
    begun, first = "", 0
    for number, line in enumerate(lines, start=1):
        first = first or number
        if line.endswith("\\"):
            begun += line[:-1] + " "
            continue
        yield first, (begun + line).strip()
        begun, first = "", 0
    if begun.strip():
        yield first, begun.strip()
