"""A bench machine in its file."""

import json
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.model import Account, Files, Posture
from verrou.machines import BENCH_SUFFIX, MOST_NAMED, Memento, Outcome, PutBack, Secrets, StepResult
from verrou.machines.bench.authority import Authority, Damaged, No
from verrou.machines.bench.readings import posture_of

if TYPE_CHECKING:
    from verrou.core.steps import Step
    from verrou.core.trials import Rehearsal


class BenchMachine:
    """A bench machine in its file."""

    kind = "bench"

    def __init__(self, path: Path) -> None:
        self.path = path
        self.address = str(path)
        self.name = path.name.removesuffix(BENCH_SUFFIX)

    def _load(self) -> Authority:
        try:
            return Authority(self.path.read_text(encoding="utf-8"))
        except PermissionError:
            raise NotEnoughRights(f"{self.path}: not readable for this account; run as one that may") from None
        except (OSError, UnicodeDecodeError, Damaged) as damage:
            raise BadInput(f"{self.path}: this is no bench machine ({damage}); put back a copy of it") from None

    def observe(self) -> Posture:
        return posture_of(self._load(), self.address)

    def foresee(self, memento: Memento) -> Posture:
        if self.path.name not in memento:
            return self.observe()
        content = memento[self.path.name].content
        if content is None:
            raise BadInput(f"{self.path}: nothing stood there before")
        try:
            return posture_of(Authority(content.decode()), self.address)
        except (UnicodeDecodeError, Damaged) as damage:
            raise BadInput(f"what was kept of {self.path} is damaged ({damage})") from None

    def perform(self, steps: "Sequence[Step]", secrets: Secrets) -> Iterator[StepResult]:
        from verrou.core.steps import TrySignIn
        from verrou.machines.bench.steps import do_step

        for step in steps:
            authority = self._load()
            before = authority.text()
            try:
                said = do_step(authority, step, secrets)
            except No as no:
                yield StepResult(Outcome.REFUSED, str(no))
                continue
            if isinstance(step, TrySignIn):
                yield StepResult(Outcome.DONE, said)
                continue
            if authority.text() == before:
                yield StepResult(Outcome.ALREADY, said)
                continue
            try:
                authority.save(self.path)
            except OSError as error:
                raise MachineRefused(f"{self.path}: {error.strerror}; nothing was changed") from None
            yield StepResult(Outcome.DONE, said)

    def files_of(self, account: Account, everywhere: bool) -> Files:
        try:
            home, files = self._load().files(account.name)
        except No:
            return Files()
        inside = [f for f in files if home and f["place"].startswith(f"{home}/")]
        elsewhere = [f["place"] for f in files if f not in inside]
        size = sum(f["size"] for f in inside)
        return Files(home, len(inside), size, tuple(elsewhere[:MOST_NAMED]), len(elsewhere), looked_everywhere=True)

    @contextmanager
    def rehearse(self) -> "Iterator[Rehearsal]":
        """On a copy of the authority that is never saved."""
        from random import SystemRandom

        from verrou.core.passwords import make_password, policy_of
        from verrou.machines.bench.steps import BenchRehearsal

        authority = self._load()
        policy = policy_of(posture_of(authority, self.address))
        name = f"trial-{SystemRandom().getrandbits(32):08x}"
        password = make_password(policy, name, SystemRandom())
        authority.add(name, "", password, must_change=False)
        yield BenchRehearsal(authority, name, password)

    def remember(self, steps: "Sequence[Step]") -> Memento:
        from verrou.machines.local_files import item_at

        return {self.path.name: item_at(self.path)}

    def put_back(self, before: Memento, after: Memento | None) -> Iterator[PutBack]:
        from verrou.machines.local_files import put_back

        return put_back(lambda name: self.path.with_name(name), before, after, lambda _: merge_bench)

    def records_folder(self) -> Path:
        return self.path.with_name(f"{self.name}.verrou")


TABLES = {"accounts": "id", "groups": "id", "disk": "place", "archives": "place"}
"""The lists of a bench machine, each with what tells its items apart."""


def merge_bench(before: bytes, after: bytes, now: bytes) -> tuple[bytes, list[str]]:
    """Undo our change in a file that somebody else changed too: each account, group and policy number by itself."""
    was, ours, theirs = (_items(json.loads(text)) for text in (before, after, now))
    kept = []
    merged = dict(theirs)
    for name in was.keys() | ours.keys():
        if was.get(name) == ours.get(name):
            continue
        if theirs.get(name) != ours.get(name):
            kept.append(" ".join(map(str, name)))
        elif name in was:
            merged[name] = was[name]
        else:
            del merged[name]
    document = json.loads(now)
    for table in TABLES:
        document[table] = [value for (kind, _), value in merged.items() if kind == table]
    document["policy"] = {key: value for (kind, key), value in merged.items() if kind == "policy"}
    return (json.dumps(document, indent=1, ensure_ascii=False) + "\n").encode(), sorted(kept)


def _items(document: dict[str, Any]) -> dict[tuple[str, object], Any]:
    items: dict[tuple[str, object], Any] = {}
    for table, key in TABLES.items():
        items |= {(table, thing[key]): thing for thing in document.get(table, [])}
    return items | {("policy", key): value for key, value in document["policy"].items()}
