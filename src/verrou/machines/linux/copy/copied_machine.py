"""A Linux system's private copy: changed by steps, restored, observed and tested; and its change set."""

import errno
import os
import secrets as random_source
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from itertools import groupby
from pathlib import Path
from typing import assert_never

from attrs import define, field

from verrou.core.model import Grant, Role, Snapshot
from verrou.core.model.access import usable_administrator, usable_administrators
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
from verrou.core.testing.passwords import Policy, make_password
from verrou.core.testing.trials import CannotTry, TrialAccount
from verrou.core.values import GROUP as GROUP_SIGN
from verrou.machines.changes import (
    NOTHING,
    Change,
    ChangeSet,
    FileChange,
    FileState,
    Outcome,
    PlaceState,
    RestoreResult,
    Secrets,
    Stamps,
    StepResult,
)
from verrou.machines.folder_operations import (
    ArchiveHome,
    BringHome,
    DropArchive,
    FolderOperation,
    HandOver,
    MakeHome,
    TakeHome,
    UnmakeHome,
)
from verrou.machines.linux.accounts import guests
from verrou.machines.linux.accounts.homes import FOLDER_FLAGS, new_archive
from verrou.machines.linux.accounts.new_homes import HOMES, is_as_made
from verrou.machines.linux.accounts.population import AccountFiles
from verrou.machines.linux.accounts.steps import AccountEdit, hashes_for, today_in_days
from verrou.machines.linux.apply.applier import COPIED, Applier, copied_name, leaving_name
from verrou.machines.linux.apply.archives import is_whole
from verrou.machines.linux.apply.order import GIVING, STACK, TAKING, ordered
from verrou.machines.linux.copy.merging import merger_for
from verrou.machines.linux.copy.private_copy import PrivateCopy
from verrou.machines.linux.copy.requests import A, LoadLibrary, Request, TryAccount
from verrou.machines.linux.copy.test_account import TrialOnLinux
from verrou.machines.linux.files.access_file import let_in_everywhere
from verrou.machines.linux.files.account_files import GROUP, PASSWD, SHADOW, AccountFile, PasswdField
from verrou.machines.linux.files.sshd import sshd_setting
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.pam.profiles import update_stack
from verrou.machines.linux.pam.services import behind
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import named_otherwise, set_rules
from verrou.machines.local_files import set_attributes, write_all
from verrou.machines.protocol import DryRunUnavailable

UPDATERS_OWN = ("/var/lib/pam/", f"{STACK}common-")
"""What the updater of the PAM stack writes: put together anew rather than merged."""
MEANS_NOTHING = ("-old", ".lock", "/.pwd.lock", "-")
"""Suffixes of files that do not change a machine's meaning: backups and locks."""
OF_THE_COPY = (errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.ENOMEM)
"""Errors of the memory that a copy is made in, which say nothing about the machine."""


@define
class LinuxCopy:
    """See :class:`verrou.machines.protocol.Copy`.

    ``machine_root`` is the system itself, only looked at from here; ``look`` observes a root."""

    machine_root: Root
    copy: PrivateCopy
    taken_of: Stamps
    look: Callable[[Root], Snapshot]
    _known: dict[str, FileState] = field(factory=dict, init=False)
    _phases: list[list[Change]] = field(factory=list, init=False)
    _at_home: list[Change] = field(factory=list, init=False)
    _tallies: set[str] = field(factory=set, init=False)
    _put_back: dict[str, FileState] = field(factory=dict, init=False)
    _restack: bool = field(default=False, init=False)
    _observed: Snapshot | None = field(default=None, init=False)

    @property
    def root(self) -> Root:
        """The tree of the copy."""
        return self.copy.root

    # Doing

    def do(self, steps: Sequence[Step], secrets: Secrets) -> list[StepResult]:
        """See :meth:`verrou.machines.protocol.Copy.do`. Account steps that follow one another are done in one go."""
        results: list[StepResult] = []
        self._observed = None
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

    # Looking

    def observe(self) -> Snapshot:
        """See :meth:`verrou.machines.protocol.Copy.observe`."""
        self.root.forget()
        return self.look(self.root)

    def stamps(self) -> Stamps:
        """See :meth:`verrou.machines.protocol.Copy.stamps`."""
        return self.taken_of

    # Result

    def _candidates(self) -> set[str]:
        """Return every place of the copy that was written to."""
        found: set[str] = set(self._tallies)
        for folder, upper in self.copy.uppers.items():
            self._candidates_in(folder, upper, found)
        return {place for place in found if not place.endswith(MEANS_NOTHING)}

    def _candidates_in(self, folder: str, upper: Path, found: set[str]) -> None:
        try:
            entries = list(os.scandir(upper))
        except OSError:
            return
        for entry in entries:
            place = f"{folder}/{entry.name}"
            found.add(place)
            if entry.is_dir(follow_symlinks=False):
                self._candidates_in(place, Path(entry.path), found)
                if _is_opaque(entry.path):
                    self._below(place, found)
            elif not entry.is_file(follow_symlinks=False):
                self._below(place, found)

    def _below(self, place: str, found: set[str]) -> None:
        """Add what the machine has below a folder that was removed or created anew in the copy."""
        for name in self.machine_root.names_in(place):
            inner = f"{place}/{name}"
            if inner not in found:
                found.add(inner)
                self._below(inner, found)

    def _item_before(self, place: str) -> FileState:
        if place not in self._known:
            self._known[place] = self.machine_root.item(place)
        return self._known[place]

    def _item_after(self, place: str) -> FileState:
        """Return the state of a place of the copy.

        No step changes the attributes of an existing file, and the memory of the copy may not store all of them: they
        are the machine's own, or the restored ones."""
        item, before = self.root.item(place), self._item_before(place)
        meant = self._put_back.get(place, before)
        same_kind = meant.there and item.there and meant.folder is item.folder and not item.link
        return item._replace(attributes=meant.attributes) if same_kind else item

    def _file_states(self) -> dict[str, FileState]:
        return {place: self.root.item(place) for place in self._candidates()}

    def _restore(self, before: Mapping[str, FileState]) -> None:
        """Restore the copy to its state before a rejected step."""
        for place in sorted(self._candidates() | set(before), key=lambda name: -name.count("/")):
            was = before[place] if place in before else self._item_before(place)
            if self.root.item(place) != was:
                self._write(place, was)
        self.root.forget()

    def _write(self, place: str, item: FileState) -> None:
        """Write ``item`` to a place of the copy."""
        now = self.root.item(place)
        if item.there:
            self.root.make_folders(place.rpartition("/")[0])
        elif not now.there:
            return
        folder, last = self.root.open_folder_of(place)
        try:
            if not item.there or now.folder is not item.folder or now.link:
                if now.folder:
                    os.rmdir(last, dir_fd=folder)
                elif now.there:
                    os.unlink(last, dir_fd=folder)
            if item.link:
                os.symlink(item.link, last, dir_fd=folder)
                os.chown(last, item.uid, item.gid, dir_fd=folder, follow_symlinks=False)
            elif item.there:
                _put(folder, last, item)
        finally:
            os.close(folder)
        self.root.forget()

    def mark(self) -> None:
        """See :meth:`verrou.machines.protocol.Copy.mark`."""
        self._phases.append(self._done_since())

    def _done_since(self) -> list[Change]:
        changes: list[Change] = []
        for place in sorted(self._candidates()):
            before, after = self._item_before(place), self._item_after(place)
            if before != after:
                changes.append(FileChange(place, before, after))
                self._known[place] = after
        changes += self._at_home
        self._at_home = []
        return changes

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

    # Going back

    def restore(self, change: Change, later: Mapping[str, int]) -> RestoreResult:
        """See :meth:`verrou.machines.protocol.Copy.restore`."""
        if not isinstance(change, FileChange):
            return self._restore_operation(change)
        place, before, after = change
        if not self._is_copied(place):
            return self._put_back_at_home(change)
        now = self.root.item(place)
        if now == before:
            return RestoreResult(place, Outcome.UNCHANGED)
        if now == after:
            return self._written(place, before, "")
        named = f"entry {later[place]} of this journal" if place in later else "another program"
        if place.startswith(UPDATERS_OWN):
            self._restack = True
            return RestoreResult(place, Outcome.UNDONE, f"{named} wrote to it since; the system puts it together anew")
        if None in (now.content, before.content, after.content):
            return RestoreResult(place, Outcome.REJECTED, f"{named} wrote to it since; left as it is")
        assert now.content is not None and before.content is not None and after.content is not None
        content, kept = merger_for(place)(before.content, after.content, now.content)
        merged = FileState(
            content,
            before.mode if now.mode == after.mode else now.mode,
            before.uid if now.uid == after.uid else now.uid,
            before.gid if now.gid == after.gid else now.gid,
            attributes=before.attributes if now.attributes == after.attributes else now.attributes,
        )
        left = f"; left as they are: {', '.join(kept)}" if kept else ""
        if merged == now:
            outcome = Outcome.REJECTED if kept else Outcome.UNCHANGED
            return RestoreResult(place, outcome, f"{named} wrote to it since{left}" if kept else "")
        return self._written(place, merged, f"{named} wrote to it since; only Verrou's own change is undone{left}")

    def go_on(self, change: Change, stands: PlaceState) -> RestoreResult:
        """See :meth:`verrou.machines.protocol.Copy.go_on`."""
        if isinstance(change, FileChange) and stands is not PlaceState.BEFORE:
            return self.restore(change.backwards(), {})
        if isinstance(change, FileChange) and self._is_copied(change.place):
            return self._written(change.place, change.after, "")
        self._at_home.append(change)
        return RestoreResult(change.place, Outcome.DONE)

    def _written(self, place: str, item: FileState, message: str) -> RestoreResult:
        now = self.root.item(place)
        try:
            if place.startswith(f"{load_faillock(self.root).tallies}/"):
                self._tallies.add(place)
            self._write(place, item)
            self._put_back[place] = item
        except OSError as error:
            # A partly written place must never be applied: the whole copy is discarded.
            if error.errno in OF_THE_COPY or self.root.item(place) != now:
                raise DryRunUnavailable(f"{place} could not be written on the copy: {error.strerror}") from None
            return RestoreResult(place, Outcome.REJECTED, f"{error.strerror}; left as it is")
        return RestoreResult(place, Outcome.UNDONE, message)

    def _is_copied(self, place: str) -> bool:
        folders = (*self.copy.uppers, load_faillock(self.root).tallies)
        return any(place.startswith(f"{folder}/") for folder in folders)

    def _put_back_at_home(self, change: FileChange) -> RestoreResult:
        """Restore a folder where the copy only shows the machine: a home, or one above it."""
        now = self.machine_root.item(change.place)
        if now == change.before:
            return RestoreResult(change.place, Outcome.UNCHANGED)
        if now != change.after:
            return RestoreResult(change.place, Outcome.REJECTED, "it was changed since; left as it is")
        self._at_home.append(FileChange(change.place, now, change.before))
        return RestoreResult(change.place, Outcome.UNDONE)

    def _restore_operation(self, operation: FolderOperation) -> RestoreResult:
        place, there = operation.place, self.machine_root.item(operation.place).there
        match operation:
            case MakeHome() if coming := self._coming(place):
                # Its owner is not restored either: the file would belong to no one.
                self._at_home.remove(coming)
                kept = coming.archive if isinstance(coming, BringHome) else ""
                return RestoreResult(place, Outcome.UNDONE, f"its files stay in {kept}" if kept else "")
            case MakeHome(uid=uid, gid=gid, mode=mode, kept=lasting) if there:
                if is_as_made(self.machine_root, operation):
                    self._at_home.append(UnmakeHome(place, uid, gid, mode, lasting))
                    return RestoreResult(place, Outcome.UNDONE)
                now = self.machine_root.item(place)
                self._at_home.append(FileChange(place, now, now._replace(mode=0o700, uid=0, gid=0, attributes=())))
                return RestoreResult(place, Outcome.UNDONE, "it was used since, so its files stay, for root alone")
            case UnmakeHome(uid=uid, gid=gid, mode=mode, kept=lasting) if not there:
                self._at_home.append(MakeHome(place, uid, gid, mode, lasting))
                return RestoreResult(place, Outcome.UNDONE)
            case TakeHome():
                return self._restore_home(operation, there)
            case BringHome() if there:
                archive = ""
                if operation.archive:
                    name = operation.archive.rpartition("/")[2].rpartition("-")[0].rpartition("-")[0]
                    archive = new_archive(self.machine_root, name)
                    self._at_home.append(ArchiveHome(place, operation.uid, archive))
                self._at_home.append(TakeHome(place, operation.uid, archive))
                return RestoreResult(place, Outcome.UNDONE)
            case HandOver():
                return self._hand_back(operation)
            case ArchiveHome(archive=archive) if there and not operation.finished and not self._aside(operation):
                if not self.machine_root.item(archive).there:
                    return RestoreResult(archive, Outcome.UNCHANGED)
                self._at_home.append(DropArchive(place, operation.uid, archive))
                return RestoreResult(archive, Outcome.UNDONE)
            case MakeHome() | UnmakeHome() | BringHome() | ArchiveHome() | DropArchive():
                return RestoreResult(place, Outcome.UNCHANGED)
        assert_never(operation)

    def _coming(self, place: str) -> MakeHome | BringHome | None:
        """Return a home that the same undo was about to restore."""
        coming = (each for each in self._at_home if isinstance(each, MakeHome | BringHome))
        return next((operation for operation in coming if operation.place == place), None)

    def _hand_back(self, operation: HandOver) -> RestoreResult:
        """Return what was handed over, also where that was interrupted half-way."""
        owners = Applier(self.machine_root).owners(operation)
        if not owners:
            return RestoreResult(operation.place, Outcome.REJECTED, "it is gone")
        if operation.to_uid not in owners:
            ours = operation.uid in owners
            message = "" if ours else "it has another owner since; left as it is"
            return RestoreResult(operation.place, Outcome.UNCHANGED if ours else Outcome.REJECTED, message)
        self._at_home.append(operation.backwards())
        since = "includes files its new owner added since" if operation.below and operation.finished else ""
        return RestoreResult(operation.place, Outcome.UNDONE, since)

    def _aside(self, operation: FolderOperation) -> str:
        """Return the name of a home that an interrupted entry moved aside; empty where there is none.

        What a finished one left is about to be deleted, so no undo may rest on it."""
        if operation.finished:
            return ""
        folder, _, last = operation.place.rpartition("/")
        names = (leaving_name(last, operation.entry), copied_name(last, operation.entry))
        return next((name for name in names if self.machine_root.item(f"{folder}/{name}").there), "")

    def _restore_home(self, operation: TakeHome, there: bool) -> RestoreResult:
        aside, place, archive = self._aside(operation), operation.place, operation.archive
        half_deleted = aside.startswith(COPIED)
        if there and not half_deleted:
            if not operation.finished and not aside:
                return RestoreResult(place, Outcome.UNCHANGED)
            message = f"; unpack {archive} manually" if archive else ""
            return RestoreResult(place, Outcome.REJECTED, f"it was created again since; left as it is{message}")
        if not aside and operation.uid == 0 and not archive:
            self._at_home.append(MakeHome(place, 0, 0, 0o755, False))
            return RestoreResult(place, Outcome.UNDONE)
        if not aside and not archive:
            return RestoreResult(place, Outcome.REJECTED, "it was deleted for good")
        if not aside and not self._whole(archive):
            return RestoreResult(place, Outcome.REJECTED, f"{archive} is not what was written: its checksum differs")
        self._at_home.append(BringHome(place, operation.uid, archive, aside))
        return RestoreResult(place, Outcome.UNDONE, "" if aside else f"unpacked from {archive}, which stays")

    def _whole(self, archive: str) -> bool:
        shelf, _, name = archive.rpartition("/")
        try:
            folder = self.machine_root.open(shelf, FOLDER_FLAGS)
        except OSError:
            return False
        try:
            return is_whole(folder, name)
        finally:
            os.close(folder)

    def finish_restore(self) -> Sequence[str]:
        """See :meth:`verrou.machines.protocol.Copy.finish_restore`."""
        if not self._restack:
            return ()
        self._restack = False
        try:
            update_stack(self.root)
        except (StepRejected, DryRunUnavailable) as reason:
            return (f"the PAM stack could not be put together anew: {reason}",)
        return ("the system put its PAM stack together anew",)

    # Trying

    @contextmanager
    def attempt(self, policy: Policy, role: Role, let_in: bool) -> Iterator[TrialAccount]:
        """See :meth:`verrou.machines.protocol.Copy.attempt`."""
        self._ask(LoadLibrary())
        name = f"trial{random_source.token_hex(4)}"
        password = make_password(policy, name, random_source.SystemRandom())
        if let_in:
            let_in_everywhere(self.root, name)
        yield TrialOnLinux.made(self.root, self._ask, name, password, self._groups_for(role))

    def _groups_for(self, role: Role) -> Sequence[str]:
        """Return the group that grants the role; None for a standard user."""
        if role is Role.STANDARD:
            return ()
        required = Grant.ADMINISTRATION if role is Role.ADMINISTRATOR else Grant.GUEST_USE
        # Observed once for all attempts: none of them leaves anything behind.
        self._observed = self._observed or self.observe()
        group = self._observed.group_with(required)
        if group is None:
            raise CannotTry(f"this system has no group that makes an account {'an' if role[0] in 'a' else 'a'} {role}")
        return (str(group.name),)


@define
class _RootWith(Root):
    """A root with some places replaced."""

    instead: dict[str, FileState] = field(factory=dict, init=False)

    def text(self, name: str) -> str | None:
        item = self.instead.get(name)
        if item is None:
            return Root.text(self, name)
        return None if item.content is None else item.content.decode("utf-8", "surrogateescape")


def _put(folder: int, name: str, item: FileState) -> None:
    """Write a file or folder of the copy, with its attributes as far as the copy can store them."""
    if item.folder:
        with suppress(FileExistsError):
            os.mkdir(name, 0o700, dir_fd=folder)
        descriptor = os.open(name, FOLDER_FLAGS, dir_fd=folder)
    else:
        flags = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        descriptor = os.open(name, flags, 0o600, dir_fd=folder)
    try:
        write_all(descriptor, item.content or b"")
        set_attributes(descriptor, item, all_of_it=False)
    finally:
        os.close(descriptor)


def _decides(place: str) -> bool:
    """Return whether who is an administrator may depend on a place."""
    return place in (PASSWD, SHADOW, GROUP) or "sudoers" in place


def _is_opaque(path: str) -> bool:
    try:
        return os.getxattr(path, "trusted.overlay.opaque") == b"y"
    except OSError:
        return False
