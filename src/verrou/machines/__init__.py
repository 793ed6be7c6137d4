"""The outside: what every kind of machine can be asked, and how an address finds its kind."""

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
    """The files of an account cannot be looked at; the message is the reason."""


class Outcome(StrEnum):
    """Of a step."""

    DONE = "done"
    UNCHANGED = "unchanged"
    REJECTED = "rejected"
    UNDONE = "undone"


class StepResult(NamedTuple):
    """What became of a step, and what the machine said to it."""

    outcome: Outcome
    said: str = ""


class Asking(StrEnum):
    """Whether the system's own programs are asked, beside reading its files: on this computer and for what changes a
    machine or tries it (USUAL), never, or of a disk that is only looked at too (SYSTEM)."""

    USUAL = "usual"
    FILES_ONLY = "files-only"
    SYSTEM = "ask-system"


class Secrets(dict[str, str]):
    """New passwords by account name. It never shows what it holds."""

    def given(self, step: "CreateAccount | SetPassword") -> str:
        """The password that a step sets: the blank one only where the step says so."""
        return "" if step.password == "blank" else self[step.account]

    def __repr__(self) -> str:
        return f"Secrets for {', '.join(self) or 'nobody'}"

    __str__ = __repr__


class FileState(NamedTuple):
    """What stands in one place: its content (None where there is nothing), and for a file its mode, owner (``uid``,
    ``gid``) and extended attributes by name (ACLs and security labels among them). ``folder`` marks a directory, whose
    content is not kept; ``link`` is where a symbolic link leads."""

    content: bytes | None
    mode: int = 0
    uid: int = 0
    gid: int = 0
    folder: bool = False
    attributes: tuple[tuple[str, bytes], ...] = ()
    link: str = ""

    @property
    def there(self) -> bool:
        """Whether anything stands there."""
        return self.folder or self.content is not None or bool(self.link)


NOTHING = FileState(None)


class Change(NamedTuple):
    """One place with what stood there before and what stands there afterwards. ``place`` is a name that the machine
    understands."""

    place: str
    before: FileState
    after: FileState

    def backwards(self) -> "Change":
        """The same change the other way round."""
        return Change(self.place, self.after, self.before)


class FolderOperation(NamedTuple):
    """What is done to a whole folder and cannot be told as a content: a home made, archived, moved away, brought back.
    ``facts`` are what the machine needs to do it and to go back."""

    verb: str
    place: str
    facts: tuple[tuple[str, str | int], ...] = ()

    def fact(self, name: str) -> str:
        """One of the facts, as text."""
        return str(dict(self.facts)[name])

    def number(self, name: str) -> int:
        """One of the facts, as a number."""
        return int(dict(self.facts)[name])


ChangeSet = Sequence[Change | FolderOperation]
"""What a worksheet does to a machine, in the order in which it lands: what gives, then what takes away."""


class PlaceState(StrEnum):
    """How a place stands to a change: still as before it, as after it already, or otherwise since somebody wrote."""

    BEFORE = "before"
    AFTER = "after"
    OTHER = "other"


class RestoreResult(NamedTuple):
    """What became of one place that an undo goes back over."""

    place: str
    outcome: Outcome
    said: str = ""


Stamps = Mapping[str, object]
"""What tells for each place that was read whether it moved since."""


class DryRunUnavailable(Exception):
    """No private copy of the machine can be made; the message is the reason."""


class TooSlow(DryRunUnavailable):
    """It was asked, and nothing came back in time."""


class Copy(Protocol):
    """A private copy of a machine: done to, observed and tried like the machine itself, and gone afterwards."""

    def do(self, steps: "Sequence[Step]", secrets: Secrets) -> list[StepResult]:
        """Do the steps in order and say what the machine answers to each; a refused one does not stop the rest."""
        ...

    def restore(self, change: Change | FolderOperation, later: Mapping[str, int]) -> RestoreResult:
        """Take one change back on the copy. Where somebody else wrote since, what is theirs stays and is said;
        ``later`` names the entries of the journal that changed a place after the one that is taken back."""
        ...

    def go_on(self, change: Change | FolderOperation, stands: PlaceState) -> RestoreResult:
        """Make one change of a run that broke off, on the copy; ``stands`` is how it stands on the machine. Where
        somebody else wrote since, our change is made to what they wrote."""
        ...

    def finish_restore(self) -> Sequence[str]:
        """After changes were put back: what follows from them is put together anew; answers with what to say of it."""
        ...

    def mark(self) -> None:
        """All that was done so far gives, and lands before all that follows."""
        ...

    def observe(self) -> "Snapshot":
        """What the copy is now."""
        ...

    def changes(self, before: "Snapshot | None", after: "Snapshot | None") -> tuple[ChangeSet, str]:
        """What was done to the copy, as a change set for the machine; and where, while it lands in its order, nobody
        could administer although somebody could ``before`` and ``after``: nothing where there is no such instant, or
        nobody asks."""
        ...

    def remarks(self, changes: ChangeSet) -> Sequence[str]:
        """What to know before these changes land, such as further names of a file."""
        ...

    def obstacles(self, changes: ChangeSet) -> Sequence[str]:
        """Why these changes could not land."""
        ...

    def stamps(self) -> Stamps:
        """What the machine looked like when the copy was made of it."""
        ...

    def attempt(self, policy: "Policy", role: "Role", let_in: bool) -> "AbstractContextManager[TrialAccount]":
        """A throwaway account of a role on the copy, to try things with; with ``let_in`` no list of who may come in
        keeps it out.

        Raises:
            CannotTry: with the reason.
        """
        ...


class KeptSomewhere(Protocol):
    """A keeper of a rule, as far as everybody may ask it."""

    @property
    def where(self) -> str:
        """Where the rule stands, for people."""
        ...


class Machine(Protocol):
    """The whole of what the rest of Verrou knows of a machine. Nothing here assumes files on this computer."""

    kind: str
    name: str
    address: str
    asking: Asking

    @property
    def only_read(self) -> str:
        """Why nothing can ever be changed on it; nothing where it can."""
        ...

    def observe(self, *, asked: bool = False) -> "Snapshot":
        """What the machine is now; ``asked``: it is about to be changed or tried, so that what decides on it is asked.

        Raises:
            BadInput: it cannot be read. NotEnoughRights: we may not read it.
        """
        ...

    def files_of(self, account: "Account", everywhere: bool) -> "Files":
        """What an account keeps in its home, and where it has files elsewhere: in the places where accounts usually
        have some, or with ``everywhere`` on the whole machine.

        Raises:
            CannotLook: with the reason.
        """
        ...

    def dry_run(self) -> "AbstractContextManager[Copy]":
        """A private copy of the machine as it is now.

        Raises:
            CannotRehearse: with the reason. NotEnoughRights, MachineRefused: nothing can be changed here.
        """
        ...

    def moved(self, stamps: Stamps) -> Sequence[str]:
        """The places that were written since ``stamps`` were taken."""
        ...

    def held(self) -> "AbstractContextManager[None]":
        """Keep the machine's own tools from writing meanwhile.

        Raises:
            MachineRefused: somebody else holds them for longer than we wait.
        """
        ...

    def stands(self, change: Change | FolderOperation, entry: int) -> PlaceState:
        """How a change of an entry stands on the machine."""
        ...

    def land(self, change: Change | FolderOperation, entry: int) -> None:
        """Make one change of an entry: at every instant the place is as before or as after. Can be repeated."""
        ...

    def clean_up(self, changes: ChangeSet, entry: int, *, staged_only: bool = False) -> None:
        """After all changes of an entry landed: delete what they moved away for good, and what was staged. With
        ``staged_only`` (a run that broke off was taken back) what was moved away is nobody's to delete."""
        ...

    def notify(self, line: str, places: Sequence[str]) -> None:
        """After an entry: have what caches accounts look again, and leave ``line`` in the machine's own log."""
        ...

    def records_folder(self) -> Path:
        """The folder on this computer where the journal of the machine is kept.

        Raises:
            MachineRefused: it cannot be trusted.
        """
        ...


def where_kept(rule_id: str) -> Mapping[str, str]:
    """By kind of machine: where a rule is kept, in the words of what keeps it there; that of a derived rule is where
    its facts stand, and of one that a kind has not, the reason."""
    from verrou.machines.bench import rules as bench
    from verrou.machines.linux import rules as linux

    def word(keepers: Mapping[str, KeptSomewhere], absent: Mapping[str, str], derived: Mapping[str, str]) -> str:
        if rule_id in keepers:
            return keepers[rule_id].where
        if rule_id in absent:
            return f"not kept: {absent[rule_id]}"
        return derived.get(rule_id, "derived from the accounts")

    return {
        "linux": word(linux.KEEPERS, linux.ABSENT, linux.DERIVED),
        "bench": word(bench.KEEPERS, bench.ABSENT, bench.DERIVED),
    }


def _with_suffix(address: str) -> str:
    """An address by which people mean a bench or a survey file without saying how its name ends."""
    meant = [address + suffix for suffix in (BENCH_SUFFIX, SURVEY_SUFFIX) if Path(address + suffix).is_file()]
    if len(meant) > 1:
        raise BadInput(f"{address} can mean {' and '.join(meant)}. Give one of them.")
    return meant[0] if meant else address


BENCH_SUFFIX = ".bench.json"
SURVEY_SUFFIX = ".survey.json"


def open_machine(address: str) -> Machine:
    """The machine at an address: ``this``, a folder that holds a Linux root, a bench file or a survey file.

    Raises:
        BadInput: nothing there looks like a machine.
        NotEnoughRights: this account may not look.
    """
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
        found = "a folder without etc/passwd" if path.is_dir() else "a file" if path.exists() else "nothing"
    except PermissionError as error:
        raise NotEnoughRights(f"{error.filename}: this account cannot read it. Run as one that can.") from None
    except (OSError, ValueError) as error:
        found = str(error)
    raise BadInput(
        f"no machine '{address}' ({found}). Give \"this\", a mounted Linux root, NAME{BENCH_SUFFIX} or "
        f"NAME{SURVEY_SUFFIX}."
    )
