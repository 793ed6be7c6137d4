"""A temporary account that exists in a private copy alone, for tests of rules."""

import os
from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta

from attrs import define

from verrou.core.model.programs import Program
from verrou.core.model.routes import Route
from verrou.core.testing.trials import Answer, CannotTry
from verrou.machines.linux.accounts.hashing import quickly_hashed
from verrou.machines.linux.accounts.population import ageing, login_defs
from verrou.machines.linux.accounts.steps import ageing_of_new_accounts, today_in_days
from verrou.machines.linux.copy.requests import ChangePassword, Elevate, ElevateByPolkit, Person, Request, SignIn
from verrou.machines.linux.elevation import polkit
from verrou.machines.linux.files.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    AccountFile,
    PasswdField,
    ShadowField,
)
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.pam.faillock import load_faillock, moved_back
from verrou.machines.linux.pam.services import asking_passwords, sshd_takes_passwords
from verrou.machines.linux.root import Root

DENIED_BY_SUDO = ("is not in the sudoers file", "may not run sudo", "is not allowed to ")
"""sudo(8)'s message that its lines deny an account."""
TRIAL_UID = 59_990
"""The highest candidate, tried downwards: an ordinary user's ID that no account has."""


Ask = Callable[[Request[Answer]], Answer]
"""Asks about an attempt. Raises: CannotTry: with the reason."""


@define
class TrialOnLinux:
    """See :class:`verrou.core.testing.trials.TrialAccount`.

    ``root`` is the copy's tree, ``ask`` has its own PAM asked."""

    root: Root
    ask: Ask
    account: str
    password: str
    uid: int
    groups: Sequence[str] = ()

    @classmethod
    def made(cls, root: Root, ask: Ask, account: str, password: str, groups: Sequence[str]) -> "TrialOnLinux":
        """Create it as a member of some groups."""
        root.forget()
        taken = {
            r.fields[PasswdField.UID]
            for n in (PASSWD, GROUP)
            for r in AccountFile.parse(n, root.text(n) or "").records()
        }
        uid = next(number for number in range(TRIAL_UID, 0, -1) if str(number) not in taken)
        ages = ageing_of_new_accounts(login_defs(root))
        lines = {
            PASSWD: (account, "x", str(uid), str(uid), "", "/nonexistent", "/bin/sh"),
            GROUP: (account, "x", str(uid), ""),
            SHADOW: (account, quickly_hashed(password), str(today_in_days()), *ages, "", "", ""),
            GSHADOW: (account, "!", "", ""),
        }
        for name, fields in lines.items():
            text = root.text(name)
            if text is not None:
                file = AccountFile.parse(name, text)
                file.add(*fields)
                for group in groups if name in (GROUP, GSHADOW) else ():
                    at = len(fields) - 1
                    if (record := file.find(group)) is not None:
                        file.change(group, {at: ",".join(filter(None, (record.fields[at], account)))})
                root.write(name, file.text())
        return cls(root, ask, account, password, uid, groups)

    @property
    def other_services(self) -> Sequence[str]:
        services = asking_passwords(self.root)[1:]
        return [service.name for service in services if service.route is not None]

    def sign_in(self, password: str, service: str = "") -> Answer:
        return self.ask(SignIn(self.account, password, service or "login"))

    def come_by(self, route: Route, service: str, password: str) -> Answer:
        if route is Route.NETWORK:
            raise CannotTry("shared folders have passwords of their own, which are not tested here")
        if service == "sshd" and not sshd_takes_passwords(self.root):
            raise CannotTry("the remote shell server accepts only keys, and the account has none")
        comes_from = "" if route is Route.CONSOLE else REMOTE
        return self.ask(SignIn(self.account, password, service, comes_from))

    @property
    def programs(self) -> Sequence[Program]:
        return (Program.SIGNED,)

    def elevate(self, program: Program, given: str) -> Answer:
        if given == "admin-password":
            return self._elevate_with_help()
        if not self.root.exists("/usr/bin/sudo"):
            raise CannotTry("sudo is not installed; only root's own password elevates")
        if given not in ("nothing", "password"):
            raise CannotTry("sudo knows no prompt that is only confirmed")
        answer = self.ask(Elevate(self.account, self.uid, self.uid, self.password if given == "password" else ""))
        self.unlock()  # an empty answer counts as a failed attempt
        decided = given == "nothing" or any(words in answer.message for words in DENIED_BY_SUDO)
        if not answer.accepted and not decided:
            raise CannotTry(f"sudo did not decide about it: {answer.message}")
        return answer

    def _elevate_with_help(self) -> Answer:
        """Ask polkit about the actions that give root itself."""
        program, elevating = polkit.daemon(self.root), polkit.elevating(self.root)
        actions = [action for action in polkit.ROOT_ITSELF if action in elevating]
        if not polkit.installed(self.root) or not actions:
            return Answer(False, "no program here asks for it")
        if not program:
            raise CannotTry("polkit cannot be asked here: its bus or its client is missing")
        return self.ask(ElevateByPolkit(Person(self.account, self.uid, self.uid), actions, program))

    def elevate_again(self, program: Program, after: timedelta) -> Answer:
        raise CannotTry("sudo remembers an answer for the terminal it was given at, and a test has no terminal")

    def answer_late(self, program: Program, after: timedelta) -> Answer:
        raise CannotTry("sudo waits by the clock of this computer, which a test does not move")

    def change_password(self, old: str, new: str) -> Answer:
        return self.ask(ChangePassword(self.account, self.uid, old, new))

    def reset_password(self, new: str) -> None:
        self._shadow({ShadowField.PASSWORD: quickly_hashed(new), ShadowField.CHANGED: str(today_in_days())})

    def age_password(self) -> None:
        root = self.root
        record = AccountFile.parse(SHADOW, root.text(SHADOW) or "").find(self.account)
        minimum = ageing(record.fields).minimum if record else None
        self._shadow({ShadowField.CHANGED: str(today_in_days() - (minimum or 0))})

    def pass_time(self, span: timedelta) -> None:
        root = self.root
        if content := root.content(self._tally):
            # Written in place: the tally belongs to its account, and PAM checks that.
            descriptor = root.open(self._tally, os.O_WRONLY | os.O_NONBLOCK)
            os.write(descriptor, moved_back(content, span))
            os.close(descriptor)

    def unlock(self) -> None:
        self.root.remove(self._tally)

    @property
    def _tally(self) -> str:
        return f"{load_faillock(self.root).tallies}/{self.account}"

    def _shadow(self, values: Mapping[int, str]) -> None:
        root = self.root
        root.forget()
        shadow = AccountFile.parse(SHADOW, root.text(SHADOW) or "")
        shadow.change(self.account, values)
        root.write(SHADOW, shadow.text())
