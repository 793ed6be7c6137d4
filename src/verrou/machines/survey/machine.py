"""A survey file: a machine that can only be observed."""

import json
import os

from verrou.core.errors import BadInput, NotEnoughRights
from verrou.core.model import Account, Files, Snapshot
from verrou.core.surveys.data import snapshot_from
from verrou.core.surveys.text import SurveyReader
from verrou.machines.local_files import ordinary_bytes
from verrou.machines.protocol import CannotLook, Lacks
from verrou.machines.survey.kind import SURVEY

MOST_OF_A_SURVEY = 500_000_000
"""How many bytes a survey may have; one of 100,000 accounts has 150 million."""
ONLY_READ = "a survey file is read-only. Give the machine itself with -m."


class SurveyFile:
    """A survey file, as ``verrou survey --save`` wrote it; ``reader`` is for reading many of them."""

    kind = SURVEY.name
    changeable = testable = askable = Lacks(ONLY_READ)

    def __init__(self, address: str, reader: SurveyReader | None = None) -> None:
        self.address = address
        self.name = address.rpartition("/")[2].removesuffix(SURVEY.suffix)
        self._reader = reader

    @property
    def recorded(self) -> float:
        try:
            return os.stat(self.address).st_mtime
        except OSError:
            return 0.0

    def content(self) -> bytes:
        """Return the content of the file, which is all that the survey tells. Raises: VerrouError."""
        try:
            return ordinary_bytes(self.address, MOST_OF_A_SURVEY)
        except PermissionError:
            raise NotEnoughRights(f"{self.address}: this account cannot read it. Run as one that can.") from None
        except OSError as error:
            raise self._damaged(error) from None

    def observe(self, *, asked: bool = False) -> Snapshot:
        return self.read(self.content())

    def read(self, content: bytes) -> Snapshot:
        """Return the snapshot of the content. Raises: BadInput."""
        try:
            text = content.decode("utf-8")
            return snapshot_from(json.loads(text)) if self._reader is None else self._reader.snapshot(text)
        except (ValueError, RecursionError) as error:
            raise self._damaged(error) from None
        except BadInput as error:
            raise BadInput(f"{self.address}: {error}") from None

    def _damaged(self, error: Exception) -> BadInput:
        message = getattr(error, "strerror", None) or error
        return BadInput(f"{self.address}: not a survey file ({message}). Save it again.")

    def files_of(self, account: Account, everywhere: bool) -> Files:
        raise CannotLook(ONLY_READ)
