"""A survey file: a machine that can only be observed."""

import json
from collections.abc import Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.model import Account, Files, Snapshot
from verrou.core.survey import snapshot_from
from verrou.core.survey_text import SurveyReader
from verrou.machines import (
    SURVEY_SUFFIX,
    Asking,
    CannotLook,
    Change,
    ChangeSet,
    Copy,
    DryRunUnavailable,
    FolderOperation,
    PlaceState,
    Stamps,
)
from verrou.machines.local_files import ordinary_text

MOST_OF_A_SURVEY = 500_000_000
"""How many bytes a survey may have; one of 100,000 accounts has 150 million."""
ONLY_READ = "a survey file is read-only. Give the machine itself with -m."


class SurveyFile:
    """A survey file, as ``verrou survey --save`` wrote it."""

    kind = "survey"
    only_read = ONLY_READ

    def __init__(self, path: Path) -> None:
        self.path = path
        self.address = str(path)
        self.name = path.name.removesuffix(SURVEY_SUFFIX)
        self.asking = Asking.USUAL

    def observe(self, reader: SurveyReader | None = None, *, asked: bool = False) -> Snapshot:
        """Return the saved snapshot; ``reader`` is for reading many files."""
        try:
            text = ordinary_text(self.path, MOST_OF_A_SURVEY)
            return snapshot_from(json.loads(text)) if reader is None else reader.snapshot(text)
        except PermissionError:
            raise NotEnoughRights(f"{self.path}: this account cannot read it. Run as one that can.") from None
        except (OSError, ValueError, RecursionError) as error:
            message = getattr(error, "strerror", None) or error
            raise BadInput(f"{self.path}: not a survey file ({message}). Save it again.") from None
        except BadInput as error:
            raise BadInput(f"{self.path}: {error}") from None

    def files_of(self, account: Account, everywhere: bool) -> Files:
        raise CannotLook(ONLY_READ)

    def dry_run(self) -> AbstractContextManager[Copy]:
        raise DryRunUnavailable(ONLY_READ)

    def moved(self, stamps: Stamps) -> Sequence[str]:
        raise MachineRefused(ONLY_READ)

    def held(self) -> AbstractContextManager[None]:
        raise MachineRefused(ONLY_READ)

    def stands(self, change: Change | FolderOperation, entry: int) -> PlaceState:
        raise MachineRefused(ONLY_READ)

    def apply(self, change: Change | FolderOperation, entry: int) -> None:
        raise MachineRefused(ONLY_READ)

    def clean_up(self, changes: ChangeSet, entry: int, *, staged_only: bool = False) -> None:
        raise MachineRefused(ONLY_READ)

    def notify(self, line: str, places: Sequence[str]) -> None:
        raise MachineRefused(ONLY_READ)

    def records_folder(self) -> Path:
        raise MachineRefused(ONLY_READ)
