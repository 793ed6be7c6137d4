"""The account files as they will be, in memory until they are written."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path

from attrs import define, field

from verrou.core.model import Role
from verrou.machines.changes import Change
from verrou.machines.linux.accounts.id_allocation import Numbers
from verrou.machines.linux.accounts.population import (
    login_defs,
)
from verrou.machines.linux.files.access_file import confined_groups
from verrou.machines.linux.files.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    SUBGID,
    SUBUID,
    AccountFile,
    AccountLine,
    GroupField,
    PasswdField,
    members_of,
)
from verrou.machines.linux.files.closed_accounts import ENDS_KEPT, ends_kept, with_end_kept
from verrou.machines.linux.files.sudoers import Sudoers
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root


@define(repr=False)
class AccountFilesEdit:
    """The account files as they will be; nothing is written before :meth:`write`.

    ``pending`` are the homes that earlier steps create, ``homes`` the operations of these steps on homes, done on the
    machine itself and never on a copy. ``jobs`` are files of background jobs with their new names; an empty name
    removes one."""

    root: Root
    today_days: int
    hashes: Mapping[str, str] = field(factory=dict)
    files: dict[str, AccountFile] = field(factory=dict, init=False)
    pending: Sequence[Change] = ()
    homes: list[Change] = field(factory=list, init=False)
    tallies: list[str] = field(factory=list, init=False)
    jobs: dict[str, str] = field(factory=dict, init=False)
    ends: dict[str, str] = field(factory=dict, init=False)
    numbers: Numbers = field(init=False)
    _sudoers_read: Sudoers | None = field(default=None, init=False)

    def __attrs_post_init__(self) -> None:
        for name in (PASSWD, SHADOW, GROUP, GSHADOW, SUBUID, SUBGID):
            text = self.root.text(name)
            if text is not None:
                self.files[name] = AccountFile.parse(name, text)
        self.numbers = Numbers(self.files, login_defs(self.root))
        self.ends = dict(ends_kept(self.root))

    def write(self) -> None:
        """Write each changed file of the copy, and remove the tallies of accounts that are unlocked or removed."""
        for name, file in self.files.items():
            text = file.text()
            if text != self.root.text(name):
                self.root.write(name, text)
        if self.ends != ends_kept(self.root):
            self.root.write(ENDS_KEPT, with_end_kept(self.ends), mode=0o600)
        for tally in self.tallies:
            self.root.remove(tally)
        for place, new_place in self.jobs.items():
            if new_place:
                self.root.rename(place, new_place)
            else:
                self.root.remove(place)

    def _record(self, file: str, name: str) -> AccountLine:
        record = self.files[file].find(name) if file in self.files else None
        if record is None:
            raise StepRejected(f"{name} is not in {file}")
        return record

    def _tally(self, name: str) -> Path | None:
        place = self.root.place(f"{load_faillock(self.root).tallies}/{name}")
        return place if place.is_file() else None

    def _sudoers(self) -> Sudoers:
        """Return the sudoers, read once: no step of an edit writes to them."""
        if self._sudoers_read is None:
            self._sudoers_read = Sudoers.load(self.root)
        return self._sudoers_read

    def _group_for(self, role: Role) -> str | None:
        """Return the group that gives an account a role."""
        if role is Role.STANDARD:
            return None
        if role is Role.GUEST:
            makers = list(confined_groups(self.root, {record.name for record in self.files[GROUP].records()}))
            missing = "no group here is restricted to the console, so there is none for guests"
        else:
            groups = [(record.name, int(record.fields[GroupField.GID])) for record in self.files[GROUP].records()]
            makes = self._sudoers().makes_administrators
            makers = [group for group, gid in groups if makes(group, gid, datetime.now())]
            missing = "no group here makes an administrator; install the package sudo"
        found = next((group for group in makers if self.files[GROUP].find(group)), None)
        if found is None:
            raise StepRejected(missing)
        return found

    def _take_out(self, record: AccountLine) -> None:
        """Remove an account from every file, with its own group where no one else is in it."""
        self.numbers.forget()
        name, gid = record.name, record.fields[PasswdField.GID]
        self.files[PASSWD].remove(record)
        for file in (SHADOW, SUBUID, SUBGID):
            while file in self.files and (there := self.files[file].find(name)):
                self.files[file].remove(there)
        self._rename_in_groups(name, "")
        own = self.files[GROUP].find(name)
        used = any(r.fields[PasswdField.GID] == gid for r in self.files[PASSWD].records())
        if (
            own is not None
            and own.fields[GroupField.GID] == gid
            and not members_of(own.fields[GroupField.MEMBERS])
            and not used
        ):
            self._drop_group(name)

    def _drop_group(self, name: str) -> None:
        for file in (GROUP, GSHADOW):
            if file in self.files and (there := self.files[file].find(name)):
                self.files[file].remove(there)
        self.numbers.forget()

    def _rename_in_groups(self, name: str, new_name: str) -> None:
        """Rename an account wherever a group lists it; ``""`` removes it."""
        for file, lists in ((GROUP, (3,)), (GSHADOW, (2, 3))):
            for record in list(self.files[file].records()) if file in self.files else []:
                fields = list(record.fields)
                for position in lists:
                    names = members_of(fields[position])
                    if name in names:
                        fields[position] = ",".join(filter(None, (new_name if n == name else n for n in names)))
                if tuple(fields) != record.fields:
                    self.files[file].replace(record, fields)
