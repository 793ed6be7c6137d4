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
from verrou.machines.linux.homes import NO_HOMES
from verrou.machines.linux.inside import enter, mount_new, move_mount, own_mounts
from verrou.machines.linux.lockout import load_faillock, moved_back
from verrou.machines.linux.population import ageing
from verrou.machines.linux.root import Root

SUDO_NOTES = ("/run/sudo", "/var/lib/sudo")
TRIAL_UID = 59_990
"""The first that is free from here downwards: an ordinary user's number, and nobody's."""


@contextmanager
def rehearse(root: Root, policy: Policy) -> Iterator[Rehearsal]:
    """A throwaway account on the system's own PAM.

    Raises:
        CannotTry: with the reason.
    """
    account = f"trial{random_source.token_hex(4)}"
    password = make_password(policy, account, random_source.SystemRandom())
    hashed("warm up: the library must be loaded before the child goes inside")
    with _inside(root) as line:
        line.ask(do="make", account=account, password=password)
        yield _LinuxRehearsal(account, password, line)


def try_sign_in(root: Root, account: str, password: str) -> Answer:
    """Sign in as an account that is there, at the console, and elevate: in the same private copy, so that neither a
    wrong password nor a forced change leaves anything behind.

    Raises:
        CannotTry: with the reason.
    """
    with _inside(root) as line:
        answer = Answer(**line.ask(do="sign_in_as", account=account, password=password))
        said = "signed in at the console"
        if answer.new_password_first:
            line.ask(do="put_off_change", account=account)
            answer = Answer(**line.ask(do="sign_in_as", account=account, password=password))
            said += "; it is asked for a new password first"
        if not answer.accepted:
            return answer
        elevated = Answer(**line.ask(do="elevate", account=account, password=password))
        if not elevated.accepted:
            return Answer(False, f"{said}, but could not elevate: {elevated.said}")
        return Answer(True, f"{said}; elevated" if elevated.said == "" else f"{said}; {elevated.said}")


@contextmanager
def _inside(root: Root) -> "Iterator[_Line]":
    """A child inside the system, in a private copy of it, and the line to it."""
    if os.geteuid() != 0:
        raise CannotTry("only root can sign somebody in; run as root")
    staging = Path(tempfile.mkdtemp(prefix="verrou-"))
    tallies = Path(load_faillock(root).tallies)
    lends_a_folder = root.live and not tallies.exists()
    if lends_a_folder:
        tallies.mkdir(mode=0o755)
    to_child, from_child = os.pipe(), os.pipe()
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        _leave_alone(lambda: _serve(root, staging, today_in_days(), to_child[0], from_child[1]))
    os.close(to_child[0])
    os.close(from_child[1])
    try:
        with os.fdopen(to_child[1], "w") as asking, os.fdopen(from_child[0]) as answering:
            line = _Line(asking, answering)
            line.hear()
            yield line
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
    """The child's side, inside the system. ``account`` is the throwaway one, once it is made."""

    root: Root
    today_days: int
    tallies: Path
    account: str = ""
    uid: int = -1

    @property
    def tally(self) -> Path:
        return self.tallies / self.account

    def make(self, account: str, password: str) -> dict[str, object]:
        taken = {r.fields[2] for n in (PASSWD, GROUP) for r in _file(self.root, n).records()}
        self.account = account
        self.uid = next(number for number in range(TRIAL_UID, 0, -1) if str(number) not in taken)
        number = str(self.uid)
        lines = {
            PASSWD: (account, "x", number, number, "", "/nonexistent", "/bin/sh"),
            GROUP: (account, "x", number, ""),
            SHADOW: (account, hashed(password), str(self.today_days), *ageing_of_new_accounts(self.root), "", "", ""),
            GSHADOW: (account, "!", "", ""),
        }
        for name, fields in lines.items():
            if self.root.text(name) is not None:
                file = _file(self.root, name)
                file.add(*fields)
                self.root.write(name, file.text())
        return {}

    def sign_in(self, password: str) -> dict[str, object]:
        return self.sign_in_as(self.account, password)

    def sign_in_as(self, account: str, password: str) -> dict[str, object]:
        return _apart(lambda: pam_client.sign_in(account, password))

    def put_off_change(self, account: str) -> dict[str, object]:
        self._shadow(account, f2=str(self.today_days))
        return {}

    def elevate(self, account: str, password: str) -> dict[str, object]:
        record = _file(self.root, PASSWD).find(account)
        if record is None:
            return {"accepted": False, "said": f"there is no account {account}"}
        uid, gid = int(record.fields[2]), int(record.fields[3])
        if uid == 0:
            return {"accepted": True, "said": "it is root itself"}
        # sudo(8) notes in these folders that somebody used it.
        for folder in (record.fields[5], *SUDO_NOTES):
            place = Path(folder)
            if folder not in NO_HOMES and place.is_dir() and not place.is_symlink():
                mount_new("tmpfs", place, "mode=0755")
        return _apart(lambda: pam_client.elevate(account, uid, gid, password))

    def change_password(self, old: str, new: str) -> dict[str, object]:
        return _apart(lambda: pam_client.change_password(self.account, self.uid, old, new))

    def reset_password(self, new: str) -> dict[str, object]:
        self._shadow(self.account, f1=hashed(new), f2=str(self.today_days))
        return {}

    def age_password(self) -> dict[str, object]:
        record = _file(Root(Path("/")), SHADOW).find(self.account)
        minimum = ageing(record.fields).minimum if record else None
        self._shadow(self.account, f2=str(self.today_days - (minimum or 0)))
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

    def _shadow(self, account: str, **values: str) -> None:
        fresh = Root(Path("/"))
        shadow = _file(fresh, SHADOW)
        shadow.change(account, **values)
        fresh.write(SHADOW, shadow.text())


def _file(root: Root, name: str) -> AccountFile:
    return AccountFile.parse(name, root.text(name) or "")


def _serve(root: Root, staging: Path, today_days: int, requests: int, answers: int) -> None:
    """Go inside, answer requests until there are no more."""
    with os.fdopen(requests) as asking, os.fdopen(answers, "w") as answering:

        def say(answer: dict[str, object]) -> None:
            answering.write(json.dumps(answer) + "\n")
            answering.flush()

        try:
            inside = _go_inside(root, staging, today_days)
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


def _go_inside(root: Root, staging: Path, today_days: int) -> _Inside:
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
    return _Inside(Root(Path("/")), today_days, tallies)


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


def _apart(attempt: Callable[[], dict[str, object]]) -> dict[str, object]:
    """Run a PAM transaction in a process of its own: modules keep state, may change identity, and may crash."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:

        def work() -> None:
            os.close(reading)
            try:
                answer = attempt()
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
