"""Performing steps on a Linux system, remembering what stood there, and putting it back."""

import os
from collections.abc import Iterator, Sequence
from itertools import groupby
from pathlib import Path

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.steps import CreateAccount, SetRules, Step
from verrou.machines import Memento, Outcome, PutBack, Secrets, StepResult
from verrou.machines.linux.account_files import GROUP, GSHADOW, PASSWD, SHADOW, SUBGID, SUBUID, merge_lines
from verrou.machines.linux.account_steps import AccountEdit, Refused, homes_of, today_in_days
from verrou.machines.linux.lockout import FAILLOCK_CONF
from verrou.machines.linux.locks import PWD_LOCK, account_files_locked
from verrou.machines.linux.password_rules import PWQUALITY_CONF, PWQUALITY_FOLDER, SSHD_CONFIG
from verrou.machines.linux.population import LOGIN_DEFS, AccountFiles
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

ACCOUNT_FILES = (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID)
FOLDERS = ("/etc/pam.d", PWQUALITY_FOLDER, SSHD_DROP_IN.rpartition("/")[0], "/var/lib/pam")
RULE_FILES = (
    LOGIN_DEFS,
    FAILLOCK_CONF,
    PWQUALITY_CONF,
    PWQUALITY_FOLDER,
    DROP_IN,
    SSHD_CONFIG,
    SSHD_DROP_IN.rpartition("/")[0],
    SSHD_DROP_IN,
    *(f"{PROFILES}/{name}" for name in (*LOCKOUT_PROFILES, HISTORY_PROFILE)),
)
UPDATER_DATABASE = "/var/cache/debconf"


def perform(path: Path, steps: Sequence[Step], secrets: Secrets) -> Iterator[StepResult]:
    """See :meth:`verrou.machines.Machine.perform`. Account steps that follow one another are done in one go."""
    if os.geteuid() != 0:
        raise NotEnoughRights("only root can change accounts and rules; run as root")
    for about_rules, run in groupby(steps, key=lambda step: isinstance(step, SetRules)):
        try:
            if about_rules:
                for step in run:
                    assert isinstance(step, SetRules)
                    yield _set(Root(path), step)
            else:
                yield from _edit_accounts(Root(path), list(run), secrets)
        except OSError as error:
            raise MachineRefused(f"{error.strerror}: {error.filename}; the run broke off") from None


def _edit_accounts(root: Root, steps: Sequence[Step], secrets: Secrets) -> list[StepResult]:
    """Read under the locks, edited in memory, and swapped in."""
    with account_files_locked(root):
        if broken := AccountFiles.load(root).troubles():
            raise BadInput(f"nothing was changed: {broken[0]}")
        edit = AccountEdit(root, today_in_days())
        results = [edit.apply(step, secrets) for step in steps]
        edit.swap_in()
    return results


def _set(root: Root, step: SetRules) -> StepResult:
    """Set the rules of one step; when one of them is refused, none of them is left set."""
    before = remember(root.path, [step])
    try:
        return StepResult(Outcome.DONE, set_rules(root, step))
    except Refused as refused:
        for _ in put_back(root.place, before, remember(root.path, [step]), lambda _: None):
            pass
        return StepResult(Outcome.REFUSED, str(refused))


def remember(path: Path, steps: Sequence[Step]) -> Memento:
    """See :meth:`verrou.machines.Machine.remember`."""
    root = Root(path)
    names = [*ACCOUNT_FILES, PWD_LOCK]
    if not steps or any(isinstance(step, SetRules) for step in steps):
        names += RULE_FILES
        for folder in (*FOLDERS, UPDATER_DATABASE):
            names += [f"{folder}/{name}" for name in root.names_in(folder)]
    if any(isinstance(step, CreateAccount) for step in steps):
        names += homes_of(root, steps)
    return {name: root.item(name) for name in dict.fromkeys(names)}


def bring_back(path: Path, before: Memento, after: Memento | None) -> Iterator[PutBack]:
    """See :meth:`verrou.machines.Machine.put_back`."""
    if os.geteuid() != 0:
        raise NotEnoughRights("only root can put files back; run as root")
    root = Root(path)
    with account_files_locked(root):
        yield from put_back(root.place, before, after, lambda name: merge_lines if name in ACCOUNT_FILES else None)
