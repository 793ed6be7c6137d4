"""A real Linux system, live or mounted at a folder."""

import os
import socket
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from verrou.core.errors import BadInput
from verrou.core.model import Account, Detail, Files, Flag, MachineFacts, Posture
from verrou.machines import Item, Memento, PutBack, Secrets, StepResult
from verrou.machines.linux import password_rules
from verrou.machines.linux.access_file import ACCESS
from verrou.machines.linux.account_files import SHADOW
from verrou.machines.linux.lockout import load_faillock, locks, module_installed, readings
from verrou.machines.linux.pam_stack import UPDATER
from verrou.machines.linux.population import NAMING, AccountFiles, free_name, population
from verrou.machines.linux.root import Root
from verrou.machines.linux.ways import NAMESPACE

if TYPE_CHECKING:
    from verrou.core.steps import Step
    from verrou.core.trials import Rehearsal

RECORDS = "/var/lib/verrou"
GUEST_GROUPS = ("guests", "console-guests")
"""What a group that makes guests is called, where there is none: the first name that is free."""


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
        confines, freshens = module_installed(root, ACCESS), module_installed(root, NAMESPACE)
        facts = MachineFacts(
            self.name,
            self.kind,
            _system_name(root),
            self.address,
            now,
            NAMING,
            _in_use(root),
            details=(Detail.FULL_NAME, Detail.NOTE, Detail.SHELL),
            excluding=((Flag.MUST_CHANGE, Flag.CANNOT_CHANGE),),
            guest_group=free_name((g.name for g in people.groups), *GUEST_GROUPS) if confines else "",
            fleeting_homes=freshens and root.exists(UPDATER),
        )
        return Posture(facts, people.accounts, people.groups, found, tuple(people.troubles), people.gates)

    def perform(self, steps: "Sequence[Step]", secrets: Secrets) -> Iterator[StepResult]:
        from verrou.machines.linux import change

        return change.perform(self.path, steps, secrets)

    def files_of(self, account: Account, everywhere: bool) -> Files:
        from verrou.machines.linux.homes import files_of

        uid = int(account.identity)
        if uid == 0:
            # What belongs to root is the system itself, and within the reach of every administrator.
            return Files(looked_everywhere=everywhere)
        return files_of(Root(self.path), account.name, uid, account.home, everywhere=everywhere)

    def rehearse(self) -> "AbstractContextManager[Rehearsal]":
        from verrou.core.passwords import policy_of
        from verrou.machines.linux.rehearsal import rehearse

        return rehearse(Root(self.path), policy_of(self.observe()))

    def remember(self, steps: "Sequence[Step]") -> Memento:
        from verrou.machines.linux import change

        return change.remember(self.path, steps)

    def put_back(self, before: Memento, after: Memento | None) -> Iterator[PutBack]:
        from verrou.machines.linux import change

        return change.bring_back(self.path, before, after)

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


def _in_use(root: Root) -> str:
    """The account that whoever runs this signed in with: on the live system, behind sudo the one before it."""
    if not root.live:
        return ""
    return os.environ.get("SUDO_USER") or os.environ.get("LOGNAME", "")
