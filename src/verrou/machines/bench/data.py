"""What a bench machine's file holds, typed; :mod:`~.shape` checks a file against it."""

from typing import Any, NewType, TypedDict

Moment = NewType("Moment", str)
"""A point in time in ISO 8601, without a zone."""
Policy = dict[str, Any]
"""Numbers, switches and lists by key; the authority checks each value itself."""


class PasswordData(TypedDict):
    """A hashed password. ``blank``: it is the empty one."""

    scheme: str
    salt: str
    hash: str
    blank: bool
    at: Moment


class RecoveryData(TypedDict):
    """A recovery question and its hashed answer."""

    question: str
    answer: PasswordData


class AccountFacts(TypedDict):
    """What is stored of an account and shown of it alike. ``open`` is enabled, ``emptied`` a temporary home."""

    id: int
    name: str
    full_name: str
    note: str
    home: str
    emptied: bool
    hint: str
    outside: str
    open: bool
    must_change: bool
    cannot_change: bool
    never_ends: bool
    ends: Moment | None
    own_idle: int | None
    locked_at: Moment | None
    last_sign_in: Moment | None


class AccountData(AccountFacts):
    """An account as it is stored. ``tries`` are failed attempts."""

    recovery: list[RecoveryData]
    password: PasswordData | None
    history: list[PasswordData]
    tries: list[Moment]


class GroupData(TypedDict):
    """A group with its members by ID."""

    id: int
    name: str
    note: str
    members: list[int]


class PromptData(TypedDict):
    """An open prompt for elevation, and what answers it."""

    at: Moment
    wants: str


class _SessionData(TypedDict):
    token: int
    account: int
    way: str
    since: Moment
    holds: list[int]
    locked: bool


class SessionData(_SessionData, total=False):
    """An open session. ``holds`` are the IDs of its account and of the groups that it was in at its beginning, which
    decide what the session may do; ``locked``: its screen is locked."""

    asked: PromptData
    answered: Moment


class FileData(TypedDict):
    """A file and its owner's ID."""

    place: str
    size: int
    owner: int


class ArchiveData(TypedDict):
    """An archived home."""

    place: str
    sha256: str
    files: list[FileData]


class MachineData(TypedDict):
    """The whole machine. ``next`` is the next ID, ``waiting`` are former values that are still enforced, ``front`` is
    the token of the session whose owner sits at the machine, 0 for none;
    ``keys_pressed``: the attention keys were, and nobody has signed in since."""

    bench: int
    serial: str
    name: str
    edition: str
    language: str
    clock: Moment
    next: int
    policy: Policy
    waiting: Policy
    accounts: list[AccountData]
    groups: list[GroupData]
    sessions: list[SessionData]
    disk: list[FileData]
    archives: list[ArchiveData]
    front: int
    switched_off: bool
    keys_pressed: bool


class ShownSession(TypedDict):
    """An open session as it is shown. ``may``: it can change the machine, by what it held at its beginning."""

    way: str
    since: Moment
    may: bool


class ShownAccount(AccountFacts):
    """An account as it is shown: with its groups, and without any hash.

    ``password`` is none, blank or set; ``locked_until`` a moment, or unlocked where only an administrator can lift
    it."""

    questions: list[str]
    sessions: list[ShownSession]
    password: str
    scheme: str
    password_set: Moment | None
    groups: list[str]
    recent_tries: int
    locked_until: str | None
    shipped_name: str | None


class ShownGroup(TypedDict):
    """A group with its members by name."""

    id: int
    name: str
    note: str
    members: list[str]


class Screen(TypedDict):
    """What the sign-in screen shows."""

    accounts: list[str]
    last: str
    off: bool
    keys_first: bool
    greeting: dict[str, str]
