"""Adapter of a rule on a Linux system: where it is set, how it is read and written, and accepted values."""

import math
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from functools import cached_property

from attrs import define, evolve, field, frozen

from verrou.core.model import Account, Effect, Grant, Group, Reading, Status
from verrou.core.model.routes import EntryPoint
from verrou.core.values import AcceptedValues, Kind, Value
from verrou.machines.linux.accounts.population import AccountFiles, people_with_passwords
from verrou.machines.linux.apply.live_system import can_tell
from verrou.machines.linux.elevation import polkit
from verrou.machines.linux.elevation.polkit_actions import ALL
from verrou.machines.linux.elevation.polkit_rules import Rule
from verrou.machines.linux.files.account_files import AccountLine
from verrou.machines.linux.files.doas import Doas
from verrou.machines.linux.files.sshd import sshd_installed
from verrou.machines.linux.files.sudoers import Sudoers
from verrou.machines.linux.pam.faillock import Faillock, load_faillock
from verrou.machines.linux.pam.services import Service, asking_passwords, sshd_asks_pam
from verrou.machines.linux.pam.stack import Stack, load_stack
from verrou.machines.linux.root import Root


@define(slots=False)
class System:
    """The system that adapters read from, each part read once."""

    root: Root
    files: AccountFiles
    accounts: Sequence[Account]
    entry_points: Sequence[EntryPoint]
    groups: Sequence[Group] = ()
    sudoers: Sudoers = field(factory=lambda: Sudoers(installed=False, host=""))
    now: datetime = datetime.min
    doas: Doas = field(factory=Doas)

    @cached_property
    def administering(self) -> frozenset[str]:
        """Names of the groups that grant administrator rights."""
        return frozenset(str(each.name) for each in self.groups if each.grants and Grant.ADMINISTRATION in each.grants)

    @cached_property
    def administrators(self) -> list[Account]:
        """Administrators, by a group or by a line about them alone."""
        return [
            account
            for account in self.accounts
            if (not self.administering.isdisjoint(account.groups) or Grant.ADMINISTRATION in account.grants)
            and Grant.ADMINISTRATION not in account.denied_grants
        ]

    @cached_property
    def ageing_lines(self) -> list[AccountLine]:
        """The lines of shadow(5) of the accounts that ageing applies to."""
        shadow = self.files.shadow
        found = [shadow.find(account.name) for account in people_with_passwords(self.accounts)] if shadow else []
        return [record for record in found if record is not None]

    @cached_property
    def polkit_declared(self) -> Mapping[str, polkit.ImplicitAuthorization]:
        """Authorizations that the polkit actions of a rule declare."""
        return polkit.defaults(self.root, ALL)

    @cached_property
    def polkit_elevating(self) -> Mapping[str, polkit.ImplicitAuthorization]:
        """The polkit actions that an administrator's password opens to anyone."""
        return polkit.elevating(self.root)

    @cached_property
    def polkit_rules(self) -> tuple[Sequence[Rule], Sequence[str]]:
        """The plain polkit rules, and the files of which only polkit knows the result."""
        return polkit.rules_of(self.root)

    @cached_property
    def polkit_implied(self) -> Mapping[str, Sequence[str]]:
        """By polkit action those that imply it."""
        return polkit.implied_by(self.root)

    @cached_property
    def services(self) -> list[Service]:
        """The services that ask PAM about a password; the console's own is always the first."""
        return asking_passwords(self.root)

    @cached_property
    def faillocks(self) -> list[Faillock]:
        """The lock-out settings of each service; a remote shell without PAM has none."""
        found = [load_faillock(self.root, service.name) for service in self.services]
        for at, service in enumerate(self.services):
            if service.name == "sshd" and not sshd_asks_pam(self.root):
                found[at] = evolve(found[at], gap="the remote shell server does not ask PAM (UsePAM no)", lines=())
        return found

    @property
    def faillock(self) -> Faillock:
        return self.faillocks[0]

    @cached_property
    def password_stack(self) -> Stack:
        """The stack of a password change."""
        return load_stack(self.root, "passwd", "password")

    @cached_property
    def password_stacks(self) -> list[Stack]:
        """The same, and that of each service that asks for a new password when one is due."""
        others = [service.name for service in self.services if service.route is not None]
        stacks = [load_stack(self.root, name, "password") for name in others]
        return [self.password_stack, *(stack for stack in stacks if stack.lines or stack.broken)]


def weakest(kind: Kind, found: Sequence[tuple[str, Reading]]) -> Reading:
    """Return the weakest reading over all services; the reason names the deviating one."""
    first = found[0][1]
    unread = next(((name, each) for name, each in found if each.status is not Status.READ), None)
    if unread is not None:
        name, each = unread
        return each if each.status is first.status else evolve(each, reason=f"{name}: {each.reason}")

    def strength(each: Reading) -> tuple[bool, float]:
        return each.enforced, -math.inf if each.value is None else kind.rank(each.value)

    low = min((each for _, each in found), key=strength)
    weak = [name for name, each in found if strength(each) == strength(low)]
    if len(weak) == len(found):
        return first
    best = max((each for _, each in found), key=strength)
    elsewhere = f"by other services {kind.format(best.value)}" if best.value is not None else ""
    message = "; ".join(filter(None, (f"by {', '.join(weak)}" + (f": {low.reason}" if low.reason else ""), elsewhere)))
    others = dict.fromkeys(filter(None, (*low.overrides, best.source)))
    return evolve(low, reason=message, overrides=tuple(each for each in others if each != low.source))


def _nothing_against(_: System) -> str:
    return ""


ANYTHING = AcceptedValues()


@frozen(eq=False)
class LinuxRuleAdapter:
    """Adapter of one rule.

    ``where`` says where it is set, for people; ``write`` raises StepRejected, and returns what is worth reporting.
    ``cannot`` says why this system accepts no value at all. ``in_shadow``: the fields of each account in shadow(5)
    decide, too. ``counts``: when a change takes effect here, where that differs from the rule."""

    where: str
    read: Callable[[System], Reading]
    write: Callable[[Root, Value], str]
    accepted_values: AcceptedValues | Callable[[System], AcceptedValues] = ANYTHING
    cannot: Callable[[System], str] = _nothing_against
    in_shadow: bool = False
    counts: Callable[[System], Effect] | None = None

    def takes_on(self, system: System) -> AcceptedValues:
        """Return the accepted values of the rule."""
        accepted_values = (
            self.accepted_values if isinstance(self.accepted_values, AcceptedValues) else self.accepted_values(system)
        )
        reason = self.cannot(system)
        accepted_values = evolve(accepted_values, cannot=reason) if reason else accepted_values
        return evolve(accepted_values, effect=self.counts(system)) if self.counts is not None else accepted_values


def at_once(_: System) -> Effect:
    """Return the effect of a setting that is read anew each time."""
    return Effect.NOW


def when_sshd_is_told(system: System) -> Effect:
    """Return the effect of a setting that the remote shell server reads at its start and on reload.

    On a mounted disk no server runs."""
    waits = system.root.live and sshd_installed(system.root) and not can_tell(system.root)
    return Effect.RELOAD if waits else Effect.NOW
