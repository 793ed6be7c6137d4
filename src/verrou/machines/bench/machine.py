"""A bench machine in its file."""

# Imports within functions: for a quick start of what only looks.

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.model import Account, AccountName, Files, Role, Snapshot
from verrou.machines.bench.authority import Authority, Damaged, No
from verrou.machines.bench.kind import BENCH
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.changes import (
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
from verrou.machines.local_files import ordinary_text
from verrou.machines.protocol import MOST_NAMED, Lacks, tests_on_copy

if TYPE_CHECKING:
    from verrou.core.steps.step import Step
    from verrou.core.testing.attempts import Attempt, TrialAccount
    from verrou.core.testing.passwords import Policy
    from verrou.machines.protocol import Visitor

STAGED = "staged"
MOST_OF_A_BENCH = 100_000_000
"""Bytes of the largest file of a bench machine."""


class BenchMachine:
    """A bench machine, stored in its file."""

    kind = BENCH.name
    recorded = None
    visitor: "Visitor | None" = None
    askable = Lacks("its authority answers every question, with and without asking")

    def __init__(self, path: Path) -> None:
        self.path = path
        self.address = str(path)
        self.name = path.name.removesuffix(BENCH.suffix)

    @property
    def changeable(self) -> "BenchMachine":
        return self

    @property
    def testable(self) -> "BenchMachine":
        return self

    def tests(self) -> "AbstractContextManager[Attempt]":
        return tests_on_copy(self)

    def load(self) -> Authority:
        """Load its file. Raises: NotEnoughRights, BadInput: it cannot be read, or is not a bench machine's file."""
        try:
            return Authority(ordinary_text(self.path, MOST_OF_A_BENCH))
        except PermissionError:
            raise NotEnoughRights(f"{self.path}: this account cannot read it. Run as one that can.") from None
        except (OSError, UnicodeDecodeError, Damaged) as damage:
            raise BadInput(f"{self.path}: not a bench machine file: {damage}. Restore a copy of it.") from None

    def observe(self, *, asked: bool = False) -> Snapshot:
        return snapshot_of(self.load(), self.address)

    def files_of(self, account: Account, everywhere: bool) -> Files:
        try:
            home, files = self.load().files(account.name)
        except No:
            return Files()
        inside = [f for f in files if home and f["place"].startswith(f"{home}/")]
        elsewhere = [f["place"] for f in files if f not in inside]
        size = sum(f["size"] for f in inside)
        return Files(home, len(inside), size, tuple(elsewhere[:MOST_NAMED]), len(elsewhere), looked_everywhere=True)

    @contextmanager
    def dry_run(self) -> "Iterator[BenchCopy]":
        from verrou.machines.local_files import item_at

        stamps = self._stamps()
        authority = self.load()
        yield BenchCopy(authority, self.path.name, self.address, item_at(self.path), stamps)

    def _stamps(self) -> Stamps:
        try:
            now = os.stat(self.path)
        except OSError:
            return {self.path.name: None}
        return {self.path.name: (now.st_ino, now.st_size, now.st_mtime_ns, now.st_ctime_ns)}

    def moved(self, stamps: Stamps) -> Sequence[str]:
        return [name for name, stamp in self._stamps().items() if stamps.get(name) != stamp]

    def held(self) -> AbstractContextManager[None]:
        return nullcontext()

    def stands(self, change: Change, entry: int) -> PlaceState:
        from verrou.machines.local_files import item_at

        _, before, after = _of_the_file(change)
        now = item_at(self.path)
        if now.content == after.content:
            return PlaceState.AFTER
        return PlaceState.BEFORE if now.content == before.content else PlaceState.OTHER

    def apply(self, change: Change, entry: int) -> None:
        from verrou.machines.local_files import sync_folder, write_new

        staging = self.records_folder() / STAGED
        staging.mkdir(mode=0o700, exist_ok=True)
        staged = staging / f"{entry}"
        staged.unlink(missing_ok=True)
        write_new(staged, _of_the_file(change).after)
        os.rename(staged, self.path)
        sync_folder(self.path.parent)

    def clean_up(self, changes: ChangeSet, entry: int, *, staged_only: bool = False) -> None:
        staging = self.records_folder() / STAGED
        if staging.is_dir():
            for left in staging.iterdir():
                left.unlink()
            staging.rmdir()

    def notify(self, line: str, places: Sequence[str]) -> None:
        """Do nothing: a bench machine has no caches and no log."""

    def records_folder(self) -> Path:
        return self.path.with_name(f"{self.name}.verrou")


def _of_the_file(change: Change) -> FileChange:
    """Return a change of the one file that a bench machine is. Raises: MachineRefused: it is none."""
    if isinstance(change, FileChange):
        return change
    raise MachineRefused(f"the stored change set names {change.place!r}, and a bench machine has no folders")


class BenchCopy:
    """The authority in memory, never saved: see :class:`verrou.machines.protocol.Copy`."""

    def __init__(self, authority: Authority, file: str, address: str, before: FileState, stamps: Stamps) -> None:
        self.authority, self.file, self.address = authority, file, address
        self._before, self._stamps = before, stamps
        self._at_first = authority.text()
        self._as_it_was: bytes | None = None

    def do(self, steps: "Sequence[Step]", secrets: Secrets) -> list[StepResult]:
        return [self._do(step, secrets) for step in steps]

    def _do(self, step: "Step", secrets: Secrets) -> StepResult:
        from verrou.core.steps.step import TrySignIn
        from verrou.machines.bench.steps import do_step

        before = self.authority.compact()
        if isinstance(step, TrySignIn) and step.account not in secrets:
            return StepResult(Outcome.DONE, "to be tested with its password before anything is changed")
        try:
            message = do_step(self.authority, step, secrets)
        except No as no:
            self.authority = Authority(before)
            return StepResult(Outcome.REJECTED, str(no))
        done = isinstance(step, TrySignIn) or self.authority.compact() != before
        return StepResult(Outcome.DONE if done else Outcome.UNCHANGED, message)

    def arrival(self, changes: ChangeSet) -> None:
        """See :meth:`verrou.machines.protocol.Copy.arrival`: no cable leads to it."""
        return

    def restore(self, change: Change, later: Mapping[str, int]) -> RestoreResult:
        from verrou.machines.bench.merging import merge

        change = _of_the_file(change)
        before, after, now = change.before.content, change.after.content, self.authority.text().encode()
        if before is None or after is None:
            return RestoreResult(change.place, Outcome.REJECTED, "the file did not exist before; unchanged")
        was, ours = Authority(before.decode()), Authority(after.decode())
        if now == was.text().encode():
            return RestoreResult(change.place, Outcome.UNCHANGED)
        if now == ours.text().encode():
            self.authority, self._as_it_was = was, before
            return RestoreResult(change.place, Outcome.UNDONE)
        merged, kept = merge(before, after, now)
        named = f"entry {later[change.place]} of this journal" if change.place in later else "another program"
        left = f"; left as they are: {', '.join(kept)}" if kept else ""
        try:
            self.authority = Authority(merged.decode())
        except Damaged as damage:
            return RestoreResult(change.place, Outcome.REJECTED, f"{named} wrote to it since ({damage}); left as it is")
        if self.authority.text().encode() == now:
            outcome = Outcome.REJECTED if kept else Outcome.UNCHANGED
            return RestoreResult(change.place, outcome, f"{named} wrote to it since{left}" if kept else "")
        message = f"{named} wrote to it since; only Verrou's own change is undone{left}"
        return RestoreResult(change.place, Outcome.UNDONE, message)

    def go_on(self, change: Change, stands: PlaceState) -> RestoreResult:
        return self.restore(_of_the_file(change).backwards(), {})

    def finish_restore(self) -> Sequence[str]:
        return ()

    def mark(self) -> None:
        """Do nothing: one file is applied at once, so there is no order."""

    def observe(self) -> Snapshot:
        return snapshot_of(self.authority, self.address)

    def changes(self, before: Snapshot | None, after: Snapshot | None) -> tuple[ChangeSet, str]:
        text = self.authority.text()
        if (
            text == self._at_first
        ):  # as the authority itself writes it: the file that was read may have other white space
            return [], ""
        whole = self._as_it_was is not None and text == Authority(self._as_it_was.decode()).text()
        content = self._as_it_was if whole else text.encode()
        return [FileChange(self.file, self._before, self._before._replace(content=content))], ""

    def notices(self, changes: ChangeSet) -> Sequence[str]:
        return ()

    def obstacles(self, changes: ChangeSet) -> Sequence[str]:
        return ()

    def stamps(self) -> Stamps:
        return self._stamps

    @contextmanager
    def attempt(
        self, policy: "Policy", role: Role, let_in: bool, groups: Sequence[str] = ()
    ) -> "Iterator[TrialAccount]":
        from random import SystemRandom

        from verrou.core.steps.step import CreateAccount
        from verrou.core.testing.passwords import make_password
        from verrou.machines.bench.steps import do_step
        from verrou.machines.bench.test_account import TrialOnBench

        authority = Authority(self.authority.compact())
        name = f"trial-{SystemRandom().getrandbits(32):08x}"
        password = make_password(policy, name, SystemRandom())
        made = CreateAccount(AccountName(name), role, must_change=False)
        do_step(authority, made, Secrets({name: password}))
        for group in groups:
            authority.join(name, group)
        if let_in:
            authority.let_in(name)
        yield TrialOnBench(authority, name, password)
