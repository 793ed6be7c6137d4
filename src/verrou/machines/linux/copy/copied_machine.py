"""A Linux system's private copy: changed by steps, restored, observed and tested; and its change set."""

import secrets as random_source
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from itertools import groupby
from pathlib import Path
from typing import assert_never

from attrs import define, field

from verrou.core.judging.review import Arrival
from verrou.core.model import Grant, Role, Snapshot
from verrou.core.model.access import usable_administrator, usable_administrators
from verrou.core.model.known import Known
from verrou.core.model.routes import Route
from verrou.core.steps.step import (
    Adjustment,
    CreateAccount,
    CreateGroup,
    GroupStep,
    Membership,
    Remove,
    RemoveGroup,
    Rename,
    SetEnabled,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    account_of,
)
from verrou.core.testing.attempts import CannotTry, TrialAccount
from verrou.core.testing.passwords import Policy, make_password
from verrou.core.values import GROUP as GROUP_SIGN
from verrou.machines.changes import (
    NOTHING,
    ChangeSet,
    FileChange,
    FileState,
    Outcome,
    Secrets,
    Stamps,
    StepResult,
)
from verrou.machines.folder_operations import TakeHome, UnmakeHome
from verrou.machines.linux.accounts import guests
from verrou.machines.linux.accounts.new_homes import HOMES
from verrou.machines.linux.accounts.population import AccountFiles
from verrou.machines.linux.accounts.steps import AccountEdit, hashes_for, today_in_days
from verrou.machines.linux.apply.applier import Applier
from verrou.machines.linux.apply.order import GIVING, TAKING, ordered
from verrou.machines.linux.copy.arrival import DOOR, Arriving
from verrou.machines.linux.copy.copied_tree import OF_THE_COPY
from verrou.machines.linux.copy.requests import A, LoadLibrary, ReceiveArrival, Request, TryAccount
from verrou.machines.linux.copy.restoring import Restoring
from verrou.machines.linux.copy.test_account import TrialOnLinux
from verrou.machines.linux.files.access_file import admit, every_list
from verrou.machines.linux.files.account_files import GROUP, PASSWD, SHADOW, AccountFile, PasswdField
from verrou.machines.linux.files.sshd import sshd_config, sshd_setting
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.pam.services import behind
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import named_otherwise, set_rules
from verrou.machines.protocol import DryRunUnavailable, Visitor


@define(repr=False)
class LinuxCopy(Restoring):
    """See :class:`verrou.machines.protocol.Copy`. Steps are done on it, and it is tested; ``visitor`` is its user at
    another computer."""

    visitor: Visitor | None = None
    _library_loads: bool = field(default=False, init=False)
    _lists: list[tuple[str, str]] | None = field(default=None, init=False)

    def do(self, steps: Sequence[Step], secrets: Secrets) -> list[StepResult]:
        """See :meth:`verrou.machines.protocol.Copy.do`. Account steps that follow one another are done in one go."""
        results: list[StepResult] = []
        self._observed = self._lists = None
        for manner, run in groupby(steps, key=self._manner):
            if manner == "accounts":
                results += self._edit_accounts(list(run), secrets)
                continue
            for step in run:
                self.root.forget()
                results.append(self._one(manner, step, secrets))
        return results

    @staticmethod
    def _manner(step: Step) -> str:
        """Return how a step is done: settings besides the account files one by one, so that a rejected step leaves
        nothing.

        Everything else is done together."""
        match step:
            case TrySignIn():
                return "trial"
            case SetRules() | Remove() | RemoveGroup() | Rename():
                return "settings"
            case CreateAccount(home_kept=False) | CreateGroup(confined=True):
                return "settings"
        if isinstance(step, CreateAccount | SetEnabled | StopJobs | Membership | Adjustment | GroupStep):
            return "accounts"
        assert_never(step)

    def _one(self, manner: str, step: Step, secrets: Secrets) -> StepResult:
        if isinstance(step, TrySignIn):
            return self._try(step, secrets)
        before, homes, tallies = self._file_states(), list(self._at_home), set(self._tallies)
        try:
            if isinstance(step, SetRules):
                result = StepResult(Outcome.DONE, set_rules(self.root, step))
                if self._file_states() == before:
                    result = StepResult(Outcome.UNCHANGED, result.message)
            else:
                result = self._edit_with_settings(step, secrets)
        except (StepRejected, DryRunUnavailable) as refused:
            result = StepResult(Outcome.REJECTED, str(refused))
        except OSError as error:
            result = StepResult(Outcome.REJECTED, self._why(error))
        if result.outcome is Outcome.REJECTED:
            self._restore(before)
            self._at_home, self._tallies = homes, tallies
        return result

    def _edit_accounts(self, steps: Sequence[Step], secrets: Secrets) -> list[StepResult]:
        self.root.forget()
        if broken := AccountFiles.load(self.root).warnings():
            return [StepResult(Outcome.REJECTED, broken[0]) for _ in steps]
        hashes = hashes_for(steps, secrets)
        pending = [*self._at_home, *(change for phase in self._phases for change in phase)]
        edit = AccountEdit(self.root, today_in_days(), hashes, pending=pending)
        results = [edit.apply(step, secrets) for step in steps]
        before = self._file_states()
        try:
            edit.write()
        except OSError as error:
            self._restore(before)
            return [StepResult(Outcome.REJECTED, self._why(error)) for _ in steps]
        self._at_home += edit.homes
        self._tallies |= set(edit.tallies)
        return results

    def _why(self, error: OSError) -> str:
        """Return why a place of the copy could not be written, which stands for the machine.

        Raises: DryRunUnavailable: the copy itself is at fault."""
        where = str(error.filename or "a file").removeprefix(str(self.root.path))
        if error.errno in OF_THE_COPY:
            raise DryRunUnavailable(f"{where} could not be written on the copy: {error.strerror}") from None
        marked = Applier(self.machine_root).obstacles([FileChange(where, NOTHING, NOTHING)])
        return marked[0] if marked else f"{where}: {error.strerror}; Verrou does not write there"

    def _edit_with_settings(self, step: Step, secrets: Secrets) -> StepResult:
        """Do one step on accounts, and on what belongs to them elsewhere."""
        message, home = "", self._home_of(step)
        if isinstance(step, CreateGroup):
            message = guests.confine(self.root, step.group)
        elif isinstance(step, CreateAccount):
            message = guests.freshen(self.root, step.account, home)
        (result,) = self._edit_accounts([step], secrets)
        if result.outcome is Outcome.REJECTED:
            return result
        if isinstance(step, Remove):
            guests.forget_home(self.root, home)
            named_otherwise(self.root, step.account, "")
        elif isinstance(step, RemoveGroup):
            guests.forget_group(self.root, step.group)
            named_otherwise(self.root, f"{GROUP_SIGN}{step.group}", "")
        elif isinstance(step, Rename):
            guests.rename_guest(self.root, step.account, step.new_name)
            named_otherwise(self.root, step.account, step.new_name)
        return result._replace(message="; ".join(filter(None, (result.message, message))))

    def _home_of(self, step: Step) -> str:
        """Return the home of the account that a step is about, also of one that is to be made."""
        if isinstance(step, CreateAccount):
            return step.home or f"{HOMES}/{step.account}"
        record = AccountFile.parse(PASSWD, self.root.text(PASSWD) or "").find(account_of(step) or "")
        return record.fields[PasswdField.HOME] if record else ""

    def _try(self, step: TrySignIn, secrets: Secrets) -> StepResult:
        """Test with the system's own PAM and sudo, in a copy of the copy."""
        try:
            if step.account not in secrets:
                self._ask(LoadLibrary())
                return StepResult(Outcome.DONE, "to be tested with its password before anything is changed")
            answer = self._ask(self._attempt_of(step, secrets[step.account]))
        except CannotTry as reason:
            return StepResult(Outcome.REJECTED, f"it could not be tested: {reason}")
        return StepResult(Outcome.DONE if answer.accepted else Outcome.REJECTED, answer.message)

    def _attempt_of(self, step: TrySignIn, password: str) -> TryAccount:
        routes = (Route.REMOTE_SCREEN, Route.REMOTE_SHELL)
        remote = [service.name for route in routes for service in behind(self.root, route)]
        untried = ""
        if step.blank and "sshd" in remote and sshd_setting(self.root, "permitemptypasswords", "no")[0] != "yes":
            remote.remove("sshd")
            untried = "sshd was not tested: its own setting rejects a blank password before it asks PAM"
        return TryAccount(
            step.account,
            password,
            str(step.role),
            remote,
            untried,
            str(today_in_days()),
            load_faillock(self.root).tallies,
        )

    def _ask(self, request: Request[A]) -> A:
        try:
            answer = self.copy.ask(request)
        except DryRunUnavailable as reason:
            raise CannotTry(str(reason)) from None
        self.root.forget()
        return answer

    def observe(self) -> Snapshot:
        """See :meth:`verrou.machines.protocol.Copy.observe`."""
        self.root.forget()
        self._observed = self.look(self.root)
        return self._observed

    def stamps(self) -> Stamps:
        """See :meth:`verrou.machines.protocol.Copy.stamps`."""
        return self.taken_of

    def changes(self, before: Snapshot | None, after: Snapshot | None) -> tuple[ChangeSet, str]:
        """See :meth:`verrou.machines.protocol.Copy.changes`.

        Account files are applied in an order that keeps an administrator usable at every moment, where there is one."""
        self.mark()
        first, *rest = self._phases
        gap, found = "", []
        for last in (GIVING, TAKING):
            phases = [ordered(first, GIVING if rest else last), *(ordered(phase, last) for phase in rest)]
            found = [change for phase in phases for change in phase]
            gap = "" if before is None or after is None else self._gap(found, before, after)
            if not gap:
                break
        return found, gap

    def _gap(self, changes: ChangeSet, before: Snapshot, after: Snapshot) -> str:
        """Return where no administrator would be usable.

        An administrator whose lines do not change is usable at every moment; only where there is none is each moment
        checked."""
        decisive = [change for change in changes if isinstance(change, FileChange) and _decides(change.place)]
        unmoved = [a for a in usable_administrators(before) if after.by_name.get(a.name) == a]
        lasting = any(usable_administrator(account, after) for account in unmoved)
        if len(decisive) < 2 or (lasting and not any("sudoers" in change.place for change in decisive)):
            return ""
        if not usable_administrators(before) or not usable_administrators(after):
            return ""
        standing = _RootWith(self.machine_root.path, live=self.machine_root.live)
        for change in reversed(decisive):
            standing.instead[change.place] = change.before
        for change in decisive[:-1]:
            standing.instead[change.place] = change.after
            standing.forget()
            if not usable_administrators(self.look(standing)):
                return f"after {change.place} is applied and before {decisive[-1].place} is"
        return ""

    def notices(self, changes: ChangeSet) -> Sequence[str]:
        """See :meth:`verrou.machines.protocol.Copy.notices`."""
        lines = Applier(self.machine_root).notices(changes)
        if not self.machine_root.live and self.copy.ran:
            programs = ", ".join(sorted(self.copy.ran))
            lines.append(
                f"For the dry run, programs from this disk ran in isolation: {programs}. To avoid that: --no-dry-run"
            )
        return lines

    def obstacles(self, changes: ChangeSet) -> Sequence[str]:
        """See :meth:`verrou.machines.protocol.Copy.obstacles`."""
        return Applier(self.machine_root).obstacles(changes)

    def arrival(self, changes: ChangeSet) -> Arrival | None:
        """See :meth:`verrou.machines.protocol.Copy.arrival`."""
        if self.visitor is None:
            return None
        gone = [change.place for change in changes if isinstance(change, TakeHome | UnmakeHome)]
        request = ReceiveArrival(self.visitor.ends, sshd_config(self.root), gone)
        with Arriving(self.visitor, Path(f"{self.root.path}{DOOR}")) as arriving:
            try:
                received = self.copy.ask(request)
            except DryRunUnavailable as reason:
                return Arrival(self.visitor.account, Known.UNKNOWN, str(reason))
        self.root.forget()
        if arriving.succeeded:
            return Arrival(self.visitor.account, Known.YES, "")
        if not (received.spoke and received.came):  # one of them never was there to be judged
            server = next(iter(received.message.splitlines()), "its SSH server said nothing")
            return Arrival(self.visitor.account, Known.UNKNOWN, f"{server}; your SSH client: {arriving.message}")
        return Arrival(self.visitor.account, Known.NO, arriving.message)

    @contextmanager
    def attempt(self, policy: Policy, role: Role, let_in: bool, groups: Sequence[str] = ()) -> Iterator[TrialAccount]:
        """See :meth:`verrou.machines.protocol.Copy.attempt`."""
        if not self._library_loads:
            self._ask(LoadLibrary())
            self._library_loads = True
        name = f"trial{random_source.token_hex(4)}"
        password = make_password(policy, name, random_source.SystemRandom())
        if let_in:
            if self._lists is None:
                self._lists = every_list(self.root)
            admit(self.root, name, self._lists)
        every = (*self._groups_for(role), *groups)
        administers = role is Role.ADMINISTRATOR
        yield TrialOnLinux.made(self.root, self._ask, name, password, every, administers=administers)

    def _groups_for(self, role: Role) -> Sequence[str]:
        """Return the group that grants the role; None for a standard user."""
        if role is Role.STANDARD:
            return ()
        required = Grant.ADMINISTRATION if role is Role.ADMINISTRATOR else Grant.GUEST_USE
        # Observed once since the last step: no attempt leaves anything behind.
        group = (self._observed or self.observe()).group_with(required)
        if group is None:
            raise CannotTry(f"this system has no group that makes an account {'an' if role[0] in 'a' else 'a'} {role}")
        return (str(group.name),)


@define(repr=False)
class _RootWith(Root):
    """A root with some places replaced."""

    instead: dict[str, FileState] = field(factory=dict, init=False)

    def text(self, name: str) -> str | None:
        item = self.instead.get(name)
        if item is None:
            return Root.text(self, name)
        return None if item.content is None else item.content.decode("utf-8", "surrogateescape")


def _decides(place: str) -> bool:
    """Return whether who is an administrator may depend on a place."""
    return place in (PASSWD, SHADOW, GROUP) or "sudoers" in place
