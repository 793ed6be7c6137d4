"""The ways into a machine, and whom each lets through."""

from enum import StrEnum
from fnmatch import fnmatchcase

from attrs import frozen

from verrou.core.model.facts import Account, Source


class Way(StrEnum):
    """How somebody gets in."""

    CONSOLE = "console"
    NETWORK = "network"
    REMOTE_SCREEN = "remote-screen"
    REMOTE_SHELL = "remote-shell"


@frozen(repr=False)
class Circle:
    """Accounts, and groups with everybody in them: by name, or by a pattern with ``*`` and ``?``."""

    accounts: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()

    def holds(self, account: Account) -> bool:
        """Whether the account is inside."""
        return any(fnmatchcase(account.name, pattern) for pattern in self.accounts) or any(
            fnmatchcase(group, pattern) for pattern in self.groups for group in account.groups
        )


EVERYBODY = Circle(accounts=("*",))


@frozen(repr=False)
class Pass:
    """Lets somebody through a gate, or does not: who is in the first circle, but for those in the second, of whom those
    in the third are meant after all, and so on."""

    lets_in: bool
    who: tuple[Circle, ...]

    def is_about(self, account: Account) -> bool:
        """Whether it has anything to say about the account."""
        meant = False
        for circle in reversed(self.who):
            meant = circle.holds(account) and not meant
        return meant

    def names(self, group: str, *, left_out: bool = False) -> bool:
        """Whether the group is meant by name, or is left out by name."""
        return any(group in circle.groups for circle in self.who[left_out::2])


def nobody_but(circle: Circle) -> Pass:
    """Keeps everybody out who is not in ``circle``."""
    return Pass(False, (EVERYBODY, circle))


@frozen(repr=False)
class Gate:
    """A way in that the machine has. The first of ``passes`` that is about an account decides whether it is let
    through; where none is, it is. ``passwords`` and ``keys`` say what opens the gate; who is in ``keys_only`` gets in
    by no password. ``blank``: whether a blank password opens it, as far as the gate itself decides that. Without
    ``proof`` it opens to whoever names an account, and asks for nothing."""

    way: Way
    passes: tuple[Pass, ...] = ()
    passwords: bool = True
    keys: bool = False
    keys_only: Circle = Circle()
    blank: bool = True
    proof: bool = True
    source: Source | None = None

    def lets_through(self, account: Account) -> bool:
        """Whether the account may come this way at all, whatever it has to show for itself."""
        return next((each.lets_in for each in self.passes if each.is_about(account)), True)

    def opened_by(self, group: str) -> bool:
        """Whether being in the group is what lets people through."""
        return any(each.names(group, left_out=not each.lets_in) for each in self.passes)

    def shut_by(self, group: str) -> bool:
        """Whether being in the group keeps people out."""
        return any(each.names(group) for each in self.passes if not each.lets_in)
