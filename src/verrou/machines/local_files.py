"""Files on this computer: replaced whole or not at all, remembered, and put back."""

import glob
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from verrou.machines import Item, Memento, Outcome, PutBack

STAGED = ".verrou-staged-"
Merge = Callable[[bytes, bytes, bytes], tuple[bytes, list[str]]]
"""From (before, after, now) to what should stand, and what of it somebody else wrote since and was left alone."""


def sync_folder(folder: Path) -> None:
    """Make a rename in ``folder`` last."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def write_whole(path: Path, content: bytes, mode: int, uid: int, gid: int) -> None:
    """Replace ``path`` by ``content``: at every instant the file is the old one or the new one.

    Raises:
        OSError: nothing was replaced.
    """
    staged = path.with_name(f"{path.name}{STAGED}{os.getpid()}")
    descriptor = os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(content)
            stream.flush()
            if (uid, gid) != (os.geteuid(), os.getegid()):
                os.fchown(stream.fileno(), uid, gid)
            os.fchmod(stream.fileno(), mode)
            os.fsync(stream.fileno())
        os.replace(staged, path)
    except BaseException:
        staged.unlink(missing_ok=True)
        raise
    sync_folder(path.parent)


def item_at(path: Path) -> Item:
    """What stands at ``path``; links are not followed and count as nothing."""
    try:
        now = path.lstat()
    except (FileNotFoundError, NotADirectoryError):
        return Item(None)
    mode = stat.S_IMODE(now.st_mode)
    if stat.S_ISDIR(now.st_mode):
        return Item(None, mode, now.st_uid, now.st_gid, folder=True)
    if not stat.S_ISREG(now.st_mode):
        return Item(None)
    return Item(path.read_bytes(), mode, now.st_uid, now.st_gid)


def put_back(
    place: Callable[[str], Path], before: Memento, after: Memento | None, merge: Callable[[str], Merge | None]
) -> Iterator[PutBack]:
    """Bring the files of ``before`` back; see :meth:`verrou.machines.Machine.put_back`. ``merge`` finds, by item, how a
    file that somebody else changed can still be brought back in part."""
    changed = [n for n in {**before, **(after or {})} if after is None or after.get(n) != before.get(n)]
    nothing = Item(None)
    for name in sorted(changed, key=lambda n: (before.get(n, nothing).content is None, -n.count("/"), n)):
        was, path = before.get(name, nothing), place(name)
        for staged in path.parent.glob(f"{glob.escape(path.name)}{STAGED}*"):
            staged.unlink()  # left by a run that was killed between staging and swapping in
        now = item_at(path)
        if now == was:
            continue
        ours = after.get(name, nothing) if after is not None else now
        if now == ours:
            yield _restore(name, path, was)
        elif merger := merge(name) if None not in (now.content, was.content, ours.content) else None:
            assert now.content is not None and was.content is not None and ours.content is not None
            content, kept = merger(was.content, ours.content, now.content)
            said = f"; left as they are: {', '.join(kept)}" if kept else ""
            restored = _restore(name, path, was._replace(content=content))
            yield restored._replace(said=f"somebody wrote to it since; only our own change was taken back{said}")
        else:
            yield PutBack(name, Outcome.REFUSED, "somebody wrote to it since; left as it is")


def _restore(name: str, path: Path, was: Item) -> PutBack:
    try:
        if was.folder:
            path.mkdir(exist_ok=True)
            os.chmod(path, was.mode)
            os.chown(path, was.uid, was.gid)
        elif was.content is not None:
            write_whole(path, was.content, was.mode, was.uid, was.gid)
        elif path.is_dir() and not path.is_symlink():
            path.rmdir()
        else:
            path.unlink()
    except OSError as error:
        return PutBack(name, Outcome.REFUSED, f"{error.strerror}: {path}")
    return PutBack(name, Outcome.UNDONE)
