"""Changes undone on a private copy, and interrupted ones finished."""

import os
from collections.abc import Mapping, Sequence
from typing import assert_never

from attrs import define

from verrou.machines.changes import (
    Change,
    FileChange,
    FileState,
    Outcome,
    PlaceState,
    RestoreResult,
)
from verrou.machines.folder_operations import (
    ArchiveHome,
    BringHome,
    DropArchive,
    FolderOperation,
    HandOver,
    MakeHome,
    TakeHome,
    UnmakeHome,
)
from verrou.machines.linux.accounts.homes import FOLDER_FLAGS, new_archive
from verrou.machines.linux.accounts.new_homes import is_as_made
from verrou.machines.linux.apply.applier import COPIED, Applier, copied_name, leaving_name
from verrou.machines.linux.apply.archives import is_whole
from verrou.machines.linux.apply.order import STACK
from verrou.machines.linux.copy.copied_tree import OF_THE_COPY, CopiedTree
from verrou.machines.linux.copy.merging import merger_for
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.pam.profiles import update_stack
from verrou.machines.linux.refused import StepRejected
from verrou.machines.protocol import DryRunUnavailable

UPDATERS_OWN = ("/var/lib/pam/", f"{STACK}common-")
"""What the updater of the PAM stack writes: put together anew rather than merged."""


@define(repr=False)
class Restoring(CopiedTree):
    """A copy on which changes are undone and finished; see :class:`verrou.machines.protocol.Copy`."""

    def restore(self, change: Change, later: Mapping[str, int]) -> RestoreResult:
        """See :meth:`verrou.machines.protocol.Copy.restore`."""
        if not isinstance(change, FileChange):
            return self._restore_operation(change)
        place, before, after = change
        if not self._is_copied(place):
            return self._put_back_at_home(change)
        now = self.root.item(place)
        if now == before:
            return RestoreResult(place, Outcome.UNCHANGED)
        if now == after:
            return self._written(place, before, "")
        named = f"entry {later[place]} of this journal" if place in later else "another program"
        if place.startswith(UPDATERS_OWN):
            self._restack = True
            return RestoreResult(place, Outcome.UNDONE, f"{named} wrote to it since; the system puts it together anew")
        if None in (now.content, before.content, after.content):
            return RestoreResult(place, Outcome.REJECTED, f"{named} wrote to it since; left as it is")
        assert now.content is not None and before.content is not None and after.content is not None
        content, kept = merger_for(place)(before.content, after.content, now.content)
        merged = FileState(
            content,
            before.mode if now.mode == after.mode else now.mode,
            before.uid if now.uid == after.uid else now.uid,
            before.gid if now.gid == after.gid else now.gid,
            attributes=before.attributes if now.attributes == after.attributes else now.attributes,
        )
        left = f"; left as they are: {', '.join(kept)}" if kept else ""
        if merged == now:
            outcome = Outcome.REJECTED if kept else Outcome.UNCHANGED
            return RestoreResult(place, outcome, f"{named} wrote to it since{left}" if kept else "")
        return self._written(place, merged, f"{named} wrote to it since; only Verrou's own change is undone{left}")

    def go_on(self, change: Change, stands: PlaceState) -> RestoreResult:
        """See :meth:`verrou.machines.protocol.Copy.go_on`."""
        if isinstance(change, FileChange) and stands is not PlaceState.BEFORE:
            return self.restore(change.backwards(), {})
        if isinstance(change, FileChange) and self._is_copied(change.place):
            return self._written(change.place, change.after, "")
        self._at_home.append(change)
        return RestoreResult(change.place, Outcome.DONE)

    def _written(self, place: str, item: FileState, message: str) -> RestoreResult:
        now = self.root.item(place)
        try:
            if place.startswith(f"{load_faillock(self.root).tallies}/"):
                self._tallies.add(place)
            self._write(place, item)
            self._put_back[place] = item
        except OSError as error:
            # A partly written place must never be applied: the whole copy is discarded.
            if error.errno in OF_THE_COPY or self.root.item(place) != now:
                raise DryRunUnavailable(f"{place} could not be written on the copy: {error.strerror}") from None
            return RestoreResult(place, Outcome.REJECTED, f"{error.strerror}; left as it is")
        return RestoreResult(place, Outcome.UNDONE, message)

    def _is_copied(self, place: str) -> bool:
        folders = (*self.copy.uppers, load_faillock(self.root).tallies)
        return any(place.startswith(f"{folder}/") for folder in folders)

    def _put_back_at_home(self, change: FileChange) -> RestoreResult:
        """Restore a folder where the copy only shows the machine: a home, or one above it."""
        now = self.machine_root.item(change.place)
        if now == change.before:
            return RestoreResult(change.place, Outcome.UNCHANGED)
        if now != change.after:
            return RestoreResult(change.place, Outcome.REJECTED, "it was changed since; left as it is")
        self._at_home.append(FileChange(change.place, now, change.before))
        return RestoreResult(change.place, Outcome.UNDONE)

    def _restore_operation(self, operation: FolderOperation) -> RestoreResult:
        place, there = operation.place, self.machine_root.item(operation.place).there
        match operation:
            case MakeHome() if coming := self._coming(place):
                # Its owner is not restored either: the file would belong to no one.
                self._at_home.remove(coming)
                kept = coming.archive if isinstance(coming, BringHome) else ""
                return RestoreResult(place, Outcome.UNDONE, f"its files stay in {kept}" if kept else "")
            case MakeHome(uid=uid, gid=gid, mode=mode, kept=lasting) if there:
                if is_as_made(self.machine_root, operation):
                    self._at_home.append(UnmakeHome(place, uid, gid, mode, lasting))
                    return RestoreResult(place, Outcome.UNDONE)
                now = self.machine_root.item(place)
                self._at_home.append(FileChange(place, now, now._replace(mode=0o700, uid=0, gid=0, attributes=())))
                return RestoreResult(place, Outcome.UNDONE, "it was used since, so its files stay, for root alone")
            case UnmakeHome(uid=uid, gid=gid, mode=mode, kept=lasting) if not there:
                self._at_home.append(MakeHome(place, uid, gid, mode, lasting))
                return RestoreResult(place, Outcome.UNDONE)
            case TakeHome():
                return self._restore_home(operation, there)
            case BringHome() if there:
                archive = ""
                if operation.archive:
                    name = operation.archive.rpartition("/")[2].rpartition("-")[0].rpartition("-")[0]
                    archive = new_archive(self.machine_root, name)
                    self._at_home.append(ArchiveHome(place, operation.uid, archive))
                self._at_home.append(TakeHome(place, operation.uid, archive))
                return RestoreResult(place, Outcome.UNDONE)
            case HandOver():
                return self._hand_back(operation)
            case ArchiveHome(archive=archive) if there and not operation.finished and not self._aside(operation):
                if not self.machine_root.item(archive).there:
                    return RestoreResult(archive, Outcome.UNCHANGED)
                self._at_home.append(DropArchive(place, operation.uid, archive))
                return RestoreResult(archive, Outcome.UNDONE)
            case MakeHome() | UnmakeHome() | BringHome() | ArchiveHome() | DropArchive():
                return RestoreResult(place, Outcome.UNCHANGED)
        assert_never(operation)

    def _coming(self, place: str) -> MakeHome | BringHome | None:
        """Return a home that the same undo was about to restore."""
        coming = (each for each in self._at_home if isinstance(each, MakeHome | BringHome))
        return next((operation for operation in coming if operation.place == place), None)

    def _hand_back(self, operation: HandOver) -> RestoreResult:
        """Return what was handed over, also where that was interrupted half-way."""
        owners = Applier(self.machine_root).owners(operation)
        if not owners:
            return RestoreResult(operation.place, Outcome.REJECTED, "it is gone")
        if operation.to_uid not in owners:
            ours = operation.uid in owners
            message = "" if ours else "it has another owner since; left as it is"
            return RestoreResult(operation.place, Outcome.UNCHANGED if ours else Outcome.REJECTED, message)
        self._at_home.append(operation.backwards())
        since = "includes files its new owner added since" if operation.below and operation.finished else ""
        return RestoreResult(operation.place, Outcome.UNDONE, since)

    def _aside(self, operation: FolderOperation) -> str:
        """Return the name of a home that an interrupted entry moved aside; empty where there is none.

        What a finished one left is about to be deleted, so no undo may rest on it."""
        if operation.finished:
            return ""
        folder, _, last = operation.place.rpartition("/")
        names = (leaving_name(last, operation.entry), copied_name(last, operation.entry))
        return next((name for name in names if self.machine_root.item(f"{folder}/{name}").there), "")

    def _restore_home(self, operation: TakeHome, there: bool) -> RestoreResult:
        aside, place, archive = self._aside(operation), operation.place, operation.archive
        half_deleted = aside.startswith(COPIED)
        if there and not half_deleted:
            if not operation.finished and not aside:
                return RestoreResult(place, Outcome.UNCHANGED)
            message = f"; unpack {archive} manually" if archive else ""
            return RestoreResult(place, Outcome.REJECTED, f"it was created again since; left as it is{message}")
        if not aside and operation.uid == 0 and not archive:
            self._at_home.append(MakeHome(place, 0, 0, 0o755, False))
            return RestoreResult(place, Outcome.UNDONE)
        if not aside and not archive:
            return RestoreResult(place, Outcome.REJECTED, "it was deleted for good")
        if not aside and not self._whole(archive):
            return RestoreResult(place, Outcome.REJECTED, f"{archive} is not what was written: its checksum differs")
        self._at_home.append(BringHome(place, operation.uid, archive, aside))
        return RestoreResult(place, Outcome.UNDONE, "" if aside else f"unpacked from {archive}, which stays")

    def _whole(self, archive: str) -> bool:
        shelf, _, name = archive.rpartition("/")
        try:
            folder = self.machine_root.open(shelf, FOLDER_FLAGS)
        except OSError:
            return False
        try:
            return is_whole(folder, name)
        finally:
            os.close(folder)

    def finish_restore(self) -> Sequence[str]:
        """See :meth:`verrou.machines.protocol.Copy.finish_restore`."""
        if not self._restack:
            return ()
        self._restack = False
        try:
            update_stack(self.root)
        except (StepRejected, DryRunUnavailable) as reason:
            return (f"the PAM stack could not be put together anew: {reason}",)
        return ("the system put its PAM stack together anew",)
