"""The facts that a machine keeps: accounts, groups, readings of rules, and where each of them stands.

No class here has a generated ``repr``: a survey starts sooner without."""

from collections.abc import Iterable
from datetime import date, datetime
from enum import StrEnum
from typing import NewType

from attrs import define, evolve, frozen, setters

from verrou.core.model.words import counted, name_list, say_size
from verrou.core.values import Value

AccountName = NewType("AccountName", str)
GroupName = NewType("GroupName", str)
RuleId = NewType("RuleId", str)
"""Names that must not be mixed up: what is made of a text from outside says which it is."""


class Role(StrEnum):
    """What an account amounts to, derived from where it stands; see :func:`verrou.core.model.access.role_of`."""

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
    RELOAD = "reload"
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


class Flag(StrEnum):
    """A mark on an account about its password."""

    CHANGE_DUE = "change_due"
    CANNOT_CHANGE = "cannot_change"
    AGEING_EXEMPT = "ageing_exempt"


class Detail(StrEnum):
    """What a machine may keep about an account or a group beside its rights."""

    FULL_NAME = "full_name"
    NOTE = "note"
    SHELL = "shell"
    HINT = "hint"
    RECOVERY_QUESTIONS = "recovery_questions"
    GROUP_NOTE = "group_note"


class PasswordState(StrEnum):
    """SET: some password matches. BLANK: the empty one does. NONE: none can. UNKNOWN: we may not look."""

    SET = "set"
    BLANK = "blank"
    NONE = "none"
    UNKNOWN = "unknown"


class Unread(StrEnum):
    """What of a machine's facts could not be read, for want of rights."""

    PASSWORDS = "passwords"
    ADMINISTRATION = "administration"


@define(on_setattr=setters.frozen, repr=False, unsafe_hash=True)
class Source:
    """Where a fact stands: a file of the machine and its line (1 for the first), or words such as "default"."""

    place: str
    line: int | None = None
    text: str = ""

    @property
    def where(self) -> str:
        """The place and the line."""
        return self.place if self.line is None else f"{self.place}:{self.line}"

    def __str__(self) -> str:
        return f"{self.where} ({self.text})" if self.text else self.where


ACCOUNTS = "accounts"
"""The place of what is read off the accounts."""


def shipped_default(text: str = "") -> Source:
    """The source of what no file says: what the program itself takes then."""
    return Source("default", text=text)


class Status(StrEnum):
    """READ: the machine has the rule and said its value. The other two are shown as such and never count as holding."""

    READ = "read"
    NOT_APPLICABLE = "not-applicable"
    UNKNOWN = "unknown"


@frozen(repr=False)
class Reading:
    """The value of one rule on one machine, and what decided it.

    ``value`` is None where the rule was never set. ``enforced`` is False where a value is written down but nothing
    acts on it. ``pending`` is the value that will hold after what ``takes_effect`` names. ``reason`` says why the
    reading is what it is, ``remedy`` what a person can do about it.
    """

    value: Value | None = None
    status: Status = Status.READ
    source: Source | None = None
    overrides: tuple[Source, ...] = ()
    reason: str = ""
    remedy: str = ""
    enforced: bool = True
    pending: Value | None = None


def absent(reason: str, remedy: str = "", source: Source | None = None) -> Reading:
    """The reading of a rule that this machine does not have."""
    return Reading(status=Status.NOT_APPLICABLE, reason=reason, remedy=remedy, source=source)


def unreadable(reason: str, remedy: str = "", source: Source | None = None) -> Reading:
    """The reading of a rule that could not be read."""
    return Reading(status=Status.UNKNOWN, reason=reason, remedy=remedy, source=source)


class ActKind(StrEnum):
    """What may act for an account without anybody signing in as it. CRONTAB, AT_JOB and LINGERING are files of the
    system's own that are about this account alone; the rest are lines and files that somebody else keeps."""

    CRONTAB = "crontab"
    AT_JOB = "at-job"
    LINGERING = "lingering"
    CRON_LINE = "cron-line"
    UNIT = "unit"
    KEY = "key"
    LINE = "line"


@define(on_setattr=setters.frozen, repr=False)
class Act:
    """One thing that acts for an account. ``goes_on``: also while the account is closed, as it stands today. ``opens``
    is the other account that a key opens."""

    kind: ActKind
    source: Source
    goes_on: bool = False
    opens: str = ""


@define(on_setattr=setters.frozen, repr=False)
class Account:
    """One account as the machine keeps it: facts alone. What follows from them (must change, closed, ageing, usable,
    role) is derived in :mod:`verrou.core.model.ageing` and :mod:`verrou.core.model.access`.

    Times are the machine's own; ``locked_until`` is datetime.max for "until unlocked". ``granted_by`` are the lines
    that give it ``grants``. ``until`` is the last day on which it works. ``change_due`` marks a password that must be
    changed before all else, ``ageing_exempt`` one that bears a mark of its own that leaves it out of the age of
    passwords. ``min_age``, ``max_age``, ``warn_before`` and ``grace`` are days, where the machine keeps them for each
    account; None stands for none. ``keys`` counts keys that stand for a password at a remote shell. ``sessions`` tells
    where and since when somebody is signed in. ``home_kept`` is False where each session gets a fresh home.
    ``recovery_questions`` are the questions alone, and ``linked_identity`` is what ties the account to an identity
    that another service keeps. ``denied_grants`` is what a line takes from it although a group gives it. ``may_run``
    are the commands that it may run as root where it may not run all; ``elevation_asks`` is whose password it gives
    for what it may: its own, root's, another account's, or none. ``elevates_with`` names another account whose
    password that is. ``elevates_until`` is the last day on which the lines about it give what they give.
    ``shell_fault`` says why its shell does not allow sign-in. ``inside_by`` are the routes by which a user is signed
    in as it, as far as the machine tells. ``processes`` run as it now; ``acts`` is what acts for it without anybody
    signing in."""

    name: AccountName
    identity: str
    origin: Origin = Origin.ADDED
    builtin: Builtin | None = None
    original_name: str | None = None
    full_name: str = ""
    groups: tuple[GroupName, ...] = ()
    grants: tuple[Grant, ...] = ()
    granted_by: tuple[Source, ...] = ()
    enabled: bool = True
    may_sign_in: bool = True
    password: PasswordState = PasswordState.SET
    password_scheme: str = ""
    password_changed: date | None = None
    change_due: bool = False
    min_age: int | None = None
    max_age: int | None = None
    warn_before: int | None = None
    grace: int | None = None
    ageing_exempt: bool = False
    until: date | None = None
    locked_until: datetime | None = None
    failed_attempts: int = 0
    last_sign_in: datetime | None = None
    home: str = ""
    shell: str = ""
    source: Source | None = None
    note: str = ""
    cannot_change: bool = False
    keys: int = 0
    sessions: tuple[str, ...] = ()
    home_kept: bool = True
    hint: str = ""
    recovery_questions: tuple[str, ...] = ()
    linked_identity: str = ""
    denied_grants: tuple[Grant, ...] = ()
    may_run: tuple[str, ...] = ()
    elevation_asks: str = ""
    elevates_with: str = ""
    elevates_until: date | None = None
    shell_fault: str = ""
    inside_by: tuple[str, ...] = ()
    processes: int = 0
    acts: tuple[Act, ...] = ()


@define(on_setattr=setters.frozen, repr=False)
class Group:
    """One group, its members by account name (primary members included), what it gives them, and the lines that do.
    ``shipped`` groups came with the system and stay."""

    name: GroupName
    identity: str
    members: tuple[AccountName, ...] = ()
    grants: tuple[Grant, ...] = ()
    source: Source | None = None
    granted_by: tuple[Source, ...] = ()
    note: str = ""
    shipped: bool = False


@frozen(repr=False)
class Files:
    """What an account keeps on a machine: how many files and bytes in its home, and where it has files ``elsewhere``
    (the first of them, and how many in all). ``remark`` says why what stands in for a home is none."""

    home: str = ""
    count: int = 0
    size: int = 0
    elsewhere: tuple[str, ...] = ()
    elsewhere_count: int = 0
    looked_everywhere: bool = False
    remark: str = ""

    def without(self, places: Iterable[str]) -> "Files":
        """The same, when those places elsewhere are gone."""
        gone = set(places)
        left = tuple(place for place in self.elsewhere if place not in gone)
        return evolve(self, elsewhere=left, elsewhere_count=self.elsewhere_count - (len(self.elsewhere) - len(left)))

    def __str__(self) -> str:
        held = f"{counted(self.count, 'file')}, {say_size(self.size)}" if self.count else "no files"
        inside = f"{held} in {self.home}" if self.home else self.remark or "no home"
        if not self.elsewhere_count:
            return inside + (", none elsewhere" if self.looked_everywhere else "")
        return f"{inside}; {self.elsewhere_count} elsewhere: {name_list(list(self.elsewhere))}"
