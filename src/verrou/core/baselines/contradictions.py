"""Requirements of a baseline that no machine can meet together: rules, accounts and groups."""

from collections.abc import Iterable, Iterator
from itertools import product
from typing import TypeGuard

from attrs import define

from verrou.core.baselines.baseline import Baseline, Mark, Requirement, WantedAccount, WantedGroup
from verrou.core.model import Role, joined
from verrou.core.model.routes import Route
from verrou.core.rules import CATALOGUE, agreements
from verrou.core.values import EVERYONE, GROUP, NOBODY, NOT_SHIPPED, BuiltinName, Value

ADMINISTRATORS, USERS, GUESTS = "administrators", "users", "guests"
"""What groups that every machine has are called in a baseline."""
ROLE_GROUPS = {Role.ADMINISTRATOR: ADMINISTRATORS, Role.STANDARD: USERS, Role.GUEST: GUESTS}
CHANGE_ONE = "change one of the two"


def contradictions(baseline: Baseline) -> list[str]:
    """Return every contradiction, a line each, in the order of the file."""
    found = [*_between_rules(baseline), *_Asked(baseline).found()]
    return list(dict.fromkeys(text for _, text in sorted(found, key=lambda each: (each[0].file, each[0].line or 0))))


Conflict = Iterator[tuple[Mark, str]]


def _between_rules(baseline: Baseline) -> Conflict:
    requirements = baseline.requirements
    for rule, agreement, other in agreements():
        mine, theirs = requirements.get(rule.id), requirements.get(other.id)
        if mine is None or theirs is None:
            continue
        pairs = product(mine.desired.candidates(rule), theirs.desired.candidates(other))
        if not any(agreement.holds(rule, a, other, b) for a, b in pairs):
            yield (
                mine.mark,
                f"{mine.mark}: {rule.id} ({mine.desired.format(rule)}) {agreement.words} {other.id} "
                f"({theirs.desired.format(other)}, {theirs.mark}); {CHANGE_ONE}",
            )
    for rule in CATALOGUE.values():
        leader = requirements.get(rule.id)
        if leader is None or any(not isinstance(value, str) for value in leader.desired.candidates(rule)):
            continue  # it requires a number, to which the others apply
        followers = [requirements[rule_id] for rule_id in rule.set_with if rule_id in requirements]
        for follower in (each for each in followers if each.rule.kind.has_scale):
            yield (
                follower.mark,
                f"{follower.mark}: {follower.rule.id} means nothing where {rule.id} is {leader.desired.format(rule)} "
                f"({leader.mark}); {CHANGE_ONE}",
            )


@define(repr=False)
class _Asked:
    """One baseline, with what its accounts and groups result in."""

    baseline: Baseline

    def found(self) -> Conflict:
        yield from self._one_name_twice()
        yield from self._builtin_names()
        yield from self._groups()
        yield from self._administrators()
        yield from self._nobody_comes()
        for account in self.baseline.accounts.values():
            yield from self._blank(account)
            yield from self._routes(account)

    def _requirement(self, rule_id: str) -> Requirement | None:
        return self.baseline.requirements.get(rule_id)

    def _values(self, rule_id: str) -> list[Value]:
        requirement = self._requirement(rule_id)
        return requirement.desired.candidates(requirement.rule) if requirement is not None else []

    def _one_name_twice(self) -> Conflict:
        for kind, things in (("accounts", self.baseline.accounts), ("groups", self.baseline.groups)):
            seen: dict[str, WantedAccount | WantedGroup] = {}
            for thing in things.values():
                first = seen.setdefault(thing.name.casefold(), thing)
                if first is not thing:
                    yield (
                        thing.mark,
                        f"{thing.mark}: {kind}.{thing.name} and {kind}.{first.name} ({first.mark}) are one name on "
                        "many machines; rename one of them",
                    )

    def _builtin_names(self) -> Conflict:
        roles = {"builtin.admin_name": Role.ADMINISTRATOR, "builtin.guest_name": Role.GUEST}
        asked: dict[str, Requirement] = {}
        for rule_id, role in roles.items():
            requirement, values = self._requirement(rule_id), self._values(rule_id)
            if requirement is None or len(values) != 1 or not isinstance(values[0], BuiltinName):
                continue
            name = values[0].name.casefold()
            if name in asked and name != NOT_SHIPPED:
                yield self._against(requirement, "is the name of both built-in accounts", asked[name])
            asked[name] = requirement
            for account in self.baseline.accounts.values():
                if account.name.casefold() == name != NOT_SHIPPED and account.role is not role:
                    yield self._about(
                        account, f"should be {a(account.role)}, and a built-in account bears that", requirement
                    )

    def _groups(self) -> Conflict:
        accounts = {account.name.casefold(): account for account in self.baseline.accounts.values()}
        for group in self.baseline.groups.values():
            only = None if group.only is None else {name.casefold() for name in group.only}
            left_out = [name for name in group.members if only is not None and name.casefold() not in only]
            if left_out:
                message = f"requires the members {joined(left_out)}, who are not in its list only; {CHANGE_ONE}"
                yield group.mark, f"{group.mark}: groups.{group.name} {message}"
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
        requirement = self._requirement("population.administrators")
        if requirement is None:
            return
        accounts = [account for account in self.baseline.accounts.values() if account.enabled]
        named = {account.name for account in accounts if account.role is Role.ADMINISTRATOR}
        group = self.baseline.groups.get(ADMINISTRATORS)
        named |= set(group.members) if group is not None else set()
        most = [_most(value) for value in self._values(requirement.rule.id)]
        if most and None not in most and len(named) > max(number for number in most if number is not None):
            accepted = requirement.desired.format(requirement.rule)
            yield (
                requirement.mark,
                f"{requirement.mark}: population.administrators ({accepted}) is less than the accounts that this "
                f"baseline makes administrators: {joined(sorted(named))}; {CHANGE_ONE}",
            )
        allowed = [
            {name.casefold() for name in value} for value in self._values(requirement.rule.id) if _is_names(value)
        ]
        if allowed and len(allowed) == len(self._values(requirement.rule.id)):
            left_out = sorted(name for name in named if all(name.casefold() not in names for names in allowed))
            if left_out:
                yield (
                    requirement.mark,
                    f"{requirement.mark}: population.administrators does not contain {joined(left_out)}, which this "
                    f"baseline makes administrators; {CHANGE_ONE}",
                )

    def _nobody_comes(self) -> Conflict:
        for key, word in (("allowed", NOBODY), ("denied", EVERYONE)):
            requirement = self._requirement(f"logon.console.{key}")
            values = self._values(f"logon.console.{key}")
            empty = [value == (frozenset() if word == NOBODY else frozenset({EVERYONE})) for value in values]
            if requirement is not None and empty and all(empty):
                yield (
                    requirement.mark,
                    f"{requirement.mark}: {requirement.rule.id} is {word}: no one could sign in at the console, not "
                    "even an administrator; keep one of them",
                )

    def _blank(self, account: WantedAccount) -> Conflict:
        if account.password != "blank":
            return
        blank = self._requirement("population.blank_passwords")
        needed: Value = "guests" if account.role is Role.GUEST else "anyone"
        if blank is not None and not blank.desired.satisfied_by(blank.rule, needed):
            message = f"population.blank_passwords ({blank.desired.format(blank.rule)}, {blank.mark}) forbids it"
            yield (
                account.mark,
                f"{account.mark}: accounts.{account.name} requires a blank password, but {message}; {CHANGE_ONE}",
            )
        routes = self._requirement("password.blank_accepted")
        if routes is not None and account.enabled:
            mine = set(account.routes or Route)
            if not any(_is_names(value) and mine & set(value) for value in self._values("password.blank_accepted")):
                accepts = f"password.blank_accepted ({routes.desired.format(routes.rule)}, {routes.mark})"
                message = f"{accepts} accepts it on none of its routes"
                yield (
                    account.mark,
                    f"{account.mark}: accounts.{account.name} requires a blank password, but {message}; {CHANGE_ONE}",
                )

    def _routes(self, account: WantedAccount) -> Conflict:
        """Find a route that an account should have and a rule denies, or every route denied."""
        if not account.enabled:
            return
        shut = {
            route: requirement
            for route in account.routes or Route
            if (requirement := self._closing(account, route)) is not None
        }
        if account.routes:
            for route, requirement in shut.items():
                yield self._about(
                    account,
                    f"should be able to sign in by {route}, but {requirement.rule.id} denies it, as",
                    requirement,
                )
        elif len(shut) == len(Route):
            message = "should be able to sign in, but no route is left: the first denial is"
            yield self._about(account, message, next(iter(shut.values())))

    def _closing(self, account: WantedAccount, route: Route) -> Requirement | None:
        """Return the rule that denies the account a route on every machine; None where one may allow it."""
        groups = {GROUP + ROLE_GROUPS[account.role]} if account.role in ROLE_GROUPS else set()
        groups |= {
            GROUP + group.name
            for group in self.baseline.groups.values()
            if account.name.casefold() in map(str.casefold, group.members)
        }
        denied, allowed = (self._requirement(f"logon.{route}.{key}") for key in ("denied", "allowed"))
        mine = {name.casefold() for name in (account.name, EVERYONE, *groups)}
        values = [_folded(value) for value in self._values(f"logon.{route}.denied") if _is_names(value)]
        if denied is not None and values and all(mine & names for names in values):
            return denied
        values = [_folded(value) for value in self._values(f"logon.{route}.allowed") if _is_names(value)]
        if (
            allowed is not None
            and values
            and not any(mine & names or _may_be_in(account.role, names) for names in values)
        ):
            return allowed
        return None

    @staticmethod
    def _against(requirement: Requirement, message: str, other: Requirement) -> tuple[Mark, str]:
        value = requirement.desired.format(requirement.rule)
        return (
            requirement.mark,
            f"{requirement.mark}: {requirement.rule.id} ({value}) {message} ({other.mark}); {CHANGE_ONE}",
        )

    @staticmethod
    def _about(account: WantedAccount, message: str, requirement: Requirement) -> tuple[Mark, str]:
        asks = f"{requirement.rule.id} ({requirement.desired.format(requirement.rule)}, {requirement.mark})"
        return account.mark, f"{account.mark}: accounts.{account.name} {message} {asks}; {CHANGE_ONE}"


def a(role: Role) -> str:
    """Return a role with its article."""
    return f"{'an' if role[0] in 'aeiou' else 'a'} {role}"


def _fits(role: Role, group: str) -> bool:
    """Return whether membership in a group leaves an account what it should be."""
    grants = {ADMINISTRATORS: (Role.ADMINISTRATOR,), USERS: (Role.ADMINISTRATOR, Role.STANDARD)}
    return role in grants.get(group, tuple(Role))


def _may_be_in(role: Role, names: Iterable[str]) -> bool:
    """Return whether a list contains a group that an account of the role may be in, although nothing here says so."""
    groups = [name.removeprefix(GROUP) for name in names if name.startswith(GROUP)]
    return any(_fits(role, group) for group in groups)


def _most(value: Value) -> int | None:
    """Return the largest number of people that a value allows; None where it names them."""
    return value if isinstance(value, int) else None


def _is_names(value: Value) -> TypeGuard[frozenset[str]]:
    return isinstance(value, frozenset)


def _folded(names: frozenset[str]) -> frozenset[str]:
    return frozenset(name.casefold() for name in names)
