"""Records that wait for delivery to a logbook: a file each, in a folder of their own.

Nothing but a plain file system is needed, so that a record is safe before anything else can fail."""

import json
import os
import time
from pathlib import Path
from typing import Any

from verrou.core.errors import BadInput
from verrou.core.history.records import FORMAT, RunRecord
from verrou.core.surveys.data import plain, structured
from verrou.log import Log
from verrou.machines.local_files import ordinary_text, sync_folder, write_all
from verrou.records.logbook import former

LOG = Log(__name__)

ENDING = ".record.json"
MARK = "not-reached"
REST = 300
"""Seconds for which a logbook that was not reached is left alone, so that not every command waits for it."""
MOST_OF_A_RECORD = 50_000_000


def put(folder: Path, record: RunRecord) -> None:
    """Store a waiting record: on disk, whole, when this returns. Raises: BadInput: it could not be written."""
    text = json.dumps(as_data(record), ensure_ascii=False, indent=1) + "\n"
    staged = folder / f".{record.key}.staged"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        descriptor = os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        try:
            write_all(descriptor, text.encode("utf-8", "backslashreplace"))
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        staged.rename(folder / f"{record.at:%Y%m%dT%H%M%S}-{record.key}{ENDING}")
        sync_folder(folder)
    except KeyboardInterrupt:
        staged.unlink(missing_ok=True)
        raise
    except OSError as error:
        if not isinstance(error, FileExistsError):
            staged.unlink(missing_ok=True)
        raise BadInput(f"{folder}: {error.strerror}; this {record.run} was not recorded in the logbook") from None


def files(folder: Path) -> list[Path]:
    """Return the waiting records, the oldest first."""
    try:
        return sorted(folder / entry.name for entry in os.scandir(folder) if entry.name.endswith(ENDING))
    except OSError as error:
        LOG.debug("%s: no records wait: %s", folder, error.strerror)
        return []


def as_data(record: RunRecord) -> dict[str, Any]:
    """Return a record as it is stored in a file, or in a line of an export."""
    return {"format": FORMAT, **plain(record)}


def read(path: Path) -> RunRecord:
    """Return the record of a file.

    Raises: FileNotFoundError: it no longer exists. ValueError: it is no record, with the reason."""
    try:
        text = ordinary_text(path, MOST_OF_A_RECORD)
    except FileNotFoundError:
        raise
    except OSError as error:
        raise ValueError(error.strerror) from None
    return record_from(text)


def record_from(text: str | bytes) -> RunRecord:
    """Return the record of a text. Raises: ValueError: it is no record, with the reason."""
    try:
        raw = json.loads(text)
        found = raw.pop("format", None) if isinstance(raw, dict) else None
        if found == former.FORMAT:
            raw = former.brought_forward(raw)
        elif found != FORMAT:
            raise ValueError(f'it does not say "format": "{FORMAT}"')
        elif "trials" in raw:  # as the tests were called for a while
            raw["tests"] = raw.pop("trials")
        return structured(raw, RunRecord)
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    except (KeyError, TypeError, AttributeError, ExceptionGroup) as error:
        raise ValueError(f"it is damaged ({type(error).__name__} {error})") from None


def unreached(folder: Path) -> str:
    """Return why the logbook is not tried for now; empty where it may be."""
    mark = folder / MARK
    try:
        if 0 <= time.time() - mark.lstat().st_mtime < REST:
            return ordinary_text(mark, MOST_OF_A_RECORD).strip()
    except (OSError, ValueError):
        pass
    return ""


def note_unreached(folder: Path, reason: str) -> None:
    """Note that the logbook was not reached, so that it is left alone for a while."""
    mark = folder / MARK
    try:
        mark.unlink(missing_ok=True)
        with open(mark, "x", encoding="utf-8") as stream:  # a link put there by someone else is not followed
            stream.write(reason + "\n")
    except OSError as error:
        LOG.info("%s: %s, so the logbook is tried again at once", mark, error.strerror)


def note_reached(folder: Path) -> None:
    """Note that the logbook was reached, and remove an empty folder."""
    try:
        (folder / MARK).unlink(missing_ok=True)
        folder.rmdir()
    except OSError:
        return
