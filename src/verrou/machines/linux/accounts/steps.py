"""Steps on accounts and groups, in memory: checked one by one, and written to a private copy in one go."""

import re
import time
from collections.abc import Mapping, Sequence
from datetime import date, datetime
from typing import assert_never

from attrs import define

from verrou.core import advice
from verrou.core.model import Detail, Flag, Role, Source, counted
from verrou.core.steps.step import (
    CreateAccount,
    CreateGroup,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetGroupNote,
    SetPassword,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    Unlock,
)
from verrou.machines.changes import FileChange, Outcome, Secrets, StepResult
from verrou.machines.linux.accounts.background_jobs import CRONTABS, LINGERING, at_jobs
from verrou.machines.linux.accounts.hashing import hashed, hashed_all
from verrou.machines.linux.accounts.new_homes import HOMES, making
from verrou.machines.linux.accounts.population import (
    EPOCH,
    FULL_NAME,
    NAMING,
    NEVER_DAYS,
    NOTE,
    defined_number,
    limit_in_days,
)
from verrou.machines.linux.accounts.removal import Removal
from verrou.machines.linux.files.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    SUBGID,
    SUBUID,
    GroupField,
    PasswdField,
    ShadowField,
    members_of,
    number,
)
from verrou.machines.linux.files.closed_accounts import CLOSED_FOR_GOOD
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.files.sudoers import OURS
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.refused import StepRejected

SHELL = "/bin/bash"
SHELLS = "/etc/shells"


def today_in_days() -> int:
    """Return the days since 1970-01-01 in universal time, as shadow(5) counts them."""
    return int(time.time() // 86400)


def ageing_of_new_accounts(defs: Mapping[str, tuple[str, Source]]) -> tuple[str, str, str]:
    """Return the minimum, maximum and warning fields that login.defs(5) gives a new account."""
    fields = []
    for key, otherwise in (("PASS_MIN_DAYS", 0), ("PASS_MAX_DAYS", 99999), ("PASS_WARN_AGE", 7)):
        days = defined_number(defs, key, otherwise)
        fields.append("" if days < 0 else str(days))
    return fields[0], fields[1], fields[2]


@define(repr=False)
class AccountEdit(Removal):
    """The account files, changed by steps."""

    def apply(self, step: Step, secrets: Secrets) -> StepResult:
        """Do one step in memory; a rejected step leaves everything as it was."""
        kept = {} if _checked_first(step) else {name: file.copied() for name, file in self.files.items()}
        before = {name: file.revision for name, file in self.files.items()}
        homes, tallies, ends, jobs = list(self.homes), list(self.tallies), dict(self.ends), dict(self.jobs)
        try:
            message = self._do(step, secrets)
        except StepRejected as refused:
            self.files.update(kept)
            self.homes, self.tallies, self.ends, self.jobs = homes, tallies, ends, jobs
            self.numbers.forget()
            return StepResult(Outcome.REJECTED, str(refused))
        changed = (self.homes, self.tallies, self.ends, self.jobs) != (homes, tallies, ends, jobs) or any(
            f.revision != before[name] for name, f in self.files.items()
        )
        return StepResult(Outcome.DONE if changed else Outcome.UNCHANGED, message)

    def _do(self, step: Step, secrets: Secrets) -> str:
        match step:
            case CreateAccount():
                return self._create(step, secrets)
            case SetEnabled():
                return self._enable(step.account) if step.enabled else self._disable(step.account)
            case Remove():
                return self._remove(step)
            case StopJobs():
                return self._stop_jobs(step.account)
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
            case SetFlags():
                return self._set_flags(step)
            case SetDetails():
                return self._set_details(step)
            case CreateGroup():
                return self._create_group(step)
            case RemoveGroup():
                return self._remove_group(step.group)
            case SetGroupNote():
                raise StepRejected("a Linux system does not store a note about a group")
            case SetRules() | TrySignIn():
                raise StepRejected(f"{step.what}: not a step on account files")
            case _:
                assert_never(step)

    def _check_name(self, name: str) -> None:
        if not re.fullmatch(NAMING.pattern, name) or len(name) > NAMING.longest:
            raise StepRejected(f"{name!r} is not a valid account name here; expected {NAMING.words}")
        for file in (PASSWD, GROUP, SHADOW):
            if file in self.files and self.files[file].find(name):
                raise StepRejected(f"the name {name} is in use: it is named in {file}")

    def _create(self, step: CreateAccount, secrets: Secrets) -> str:
        name = step.account
        self._check_name(name)
        _check_words(step.full_name, step.note)
        if SHADOW not in self.files:
            raise StepRejected(f"{SHADOW} does not exist. Run pwconv first")
        if step.must_change and step.cannot_change:
            raise StepRejected(f"{name} cannot change a password that it must change")
        self._check_lines_by_name(name, step.role)
        group = self._group_for(step.role)
        uid = self.numbers.free(PASSWD, "UID")
        gid = self.numbers.free(GROUP, "GID") if uid in self.numbers.given(GROUP) else uid
        home, shell = self._home_and_shell(step)
        minimum, maximum, warning = ageing_of_new_accounts(self.numbers.defs)
        if step.cannot_change:
            minimum = maximum = str(NEVER_DAYS)
        changed = "0" if step.must_change else str(self.today_days)
        ends = _expires(step.until)
        words = _comment("", {FULL_NAME: step.full_name, NOTE: step.note})
        self.files[PASSWD].add(name, "x", str(uid), str(gid), words, home, shell)
        secret = self._hash(name, secrets.given(step))
        self.files[SHADOW].add(name, secret, changed, minimum, maximum, warning, "", ends, "")
        self.files[GROUP].add(name, "x", str(gid), "")
        if GSHADOW in self.files:
            self.files[GSHADOW].add(name, "!", "", "")
        self.numbers.take(PASSWD, uid)
        self.numbers.take(GROUP, gid)
        self.homes += making(self.root, home, uid, gid, kept=step.home_kept, defs=self.numbers.defs)
        if group is not None:
            self._membership(name, group, joins=True)
        return f"uid {uid}, home {home}" + (f", group {group}" if group else "")

    def _check_lines_by_name(self, name: str, role: Role) -> None:
        """Reject a name that a configuration line already names: its rights would go to the new account."""
        line = self._sudoers().made_administrator(name, datetime.now())
        if line and role is not Role.ADMINISTRATOR:
            raise StepRejected(f"{line} makes any account called {name} an administrator. Remove that line first")

    def _home_and_shell(self, step: CreateAccount) -> tuple[str, str]:
        home = step.home.rstrip("/") or f"{HOMES}/{step.account}"
        parts = home.split("/")
        if not home.startswith("/") or {"", ".", ".."} & set(parts[1:]) or ":" in home or not home.isprintable():
            raise StepRejected(
                f"{home!r} is not a home folder; expected an absolute path, such as /home/{step.account}"
            )
        coming = any(
            operation.place == home
            for operation in (*self.pending, *self.homes)
            if not isinstance(operation, FileChange)
        )
        if coming or self.root.exists(home):
            raise StepRejected(f"{home} already exists. Move it or choose another name")
        if step.home and not self.root.place(home).parent.is_dir():
            raise StepRejected(f"the parent folder of {home} does not exist. Create it first")
        if step.shell:
            self._check_shell(step.shell)
        return home, step.shell or (SHELL if self.root.exists(SHELL) else "/bin/sh")

    def _check_shell(self, shell: str) -> None:
        listed = [line.strip() for line in self.root.lines(SHELLS) if line.startswith("/")]
        if shell not in listed or not self.root.exists(shell):
            raise StepRejected(f"{shell!r} is not a shell here; {SHELLS} lists: {', '.join(listed) or 'none'}")

    def _create_group(self, step: CreateGroup) -> str:
        if self.files[GROUP].find(step.group):
            raise StepRejected(f"a group {step.group} already exists")
        self._check_name(step.group)
        if step.note:
            raise StepRejected("a Linux system does not store a note about a group")
        gid = self.numbers.free(GROUP, "GID")
        self.files[GROUP].add(step.group, "x", str(gid), "")
        if GSHADOW in self.files:
            self.files[GSHADOW].add(step.group, "!", "", "")
        self.numbers.take(GROUP, gid)
        return f"gid {gid}"

    def _remove_group(self, name: str) -> str:
        record = self._record(GROUP, name)
        if int(record.fields[GroupField.GID]) < defined_number(self.numbers.defs, "GID_MIN", 1000):
            raise StepRejected(f"{name} belongs to the system or to a package, and stays")
        main = [
            r.name for r in self.files[PASSWD].records() if r.fields[PasswdField.GID] == record.fields[GroupField.GID]
        ]
        if main:
            raise StepRejected(f"{name} is the main group of {', '.join(main[:5])}")
        self._drop_group(name)
        return ""

    def _set_flags(self, step: SetFlags) -> str:
        record = self._record(SHADOW, step.account)
        if record.name != "root" and self._record(PASSWD, step.account).fields[PasswdField.UID] == "0":
            raise StepRejected(f"{step.account} is root under another name; remove it instead")
        minimum, maximum, _ = ageing_of_new_accounts(self.numbers.defs)
        values: dict[int, str] = {}
        message = ""
        for flag, on in step.flags.items():
            if flag is Flag.CHANGE_DUE:
                if on and self._is_root(step.account):
                    raise StepRejected(
                        f"{step.account} is exempt: programs run as it, and would be rejected until then"
                    )
                if on and not scheme_of(record.fields[ShadowField.PASSWORD]) and record.fields[ShadowField.PASSWORD]:
                    raise StepRejected(f"{step.account} has no password that it could change")
                was = record.fields[ShadowField.CHANGED]
                values[ShadowField.CHANGED] = "0" if on else str(self.today_days) if was == "0" else was
            elif flag is Flag.CANNOT_CHANGE:
                if on and self._is_root(step.account):
                    raise StepRejected(f"{step.account} can change every password, its own too")
                values[ShadowField.LEAST] = str(NEVER_DAYS) if on else minimum
                ends = limit_in_days(values.get(ShadowField.LONGEST, record.fields[ShadowField.LONGEST])) is not None
                message = "once its password expires, only an administrator can set another" if on and ends else message
            elif flag is Flag.AGEING_EXEMPT:
                if not on and self._is_root(step.account):
                    raise StepRejected(
                        f"{step.account} is exempt: programs run as it, and would be rejected by its age"
                    )
                if not on and limit_in_days(maximum) is None:
                    raise StepRejected("passwords never end on this system; set password.max_age first")
                values[ShadowField.LONGEST] = str(NEVER_DAYS) if on else maximum
        changed = {at: value for at, value in values.items() if record.fields[at] != value}
        if changed:
            self.files[SHADOW].change(step.account, changed)
        return message

    def _set_details(self, step: SetDetails) -> str:
        record = self._record(PASSWD, step.account)
        words: dict[int, str] = {}
        for detail, text in step.details:
            if detail is Detail.SHELL:
                self._check_shell(text)
            elif detail in (Detail.FULL_NAME, Detail.NOTE):
                _check_words(text)
                words[FULL_NAME if detail is Detail.FULL_NAME else NOTE] = text
            else:
                raise StepRejected(f"a Linux system does not store a {detail.value.replace('_', ' ')}")
        shell = dict(step.details).get(Detail.SHELL, record.fields[PasswdField.SHELL])
        fields = (
            *record.fields[:4],
            _comment(record.fields[PasswdField.COMMENT], words),
            record.fields[PasswdField.HOME],
            shell,
        )
        if fields != record.fields:
            self.files[PASSWD].replace(record, fields)
        return ""

    def _disable(self, name: str) -> str:
        record = self._record(SHADOW, name)
        uid = self._record(PASSWD, name).fields[PasswdField.UID]
        secret = record.fields[ShadowField.PASSWORD]
        locked = secret if secret.startswith(("!", "*")) else f"!{secret}"
        if uid == "0":
            # An end date on root would also stop cron and elevation: pam_unix(8) checks the account on every use.
            self.files[SHADOW].change(name, {ShadowField.PASSWORD: locked})
            return "no password matches any more; programs and elevation still run as it"
        if record.fields[ShadowField.END] not in ("", CLOSED_FOR_GOOD):
            self.ends[name] = record.fields[ShadowField.END]
        self.files[SHADOW].change(name, {ShadowField.PASSWORD: locked, ShadowField.END: CLOSED_FOR_GOOD})
        return (
            "neither a password nor a key works; its files stay in "
            + self._record(PASSWD, name).fields[PasswdField.HOME]
        )

    def _enable(self, name: str) -> str:
        record = self._record(SHADOW, name)
        secret = record.fields[ShadowField.PASSWORD].lstrip("!")
        if not secret or secret.startswith("*"):
            raise StepRejected(f"{name} has no earlier password. Set one: {advice.set_password(name)}")
        ends = (
            self.ends.pop(name, "")
            if record.fields[ShadowField.END] == CLOSED_FOR_GOOD
            else record.fields[ShadowField.END]
        )
        self.files[SHADOW].change(name, {ShadowField.PASSWORD: secret, ShadowField.END: ends})
        if (days := number(ends)) is not None and days <= self.today_days:
            raise StepRejected(
                f"{name} expired {counted(self.today_days - days, 'day')} ago. Set another expiry date first"
            )
        return ""

    def _hash(self, account: str, password: str) -> str:
        """Return the password field of shadow(5): empty for a blank password."""
        return (self.hashes.get(account) or hashed(password)) if password else ""

    def _set_password(self, step: SetPassword, secrets: Secrets) -> str:
        record = self._record(SHADOW, step.account)
        now = record.fields[ShadowField.PASSWORD]
        secret = self._hash(step.account, secrets.given(step))
        shut_root = (
            bool(now) and not scheme_of(now) and self._record(PASSWD, step.account).fields[PasswdField.UID] == "0"
        )
        must_change = step.must_change and not self._is_root(step.account)
        if must_change and number(record.fields[ShadowField.LEAST]) == NEVER_DAYS:
            raise StepRejected(f"{step.account} cannot change a password that it must change")
        stays_shut = shut_root or (now.startswith("!") and bool(scheme_of(now)))
        if stays_shut:
            if not secret:
                raise StepRejected(f"{step.account} is disabled; a blank password would enable it, so enable it first")
            secret = f"!{secret}"
        changed = "0" if must_change else str(self.today_days)
        self.files[SHADOW].change(step.account, {ShadowField.PASSWORD: secret, ShadowField.CHANGED: changed})
        message = [f"it stays disabled; {advice.enable(step.account)} opens it"] if stays_shut else []
        message += ["it need not be changed: programs run as it"] if step.must_change and not must_change else []
        return "; ".join(message)

    def _is_root(self, name: str) -> bool:
        return self._record(PASSWD, name).fields[PasswdField.UID] == "0"

    def _set_end(self, step: SetEnd) -> str:
        now = self._record(SHADOW, step.account).fields[ShadowField.END]
        if self._is_root(step.account) and step.until is not None:
            raise StepRejected(f"an end date on {step.account} would stop cron and elevation")
        days = _expires(step.until)
        if now == CLOSED_FOR_GOOD:  # it is disabled: its end waits until it is enabled
            self.ends.pop(step.account, None)
            self.ends |= {step.account: days} if days else {}
        else:
            self.files[SHADOW].change(step.account, {ShadowField.END: days})
        return ""

    def _unlock(self, name: str) -> str:
        self._record(PASSWD, name)
        if "/" in name:
            raise StepRejected(f"{name!r} is not a file name, so it has no tally")
        if self._tally(name) is not None:
            self.tallies.append(f"{load_faillock(self.root).tallies}/{name}")
        return ""

    def _rename(self, name: str, new_name: str) -> str:
        record = self._record(PASSWD, name)
        if record.fields[PasswdField.UID] == "0":
            raise StepRejected(f"programs rely on the name {name}; it stays")
        self._check_name(new_name)
        named = [source for source in self._sudoers().names_user(name) if source.place != OURS]
        if named:
            raise StepRejected(f"{named[0]} names {name}; put the account into a group that elevates, then rename it")
        for file in (PASSWD, SHADOW, SUBUID, SUBGID):
            if file in self.files and (there := self.files[file].find(name)):
                self.files[file].replace(there, (new_name, *there.fields[1:]))
        self._rename_in_groups(name, new_name)
        if name in self.ends:
            self.ends[new_name] = self.ends.pop(name)
        for job in self._jobs_by_name(name):
            self.jobs[job] = f"{job.rpartition('/')[0]}/{new_name}"
        home = self.files[PASSWD].find(new_name)
        return f"its home remains {home.fields[PasswdField.HOME] if home else ''}; its own group keeps the old name"

    def _jobs_by_name(self, name: str) -> list[str]:
        """Return the files that run something for any account of a name."""
        if "/" in name:
            return []
        places = [f"{folder}/{name}" for folder in (*CRONTABS, LINGERING)]
        return [place for place in places if self.root.place(place).is_file()]

    def _stop_jobs(self, name: str) -> str:
        uid = int(self._record(PASSWD, name).fields[PasswdField.UID])
        jobs = [*self._jobs_by_name(name), *(place for place, owner in at_jobs(self.root) if owner == uid)]
        self.jobs |= dict.fromkeys(jobs, "")
        return ""

    def _membership(self, name: str, group: str, *, joins: bool) -> str:
        account = self._record(PASSWD, name)
        record = self._record(GROUP, group)
        if not joins and account.fields[PasswdField.GID] == record.fields[GroupField.GID]:
            raise StepRejected(f"{group} is the main group of {name}; it cannot leave it")
        for file in (GROUP, GSHADOW):
            there = self.files[file].find(group) if file in self.files else None
            if there is None:
                continue
            names = [n for n in members_of(there.fields[GroupField.MEMBERS]) if n != name or joins]
            if joins and name not in names:
                names.append(name)
            if names != members_of(there.fields[GroupField.MEMBERS]):
                self.files[file].replace(there, (*there.fields[:3], ",".join(names)))
        return ""


def _expires(until: date | None) -> str:
    """Return the field of shadow(5) for an account whose last day is ``until``: the first day on which it cannot be
    used."""
    return str((until - EPOCH).days + 1) if until else ""


def _checked_first(step: Step) -> bool:
    """Return whether a step is rejected before it changes anything, if at all, so that nothing has to be saved to
    undo it.

    Steps that are done by the hundred are of this kind."""
    return isinstance(step, CreateAccount) and step.role is Role.STANDARD


def _check_words(*texts: str) -> None:
    for text in texts:
        if set(text) & set(":,=\n") or not text.isprintable():
            raise StepRejected("a full name or a note cannot contain a colon, comma, equals sign or control character")


def _comment(text: str, words: Mapping[int, str]) -> str:
    """Return the comment field of passwd(5) with some of its words replaced."""
    parts = text.split(",")
    for position, word in words.items():
        if word or position < len(parts):
            parts += [""] * (position + 1 - len(parts))
            parts[position] = word
    return ",".join(parts)


def hashes_for(steps: Sequence[Step], secrets: Secrets) -> Mapping[str, str]:
    """Return the hashes of all passwords that the steps set, computed in parallel.

    A password that several accounts share (the stand-ins of a dry run) is hashed once."""
    required = {step.account: secrets.given(step) for step in steps if isinstance(step, CreateAccount | SetPassword)}
    made = hashed_all({password: password for password in required.values() if password})
    return {name: made[password] for name, password in required.items() if password}
