"""What keeps a rule on a Linux system: where it stands, how it is read, how it is written, what the system takes."""

import math
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from functools import cached_property

from attrs import define, evolve, field, frozen

from verrou.core.model import Account, Effect, Grant, Group, Reading, Status
from verrou.core.model.ways import EntryPoint
from verrou.core.values import AcceptedValues, Kind, Value
from verrou.machines.linux import polkit
from verrou.machines.linux.files.doas import Doas
from verrou.machines.linux.files.sshd import sshd_installed
from verrou.machines.linux.files.sudoers import Sudoers
from verrou.machines.linux.live import can_tell
from verrou.machines.linux.pam.faillock import Faillock, load_faillock
from verrou.machines.linux.pam.services import Service, asking_passwords, sshd_asks_pam
from verrou.machines.linux.pam.stack import Stack, load_stack
from verrou.machines.linux.polkit_actions import ALL
from verrou.machines.linux.polkit_rules import Rule
from verrou.machines.linux.population import AccountFiles
from verrou.machines.linux.root import Root


@define(slots=False)
class System:
    """What the keepers read from: one system, each of its parts read once."""

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
        """The names of the groups that give administration."""
        return frozenset(str(group.name) for group in self.groups if Grant.ADMINISTRATION in group.grants)

    @cached_property
    def administrators(self) -> list[Account]:
        """Who administers, by a group or by a line about them alone."""
        return [
            account
            for account in self.accounts
            if Grant.ADMINISTRATION not in account.denied_grants
            and (Grant.ADMINISTRATION in account.grants or self.administering & set(account.groups))
        ]

    @cached_property
    def polkit_shipped(self) -> Mapping[str, polkit.ImplicitAuthorization]:
        """What the actions of polkit that stand behind a rule are shipped with."""
        return polkit.defaults(self.root, ALL)

    @cached_property
    def polkit_elevating(self) -> Mapping[str, polkit.ImplicitAuthorization]:
        """The actions of polkit that an administrator's password opens to anybody."""
        return polkit.elevating(self.root)

    @cached_property
    def polkit_rules(self) -> tuple[Sequence[Rule], Sequence[str]]:
        """The rules of polkit that are plain, and the files of which nobody but polkit knows what they decide."""
        return polkit.rules_of(self.root)

    @cached_property
    def polkit_implied(self) -> Mapping[str, Sequence[str]]:
        """By action of polkit those that imply it."""
        return polkit.implied_by(self.root)

    @cached_property
    def services(self) -> list[Service]:
        """The services that ask PAM about a password; the console's own is always the first."""
        return asking_passwords(self.root)

    @cached_property
    def faillocks(self) -> list[Faillock]:
        """The lock-out of each service; a remote shell that does not go through PAM has none."""
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
        """What a person who changes a password goes through."""
        return load_stack(self.root, "passwd", "password")

    @cached_property
    def password_stacks(self) -> list[Stack]:
        """The same, and that of each service that asks for a new password when one is due."""
        others = [service.name for service in self.services if service.way is not None]
        stacks = [load_stack(self.root, name, "password") for name in others]
        return [self.password_stack, *(stack for stack in stacks if stack.lines or stack.broken)]


def weakest(kind: Kind, found: Sequence[tuple[str, Reading]]) -> Reading:
    """What holds for all services, each with its own reading: the weakest. Where one differs, the reason names it."""
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
    elsewhere = f"by other services {kind.say(best.value)}" if best.value is not None else ""
    said = "; ".join(filter(None, (f"by {', '.join(weak)}" + (f": {low.reason}" if low.reason else ""), elsewhere)))
    overrides = tuple(filter(None, (*low.overrides, best.source)))
    return evolve(low, reason=said, overrides=overrides)


def _nothing_against(_: System) -> str:
    return ""


ANYTHING = AcceptedValues()


@frozen(eq=False)
class LinuxRuleAdapter:
    """One rule. ``where`` says where it stands, for people; ``write`` raises Refused, and answers with what is worth
    saying. ``cannot`` says why this system takes no value at all, before anything is tried. ``in_shadow``: what each
    account has in shadow(5) decides too. ``counts``: when a change of it holds here, where that is not when the rule
    says."""

    where: str
    read: Callable[[System], Reading]
    write: Callable[[Root, Value], str]
    takes: AcceptedValues | Callable[[System], AcceptedValues] = ANYTHING
    cannot: Callable[[System], str] = _nothing_against
    in_shadow: bool = False
    counts: Callable[[System], Effect] | None = None

    def takes_on(self, system: System) -> AcceptedValues:
        """What the system takes for the rule."""
        takes = self.takes if isinstance(self.takes, AcceptedValues) else self.takes(system)
        reason = self.cannot(system)
        takes = evolve(takes, cannot=reason) if reason else takes
        return evolve(takes, effect=self.counts(system)) if self.counts is not None else takes


def at_once(_: System) -> Effect:
    """Of what is looked up anew each time."""
    return Effect.NOW


def when_sshd_is_told(system: System) -> Effect:
    """Of what the remote shell server reads at its start and when it is told to; a mounted disk has none at work."""
    waits = system.root.live and sshd_installed(system.root) and not can_tell(system.root)
    return Effect.RELOAD if waits else Effect.NOW
