"""Steps on accounts and groups: planned in memory, checked, and swapped in under the system's own locks."""

import os
import re
import shutil
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from attrs import define, field

from verrou.core.model import Role, Source
from verrou.core.steps import CreateAccount, Join, Leave, Rename, SetEnabled, SetEnd, SetPassword, Step, Unlock
from verrou.machines import Outcome, Secrets, StepResult
from verrou.machines.linux.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    SUBGID,
    SUBUID,
    AccountFile,
    Record,
    members_of,
)
from verrou.machines.linux.hashing import hashed
from verrou.machines.linux.lockout import load_faillock
from verrou.machines.linux.population import EPOCH, NAMING, defined_number, login_defs, number, scheme_of
from verrou.machines.linux.root import Root
from verrou.machines.linux.sudoers import elevations

SHELL = "/bin/bash"
SKELETON = "/etc/skel"
HOMES = "/home"
CLOSED_FOR_GOOD = "1"
"""The end date that closes an account for keys as well: the second day of 1970. shadow(5) warns against 0."""


def today_in_days() -> int:
    """Days since 1970-01-01 in universal time, as shadow(5) counts them."""
    return int(time.time() // 86400)


class Refused(Exception):
    """A step that the system does not take; the message says why."""


def ageing_of_new_accounts(root: Root) -> tuple[str, str, str]:
    """The minimum, maximum and warning fields that login.defs(5) gives a new account."""
    defs = login_defs(root)
    fields = []
    for key, otherwise in (("PASS_MIN_DAYS", 0), ("PASS_MAX_DAYS", 99999), ("PASS_WARN_AGE", 7)):
        days = defined_number(defs, key, otherwise)
        fields.append("" if days < 0 else str(days))
    return fields[0], fields[1], fields[2]


@define
class AccountEdit:
    """The account files as they shall be. Nothing is on disk before :meth:`swap_in`."""

    root: Root
    today_days: int
    files: dict[str, AccountFile] = field(factory=dict, init=False)
    homes: list[tuple[str, int, int]] = field(factory=list, init=False)
    tallies: list[Path] = field(factory=list, init=False)

    def __attrs_post_init__(self) -> None:
        for name in (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID):
            text = self.root.text(name)
            if text is not None:
                self.files[name] = AccountFile.parse(name, text)

    def apply(self, step: Step, secrets: Secrets) -> StepResult:
        """Do one step in memory; a step that is refused leaves everything as it was."""
        kept = {name: (list(file.lines), file.final_newline) for name, file in self.files.items()}
        homes, tallies = list(self.homes), list(self.tallies)
        try:
            said = self._do(step, secrets)
        except Refused as refused:
            for name, (lines, final) in kept.items():
                self.files[name] = AccountFile(name, lines, final)
            self.homes, self.tallies = homes, tallies
            return StepResult(Outcome.REFUSED, str(refused))
        changed = self.tallies != tallies or any(f.lines != kept[name][0] for name, f in self.files.items())
        return StepResult(Outcome.DONE if changed else Outcome.ALREADY, said)

    def swap_in(self) -> None:
        """Make the homes, then replace each file that changed; groups first, so that no account lacks its group. The
        tallies of unlocked accounts go last."""
        for home, uid, gid in self.homes:
            _make_home(self.root, home, uid, gid)
        for name in (GROUP, GSHADOW, PASSWD, SHADOW, SUBUID, SUBGID):
            file = self.files.get(name)
            if file is not None and file.text() != self.root.text(name):
                self.root.write(name, file.text())
        for tally in self.tallies:
            tally.unlink(missing_ok=True)

    def _do(self, step: Step, secrets: Secrets) -> str:
        match step:
            case CreateAccount():
                return self._create(step, secrets)
            case SetEnabled():
                return self._enable(step.account) if step.enabled else self._disable(step.account)
            case Rename():
                return self._rename(step.account, step.new_name)
            case Join():
                return self._membership(step.account, step.group, joins=True)
            case Leave():
                return self._membership(step.account, step.group, joins=False)
            case SetPassword():
                return self._set_password(step, secrets)
            case SetEnd():
                return self._set_end(step)
            case Unlock():
                return self._unlock(step.account)
        raise Refused(f"this machine cannot {step.what}")

    def _record(self, file: str, name: str) -> Record:
        record = self.files[file].find(name) if file in self.files else None
        if record is None:
            raise Refused(f"{name} is not in {file}")
        return record

    def _check_name(self, name: str) -> None:
        if not re.fullmatch(NAMING.pattern, name) or len(name) > NAMING.longest:
            raise Refused(f"{name!r} is no account name here; accepted: {NAMING.words}")
        for file in (PASSWD, GROUP, SHADOW):
            if file in self.files and self.files[file].find(name):
                raise Refused(f"the name {name} is taken: it stands in {file}")

    def _create(self, step: CreateAccount, secrets: Secrets) -> str:
        name = step.account
        self._check_name(name)
        if set(step.full_name) & set(":,=\n") or not step.full_name.isprintable():
            raise Refused("a full name may hold no colon, comma, equals sign or control character")
        if SHADOW not in self.files:
            raise Refused(f"there is no {SHADOW}; run pwconv first")
        if step.role is Role.GUEST:
            raise Refused("this system has no group that makes a guest")
        gates = _administration_groups(self.root) if step.role is Role.ADMINISTRATOR else []
        gate = next((g for g in gates if self.files[GROUP].find(g)), None)
        if step.role is Role.ADMINISTRATOR and gate is None:
            raise Refused("no group here makes an administrator; install the package sudo")
        defs = login_defs(self.root)
        uid = self._free(defs, PASSWD, "UID")
        taken = {record.fields[2] for record in self.files[GROUP].records()}
        gid = self._free(defs, GROUP, "GID") if str(uid) in taken else uid
        home = f"{HOMES}/{name}"
        if self.root.exists(home):
            raise Refused(f"{home} is there already; move it away or choose another name")
        minimum, maximum, warning = ageing_of_new_accounts(self.root)
        secret = self._hash(secrets.given(step))
        changed = "0" if step.must_change else str(self.today_days)
        shell = SHELL if self.root.exists(SHELL) else "/bin/sh"
        self.files[PASSWD].add(name, "x", str(uid), str(gid), step.full_name, home, shell)
        self.files[SHADOW].add(name, secret, changed, minimum, maximum, warning, "", "", "")
        self.files[GROUP].add(name, "x", str(gid), "")
        if GSHADOW in self.files:
            self.files[GSHADOW].add(name, "!", "", "")
        self.homes.append((home, uid, gid))
        if gate is not None:
            self._membership(name, gate, joins=True)
        return f"uid {uid}, home {home}" + (f", group {gate}" if gate else "")

    def _free(self, defs: Mapping[str, tuple[str, Source]], file: str, kind: str) -> int:
        low, high = defined_number(defs, f"{kind}_MIN", 1000), defined_number(defs, f"{kind}_MAX", 60000)
        used = {int(record.fields[2]) for record in self.files[file].records()}
        highest = max((n for n in used if low <= n <= high), default=low - 1)
        free = highest + 1 if highest < high else next((n for n in range(low, high + 1) if n not in used), None)
        if free is None:
            raise Refused(f"no number from {low} to {high} is free in {file}")
        return free

    def _disable(self, name: str) -> str:
        record = self._record(SHADOW, name)
        uid = self._record(PASSWD, name).fields[2]
        secret = record.fields[1]
        locked = secret if secret.startswith(("!", "*")) else f"!{secret}"
        if uid == "0":
            # An end date on root would also stop cron and elevation: pam_unix(8) checks the account on every use.
            self.files[SHADOW].change(name, f1=locked)
            return "no password matches any more; programs and elevation still run as it"
        self.files[SHADOW].change(name, f1=locked, f7=CLOSED_FOR_GOOD)
        return "neither password nor key lets it in; its files stay in " + self._record(PASSWD, name).fields[5]

    def _enable(self, name: str) -> str:
        record = self._record(SHADOW, name)
        secret = record.fields[1].lstrip("!")
        if not secret or secret.startswith("*"):
            raise Refused(f"{name} has no password to go back to; give it one: verrou account password {name}")
        ends = "" if record.fields[7] == CLOSED_FOR_GOOD else record.fields[7]
        self.files[SHADOW].change(name, f1=secret, f7=ends)
        if (days := number(ends)) is not None and days <= self.today_days:
            raise Refused(f"{name} ended {self.today_days - days} days ago; give it another end date first")
        return ""

    @staticmethod
    def _hash(password: str) -> str:
        """What stands in shadow(5) for a password: nothing for the blank one."""
        return hashed(password) if password else ""

    def _set_password(self, step: SetPassword, secrets: Secrets) -> str:
        now = self._record(SHADOW, step.account).fields[1]
        secret = self._hash(secrets.given(step))
        if now.startswith("!") and scheme_of(now):
            if not secret:
                raise Refused(f"{step.account} is disabled; a blank password would open it, so enable it first")
            secret = f"!{secret}"
        changed = "0" if step.must_change else str(self.today_days)
        self.files[SHADOW].change(step.account, f1=secret, f2=changed)
        return ""

    def _set_end(self, step: SetEnd) -> str:
        now = self._record(SHADOW, step.account).fields[7]
        if now == CLOSED_FOR_GOOD:
            raise Refused(f"{step.account} is disabled; enable it first, the end date is what keeps it closed")
        if self._record(PASSWD, step.account).fields[2] == "0" and step.day is not None:
            raise Refused(f"an end date on {step.account} would stop cron and elevation")
        self.files[SHADOW].change(step.account, f7=str((step.day - EPOCH).days) if step.day else "")
        return ""

    def _unlock(self, name: str) -> str:
        self._record(PASSWD, name)
        if "/" in name:
            raise Refused(f"{name!r} is no file name, so it has no tally")
        tally = self.root.place(f"{load_faillock(self.root).tallies}/{name}")
        if tally.is_file():
            self.tallies.append(tally)
        return ""

    def _rename(self, name: str, new_name: str) -> str:
        record = self._record(PASSWD, name)
        if record.fields[2] == "0":
            raise Refused(f"programs rely on the name {name}; it stays")
        self._check_name(new_name)
        named = [e.source for e in elevations(self.root)[0] if e.who == name]
        if named:
            raise Refused(f"{named[0]} names {name}; put the account into a group that elevates, then rename it")
        for file in (PASSWD, SHADOW, SUBUID, SUBGID):
            if file in self.files and (there := self.files[file].find(name)):
                self.files[file].replace(there, (new_name, *there.fields[1:]))
        for file, lists in ((GROUP, (3,)), (GSHADOW, (2, 3))):
            for record in list(self.files[file].records()) if file in self.files else []:
                fields = list(record.fields)
                for position in lists:
                    names = [new_name if n == name else n for n in members_of(fields[position])]
                    fields[position] = ",".join(names) if name in members_of(fields[position]) else fields[position]
                if tuple(fields) != record.fields:
                    self.files[file].replace(record, fields)
        home = self.files[PASSWD].find(new_name)
        return f"its home stays {home.fields[5] if home else ''}; its own group keeps the old name"

    def _membership(self, name: str, group: str, *, joins: bool) -> str:
        account = self._record(PASSWD, name)
        record = self._record(GROUP, group)
        if not joins and account.fields[3] == record.fields[2]:
            raise Refused(f"{group} is the main group of {name}; it cannot leave it")
        for file in (GROUP, GSHADOW):
            there = self.files[file].find(group) if file in self.files else None
            if there is None:
                continue
            names = [n for n in members_of(there.fields[3]) if n != name or joins]
            if joins and name not in names:
                names.append(name)
            if names != members_of(there.fields[3]):
                self.files[file].replace(there, (*there.fields[:3], ",".join(names)))
        return ""


def _administration_groups(root: Root) -> list[str]:
    return [e.who.removeprefix("%") for e in elevations(root)[0] if e.who.startswith("%") and e.who[1:2] != "#"]


def _make_home(root: Root, home: str, uid: int, gid: int) -> None:
    """The home and what the skeleton holds, with the account as owner; links are copied as links."""
    defs = login_defs(root)
    mode = int(defs["HOME_MODE"][0], 8) if "HOME_MODE" in defs else 0o700
    target, skeleton = root.place(home), root.place(SKELETON)
    target.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
    target.mkdir(mode=0o700)
    if skeleton.is_dir():
        shutil.copytree(skeleton, target, symlinks=True, dirs_exist_ok=True)
    for folder, folders, names in os.walk(target):
        for name in (*folders, *names):
            os.chown(Path(folder, name), uid, gid, follow_symlinks=False)
    os.chown(target, uid, gid)
    os.chmod(target, mode)


def homes_of(root: Root, steps: Sequence[Step]) -> list[str]:
    """Every file and folder that making the steps' homes would bring, by name."""
    skeleton = root.place(SKELETON)
    inside = [str(path.relative_to(skeleton)) for path in skeleton.rglob("*")] if skeleton.is_dir() else []
    homes = [f"{HOMES}/{step.account}" for step in steps if isinstance(step, CreateAccount)]
    return [name for home in homes for name in (home, *(f"{home}/{path}" for path in inside))]
