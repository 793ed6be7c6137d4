"""Elevation by sudoers(5), as sudo decides it: the last matching entry decides."""

import re
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime, timedelta, timezone
from enum import StrEnum
from fnmatch import fnmatchcase
from typing import NamedTuple, assert_never

from attrs import define, field

from verrou.core.made_often import made_often
from verrou.core.model import Source
from verrou.log import Log
from verrou.machines.linux.files.sudoers_grammar import (
    Alias,
    Allowance,
    DefaultsEntry,
    Include,
    Member,
    Parsed,
    Unusable,
    UserSpec,
    What,
    goes_on_at_its_end,
    logical_lines,
    parsed,
    told_apart_by_return,
)
from verrou.machines.linux.root import Root, host_name

LOG = Log(__name__)

SUDOERS, VENDORS_SUDOERS = "/etc/sudoers", "/usr/etc/sudoers"
"""The administrator's, and the vendor's that counts where there is none."""
OURS = f"{SUDOERS}.d/zz-verrou"
"""What Verrou itself writes: read after all others of its folder, since of several lines about one setting the last
counts."""
PROGRAMS = ("/usr/bin/sudo", "/usr/local/bin/sudo")
DEEPEST = 128
MOST_FILES = 500
"""How many files are read for one sudoers before the rest counts as unreadable; each may include any other again."""
LONGEST = 4_000_000
"""How many characters of a file are read."""


class PasswordOwner(StrEnum):
    """Whose password is asked for."""

    NONE = "none"
    OWN = "own"
    ROOT = "root's"
    TARGET = "the other account's"


@made_often
class Person:
    """A person with name, ID, and groups with theirs."""

    name: str
    uid: int
    groups: tuple[str, ...] = ()
    gids: tuple[int, ...] = ()


NO_NUMBER = -2
"""The user ID of nobody."""
EVERY = "ALL"
"""The word for every command."""
ROOT = Person("root", 0, ("root",), (0,))


@made_often
class Elevation:
    """What an account can do as root.

    ``everything`` (except the commands ``but``), or some ``commands``. ``password`` says whose password is asked for
    and ``whose`` names that account where it is another one; ``sources`` are the lines."""

    everything: bool = False
    commands: tuple[str, ...] = ()
    but: tuple[str, ...] = ()
    password: PasswordOwner = PasswordOwner.OWN
    sources: tuple[Source, ...] = ()
    whose: str = ""


NONE = Elevation()
_ADDRESS = re.compile(r"[0-9.]+(/[0-9.]+)?|[0-9a-fA-F]*:[0-9a-fA-F:.]*(/[0-9]+)?")


class _Alone(NamedTuple):
    """An entry for one user alone, and how many of the others stand before it."""

    name: str
    before: int
    entry: UserSpec
    source: Source


@define(repr=False)
class _Named:
    """Every name and number that occurs in the files."""

    users: set[str] = field(factory=set)
    uids: set[int] = field(factory=set)
    groups: set[str] = field(factory=set)
    gids: set[int] = field(factory=set)
    shared: set[str] = field(factory=set)
    """Of the users those whom something else names than a line for them alone."""
    alone: dict[str, list[_Alone]] = field(factory=dict)
    """The entries for one user alone, by its name in lower case."""
    common: list[tuple[UserSpec, Source]] = field(factory=list)
    """All other entries."""


@define(repr=False)
class Sudoers:
    """All sudoers files of a system, and what sudo skips or no one can know.

    ``installed`` is False without the program: then nothing configured is enforced."""

    installed: bool
    host: str
    entries: list[tuple[UserSpec, Source]] = field(factory=list)
    aliases: dict[tuple[str, str], Alias] = field(factory=dict)
    defaults: list[tuple[DefaultsEntry, Source]] = field(factory=list)
    passed_over: list[Source] = field(factory=list)
    unknown: list[Source] = field(factory=list)
    files: int = 0
    refuses_all: bool = False
    _lines: dict[str, list[tuple[Source, Parsed]]] = field(factory=dict)
    _mentioned: "_Named | None" = None
    _answers: dict[object, Elevation] = field(factory=dict)
    _dates: set[datetime] | None = None

    @classmethod
    def load(cls, root: Root) -> "Sudoers":
        """Read them; sudoers(5) says which files are skipped."""
        program = next((path for path in PROGRAMS if root.exists(path)), "")
        useless = _cannot_elevate(root, program) if program else ""
        found = cls(bool(program) and not useless, _host(root))
        if useless:
            found.passed_over.append(Source(program, None, f"{useless}, so no one elevates by it"))
        if found.installed:
            vendors = not root.exists(SUDOERS) and root.exists(VENDORS_SUDOERS)
            found._read(root, VENDORS_SUDOERS if vendors else SUDOERS, 0)
        return found

    # Reading

    def _read(self, root: Root, file: str, depth: int) -> None:
        if depth > DEEPEST or self.files >= MOST_FILES:
            self.unknown.append(Source(file, None, "included too often, so it is not read again"))
            return
        self.files += 1
        try:
            path = root.place(file)
            now = path.stat()
        except (OSError, ValueError) as error:
            LOG.info("%s: skipped: %s", file, error)
            return
        if not stat.S_ISREG(now.st_mode):
            LOG.info("%s: skipped: not an ordinary file", file)
            return
        if now.st_mode & stat.S_IWOTH or now.st_uid != 0 or (now.st_mode & stat.S_IWGRP and now.st_gid != 0):
            self.passed_over.append(Source(file, None, "wrong owner or writable by others, so sudo ignores it"))
            return
        if now.st_size > LONGEST:
            self.unknown.append(Source(file, None, f"it is too large to be read ({now.st_size} bytes)"))
            return
        self._look_at_ends(file, root.lines(file))
        if file not in self._lines:
            self._lines[file] = [
                (Source(file, number, _shortened(line)), item)
                for number, line in logical_lines(root.lines(file))
                for item in parsed(line)
            ]
        for source, item in self._lines[file]:
            self._take(root, file, item, source, depth)

    def _look_at_ends(self, file: str, lines: Sequence[str]) -> None:
        """Check the ends of lines.

        Measured with sudo 1.9.13: with a file that ends within a continued line, it denies everyone, whatever the other
        files contain."""
        if goes_on_at_its_end(lines):
            self.refuses_all = True
            message = "its last line continues and no line follows, so sudo rejects everyone"
            self.passed_over.append(Source(file, len(lines), message))
        for number, line in enumerate(lines, start=1):
            if "\0" in line or told_apart_by_return(line):
                self.unknown.append(Source(file, number, "what sudo makes of a sign in this line is not known"))

    def _take(self, root: Root, file: str, item: Parsed, source: Source, depth: int) -> None:
        match item:
            case UserSpec():
                self.entries.append((item, source))
                hosts = [host for privilege in item.privileges for host in privilege.hosts]
                self._note_unknown((*item.users, *hosts), source)
            case Alias():
                if (item.kind, item.name) in self.aliases:
                    self.passed_over.append(Source(source.place, source.line, f"{item.name} is defined before"))
                self.aliases.setdefault((item.kind, item.name), item)
                self._note_unknown(item.members, source)
            case DefaultsEntry():
                self.defaults.append((item, source))
            case Unusable():
                self.passed_over.append(Source(source.place, source.line, f"sudo skips this line: {item.why}"))
            case Include():
                self._include(root, file, item, source, depth)

    def _note_unknown(self, members: Iterable[Member], source: Source) -> None:
        """Note netgroups, plug-in groups and hosts by address: no file of this system resolves them."""
        for member in members:
            if member.what is What.ELSEWHERE or (member.what is What.NAME and _ADDRESS.fullmatch(member.text)):
                message = f"{member.text} cannot be looked up in the files of this system"
                self.unknown.append(Source(source.place, source.line, message))

    def _include(self, root: Root, file: str, item: Include, source: Source, depth: int) -> None:
        target = item.path.replace("%h", self.host.partition(".")[0])
        if "\0" in target:
            self.passed_over.append(Source(source.place, source.line, "the path contains a NUL"))
            return
        target = target if target.startswith("/") else f"{file.rpartition('/')[0]}/{target}"
        if not item.folder:
            self._read(root, target, depth + 1)
            return
        self.files += 1
        if self.files > MOST_FILES:
            self.unknown.append(Source(target, None, "included too often, so it is not read again"))
            return
        for name in root.names_in(target):
            if "." in name or name.endswith("~"):
                self.passed_over.append(Source(f"{target}/{name}", None, "sudo ignores names with . or ~"))
            else:
                self._read(root, f"{target}/{name}", depth + 1)

    # Deciding

    def elevation(self, person: Person, now: datetime) -> Elevation:
        """Return what ``person`` can do as root. ``now`` is the machine's own time, without a zone."""
        if not self.installed or self.refuses_all:
            return NONE
        key = self.what_counts_of(person)
        if key not in self._answers:
            self._answers[key] = _Case(self, person, now).decided()
        return self._answers[key]

    def until(self, person: Person, now: datetime) -> date | None:
        """Return the last whole day on which ``person`` can do everything, by the dates in the lines; None for no
        end."""
        for moment in self._moments(now):
            if not _Case(self, person, moment).decided().everything:
                return (moment - timedelta(days=1)).date()
        return None

    def _moments(self, now: datetime) -> list[datetime]:
        """Return the moments shortly after each future date in the lines, in order."""
        if self._dates is None:
            self._dates = {
                _moment(text)
                for entry, _ in self.entries
                for privilege in entry.privileges
                for allowance in privilege.allowances
                for text in (allowance.not_before, allowance.not_after)
                if text
            }
        return sorted(date + timedelta(seconds=1) for date in self._dates if now <= date < datetime.max)

    def what_counts_of(self, person: Person) -> tuple[object, ...]:
        """Return what the files can distinguish about a person.

        Someone whose names do not occur in them is like everyone, which is nearly everyone on a large system."""
        named = self._named()
        return (
            person.name if self.names(person.name, person.uid) else "",
            person.uid == 0,
            *(group for group in person.groups if group.casefold() in named.groups),
            *(gid for gid in person.gids if gid in named.gids),
        )

    def names(self, name: str, uid: int) -> bool:
        """Return whether a line goes by the name or the number of an account."""
        named = self._named()
        return name.casefold() in named.users or uid in named.uids

    def names_group(self, name: str, gid: int) -> bool:
        """Return whether a line goes by the name or the number of a group."""
        named = self._named()
        return name.casefold() in named.groups or gid in named.gids

    def counted_groups(self, names: Mapping[int, str]) -> frozenset[int]:
        """Return the numbers of the groups that a line goes by, of all that are named; ``names`` are those of groups
        by number."""
        named = self._named()
        return frozenset(named.gids) | {gid for gid, name in names.items() if name.casefold() in named.groups}

    def treated_alike(self, person: Person) -> tuple[object, ...]:
        """Return what sudo itself can distinguish about a person, wherever its files are understood.

        Of those whom nothing names but lines for one person alone, it is what these say, and where among the others
        they stand."""
        named, folded = self._named(), person.name.casefold()
        lines = named.alone.get(folded, [])
        is_known_by_more = folded in named.shared or person.uid in named.uids
        if not lines or is_known_by_more or any(line.name != person.name for line in lines):
            return self.what_counts_of(person)
        _, *others = self.what_counts_of(person)
        return (tuple((line.before, line.entry.rest) for line in lines), *others)

    def entries_for(self, person: Person) -> list[tuple[UserSpec, Source]]:
        """Return the entries that may be about a person, in order: without those for another one alone."""
        named = self._named()
        found: list[tuple[UserSpec, Source]] = []
        at = 0
        for line in named.alone.get(person.name.casefold(), ()):
            found += (*named.common[at : line.before], (line.entry, line.source))
            at = line.before
        return found + named.common[at:]

    def _named(self) -> "_Named":
        if self._mentioned is None:
            named = self._mentioned = _Named()
            for entry, source in self.entries:
                first, *more = entry.users
                if first.what is What.NAME and not first.negated and not more:
                    line = _Alone(first.text, len(named.common), entry, source)
                    named.alone.setdefault(first.text.casefold(), []).append(line)
                else:
                    named.common.append((entry, source))
                    named.shared.update(each.text.casefold() for each in entry.users)
            named.shared.update(each.text.casefold() for each in self._all_other_members())
            for member in self._all_members():
                if member.what in (What.NAME, What.ALIAS):
                    named.users.add(member.text.casefold())
                elif member.what is What.NUMBER:
                    named.uids.add(_number(member.text))
                elif member.what is What.GROUP:
                    named.groups.add(member.text.casefold())
                elif member.what is What.GROUP_NUMBER:
                    named.gids.add(_number(member.text))
            named.groups |= {str(d.value).casefold() for d, _ in self.defaults if d.name == "exempt_group"}
        return self._mentioned

    def _all_members(self) -> Iterable[Member]:
        for entry, _ in self.entries:
            yield from entry.users
        yield from self._all_other_members()

    def _all_other_members(self) -> Iterable[Member]:
        """Yield who is named by anything but as the user of an entry."""
        for entry, _ in self.entries:
            for privilege in entry.privileges:
                for allowance in privilege.allowances:
                    yield from allowance.runas or ()
        for alias in self.aliases.values():
            yield from alias.members if alias.kind in ("User", "Runas") else ()
        for default, _ in self.defaults:
            yield from default.members

    def made_administrator(self, name: str, now: datetime) -> Source | None:
        """Return the line that makes an administrator of any account of a name, but not of everyone."""
        given = self.elevation(Person(name, NO_NUMBER), now)
        everyone = self.elevation(Person("", NO_NUMBER), now)
        return given.sources[0] if given.everything and not everyone.everything else None

    def setting_of(self, person: Person, name: str, now: datetime) -> tuple[str | bool | None, Source | None]:
        """Return the value of a setting for a person, and its line: the last matching one decides."""
        case = _Case(self, person, now)
        lines = [(each.value, source) for each, source in self.defaults if each.name == name and case.is_for_us(each)]
        return lines[-1] if lines else (None, None)

    def makes_administrators(self, group: str, gid: int, now: datetime) -> tuple[Source, ...]:
        """Return the lines that make administrators of a group's members; empty where everyone is one."""
        if not self.names_group(group, gid):
            return ()
        if self.elevation(Person("", NO_NUMBER), now).everything:
            return ()
        given = self.elevation(Person("", NO_NUMBER, (group,), (gid,)), now)
        return given.sources if given.everything else ()

    def names_user(self, name: str) -> list[Source]:
        """Return the lines that name a user by its name, wherever."""
        return [source for named, source in self.lines_by_name() if named.casefold() == name.casefold()]

    def lines_by_name(self) -> Iterator[tuple[str, Source]]:
        """Yield every user name that a line allows or denies something, directly or in an alias."""
        for entry, source in self.entries:
            names: dict[str, None] = {}
            passed: set[str] = set()
            todo = list(entry.users)
            while todo:
                member = todo.pop()
                alias = self.aliases.get(("User", member.text)) if member.what is What.ALIAS else None
                if alias is None and member.what in (What.NAME, What.ALIAS):
                    names[member.text] = None
                elif alias is not None and member.text not in passed:
                    passed.add(member.text)
                    todo += alias.members
            yield from ((name, source) for name in names)


@define(repr=False)
class _Case:
    """Decision for one person. Each alias is resolved once; a circular one matches nothing."""

    sudoers: Sudoers
    person: Person
    now: datetime
    settings: dict[str, str | bool] = field(factory=dict)
    _known: dict[tuple[str, str], bool | None] = field(factory=dict)

    def __attrs_post_init__(self) -> None:
        for default, _ in self.sudoers.defaults:
            if self.is_for_us(default):
                self.settings[default.name] = default.value

    def is_for_us(self, default: DefaultsEntry) -> bool:
        match default.scope:
            case "":
                return True
            case "@":
                return self._text(default.members, "Host", self._is_host) is True
            case ":":
                return self._text(default.members, "User", self._is_user) is True
            case ">":
                return self._text(default.members, "Runas", self._is_root) is True
            case _:
                return False

    def decided(self) -> Elevation:
        """Return the result of all entries: for each command the last matching one decides."""
        everything: bool | None = None
        but: dict[str, Source] = {}
        some: dict[str, tuple[Source, bool | None]] = {}
        found: Source | None = None
        asks: bool | None = None
        for entry, source in reversed(self.sudoers.entries_for(self.person)):
            if self._text(entry.users, "User", self._is_user) is not True:
                continue
            for privilege in reversed(entry.privileges):
                if self._text(privilege.hosts, "Host", self._is_host) is not True:
                    continue
                for allowance in reversed(privilege.allowances):
                    if not self._counts(allowance):
                        continue
                    for command, allowed in self._commands(allowance.command):
                        if command == EVERY:
                            everything, found, asks = allowed, source, allowance.asks_password
                            break
                        if command in some or command in but:
                            continue
                        if allowed:
                            some[command] = source, allowance.asks_password
                        else:
                            but[command] = source
                    if everything is not None:
                        break
                if everything is not None:
                    break
            if everything is not None:
                break
        if everything:
            assert found is not None
            asked = self._password(asks)
            return Elevation(True, (), tuple(sorted(but)), asked, (found,), self._whose(asked))
        if not some:
            return NONE
        denials = tuple(sorted(but))
        sources = tuple({source.where: source for source, _ in some.values()}.values())
        each = [self._password(ask) for _, ask in some.values()]
        weakest = PasswordOwner.NONE if PasswordOwner.NONE in each else each[0]
        return Elevation(False, tuple(sorted(some)), denials, weakest, sources, self._whose(weakest))

    def _counts(self, allowance: Allowance) -> bool:
        """Return whether an entry applies today, and for root."""
        if allowance.not_before and self.now < _moment(allowance.not_before):
            return False
        if allowance.not_after and self.now > _moment(allowance.not_after):
            return False
        if allowance.runas is None:
            default = str(self.settings.get("runas_default", "root"))
            return self._same_user(default, ROOT) or default == "#0"
        if not allowance.runas:
            return self.person.uid == 0
        return self._text(allowance.runas, "Runas", self._is_root) is True

    def _password(self, asks: bool | None) -> PasswordOwner:
        if asks is None:
            asks = self.settings.get("authenticate", True) is not False
        exempt = str(self.settings.get("exempt_group", ""))
        if not asks or self.person.uid == 0 or (exempt and self._in_group(exempt)):
            return PasswordOwner.NONE
        if self.settings.get("rootpw") is True:
            return PasswordOwner.ROOT
        if self.settings.get("runaspw") is True:
            return (
                PasswordOwner.ROOT
                if self._same_user(str(self.settings.get("runas_default", "root")), ROOT)
                else PasswordOwner.TARGET
            )
        return PasswordOwner.ROOT if self.settings.get("targetpw") is True else PasswordOwner.OWN

    def _whose(self, asked: PasswordOwner) -> str:
        """Return the other account whose password is asked for; empty where there is none."""
        return {
            PasswordOwner.NONE: "",
            PasswordOwner.OWN: "",
            PasswordOwner.ROOT: ROOT.name,
            PasswordOwner.TARGET: str(self.settings.get("runas_default", ROOT.name)),
        }[asked]

    # Lists

    def _text(self, members: Sequence[Member], kind: str, matches: Callable[[Member], bool | None]) -> bool | None:
        """Return whether a list includes a person (True), excludes them (False), or does not match: the last member
        decides."""
        for member in reversed(members):
            about: bool | None
            if member.what is What.ALL:
                about = True
            elif member.what is What.ALIAS and (kind, member.text) in self.sudoers.aliases:
                about = self._alias(kind, member.text, matches)
            else:
                about = matches(member) or None
            if about is not None:
                return about is not member.negated
        return None

    def _alias(self, kind: str, name: str, matches: Callable[[Member], bool | None]) -> bool | None:
        if (kind, name) not in self._known:
            self._known[kind, name] = None
            self._known[kind, name] = self._text(self.sudoers.aliases[kind, name].members, kind, matches)
        return self._known[kind, name]

    def _is_user(self, member: Member) -> bool:
        return self._is(member, self.person)

    def _is_root(self, member: Member) -> bool:
        return self._is(member, ROOT)

    def _is(self, member: Member, person: Person) -> bool:
        match member.what:
            case What.NAME | What.ALIAS:
                return self._same_user(member.text, person)
            case What.NUMBER:
                return _number(member.text) == person.uid
            case What.GROUP:
                return self._in_group(member.text, person)
            case What.GROUP_NUMBER:
                return _number(member.text) in person.gids
            case What.ALL | What.ELSEWHERE | What.COMMAND:
                return False  # all of them are handled where lists are read
        assert_never(member.what)

    def _same_user(self, name: str, person: Person) -> bool:
        return _alike(name, person.name, self.settings.get("case_insensitive_user", True) is not False)

    def _in_group(self, name: str, person: Person | None = None) -> bool:
        without_case = self.settings.get("case_insensitive_group", True) is not False
        return any(_alike(name, group, without_case) for group in (person or self.person).groups)

    def _is_host(self, member: Member) -> bool:
        if member.what is What.ELSEWHERE:
            return False
        name = self.sudoers.host if "." in member.text else self.sudoers.host.partition(".")[0]
        if re.search(r"[*?\[\\]", member.text):
            return fnmatchcase(name, member.text)
        return _alike(member.text, name, True)

    # Commands

    def _commands(self, command: Member) -> Iterable[tuple[str, bool]]:
        """Return the commands it is about, the last first, each with whether it is allowed."""
        seen: set[str] = set()

        def expand(member: Member, allowed: bool) -> Iterable[tuple[str, bool]]:
            allowed = allowed is not member.negated
            alias = self.sudoers.aliases.get(("Cmnd", member.text)) if member.what is What.ALIAS else None
            if alias is None:
                if member.what in (What.COMMAND, What.ALL):
                    yield member.text, allowed
                return
            if alias.name in seen:
                return
            seen.add(alias.name)
            for each in reversed(alias.members):
                yield from expand(each, allowed)

        return expand(command, True)


def _cannot_elevate(root: Root, program: str) -> str:
    """Return why sudo itself cannot make anyone root; see sudo(8) on its set-user-ID bit."""
    try:
        now = root.place(program).stat()
    except (OSError, ValueError):
        return ""  # who may not look at it cannot say
    if now.st_uid != 0:
        return "it does not belong to root"
    if not now.st_mode & stat.S_ISUID:
        return "it lacks its set-user-ID bit"
    return "" if now.st_mode & 0o111 else "it cannot be run"


def _shortened(line: str) -> str:
    shown = " ".join(line.split())
    return shown if len(shown) <= 200 else f"{shown[:197]}..."


def _host(root: Root) -> str:
    """Return the host name that sudo uses.

    Where it was built to, as on Debian and derivatives, it is the full name in hosts(5)."""
    name = host_name(root)
    kin = " ".join(line for line in root.lines("/etc/os-release") if line.startswith(("ID=", "ID_LIKE=")))
    if "debian" in kin or "ubuntu" in kin:
        for line in root.lines("/etc/hosts"):
            names = line.split("#", 1)[0].split()[1:]
            if name.casefold() in (each.casefold() for each in names):
                return names[0]
    return name


def _alike(one: str, other: str, without_case: bool) -> bool:
    return one.casefold() == other.casefold() if without_case else one == other


def _number(text: str) -> int:
    return int(text) if len(text) < 12 else -1


def _moment(text: str) -> datetime:
    """Return a date of sudoers(5): yyyymmddHH[MM[SS]], UTC with a Z or an offset, otherwise local time."""
    found = re.fullmatch(r"(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)?(\d\d)?(?:[.,]\d+)?(Z|[+-]\d{4})?", text, re.ASCII)
    if found is None:
        return datetime.max
    year, month, day, hour, minute, second = (int(part or 0) for part in found.groups()[:6])
    try:
        moment = datetime(year, month, day, hour, minute, min(second, 59))
        if found[7] is None:
            return moment
        away = 0 if found[7] == "Z" else int(found[7][1:3]) * 60 + int(found[7][3:])
        zone = timezone(timedelta(minutes=-away if found[7][0] == "-" else away))
        return moment.replace(tzinfo=zone).astimezone().replace(tzinfo=None)
    except (ValueError, OverflowError):
        return datetime.max
