"""A real Linux system, live or mounted at a folder."""

import os
import socket
import time
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from itertools import groupby
from pathlib import Path

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.model import MachineFacts, Posture
from verrou.core.passwords import policy_of
from verrou.core.steps import CreateAccount, SetRules, Step
from verrou.core.trials import Rehearsal
from verrou.machines import Item, Memento, Outcome, PutBack, Secrets, StepResult
from verrou.machines.linux import password_rules
from verrou.machines.linux.account_files import GROUP, GSHADOW, PASSWD, SHADOW, SUBGID, SUBUID, merge_lines
from verrou.machines.linux.account_steps import NAMING, AccountEdit, Refused, homes_of
from verrou.machines.linux.lockout import FAILLOCK_CONF, load_faillock, locks, readings
from verrou.machines.linux.locks import PWD_LOCK, account_files_locked
from verrou.machines.linux.population import LOGIN_DEFS, AccountFiles, population
from verrou.machines.linux.rehearsal import rehearse
from verrou.machines.linux.root import Root
from verrou.machines.linux.rule_steps import (
    DROP_IN,
    HISTORY_PROFILE,
    LOCKOUT_PROFILES,
    PROFILES,
    SSHD_DROP_IN,
    set_rules,
)
from verrou.machines.local_files import put_back

RECORDS = "/var/lib/verrou"
ACCOUNT_FILES = (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID)
WATCHED = (
    *ACCOUNT_FILES,
    PWD_LOCK,
    LOGIN_DEFS,
    FAILLOCK_CONF,
    password_rules.PWQUALITY_CONF,
    password_rules.PWQUALITY_FOLDER,
    DROP_IN,
    password_rules.SSHD_CONFIG,
    SSHD_DROP_IN,
    SSHD_DROP_IN.rpartition("/")[0],
    *(f"{PROFILES}/{name}" for name in (*LOCKOUT_PROFILES, HISTORY_PROFILE)),
)
WATCHED_FOLDERS = ("/etc/pam.d", password_rules.PWQUALITY_FOLDER, SSHD_DROP_IN.rpartition("/")[0], "/var/lib/pam")
UPDATER_DATABASE = "/var/cache/debconf"


class LinuxMachine:
    """One Linux system. ``path`` is ``/`` for the live one."""

    kind = "linux"

    def __init__(self, path: Path, address: str) -> None:
        self.path = path.resolve()
        self.address = address
        self.name = _host_name(Root(self.path))

    def observe(self) -> Posture:
        return self._posture(Root(self.path))

    def foresee(self, memento: Memento) -> Posture:
        return self._posture(_RootWith(self.path, memento))

    def _posture(self, root: Root) -> Posture:
        now = datetime.now().replace(microsecond=0)
        files = AccountFiles.load(root)
        if files.shadow is None:
            raise BadInput(f"{SHADOW} is missing from {root.path}; run pwconv there first")
        faillock = load_faillock(root)
        people = population(root, files, now, locks(root, faillock, now))
        found = dict(readings(faillock))
        found.update(password_rules.quality_readings(root))
        found["password.remember"] = password_rules.history_reading(root)
        found["password.storage"] = password_rules.storage_reading(root, people.accounts)
        found.update(password_rules.ageing_readings(root, files.shadow, people.accounts))
        found["password.blank_console_only"] = password_rules.blank_console_only_reading(root)
        if password_rules.dictionary_missing(root):
            people.troubles.append(
                f"{password_rules.DICTIONARY} is missing, so every new password is refused; "
                "install the packages cracklib-runtime and wamerican"
            )
        facts = MachineFacts(self.name, self.kind, _system_name(root), self.address, now, NAMING)
        return Posture(facts, people.accounts, people.groups, found, tuple(people.troubles))

    def perform(self, steps: Sequence[Step], secrets: Secrets) -> Iterator[StepResult]:
        if os.geteuid() != 0:
            raise NotEnoughRights("only root can change accounts and rules; run as root")
        for about_rules, run in groupby(steps, key=lambda step: isinstance(step, SetRules)):
            if about_rules:
                for step in run:
                    assert isinstance(step, SetRules)
                    yield _set(Root(self.path), step)
            else:
                yield from self._edit_accounts(list(run), secrets)

    def _edit_accounts(self, steps: Sequence[Step], secrets: Secrets) -> list[StepResult]:
        """All of them in one go: read under the locks, edited in memory, checked, and swapped in."""
        root = Root(self.path)
        try:
            with account_files_locked(root):
                if broken := AccountFiles.load(root).troubles():
                    raise BadInput(broken[0])
                edit = AccountEdit(root, _today())
                results = [edit.apply(step, secrets) for step in steps]
                edit.swap_in()
        except OSError as error:
            raise MachineRefused(f"{error.strerror}: {error.filename}; the run broke off") from None
        return results

    def rehearse(self) -> AbstractContextManager[Rehearsal]:
        return rehearse(Root(self.path), policy_of(self.observe()), _today())

    def remember(self, steps: Sequence[Step]) -> Memento:
        root = Root(self.path)
        names = list(WATCHED)
        for folder in WATCHED_FOLDERS:
            names += [f"{folder}/{name}" for name in root.names_in(folder)]
        if not steps or any(isinstance(step, SetRules) for step in steps):
            names += [f"{UPDATER_DATABASE}/{name}" for name in root.names_in(UPDATER_DATABASE)]
        if any(isinstance(step, CreateAccount) for step in steps):
            names += homes_of(root, steps)
        return {name: root.item(name) for name in dict.fromkeys(names)}

    def put_back(self, before: Memento, after: Memento | None) -> Iterator[PutBack]:
        if os.geteuid() != 0:
            raise NotEnoughRights("only root can put files back; run as root")
        root = Root(self.path)
        with account_files_locked(root):
            yield from put_back(root.place, before, after, lambda name: merge_lines if name in ACCOUNT_FILES else None)

    def records_folder(self) -> Path:
        return Root(self.path).place(RECORDS)


class _RootWith(Root):
    """A root in which some files are what a memento says."""

    def __init__(self, path: Path, memento: Memento) -> None:
        super().__init__(path)
        self._memento = memento

    def text(self, name: str) -> str | None:
        item: Item | None = self._memento.get(name)
        if item is None:
            return super().text(name)
        return None if item.content is None else item.content.decode("utf-8", "surrogateescape")


def _set(root: Root, step: SetRules) -> StepResult:
    try:
        return StepResult(Outcome.DONE, set_rules(root, step))
    except Refused as refused:
        return StepResult(Outcome.REFUSED, str(refused))
    except OSError as error:
        raise MachineRefused(f"{error.strerror}: {error.filename}; the run broke off") from None


def _host_name(root: Root) -> str:
    if root.live:
        return socket.gethostname()
    lines = root.lines("/etc/hostname") if root.exists("/etc/hostname") else []
    named = next((line.strip() for line in lines if line.strip() and not line.startswith("#")), "")
    return named or root.path.name


def _system_name(root: Root) -> str:
    for line in root.lines("/etc/os-release"):
        key, _, value = line.partition("=")
        if key == "PRETTY_NAME":
            return value.strip().strip("\"'")
    return "Linux"


def _today() -> int:
    """Days since 1970-01-01 in universal time, as shadow(5) counts them."""
    return int(time.time() // 86400)
