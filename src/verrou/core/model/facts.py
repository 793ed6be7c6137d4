"""Facts stored on a machine: accounts, groups, readings of rules, and the source of each.

No class here has a generated ``repr``, so that a survey starts sooner."""

from collections.abc import Iterable
from datetime import date, datetime
from enum import StrEnum
from typing import NewType

from attrs import evolve, frozen

from verrou.core.made_often import made_often
from verrou.core.model.text import counted, name_list, size_text
from verrou.core.values import Value

AccountName = NewType("AccountName", str)
GroupName = NewType("GroupName", str)
RuleId = NewType("RuleId", str)
"""Names of different things that must not be confused: a text from outside gets its type where it is read."""


class Role(StrEnum):
    """Role of an account, derived from its rights; see :func:`verrou.core.model.access.role_of`."""

    ADMINISTRATOR = "administrator"
    STANDARD = "standard"
    GUEST = "guest"
    SERVICE = "service"
    SYSTEM = "system"


class Effect(StrEnum):
    """When a change takes effect."""

    NOW = "now"
    NEXT_PASSWORD = "next-password"
    NEXT_SIGN_IN = "next-sign-in"
    RELOAD = "reload"
    RESTART = "restart"


class Origin(StrEnum):
    """Origin of an account: the system itself (built-in or system account), a package, or a person."""

    BUILT_IN = "built-in"
    SYSTEM = "system"
    SERVICE = "service"
    ADDED = "added"


class Builtin(StrEnum):
    """Which built-in account an account is, by its fixed ID."""

    ADMIN = "admin"
    GUEST = "guest"
    OTHER = "other"


class Grant(StrEnum):
    """What a group, or a line that names an account, grants."""

    ADMINISTRATION = "administration"
    ORDINARY_USE = "ordinary use"
    GUEST_USE = "guest use"


class Flag(StrEnum):
    """A mark about an account's password."""

    CHANGE_DUE = "change_due"
    CANNOT_CHANGE = "cannot_change"
    AGEING_EXEMPT = "ageing_exempt"


class Detail(StrEnum):
    """What a machine may store about an account or a group besides its rights."""

    FULL_NAME = "full_name"
    NOTE = "note"
    SHELL = "shell"
    HINT = "hint"
    RECOVERY_QUESTIONS = "recovery_questions"
    GROUP_NOTE = "group_note"
    HOME = "home"


class PasswordState(StrEnum):
    """State of a password. SET: some password matches. BLANK: the empty one does. NONE: none can. UNKNOWN: not
    readable."""

    SET = "set"
    BLANK = "blank"
    NONE = "none"
    UNKNOWN = "unknown"


class Unread(StrEnum):
    """A part of the facts that could not be read without more rights."""

    PASSWORDS = "passwords"
    ADMINISTRATION = "administration"


@made_often
class Source:
    """Where a fact is set: a file and its line (1 for the first), or words such as "default"."""

    place: str
    line: int | None = None
    text: str = ""

    @property
    def where(self) -> str:
        """The place with its line."""
        return self.place if self.line is None else f"{self.place}:{self.line}"

    def __str__(self) -> str:
        return f"{self.where} ({self.text})" if self.text else self.where


ACCOUNTS = "accounts"
"""The source of facts derived from the accounts."""


def program_default(text: str = "") -> Source:
    """Return the source of a setting that no file sets: the default of the program itself."""
    return Source("default", text=text)


class Status(StrEnum):
    """READ: the machine has the rule, and its value was read. The other two never count as met."""

    READ = "read"
    NOT_APPLICABLE = "not-applicable"
    UNKNOWN = "unknown"


@made_often
class Reading:
    """Value of one rule on one machine, and what set it.

    ``value`` is None where the rule was never set. ``enforced`` is False where a value is configured but not enforced.
    ``pending`` is the value after what ``takes_effect`` names. ``reason`` says why the reading is what it is,
    ``remedy`` what a person can do about it."""

    value: Value | None = None
    status: Status = Status.READ
    source: Source | None = None
    overrides: tuple[Source, ...] = ()
    reason: str = ""
    remedy: str = ""
    enforced: bool = True
    pending: Value | None = None


def absent(reason: str, remedy: str = "", source: Source | None = None) -> Reading:
    """Return the reading of a rule that this machine does not have."""
    return Reading(status=Status.NOT_APPLICABLE, reason=reason, remedy=remedy, source=source)


def unreadable(reason: str, remedy: str = "", source: Source | None = None) -> Reading:
    """Return the reading of a rule that could not be read."""
    return Reading(status=Status.UNKNOWN, reason=reason, remedy=remedy, source=source)


class ActKind(StrEnum):
    """What can run as an account without a sign-in.

    CRONTAB, AT_JOB and LINGERING are system files about this account alone, so a step can remove them. The others are
    lines and files of another owner."""

    CRONTAB = "crontab"
    AT_JOB = "at-job"
    LINGERING = "lingering"
    CRON_LINE = "cron-line"
    UNIT = "unit"
    KEY = "key"
    LINE = "line"


@made_often
class Act:
    """One background job of an account.

    ``runs_when_disabled``: also while the account is disabled. ``opens`` is the account that a key also signs in to."""

    kind: ActKind
    source: Source
    runs_when_disabled: bool = False
    opens: str = ""


@made_often
class Account:
    """One account as the machine stores it: facts alone.

    What follows from them (must change, disabled, ageing, usable, role) is derived in :mod:`verrou.core.model.ageing`
    and :mod:`verrou.core.model.access`. Times are local times of the machine; ``locked_until`` is datetime.max for
    "until unlocked". ``granted_by`` are the lines that grant ``grants``. ``until`` is the last day on which the account
    works. ``change_due``: its password must be changed at the next sign-in. ``ageing_exempt``: a mark of its own
    exempts it from password ageing. ``min_age``, ``max_age``, ``warn_before`` and ``grace`` are days, where the machine
    stores them for each account; None for no limit. ``keys`` counts public keys accepted at a remote shell.
    ``sessions`` are those open now, with route and start. ``home_kept`` is False where each session gets a temporary
    home. ``recovery_questions`` are the questions alone, ``linked_identity`` is the online identity the account is
    linked to. ``denied_grants`` are grants of its groups that a line denies it. ``may_run`` are the commands that it
    can run as root, where it cannot run all; ``elevation_asks`` is whose password elevation asks for (its own, root's,
    another account's, none), and ``elevates_with`` the other account. ``elevates_until`` is the last day on which those
    lines apply. ``shell_fault`` says why its login shell does not allow sign-in. ``inside_by`` are the routes of its
    open sessions, and ``session_grants`` what these were granted when they began; None where there are none, or the
    machine does not keep that apart. ``processes`` counts what runs as it now, and ``acts`` are its background jobs."""

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
    session_grants: tuple[Grant, ...] | None = None
    processes: int = 0
    acts: tuple[Act, ...] = ()


@made_often
class Group:
    """One group with its members by account name (primary members included) and its grants.

    ``granted_by`` are the lines that grant them. ``shipped`` groups are built in and cannot be removed."""

    name: GroupName
    identity: str
    members: tuple[AccountName, ...] = ()
    grants: tuple[Grant, ...] = ()
    source: Source | None = None
    granted_by: tuple[Source, ...] = ()
    note: str = ""
    built_in: bool = False


@frozen(repr=False)
class Files:
    """Files of an account: count and bytes in its home, and the places ``elsewhere`` (the first ones, and how many
    in all).

    ``remark`` says why its home is not a usable folder."""

    home: str = ""
    count: int = 0
    size: int = 0
    elsewhere: tuple[str, ...] = ()
    elsewhere_count: int = 0
    looked_everywhere: bool = False
    remark: str = ""

    def without(self, places: Iterable[str]) -> "Files":
        """Return the files without those in the given places."""
        gone = set(places)
        left = tuple(place for place in self.elsewhere if place not in gone)
        return evolve(self, elsewhere=left, elsewhere_count=self.elsewhere_count - (len(self.elsewhere) - len(left)))

    def __str__(self) -> str:
        held = f"{counted(self.count, 'file')}, {size_text(self.size)}" if self.count else "no files"
        inside = f"{held} in {self.home}" if self.home else self.remark or "no home"
        if not self.elsewhere_count:
            return inside + (", none elsewhere" if self.looked_everywhere else "")
        return f"{inside}; {self.elsewhere_count} elsewhere: {name_list(list(self.elsewhere))}"
