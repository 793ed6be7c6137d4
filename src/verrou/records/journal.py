"""The journal of one machine: what was done, with what stood there before. Each line is chained to the last by hash.

``journal.jsonl`` holds the lines and never a secret. What stood before a change, and after it, is kept beside it in
``kept/NUMBER``, readable for root alone: account files hold password hashes, which must be there to be put back.
"""

import hashlib
import json
import os
import shutil
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from attrs import define, field

from verrou.core.errors import BadInput, NotEnoughRights
from verrou.machines import Item, Memento
from verrou.machines.local_files import sync_folder

JOURNAL = "journal.jsonl"
INDEX, CONTENTS = "index.json", "contents"
START = "0" * 64


@define
class Entry:
    """One run. ``finished`` is None for one that broke off; ``undone_by`` is when it was undone."""

    number: int
    command: str
    by: str
    begun: str
    baseline: str
    accepted: list[str]
    steps: list[str]
    outcomes: list[dict[str, str]] = field(factory=list)
    finished: str | None = None
    undone: str | None = None


class Journal:
    """The journal in a folder; the folder comes with the first entry."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._written: tuple[int, str] | None = None

    def entries(self) -> list[Entry]:
        """All entries in order.

        Raises:
            BadInput: a line was changed, or is missing.
        """
        entries: dict[int, Entry] = {}
        for line in self._lines():
            number = line["entry"]
            match line["what"]:
                case "begun":
                    told = {k: line[k] for k in ("command", "by", "baseline", "accepted", "steps")}
                    entries[number] = Entry(number, begun=line["at"], **told)
                case "step":
                    outcome = {k: line[k] for k in ("step", "outcome", "said")}
                    entries[number].outcomes.append(outcome)
                case "finished":
                    entries[number].finished = line["at"]
                case "undone":
                    entries[number].undone = line["at"]
        return list(entries.values())

    def unfinished(self) -> Entry | None:
        """The last entry when its run broke off and nobody undid or finished it."""
        last = self.entries()[-1:]
        return last[0] if last and last[0].finished is None and last[0].undone is None else None

    def begin(
        self, command: str, by: str, baseline: str, accepted: Sequence[str], steps: Sequence[str], before: Memento
    ) -> int:
        """Open an entry; when this returns, "before" is on disk. Answers with the entry's number."""
        self._make_folder()
        number = max((entry.number for entry in self.entries()), default=0) + 1
        kept = self._kept(number)
        if kept.exists():
            # Left by a run that died before its entry began: nothing had been changed.
            shutil.rmtree(kept)
        _write_memento(kept / "before", before)
        self._append(
            number,
            "begun",
            command=command,
            by=by,
            baseline=baseline,
            accepted=list(accepted),
            steps=list(steps),
        )
        return number

    def step(self, number: int, step: str, outcome: str, said: str) -> None:
        """Note what became of a step."""
        self._append(number, "step", step=step, outcome=outcome, said=said)

    def finish(self, number: int, after: Memento) -> None:
        """Close an entry with what stands now; of "before" only what changed is kept on."""
        before = self.before(number)
        changed = {n for n in {**before, **after} if before.get(n) != after.get(n)}
        _write_memento(self._kept(number) / "after", {n: i for n, i in after.items() if n in changed})
        self._append(number, "finished")
        shutil.rmtree(self._kept(number) / "before")
        _write_memento(self._kept(number) / "before", {n: i for n, i in before.items() if n in changed})

    def undone(self, number: int) -> None:
        """Note that an entry was undone, and let go of what was kept for it."""
        self._append(number, "undone")
        shutil.rmtree(self._kept(number), ignore_errors=True)

    def before(self, number: int) -> Memento:
        """What stood there before an entry's run."""
        return _read_memento(self._kept(number) / "before")

    def after(self, number: int) -> Memento | None:
        """What stood there after it; None for a run that broke off."""
        folder = self._kept(number) / "after"
        return _read_memento(folder) if folder.exists() else None

    def _kept(self, number: int) -> Path:
        return self.folder / "kept" / f"{number:04}"

    def _make_folder(self) -> None:
        try:
            self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        except PermissionError:
            raise NotEnoughRights(f"{self.folder}: the journal cannot be written by this account") from None
        except OSError as error:
            raise BadInput(f"{self.folder}: the journal cannot be kept there: {error.strerror}") from None

    def _lines(self) -> list[dict[str, Any]]:
        path = self.folder / JOURNAL
        try:
            content = path.read_bytes()
        except (FileNotFoundError, NotADirectoryError):
            return []
        except PermissionError:
            raise NotEnoughRights(f"{path}: the journal cannot be read by this account; run as root") from None
        # A line without its end was being written when the run died; what it tells had not happened yet.
        whole = content[: content.rfind(b"\n") + 1]
        lines, chain = [], START
        for position, raw in enumerate(whole.splitlines(), start=1):
            try:
                line = json.loads(raw)
                told, claimed = line["told"], line["chain"]
            except (ValueError, KeyError, TypeError):
                raise BadInput(f"{path}:{position}: this line is no journal line; the journal was changed") from None
            chain = _link(chain, told)
            if chain != claimed:
                raise BadInput(f"{path}:{position}: the chain breaks here; a line was changed or is missing")
            lines.append(told)
        return lines

    def _append(self, number: int, what: str, **told: object) -> None:
        path = self.folder / JOURNAL
        chain = self._last_chain(path)
        line = {"entry": number, "what": what, "at": datetime.now().isoformat(sep=" ", timespec="seconds"), **told}
        link = _link(chain, line)
        text = json.dumps({"told": line, "chain": link}, ensure_ascii=False) + "\n"
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600)
        with os.fdopen(descriptor, "w", encoding="utf-8", errors="backslashreplace") as stream:
            stream.write(text)
            stream.flush()
            os.fsync(stream.fileno())
            self._written = os.fstat(stream.fileno()).st_size, link
        sync_folder(self.folder)

    def _last_chain(self, path: Path) -> str:
        """The hash of the last line. The whole journal is checked, unless it is as long as we ourselves left it; what
        a run that died left of a line is cut off."""
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


def _link(chain: str, told: Mapping[str, Any]) -> str:
    text = json.dumps(told, sort_keys=True, ensure_ascii=True)
    return hashlib.sha256(f"{chain}{text}".encode()).hexdigest()


def _write_memento(folder: Path, memento: Memento) -> None:
    """All items of a memento: their contents in one file, each content once, and an index, which is written last, so
    that a folder with an index is complete."""
    for private in (folder.parent.parent, folder.parent):
        private.mkdir(mode=0o700, exist_ok=True)
    folder.mkdir(mode=0o700)
    index: dict[str, dict[str, Any]] = {}
    places: dict[bytes, tuple[int, int]] = {}
    contents, end = [], 0
    for name, item in memento.items():
        place = None
        if item.content is not None:
            if item.content not in places:
                places[item.content] = (end, len(item.content))
                contents.append(item.content)
                end += len(item.content)
            place = places[item.content]
        index[name] = {**item._replace(content=None)._asdict(), "place": place}
    _write_private(folder / CONTENTS, b"".join(contents))
    _write_private(folder / INDEX, json.dumps(index, ensure_ascii=True).encode())
    sync_folder(folder)
    sync_folder(folder.parent)


def _write_private(path: Path, content: bytes) -> None:
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    with os.fdopen(descriptor, "wb") as stream:
        stream.write(content)
        stream.flush()
        os.fsync(stream.fileno())


def _read_memento(folder: Path) -> Memento:
    try:
        index = json.loads((folder / INDEX).read_bytes())
        contents = (folder / CONTENTS).read_bytes()

        def content(place: list[int] | None) -> bytes | None:
            if place is None:
                return None
            start, size = place
            if start + size > len(contents):
                raise ValueError("its contents are cut short")
            return contents[start : start + size]

        return {
            name: Item(content(kept["place"]), **{k: v for k, v in kept.items() if k not in ("place", "content")})
            for name, kept in index.items()
        }
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise BadInput(f"{folder}: what was kept for the way back is damaged ({error})") from None
