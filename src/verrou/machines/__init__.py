"""The outside: what every kind of machine can be asked, and how an address finds its kind."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from verrou.core.errors import BadInput

if TYPE_CHECKING:
    from verrou.core.model import Account, Files, Posture
    from verrou.core.steps import CreateAccount, SetPassword, Step
    from verrou.core.trials import Rehearsal


MOST_NAMED = 20
"""How many files outside a home are named; the rest is counted."""


class CannotLook(Exception):
    """The files of an account cannot be looked at; the message is the reason."""


class Outcome(StrEnum):
    """Of a step."""

    DONE = "done"
    ALREADY = "already"
    REFUSED = "refused"
    UNDONE = "undone"


class StepResult(NamedTuple):
    """What became of a step, and what the machine said to it."""

    outcome: Outcome
    said: str = ""


class Secrets(dict[str, str]):
    """New passwords by account name. It never shows what it holds."""

    def given(self, step: "CreateAccount | SetPassword") -> str:
        """The password that a step sets: the blank one only where the step says so."""
        return "" if step.password == "blank" else self[step.account]

    def __repr__(self) -> str:
        return f"Secrets for {', '.join(self) or 'nobody'}"

    __str__ = __repr__


class Item(NamedTuple):
    """One thing a machine keeps, as it stood: its content (None where there was nothing), and for a file its mode
    and owner (``uid``, ``gid``). ``folder`` marks a directory, whose content is not kept."""

    content: bytes | None
    mode: int = 0
    uid: int = 0
    gid: int = 0
    folder: bool = False


Memento = Mapping[str, Item]
"""What stood in every place that a worksheet may touch, by a name that only the machine needs to understand."""


class PutBack(NamedTuple):
    """What became of one item of a memento when it was put back."""

    item: str
    outcome: Outcome
    said: str = ""


class Machine(Protocol):
    """The whole of what the rest of Verrou knows of a machine. Nothing here assumes files on this computer."""

    kind: str
    name: str
    address: str

    def observe(self) -> "Posture":
        """What the machine is now.

        Raises:
            BadInput: it cannot be read. NotEnoughRights: we may not read it.
        """
        ...

    def perform(self, steps: "Sequence[Step]", secrets: Secrets) -> Iterator[StepResult]:
        """Do the steps in order and say what became of each; a refused one does not stop the rest.

        Raises:
            MachineRefused: nothing more can be done. NotEnoughRights: we may not write.
        """
        ...

    def files_of(self, account: "Account", everywhere: bool) -> "Files":
        """What an account keeps in its home, and where it has files elsewhere: in the places where accounts usually
        have some, or with ``everywhere`` on the whole machine.

        Raises:
            CannotLook: with the reason.
        """
        ...

    def rehearse(self) -> "AbstractContextManager[Rehearsal]":
        """A throwaway account to try things with, gone afterwards whatever happens.

        Raises:
            CannotTry: with the reason.
        """
        ...

    def remember(self, steps: "Sequence[Step]") -> Memento:
        """What stands now in every place that the steps may touch; all of them for no steps."""
        ...

    def foresee(self, memento: Memento) -> "Posture":
        """What the machine would be with the memento's items put back."""
        ...

    def put_back(self, before: Memento, after: Memento | None) -> Iterator[PutBack]:
        """Bring back ``before`` wherever ``after`` still stands. Where somebody else wrote since, what is theirs stays
        and is said. Without ``after`` (a run that broke off) everything is brought back."""
        ...

    def records_folder(self) -> Path:
        """The folder on this computer where the journal of the machine is kept."""
        ...


BENCH_SUFFIX = ".bench.json"
SURVEY_SUFFIX = ".survey.json"


def open_machine(address: str) -> Machine:
    """The machine at an address: ``this``, a folder that holds a Linux root, a bench file or a survey file.

    Raises:
        BadInput: nothing there looks like a machine.
    """
    if address == "this":
        from verrou.machines.linux.machine import LinuxMachine

        return LinuxMachine(Path("/"), address)
    path = Path(address)
    try:
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
    except (OSError, ValueError) as error:
        found = str(error)
    raise BadInput(
        f"{address}: found {found}; a machine is this, a folder holding a Linux root, "
        f"a bench file (NAME{BENCH_SUFFIX}) or a survey file (NAME{SURVEY_SUFFIX})"
    )
