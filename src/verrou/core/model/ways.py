"""The ways into a machine, and whom each lets through."""

import re
from collections.abc import Mapping
from enum import StrEnum
from functools import lru_cache

from attrs import field, frozen

from verrou.core.model.facts import Account, Source
from verrou.core.model.known import Known


class Route(StrEnum):
    """How somebody gets in."""

    CONSOLE = "console"
    NETWORK = "network"
    REMOTE_SCREEN = "remote-screen"
    REMOTE_SHELL = "remote-shell"

    @property
    def phrase(self) -> str:
        """How it stands in a sentence: ``at the console``."""
        return {
            Route.CONSOLE: "at the console",
            Route.NETWORK: "over the network",
            Route.REMOTE_SCREEN: "through a remote screen",
            Route.REMOTE_SHELL: "through a remote shell",
        }[self]


@frozen(repr=False)
class Pattern:
    """A pattern of names, as sshd_config(5) has them: ``*`` stands for any signs, ``?`` for one, every other sign for
    itself. Only readers of files that hold patterns make one: a name is a name everywhere else."""

    text: str

    def matches(self, name: str) -> bool:
        """Whether it is about a name."""
        return _compiled(self.text).fullmatch(name) is not None


@lru_cache(maxsize=1024)
def _compiled(text: str) -> re.Pattern[str]:
    signs = {"*": ".*", "?": "."}
    return re.compile("".join(signs.get(sign, re.escape(sign)) for sign in re.sub(r"\*+", "*", text)), re.DOTALL)


@frozen(repr=False)
class Principals:
    """Accounts, and groups with everybody in them, by name; ``account_patterns`` and ``group_patterns`` stand for all
    whose names they match. ``everybody`` holds whoever there is."""

    accounts: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    account_patterns: tuple[Pattern, ...] = ()
    group_patterns: tuple[Pattern, ...] = ()
    everybody: bool = False

    def contains(self, account: Account) -> bool:
        """Whether the account is inside."""
        return (
            self.everybody
            or account.name in self.accounts
            or any(group in self.groups for group in account.groups)
            or any(pattern.matches(account.name) for pattern in self.account_patterns)
            or any(self._by_pattern(group) for group in account.groups)
        )

    def names(self, group: str) -> bool:
        """Whether a group is in it with all its members."""
        return group in self.groups or self._by_pattern(group)

    def _by_pattern(self, group: str) -> bool:
        return any(pattern.matches(group) for pattern in self.group_patterns)


EVERYBODY = Principals(everybody=True)


@frozen(repr=False)
class AccessListEntry:
    """Lets somebody through a gate, or does not: who is in the first circle, but for those in the second, of whom those
    in the third are meant after all, and so on. ``source`` is the line that says so; it is ``settable`` where setting
    the rule of its way changes it."""

    lets_in: bool
    who: tuple[Principals, ...]
    source: Source | None = None
    settable: bool = False

    def is_about(self, account: Account) -> bool:
        """Whether it has anything to say about the account."""
        meant = False
        for circle in reversed(self.who):
            meant = circle.contains(account) and not meant
        return meant

    def names(self, group: str, *, left_out: bool = False) -> bool:
        """Whether the group is meant by name, or is left out by name."""
        return any(circle.names(group) for circle in self.who[left_out::2])


def allow_only(circle: Principals, source: Source | None = None, *, settable: bool = False) -> AccessListEntry:
    """Keeps everybody out who is not in ``circle``."""
    return AccessListEntry(False, (EVERYBODY, circle), source, settable)


@frozen(repr=False)
class Admission:
    """What decides about one account at an entry point where neither the lists nor the state of the account tell:
    whether it comes in by its password (a blank one included), by its key, and by its name alone. ``says`` tells by
    what, or what was not understood; ``source`` is the line. ``differs``: the system, asked itself, answers otherwise
    than its files read."""

    password: Known
    key: Known
    name: Known
    says: str
    source: Source | None = None
    differs: bool = False


@frozen(repr=False)
class EntryPoint:
    """A way in that the machine has. The first of ``passes`` that is about an account decides whether it is let
    through; where none is, it is; each list of ``also`` has to let it through in the same manner. ``passwords`` and
    ``keys`` say what opens the gate; who is in ``keys_only`` gets in by no password. ``blank``: whether a blank
    password opens it, as far as the gate itself decides that. Without ``proof`` it opens to whoever names an account,
    and asks for nothing; ``unasked`` says what signs somebody in by itself, where nobody even names one. ``services``
    are what stands behind it, where the machine tells them apart. ``admissions`` decide, by account name, in the place
    of all that, and of whether the account is enabled and has ended: only its shell has a say beside them."""

    way: Route
    passes: tuple[AccessListEntry, ...] = ()
    passwords: bool = True
    keys: bool = False
    keys_only: Principals = Principals()
    blank: bool = True
    proof: bool = True
    source: Source | None = None
    unasked: str = ""
    services: tuple[str, ...] = ()
    also: tuple[tuple[AccessListEntry, ...], ...] = ()
    admissions: Mapping[str, Admission] = field(factory=dict, hash=False)

    @property
    def lists(self) -> tuple[tuple[AccessListEntry, ...], ...]:
        """All lists, each of which has to let somebody through."""
        return (self.passes, *self.also)

    def decided_by(self, account: Account) -> AccessListEntry | None:
        """What keeps the account out, or else lets it through by name; None where nothing is about it."""
        found = None
        for passes in self.lists:
            decides = next((each for each in passes if each.is_about(account)), None)
            if decides is not None and not decides.lets_in:
                return decides
            found = found or decides
        return found

    def lets_through(self, account: Account) -> bool:
        """Whether the account may come this way at all, whatever it has to show for itself."""
        decides = self.decided_by(account)
        return decides is None or decides.lets_in

    def opened_by(self, group: str) -> bool:
        """Whether being in the group is what lets people through."""
        return any(each.names(group, left_out=not each.lets_in) for passes in self.lists for each in passes)

    def shut_by(self, group: str) -> bool:
        """Whether being in the group keeps people out."""
        return any(each.names(group) for passes in self.lists for each in passes if not each.lets_in)
