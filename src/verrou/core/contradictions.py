"""What a baseline asks for that cannot hold together on any machine: rules against rules, and rules against the
accounts and groups that it lists."""

from collections.abc import Iterable, Iterator
from itertools import product
from typing import TypeGuard

from attrs import define

from verrou.core.baseline import Baseline, Mark, Requirement, WantedAccount, WantedGroup
from verrou.core.model import Role, joined
from verrou.core.model.ways import Route
from verrou.core.rules import CATALOGUE, agreements
from verrou.core.values import EVERYBODY, GROUP, NOBODY, NOT_SHIPPED, BuiltinName, Value

ADMINISTRATORS, USERS, GUESTS = "administrators", "users", "guests"
"""What groups that every machine has are called in a baseline."""
ROLE_GROUPS = {Role.ADMINISTRATOR: ADMINISTRATORS, Role.STANDARD: USERS, Role.GUEST: GUESTS}
CHANGE_ONE = "change one of the two"


def contradictions(baseline: Baseline) -> list[str]:
    """Every contradiction, a line each, in the order of the file."""
    found = [*_between_rules(baseline), *_Asked(baseline).found()]
    return list(dict.fromkeys(text for _, text in sorted(found, key=lambda each: (each[0].file, each[0].line or 0))))


Conflict = Iterator[tuple[Mark, str]]


def _between_rules(baseline: Baseline) -> Conflict:
    demands = baseline.requirements
    for rule, agreement, other in agreements():
        mine, theirs = demands.get(rule.id), demands.get(other.id)
        if mine is None or theirs is None:
            continue
        pairs = product(mine.desired.candidates(rule), theirs.desired.candidates(other))
        if not any(agreement.holds(rule, a, other, b) for a, b in pairs):
            yield (
                mine.mark,
                f"{mine.mark}: {rule.id} ({mine.desired.say(rule)}) {agreement.words} {other.id} "
                f"({theirs.desired.say(other)}, {theirs.mark}); {CHANGE_ONE}",
            )
    for rule in CATALOGUE.values():
        leader = demands.get(rule.id)
        if leader is None or any(not isinstance(value, str) for value in leader.desired.candidates(rule)):
            continue  # it asks for a number, with which the others mean something
        followers = [demands[rule_id] for rule_id in rule.set_with if rule_id in demands]
        for follower in (each for each in followers if each.rule.kind.has_scale):
            yield (
                follower.mark,
                f"{follower.mark}: {follower.rule.id} means nothing where {rule.id} is {leader.desired.say(rule)} "
                f"({leader.mark}); {CHANGE_ONE}",
            )


@define
class _Asked:
    """One baseline, asked for what its accounts and groups come to."""

    baseline: Baseline

    def found(self) -> Conflict:
        yield from self._one_name_twice()
        yield from self._builtin_names()
        yield from self._groups()
        yield from self._administrators()
        yield from self._nobody_comes()
        for account in self.baseline.accounts.values():
            yield from self._blank(account)
            yield from self._ways(account)

    def _demand(self, rule_id: str) -> Requirement | None:
        return self.baseline.requirements.get(rule_id)

    def _values(self, rule_id: str) -> list[Value]:
        demand = self._demand(rule_id)
        return demand.desired.candidates(demand.rule) if demand is not None else []

    def _one_name_twice(self) -> Conflict:
        for kind, things in (("accounts", self.baseline.accounts), ("groups", self.baseline.groups)):
            seen: dict[str, WantedAccount | WantedGroup] = {}
            for thing in things.values():
                first = seen.setdefault(thing.name.casefold(), thing)
                if first is not thing:
                    yield (
                        thing.mark,
                        f"{thing.mark}: {kind}.{thing.name} and {kind}.{first.name} ({first.mark}) are one name on "
                        "many machines; call one of them otherwise",
                    )

    def _builtin_names(self) -> Conflict:
        roles = {"builtin.admin_name": Role.ADMINISTRATOR, "builtin.guest_name": Role.GUEST}
        asked: dict[str, Requirement] = {}
        for rule_id, role in roles.items():
            demand, values = self._demand(rule_id), self._values(rule_id)
            if demand is None or len(values) != 1 or not isinstance(values[0], BuiltinName):
                continue
            name = values[0].name.casefold()
            if name in asked and name != NOT_SHIPPED:
                yield self._against(demand, "is the name of both built-in accounts", asked[name])
            asked[name] = demand
            for account in self.baseline.accounts.values():
                if account.name.casefold() == name != NOT_SHIPPED and account.role is not role:
                    yield self._about(
                        account, f"should be {a(account.role)}, and a built-in account bears that", demand
                    )

    def _groups(self) -> Conflict:
        accounts = {account.name.casefold(): account for account in self.baseline.accounts.values()}
        for group in self.baseline.groups.values():
            only = None if group.only is None else {name.casefold() for name in group.only}
            left_out = [name for name in group.members if only is not None and name.casefold() not in only]
            if left_out:
                said = f"requires the members {joined(left_out)}, who are not in its list only; {CHANGE_ONE}"
                yield group.mark, f"{group.mark}: groups.{group.name} {said}"
            for name in group.members:
                account = accounts.get(name.casefold())
                if account is not None and not _fits(account.role, group.name):
                    yield (
                        group.mark,
                        f"{group.mark}: groups.{group.name} makes more than {a(account.role)} of {account.name}, which "
                        f"is what accounts.{account.name} requires ({account.mark}); {CHANGE_ONE}",
                    )
            for account in accounts.values() if only is not None else ():
                if group.name == ROLE_GROUPS.get(account.role) and account.name.casefold() not in (only or ()):
                    yield (
                        group.mark,
                        f"{group.mark}: groups.{group.name} leaves {account.name} out, who should be {a(account.role)} "
                        f"({account.mark}); {CHANGE_ONE}",
                    )

    def _administrators(self) -> Conflict:
        demand = self._demand("population.administrators")
        if demand is None:
            return
        accounts = [account for account in self.baseline.accounts.values() if account.enabled]
        named = {account.name for account in accounts if account.role is Role.ADMINISTRATOR}
        group = self.baseline.groups.get(ADMINISTRATORS)
        named |= set(group.members) if group is not None else set()
        most = [_most(value) for value in self._values(demand.rule.id)]
        if most and None not in most and len(named) > max(number for number in most if number is not None):
            yield (
                demand.mark,
                f"{demand.mark}: population.administrators ({demand.desired.say(demand.rule)}) is less than the "
                f"accounts that this baseline makes administrators: {joined(sorted(named))}; {CHANGE_ONE}",
            )
        allowed = [{name.casefold() for name in value} for value in self._values(demand.rule.id) if _is_names(value)]
        if allowed and len(allowed) == len(self._values(demand.rule.id)):
            left_out = sorted(name for name in named if all(name.casefold() not in names for names in allowed))
            if left_out:
                yield (
                    demand.mark,
                    f"{demand.mark}: population.administrators leaves out {joined(left_out)}, whom this baseline makes "
                    f"administrators; {CHANGE_ONE}",
                )

    def _nobody_comes(self) -> Conflict:
        for key, word in (("allowed", NOBODY), ("denied", EVERYBODY)):
            demand = self._demand(f"logon.console.{key}")
            values = self._values(f"logon.console.{key}")
            empty = [value == (frozenset() if word == NOBODY else frozenset({EVERYBODY})) for value in values]
            if demand is not None and empty and all(empty):
                yield (
                    demand.mark,
                    f"{demand.mark}: {demand.rule.id} is {word}: no one could sign in at the console, not even an "
                    "administrator; keep one of them",
                )

    def _blank(self, account: WantedAccount) -> Conflict:
        if account.password != "blank":
            return
        blank = self._demand("population.blank_passwords")
        needed: Value = "guests" if account.role is Role.GUEST else "anyone"
        if blank is not None and not blank.desired.satisfied_by(blank.rule, needed):
            said = f"population.blank_passwords ({blank.desired.say(blank.rule)}, {blank.mark}) forbids it"
            yield (
                account.mark,
                f"{account.mark}: accounts.{account.name} requires a blank password, but {said}; {CHANGE_ONE}",
            )
        ways = self._demand("password.blank_accepted")
        if ways is not None and account.enabled:
            mine = set(account.routes or Route)
            if not any(_is_names(value) and mine & set(value) for value in self._values("password.blank_accepted")):
                accepts = f"password.blank_accepted ({ways.desired.say(ways.rule)}, {ways.mark})"
                said = f"{accepts} accepts it on none of its routes"
                yield (
                    account.mark,
                    f"{account.mark}: accounts.{account.name} requires a blank password, but {said}; {CHANGE_ONE}",
                )

    def _ways(self, account: WantedAccount) -> Conflict:
        """A way that the account should have and a rule closes to it; or all that there are."""
        if not account.enabled:
            return
        shut = {way: demand for way in account.routes or Route if (demand := self._closing(account, way)) is not None}
        if account.routes:
            for way, demand in shut.items():
                yield self._about(account, f"should sign in by {way}, but {demand.rule.id} keeps it out, as", demand)
        elif len(shut) == len(Route):
            said = "should be able to sign in, but no route is left: the first denial is"
            yield self._about(account, said, next(iter(shut.values())))

    def _closing(self, account: WantedAccount, way: Route) -> Requirement | None:
        """The rule that keeps an account out of a way on every machine; None where one may let it in."""
        groups = {GROUP + ROLE_GROUPS[account.role]} if account.role in ROLE_GROUPS else set()
        groups |= {
            GROUP + group.name
            for group in self.baseline.groups.values()
            if account.name.casefold() in map(str.casefold, group.members)
        }
        denied, allowed = (self._demand(f"logon.{way}.{key}") for key in ("denied", "allowed"))
        mine = {name.casefold() for name in (account.name, EVERYBODY, *groups)}
        values = [_folded(value) for value in self._values(f"logon.{way}.denied") if _is_names(value)]
        if denied is not None and values and all(mine & names for names in values):
            return denied
        values = [_folded(value) for value in self._values(f"logon.{way}.allowed") if _is_names(value)]
        if (
            allowed is not None
            and values
            and not any(mine & names or _may_be_in(account.role, names) for names in values)
        ):
            return allowed
        return None

    @staticmethod
    def _against(demand: Requirement, said: str, other: Requirement) -> tuple[Mark, str]:
        value = demand.desired.say(demand.rule)
        return demand.mark, f"{demand.mark}: {demand.rule.id} ({value}) {said} ({other.mark}); {CHANGE_ONE}"

    @staticmethod
    def _about(account: WantedAccount, said: str, demand: Requirement) -> tuple[Mark, str]:
        asks = f"{demand.rule.id} ({demand.desired.say(demand.rule)}, {demand.mark})"
        return account.mark, f"{account.mark}: accounts.{account.name} {said} {asks}; {CHANGE_ONE}"


def a(role: Role) -> str:
    """A role with its article."""
    return f"{'an' if role[0] in 'aeiou' else 'a'} {role}"


def _fits(role: Role, group: str) -> bool:
    """Whether membership in a group leaves an account what it should be."""
    grants = {ADMINISTRATORS: (Role.ADMINISTRATOR,), USERS: (Role.ADMINISTRATOR, Role.STANDARD)}
    return role in grants.get(group, tuple(Role))


def _may_be_in(role: Role, names: Iterable[str]) -> bool:
    """Whether a list holds a group that somebody of a role may be in, although nothing here says so."""
    groups = [name.removeprefix(GROUP) for name in names if name.startswith(GROUP)]
    return any(_fits(role, group) for group in groups)


def _most(value: Value) -> int | None:
    """The largest number of people that a value allows; None where it names them."""
    return value if isinstance(value, int) else None


def _is_names(value: Value) -> TypeGuard[frozenset[str]]:
    return isinstance(value, frozenset)


def _folded(names: frozenset[str]) -> frozenset[str]:
    return frozenset(name.casefold() for name in names)
