"""What a machine can do, as capabilities: every machine is observed; some are changed, tested or asked.

A machine has a capability, or says why it lacks it."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from verrou.core.errors import MachineRefused
from verrou.machines.changes import (
    Change,
    ChangeSet,
    PlaceState,
    RestoreResult,
    Secrets,
    Stamps,
    StepResult,
)

if TYPE_CHECKING:
    from socket import socket

    from verrou.core.judging.review import Arrival
    from verrou.core.model import Account, Files, Role, Snapshot
    from verrou.core.steps.step import Step
    from verrou.core.testing.attempts import Attempt, TrialAccount
    from verrou.core.testing.passwords import Policy


MOST_NAMED = 20
"""How many files outside a home are named; the rest is counted."""


class CannotLook(Exception):
    """The files of an account cannot be listed; the message is the reason."""


class DryRunUnavailable(Exception):
    """No private copy of the machine can be made; the message is the reason."""


class TooSlow(DryRunUnavailable):
    """The system was asked and did not answer in time."""


class Asking(StrEnum):
    """Whether the system's own programs are asked, besides reading its files.

    USUAL asks on this computer, and for what changes or tests a machine; FILES_ONLY never asks; SYSTEM also asks of a
    disk that is only looked at."""

    USUAL = "usual"
    FILES_ONLY = "files-only"
    SYSTEM = "ask-system"


class Lacks(NamedTuple):
    """A capability that a machine does not have, with the reason."""

    reason: str


class Machine(Protocol):
    """Any machine. Nothing here assumes files on this computer, or that the machine can be changed."""

    kind: str
    name: str
    address: str

    def observe(self, *, asked: bool = False) -> "Snapshot":
        """Return the current state of the machine; ``asked``: it is about to be changed or tested, so the system is
        asked.

        Raises: BadInput: it cannot be read. NotEnoughRights: reading is denied."""
        ...

    def files_of(self, account: "Account", everywhere: bool) -> "Files":
        """Return the files in an account's home, and where it has files elsewhere.

        Usual places are searched, or with ``everywhere`` the whole machine. Raises: CannotLook: with the reason."""
        ...

    @property
    def recorded(self) -> float | None:
        """When this record of a machine was written, in seconds since 1970; None for the machine itself."""
        ...

    @property
    def changeable(self) -> "ChangeableMachine | Lacks":
        """The machine as one that is dry-run and changed."""
        ...

    @property
    def testable(self) -> "TestableMachine | Lacks":
        """The machine as one on which test accounts make attempts."""
        ...

    @property
    def askable(self) -> "AskableMachine | Lacks":
        """The machine as one whose own programs answer."""
        ...


class Visitor(Protocol):
    """The user at another computer, who can sign in to this one again."""

    @property
    def account(self) -> str:
        """The account by which they came."""
        ...

    @property
    def ends(self) -> str:
        """Both ends of their connection, as in ``SSH_CONNECTION`` (ssh(1))."""
        ...

    def sign_in_again(self, line: "socket") -> tuple[bool, str]:
        """Sign in once more through an open connection, and elevate; return whether it succeeded, or why not."""
        ...


class TestableMachine(Protocol):
    """The capability to be tested: temporary accounts make attempts, on the machine or on a copy of it."""

    def tests(self) -> "AbstractContextManager[Attempt]":
        """Return what makes a temporary test account: see :meth:`Copy.attempt`.

        Raises: DryRunUnavailable, NotEnoughRights, MachineRefused: none can be made now, with the reason."""
        ...


class AskableMachine(Protocol):
    """The capability to be asked: the system's own programs answer questions that its files leave open."""

    asking: Asking


class ChangeableMachine(Machine, Protocol):
    """The capability to be dry-run on a private copy, and changed as the dry run showed."""

    visitor: Visitor | None
    """The user at another computer, whose way in is tried on each private copy."""

    def dry_run(self) -> "AbstractContextManager[Copy]":
        """Return a private copy of the machine as it is now.

        Raises: DryRunUnavailable: with the reason. NotEnoughRights, MachineRefused: nothing can be changed here."""
        ...

    def moved(self, stamps: Stamps) -> Sequence[str]:
        """Return the places that were written since ``stamps`` were taken."""
        ...

    def held(self) -> "AbstractContextManager[None]":
        """Hold the locks of the machine's own tools. Raises: MachineRefused: another program holds them for too
        long."""
        ...

    def stands(self, change: Change, entry: int) -> PlaceState:
        """Return the state of a change of an entry on the machine."""
        ...

    def apply(self, change: Change, entry: int) -> None:
        """Apply one change of an entry: at every moment the place is as before or as after. It can be repeated."""
        ...

    def clean_up(self, changes: ChangeSet, entry: int, *, staged_only: bool = False) -> None:
        """Delete staged files and those moved aside by a finished entry.

        With ``staged_only`` (an interrupted run was undone) only staged files are deleted."""
        ...

    def notify(self, line: str, places: Sequence[str]) -> None:
        """Flush account caches after an entry, and write ``line`` to the system log."""
        ...

    def records_folder(self) -> Path:
        """Return the folder on this computer with the machine's journal. Raises: MachineRefused: it cannot be
        trusted."""
        ...


class Copy(Protocol):
    """A private copy of a machine: changed, observed and tested like the machine itself, and gone afterwards."""

    def do(self, steps: "Sequence[Step]", secrets: Secrets) -> list[StepResult]:
        """Do the steps in order and return the result of each; a rejected one does not stop the rest."""
        ...

    def restore(self, change: Change, later: Mapping[str, int]) -> RestoreResult:
        """Undo one change on the copy.

        What others wrote since stays, and is reported; ``later`` names the journal entries that changed a place after
        the one that is undone."""
        ...

    def go_on(self, change: Change, stands: PlaceState) -> RestoreResult:
        """Do one change of an interrupted run on the copy; ``stands`` is its state on the machine.

        Where others wrote since, the change is made to what they wrote."""
        ...

    def finish_restore(self) -> Sequence[str]:
        """Rebuild what follows from restored changes, and return what to report about it."""
        ...

    def mark(self) -> None:
        """Mark all changes so far as granting, so that they are applied before all that follow."""
        ...

    def observe(self) -> "Snapshot":
        """Return the current state of the copy."""
        ...

    def changes(self, before: "Snapshot | None", after: "Snapshot | None") -> tuple[ChangeSet, str]:
        """Return the change set, and the moment of applying it at which no administrator could sign in.

        The moment is empty where there is none, where there is no usable administrator ``before`` and ``after`` either,
        or where no one asks."""
        ...

    def notices(self, changes: ChangeSet) -> Sequence[str]:
        """Return notices about these changes, such as further names of a file."""
        ...

    def obstacles(self, changes: ChangeSet) -> Sequence[str]:
        """Return why these changes could not be applied."""
        ...

    def stamps(self) -> Stamps:
        """Return the state of the machine's files when the copy was made."""
        ...

    def arrival(self, changes: ChangeSet) -> "Arrival | None":
        """Have the user of another computer sign in to the copy once more, by its own SSH server, as if ``changes``
        were applied; None where no one came from another computer."""
        ...

    def attempt(
        self, policy: "Policy", role: "Role", let_in: bool, groups: Sequence[str] = ()
    ) -> "AbstractContextManager[TrialAccount]":
        """Create a temporary test account of a role on the copy; with ``let_in`` no list denies it.

        Raises: CannotTry: with the reason."""
        ...


def to_change(machine: Machine) -> ChangeableMachine:
    """Return the machine to change it. Raises: MachineRefused: it cannot be changed, with the reason."""
    found = machine.changeable
    if isinstance(found, Lacks):
        raise MachineRefused(f"{machine.name}: {found.reason}")
    return found


@contextmanager
def tests_on_copy(machine: ChangeableMachine) -> "Iterator[Attempt]":
    """Make the tests of a machine on a private copy of it."""
    with machine.dry_run() as copy:
        yield copy.attempt
