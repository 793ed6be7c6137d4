"""What a private copy of a Linux system holds: which places were written, and the changes between them."""

import errno
import os
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path

from attrs import define, field

from verrou.core.model import Snapshot
from verrou.machines.changes import (
    Change,
    FileChange,
    FileState,
    Stamps,
)
from verrou.machines.linux.accounts.homes import FOLDER_FLAGS
from verrou.machines.linux.copy.private_copy import PrivateCopy
from verrou.machines.linux.root import Root
from verrou.machines.local_files import set_attributes, write_all

OF_THE_COPY = (errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.ENOMEM)
"""Errors of the memory that a copy is made in, which say nothing about the machine."""
MEANS_NOTHING = ("-old", ".lock", "/.pwd.lock", "-")
"""Suffixes of files that do not change a machine's meaning: backups and locks."""


@define(repr=False)
class CopiedTree:
    """See :class:`verrou.machines.protocol.Copy`.

    ``machine_root`` is the system itself, only looked at from here; ``look`` observes a root."""

    machine_root: Root
    copy: PrivateCopy
    taken_of: Stamps
    look: Callable[[Root], Snapshot]
    _known: dict[str, FileState] = field(factory=dict, init=False)
    _phases: list[list[Change]] = field(factory=list, init=False)
    _at_home: list[Change] = field(factory=list, init=False)
    _tallies: set[str] = field(factory=set, init=False)
    _put_back: dict[str, FileState] = field(factory=dict, init=False)
    _restack: bool = field(default=False, init=False)
    _observed: Snapshot | None = field(default=None, init=False)

    @property
    def root(self) -> Root:
        """The tree of the copy."""
        return self.copy.root

    def _candidates(self) -> set[str]:
        """Return every place of the copy that was written to."""
        found: set[str] = set(self._tallies)
        self.machine_root.forget()  # another program may have written there since
        for folder, upper in self.copy.uppers.items():
            self._candidates_in(folder, upper, found)
        return {place for place in found if not place.endswith(MEANS_NOTHING)}

    def _candidates_in(self, folder: str, upper: Path, found: set[str]) -> None:
        try:
            entries = list(os.scandir(upper))
        except OSError:
            return
        for entry in entries:
            place = f"{folder}/{entry.name}"
            found.add(place)
            if entry.is_dir(follow_symlinks=False):
                self._candidates_in(place, Path(entry.path), found)
                if _is_opaque(entry.path):
                    self._below(place, found)
            elif not entry.is_file(follow_symlinks=False):
                self._below(place, found)

    def _below(self, place: str, found: set[str]) -> None:
        """Add what the machine has below a folder that was removed or created anew in the copy."""
        for name in self.machine_root.names_in(place):
            inner = f"{place}/{name}"
            if inner not in found:
                found.add(inner)
                self._below(inner, found)

    def _item_before(self, place: str) -> FileState:
        if place not in self._known:
            self._known[place] = self.machine_root.item(place)
        return self._known[place]

    def _item_after(self, place: str) -> FileState:
        """Return the state of a place of the copy.

        No step changes the attributes of an existing file, and the memory of the copy may not store all of them: they
        are the machine's own, or the restored ones."""
        item, before = self.root.item(place), self._item_before(place)
        meant = self._put_back.get(place, before)
        same_kind = meant.there and item.there and meant.folder is item.folder and not item.link
        return item._replace(attributes=meant.attributes) if same_kind else item

    def _file_states(self) -> dict[str, FileState]:
        return {place: self.root.item(place) for place in self._candidates()}

    def _restore(self, before: Mapping[str, FileState]) -> None:
        """Restore the copy to its state before a rejected step."""
        for place in sorted(self._candidates() | set(before), key=lambda name: -name.count("/")):
            was = before[place] if place in before else self._item_before(place)
            if self.root.item(place) != was:
                self._write(place, was)
        self.root.forget()

    def _write(self, place: str, item: FileState) -> None:
        """Write ``item`` to a place of the copy."""
        now = self.root.item(place)
        if item.there:
            self.root.make_folders(place.rpartition("/")[0])
        elif not now.there:
            return
        folder, last = self.root.open_folder_of(place)
        try:
            if not item.there or now.folder is not item.folder or now.link:
                if now.folder:
                    os.rmdir(last, dir_fd=folder)
                elif now.there:
                    os.unlink(last, dir_fd=folder)
            if item.link:
                os.symlink(item.link, last, dir_fd=folder)
                os.chown(last, item.uid, item.gid, dir_fd=folder, follow_symlinks=False)
            elif item.there:
                _put(folder, last, item)
        finally:
            os.close(folder)
        self.root.forget()

    def _done_since(self) -> list[Change]:
        changes: list[Change] = []
        for place in sorted(self._candidates()):
            before, after = self._item_before(place), self._item_after(place)
            if before != after:
                changes.append(FileChange(place, before, after))
                self._known[place] = after
        changes += self._at_home
        self._at_home = []
        return changes

    def mark(self) -> None:
        """See :meth:`verrou.machines.protocol.Copy.mark`."""
        self._phases.append(self._done_since())


def _put(folder: int, name: str, item: FileState) -> None:
    """Write a file or folder of the copy, with its attributes as far as the copy can store them."""
    if item.folder:
        with suppress(FileExistsError):
            os.mkdir(name, 0o700, dir_fd=folder)
        descriptor = os.open(name, FOLDER_FLAGS, dir_fd=folder)
    else:
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        descriptor = os.open(name, flags, 0o600, dir_fd=folder)
    try:
        write_all(descriptor, item.content or b"")
        set_attributes(descriptor, item, all_of_it=False)
    finally:
        os.close(descriptor)


def _is_opaque(path: str) -> bool:
    try:
        return os.getxattr(path, "trusted.overlay.opaque") == b"y"
    except OSError:
        return False
