"""Trials on a Linux system: its real PAM, on a throwaway account that exists only in a private copy of /etc.

A child process leaves everybody else's mounts, lays a copy of /etc in memory over /etc and an empty folder over the
tallies, goes inside the system and makes the account there. When the child ends, however it ends, all of that is gone:
no file of the system was ever touched.
"""

import json
import os
import secrets as random_source
import shutil
import signal
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import timedelta
from pathlib import Path
from typing import Any

from attrs import define

from verrou.core.errors import VerrouError
from verrou.core.passwords import Policy, make_password
from verrou.core.trials import Answer, CannotTry, Rehearsal
from verrou.machines.linux import pam_client
from verrou.machines.linux.account_files import GROUP, GSHADOW, PASSWD, SHADOW, AccountFile
from verrou.machines.linux.account_steps import ageing_of_new_accounts, today_in_days
from verrou.machines.linux.hashing import hashed
from verrou.machines.linux.inside import enter, mount_new, move_mount, own_mounts
from verrou.machines.linux.lockout import load_faillock, moved_back
from verrou.machines.linux.population import ageing
from verrou.machines.linux.root import Root

TRIAL_UID = 59_990
"""The first that is free from here downwards: an ordinary user's number, and nobody's."""


@contextmanager
def rehearse(root: Root, policy: Policy) -> Iterator[Rehearsal]:
    """A throwaway account on the system's own PAM.

    Raises:
        CannotTry: with the reason.
    """
    if os.geteuid() != 0:
        raise CannotTry("only root can sign somebody in; run as root")
    account = f"trial{random_source.token_hex(4)}"
    password = make_password(policy, account, random_source.SystemRandom())
    hashed("warm up: the library must be loaded before the child goes inside")
    staging = Path(tempfile.mkdtemp(prefix="verrou-"))
    tallies = Path(load_faillock(root).tallies)
    lends_a_folder = root.live and not tallies.exists()
    if lends_a_folder:
        tallies.mkdir(mode=0o755)
    to_child, from_child = os.pipe(), os.pipe()
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        _leave_alone(lambda: _serve(root, staging, account, password, today_in_days(), to_child[0], from_child[1]))
    os.close(to_child[0])
    os.close(from_child[1])
    try:
        with os.fdopen(to_child[1], "w") as asking, os.fdopen(from_child[0]) as answering:
            rehearsal = _LinuxRehearsal(account, password, _Line(asking, answering))
            rehearsal.line.hear()
            yield rehearsal
    finally:
        with suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        staging.rmdir()
        if lends_a_folder:
            tallies.rmdir()


@define
class _Line:
    """The line to the child: one JSON text each way."""

    asking: Any
    answering: Any

    def ask(self, **request: object) -> dict[str, Any]:
        try:
            self.asking.write(json.dumps(request) + "\n")
            self.asking.flush()
        except BrokenPipeError:
            raise CannotTry("the trial broke off") from None
        return self.hear()

    def hear(self) -> dict[str, Any]:
        text = self.answering.readline()
        if not text:
            raise CannotTry("the trial broke off")
        answer: dict[str, Any] = json.loads(text)
        if "trouble" in answer:
            raise CannotTry(answer["trouble"])
        return answer


@define
class _LinuxRehearsal:
    account: str
    password: str
    line: _Line

    def sign_in(self, password: str) -> Answer:
        return Answer(**self.line.ask(do="sign_in", password=password))

    def change_password(self, old: str, new: str) -> Answer:
        return Answer(**self.line.ask(do="change_password", old=old, new=new))

    def reset_password(self, new: str) -> None:
        self.line.ask(do="reset_password", new=new)

    def age_password(self) -> None:
        self.line.ask(do="age_password")

    def pass_time(self, span: timedelta) -> None:
        self.line.ask(do="pass_time", seconds=span.total_seconds())

    def unlock(self) -> None:
        self.line.ask(do="unlock")


def _leave_alone(work: Callable[[], None]) -> None:
    """Run ``work`` in a forked child and never come back from it."""
    try:
        work()
    except BaseException:
        os._exit(1)
    os._exit(0)


@define
class _Inside:
    """The child's side, inside the system."""

    root: Root
    account: str
    uid: int
    today_days: int
    tally: Path

    def sign_in(self, password: str) -> dict[str, object]:
        return _apart(lambda: pam_client.sign_in(self.account, password))

    def change_password(self, old: str, new: str) -> dict[str, object]:
        return _apart(lambda: pam_client.change_password(self.account, self.uid, old, new))

    def reset_password(self, new: str) -> dict[str, object]:
        self._shadow(f1=hashed(new), f2=str(self.today_days))
        return {}

    def age_password(self) -> dict[str, object]:
        record = AccountFile.parse(SHADOW, self.root.text(SHADOW) or "").find(self.account)
        minimum = ageing(record.fields).minimum if record else None
        self._shadow(f2=str(self.today_days - (minimum or 0)))
        return {}

    def pass_time(self, seconds: float) -> dict[str, object]:
        if self.tally.exists():
            # Written in place: the tally belongs to its account, and PAM checks that.
            content = self.tally.read_bytes()
            self.tally.write_bytes(moved_back(content, timedelta(seconds=seconds)))
        return {}

    def unlock(self) -> dict[str, object]:
        self.tally.unlink(missing_ok=True)
        return {}

    def _shadow(self, **values: str) -> None:
        fresh = Root(Path("/"))
        shadow = AccountFile.parse(SHADOW, fresh.text(SHADOW) or "")
        shadow.change(self.account, **values)
        fresh.write(SHADOW, shadow.text())


def _serve(
    root: Root, staging: Path, account: str, password: str, today_days: int, requests: int, answers: int
) -> None:
    """Go inside, make the account, answer requests until there are no more."""
    with os.fdopen(requests) as asking, os.fdopen(answers, "w") as answering:

        def say(answer: dict[str, object]) -> None:
            answering.write(json.dumps(answer) + "\n")
            answering.flush()

        try:
            inside = _go_inside(root, staging, account, password, today_days)
        except (OSError, VerrouError) as error:
            say({"trouble": f"the trial could not be laid out: {error}"})
            return
        say({})
        for line in asking:
            request = json.loads(line)
            do = request.pop("do")
            try:
                say(getattr(inside, do)(**request))
            except (OSError, VerrouError) as error:
                say({"trouble": f"{do}: {error}"})


def _go_inside(root: Root, staging: Path, account: str, password: str, today_days: int) -> _Inside:
    os.setsid()
    own_mounts()
    etc = root.place("/etc")
    mount_new("tmpfs", staging, "mode=0755")
    _copy(etc, staging)
    move_mount(staging, etc)
    tallies = Path(load_faillock(root).tallies)
    if root.live:
        mount_new("tmpfs", tallies, "mode=0755")
    elif root.place("/run").is_dir():
        mount_new("tmpfs", root.place("/run"), "mode=0755")
    enter(root)
    system = Root(Path("/"))
    taken = {r.fields[2] for n in (PASSWD, GROUP) for r in AccountFile.parse(n, system.text(n) or "").records()}
    uid = next(number for number in range(TRIAL_UID, 0, -1) if str(number) not in taken)
    lines = {
        PASSWD: (account, "x", str(uid), str(uid), "", "/nonexistent", "/bin/sh"),
        GROUP: (account, "x", str(uid), ""),
        SHADOW: (account, hashed(password), str(today_days), *ageing_of_new_accounts(system), "", "", ""),
        GSHADOW: (account, "!", "", ""),
    }
    for name, fields in lines.items():
        text = system.text(name)
        if text is not None:
            file = AccountFile.parse(name, text)
            file.add(*fields)
            system.write(name, file.text())
    return _Inside(system, account, uid, today_days, tallies / account)


def _copy(source: Path, target: Path) -> None:
    """Copy a folder with modes, owners and links; sockets and devices are left out."""

    def with_owner(src: str, dst: str) -> str:
        shutil.copy2(src, dst, follow_symlinks=False)
        now = os.lstat(src)
        os.chown(dst, now.st_uid, now.st_gid, follow_symlinks=False)
        return dst

    def odd(folder: str, names: list[str]) -> list[str]:
        places = [Path(folder, name) for name in names]
        return [p.name for p in places if not (p.is_symlink() or p.is_file() or p.is_dir())]

    shutil.copytree(source, target, symlinks=True, ignore=odd, copy_function=with_owner, dirs_exist_ok=True)


def _apart(attempt: Callable[[], tuple[bool, str]]) -> dict[str, object]:
    """Run a PAM transaction in a process of its own: modules keep state, may change identity, and may crash."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:

        def work() -> None:
            os.close(reading)
            try:
                accepted, said = attempt()
                answer: dict[str, object] = {"accepted": accepted, "said": said}
            except OSError as error:
                answer = {"trouble": f"the system's own PAM library cannot be used from here: {error}"}
            os.write(writing, json.dumps(answer).encode())

        _leave_alone(work)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        content = stream.read()
    os.waitpid(child, 0)
    answer: dict[str, object] = json.loads(content) if content else {"trouble": "the system's PAM broke off"}
    return answer
