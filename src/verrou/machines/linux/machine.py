"""A real Linux system, live or mounted at a folder."""

# Imports within functions: for a quick start of what only looks.

import os
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from attrs import evolve

from verrou.core.errors import BadInput
from verrou.core.model import Account, Detail, Files, Flag, MachineFacts, Snapshot, Unread, name_list
from verrou.machines.changes import Change, ChangeSet, PlaceState, Stamps
from verrou.machines.linux import rules
from verrou.machines.linux.accounts.outside import outside_accounts
from verrou.machines.linux.accounts.population import NAMING, AccountFiles, free_name, population
from verrou.machines.linux.copy.requests import A, Asker, Request
from verrou.machines.linux.elevation.asked import ElevationAsked
from verrou.machines.linux.entry.at_work import at_work
from verrou.machines.linux.entry.routes import NAMESPACE
from verrou.machines.linux.files.access_file import ACCESS
from verrou.machines.linux.files.account_files import SHADOW, PasswdField
from verrou.machines.linux.files.sudoers import SUDOERS
from verrou.machines.linux.kind import LINUX
from verrou.machines.linux.packages import to_install
from verrou.machines.linux.pam.admission import with_admissions
from verrou.machines.linux.pam.faillock import load_faillock, lockouts, module_installed
from verrou.machines.linux.pam.quality import DICTIONARY, dictionary_missing
from verrou.machines.linux.pam.services import doors_without_proof
from verrou.machines.linux.pam.stack import UPDATER
from verrou.machines.linux.root import Root, host_name
from verrou.machines.linux.rules.password import ages_of_new_accounts
from verrou.machines.protocol import Asking, Copy, DryRunUnavailable, Visitor, tests_on_copy

if TYPE_CHECKING:
    from verrou.core.testing.attempts import Attempt
    from verrou.machines.linux.apply.applier import Applier
    from verrou.machines.linux.copy.private_copy import PrivateCopy

ASK_SYSTEM = "--ask-system"
"""The option with which a disk that is only looked at is asked."""
ASKED = "programs of this disk were asked, shut in: PAM, and sshd and sudo where they are; --files-only leaves that out"
GUEST_GROUPS = ("guests", "console-guests")
"""What a group that makes guests is called, where there is none: the first name that is free."""


class LinuxMachine:
    """One Linux system. ``path`` is ``/`` for the live one, which a ``visitor`` may use from another computer."""

    kind = LINUX.name
    recorded = None

    def __init__(self, path: Path, address: str, visitor: Visitor | None = None) -> None:
        self.path = path.resolve()
        self.address = address
        self.name = host_name(Root(self.path))
        self.visitor = visitor
        self.asking = Asking.USUAL
        self._read: tuple[str, ...] = ()
        self._late: set[str] = set()

    @property
    def changeable(self) -> "LinuxMachine":
        return self

    @property
    def testable(self) -> "LinuxMachine":
        return self

    @property
    def askable(self) -> "LinuxMachine":
        return self

    def observe(self, *, asked: bool = False) -> Snapshot:
        root = Root(self.path, lenient=os.geteuid() != 0, late=self._late)
        copies: list[PrivateCopy] = []
        with ExitStack() as until_all_is_known:
            # A disk of unknown origin is only asked on request.
            if self._can_ask(root) and (root.live or asked or self.asking is Asking.SYSTEM):
                root.asker = self._asker(copies, until_all_is_known)
            snapshot = self._snapshot(root)
        self._read = tuple(root.stamps)
        message = ASKED if copies and not root.live else ""
        return evolve(snapshot, machine=evolve(snapshot.machine, asked=message)) if message else snapshot

    def _can_ask(self, root: Root) -> bool:
        """Return whether the system could be asked at all, and may be."""
        return os.geteuid() == 0 and self.asking is not Asking.FILES_ONLY and root.could_run

    def _asker(self, copies: "list[PrivateCopy]", until: ExitStack) -> Asker:
        """Give the root an asker: questions go to one private copy, made at the first question and kept in
        ``copies``."""
        refused: list[DryRunUnavailable] = []

        def ask(request: Request[A]) -> A:
            from verrou.machines.linux.copy.private_copy import private_copy

            if refused:
                raise refused[0]
            try:
                if not copies:
                    copies.append(until.enter_context(private_copy(Root(self.path))))
            except DryRunUnavailable as reason:
                refused.append(reason)
                raise
            return copies[0].ask(request)

        return ask

    def _snapshot(self, root: Root) -> Snapshot:
        now = datetime.now().replace(microsecond=0)
        files = AccountFiles.load(root)
        if files.shadow is None and SHADOW not in root.denied:
            raise BadInput(f"{SHADOW} is missing from {self.path}; run pwconv there first")
        faillock = load_faillock(root)
        people = population(root, files, now, lockouts(root, faillock, now))
        elevation_known = False
        if root.asker is not None and (people.sudoers.installed or people.doas.program):
            asked = ElevationAsked(root, people)
            people.accounts = asked.accounts()
            people.warnings += asked.differences
            elevation_known = asked.all_known
        people.accounts += tuple(outside_accounts(root, {account.name for account in people.accounts}))
        system = rules.System(
            root, files, people.accounts, people.entry_points, people.groups, people.sudoers, now, people.doas
        )
        people.warnings += [
            f"{line.source}: anyone can sign in through {service.name} without a password"
            for service, line in doors_without_proof(root)
        ]
        if dictionary_missing(root):
            people.warnings.append(
                f"{DICTIONARY} is missing, so every new password is rejected; "
                + to_install(root, "the dictionaries of cracklib")
            )
        if root.denied:
            hidden = name_list(list(root.denied))
            people.warnings.append(f"{hidden} cannot be read by this account: run as root to see everything")
        confines, freshens = module_installed(root, ACCESS), module_installed(root, NAMESPACE)
        in_use, came_by = _at_work(root, files)
        facts = MachineFacts(
            self.name,
            self.kind,
            _system_name(root),
            self.address,
            now,
            NAMING,
            in_use,
            came_by,
            details=(Detail.FULL_NAME, Detail.NOTE, Detail.SHELL, Detail.HOME),
            full_rights="root",
            excluding=((Flag.CHANGE_DUE, Flag.CANNOT_CHANGE),),
            guest_group=free_name((g.name for g in people.groups), *GUEST_GROUPS) if confines else "",
            temporary_homes=freshens and root.exists(UPDATER),
            ages_given=ages_of_new_accounts(root),
            disabling_clears_blank=True,
            no_sign_ins=people.seen.untrusted,
            sign_ins_since=people.seen.since,
            admin_ageing_exempt=True,
            unread=_unread(root, elevation_known or not (people.sudoers.unknown or people.doas.unknown)),
            lists_disabled=True,
            identity=_identity(root),
            asks_with=ASK_SYSTEM if root.asker is None and self._can_ask(root) else "",
        )
        snapshot = Snapshot(
            facts,
            people.accounts,
            people.groups,
            rules.readings(system),
            tuple(people.warnings),
            people.entry_points,
            rules.accepted_values(system),
        )
        return with_admissions(snapshot, root, files)

    def files_of(self, account: Account, everywhere: bool) -> Files:
        from verrou.machines.linux.accounts.homes import files_of

        uid = int(account.identity)
        if uid == 0:
            # What belongs to root is the system itself, and within the reach of every administrator.
            return Files(looked_everywhere=everywhere)
        return files_of(Root(self.path), account.name, uid, account.home, everywhere=everywhere)

    @contextmanager
    def dry_run(self) -> "Iterator[Copy]":
        from verrou.machines.linux.copy.copied_machine import LinuxCopy
        from verrou.machines.linux.copy.private_copy import private_copy

        root = Root(self.path)
        names = self._read or tuple(self._look_at(root).stamps)
        stamps = {name: root.stamp(name) for name in names}
        with private_copy(root) as copy:
            copy.root.late = self._late
            if not self._can_ask(root):
                copy.root.asker = None
            yield LinuxCopy(root, copy, stamps, self._snapshot, self.visitor)

    def tests(self) -> "AbstractContextManager[Attempt]":
        return tests_on_copy(self)

    def _look_at(self, root: Root) -> Root:
        self._snapshot(root)
        return root

    def moved(self, stamps: Stamps) -> Sequence[str]:
        root = Root(self.path)
        return [name for name, stamp in stamps.items() if root.stamp(name) != stamp]

    def held(self) -> AbstractContextManager[None]:
        from verrou.machines.linux.apply.file_locks import account_files_locked

        return account_files_locked(Root(self.path))

    @property
    def _applying(self) -> "Applier":
        from verrou.machines.linux.apply.applier import Applier

        return Applier(Root(self.path))

    def stands(self, change: Change, entry: int) -> PlaceState:
        return self._applying.stands(change, entry)

    def apply(self, change: Change, entry: int) -> None:
        self._applying.apply(change, entry)

    def clean_up(self, changes: ChangeSet, entry: int, *, staged_only: bool = False) -> None:
        self._applying.clean_up(changes, entry, staged_only=staged_only)

    def notify(self, line: str, places: Sequence[str]) -> None:
        if (root := Root(self.path)).live:
            from verrou.machines.linux.apply.live_system import notify

            notify(root, line, places)

    def records_folder(self) -> Path:
        from verrou.machines.linux.apply.applier import RECORDS

        return Root(self.path).place(RECORDS)


def _unread(root: Root, elevation_known: bool) -> tuple[Unread, ...]:
    """Return what is not known: for want of rights, or because a line says that it is not understood."""
    found = [Unread.PASSWORDS] if SHADOW in root.denied else []
    elevation = not elevation_known or any(name == SUDOERS or name.startswith(f"{SUDOERS}.d") for name in root.denied)
    return (*found, Unread.ADMINISTRATION) if elevation else tuple(found)


def _system_name(root: Root) -> str:
    for line in root.lines("/etc/os-release"):
        key, _, value = line.partition("=")
        if key == "PRETTY_NAME":
            return value.strip().strip("\"'")
    return "Linux"


def _identity(root: Root) -> str:
    """Return the system's identity, hashed as machine-id(5) asks, so that it reveals nothing else.

    Empty before the first start, and where it has none."""
    import hmac

    given = "".join(root.lines("/etc/machine-id")[:1]).strip().lower()
    if len(given) != 32 or not set(given) <= set("0123456789abcdef"):
        return ""
    return hmac.new(bytes.fromhex(given), b"verrou", "sha256").hexdigest()[:32]


def _at_work(root: Root, files: AccountFiles) -> tuple[str, str]:
    """Return the account that the person at work signed in with, behind sudo(8) the one before it, and their route.

    On the live system alone."""
    if not root.live:
        return "", ""
    found = at_work()
    if found.uid is not None:
        for record in files.passwd.records():
            if int(record.fields[PasswdField.UID]) == found.uid:
                return record.name, found.route
    return os.environ.get("SUDO_USER") or os.environ.get("LOGNAME", ""), found.route
