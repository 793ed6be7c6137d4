"""What keeps a rule on a Linux system: where it stands, how it is read, how it is written, what the system takes."""

from collections.abc import Callable, Sequence
from functools import cached_property

from attrs import define, evolve, frozen

from verrou.core.model import Account, Reading
from verrou.core.model.ways import Gate
from verrou.core.values import Takes, Value
from verrou.machines.linux.pam.faillock import Faillock, load_faillock
from verrou.machines.linux.pam.quality import PWQUALITY, Quality, quality_settings
from verrou.machines.linux.pam.stack import Stack, load_stack
from verrou.machines.linux.population import AccountFiles
from verrou.machines.linux.root import Root


@define(slots=False)
class System:
    """What the keepers read from: one system, each of its parts read once."""

    root: Root
    files: AccountFiles
    accounts: Sequence[Account]
    gates: Sequence[Gate]

    @cached_property
    def faillock(self) -> Faillock:
        return load_faillock(self.root)

    @cached_property
    def password_stack(self) -> Stack:
        """What a person who changes a password goes through."""
        return load_stack(self.root, "passwd", "password")

    @cached_property
    def quality(self) -> Quality:
        return quality_settings(self.root, next(iter(self.password_stack.having(PWQUALITY)), None))


def _nothing_against(_: System) -> str:
    return ""


ANYTHING = Takes()


@frozen(eq=False)
class Keeper:
    """One rule. ``where`` says where it stands, for people; ``write`` raises Refused, and answers with what is worth
    saying. ``cannot`` says why this system takes no value at all, before anything is tried."""

    where: str
    read: Callable[[System], Reading]
    write: Callable[[Root, Value], str]
    takes: Takes = ANYTHING
    cannot: Callable[[System], str] = _nothing_against

    def takes_on(self, system: System) -> Takes:
        """What the system takes for the rule."""
        reason = self.cannot(system)
        return evolve(self.takes, cannot=reason) if reason else self.takes
