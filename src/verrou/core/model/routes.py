"""Entry points of a machine, and the access lists that decide who is admitted."""

import re
from collections.abc import Mapping
from enum import StrEnum
from functools import lru_cache

from attrs import field

from verrou.core.made_often import made_often
from verrou.core.model.facts import Account, Source
from verrou.core.model.known import Known


class Route(StrEnum):
    """Sign-in route."""

    CONSOLE = "console"
    NETWORK = "network"
    REMOTE_SCREEN = "remote-screen"
    REMOTE_SHELL = "remote-shell"

    @property
    def phrase(self) -> str:
        """The route as a phrase of a sentence: ``at the console``."""
        return {
            Route.CONSOLE: "at the console",
            Route.NETWORK: "over the network",
            Route.REMOTE_SCREEN: "through a remote screen",
            Route.REMOTE_SHELL: "through a remote shell",
        }[self]


@made_often
class Pattern:
    """Name pattern as in sshd_config(5): ``*`` matches any characters, ``?`` one, every other character itself.

    Only readers of files that contain patterns create one: elsewhere a name is a name."""

    text: str

    def matches(self, name: str) -> bool:
        """Return whether a name matches."""
        return _compiled(self.text).fullmatch(name) is not None


@lru_cache(maxsize=1024)
def _compiled(text: str) -> re.Pattern[str]:
    signs = {"*": ".*", "?": "."}
    return re.compile("".join(signs.get(sign, re.escape(sign)) for sign in re.sub(r"\*+", "*", text)), re.DOTALL)


@made_often
class Principals:
    """Set of principals: account and group names, and patterns of either.

    A group contains all its members; ``everyone`` contains every account."""

    accounts: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    account_patterns: tuple[Pattern, ...] = ()
    group_patterns: tuple[Pattern, ...] = ()
    everyone: bool = False

    def contains(self, account: Account) -> bool:
        """Return whether the account is one of the principals."""
        return (
            self.everyone
            or account.name in self.accounts
            or any(group in self.groups for group in account.groups)
            or any(pattern.matches(account.name) for pattern in self.account_patterns)
            or any(self._by_pattern(group) for group in account.groups)
        )

    def names(self, group: str) -> bool:
        """Return whether a group is included with all its members."""
        return group in self.groups or self._by_pattern(group)

    def _by_pattern(self, group: str) -> bool:
        return any(pattern.matches(group) for pattern in self.group_patterns)


EVERYONE = Principals(everyone=True)


@made_often
class AccessListEntry:
    """Allow or deny entry of an access list; ``who`` alternates principals and exceptions.

    ``source`` is the line. It is ``settable`` where setting the rule of its route changes it."""

    allows: bool
    who: tuple[Principals, ...]
    source: Source | None = None
    settable: bool = False

    def is_about(self, account: Account) -> bool:
        """Return whether the entry is about the account."""
        meant = False
        for principals in reversed(self.who):
            meant = principals.contains(account) and not meant
        return meant

    def names(self, group: str, *, left_out: bool = False) -> bool:
        """Return whether the group is listed by name, or excepted by name."""
        return any(principals.names(group) for principals in self.who[left_out::2])


def allow_only(principals: Principals, source: Source | None = None, *, settable: bool = False) -> AccessListEntry:
    """Return an entry that denies everyone except ``principals``."""
    return AccessListEntry(False, (EVERYONE, principals), source, settable)


@made_often
class Admission:
    """Decision about one account at an entry point, where neither lists nor account state decide.

    It tells whether the account is admitted by password (a blank one included), by key, and by its name alone.
    ``statement`` names what decides, or what was not understood; ``source`` is the line. ``differs``: the system, when
    asked, answers differently from its files."""

    password: Known
    key: Known
    name: Known
    statement: str
    source: Source | None = None
    differs: bool = False


@made_often
class EntryPoint:
    """Entry point of a machine with its access lists; the first matching entry decides, default allow.

    Every list (``entries`` and each of ``also``) has to admit the account. ``passwords`` and ``keys`` are the
    credentials accepted; accounts in ``keys_only`` cannot use a password. ``blank``: a blank password is accepted, as
    far as the entry point itself decides. Without ``proof`` a name alone is enough; ``automatic`` names what signs
    someone in without even a name. ``services`` are the PAM services behind it. ``admissions`` decide by account name
    instead of all that, and instead of whether the account is enabled or expired; only the login shell is checked in
    addition."""

    route: Route
    entries: tuple[AccessListEntry, ...] = ()
    passwords: bool = True
    keys: bool = False
    keys_only: Principals = Principals()
    blank: bool = True
    proof: bool = True
    source: Source | None = None
    automatic: str = ""
    services: tuple[str, ...] = ()
    also: tuple[tuple[AccessListEntry, ...], ...] = ()
    admissions: Mapping[str, Admission] = field(factory=dict, hash=False)

    @property
    def lists(self) -> tuple[tuple[AccessListEntry, ...], ...]:
        """All access lists, each of which has to admit the account."""
        return (self.entries, *self.also)

    def decided_by(self, account: Account) -> AccessListEntry | None:
        """Return the entry that denies the account, or else the first that allows it by name; None for neither."""
        found = None
        for entries in self.lists:
            decides = next((each for each in entries if each.is_about(account)), None)
            if decides is not None and not decides.allows:
                return decides
            found = found or decides
        return found

    def admits(self, account: Account) -> bool:
        """Return whether the lists admit the account, whatever credential it has."""
        decides = self.decided_by(account)
        return decides is None or decides.allows

    def opened_by(self, group: str) -> bool:
        """Return whether membership of the group is what allows sign-in."""
        return any(each.names(group, left_out=not each.allows) for entries in self.lists for each in entries)

    def shut_by(self, group: str) -> bool:
        """Return whether membership of the group denies sign-in."""
        return any(each.names(group) for entries in self.lists for each in entries if not each.allows)
