"""The observed state of one machine, with lookups."""

from collections.abc import Callable, Mapping, Set
from datetime import date, datetime
from functools import cached_property
from typing import Any, TypeVar

from attrs import define, evolve, field, frozen

from verrou.core.model.facts import (
    Account,
    AccountName,
    Builtin,
    Detail,
    Flag,
    Grant,
    Group,
    GroupName,
    Reading,
    Unread,
)
from verrou.core.model.routes import EntryPoint
from verrou.core.values import GROUP, AcceptedValues

T = TypeVar("T")
BY_WHAT_THEY_ARE = {
    "administrators": Grant.ADMINISTRATION,
    "users": Grant.ORDINARY_USE,
    "guests": Grant.GUEST_USE,
}
"""What the groups that every machine has are called in a baseline, whatever the machine calls them."""


@frozen(repr=False)
class Naming:
    """Account names the machine accepts: a regular expression, a length, and both in words.

    ``without_case``: names that differ in case alone are one name."""

    pattern: str
    longest: int
    words: str
    without_case: bool = False


@frozen(repr=False)
class MachineFacts:
    """Which machine it is and what it offers.

    ``now`` is its own clock, without a time zone; ``in_use`` is the account of the person at work, ``came_by`` their
    route. ``details`` are what it stores of accounts and groups, ``excluding`` the pairs of flags that exclude each
    other there. ``guest_group`` is the name for a group that makes guests, where it has none. ``temporary_homes``: it
    can give each session a temporary home. ``ages_given`` are the days a new account gets, by rule, where each account
    has ages of its own; empty where one rule applies to all. ``disabling_clears_blank``: disabling an account
    overwrites a blank password. ``no_sign_ins`` says why its record of sign-ins cannot be trusted, ``sign_ins_since``
    from which day on it is kept; None for always. ``admin_ageing_exempt``: the built-in administrator is exempt from
    ageing, since the system itself works as it. ``lists_disabled``: its sign-in screen lists disabled accounts, too.
    ``unread`` is what could not be read without more rights. ``identity`` tells the machine from every other under any
    name; empty where it has none. ``interrupted`` describes a run of Verrou that did not end. ``full_rights`` is the
    account that may read and change everything, where not every one may. ``asks_with`` is the option with which the
    system itself would have been asked, where it was not; ``asked`` says what was asked of a mounted disk."""

    name: str
    kind: str
    system: str
    address: str
    now: datetime
    naming: Naming
    in_use: str = ""
    came_by: str = ""
    details: tuple[Detail, ...] = ()
    excluding: tuple[tuple[Flag, Flag], ...] = ()
    guest_group: str = ""
    temporary_homes: bool = False
    ages_given: tuple[tuple[str, int | None], ...] = ()
    disabling_clears_blank: bool = False
    no_sign_ins: str = ""
    sign_ins_since: date | None = None
    admin_ageing_exempt: bool = False
    unread: tuple[Unread, ...] = ()
    lists_disabled: bool = False
    identity: str = ""
    interrupted: str = ""
    full_rights: str = "an administrator"
    asks_with: str = ""
    asked: str = ""

    @property
    def known_by(self) -> str:
        """What tells it from every other: its identity, or its kind and name where it has none."""
        return self.identity or f"{self.kind} {self.name}"

    @property
    def elevation_has_every_right(self) -> bool:
        """Whether an elevated program works as the system itself, whatever rights its user has."""
        return self.admin_ageing_exempt

    @property
    def ages_by_account(self) -> bool:
        """Whether each account has ages of its own."""
        return bool(self.ages_given)


@define(frozen=True, slots=False, repr=False)
class Snapshot:
    """Observed state of one machine, with lookups. Immutable.

    ``warnings`` are lines about what the machine itself stores in a broken state, ``accepted_values`` are by rule the
    values that the machine accepts."""

    machine: MachineFacts
    accounts: tuple[Account, ...]
    groups: tuple[Group, ...]
    readings: Mapping[str, Reading] = field(factory=dict)
    warnings: tuple[str, ...] = ()
    entry_points: tuple[EntryPoint, ...] = ()
    accepted_values: Mapping[str, AcceptedValues] = field(factory=dict, eq=False)

    @cached_property
    def by_name(self) -> Mapping[AccountName, Account]:
        """Accounts by name; of two with one name the first, as systems look them up."""
        return {account.name: account for account in reversed(self.accounts)}

    @cached_property
    def by_identity(self) -> Mapping[str, tuple[Account, ...]]:
        """Accounts by ID; more than one for an ID is notable."""
        found: dict[str, tuple[Account, ...]] = {account.identity: (account,) for account in self.accounts}
        if len(found) < len(self.accounts):
            found = {}
            for account in self.accounts:
                found[account.identity] = (*found.get(account.identity, ()), account)
        return found

    @cached_property
    def granting(self) -> Mapping[GroupName, frozenset[Grant]]:
        """Grants by group name."""
        return {group.name: frozenset(group.grants) for group in self.groups if group.grants}

    @cached_property
    def administering(self) -> frozenset[GroupName]:
        """Names of the groups that grant administrator rights."""
        return frozenset(name for name, grants in self.granting.items() if Grant.ADMINISTRATION in grants)

    @cached_property
    def _found(self) -> dict[object, Any]:
        return {}

    def once(self, find: "Callable[[Snapshot], T]") -> T:
        """Return ``find(self)``, computed once: nothing of a snapshot ever changes."""
        if find not in self._found:
            self._found[find] = find(self)
        found: T = self._found[find]
        return found

    def with_accounts(self, accounts: tuple[Account, ...]) -> "Snapshot":
        """Return the same machine with other accounts.

        What was derived about groups is carried over, since a plan of hundreds of steps looks at the machine after each
        of them."""
        return self._with(accounts, self._changed(accounts))

    def with_account(self, account: Account) -> "Snapshot":
        """Return the same machine with one more account, of a new name."""
        changed = self._with((*self.accounts, account), {account.name})
        changed.__dict__["by_name"] = {**self.by_name, account.name: account}
        mine = (*self.by_identity.get(account.identity, ()), account)
        changed.__dict__["by_identity"] = {**self.by_identity, account.identity: mine}
        return changed

    def _with(self, accounts: tuple[Account, ...], changed: Set[AccountName]) -> "Snapshot":
        """Return the machine with other accounts, without the decisions about those that changed; the entry points are
        the same ones, where there are no such decisions."""
        entry_points = self.entry_points
        if any(name in entry_point.admissions for entry_point in entry_points for name in changed):
            entry_points = tuple(
                evolve(each, admissions={name: found for name, found in each.admissions.items() if name not in changed})
                for each in entry_points
            )
        snapshot = evolve(self, accounts=accounts, entry_points=entry_points)
        snapshot.__dict__.update({key: self.__dict__[key] for key in _ABOUT_GROUPS if key in self.__dict__})
        return snapshot

    def _changed(self, accounts: tuple[Account, ...]) -> Set[AccountName]:
        """Return the names of accounts that are there no more, are new, or are another one."""
        before, after = set(map(id, self.accounts)), set(map(id, accounts))
        names = {account.name for account in self.accounts if id(account) not in after}
        names |= {account.name for account in accounts if id(account) not in before}
        now = {account.name: account for account in reversed(accounts) if account.name in names}
        return {name for name in names if name not in now or self.by_name.get(name) != now[name]}

    def builtin(self, which: Builtin) -> Account | None:
        """Return that built-in account, whatever its name is today."""
        return next((a for a in self.accounts if a.builtin is which), None)

    def group_with(self, grant: Grant) -> Group | None:
        """Return the first group that has ``grant``."""
        return self._giving.get(grant)

    @cached_property
    def _giving(self) -> Mapping[Grant, Group]:
        return {grant: group for group in reversed(self.groups) for grant in group.grants}

    @cached_property
    def _groups_by_name(self) -> Mapping[GroupName, Group]:
        return {group.name: group for group in reversed(self.groups)}

    @cached_property
    def _groups_by_identity(self) -> Mapping[str, Group]:
        return {group.identity: group for group in reversed(self.groups)}

    def account_called(self, name: str) -> Account | None:
        """Return the account of that name, compared as the machine compares names."""
        found = self.by_name.get(AccountName(name))
        if found is None and self.machine.naming.without_case:
            return self._accounts_without_case.get(name.casefold())
        return found

    @cached_property
    def _accounts_without_case(self) -> Mapping[str, Account]:
        return {account.name.casefold(): account for account in reversed(self.accounts)}

    @cached_property
    def _groups_without_case(self) -> Mapping[str, Group]:
        return {group.name.casefold(): group for group in reversed(self.groups)}

    def group_called(self, name: str) -> Group | None:
        """Return the group by name or ID, or else by what it is on any machine."""
        if (group := self.group(name)) is not None:
            return group
        return self.group_with(BY_WHAT_THEY_ARE[name]) if name in BY_WHAT_THEY_ARE else None

    def own_name_of(self, group: str) -> str:
        """Return what this machine calls a group; the name itself where it has no such group."""
        found = self.group_called(group)
        return group if found is None else found.name

    def own_spelling(self, name: str) -> str:
        """Return a listed name (with ``group:`` before a group's) in the machine's spelling; itself where it is
        unknown."""
        if name.startswith(GROUP):
            return GROUP + self.own_name_of(name.removeprefix(GROUP))
        found = self.account_called(name)
        return name if found is None else found.name

    def common_spelling(self, name: str) -> str:
        """Return the name of a built-in group as baselines write it: the inverse."""
        return GROUP + self.common_name_of(name.removeprefix(GROUP)) if name.startswith(GROUP) else name

    def common_name_of(self, group: str) -> str:
        """Return what a baseline calls a group that every machine has; the name itself of any other."""
        return self._common_names.get(group, group)

    @cached_property
    def _common_names(self) -> Mapping[str, str]:
        return {self.own_name_of(name): name for name in BY_WHAT_THEY_ARE}

    @cached_property
    def members(self) -> Mapping[str, tuple[AccountName, ...]]:
        """Members by group name."""
        return {str(group.name): group.members for group in self.groups}

    def group(self, name: str) -> Group | None:
        """Return the group of that name, as the machine compares names, or else of that ID.

        Names may be in another language, IDs are not."""
        found = self._groups_by_name.get(GroupName(name))
        if found is None and self.machine.naming.without_case:
            found = self._groups_without_case.get(name.casefold())
        return found or self._groups_by_identity.get(name)


_ABOUT_GROUPS = ("granting", "administering", "_giving", "_groups_by_name", "_groups_by_identity")
