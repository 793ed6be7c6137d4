"""The outside: the interface of every kind of machine, and how an address finds its kind."""

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from verrou.core.errors import BadInput, NotEnoughRights

if TYPE_CHECKING:
    from verrou.core.model import Account, Files, Role, Snapshot
    from verrou.core.passwords import Policy
    from verrou.core.plan.steps import CreateAccount, SetPassword, Step
    from verrou.core.trials import TrialAccount


MOST_NAMED = 20
"""How many files outside a home are named; the rest is counted."""


class CannotLook(Exception):
    """The files of an account cannot be listed; the message is the reason."""


class Outcome(StrEnum):
    """Result of a step."""

    DONE = "done"
    UNCHANGED = "unchanged"
    REJECTED = "rejected"
    UNDONE = "undone"


class StepResult(NamedTuple):
    """Result of a step, with the machine's message."""

    outcome: Outcome
    message: str = ""


class Asking(StrEnum):
    """Whether the system's own programs are asked, besides reading its files.

    USUAL asks on this computer, and for what changes or tests a machine; FILES_ONLY never asks; SYSTEM also asks of a
    disk that is only looked at."""

    USUAL = "usual"
    FILES_ONLY = "files-only"
    SYSTEM = "ask-system"


class Secrets(dict[str, str]):
    """New passwords by account name. Its repr never shows them."""

    def given(self, step: "CreateAccount | SetPassword") -> str:
        """Return the password that a step sets: a blank one only where the step says so."""
        return "" if step.password == "blank" else self[step.account]

    def __repr__(self) -> str:
        return f"Secrets for {', '.join(self) or 'nobody'}"

    __str__ = __repr__


class FileState(NamedTuple):
    """State of one path: its content (None for nothing), mode, owner (``uid``, ``gid``) and extended attributes.

    Attributes include ACLs and security labels. ``folder`` marks a directory, whose content is not stored; ``link`` is
    the target of a symbolic link."""

    content: bytes | None
    mode: int = 0
    uid: int = 0
    gid: int = 0
    folder: bool = False
    attributes: tuple[tuple[str, bytes], ...] = ()
    link: str = ""

    @property
    def there(self) -> bool:
        """Whether anything exists there."""
        return self.folder or self.content is not None or bool(self.link)


NOTHING = FileState(None)


class Change(NamedTuple):
    """One place before and after a change. ``place`` is a name that the machine understands."""

    place: str
    before: FileState
    after: FileState

    def backwards(self) -> "Change":
        """Return the reverse change."""
        return Change(self.place, self.after, self.before)


class FolderOperation(NamedTuple):
    """Operation on a directory: create, archive, move, hand over or restore.

    It cannot be expressed as a content. ``facts`` are what the machine needs to do and to undo it."""

    verb: str
    place: str
    facts: tuple[tuple[str, str | int], ...] = ()

    def fact(self, name: str) -> str:
        """Return one of the facts, as text."""
        return str(dict(self.facts)[name])

    def number(self, name: str) -> int:
        """Return one of the facts, as a number."""
        return int(dict(self.facts)[name])


ChangeSet = Sequence[Change | FolderOperation]
"""The changes of a plan in the order in which they are applied: what grants, then what removes."""


class PlaceState(StrEnum):
    """Whether a place is unchanged, already changed, or modified by another program."""

    BEFORE = "before"
    AFTER = "after"
    OTHER = "other"


class RestoreResult(NamedTuple):
    """Result of one place that an undo restores."""

    place: str
    outcome: Outcome
    message: str = ""


Stamps = Mapping[str, object]
"""A stamp for each place that was read, to detect changes since."""


class DryRunUnavailable(Exception):
    """No private copy of the machine can be made; the message is the reason."""


class TooSlow(DryRunUnavailable):
    """The system was asked and did not answer in time."""


class Copy(Protocol):
    """A private copy of a machine: changed, observed and tested like the machine itself, and gone afterwards."""

    def do(self, steps: "Sequence[Step]", secrets: Secrets) -> list[StepResult]:
        """Do the steps in order and return the result of each; a rejected one does not stop the rest."""
        ...

    def restore(self, change: Change | FolderOperation, later: Mapping[str, int]) -> RestoreResult:
        """Undo one change on the copy.

        What others wrote since stays, and is reported; ``later`` names the journal entries that changed a place after
        the one that is undone."""
        ...

    def go_on(self, change: Change | FolderOperation, stands: PlaceState) -> RestoreResult:
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

    def attempt(self, policy: "Policy", role: "Role", let_in: bool) -> "AbstractContextManager[TrialAccount]":
        """Create a temporary test account of a role on the copy; with ``let_in`` no list denies it.

        Raises: CannotTry: with the reason."""
        ...


class KeptSomewhere(Protocol):
    """Adapter of a rule, as far as it is the same for every kind of machine."""

    @property
    def where(self) -> str:
        """Where the rule is set, for people."""
        ...


class Machine(Protocol):
    """Everything that the rest of Verrou knows of a machine. Nothing here assumes files on this computer."""

    kind: str
    name: str
    address: str
    asking: Asking

    @property
    def only_read(self) -> str:
        """Why nothing can ever be changed on it; empty where it can."""
        ...

    def observe(self, *, asked: bool = False) -> "Snapshot":
        """Return the current state of the machine; ``asked``: it is about to be changed or tested, so the system is
        asked.

        Raises: BadInput: it cannot be read. NotEnoughRights: reading is denied."""
        ...

    def files_of(self, account: "Account", everywhere: bool) -> "Files":
        """Return the files in an account's home, and where it has files elsewhere.

        Usual places are searched, or with ``everywhere`` the whole machine. Raises: CannotLook: with the reason."""
        ...

    def dry_run(self) -> "AbstractContextManager[Copy]":
        """Return a private copy of the machine as it is now.

        Raises: CannotRehearse: with the reason. NotEnoughRights, MachineRefused: nothing can be changed here."""
        ...

    def moved(self, stamps: Stamps) -> Sequence[str]:
        """Return the places that were written since ``stamps`` were taken."""
        ...

    def held(self) -> "AbstractContextManager[None]":
        """Hold the locks of the machine's own tools. Raises: MachineRefused: another program holds them for too
        long."""
        ...

    def stands(self, change: Change | FolderOperation, entry: int) -> PlaceState:
        """Return the state of a change of an entry on the machine."""
        ...

    def apply(self, change: Change | FolderOperation, entry: int) -> None:
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


def where_kept(rule_id: str) -> Mapping[str, str]:
    """Return where a rule is set, by kind of machine.

    A derived rule is set where its facts are; a rule that a kind does not have has the reason instead."""
    from verrou.machines.bench import rules as bench
    from verrou.machines.linux import rules as linux

    def word(adapters: Mapping[str, KeptSomewhere], absent: Mapping[str, str], derived: Mapping[str, str]) -> str:
        if rule_id in adapters:
            return adapters[rule_id].where
        if rule_id in absent:
            return f"not available: {absent[rule_id]}"
        return derived.get(rule_id, "derived from the accounts")

    return {
        "linux": word(linux.ADAPTERS, linux.ABSENT, linux.DERIVED),
        "bench": word(bench.ADAPTERS, bench.ABSENT, bench.DERIVED),
    }


def _with_suffix(address: str) -> str:
    """Return the address of a bench or survey file given without its suffix."""
    meant = [address + suffix for suffix in (BENCH_SUFFIX, SURVEY_SUFFIX) if Path(address + suffix).is_file()]
    if len(meant) > 1:
        raise BadInput(f"{address} can mean {' and '.join(meant)}. Give one of them.")
    return meant[0] if meant else address


BENCH_SUFFIX = ".bench.json"
SURVEY_SUFFIX = ".survey.json"


def open_machine(address: str) -> Machine:
    """Open the machine at an address: ``this``, a folder with a Linux root, a bench file or a survey file.

    Raises: BadInput: it is none of these. NotEnoughRights: reading is denied."""
    if address == "this":
        from verrou.machines.linux.machine import LinuxMachine

        return LinuxMachine(Path("/"), address)
    path = Path(address)
    try:
        if not path.exists():
            address = _with_suffix(address)
            path = Path(address)
        if address.endswith(BENCH_SUFFIX) and path.is_file():
            from verrou.machines.bench.machine import BenchMachine

            return BenchMachine(path)
        if address.endswith(SURVEY_SUFFIX) and path.is_file():
            from verrou.machines.survey_file import SurveyFile

            return SurveyFile(path)
        if (path / "etc/passwd").is_file():
            from verrou.machines.linux.machine import LinuxMachine

            return LinuxMachine(path, address)
        found = "a folder without etc/passwd" if path.is_dir() else "a file" if path.exists() else "not found"
    except PermissionError as error:
        raise NotEnoughRights(f"{error.filename}: this account cannot read it. Run as one that can.") from None
    except (OSError, ValueError) as error:
        found = str(error)
    raise BadInput(
        f"no machine '{address}' ({found}). Give \"this\", a mounted Linux root, NAME{BENCH_SUFFIX} or "
        f"NAME{SURVEY_SUFFIX}."
    )
