"""A private copy of a whole Linux system, in mounts that no one else sees.

A child process leaves everyone else's mounts, mounts an overlay over each folder that Verrou may write, and makes that
its root. Reading and changing code works on the copy from outside, through ``/proc/CHILD/root``; the system's own
programs run inside; what was written is in the upper folders of the overlays. It is gone when the child ends, however
it ends. Whatever runs in it is isolated, of this computer as of a mounted disk: with processes, network, names and
mounts of its own, a few plain devices, no way to write outside of the copy, only the capabilities that it needs, and
bounded time, memory and processes."""

import gc
import json
import os
import select
import shutil
import signal
import stat
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import Any, cast

from attrs import define, field

from verrou.core.errors import NotEnoughRights, VerrouError
from verrou.log import Log
from verrou.machines.linux.copy.bounds import bound_this_process, kill_all, until_ended, until_readable, watched
from verrou.machines.linux.copy.call_filter import refuse_calls
from verrou.machines.linux.copy.sandbox import (
    CLEAN_ENVIRONMENT,
    CLONE_NEWIPC,
    CLONE_NEWNET,
    CLONE_NEWNS,
    CLONE_NEWPID,
    CLONE_NEWUTS,
    MS_NOSUID,
    MS_RDONLY,
    bind,
    die_with_parent,
    give_up_capabilities,
    let_go,
    mount_new,
    move_mount,
    overlay,
    pivot_into,
    private_mounts,
    set_host_name,
    unshare,
    write_protect,
)
from verrou.machines.linux.elevation import polkit_query as polkit_asked
from verrou.machines.linux.entry import shells
from verrou.machines.linux.files.account_files import PASSWD, AccountFile, PasswdField, ShadowField
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.pam import client as pam_client
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.pam.questions import (
    PATIENCE_IN_ALL,
    Question,
    first_that_refuses,
    one_word_for_all,
    put_all,
)
from verrou.machines.linux.root import Root, host_name
from verrou.machines.protocol import DryRunUnavailable, TooSlow

LOG = Log(__name__)

COPIED = (
    *("/etc", "/var/lib/pam", "/var/cache/debconf", "/usr/share/pam-configs"),
    *("/var/spool/cron", "/var/spool/at", "/var/lib/systemd/linger", "/var/lib/AccountsService"),
)
"""The folders that steps may write."""
MASKED = ("/tmp", "/var/tmp", "/dev/shm", "/var/lib/sudo")
"""Where programs leave things that mean nothing: fresh and empty in the copy."""
PLAIN_DEVICES = ("null", "zero", "full", "random", "urandom")
SCRATCH = ("/mnt", "/media", "/srv", "/opt", "/boot", "/home", "/var", "/usr")
"""Where the copy is built, in mounts of our own: the first that exists and does not contain the disk itself."""
MOST_MEMORY = "512m"
MOST_TALLIES, LARGEST_TALLY = 20_000, 65_536
SIGNED_IN = ("utmp",)
"""Signed-in users, below /run: copied from any system."""
DECIDE_WHERE_RUNNING = (
    *("nologin", "systemd/sessions", "systemd/users", "systemd/system", "systemd/transient", "systemd/generator"),
    *("systemd/generator.early", "systemd/generator.late", "polkit-1/rules.d"),
)
"""Parts of /run that decide on a running system, and are copied: on a mounted disk they are gone at the next start."""
LARGEST_TAKEN_ALONG = 8_000_000
"""Bytes of a file."""
LONGEST_HOST_NAME = 64
TALLIES_BELOW = ("/run/", "/var/")
MOST_FILES_OPEN = 4096
TOO_NEW = (
    "this disk's PAM is too new for the computer you sit at; start the disk's own computer, and run the test there"
)
RUNS = {
    "try_account": ("PAM", "sudo"),
    "try_elevating": ("sudo",),
    "run_all": ("sshd",),
    "ask_polkit": ("polkit",),
    "elevate_by_polkit": ("polkit",),
}
"""By request the programs of the system that run for it; PAM for all others."""
REPLIES = ("replies", "late")
"""What :func:`~.pam.questions.put_all` answers with, in its order."""
NO_PAM = "this system has no PAM that runs here: it is missing, or made for another kind of computer"
MOST_WORDS = 1 << 20
"""Bytes of an answer that are heard at the most."""
MOST_WORDS_OF_A_PROGRAM, MOST_WORDS_OF_ONE = 4000, 64_000
"""Most bytes of a program's output that are kept, of an error and of an answer."""
PATIENCE = 120
"""Seconds that one of the system's own programs may take."""
PATIENCE_WITH_PAM = 20
"""Seconds that an answer of PAM, of sudo or of a shell may take."""


@define
class PrivateCopy:
    """The copy from outside. ``root`` is its tree; ``uppers`` gives, by folder, where written files are."""

    root: Root
    uppers: dict[str, Path]
    line: "_Channel"
    ran: set[str] = field(factory=set, init=False)
    """What of the system's own programs ran in the copy so far."""
    too_slow: dict[tuple[str, str], str] = field(factory=dict, init=False)
    """What was asked and not answered in time."""

    def run(self, command: Sequence[str]) -> tuple[int, str]:
        """Run one of the system's own programs inside. Return its exit code and output. Raises: DryRunUnavailable."""
        self.ran.add(command[0])
        answer = self.line.ask(do="run", command=list(command))
        LOG.info("ran %s in the private copy: ended with %s", " ".join(command), answer.get("code", 1))
        return int(answer.get("code", 1)), str(answer.get("message", ""))

    def ask(self, do: str, **request: object) -> dict[str, Any]:
        """Ask PAM or sudo inside; :class:`_Inside` has the requests. Raises: DryRunUnavailable: it could not be
        asked."""
        self.ran |= set(RUNS.get(do, ("PAM",)))
        about = do, str(request.get("service", ""))
        if about in self.too_slow:
            raise DryRunUnavailable(self.too_slow[about])
        LOG.info("asked in the private copy: %s", do)  # and never what: a request may contain a password
        try:
            return self.line.ask(do=do, **request)
        except TooSlow as slow:
            LOG.info("no answer in time: %s", slow)
            self.too_slow[about] = str(slow)  # it is not waited for again
            raise
        except DryRunUnavailable as reason:
            LOG.info("no answer: %s", reason)
            raise


@contextmanager
def private_copy(machine_root: Root) -> Iterator[PrivateCopy]:
    """Yield a private copy of the system at ``machine_root``, for the length of the block.

    Raises: DryRunUnavailable: none can be made here, with the reason. NotEnoughRights: only root can make one."""
    if os.geteuid() != 0:
        raise NotEnoughRights("only root can make a private copy of this machine and change it; run as root")
    to_child, from_child = os.pipe(), os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        _never_return(lambda: _begin(machine_root, to_child[0], from_child[1]))
    os.close(to_child[0])
    os.close(from_child[1])
    try:
        with os.fdopen(to_child[1], "w") as asking, os.fdopen(from_child[0]) as answering:
            line = _Channel(asking, answering)
            begun = line.hear() | line.hear()  # from the two processes of the child, in whichever order they get to it
            inner = int(begun["pid"])
            root = Root(Path(f"/proc/{inner}/root"), live=machine_root.live)
            uppers = {name: Path(f"/proc/{inner}/fd/{number}") for name, number in begun["uppers"].items()}
            copy = PrivateCopy(root, uppers, line)
            LOG.info("private copy of %s made, with overlays over %s", machine_root.path, ", ".join(uppers))
            root.runner, root.asker = copy.run, copy.ask if root.could_run else None
            yield copy
    finally:
        with suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


@define
class _Channel:
    """The channel to the child: one JSON text each way."""

    asking: Any
    answering: Any

    def ask(self, **request: object) -> dict[str, Any]:
        try:
            self.asking.write(json.dumps(request) + "\n")
            self.asking.flush()
        except (BrokenPipeError, ValueError):
            raise DryRunUnavailable(
                "the private copy of the machine ended unexpectedly. Try again, or use --no-dry-run."
            ) from None
        return self.hear()

    def hear(self) -> dict[str, Any]:
        try:
            answer = json.loads(self.answering.readline())
        except ValueError:
            raise DryRunUnavailable(
                "the private copy of the machine ended unexpectedly. Try again, or use --no-dry-run."
            ) from None
        if isinstance(answer, dict) and "too_slow" in answer:
            raise TooSlow(str(answer["trouble"]))
        if not isinstance(answer, dict) or "trouble" in answer:
            raise DryRunUnavailable(str(answer["trouble"]) if isinstance(answer, dict) else "it makes no sense")
        return answer


def _never_return(work: Callable[[], None]) -> None:
    """Run ``work`` in a forked child and never return from it."""
    try:
        work()
    except BaseException:
        os._exit(1)
    os._exit(0)


def _begin(machine_root: Root, requests: int, answers: int) -> None:
    """Run the child: namespaces, then the tree, then answering requests."""
    # Existing objects are never garbage: a collection would copy each page of them in each child that answers a
    # question.
    gc.freeze()
    die_with_parent()
    os.setsid()
    nothing = os.open(os.devnull, os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(nothing, number)
    kept = {0, 1, 2, requests, answers}
    for number in map(int, os.listdir("/proc/self/fd")):
        if number not in kept:
            with suppress(OSError):
                os.close(number)
    asking, answering = os.fdopen(requests), os.fdopen(answers, "w")

    def reply(answer: dict[str, object]) -> None:
        answering.write(json.dumps(answer) + "\n")
        answering.flush()

    try:
        unshare(CLONE_NEWNS | CLONE_NEWPID | CLONE_NEWNET | CLONE_NEWIPC | CLONE_NEWUTS)
    except OSError as error:
        reply({"trouble": f"this system does not allow mount namespaces ({error.strerror})"})
        return
    inner = os.fork()
    if inner:
        reply({"pid": inner})
        os.waitpid(inner, 0)
        return
    die_with_parent()
    try:
        uppers = _lay_out(machine_root)
    except (OSError, VerrouError) as error:
        reply({"trouble": f"the copy could not be laid out: {error}"})
        return
    sys.path.clear()  # what Python would still load from here on would come from the copied system
    reply({"uppers": uppers})
    _serve(_Inside(), asking, reply)


def _lay_out(machine_root: Root) -> dict[str, int]:
    """Build the tree with its overlays as the root of this process. Return the open upper folders, by folder."""
    private_mounts()
    path, live = machine_root.path, machine_root.live
    holds = [name for name in SCRATCH if os.path.isdir(name) and not f"{path}/".startswith(f"{name}/")]
    if not holds:
        raise OSError("no folder is available to build the copy in")
    scratch = Path(holds[0])
    name, tallies = host_name(machine_root), load_faillock(machine_root).tallies
    counted = _tallies(machine_root, tallies)
    mount_new("tmpfs", scratch, f"mode=0700,size={MOST_MEMORY}")
    tree = scratch / "tree"
    tree.mkdir()
    bind(path, tree)
    if path == Path("/"):
        let_go(tree / scratch.relative_to("/"))
    write_protect(tree)
    inside = Root(tree)
    uppers: dict[str, int] = {}
    for number, folder in enumerate(COPIED):
        place = inside.place(folder)
        if not place.is_dir():
            continue
        upper, work = scratch / f"upper{number}", scratch / f"work{number}"
        upper.mkdir()
        work.mkdir()
        now = os.stat(place)
        os.chown(upper, now.st_uid, now.st_gid)
        os.chmod(upper, stat.S_IMODE(now.st_mode))
        overlay(place, upper, work, place)
        uppers[f"/{place.relative_to(tree)}"] = os.open(upper, os.O_RDONLY | os.O_DIRECTORY)
    for folder in MASKED:
        place = inside.place(folder)
        if place.is_dir():
            mount_new("tmpfs", place, f"mode={stat.S_IMODE(os.stat(place).st_mode):o},size={MOST_MEMORY}")
    _fresh_run(inside, live, tallies, counted)
    _plain_devices(inside)
    if inside.place("/proc").is_dir():
        try:
            mount_new("proc", inside.place("/proc"), "subset=pid", flags=MS_NOSUID | MS_RDONLY)
        except OSError:
            mount_new("proc", inside.place("/proc"), flags=MS_NOSUID | MS_RDONLY)
    if inside.place("/sys").is_dir():
        mount_new("tmpfs", inside.place("/sys"), "mode=0555,size=4k")
    with suppress(OSError):
        set_host_name(name[:LONGEST_HOST_NAME])
    pivot_into(tree)
    return uppers


def _tallies(root: Root, folder: str) -> list[tuple[str, bytes, int, int, int]]:
    """Return the present tallies: name, content, mode, owner."""
    found = []
    for name in root.names_in(folder)[:MOST_TALLIES] if folder.startswith(TALLIES_BELOW) else ():
        place = root.place(f"{folder}/{name}")
        now = os.lstat(place)
        if stat.S_ISREG(now.st_mode) and now.st_size <= LARGEST_TALLY:
            found.append((name, place.read_bytes(), stat.S_IMODE(now.st_mode), now.st_uid, now.st_gid))
    return found


def _fresh_run(inside: Root, live: bool, tallies: str, counted: Sequence[tuple[str, bytes, int, int, int]]) -> None:
    """Mount another ``/run``: of a live system with a copy of what decides there, and with tallies of its own."""
    run = inside.place("/run")
    if run.is_dir():
        before = os.open(run, os.O_RDONLY | os.O_DIRECTORY)
        mount_new("tmpfs", run, f"mode=0755,size={MOST_MEMORY}")
        for name in (*DECIDE_WHERE_RUNNING, *SIGNED_IN) if live else SIGNED_IN:
            _taken_along(f"/proc/self/fd/{before}/{name}", run / name)
        os.close(before)
        (run / "sshd").mkdir(mode=0o755, exist_ok=True)  # sshd(8) prints nothing without it
    if not tallies.startswith(TALLIES_BELOW):
        return  # a configuration names a folder of the system: nothing is mounted over that
    place = inside.place(tallies)
    if not place.is_dir():
        with suppress(OSError):
            place.mkdir(mode=0o755, parents=True)
    _tallies_in_memory(place, counted)


def _taken_along(source: str, target: Path) -> None:
    """Copy a file or a folder of files; nothing else: sockets lead out of the copy. Very large ones are skipped."""
    if os.path.islink(source) or not os.path.exists(source):
        return
    target.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
    if not os.path.isdir(source):
        _copied(source, target)
        return
    left = MOST_TALLIES
    for folder, folders, names in os.walk(source):
        here = target / os.path.relpath(folder, source)
        here.mkdir(mode=0o755, exist_ok=True)
        for name in (*folders, *names):
            left -= 1
            if left > 0:
                _copied(f"{folder}/{name}", here / name)


def _copied(source: str, target: Path) -> None:
    now = os.lstat(source)
    if stat.S_ISLNK(now.st_mode):
        target.symlink_to(os.readlink(source))
    elif stat.S_ISREG(now.st_mode) and now.st_size <= LARGEST_TAKEN_ALONG:
        shutil.copyfile(source, target)
        os.chown(target, now.st_uid, now.st_gid)
        os.chmod(target, stat.S_IMODE(now.st_mode))


def _tallies_in_memory(place: Path, counted: Sequence[tuple[str, bytes, int, int, int]]) -> None:
    if place.is_dir():
        mount_new("tmpfs", place, f"mode=0755,size={MOST_MEMORY}")
        for name, content, mode, uid, gid in counted:
            (place / name).write_bytes(content)
            os.chown(place / name, uid, gid)
            os.chmod(place / name, mode)


def _plain_devices(inside: Root) -> None:
    devices = inside.place("/dev")
    if not devices.is_dir():
        return
    hosts = {name: os.open(f"/dev/{name}", os.O_PATH) for name in PLAIN_DEVICES}
    mount_new("tmpfs", devices, "mode=0755,size=64k", flags=MS_NOSUID)
    for name, number in hosts.items():
        (devices / name).touch()
        bind(f"/proc/self/fd/{number}", devices / name, all_below=False)
        os.close(number)
    (devices / "fd").symlink_to("/proc/self/fd")
    (devices / "shm").mkdir(mode=0o1777)


@define
class _Inside:
    """The child's side of the requests. Rights that are not needed are dropped before anything of the system runs."""

    @staticmethod
    def _limited() -> None:
        refuse_calls()
        give_up_capabilities()
        bound_this_process(PATIENCE)

    def run(self, command: list[str], most: int = MOST_WORDS_OF_A_PROGRAM) -> dict[str, object]:
        # Into memory and not through a pipe, which whatever the program leaves behind would keep open.
        text, complained = os.memfd_create("told"), os.memfd_create("complained")
        try:
            ended = subprocess.Popen(
                command,
                preexec_fn=self._limited,
                env=CLEAN_ENVIRONMENT,
                stdin=subprocess.DEVNULL,
                stdout=text,
                stderr=complained,
            )
            with until_ended(ended.pid) as wait:
                in_time = watched(lambda: ended.poll() is not None, wait, PATIENCE)
            if not in_time:
                return {"trouble": f"{command[0]} did not end within {PATIENCE} seconds"}
            answer, words = (os.pread(each, most, 0).decode(errors="replace") for each in (text, complained))
        except (OSError, subprocess.SubprocessError) as error:
            return {"trouble": f"{command[0]} could not be run: {error}"}
        finally:
            os.close(text)
            os.close(complained)
        return {"code": ended.returncode, "message": words or answer, "answer": answer}

    def run_all(self, commands: list[list[str]]) -> dict[str, object]:
        """Run one program after another."""
        return {"all": [self.run(command, MOST_WORDS_OF_ONE) for command in commands]}

    def library(self) -> dict[str, object]:
        """Answer whether the system's own PAM library can be used from this process."""
        return self._apart(pam_client.load)

    def sign_in(self, account: str, password: str, service: str = "login", comes_from: str = "") -> dict[str, object]:
        return self._apart(lambda: pam_client.sign_in(account, password, service, comes_from))

    def elevate(self, account: str, uid: int, gid: int, password: str) -> dict[str, object]:
        return self._apart(lambda: pam_client.elevate(account, uid, gid, password))

    def try_elevating(
        self, names: list[str], doas: str, word: str, hash_of_word: str, tallies: str
    ) -> dict[str, object]:
        """Return by account what sudo answers to its password, and doas (at that path, if any), in a copy of the copy.

        See :func:`~.pam.client.elevate` and :func:`~.pam.client.try_doas`."""

        def tried(uncounted: Callable[[], None]) -> dict[str, object]:
            passwd = AccountFile.parse(PASSWD, Root(Path("/")).text(PASSWD) or "")
            by_sudo, by_doas = [], []
            for name in names:
                record = passwd.find(name)
                assert record is not None, f"{name} was asked about, and is in {PASSWD}"
                uid, gid = int(record.fields[PasswdField.UID]), int(record.fields[PasswdField.GID])
                by_sudo.append(_apart(partial(pam_client.elevate, name, uid, gid, word)))
                by_doas.append(_apart(partial(pam_client.try_doas, doas, name, uid, gid)) if doas else {})
                uncounted()
            return {"sudo": by_sudo, "doas": by_doas}

        return self._with_one_word(names, hash_of_word, tallies, tried)

    def change_password(self, account: str, uid: int, old: str, new: str) -> dict[str, object]:
        return self._apart(lambda: pam_client.change_password(account, uid, old, new))

    def try_account(
        self,
        account: str,
        password: str,
        role: str,
        afar: Sequence[str],
        untried: str,
        put_off: str,
        tallies: str,
    ) -> dict[str, object]:
        """Sign in, and elevate or be denied, in a copy of the copy, where neither a changed nor a wrong password stays.

        A guest is tested by the services ``afar`` instead, which must deny it; ``untried`` says which are left out, and
        why. ``put_off`` is the day, in days since 1970, taken as the password's where a new one is required, and
        ``tallies`` the folder of failed attempts."""

        def attempt() -> dict[str, object]:
            unshare(CLONE_NEWNS)
            private_mounts()
            counted = _tallies(Root(Path("/")), tallies)
            _etc_in_memory()
            _tallies_in_memory(Path(tallies), counted)
            answer = self._apart(lambda: pam_client.sign_in(account, password))
            message = "signed in at the console"
            if answer.get("new_password_first"):
                root = Root(Path("/"))
                shadow = AccountFile.parse("/etc/shadow", root.text("/etc/shadow") or "")
                if shadow.find(account):
                    shadow.change(account, {ShadowField.CHANGED: put_off})
                    root.write("/etc/shadow", shadow.text())
                answer = self._apart(lambda: pam_client.sign_in(account, password))
                message += "; a new password is required first"
            if not answer.get("accepted"):
                return answer
            record = AccountFile.parse(PASSWD, Root(Path("/")).text(PASSWD) or "").find(account)
            if record is None:
                return {"accepted": False, "message": f"there is no account {account}"}
            uid, gid = int(record.fields[PasswdField.UID]), int(record.fields[PasswdField.GID])
            shell = record.fields[PasswdField.SHELL]
            started = self._apart(lambda: {"fault": shells.start(shell, account, uid, gid)})
            if fault := started.get("fault", f"its shell could not be started: {started.get('trouble')}"):
                return {"accepted": False, "message": f"{message}, but {fault}"}
            if role == "guest":
                for service in afar:
                    if self._apart(partial(pam_client.sign_in, account, password, service, REMOTE)).get("accepted"):
                        return {"accepted": False, "message": f"{message}, and by {service} from another computer too"}
                refused = (
                    f"rejected by {', '.join(afar)}" if afar else "" if untried else "there is no other service here"
                )
                return {"accepted": True, "message": "; ".join(filter(None, (message, refused, untried)))}
            if uid == 0:
                return {"accepted": True, "message": f"{message}; it is root itself"}
            home = Path(record.fields[PasswdField.HOME])
            if home.is_dir() and not home.is_symlink() and len(home.parts) > 2:
                mount_new("tmpfs", home, "mode=0755,size=1m")  # sudo(8) records there that it was used
            elevated = self._apart(lambda: pam_client.elevate(account, uid, gid, password))
            if role != "administrator" and elevated.get("accepted"):
                return {"accepted": False, "message": f"{message}, and could elevate"}
            if role != "administrator":
                return {"accepted": True, "message": f"{message}; could not elevate"}
            if not elevated.get("accepted"):
                text = elevated.get("trouble") or elevated.get("message")
                return {"accepted": False, "message": f"{message}, but could not elevate: {text}"}
            return {"accepted": True, "message": f"{message}; elevated"}

        return _apart(attempt, PATIENCE)

    def ask_pam(self, questions: Sequence[Sequence[str]], hash_of_word: str, tallies: str) -> dict[str, object]:
        """Return PAM's reply to each :class:`~.pam.questions.Question`, in a copy of the copy, where no failed attempt
        counts."""
        put = [Question(*each) for each in questions]
        people = list(dict.fromkeys(each.account for each in put))
        return self._with_one_word(
            people, hash_of_word, tallies, lambda uncounted: dict(zip(REPLIES, put_all(put, uncounted), strict=True))
        )

    def ask_pam_without(
        self, question: Sequence[str], lines: Sequence[tuple[str, int, int]], hash_of_word: str, tallies: str
    ) -> dict[str, object]:
        """Return the first of some lines without which PAM would say yes, in a copy of the copy."""
        put = Question(*question)
        return self._with_one_word(
            [put.account],
            hash_of_word,
            tallies,
            lambda uncounted: {"line": first_that_refuses(put, lines, uncounted)},
            stack_changes=True,
        )

    def _with_one_word(
        self,
        people: Sequence[str],
        hash_of_word: str,
        tallies: str,
        asked: Callable[[Callable[[], None]], dict[str, object]],
        *,
        stack_changes: bool = False,
    ) -> dict[str, object]:
        """Ask in a copy of the copy in which one word is the password of every account that has one.

        ``asked`` is given what clears the failed attempts. Nothing is written, except ``stack_changes`` to /etc."""

        def attempt() -> dict[str, object]:
            unshare(CLONE_NEWNS)
            private_mounts()
            root = Root(Path("/"))
            with_word = one_word_for_all(hash_of_word, people)
            if stack_changes:
                _etc_in_memory()
                for name, text in with_word.items():
                    root.write(name, text)
            else:
                _laid_over(with_word)
            for folder in COPIED[stack_changes:]:
                with suppress(OSError):
                    write_protect(Path(folder))
            place, ours = Path(tallies), tallies.startswith(TALLIES_BELOW) or _holds_files_alone(tallies)
            if ours:
                _tallies_in_memory(place, ())
            self._limited()

            def uncounted() -> None:
                for each in place.iterdir() if ours and place.is_dir() else ():
                    each.unlink()

            return asked(uncounted)

        return _apart(attempt, int(PATIENCE_IN_ALL) + PATIENCE_WITH_PAM)

    def ask_polkit(self, people: Sequence[Sequence[Any]], actions: Sequence[str], daemon: str) -> dict[str, object]:
        """Return polkit's answer to each action for each account at the machine: exit codes of pkcheck(1).

        Accounts are (name, user ID, main group ID)."""
        return _apart(lambda: {"answers": polkit_asked.answers(self._start, people, actions, daemon)}, PATIENCE)

    def elevate_by_polkit(self, person: Sequence[Any], actions: Sequence[str], daemon: str) -> dict[str, object]:
        """Answer whether polkit lets an account with an administrator's password do one of some actions."""
        answer = self.ask_polkit([person], actions, daemon)
        if "answers" not in answer:
            return answer
        (codes,) = cast("dict[str, dict[str, int]]", answer["answers"]).values()
        opened = [action for action, code in codes.items() if code in polkit_asked.OPENED]
        return {"accepted": bool(opened), "message": f"polkit asks about {opened[0]}" if opened else ""}

    def _start(self, command: Sequence[str]) -> "subprocess.Popen[bytes]":
        def prepared() -> None:
            die_with_parent()
            self._limited()

        none = subprocess.DEVNULL
        return subprocess.Popen(
            command, preexec_fn=prepared, env=CLEAN_ENVIRONMENT, stdin=none, stdout=none, stderr=none
        )

    def _apart(self, attempt: Callable[[], dict[str, object]]) -> dict[str, object]:
        def limited() -> dict[str, object]:
            self._limited()
            return attempt()

        return _apart(limited)


def _laid_over(texts: Mapping[str, str]) -> None:
    """Mount other contents over some files, for this process and its children."""
    staging = Path("/tmp")
    mount_new("tmpfs", staging, f"mode=0700,size={MOST_MEMORY}")
    for number, (name, text) in enumerate(texts.items()):
        file, now = staging / str(number), os.stat(name)
        file.write_text(text, encoding="utf-8", errors="surrogateescape")
        os.chown(file, now.st_uid, now.st_gid)
        os.chmod(file, stat.S_IMODE(now.st_mode))
        bind(file, name, all_below=False)
    let_go(staging)


def _holds_files_alone(folder: str) -> bool:
    """Return whether a folder contains only files, as a folder of tallies does."""
    with suppress(OSError):
        return folder.count("/") > 1 and all(each.is_file(follow_symlinks=False) for each in os.scandir(folder))
    return False


def _etc_in_memory() -> None:
    """Mount a copy of /etc in memory over /etc, with modes, owners and links; sockets and devices are left out."""
    staging = Path("/tmp")
    mount_new("tmpfs", staging, f"mode=0755,size={MOST_MEMORY}")

    def with_owner(source: str, target: str) -> str:
        shutil.copy2(source, target, follow_symlinks=False)
        now = os.lstat(source)
        os.chown(target, now.st_uid, now.st_gid, follow_symlinks=False)
        return target

    def odd(folder: str, names: list[str]) -> list[str]:
        places = [Path(folder, name) for name in names]
        return [p.name for p in places if not (p.is_symlink() or p.is_file() or p.is_dir())]

    shutil.copytree("/etc", staging, symlinks=True, ignore=odd, copy_function=with_owner, dirs_exist_ok=True)
    move_mount(staging, Path("/etc"))


def _serve(inside: _Inside, asking: Any, format: Callable[[dict[str, object]], None]) -> None:
    """Answer requests until there are no more."""
    for line in asking:
        request = json.loads(line)
        do = request.pop("do")
        try:
            answer = getattr(inside, do)(**request)
        except (OSError, VerrouError) as error:
            answer = {"trouble": f"{do}: {error}"}
        _end_all()
        format(answer)


def _end_all() -> None:
    """Kill what a program left behind, before the copy is used again.

    This process is the first of its process namespace, and sees no others."""
    kill_all()
    with suppress(ChildProcessError):
        while True:
            os.waitpid(-1, 0)


def _apart(attempt: Callable[[], dict[str, object]], patience: int = PATIENCE_WITH_PAM) -> dict[str, object]:
    """Run something in a process of its own: PAM modules keep state, may change identity, and may crash."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:

        def work() -> None:
            # What runs here may be anyone's: it has no channel but the one that it answers by.
            os.closerange(3, writing)
            os.closerange(writing + 1, MOST_FILES_OPEN)
            try:
                answer = attempt()
            except OSError as error:
                answer = {"trouble": _why_not_asked(error)}
                if isinstance(error, TimeoutError):
                    answer["too_slow"] = True
            os.write(writing, json.dumps(answer).encode() + b"\n")

        _never_return(work)
    os.close(writing)
    content, in_time = _heard(reading, patience)
    with suppress(ProcessLookupError):
        os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    try:
        answer = json.loads(content)
    except ValueError:
        answer = None
    if isinstance(answer, dict):
        return answer
    late = f"the system did not answer within {patience} seconds"
    return {"trouble": "the question to the system was interrupted"} if in_time else {"trouble": late, "too_slow": True}


def _why_not_asked(error: OSError) -> str:
    """Return the reason in words for people, without the linker's."""
    message = str(error)
    if "version `GLIBC" in message:
        return TOO_NEW
    return NO_PAM if "libpam" in message else message


def _heard(reading: int, patience: int) -> tuple[bytes, bool]:
    """Return what a pipe gives up to the end of a line, and whether it came in time."""
    content, over = b"", False

    def ended() -> bool:
        nonlocal content, over
        part = os.read(reading, 65536) if select.select([reading], [], [], 0.0)[0] else None
        content += part or b""
        over = part == b"" or content.endswith(b"\n") or len(content) >= MOST_WORDS
        return over

    try:
        in_time = watched(ended, lambda seconds: until_readable(reading, seconds), patience)
        return content, in_time
    finally:
        os.close(reading)
