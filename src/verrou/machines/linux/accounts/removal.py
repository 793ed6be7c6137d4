"""An account removed: its lines, its home and its other files."""

from itertools import islice

from attrs import define

from verrou.core.model import counted, size_text
from verrou.core.steps.step import (
    FilesChoice,
    Remove,
)
from verrou.machines.changes import FileChange
from verrou.machines.folder_operations import ArchiveHome, HandOver, TakeHome
from verrou.machines.linux.accounts.background_jobs import processes_by_number
from verrou.machines.linux.accounts.edit import AccountFilesEdit
from verrou.machines.linux.accounts.homes import Home, NoHome, everything_elsewhere, new_archive
from verrou.machines.linux.accounts.population import (
    numbers_of_people,
)
from verrou.machines.linux.entry.routes import sessions
from verrou.machines.linux.files.account_files import (
    PASSWD,
    AccountLine,
    PasswdField,
)
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root

MOST_HANDED = 5_000
"""How many files outside a home are handed over one by one."""


@define(repr=False)
class Removal(AccountFilesEdit):
    """The account files, with what removing an account changes."""

    def _remove(self, step: Remove) -> str:
        name = step.account
        record = self._record(PASSWD, name)
        uid = int(record.fields[PasswdField.UID])
        same_name = [str(r.line) for r in self.files[PASSWD].records() if r.name == name]
        if len(same_name) > 1:
            raise StepRejected(
                f"two accounts are called {name} ({PASSWD}, lines {', '.join(same_name)}). Repair that first."
            )
        first_root = next((r for r in self.files[PASSWD].records() if r.fields[PasswdField.UID] == "0"), None)
        if first_root is not None and first_root.name == name:
            raise StepRejected(f"{name} is built in and cannot be removed. It can be disabled")
        if uid not in numbers_of_people(self.numbers.defs) and uid != 0:
            raise StepRejected(f"{name} belongs to the system or to a package; remove the package instead")
        if uid and (busy := _at_work(self.root, name, uid)):
            raise StepRejected(f"{name} {busy}; end that first")
        message = self._part_with_home(step, record, uid)
        message = "; ".join(filter(None, (message, self._hand_over_elsewhere(step, record, uid))))
        self._take_out(record)
        self.ends.pop(name, None)
        if "/" not in name and self._tally(name) is not None:
            self.tallies.append(f"{load_faillock(self.root).tallies}/{name}")
        return message

    def _to_next_owner(self, place: str, record: AccountLine, to: str, *, below: bool) -> HandOver:
        taker = self._record(PASSWD, to)
        (uid, gid), (to_uid, to_gid) = _owner(record), _owner(taker)
        return HandOver(place, uid, gid, to_uid, to_gid, below)

    def _hand_over_elsewhere(self, step: Remove, record: AccountLine, uid: int) -> str:
        """Plan the change of owner of everything the account has outside its home."""
        if step.choice is not FilesChoice.HAND_OVER or uid == 0:
            return ""
        places = list(islice(everything_elsewhere(self.root, uid, record.fields[PasswdField.HOME]), MOST_HANDED + 1))
        if len(places) > MOST_HANDED:
            raise StepRejected(
                f"{step.account} has more than {MOST_HANDED} files outside its home; hand them over yourself"
            )
        self.homes += [self._to_next_owner(place, record, step.to, below=False) for place in sorted(places)]
        return f"{counted(len(places), 'file')} elsewhere too" if places else ""

    def _part_with_home(self, step: Remove, record: AccountLine, uid: int) -> str:
        """Plan what happens to the home; a folder that is not the account's own is left alone, and reported."""
        name, folder = record.name, record.fields[PasswdField.HOME]
        made = [
            operation for operation in self.homes if not isinstance(operation, FileChange) and operation.place == folder
        ]
        if made:  # made by a step before this one: it need not be made at all
            self.homes = [operation for operation in self.homes if operation not in made]
            return "it had no home"
        home = Home(self.root, folder, uid)
        if not folder or not home.there():
            return "it had no home"
        others = {
            r.fields[PasswdField.HOME]: r.name
            for r in self.files[PASSWD].records()
            if r.name != name and r.fields[PasswdField.HOME]
        }
        try:
            home.check(others)
        except NoHome as reason:
            if home.is_empty_and_roots():
                self.homes.append(TakeHome(home.inside(), 0))
                return ""
            if step.choice in (FilesChoice.KEEP, FilesChoice.HAND_OVER):
                return f"{reason}, so it is left alone"
            raise StepRejected(f"{reason}. Use --files keep to remove the account alone") from None
        except OSError as error:
            raise StepRejected(f"{folder} cannot be looked through ({error.strerror}). Repair that first.") from None
        count, size = home.files()
        held = f"{counted(count, 'file')}, {size_text(size)}"
        if step.choice is FilesChoice.HAND_OVER:
            given = self._to_next_owner(home.inside(), record, step.to, below=True)
            if any(owner == given.to_uid for owner in home.owners()):
                raise StepRejected(
                    f"{step.to} already has files in {folder}, which could not be distinguished from the new ones"
                )
            self.homes.append(given)
            return f"{held} in {folder} belong to {step.to} then"
        if step.choice is FilesChoice.KEEP:
            self.homes.append(home.closed())
            return f"{held} stay in {folder}, for root alone"
        if step.choice is FilesChoice.DELETE:
            self.homes.append(TakeHome(home.inside(), uid))
            return f"{held} deleted"
        archive = new_archive(self.root, name)
        self.homes += [ArchiveHome(home.inside(), uid, archive), TakeHome(home.inside(), uid, archive)]
        return f"{held} are in {archive}"


def _at_work(root: Root, name: str, uid: int) -> str:
    """Return why an account cannot be removed right now; empty where it can."""
    if inside := sessions(root, {uid: name}).get(name):
        return f"is signed in ({', '.join(inside.sessions)})"
    running = processes_by_number(root).get(uid, 0)
    return f"runs {counted(running, 'process')}" if running else ""


def _owner(record: AccountLine) -> tuple[int, int]:
    """Return an account's number and its group's."""
    return int(record.fields[PasswdField.UID]), int(record.fields[PasswdField.GID])
