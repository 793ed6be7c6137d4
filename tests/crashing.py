"""Runs that are killed, or meet a full disk or a broken one, at any of their write-like calls; and what is judged of
them."""

import errno
import hashlib
import mmap
import os
import signal
import stat
import sys
from collections.abc import Callable, Mapping
from contextlib import nullcontext, suppress
from enum import StrEnum
from pathlib import Path
from typing import Any, NoReturn

from verrou.core.errors import BadInput, VerrouError
from verrou.core.judging import guards
from verrou.core.steps.step import Step
from verrou.machines.changes import Secrets
from verrou.machines.linux.copy import sandbox as inside
from verrou.machines.protocol import Machine
from verrou.records import dry_runs, reversals, transactions
from verrou.records.journal import Journal

WRITE_LIKE = (
    *("write", "pwrite", "rename", "replace", "link", "unlink", "symlink", "mkdir", "rmdir", "chmod", "fchmod"),
    *("chown", "fchown", "truncate", "ftruncate", "fsync", "setxattr", "removexattr"),
)
LEFT_ALONE = ("var/lib/verrou", "etc/.pwd.lock")
"""Verrou's own records, and the lock file that every tool makes where it is missing."""
DIED, CAME_THROUGH, FAILED, WHOLE = 77, 4, 3, 0


class Mode(StrEnum):
    """What happens at the chosen call."""

    KILLED = "killed"
    FULL = "no space left"
    BROKEN = "i/o error"
    INTERRUPTED = "ctrl-c"


class Whose(StrEnum):
    """Whose calls are counted: a run forks the processes that keep its private copies."""

    RUN = "run"
    COPY = "copy"


def meeting(mode: Mode, call: int, action: Callable[[], object], whose: Whose = Whose.RUN) -> int:
    """Run ``action`` in a child in which the n-th write-like call of the run, or of each of its private copies, does
    not come through. Answers with how that ended: minus the signal, :data:`DIED`, :data:`FAILED`, :data:`CAME_THROUGH`
    in spite of it, or :data:`WHOLE` when there were fewer calls."""
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        _in_child(mode, call, action, whose)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


def _in_child(mode: Mode, call: int, action: Callable[[], object], whose: Whose) -> NoReturn:
    mine = os.getpid()
    counted: dict[int, int] = {}
    met = mmap.mmap(-1, 1)

    def failing(whole: Callable[..., Any]) -> Callable[..., Any]:
        def called(*arguments: Any, **options: Any) -> Any:
            here = os.getpid()
            if (here == mine) != (whose is Whose.RUN):
                return whole(*arguments, **options)
            counted[here] = counted.get(here, 0) + 1
            if counted[here] == call:
                met[0] = 1
                if mode is Mode.KILLED:
                    os.kill(mine, signal.SIGKILL)
                    os._exit(DIED)
                if mode is Mode.INTERRUPTED and whose is Whose.RUN:
                    raise KeyboardInterrupt
                number = errno.ENOSPC if mode is Mode.FULL else errno.EIO
                raise OSError(number, os.strerror(number))
            return whole(*arguments, **options)

        return called

    for name in WRITE_LIKE:
        setattr(os, name, failing(getattr(os, name)))
    inside._mount = failing(inside._mount)  # type: ignore[assignment]
    try:
        action()
        code = CAME_THROUGH if met[0] else WHOLE
    except (VerrouError, OSError, KeyboardInterrupt) as error:
        code = FAILED
        if os.environ.get("VERROU_SHOW"):
            print(f"{mode} at {call}: {error}", file=sys.stderr)
    except BaseException:
        import traceback

        traceback.print_exc()
        code = 1
    os._exit(code)


def done(machine: Machine, steps: list[Step], secrets: Secrets) -> None:
    """Do a dry run of a plan, ask the guards, and apply it."""
    snapshot = machine.observe()
    dry_run = dry_runs.do_dry_run(machine, snapshot, guards.with_trials(snapshot, steps), secrets)
    if dry_run.prediction_reason:
        raise VerrouError(dry_run.prediction_reason)
    guards.check(dry_run.candidate, guards.ACCEPTABLE)
    assert not dry_run.rejected, dry_run.rejected
    transactions.commit(machine, dry_run, secrets, transactions.RunInfo("test"))


def taken_back(machine: Machine) -> None:
    """What ``verrou undo`` does: an undo that broke off itself goes on."""
    journal = Journal(machine.records_folder())
    entries = reversals.to_undo(journal, None, None)
    if entries[0].is_interrupted and entries[0].undoes:
        reversals.resume(machine)
        return
    dry_run = reversals.dry_run_undo(machine, journal, [entry.number for entry in entries])
    guards.check(dry_run.candidate, guards.ACCEPTABLE)
    reversals.undo(machine, dry_run, entries, transactions.RunInfo("undo"))


def finished(machine: Machine) -> None:
    """What ``verrou resume`` does."""
    reversals.resume(machine)


def state(root: Path) -> Mapping[str, object]:
    """Everything that may change in a root: kind, mode, owner, content, attributes."""
    found: dict[str, object] = {"/": sorted(name for name in os.listdir(root))}
    for top in ("etc", "home", "var", "usr/share/pam-configs", "root"):
        for folder, folders, names in os.walk(root / top):
            here = Path(folder).relative_to(root)
            folders[:] = [name for name in folders if str(here / name) not in LEFT_ALONE]
            for name in (*folders, *names):
                place = here / name
                if str(place) not in LEFT_ALONE and not _is_dead_lock(root / place):
                    found[str(place)] = _told(root / place)
    return found


def _is_dead_lock(path: Path) -> bool:
    """A lock of a process that is gone: the next tool breaks it, ours or the system's."""
    if path.suffix != ".lock" or path.parent.name != "etc":
        return False
    text = path.read_bytes().split(b"\0")[0]
    return text.isdigit() and not Path("/proc", text.decode()).exists()


def _told(path: Path) -> tuple[object, ...]:
    now = path.lstat()
    content: object = None
    attributes: list[tuple[str, bytes]] = []
    if stat.S_ISLNK(now.st_mode):
        content = os.readlink(path)
    elif stat.S_ISREG(now.st_mode):
        content = hashlib.sha256(path.read_bytes()).hexdigest()
    if not stat.S_ISLNK(now.st_mode):
        attributes = [(name, os.getxattr(path, name)) for name in sorted(os.listxattr(path))]
    return now.st_mode, now.st_uid, now.st_gid, content, attributes


def one_of_two(
    root: Callable[[], Mapping[str, object]],
    machine: Machine,
    route: Callable[[Machine], None],
    call: int,
    *two: object,
) -> str:
    """After a run that met something at ``call``: go the way, if anything broke off or was not cleaned up, and the
    other one where something is left to clean up even then; then the tree is one of ``two``, and the journal is whole.
    Answers with what is wrong, or nothing."""
    journal = Journal(machine.records_folder())
    broke_off = journal.interrupted_entry() is not None
    if broke_off or journal.pending_cleanup():
        # What is done and was only not cleaned up may leave nothing to go back over.
        with nullcontext() if broke_off else suppress(BadInput):
            route(machine)
        if Journal(machine.records_folder()).pending_cleanup():
            finished(machine)
    journal = Journal(machine.records_folder())
    if (left := journal.interrupted_entry()) is not None or journal.pending_cleanup() or journal.damaged():
        return f"call {call}: the journal is not whole ({left})"
    now = root()
    if now in two:
        return ""
    nearest = min(two, key=lambda other: len(_differs(other, now)))  # type: ignore[arg-type]
    return f"call {call}: neither of the two: {_differs(nearest, now)[:6]}"


def _differs(one: Any, other: Any) -> list[str]:
    if not isinstance(one, Mapping) or not isinstance(other, Mapping):
        return ["content"]
    return sorted(place for place in one.keys() | other.keys() if one.get(place) != other.get(place))


def with_fixed_hashes(monkeypatch: Any) -> None:
    """The same hash for every password, so that what two runs leave can be compared."""
    from verrou.machines.linux.accounts import steps as account_steps

    monkeypatch.setattr(account_steps, "hashed_all", lambda words: dict.fromkeys(words, "$6$station$" + "h" * 86))
