"""Compare two machines, or one before and after: accounts, groups, routes and rules.

Each difference is stricter, looser or merely different."""

from collections.abc import Callable, Iterator, Mapping
from datetime import date
from enum import StrEnum
from typing import Any

from attrs import evolve, frozen

from verrou.core.baselines.baseline import Baseline, Requirement
from verrou.core.baselines.desired import AtLeast, Between
from verrou.core.judging.differences import FACTS, fact_text, paired
from verrou.core.model import Account, MachineFacts, PasswordState, Reading, Role, Snapshot, Status
from verrou.core.model.access import known_role, routes_of, routes_unknown
from verrou.core.rules import CATALOGUE, Rule, reading_of, value_now
from verrou.core.values import Kind, Value


class Direction(StrEnum):
    """How the second side differs from the first."""

    STRICTER = "stricter"
    LOOSER = "looser"
    DIFFERENT = "different"
    SAME = "same"

    @property
    def backwards(self) -> "Direction":
        """How the first side differs from the second."""
        return {Direction.STRICTER: Direction.LOOSER, Direction.LOOSER: Direction.STRICTER}.get(self, self)


@frozen(repr=False)
class Compared:
    """One fact on both sides, in words.

    ``subject`` is ``account NAME``, ``group NAME`` or a rule id; a side without the subject has an empty text."""

    subject: str
    fact: str
    one: str
    other: str
    direction: Direction


@frozen(repr=False)
class Comparison:
    """All compared facts: accounts, groups, rules, in that order."""

    lines: tuple[Compared, ...]

    @property
    def differing(self) -> tuple[Compared, ...]:
        """The facts that differ."""
        return tuple(line for line in self.lines if line.direction is not Direction.SAME)

    def count(self, direction: Direction) -> int:
        """Return how many lines have this result."""
        return sum(line.direction is direction for line in self.lines)


def same_machine(one: MachineFacts, other: MachineFacts) -> bool:
    """Return whether two snapshots are of one machine: by its identity, or by its name where one of them has none."""
    if one.identity and other.identity:
        return one.identity == other.identity
    return (one.name, one.kind) == (other.name, other.kind)


def compare(one: Snapshot, other: Snapshot) -> Comparison:
    """Compare two snapshots.

    Groups that every machine has are named by what they are, since their names may be in another language."""
    return Comparison((*_accounts(one, other), *_groups(one, other), *_rules(one, other)))


def _accounts(one: Snapshot, other: Snapshot) -> Iterator[Compared]:
    for mine, theirs in paired(one, other, same_machine=same_machine(one.machine, other.machine)):
        account = mine or theirs
        assert account is not None
        subject = f"account {account.name}"
        if mine is None or theirs is None:
            sides = (_summary(mine, one), _summary(theirs, other))
            yield Compared(subject, "", *sides, Direction.LOOSER if mine is None else Direction.STRICTER)
            continue
        for fact, words in {"role": "role", "routes": "routes", **FACTS}.items():
            before, after = _fact(mine, fact, one), _fact(theirs, fact, other)
            rank = STRICTNESS.get(fact, _no_order)
            turn = Direction.SAME if before == after else _by_rank(rank, before, after)
            yield Compared(subject, words, _words(mine, fact, before), _words(theirs, fact, after), turn)


def _summary(account: Account | None, snapshot: Snapshot) -> str:
    if account is None:
        return ""
    routes = _words(account, "routes", _fact(account, "routes", snapshot))
    return f"{_fact(account, 'role', snapshot)}; routes: {routes}"


def _fact(account: Account, fact: str, snapshot: Snapshot) -> Any:
    match fact:
        case "role":
            return known_role(account, snapshot)
        case "routes":
            perhaps = (f"{route}?" for route in routes_unknown(account, snapshot))
            return frozenset((*map(str, routes_of(account, snapshot)), *perhaps))
        case "groups":
            return frozenset(map(snapshot.common_name_of, account.groups))
        case _:
            return getattr(account, fact)


def _words(account: Account, fact: str, value: Any) -> str:
    if isinstance(value, frozenset):
        return ", ".join(sorted(value)) or ("no route" if fact == "routes" else "none")
    return str(value) if fact == "role" else fact_text(account, fact)


ROLES = (Role.ADMINISTRATOR, Role.STANDARD, Role.GUEST)
PASSWORDS = (PasswordState.BLANK, PasswordState.SET, PasswordState.NONE)
NEVER = float("inf")
Rank = Callable[[Any], Any]
"""How strict a fact is: a number, a set of which the smaller is stricter, or None where there is no order."""


def _no_order(_: Any) -> None:
    return None


def _fewer(value: Any) -> Any:
    return value


STRICTNESS: Mapping[str, Rank] = {
    "role": lambda role: ROLES.index(role) if role in ROLES else None,
    "routes": _fewer,
    "enabled": lambda enabled: not enabled,
    "password": lambda state: PASSWORDS.index(state) if state in PASSWORDS else None,
    "until": lambda day: -(day or date.max).toordinal(),
    "ageing_exempt": lambda exempt: not exempt,
    "change_due": bool,
    "max_age": lambda days: -NEVER if days is None else -days,
    "min_age": lambda days: days or 0,
    "hint": lambda hint: not hint,
    "recovery_questions": lambda questions: not questions,
    "linked_identity": lambda identity: not identity,
}
"""Of the facts of an account that have an order: higher is stricter."""


def _by_rank(rank: Rank, before: Any, after: Any) -> Direction:
    was, now = rank(before), rank(after)
    if was is None or now is None or was == now:
        return Direction.DIFFERENT
    if isinstance(was, frozenset):
        return Direction.STRICTER if now < was else Direction.LOOSER if now > was else Direction.DIFFERENT
    return Direction.STRICTER if now > was else Direction.LOOSER


def _groups(one: Snapshot, other: Snapshot) -> Iterator[Compared]:
    mine = {one.common_name_of(group.name): group for group in one.groups}
    theirs = {other.common_name_of(group.name): group for group in other.groups}
    for name in dict.fromkeys((*mine, *theirs)):
        subject, here, there = f"group {name}", mine.get(name), theirs.get(name)
        if here is None or there is None:
            yield Compared(subject, "", "present" if here else "", "present" if there else "", Direction.DIFFERENT)
            continue
        for fact, before, after in (
            ("called", here.name, there.name),
            ("grants", _listed(here.grants), _listed(there.grants)),
            ("note", here.note, there.note),
        ):
            yield Compared(subject, fact, before, after, Direction.SAME if before == after else Direction.DIFFERENT)


def _listed(items: Any) -> str:
    return ", ".join(sorted(map(str, items))) or "nothing"


def _rules(one: Snapshot, other: Snapshot) -> Iterator[Compared]:
    for rule in CATALOGUE.values():
        here, there = (_in_common_words(rule, snapshot) for snapshot in (one, other))
        yield Compared(rule.id, "", value_now(rule, here), value_now(rule, there), direction_of(rule, here, there))


def _in_common_words(rule: Rule, snapshot: Snapshot) -> Reading:
    reading = reading_of(rule, snapshot)
    value, pending = (
        None if each is None else rule.kind.with_group_names(each, snapshot.common_spelling)
        for each in (reading.value, reading.pending)
    )
    return evolve(reading, value=value, pending=pending)


def direction_of(rule: Rule, one: Reading, other: Reading) -> Direction:
    """Return how a reading differs from another by the rule's own order.

    Where the values of now are the same, those after a restart decide."""
    if _stands(one) == _stands(other):
        return Direction.SAME
    if not one.status is other.status is Status.READ:
        return Direction.DIFFERENT
    if one.enforced is not other.enforced:
        return Direction.STRICTER if other.enforced else Direction.LOOSER
    for mine, theirs in ((one.value, other.value), (_coming(one), _coming(other))):
        if mine != theirs:
            return _by_kind(rule.kind, mine, theirs)
    return Direction.DIFFERENT


def _stands(reading: Reading) -> tuple[object, ...]:
    return reading.value, reading.status, reading.enforced, reading.pending


def _coming(reading: Reading) -> Value | None:
    return reading.value if reading.pending is None else reading.pending


def _by_kind(kind: Kind, one: Value | None, other: Value | None) -> Direction:
    if one is None or other is None:
        return Direction.DIFFERENT
    tighter, wider = kind.at_least(other, one), kind.at_least(one, other)
    return Direction.DIFFERENT if tighter == wider else Direction.STRICTER if tighter else Direction.LOOSER


def compare_baselines(one: Baseline, other: Baseline) -> Comparison:
    """Compare the requirements of two baselines, inherited ones included."""
    return Comparison((*_requirements(one, other), *_listings(one, other)))


def _requirements(one: Baseline, other: Baseline) -> Iterator[Compared]:
    for rule in CATALOGUE.values():
        here, there = one.requirements.get(rule.id), other.requirements.get(rule.id)
        if here is not None or there is not None:
            yield Compared(rule.id, "", _asks(here), _asks(there), _asked_turn(rule, here, there))


def _asks(requirement: Requirement | None) -> str:
    return "" if requirement is None else requirement.desired.format(requirement.rule)


def _asked_turn(rule: Rule, one: Requirement | None, other: Requirement | None) -> Direction:
    if one is None or other is None:
        return Direction.STRICTER if one is None else Direction.LOOSER
    mine, theirs = one.desired, other.desired
    if mine == theirs:
        return Direction.SAME
    if isinstance(mine, AtLeast) and isinstance(theirs, AtLeast):
        return _by_kind(rule.kind, mine.value, theirs.value)
    if isinstance(mine, Between) and isinstance(theirs, Between):
        within = (_within(rule, theirs, mine), _within(rule, mine, theirs))
        return {(True, False): Direction.STRICTER, (False, True): Direction.LOOSER}.get(within, Direction.DIFFERENT)
    return Direction.DIFFERENT


def _within(rule: Rule, inner: Between, outer: Between) -> bool:
    return outer.satisfied_by(rule, inner.low) and outer.satisfied_by(rule, inner.high)


def _listings(one: Baseline, other: Baseline) -> Iterator[Compared]:
    """Yield accounts, groups and waivers, fact by fact."""
    for what, mine, theirs in (
        ("account", one.accounts, other.accounts),
        ("group", one.groups, other.groups),
        ("waiver of", _waivers(one), _waivers(other)),
    ):
        for name in dict.fromkeys((*mine, *theirs)):
            here, there = mine.get(name), theirs.get(name)
            if here is None or there is None:
                yield Compared(
                    f"{what} {name}", "", "listed" if here else "", "listed" if there else "", Direction.DIFFERENT
                )
                continue
            for field in here.__attrs_attrs__:
                if field.name in ("name", "mark", "rule", "machine", "reason"):
                    continue
                before, after = (_plain(getattr(each, field.name)) for each in (here, there))
                turn = Direction.SAME if before == after else Direction.DIFFERENT
                yield Compared(f"{what} {name}", field.name.replace("_", " "), before, after, turn)


def _waivers(baseline: Baseline) -> Mapping[str, Any]:
    return {f"{w.rule}{f' on {w.machine}' if w.machine else ''}": w for w in baseline.waivers}


def _plain(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)
