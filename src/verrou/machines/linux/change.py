"""Performing steps on a Linux system, remembering what stood there, and putting it back."""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import groupby
from pathlib import Path

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.steps import (
    CreateAccount,
    CreateGroup,
    Remove,
    RemoveGroup,
    Rename,
    SetRules,
    Step,
    TrySignIn,
    account_of,
)
from verrou.core.trials import CannotTry
from verrou.machines import Item, Memento, Outcome, PutBack, Secrets, StepResult
from verrou.machines.linux import guests
from verrou.machines.linux.access_file import ACCESS_FOLDER
from verrou.machines.linux.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    SUBGID,
    SUBUID,
    AccountFile,
    merge_lines,
)
from verrou.machines.linux.account_steps import AccountEdit, hashes_for, today_in_days
from verrou.machines.linux.homes import ARCHIVE_ENDING, ARCHIVES, Home, NoHome, unpack
from verrou.machines.linux.lockout import FAILLOCK_CONF
from verrou.machines.linux.locks import PWD_LOCK, account_files_locked
from verrou.machines.linux.new_homes import HOMES, homes_of
from verrou.machines.linux.pam_profiles import PROFILES, Refused
from verrou.machines.linux.password_rules import PWQUALITY_CONF, PWQUALITY_FOLDER
from verrou.machines.linux.population import LOGIN_DEFS, AccountFiles
from verrou.machines.linux.rehearsal import try_sign_in
from verrou.machines.linux.root import Root
from verrou.machines.linux.rule_steps import (
    DROP_IN,
    HISTORY_PROFILE,
    LOCKOUT_PROFILES,
    SSHD_DROP_IN,
    set_rules,
)
from verrou.machines.linux.sshd import SSHD_CONFIG
from verrou.machines.linux.ways import NAMESPACE_FOLDER
from verrou.machines.local_files import put_back

ACCOUNT_FILES = (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID)
FOLDERS = (
    "/etc/pam.d",
    PWQUALITY_FOLDER,
    ACCESS_FOLDER,
    NAMESPACE_FOLDER,
    SSHD_DROP_IN.rpartition("/")[0],
    "/var/lib/pam",
)
RULE_FILES = (
    LOGIN_DEFS,
    FAILLOCK_CONF,
    PWQUALITY_CONF,
    PWQUALITY_FOLDER,
    DROP_IN,
    SSHD_CONFIG,
    SSHD_DROP_IN.rpartition("/")[0],
    SSHD_DROP_IN,
    ACCESS_FOLDER,
    guests.ACCESS_FILE,
    NAMESPACE_FOLDER,
    guests.NAMESPACE_FILE,
    *(f"{PROFILES}/{name}" for name in (*LOCKOUT_PROFILES, HISTORY_PROFILE, *guests.PROFILE_TEXTS)),
)
ARCHIVED = Item(None, 0o600, folder=False)
"""Stands in a memento for an archive, whose content is not kept twice."""
UPDATER_DATABASE = "/var/cache/debconf"


def perform(path: Path, steps: Sequence[Step], secrets: Secrets) -> Iterator[StepResult]:
    """See :meth:`verrou.machines.Machine.perform`. Account steps that follow one another are done in one go."""
    if os.geteuid() != 0:
        raise NotEnoughRights("only root can change accounts and rules; run as root")
    root = Root(path)
    for manner, run in groupby(steps, key=_manner):
        try:
            if manner is _edit_accounts:
                yield from _edit_accounts(root, list(run), secrets)
            else:
                for step in run:
                    root.forget()
                    yield manner(root, step, secrets)  # type: ignore[misc]
        except OSError as error:
            raise MachineRefused(f"{error.strerror}: {error.filename}; the run broke off") from None


def _manner(step: Step) -> "Callable[..., Iterable[StepResult] | StepResult]":
    """How a step is done: rules and trials one by one, what touches settings beside the account files with a way back
    of its own, and everything else together."""
    if isinstance(step, SetRules):
        return _set
    if isinstance(step, TrySignIn):
        return _try
    return _edit_with_settings if _touches_settings(step) else _edit_accounts


def _touches_settings(step: Step) -> bool:
    match step:
        case CreateAccount():
            return not step.home_kept
        case CreateGroup():
            return step.confined
        case Remove() | RemoveGroup() | Rename():
            return True
        case _:
            return False


def _edit_accounts(root: Root, steps: Sequence[Step], secrets: Secrets) -> list[StepResult]:
    """Read under the locks, edited in memory, and swapped in."""
    hashes = hashes_for(steps, secrets)
    with account_files_locked(root):
        root.forget()
        if broken := AccountFiles.load(root).troubles():
            raise BadInput(f"nothing was changed: {broken[0]}")
        edit = AccountEdit(root, today_in_days(), hashes)
        results = [edit.apply(step, secrets) for step in steps]
        edit.swap_in()
    parted = {account: leaving.said for account, leaving in edit.leaving.items()}
    return [
        result._replace(said="; ".join(filter(None, (parted.get(account_of(step) or ""), result.said))))
        if isinstance(step, Remove)
        else result
        for step, result in zip(steps, results, strict=True)
    ]


def _edit_with_settings(root: Root, step: Step, secrets: Secrets) -> StepResult:
    """One step on accounts, and what belongs to it elsewhere; when a part of it is refused, nothing of it is left."""
    before = remember(root.path, [step])
    said = ""
    home = _home_of(root, step)
    try:
        if isinstance(step, CreateGroup):
            said = guests.confine(root, step.group)
        elif isinstance(step, CreateAccount):
            said = guests.freshen(root, step.account, home)
        (result,) = _edit_accounts(root, [step], secrets)
    except Refused as refused:
        result = StepResult(Outcome.REFUSED, str(refused))
    if result.outcome is Outcome.REFUSED:
        for _ in put_back(root.place, before, remember(root.path, [step]), lambda _: None):
            pass
        return result
    if isinstance(step, Remove):
        guests.forget_home(root, home)
    elif isinstance(step, RemoveGroup):
        guests.forget_group(root, step.group)
    elif isinstance(step, Rename):
        guests.rename_guest(root, step.account, step.new_name)
    return result._replace(said="; ".join(filter(None, (result.said, said))))


def _home_of(root: Root, step: Step) -> str:
    """The home of the account that a step is about, also of one that is to be made."""
    if isinstance(step, CreateAccount):
        return step.home or f"{HOMES}/{step.account}"
    record = AccountFile.parse(PASSWD, root.text(PASSWD) or "").find(account_of(step) or "")
    return record.fields[5] if record else ""


def _try(root: Root, step: TrySignIn, secrets: Secrets) -> StepResult:
    """On the system's own PAM, in a copy that nothing remains of."""
    try:
        answer = try_sign_in(root, step.account, secrets[step.account])
    except CannotTry as reason:
        return StepResult(Outcome.REFUSED, f"it could not be tried: {reason}")
    return StepResult(Outcome.DONE if answer.accepted else Outcome.REFUSED, answer.said)


def _set(root: Root, step: SetRules, secrets: Secrets) -> StepResult:
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
    if not steps or any(isinstance(step, SetRules) or _touches_settings(step) for step in steps):
        names += RULE_FILES
        for folder in (*FOLDERS, UPDATER_DATABASE):
            names += [f"{folder}/{name}" for name in root.names_in(folder)]
    if any(isinstance(step, CreateAccount | Remove) for step in steps):
        names += homes_of(root, steps)
    archives = dict.fromkeys(_archives(root, steps), ARCHIVED)
    return {name: root.item(name) for name in dict.fromkeys(names)} | archives


def _archives(root: Root, steps: Sequence[Step]) -> list[str]:
    """The archives of accounts that the steps remove, by name."""
    going = tuple(f"{step.account}-" for step in steps if isinstance(step, Remove))
    names = root.names_in(ARCHIVES) if going else []
    return [f"{ARCHIVES}/{name}" for name in names if name.startswith(going) and name.endswith(ARCHIVE_ENDING)]


def bring_back(path: Path, before: Memento, after: Memento | None) -> Iterator[PutBack]:
    """See :meth:`verrou.machines.Machine.put_back`."""
    if os.geteuid() != 0:
        raise NotEnoughRights("only root can put files back; run as root")
    root = Root(path)
    with account_files_locked(root):
        yield from _unpacked(root, before, after)
        was, ours = _without_archives(before), None if after is None else _without_archives(after)
        yield from put_back(root.place, was, ours, lambda name: merge_lines if name in ACCOUNT_FILES else None)


def _unpacked(root: Root, before: Memento, after: Memento | None) -> Iterator[PutBack]:
    """Bring back the homes that the run put into archives. One that broke off may not have come to taking them away."""
    made = [f"{ARCHIVES}/{name}" for name in root.names_in(ARCHIVES)] if after is None else list(after)
    for name in made:
        if name in before or not name.startswith(ARCHIVES) or not name.endswith(ARCHIVE_ENDING):
            continue
        try:
            yield PutBack(unpack(root, name), Outcome.UNDONE, f"unpacked from {name}, which stays")
        except NoHome as reason:
            if after is not None:
                yield PutBack(name, Outcome.REFUSED, str(reason))
    for name in [name for name, item in before.items() if item.folder]:
        Home(root, name, 0).settle()


def _without_archives(memento: Memento) -> Memento:
    return {name: item for name, item in memento.items() if item != ARCHIVED}
