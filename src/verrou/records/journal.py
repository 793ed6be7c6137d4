"""The change journal of one machine. Each line is chained to the last by its hash.

``journal.jsonl`` has the lines and never a secret. The change set of each entry, with each place before and after, is
stored beside it in ``kept/NUMBER``, readable for root alone: account files contain password hashes, which undo and
resume need."""

import hashlib
import json
import os
import shutil
import stat
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from attrs import asdict, fields

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.history.entries import Difference, JournalEntry, JournalRecord, RunState, StepRecord
from verrou.log import Log
from verrou.machines.changes import Change, ChangeSet, FileChange, FileState
from verrou.machines.folder_operations import operation_data, operation_from
from verrou.machines.local_files import ordinary_bytes, sync_folder, write_all
from verrou.records import JOURNAL

LOG = Log(__name__)

FORMAT = 2
"""What an entry is written in, since version 0.2; the entries of 0.1 bear no such mark."""
KEPT, INDEX, CONTENTS = "kept", "changes.json", "contents"
TO_SWEEP = "to-sweep"
"""Marks an entry's folder until what it moved aside is deleted."""
START = "0" * 64


class Journal:
    """The journal in a folder, which is created with the first entry."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._written: tuple[int, str] | None = None

    @property
    def there(self) -> bool:
        """Whether there is a journal at all."""
        return (self.folder / JOURNAL).exists()

    def entries(self) -> list[JournalEntry]:
        """Return all entries in order. Raises: BadInput: a line was changed, or is missing."""
        entries: dict[int, JournalEntry] = {}
        for position, line in enumerate(self._lines(), start=1):
            try:
                number = int(line["entry"])
                match line["what"]:
                    case "begun" | "noted":
                        if line.get("format") != FORMAT:
                            raise self._of_another_version(line)
                        entries[number] = _entry(number, line)
                    case "finished":
                        entries[number].finished = str(line["at"])
                        _count_undone(entries, entries[number])
            except (KeyError, TypeError, ValueError, AttributeError, OverflowError):
                where = f"{self.folder / JOURNAL}:{position}"
                raise BadInput(f"{where}: not a journal line; the journal was changed") from None
        return list(entries.values())

    def _of_another_version(self, line: Mapping[str, Any]) -> BadInput:
        written = "a newer version of Verrou" if "format" in line else "Verrou 0.1"
        return BadInput(
            f"{self.folder / JOURNAL}: written by {written}, and only that version reads and undoes it. "
            f"To begin a new journal, move {self.folder} to another place."
        )

    def interrupted_entry(self) -> JournalEntry | None:
        """Return the last entry when its run was interrupted and not undone.

        Only the holder of the machine's lock can tell it from one that is running."""
        changing = [entry for entry in self.entries() if entry.note is None]
        return changing[-1] if changing and changing[-1].is_interrupted else None

    def next_number(self) -> int:
        """Return the number of the next entry."""
        return max((entry.number for entry in self.entries()), default=0) + 1

    def begin(self, record: JournalRecord, changes: ChangeSet) -> int:
        """Open an entry; when this returns, the change set is on disk. Return the entry's number."""
        self.make_folder()
        number = self.next_number()
        kept = self._kept(number)
        for left in (kept, kept.with_name(f"{kept.name}.new")):
            if left.exists():  # of a run that died before its entry began: nothing had been changed
                shutil.rmtree(left)
        digest = _write_changes(kept, changes)
        self._append(number, "begun", format=FORMAT, **asdict(record), places=_places(changes), digest=digest)
        return number

    def note(self, state: RunState, record: JournalRecord) -> int:
        """Record a run that changed nothing. Return the entry's number."""
        self.make_folder()
        number = self.next_number()
        self._append(number, "noted", format=FORMAT, state=str(state), **asdict(record), places=[])
        return number

    def finish(self, number: int) -> None:
        """Close an entry: every change was applied."""
        self._append(number, "finished")

    def changes(self, number: int) -> list[Change]:
        """Return the change set of an entry; folder operations get its number. Raises: BadInput: it was modified."""
        folder = self._kept(number)
        entry = next((entry for entry in self.entries() if entry.number == number), None)
        try:
            raw, contents = ordinary_bytes(folder / INDEX), ordinary_bytes(folder / CONTENTS)
            if entry is not None and _digest(raw, contents) != entry.digest:
                raise BadInput(
                    f"{folder}: the stored change set of entry {number} was modified, so it cannot be undone"
                )
            finished = entry is not None and entry.finished is not None
            return [_change(each, contents, number, finished) for each in json.loads(raw)]
        except PermissionError:
            raise NotEnoughRights(
                f"{folder}: the stored change set cannot be read by this account. Run as one that can"
            ) from None
        except OSError as error:
            raise BadInput(
                f"{folder}: the stored change set of entry {number} cannot be read: {error.strerror}"
            ) from None
        except (ValueError, KeyError, TypeError, IndexError) as error:
            raise BadInput(f"{folder}: the stored change set of entry {number} is damaged ({error})") from None

    def damaged(self) -> list[str]:
        """Return a line for each entry whose change set was modified."""
        found = []
        for entry in self.entries():
            if entry.note is None:
                try:
                    self.changes(entry.number)
                except BadInput as error:
                    found.append(str(error))
        return found

    def pending_cleanup(self) -> list[JournalEntry]:
        """Return finished or undone entries of which something may still have to be deleted."""
        names = {path.parent.name for path in (self.folder / KEPT).glob(f"*/{TO_SWEEP}")}
        return [
            entry
            for entry in (self.entries() if names else ())
            if f"{entry.number:04}" in names and (entry.finished or entry.undone_by is not None)
        ]

    def swept(self, number: int) -> None:
        """Note that nothing of an entry is left to delete."""
        (self._kept(number) / TO_SWEEP).unlink(missing_ok=True)

    def _kept(self, number: int) -> Path:
        return self.folder / KEPT / f"{number:04}"

    def make_folder(self) -> None:
        """Create the journal's folder if it is missing, and check that it is root's own and closed to others.

        Raises: NotEnoughRights, BadInput, MachineRefused: with what to do."""
        try:
            self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            now = os.lstat(self.folder)
        except PermissionError:
            raise NotEnoughRights(f"{self.folder}: the journal cannot be written by this account") from None
        except OSError as error:
            raise BadInput(f"{self.folder}: the journal cannot be written there: {error.strerror}") from None
        if not stat.S_ISDIR(now.st_mode) or now.st_uid != os.geteuid() or now.st_mode & 0o077:
            raise MachineRefused(
                f"{self.folder} must be a folder of your own that is closed to others, since its content is restored: "
                f"found owner {now.st_uid}, mode {stat.S_IMODE(now.st_mode):04o}. Find out who wrote to it."
            )

    def _lines(self) -> list[dict[str, Any]]:
        path = self.folder / JOURNAL
        try:
            content = ordinary_bytes(path, flags=os.O_NOFOLLOW)
        except (FileNotFoundError, NotADirectoryError):
            return []
        except PermissionError:
            raise NotEnoughRights(f"{path}: the journal cannot be read by this account; run as one that can") from None
        except OSError as error:
            raise BadInput(f"{path}: the journal cannot be read: {error.strerror}") from None
        # A line without its end was being written when the run died; what it records had not happened yet.
        whole = content[: content.rfind(b"\n") + 1]
        lines, chain = [], START
        for position, raw in enumerate(whole.splitlines(), start=1):
            try:
                line = json.loads(raw)
                record, claimed = line["record"], line["chain"]
            except (ValueError, KeyError, TypeError, RecursionError):
                raise BadInput(f"{path}:{position}: not a journal line; the journal was changed") from None
            chain = _link(chain, record)
            if chain != claimed:
                raise BadInput(f"{path}:{position}: the chain breaks here; a line was changed or is missing")
            lines.append(record)
        return lines

    def _append(self, number: int, what: str, **record: object) -> None:
        path = self.folder / JOURNAL
        chain = self._last_chain(path)
        line = {"entry": number, "what": what, "at": datetime.now().isoformat(sep=" ", timespec="seconds"), **record}
        link = _link(chain, line)
        text = json.dumps({"record": line, "chain": link}, ensure_ascii=False) + "\n"
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        try:
            write_all(descriptor, text.encode("utf-8", "backslashreplace"))
            os.fsync(descriptor)
            LOG.info("%s: entry %s %s", path, number, what)
            self._written = os.fstat(descriptor).st_size, link
        finally:
            os.close(descriptor)
        sync_folder(self.folder)

    def _last_chain(self, path: Path) -> str:
        """Return the hash of the last line.

        The whole journal is checked, unless its length is what this run wrote last; an incomplete last line of a run
        that died is cut off."""
        if self._written is not None and path.exists() and path.stat().st_size == self._written[0]:
            return self._written[1]
        self._lines()
        if not path.exists():
            return START
        content = path.read_bytes()
        end = content.rfind(b"\n") + 1
        if end != len(content):
            os.truncate(path, end)
        return str(json.loads(content[:end].splitlines()[-1])["chain"]) if end else START


def _entry(number: int, line: Mapping[str, Any]) -> JournalEntry:
    return JournalEntry(
        number=number,
        begun=str(line["at"]),
        command=str(line["command"]),
        by=str(line["by"]),
        baseline=str(line["baseline"]),
        overridden=tuple(map(str, line["overridden"])),
        steps=tuple(StepRecord(*(str(step[key]) for key in _STEP)) for step in line["steps"]),
        differences=tuple(Difference(*(str(each[key]) for key in _DIFFERENCE)) for each in line["differences"]),
        undoes=tuple(map(int, line["undoes"])),
        tried=tuple(map(str, line.get("tried", ()))),
        why=str(line.get("why", "")),
        places=tuple(map(str, line["places"])),
        digest=str(line.get("digest", "")),
        note=RunState(line["state"]) if line["what"] == "noted" else None,
    )


_STEP, _DIFFERENCE = ([field.name for field in fields(kind)] for kind in (StepRecord, Difference))


def _count_undone(entries: Mapping[int, JournalEntry], entry: JournalEntry) -> None:
    """Mark what a finished undo undid as undone, and what that had undone itself as done again."""
    for number in entry.undoes:
        entries[number].undone_by = entry.number
        for other in entries[number].undoes:
            entries[other].undone_by = None


def _link(chain: str, record: Mapping[str, Any]) -> str:
    text = json.dumps(record, sort_keys=True, ensure_ascii=True)
    return hashlib.sha256(f"{chain}{text}".encode()).hexdigest()


def _digest(index: bytes, contents: bytes) -> str:
    return hashlib.sha256(index + hashlib.sha256(contents).digest()).hexdigest()


def _places(changes: ChangeSet) -> list[str]:
    return list(dict.fromkeys(change.place for change in changes))


def _write_changes(folder: Path, changes: ChangeSet) -> str:
    """Write the contents of a change set to one file, each content once, and an index. Return a digest of both.

    They get their name only when all of it is on disk."""
    making = folder.with_name(f"{folder.name}.new")
    for private in (making.parent, making):
        private.mkdir(mode=0o700, exist_ok=True)
    contents: list[bytes] = []
    places: dict[bytes, tuple[int, int]] = {}

    def described(item: FileState) -> dict[str, Any]:
        place = None
        if item.content is not None:
            if item.content not in places:
                places[item.content] = (sum(map(len, contents)), len(item.content))
                contents.append(item.content)
            place = places[item.content]
        attributes = [(name, value.hex()) for name, value in item.attributes]
        return {**item._replace(content=None, attributes=())._asdict(), "place": place, "attributes": attributes}

    index = [
        {"place": change.place, "before": described(change.before), "after": described(change.after)}
        if isinstance(change, FileChange)
        else operation_data(change)
        for change in changes
    ]
    raw, whole = json.dumps(index, ensure_ascii=True).encode(), b"".join(contents)
    _write_private(making / CONTENTS, whole)
    _write_private(making / INDEX, raw)
    _write_private(making / TO_SWEEP, b"")
    sync_folder(making)
    os.rename(making, folder)
    sync_folder(folder.parent)
    return _digest(raw, whole)


def _write_private(path: Path, content: bytes) -> None:
    flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC
    descriptor = os.open(path, flags, 0o600)
    try:
        write_all(descriptor, content)
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _change(raw: Mapping[str, Any], contents: bytes, number: int, finished: bool) -> Change:
    if "operation" in raw:
        return operation_from(raw, number, finished)
    return FileChange(str(raw["place"]), _item(raw["before"], contents), _item(raw["after"], contents))


def _item(raw: Mapping[str, Any], contents: bytes) -> FileState:
    place = raw["place"]
    content = None if place is None else contents[place[0] : place[0] + place[1]]
    attributes = tuple((str(name), bytes.fromhex(value)) for name, value in raw["attributes"])
    return FileState(
        content, int(raw["mode"]), int(raw["uid"]), int(raw["gid"]), bool(raw["folder"]), attributes, str(raw["link"])
    )
