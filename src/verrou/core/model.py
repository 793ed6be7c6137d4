"""What a machine is now: accounts, groups, readings of rules, and where each of them stands."""

from collections.abc import Iterable, Mapping
from datetime import date, datetime
from enum import StrEnum
from functools import cached_property

from attrs import asdict, define, field, frozen, setters

from verrou.core.values import Value


class Role(StrEnum):
    """What an account amounts to, derived from where it stands; see :func:`verrou.core.access.role_of`."""

    ADMINISTRATOR = "administrator"
    STANDARD = "standard"
    GUEST = "guest"
    SERVICE = "service"
    SYSTEM = "system"


class Effect(StrEnum):
    """When a change holds."""

    NOW = "now"
    NEXT_PASSWORD = "next-password"
    NEXT_SIGN_IN = "next-sign-in"
    RESTART = "restart"


class Origin(StrEnum):
    """Who made an account: the system itself (built-in or plumbing), a package, or a person."""

    BUILT_IN = "built-in"
    SYSTEM = "system"
    SERVICE = "service"
    ADDED = "added"


class Builtin(StrEnum):
    """Which of the shipped accounts an account is, by its fixed identity."""

    ADMIN = "admin"
    GUEST = "guest"
    OTHER = "other"


class Grant(StrEnum):
    """What a group, or a line that names an account, gives."""

    ADMINISTRATION = "administration"
    ORDINARY_USE = "ordinary use"
    GUEST_USE = "guest use"
    REMOTE_SCREEN = "remote screen"


class PasswordState(StrEnum):
    """SET: some password matches. BLANK: the empty one does. NONE: none can."""

    SET = "set"
    BLANK = "blank"
    NONE = "none"


@define(on_setattr=setters.frozen)
class Source:
    """Where a fact stands: a file of the machine and its line (1 for the first), or words such as "shipped default"."""

    place: str
    line: int | None = None
    text: str = ""

    def __str__(self) -> str:
        where = self.place if self.line is None else f"{self.place}:{self.line}"
        return f"{where} ({self.text})" if self.text else where


def shipped_default(text: str = "") -> Source:
    """The source of what no file says: what the program itself takes then."""
    return Source("shipped default", text=text)


class Status(StrEnum):
    """READ: the machine has the rule and said its value. The other two are shown as such and never count as holding."""

    READ = "read"
    ABSENT = "absent"
    UNREADABLE = "unreadable"


@frozen
class Reading:
    """The value of one rule on one machine, and what decided it.

    ``value`` is None where the rule was never set. ``in_force`` is False where a value is written down but nothing
    acts on it. ``pending`` is the value that will hold after what ``takes_effect`` names. ``reason`` says why the
    reading is what it is, ``remedy`` what a person can do about it.
    """

    value: Value | None = None
    status: Status = Status.READ
    source: Source | None = None
    overruled: tuple[Source, ...] = ()
    reason: str = ""
    remedy: str = ""
    in_force: bool = True
    pending: Value | None = None


def absent(reason: str, remedy: str = "", source: Source | None = None) -> Reading:
    """The reading of a rule that this machine does not have."""
    return Reading(status=Status.ABSENT, reason=reason, remedy=remedy, source=source)


def unreadable(reason: str, remedy: str = "", source: Source | None = None) -> Reading:
    """The reading of a rule that could not be read."""
    return Reading(status=Status.UNREADABLE, reason=reason, remedy=remedy, source=source)


@define(on_setattr=setters.frozen)
class Account:
    """One account as the machine keeps it. Times are the machine's own; ``locked_until`` is datetime.max for
    "until unlocked". ``given_by`` are the lines that give it ``grants``. ``ages_exempt`` accounts bear a mark of their
    own that leaves them out of the age of passwords."""

    name: str
    identity: str
    origin: Origin = Origin.ADDED
    builtin: Builtin | None = None
    shipped_name: str | None = None
    full_name: str = ""
    groups: tuple[str, ...] = ()
    grants: tuple[Grant, ...] = ()
    given_by: tuple[Source, ...] = ()
    enabled: bool = True
    may_sign_in: bool = True
    password: PasswordState = PasswordState.SET
    password_scheme: str = ""
    password_changed: date | None = None
    password_ages: bool = True
    ages_exempt: bool = False
    must_change: bool = False
    expires: date | None = None
    locked_until: datetime | None = None
    wrong_tries: int = 0
    last_sign_in: datetime | None = None
    home: str = ""
    shell: str = ""
    source: Source | None = None


@define(on_setattr=setters.frozen)
class Group:
    """One group, its members by account name (primary members included), what it gives them, and the lines that do."""

    name: str
    identity: str
    members: tuple[str, ...] = ()
    grants: tuple[Grant, ...] = ()
    source: Source | None = None
    given_by: tuple[Source, ...] = ()


@frozen
class Naming:
    """What the machine takes as an account name: a regular expression, a length, and both in words."""

    pattern: str
    longest: int
    words: str


@frozen
class MachineFacts:
    """Which machine this is. ``now`` is its own clock, without a time zone; ``in_use`` names the account that whoever
    is at work signed in with."""

    name: str
    kind: str
    system: str
    address: str
    now: datetime
    naming: Naming
    in_use: str = ""


@define(frozen=True, slots=False)
class Posture:
    """The whole of what was observed. ``troubles`` are lines about what the machine itself keeps in a broken state."""

    machine: MachineFacts
    accounts: tuple[Account, ...]
    groups: tuple[Group, ...]
    readings: Mapping[str, Reading] = field(factory=dict)
    troubles: tuple[str, ...] = ()

    @cached_property
    def by_name(self) -> Mapping[str, Account]:
        """Accounts by name; of two with one name the first, as systems look them up."""
        return {account.name: account for account in reversed(self.accounts)}

    @cached_property
    def by_identity(self) -> Mapping[str, tuple[Account, ...]]:
        """Accounts by identity; more than one for an identity is worth a look."""
        found: dict[str, tuple[Account, ...]] = {}
        for account in self.accounts:
            found[account.identity] = (*found.get(account.identity, ()), account)
        return found

    @cached_property
    def granting(self) -> Mapping[str, frozenset[Grant]]:
        """What each group gives, by group name."""
        return {group.name: frozenset(group.grants) for group in self.groups if group.grants}

    def builtin(self, which: Builtin) -> Account | None:
        """The shipped account of that identity, whatever it is called today."""
        return next((a for a in self.accounts if a.builtin is which), None)

    def group_with(self, grant: Grant) -> Group | None:
        """The first group that gives ``grant``."""
        return next((g for g in self.groups if grant in g.grants), None)

    def group(self, name: str) -> Group | None:
        """The group of that name."""
        return next((g for g in self.groups if g.name == name), None)

    @cached_property
    def fingerprint(self) -> str:
        """A digest of all a worksheet may rest on; sign-in times and tries do not count."""
        import hashlib  # only a change needs it; a survey starts faster without

        moving = {"last_sign_in": None, "wrong_tries": 0, "locked_until": None}
        digest = hashlib.sha256()
        parts: Iterable[object] = (
            [{**asdict(a), **moving} for a in self.accounts],
            [asdict(g) for g in self.groups],
            sorted((k, repr(r.value), r.status, r.in_force) for k, r in self.readings.items()),
        )
        for part in parts:
            digest.update(repr(part).encode("utf-8", "backslashreplace"))
        return digest.hexdigest()


def name_list(names: list[str], most: int = 4) -> str:
    """Names for one line: the first few and how many more."""
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"
