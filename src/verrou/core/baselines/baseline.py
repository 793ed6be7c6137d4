"""Baselines: the model, and reading one from TOML with every error reported at once."""

# Imports within functions: for a quick start; and contradictions stand on this module.

import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import date, datetime
from typing import Any, Literal, TypeVar, get_args

from attrs import NOTHING, AttrsInstance, define, evolve, field, fields, frozen, resolve_types

from verrou.core.baselines.desired import AnyOf, AtLeast, Between, Desired, Exactly
from verrou.core.baselines.toml_lines import Path, line_index, line_of
from verrou.core.days import DAY_WORDS, day_of
from verrou.core.errors import BadInput
from verrou.core.model import AccountName, GroupName, Role, Snapshot
from verrou.core.model.routes import Route
from verrou.core.rules import CATALOGUE, PRESET, PRESETS, Rule
from verrou.core.values import Unacceptable, as_list, nearest, show_raw

PasswordWord = Literal["blank", "ask", "generate", "keep"]
HomeWord = Literal["permanent", "temporary"]
ACCOUNT_ROLES = (Role.ADMINISTRATOR, Role.STANDARD, Role.GUEST)

T = TypeVar("T", bound=AttrsInstance)


@frozen(repr=False)
class Mark:
    """A place in a baseline file."""

    file: str
    line: int | None

    def __str__(self) -> str:
        return self.file if self.line is None else f"{self.file}:{self.line}"


@frozen(repr=False)
class Requirement:
    """Requirement of a baseline for one rule, with its own reason and its place in the file."""

    rule: Rule
    desired: Desired
    reason: str
    mark: Mark


@frozen(repr=False)
class WantedAccount:
    """``[accounts.NAME]``.

    ``password`` says how the first password is set; a baseline never contains a secret. ``routes`` are the only ones
    allowed, where any are named. ``home`` and ``cannot_change`` default to what the role is created with."""

    name: AccountName
    mark: Mark
    role: Role = Role.STANDARD
    password: PasswordWord = "ask"
    enabled: bool = True
    full_name: str = ""
    routes: tuple[Route, ...] = ()
    until: date | None = None
    note: str = ""
    shell: str = ""
    home: HomeWord | None = None
    cannot_change: bool | None = None
    reason: str = ""

    def is_open(self, today: date) -> bool:
        """Return whether it should be enabled: not after its last day."""
        return self.enabled and not (self.until is not None and self.until < today)


@frozen(repr=False)
class WantedGroup:
    """``[groups.NAME]``, or ``[groups.IDENTITY]`` for a built-in group: its required members, and with ``only`` all
    its members."""

    name: GroupName
    mark: Mark
    members: tuple[AccountName, ...] = ()
    only: tuple[str, ...] | None = None
    note: str = ""
    reason: str = ""


@frozen(repr=False)
class Waiver:
    """``[[waiver]]``: a rule that a machine does not have to meet until a day; every machine where none is named."""

    rule: str
    reason: str
    by: str
    until: date
    mark: Mark
    machine: str | None = None


@frozen(repr=False)
class Baseline:
    """A baseline with everything it builds on. ``texts`` are those that it was read from."""

    title: str
    requirements: Mapping[str, Requirement] = field(factory=dict)
    accounts: Mapping[str, WantedAccount] = field(factory=dict)
    groups: Mapping[str, WantedGroup] = field(factory=dict)
    waivers: tuple[Waiver, ...] = ()
    texts: tuple[str, ...] = ()

    @property
    def digest(self) -> str:
        """SHA-256 over its text and those of the baselines it builds on, in hexadecimal."""
        from hashlib import sha256

        parts = (sha256(text.encode()).digest() for text in self.texts)
        return sha256(b"".join(parts)).hexdigest()

    def on(self, snapshot: Snapshot) -> "Baseline":
        """Return the same with the spelling of the machine, where it compares names without case."""
        if not snapshot.machine.naming.without_case or not (self.accounts or self.groups or self.waivers):
            return self

        def own(name: str) -> AccountName:
            return AccountName(snapshot.own_spelling(name))

        def waived(subject: str) -> str:
            kind, _, name = subject.partition(".")
            return f"accounts.{own(name)}" if kind == "accounts" else subject

        accounts = [evolve(required, name=own(required.name)) for required in self.accounts.values()]
        groups = [
            evolve(
                required,
                members=tuple(map(own, required.members)),
                only=None if required.only is None else tuple(map(own, required.only)),
            )
            for required in self.groups.values()
        ]
        here = snapshot.machine.name
        waivers = [
            evolve(
                waiver,
                rule=waived(waiver.rule),
                machine=here if (waiver.machine or "").casefold() == here.casefold() else waiver.machine,
            )
            for waiver in self.waivers
        ]
        return evolve(
            self,
            accounts={required.name: required for required in accounts},
            groups={required.name: required for required in groups},
            waivers=tuple(waivers),
        )


class BaselineRefused(BadInput):
    """A baseline that cannot be used. The message has one line for each error."""

    def __init__(self, problems: list[str]) -> None:
        self.problems = problems
        super().__init__("\n".join(problems))


Fetch = Callable[[str, str], tuple[str, str]]
"""From (name in ``builds_on``, file that names it) to (text, place of the text); raises BadInput when there is none."""


def read_baseline(text: str, place: str, fetch: Fetch) -> Baseline:
    """Return the baseline in the TOML ``text`` of ``place``.

    Raises: BaselineRefused: with every error of the file and of those it builds on, each with file and line."""
    problems: list[str] = []
    texts = {place: text}

    def remembered(name: str, named_in: str) -> tuple[str, str]:
        found, where = fetch(name, named_in)
        texts[where] = found
        return found, where

    baseline = evolve(_read(text, place, remembered, (place,), problems, {}), texts=tuple(texts.values()))
    if not problems:
        from verrou.core.baselines.contradictions import contradictions

        problems += contradictions(baseline)
    if problems:
        raise BaselineRefused(problems)
    return baseline


MOST_DOTS = 50
"""Most parts of a key; the TOML parser takes very long over thousands."""


def _read(
    text: str, place: str, fetch: Fetch, trail: tuple[str, ...], problems: list[str], known: dict[str, Baseline]
) -> Baseline:
    """Read the baselines. ``known`` are those already read, by place: each is read once, however often it is named."""
    for number, line in enumerate(text.split("\n"), start=1):
        if line.partition("=")[0].count(".") > MOST_DOTS:
            problems.append(f"{place}:{number}: found a key of more than {MOST_DOTS} parts; a baseline's keys have two")
            return Baseline(place)
    try:
        document = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        reason = str(error).split(";")[0] if isinstance(error, ValueError) else "tables nested too deeply"
        problems.append(f"{place}: this is not valid TOML: {reason}")
        return Baseline(place)
    reader = _Reader(place, line_index(text), problems)
    if not document:
        problems.append(f"{place}: found nothing in it; a baseline begins with [baseline] and a title")
        return Baseline(place)
    head = reader.table(document.pop("baseline", {}), ("baseline",))
    title = reader.text(head, "title", ("baseline",))
    if not title.strip() and isinstance(head.get("title", ""), str):
        reader.problem(("baseline",), 'baseline: title is missing; write title = "…" under [baseline]')
    for key in sorted(head.keys() - {"title", "builds_on"}):
        reader.unknown(("baseline", key), key, ["title", "builds_on"])
    built_on = Baseline(title)
    for name in reader.names(head.get("builds_on", []), ("baseline", "builds_on")):
        try:
            below_text, below_place = fetch(name, place)
        except BadInput as error:
            reader.problem(("baseline", "builds_on"), str(error))
            continue
        if below_place in trail:
            reader.problem(("baseline", "builds_on"), f"{name} builds on this file again: {' > '.join(trail)}")
            continue
        if below_place not in known:
            known[below_place] = _read(below_text, below_place, fetch, (*trail, below_place), problems, known)
        built_on = _over(built_on, known[below_place])
    return evolve(_over(built_on, reader.own(document, title)), title=title)


def _over(below: Baseline, above: Baseline) -> Baseline:
    """Return ``above`` merged over ``below``: where both have a value, ``above`` decides."""
    return Baseline(
        title=above.title,
        requirements={**below.requirements, **above.requirements},
        accounts={**below.accounts, **above.accounts},
        groups={**below.groups, **above.groups},
        waivers=tuple(dict.fromkeys(below.waivers + above.waivers)),
    )


@define(repr=False)
class _Reader:
    """Reads the tables of one file and collects all errors instead of stopping at the first."""

    place: str
    lines: Mapping[Path, int]
    problems: list[str]

    def mark(self, path: Path) -> Mark:
        return Mark(self.place, line_of(self.lines, path))

    def problem(self, path: Path, message: str) -> None:
        self.problems.append(f"{self.mark(path)}: {message}")

    def unknown(self, path: Path, found: str, choices: Iterable[str]) -> None:
        known = sorted(choices)
        close = nearest(found, known)
        hint = f"Did you mean {close!r}?" if close else f"Known here: {', '.join(known)}."
        self.problem(path, f"{'.'.join(map(str, path))}: unknown key {found!r}. {hint}")

    def table(self, raw: object, path: Path) -> dict[str, object]:
        if isinstance(raw, dict):
            return raw
        self.problem(path, f"{'.'.join(map(str, path))}: invalid value {show_raw(raw)}; expected a table of keys")
        return {}

    def text(self, table: dict[str, object], key: str, path: Path) -> str:
        raw = table.get(key, "")
        if isinstance(raw, str):
            return raw
        self.problem((*path, key), f"{key}: invalid value {show_raw(raw)}; expected a text in quotes")
        return ""

    def names(self, raw: object, path: Path) -> list[str]:
        if isinstance(raw, list) and all(isinstance(item, str) for item in raw):
            return list(raw)
        self.problem(path, f"{path[-1]}: invalid value {show_raw(raw)}; expected a list of names")
        return []

    def own(self, document: dict[str, object], title: str) -> Baseline:
        requirements: dict[str, Requirement] = {}
        accounts: dict[str, WantedAccount] = {}
        groups: dict[str, WantedGroup] = {}
        waivers: list[Waiver] = []
        families = {rule.family for rule in CATALOGUE.values()}
        for name, raw in document.items():
            path: Path = (name,)
            if name == "accounts":
                for key, section in self.table(raw, path).items():
                    account = self.section(WantedAccount, section, (*path, key), {"name": key})
                    accounts.update({key: account} if account else {})
            elif name == "groups":
                for key, section in self.table(raw, path).items():
                    group = self.section(WantedGroup, section, (*path, key), {"name": key})
                    groups.update({key: group} if group else {})
            elif name == "waiver":
                if not isinstance(raw, list):
                    self.problem(path, 'waiver: write each waiver under a heading of its own, "[[waiver]]"')
                    continue
                for position, section in enumerate(raw):
                    waiver = self.section(Waiver, section, (*path, position), {})
                    if waiver and self.known_subject(waiver.rule, (*path, position, "rule")):
                        waivers.append(waiver)
            elif name in families:
                # What a preset sets, a key of its own decides.
                keys = sorted(self.table(raw, path).items(), key=lambda pair: pair[0] != PRESET)
                for key, value in keys:
                    requirements.update(
                        {requirement.rule.id: requirement for requirement in self.requirements(value, (name, key))}
                    )
            else:
                self.unknown(path, name, [*families, "baseline", "accounts", "groups", "waiver"])
        return Baseline(title, requirements, accounts, groups, tuple(waivers))

    def known_subject(self, subject: str, path: Path) -> bool:
        known = subject in CATALOGUE or subject.partition(".")[0] in ("accounts", "groups")
        if not known:
            self.unknown(path, subject, CATALOGUE)
        return known

    def requirements(self, raw: object, path: Path) -> Iterator[Requirement]:
        """Yield what one key of a family requires: of one rule, of a subtable (``[logon.console]``), or of all rules
        of a preset."""
        family, key = path
        within = [rule for rule in CATALOGUE.values() if rule.id.startswith(f"{family}.{key}.")]
        if within:
            for inner, value in self.table(raw, path).items():
                if (requirement := self.requirement(value, (*path, inner))) is not None:
                    yield requirement
        elif key == PRESET and (presets := PRESETS.get(str(family))):
            if not isinstance(raw, str) or raw not in presets:
                accepted = f"one of {', '.join(presets)}"
                self.problem(path, f"{family}.{key}: {Unacceptable(raw, accepted, nearest(raw, list(presets)))}")
                return
            for rule_id, value in presets[raw].values.items():
                rule = CATALOGUE[rule_id]
                reason = f"{presets[raw].reason} (the preset {raw})"
                yield Requirement(rule, AtLeast(rule.kind.parse(value)), reason, self.mark(path))
        elif (requirement := self.requirement(raw, path)) is not None:
            yield requirement

    def requirement(self, raw: object, path: Path) -> Requirement | None:
        rule_id = ".".join(map(str, path))
        rule = CATALOGUE.get(rule_id)
        if rule is None:
            before = ".".join(map(str, path[:-1])) + "."
            known = [r.id.removeprefix(before) for r in CATALOGUE.values() if r.id.startswith(before)]
            self.unknown(path, str(path[-1]), [*known, *([PRESET] if path[0] in PRESETS else [])])
            return None
        reason = ""
        if isinstance(raw, dict):
            raw = dict(raw)
            reason = self.text(raw, "reason", path)
            raw.pop("reason", None)
        try:
            return Requirement(rule, _desired(rule, raw), reason, self.mark(path))
        except Unacceptable as unacceptable:
            self.problem(path, f"{rule_id}: {unacceptable}")
            return None

    def section(self, cls: type[T], raw: object, path: Path, given: dict[str, object]) -> T | None:
        """Return one table as an instance of ``cls``.

        ``given`` are fields that the table's place decides, not its keys. No value is turned into another type to make
        it fit."""
        before = len(self.problems)
        table, where = self.table(raw, path), ".".join(map(str, path))
        known = {field.name: field for field in fields(resolve_types(cls)) if field.name not in ("mark", *given)}
        for key in sorted(table.keys() - known.keys()):
            self.unknown((*path, key), key, known)
        values: dict[str, object] = {**given, "mark": self.mark(path)}
        for name, field_ in known.items():
            if name not in table:
                if field_.default is NOTHING:
                    self.problem(path, f"{where}: {name} is missing")
                continue
            try:
                values[name] = _typed(table[name], field_.type)
                if field_.default is NOTHING and not str(values[name]).strip():
                    raise Unacceptable(table[name], "a text that is not empty")
            except Unacceptable as unacceptable:
                self.problem((*path, name), f"{where}.{name}: {unacceptable}")
        return cls(**values) if len(self.problems) == before else None


FORMS = (
    "a value, { value = … }, { exactly = … }, { from = …, to = … } or { any_of = […] }, "
    'each with reason = "…" if wanted'
)


def _desired(rule: Rule, raw: object) -> Desired:
    """Return the desired value in ``raw``. Raises: Unacceptable."""
    parse = rule.kind.parse
    if not isinstance(raw, dict) or rule.kind.is_written_as_table(raw):
        return AtLeast(parse(raw))
    match raw:
        case {"value": value} if len(raw) == 1:
            return AtLeast(parse(value))
        case {"exactly": value} if len(raw) == 1:
            return Exactly(parse(value))
        case {"only": list(names)} if len(raw) == 1:
            return AtLeast(parse(names))
        case {"any_of": list(values)} if len(raw) == 1 and values:
            return AnyOf(tuple(parse(value) for value in values))
        case {"from": low, "to": high} if len(raw) == 2:
            if not rule.kind.has_scale:
                raise Unacceptable(raw, f"{rule.kind.accepted} (it has no from and to)")
            between = Between(parse(low), parse(high))
            if rule.kind.amount(between.low) > rule.kind.amount(between.high):
                raise Unacceptable(raw, "a from that is not above its to")
            return between
    known = ["exactly", "from", "to", "any_of", "only", "value", "reason"]
    if raw.get("any_of") == []:
        raise Unacceptable(raw, "at least one value in any_of")
    spellings = [*rule.kind.keys, *known]
    strange = next((key for key in raw if key not in spellings), None)
    raise Unacceptable(raw, FORMS, nearest(strange, spellings) if strange else None)


def _typed(raw: object, kind: Any) -> object:
    """Return a raw value as the type of a field of accounts, groups or waivers. Raises: Unacceptable."""
    if kind in _WORDS:
        words, make = _WORDS[kind]
        if isinstance(raw, str) and raw in words:
            return make(raw)
        raise Unacceptable(raw, "one of " + ", ".join(f'"{word}"' for word in words), nearest(raw, words))
    if (item := _ITEMS.get(kind)) is not None:
        if not isinstance(raw, list):
            raise Unacceptable(raw, "a list in square brackets", as_list(raw))
        return tuple(_typed(each, item) for each in raw)
    accepted, take = _PLAIN[kind]
    value = take(raw)
    if value is None:
        raise Unacceptable(raw, accepted)
    return value


def _text(raw: object) -> str | None:
    return raw if isinstance(raw, str) and "\0" not in raw else None


def _yes_no(raw: object) -> bool | None:
    return raw if isinstance(raw, bool) else None


def _day(raw: object) -> date | None:
    if isinstance(raw, str):
        return day_of(raw)
    return raw if isinstance(raw, date) and not isinstance(raw, datetime) else None


_PLAIN: Mapping[Any, tuple[str, Callable[[object], object]]] = {
    **dict.fromkeys((str, str | None, AccountName, GroupName), ("a text in quotes", _text)),
    **dict.fromkeys((bool, bool | None), ("true or false, without quotes", _yes_no)),
    **dict.fromkeys((date, date | None), (DAY_WORDS, _day)),
}
_ITEMS: Mapping[Any, Any] = {
    **dict.fromkeys((tuple[str, ...], tuple[str, ...] | None, tuple[AccountName, ...]), str),
    tuple[Route, ...]: Route,
}
_WORDS: Mapping[Any, tuple[tuple[str, ...], Callable[[str], object]]] = {
    Role: (ACCOUNT_ROLES, Role),
    Route: (tuple(Route), Route),
    PasswordWord: (get_args(PasswordWord), str),
    HomeWord | None: (get_args(HomeWord), str),
}
"""Field types of accounts, groups and waivers: how each is written, and the value made of it."""
