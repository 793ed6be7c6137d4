"""Apply a change set atomically by staging and rename.

Each place is as before or as after at every moment, and staged files are where no program looks."""

import errno
import fcntl
import hashlib
import os
import stat
import struct
from collections.abc import Iterator
from typing import assert_never

from attrs import define

from verrou.core.errors import MachineRefused
from verrou.core.model import name_list
from verrou.log import Log
from verrou.machines.changes import Change, ChangeSet, FileChange, FileState, PlaceState
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
from verrou.machines.linux.accounts import new_homes
from verrou.machines.linux.accounts.homes import ARCHIVES, FOLDER_FLAGS, Home, walk_open
from verrou.machines.linux.apply import archives
from verrou.machines.linux.root import Root
from verrou.machines.local_files import item_at, set_attributes, sync_folder, write_new

LOG = Log(__name__)

RECORDS = "/var/lib/verrou"
STAGED = "staged"
STAGED_ELSEWHERE = ".verrou-staged"
"""Staging folder at the top of a file system that the records are not on."""
GET_FLAGS = 0x80086601
"""FS_IOC_GETFLAGS of ioctl_iflags(2)."""
IMMUTABLE, APPEND_ONLY = 0x10, 0x20


def leaving_name(last: str, entry: int) -> str:
    """Return the name of a home from its removal until it is deleted."""
    return f".verrou-leaving-{entry}-{last}"


COPIED = ".verrou-copied-"


def copied_name(last: str, entry: int) -> str:
    """Move a home by copying it whole before deleting it in place, where the file system cannot rename it."""
    return f"{COPIED}{entry}-{last}"


def _coming_name(last: str, entry: int) -> str:
    return f".verrou-coming-{entry}-{last}"


@define(repr=False)
class Applier:
    """Applies changes to the machine itself."""

    root: Root

    def stands(self, change: Change, entry: int) -> PlaceState:
        """See :meth:`verrou.machines.protocol.ChangeableMachine.stands`."""
        if not isinstance(change, FileChange):
            return self._operation_state(change)
        now = self.root.item(change.place)
        if now == change.after:
            return PlaceState.AFTER
        if now == change.before:
            return PlaceState.BEFORE
        if now.folder and change.before.folder and change.after.folder:
            # A folder's owner and mode are set one after the other.
            half = all(getattr(now, f) in (getattr(change.before, f), getattr(change.after, f)) for f in _HANGS_ON)
            return PlaceState.BEFORE if half else PlaceState.OTHER
        if now.folder and change.after.folder and not change.before.there:
            return PlaceState.BEFORE
        return PlaceState.OTHER

    def _operation_state(self, operation: FolderOperation) -> PlaceState:
        match operation:
            case HandOver():
                owners = self.owners(operation)
                if operation.uid in owners:
                    return PlaceState.BEFORE
                return PlaceState.AFTER if operation.to_uid in owners or not owners else PlaceState.OTHER
            case BringHome():
                return self._homecoming_stands(operation)
            case MakeHome():
                done = self.root.item(operation.place).there
            case ArchiveHome():
                done = self.root.item(operation.archive).there
            case UnmakeHome() | TakeHome():
                done = not self.root.item(operation.place).there
            case DropArchive():
                done = not self.root.item(operation.archive).there
            case _:
                assert_never(operation)
        return PlaceState.AFTER if done else PlaceState.BEFORE

    def _homecoming_stands(self, operation: BringHome) -> PlaceState:
        """Return OTHER where what should be restored is gone for good, so that no run waits for it."""
        _check_aside(operation)
        beside = f"{operation.place.rpartition('/')[0]}/{operation.aside}" if operation.aside else ""
        if beside and self.root.item(beside).there:
            return PlaceState.BEFORE
        if self.root.item(operation.place).there:
            return PlaceState.AFTER
        kept = operation.archive
        return PlaceState.BEFORE if kept and self.root.item(kept).there else PlaceState.OTHER

    def owners(self, operation: HandOver) -> set[int]:
        """Return the owners of what is handed over, with all its content; empty where it is gone."""
        now = self.root.item(operation.place)
        inside = Home(self.root, operation.place, 0).owners() if now.folder and operation.below else set()
        return {now.uid, *inside} if now.there else set()

    def apply(self, change: Change, entry: int) -> None:
        """See :meth:`verrou.machines.protocol.ChangeableMachine.apply`."""
        LOG.info("entry %s: apply %s", entry, change.place)
        if not isinstance(change, FileChange):
            self._do(change, entry)
            return
        folder, last = self.root.open_folder_of(change.place)
        try:
            if change.after.folder and _is_folder(folder, last):
                _settle_folder(folder, last, change.after)
            elif change.after.there:
                self._swap_in(folder, last, change, entry)
            elif change.before.folder:
                _remove_folder(folder, last)
            else:
                _remove(folder, last)
            sync_folder(folder)
        finally:
            os.close(folder)

    def _swap_in(self, folder: int, last: str, change: FileChange, entry: int) -> None:
        name = f"{entry}-{hashlib.sha256(os.fsencode(change.place)).hexdigest()[:16]}"
        for staging in self._staging_folders(folder):
            try:
                delete_tree(staging, name)
                if change.after.link:
                    os.symlink(change.after.link, name, dir_fd=staging)
                    os.chown(name, change.after.uid, change.after.gid, dir_fd=staging, follow_symlinks=False)
                elif change.after.folder:
                    os.mkdir(name, 0o700, dir_fd=staging)
                    _settle_folder(staging, name, change.after)
                else:
                    write_new(name, change.after, staging)
                os.rename(name, last, src_dir_fd=staging, dst_dir_fd=folder)
                return
            except OSError as error:
                if error.errno != errno.EXDEV:
                    raise
                delete_tree(staging, name)
            finally:
                os.close(staging)
        raise MachineRefused(f"{change.place}: no new file can be put beside it on its file system")

    def _staging_folders(self, target: int) -> Iterator[int]:
        """Yield open folders in which a file for ``target`` can be staged.

        The records' folder on the same file system, otherwise the top folder of the target's."""
        device = os.fstat(target).st_dev
        records = self.root.open(RECORDS, FOLDER_FLAGS)
        try:
            if os.fstat(records).st_dev == device:
                yield _own_folder(records, STAGED)
        finally:
            os.close(records)
        top = self._top(target)
        try:
            yield _own_folder(top, STAGED_ELSEWHERE)
        finally:
            os.close(top)

    def _top(self, folder: int) -> int:
        """Return the highest open folder above ``folder`` on the same file system, and inside the root."""
        now = os.fstat(folder)
        end = os.stat(self.root.path)
        here = os.dup(folder)
        while (now.st_dev, now.st_ino) != (end.st_dev, end.st_ino):
            above = os.open("..", FOLDER_FLAGS, dir_fd=here)
            up = os.fstat(above)
            if up.st_dev != now.st_dev or up.st_ino == now.st_ino:
                os.close(above)
                break
            os.close(here)
            here, now = above, up
        return here

    def _do(self, operation: FolderOperation, entry: int) -> None:
        if isinstance(operation, BringHome):
            _check_aside(operation)
        folder, last = self.root.open_folder_of(operation.place)
        coming = _coming_name(last, entry)
        try:
            match operation:
                case MakeHome():
                    delete_tree(folder, coming)
                    new_homes.build(self.root, folder, coming, operation)
                    os.rename(coming, last, src_dir_fd=folder, dst_dir_fd=folder)
                case TakeHome() | UnmakeHome():
                    self._move_aside(operation, folder, last, entry)
                case BringHome(aside=aside) if aside and item_at(aside, folder).there:
                    if aside.startswith(COPIED):
                        delete_tree(folder, last)
                    os.rename(aside, last, src_dir_fd=folder, dst_dir_fd=folder)
                case BringHome():
                    self._unpack(operation.archive, folder, coming)
                    os.rename(coming, last, src_dir_fd=folder, dst_dir_fd=folder)
                case HandOver():
                    hand_over(folder, last, operation)
                case ArchiveHome():
                    self._pack(operation.place, operation.archive, folder, last)
                case DropArchive():
                    shelf, name = self._shelf(operation.archive)
                    archives.drop(shelf, name)
                    os.close(shelf)
                case _:
                    assert_never(operation)
            sync_folder(folder)
        finally:
            os.close(folder)

    def _move_aside(self, operation: TakeHome | UnmakeHome, folder: int, last: str, entry: int) -> None:
        copied, coming = copied_name(last, entry), _coming_name(last, entry)
        if not item_at(copied, folder).there:
            try:
                os.rename(last, leaving_name(last, entry), src_dir_fd=folder, dst_dir_fd=folder)
                return
            except OSError as error:
                if error.errno != errno.EXDEV:
                    raise
            # An overlay does not rename a folder of its lower layer.
            delete_tree(folder, coming)
            aside = f"{ARCHIVES}/{copied}"
            self._pack(operation.place, aside, folder, last)
            self._unpack(aside, folder, coming)
            os.rename(coming, copied, src_dir_fd=folder, dst_dir_fd=folder)
            shelf, name = self._shelf(aside)
            archives.drop(shelf, name)
            os.close(shelf)
        delete_tree(folder, last)

    def _pack(self, place: str, archive: str, folder: int, last: str) -> None:
        home = os.open(last, FOLDER_FLAGS, dir_fd=folder)
        shelf, name = self._shelf(archive)
        try:
            archives.pack(home, place, shelf, name)
        finally:
            os.close(home)
            os.close(shelf)

    def _unpack(self, archive: str, folder: int, coming: str) -> None:
        """Restore a home from its archive, as ``coming``."""
        delete_tree(folder, coming)
        shelf, name = self._shelf(archive)
        try:
            if not archives.is_whole(shelf, name):
                raise MachineRefused(f"{archive} is not what was written: its checksum differs")
            archives.unpack(shelf, name, folder, coming)
        finally:
            os.close(shelf)

    def _shelf(self, archive: str) -> tuple[int, str]:
        """Open the folder of archives, created where it is missing; return it and the archive's name."""
        records = self.root.open(RECORDS, FOLDER_FLAGS)
        try:
            return _own_folder(records, ARCHIVES.rpartition("/")[2]), archive.rpartition("/")[2]
        finally:
            os.close(records)

    def clean_up(self, changes: ChangeSet, entry: int, *, staged_only: bool = False) -> None:
        """See :meth:`verrou.machines.protocol.ChangeableMachine.clean_up`."""
        for change in changes:
            try:
                folder, last = self.root.open_folder_of(change.place)
            except OSError as error:
                LOG.info("nothing to clean up for %s: %s", change.place, error.strerror)
                continue
            try:
                if not isinstance(change, FileChange):
                    moved_aside = (leaving_name(last, entry), copied_name(last, entry))
                    for name in (_coming_name(last, entry), *(() if staged_only else moved_aside)):
                        delete_tree(folder, name)
                    self._drop_copy(copied_name(last, entry))
                top = self._top(folder)
                delete_tree(top, STAGED_ELSEWHERE)
                os.close(top)
            finally:
                os.close(folder)
        try:
            records = self.root.open(RECORDS, FOLDER_FLAGS)
        except OSError as error:
            LOG.info("nothing to clean up in %s: %s", RECORDS, error.strerror)
            return
        delete_tree(records, STAGED)
        os.close(records)

    def _drop_copy(self, name: str) -> None:
        """Delete the archive that a home was copied to, where it still exists."""
        if not self.root.item(f"{ARCHIVES}/{name}").there and not self.root.item(f"{ARCHIVES}/{name}.part").there:
            return
        shelf = self.root.open(ARCHIVES, FOLDER_FLAGS)
        archives.drop(shelf, name)
        os.close(shelf)

    def obstacles(self, changes: ChangeSet) -> list[str]:
        """Return why these changes could not be applied, as far as that can be known before."""
        found, protected = [], []
        for change in changes:
            try:
                folder, last = self.root.open_folder_of(change.place)
            except OSError:
                continue
            try:
                if os.fstatvfs(folder).f_flag & os.ST_RDONLY:
                    protected.append(change.place)
                elif _flags(folder, ".") & (IMMUTABLE | APPEND_ONLY):
                    found.append(f"the folder of {change.place} is marked as unchangeable; chattr -i -a it first")
                elif _flags(folder, last) & (IMMUTABLE | APPEND_ONLY):
                    found.append(f"{change.place} is marked as unchangeable; chattr -i -a it first")
            finally:
                os.close(folder)
        if protected:
            names = name_list(list(dict.fromkeys(protected)), 2)
            found.append(f"{names}: on a file system that is mounted read-only; mount it for writing")
        return list(dict.fromkeys(found))

    def notices(self, changes: ChangeSet) -> list[str]:
        """Return what else depends on the places of these changes."""
        found = []
        for change in changes:
            if not isinstance(change, FileChange) or change.before.content is None:
                continue
            try:
                links = os.stat(self.root.place(change.place), follow_symlinks=False).st_nlink
            except OSError:
                continue
            if links > 1:
                found.append(
                    f"{change.place} has {links - 1} further name(s) on this disk (hard links): "
                    "they still have the old content."
                )
        return found


def _check_aside(operation: BringHome) -> None:
    """Check that the name of a home moved aside leads nowhere else."""
    if "/" in operation.aside:
        raise MachineRefused(f"the stored change set names {operation.aside!r}, which is not next to {operation.place}")


_HANGS_ON = ("mode", "uid", "gid", "attributes")


def _own_folder(above: int, name: str) -> int:
    try:
        os.mkdir(name, 0o700, dir_fd=above)
    except FileExistsError:
        now = os.stat(name, dir_fd=above, follow_symlinks=False)
        if not stat.S_ISDIR(now.st_mode) or now.st_uid != os.geteuid() or now.st_mode & 0o077:
            raise MachineRefused(
                f"{name} is not a folder of root's own that is closed to others; look at it and move it away"
            ) from None
    return os.open(name, FOLDER_FLAGS, dir_fd=above)


def _remove(folder: int, name: str) -> None:
    try:
        os.unlink(name, dir_fd=folder)
    except FileNotFoundError:
        return


def _remove_folder(folder: int, name: str) -> None:
    try:
        os.rmdir(name, dir_fd=folder)
    except OSError as error:
        if error.errno not in (errno.ENOENT, errno.ENOTEMPTY):
            raise


def _is_folder(folder: int, name: str) -> bool:
    return item_at(name, folder).folder


def _settle_folder(folder: int, name: str, item: FileState) -> None:
    descriptor = os.open(name, FOLDER_FLAGS, dir_fd=folder)
    try:
        set_attributes(descriptor, item)
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def hand_over(folder: int, name: str, operation: HandOver) -> None:
    """Change the owner of a file, or of a folder with all its content. Links are not followed."""

    def give(above: int, each: str) -> None:
        now = os.stat(each, dir_fd=above, follow_symlinks=False)
        if now.st_uid == operation.uid:
            to_gid = operation.to_gid if now.st_gid == operation.gid else -1
            # chown(2) clears set-user-ID, as it must: the program would run as the new owner.
            os.chown(each, operation.to_uid, to_gid, dir_fd=above, follow_symlinks=False)

    try:
        if operation.below:
            top = os.open(name, FOLDER_FLAGS, dir_fd=folder)
            try:
                for inner, _, folders, names in walk_open(top, "", os.fstat(top).st_dev):
                    for each in (*names, *folders):
                        give(inner, each)
            finally:
                os.close(top)
        give(folder, name)
    except FileNotFoundError:
        return  # it was deleted meanwhile


def delete_tree(folder: int, name: str) -> None:
    """Delete a folder or file below an open one, with all its content and nothing else; no error where it is gone."""
    try:
        top = os.open(name, FOLDER_FLAGS, dir_fd=folder)
    except FileNotFoundError:
        return
    except NotADirectoryError:
        _remove(folder, name)
        return
    try:
        for inner, _, folders, names in walk_open(top, "", os.fstat(top).st_dev):
            for each in names:
                _remove(inner, each)
            for each in folders:
                os.rmdir(each, dir_fd=inner)
    finally:
        os.close(top)
    os.rmdir(name, dir_fd=folder)


def _flags(folder: int, name: str) -> int:
    """Return the flags of ioctl_iflags(2); none where the file or its file system has none."""
    try:
        descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
    except OSError:
        return 0
    try:
        answer = fcntl.ioctl(descriptor, GET_FLAGS, b"\0" * 8)
        return int(struct.unpack("l", answer)[0])
    except OSError:
        return 0
    finally:
        os.close(descriptor)
