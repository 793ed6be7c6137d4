"""A temporary account that exists in a private copy alone, for tests of rules."""

import os
import re
from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta

from attrs import define, field

from verrou.core.model.acts import RIGHTS, UserAct
from verrou.core.model.programs import Program
from verrou.core.model.routes import Route
from verrou.core.testing.attempts import Answer, CannotTry, FirstScreen
from verrou.core.values import Notice
from verrou.machines.linux.accounts.hashing import quickly_hashed
from verrou.machines.linux.accounts.population import ageing, login_defs
from verrou.machines.linux.accounts.steps import ageing_of_new_accounts, today_in_days
from verrou.machines.linux.copy.requests import (
    ChangePassword,
    Elevate,
    ElevateByPolkit,
    Person,
    Request,
    RunProgram,
    SignIn,
)
from verrou.machines.linux.elevation import polkit, polkit_actions
from verrou.machines.linux.entry.display_managers import in_use
from verrou.machines.linux.files.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    AccountFile,
    PasswdField,
    ShadowField,
)
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.files.sshd import REMOTE, sshd_setting
from verrou.machines.linux.pam.faillock import load_faillock, moved_back
from verrou.machines.linux.pam.services import asking_passwords, sshd_takes_passwords
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.notice import as_notice, issue_text
from verrou.machines.linux.rules.untested import NO_DISPLAY, UNTESTED
from verrou.machines.protocol import DryRunUnavailable

AGETTY, BASH = "/sbin/agetty", "/bin/bash"
DENIED_BY_SUDO = ("is not in the sudoers file", "may not run sudo", "is not allowed to ")
"""sudo(8)'s message that its lines deny an account."""
TRIAL_UID = 59_990
"""The highest candidate, tried downwards: an ordinary user's ID that no account has."""


Ask = Callable[[Request[Answer]], Answer]
"""Asks about an attempt. Raises: CannotTry: with the reason."""


@define(repr=False)
class TrialOnLinux:
    """See :class:`verrou.core.testing.attempts.TrialAccount`.

    ``root`` is the copy's tree, ``ask`` has its own PAM asked."""

    root: Root
    ask: Ask
    account: str
    password: str
    uid: int
    groups: Sequence[str] = ()
    administers: bool = False
    _answers: Mapping[str, str] | None = field(default=None, init=False)

    @classmethod
    def made(
        cls, root: Root, ask: Ask, account: str, password: str, groups: Sequence[str], *, administers: bool = False
    ) -> "TrialOnLinux":
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
        return cls(root, ask, account, password, uid, groups, administers)

    @property
    def other_services(self) -> Sequence[str]:
        services = asking_passwords(self.root)[1:]
        return [service.name for service in services if service.route is not None]

    def sign_in(self, password: str, service: str = "") -> Answer:
        return self.ask(SignIn(self.account, password, service or "login"))

    def mistype(self, wrong: str, times: int, service: str = "") -> bool:
        return times > 0 and self.ask(SignIn(self.account, wrong, service or "login", times=times)).accepted

    def come_by(self, route: Route, service: str, password: str) -> Answer:
        if route is Route.NETWORK:
            raise CannotTry("shared folders have passwords of their own, which are not tested here")
        if service == "sshd" and not sshd_takes_passwords(self.root):
            raise CannotTry("the remote shell server accepts only keys, and the account has none")
        if service == "sshd" and not password and sshd_setting(self.root, "permitemptypasswords", "no")[0] != "yes":
            return Answer(False, "sshd denies blank passwords")
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
        answer = self.ask(Elevate(self.account, self.uid, self.uid, self.password if given == "password" else None))
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
        raise CannotTry(UNTESTED["elevation.remembered_for"])

    def answer_late(self, program: Program, after: timedelta) -> Answer:
        raise CannotTry(UNTESTED["elevation.unanswered_after"])

    def run_command(self, command: str) -> Answer:
        if not self.root.exists("/usr/bin/sudo"):
            raise CannotTry("sudo is not installed")
        answer = self.ask(Elevate(self.account, self.uid, self.uid, self.password, tuple(command.split())))
        self.unlock()
        return Answer(answer.accepted)

    def act(self, act: UserAct) -> Answer:
        return self._by_polkit(polkit_actions.RIGHTS[RIGHTS[act]])

    def _by_polkit(self, actions: Sequence[str]) -> Answer:
        """Return whether the account may do one of some actions without an administrator's password."""
        if not polkit.installed(self.root):
            return Answer(False, "without polkit, only root can")
        answers = self._polkit_says(actions, "no program here asks for this right")
        opened = [action for action, answer in answers.items() if answer == polkit.YES]
        return Answer(bool(opened), f"polkit allows {opened[0]}" if opened else "")

    def _polkit_says(self, actions: Sequence[str], otherwise: str) -> Mapping[str, str]:
        """Return polkit's answers about some actions; it is asked once about all that a test may need.

        Raises: CannotTry: no program declares one of them, or polkit cannot be asked."""
        declared = polkit.defaults(self.root, polkit_actions.ALL) if polkit.installed(self.root) else {}
        if not declared.keys() & set(actions):
            raise CannotTry(otherwise)
        if self._answers is None:
            try:
                asked = polkit.ask(self.root, [(self.account, self.uid, self.uid)], sorted(declared))
            except DryRunUnavailable as reason:
                raise CannotTry(f"polkit could not be asked: {reason}") from None
            self._answers = asked[self.account]
        return {action: answer for action, answer in self._answers.items() if action in actions}

    def run_installer(self) -> Answer:
        by_right = self.act(UserAct.INSTALL)
        if by_right.accepted or not self.administers:
            return by_right
        return self.elevate(Program.INSTALLER, "password")

    @property
    def drives(self) -> Sequence[str]:
        return tuple(polkit_actions.DRIVES)

    def browse(self, drive: str) -> Answer:
        return self._not_refused(polkit_actions.DRIVES[drive])

    def open_settings(self) -> Answer:
        return self._not_refused(polkit_actions.SETTINGS)

    def _not_refused(self, actions: Sequence[str]) -> Answer:
        """Return whether one of some actions is open to the account, if with an administrator's password."""
        answers = self._polkit_says(actions, "no program here asks polkit about it")
        if any(answer != polkit.NO for answer in answers.values()):
            return Answer(True)
        asks = not any(each.answer == polkit.YES for each in polkit.defaults(self.root, actions).values())
        return Answer(False, by=("elevation.standard",) if asks else ())

    def prompt_is_apart(self, program: Program) -> Answer:
        raise CannotTry("sudo asks at the terminal it is called from")

    def link(self, *, before: bool) -> Answer:
        raise CannotTry("a Linux account is not linked; a directory brings accounts of its own")

    def builtin(self) -> "TrialOnLinux":
        root = self.root
        records = AccountFile.parse(PASSWD, root.text(PASSWD) or "").records()
        name = next((record.name for record in records if record.fields[PasswdField.UID] == "0"), "")
        if not name:
            raise CannotTry("no account has the ID 0")
        found = TrialOnLinux(root, self.ask, name, self.password, 0, ())
        found._shadow({ShadowField.PASSWORD: quickly_hashed(self.password), ShadowField.CHANGED: str(today_in_days())})
        return found

    def first_screen(self) -> FirstScreen:
        raise CannotTry(NO_DISPLAY)

    def sign_in_without_keys(self) -> Answer:
        raise CannotTry(NO_DISPLAY)

    def locked_screen(self) -> frozenset[str]:
        raise CannotTry(NO_DISPLAY)

    def restart(self) -> str:
        raise CannotTry(UNTESTED["screen.automatic_signin"])

    def notice(self) -> Notice:
        if not self.root.exists(AGETTY):
            raise CannotTry(f"{AGETTY}, which shows it at a text console, is not installed")
        if "\\" in issue_text(self.root)[0]:
            raise CannotTry("the text has marks that the console replaces by words of its own")
        try:
            shown = self.root.ask(RunProgram([AGETTY, "--show-issue"], at_terminal=True))
        except DryRunUnavailable as reason:
            raise CannotTry(f"{AGETTY} could not be run: {reason}") from None
        if shown.code != 0:
            raise CannotTry(f"{AGETTY} does not show it: {shown.message.strip()}")
        return as_notice(shown.answer)

    def idle(self, span: timedelta) -> Answer:
        """Ask the shell that begins at a sign-in when it ends by itself."""
        if in_use(self.root):
            raise CannotTry("the screen locker needs a display, which a copy has not")
        if self.root.runner is None or not self.root.exists(BASH):
            raise CannotTry(f"{BASH}, which would end, cannot be run")
        code, output = self.root.runner([BASH, "--login", "-c", 'printf "idle=%s" "${TMOUT:-0}"'])
        found = re.search(r"idle=(\d{1,9})$", output)
        if code != 0 or found is None:
            raise CannotTry(f"{BASH} did not say when it ends")
        seconds = int(found[1])
        ends = seconds and span >= timedelta(seconds=seconds)
        return Answer(not ends, f"{BASH} ends after {seconds} seconds" if seconds else f"{BASH} never ends by itself")

    def set_blank(self) -> None:
        self.password = ""
        self._shadow({ShadowField.PASSWORD: "", ShadowField.CHANGED: str(today_in_days())})

    def stored_scheme(self) -> str:
        self.root.forget()
        record = AccountFile.parse(SHADOW, self.root.text(SHADOW) or "").find(self.account)
        return scheme_of(record.fields[ShadowField.PASSWORD]) if record is not None else ""

    def age_password_by(self, span: timedelta) -> None:
        self._shadow({ShadowField.CHANGED: str(today_in_days() - span.days)})

    def change_password(self, old: str, new: str) -> Answer:
        answer = self.ask(ChangePassword(self.account, self.uid, old, new))
        if answer.accepted:
            self.password = new
        return answer

    def reset_password(self, new: str) -> None:
        self.password = new
        self._shadow({ShadowField.PASSWORD: quickly_hashed(new), ShadowField.CHANGED: str(today_in_days())})

    def age_password(self) -> None:
        root = self.root
        record = AccountFile.parse(SHADOW, root.text(SHADOW) or "").find(self.account)
        minimum = ageing(record.fields).minimum if record else None
        # The system's own hash would have to be compared with again for each password that it remembers.
        stored = quickly_hashed(self.password) if self.password else ""
        self._shadow({ShadowField.PASSWORD: stored, ShadowField.CHANGED: str(today_in_days() - (minimum or 0))})

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
