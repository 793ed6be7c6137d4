"""Runs that are killed, or meet a full disk or an i/o error, at every one of their write-like calls, on a real root and
on a bench machine: each kind of change, and undo and resume of it. Prints how many points were tried and how many were
whole.

Run as root. Promised: 500 points and more, all whole: afterwards the tree is byte for byte one of the two (attributes
too), the system's own tools find nothing wrong, an account can be added, and the journal is whole. ``--every N`` tries
every n-th call of a full or a broken disk (every call of a kill is tried whatever N says); a word chooses the changes
whose name holds it.
"""

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from datetime import datetime
from functools import partial
from itertools import product
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from attrs import frozen

from crashing import FAILED, WHOLE, Mode, Whose, done, finished, meeting, one_of_two, state, taken_back
from debian_root import PrivateRoot, base_root
from verrou.cli.baseline_files import load_baseline
from verrou.core.judging.audit import audit
from verrou.core.model import Role, Snapshot
from verrou.core.planning.change_plan import plan_changes, rule_steps
from verrou.core.prediction.account_creation import new_account, swap_steps
from verrou.core.steps.step import CreateAccount, FilesChoice, Remove, SetEnabled, Step, StopJobs
from verrou.core.values import Notice
from verrou.machines.bench.authority import Authority
from verrou.machines.changes import Secrets
from verrou.machines.linux.accounts import steps as account_steps
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare
from verrou.machines.protocol import Machine
from verrou.machines.registry import open_machine
from verrou.records.journal import Journal

PASSWORD = "kittiwake-Cliff-42"
SECRETS = Secrets(dict.fromkeys(("warden", "ringer", "tern", "gull", "keeper"), PASSWORD))


def hardening(snapshot: Snapshot) -> list[Step]:
    baseline = load_baseline("shared-desk")
    return list(plan_changes(snapshot, baseline, audit(snapshot, baseline)).steps)


def adding(role: Role, password: str) -> Callable[[Snapshot], list[Step]]:
    return lambda snapshot: new_account(snapshot, "gull", role, password=password)


def removing(choice: FilesChoice) -> Callable[[Snapshot], list[Step]]:
    return lambda snapshot: [Remove("tern", choice)]


CHANGES: Mapping[str, Callable[[Snapshot], list[Step]]] = {
    "harden": hardening,
    "add a standard user": adding(Role.STANDARD, "ask"),
    "add an administrator": adding(Role.ADMINISTRATOR, "ask"),
    "add a guest": adding(Role.GUEST, "blank"),
    "remove and keep": removing(FilesChoice.KEEP),
    "remove and archive": removing(FilesChoice.ARCHIVE),
    "remove and delete": removing(FilesChoice.DELETE),
    "remove and hand over": lambda snapshot: [Remove("tern", FilesChoice.HAND_OVER, to="warden")],
    "stop jobs": lambda snapshot: [StopJobs("tern"), SetEnabled("tern", False)],
    "swap": lambda snapshot: swap_steps(snapshot, "warden", "ringer", "ask"),
    "rule set": lambda snapshot: list(rule_steps(snapshot, {"lockout.after": 5, "password.min_length": 12})),
    "who comes in": lambda snapshot: list(
        rule_steps(
            snapshot,
            {
                "logon.console.denied": frozenset({"tern"}),
                "elevation.remembered_for": "never",
                "screen.notice": Notice("Cap Fauvel", "Quiet."),
            },
        )
    ),
    "disable": lambda snapshot: [SetEnabled("tern", False)],
}


@frozen
class Ground:
    """Where points are tried: how to open a fresh machine that stands as it was prepared, and what to judge it by."""

    kind: str
    fresh: Callable[[str], Any]
    keep: Callable[[Any, Path, str], str]
    look: Callable[[Any], Any]
    judge: Callable[[Any], str]
    machine: Callable[[Any], Machine]


@contextmanager
def real_root(prepared: str) -> Iterator[PrivateRoot]:
    """``prepared``: layers to lay over the base, the uppermost first, or nothing."""
    lower = f"{prepared}:{base_root()}" if prepared else str(base_root())
    with (
        tempfile.TemporaryDirectory() as folder,
        PrivateRoot.over(lower, Path(folder, "root")) as root,  # type: ignore[arg-type]
    ):
        yield root


def keep_root(root: PrivateRoot, folder: Path, below: str) -> str:
    """Keep what was written to a root; answers with how to lay it out again."""
    upper = root.path.with_name(f"{root.path.name}-layers") / "upper"
    subprocess.run(["cp", "-a", str(upper), str(folder)], check=True)
    return f"{folder}:{below}" if below else str(folder)


def judge_root(root: PrivateRoot) -> str:
    """The system's own word."""
    for command in (
        ("grpck", "-r"),
        ("visudo", "-c", "-q"),
        ("pam-auth-update", "--package"),
        ("sh", "-c", "pwck -r -q; test $? -lt 3"),
        ("sh", "-c", "useradd -M probe && userdel probe"),
    ):
        ended = root.inside(*command)
        if ended.returncode:
            return f"{' '.join(command)}: {(ended.stdout + ended.stderr).strip()[:200]}"
    return ""


def locks(place: Any) -> list[str]:
    """What :func:`crashing.state` passes over."""
    return sorted(path.name for path in place.path.glob("etc/*.lock")) if isinstance(place, PrivateRoot) else []


@contextmanager
def bench_machine(prepared: str) -> Iterator[Path]:
    with tempfile.TemporaryDirectory() as folder:
        if prepared:
            shutil.copytree(prepared, folder, dirs_exist_ok=True)
        else:
            machine = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
            machine.save(Path(folder, "hide-01.bench.json"))
        yield Path(folder, "hide-01.bench.json")


def look_bench(path: Path) -> object:
    left = sorted(p.name for p in path.parent.iterdir() if p.name != "hide-01.verrou")
    return {"machine": path.read_bytes(), "beside it": left}


ROOT = Ground(
    "linux", real_root, keep_root, lambda root: state(root.path), judge_root, lambda r: open_machine(str(r.path))
)
BENCH = Ground(
    "bench",
    bench_machine,
    lambda path, folder, below: str(shutil.copytree(path.parent, folder)),
    look_bench,
    lambda path: "",
    lambda path: open_machine(str(path)),
)


def set_up(ground: Ground, folder: Path) -> str:
    """Two administrators and somebody with files."""
    with ground.fresh("") as place:
        machine = ground.machine(place)
        administrators = [CreateAccount(n, Role.ADMINISTRATOR, must_change=False) for n in ("warden", "ringer")]
        done(machine, [*administrators, CreateAccount("tern", Role.STANDARD, must_change=False)], SECRETS)
        if ground is ROOT:
            place.inside("sh", "-c", "cd /home/tern && mkdir a && echo chick > a/note && ln -s /etc out", user="tern")
            jobs = "/var/spool/cron/crontabs/tern /var/spool/cron/atjobs/a00001030a0b0c /var/lib/systemd/linger/tern"
            place.inside("sh", "-c", f"umask 077; for job in {jobs} /srv/rota; do echo x > $job; chown tern $job; done")
        else:
            authority = Authority(place.read_text())
            authority.put("tern", "/people/tern/notes", 12)
            authority.save(place)
        shutil.rmtree(machine.records_folder())
        return ground.keep(place, folder / "start", "")


def points(
    ground: Ground, prepared: str, work: Callable[[Machine], object], two: list[object], every: int
) -> tuple[int, int, list[str]]:
    """Each mode at each call of ``work`` and of its copies: how many were tried, how many were whole, and what was
    wrong. Roots that are alike to the last byte are judged once."""
    tried, wrong = 0, []
    judged: dict[str, str] = {}
    for mode, whose in product(Mode, Whose):
        call, stride = 1, 1 if mode is Mode.KILLED else every
        while True:
            with ground.fresh(prepared) as place:
                machine = ground.machine(place)
                ended = meeting(mode, call, partial(work, machine), whose)
                if ended == WHOLE:
                    break
                route = (taken_back, finished)[call % 2]
                try:
                    problem = one_of_two(partial(ground.look, place), machine, route, call, *two)
                    found = repr((ground.look(place), locks(place)))
                    if not problem and found not in judged:
                        judged[found] = ground.judge(place)
                    problem = problem or judged[found]
                except Exception as error:
                    problem = f"call {call}: {type(error).__name__}: {error}"
                if ended not in (FAILED, -9, 4):
                    problem = problem or f"call {call}: ended with {ended}"
            tried += 1
            if problem:
                wrong.append(f"{mode}, {whose}: {problem}")
            call += stride
    return tried, tried - len(wrong), wrong


def try_change(ground: Ground, name: str, every: int) -> tuple[int, int, list[str]]:
    """A change, its undo, and its resume after a death half-way."""
    with tempfile.TemporaryDirectory() as kept:
        folder = Path(kept)
        start = set_up(ground, folder)

        def change(machine: Machine) -> None:
            done(machine, CHANGES[name](machine.observe()), SECRETS)

        with ground.fresh(start) as place:
            before = ground.look(place)
            change(ground.machine(place))
            after = ground.look(place)
            after_it = ground.keep(place, folder / "done", start)
        with ground.fresh(after_it) as place:
            taken_back(ground.machine(place))
            undone = ground.look(place)
        results = [("", points(ground, start, change, [before, after, undone], every))]
        results.append(("undo", points(ground, after_it, taken_back, [before, after, undone], every)))
        broken = ""
        for call in range(1, 4096):
            with ground.fresh(start) as place:
                machine = ground.machine(place)
                meeting(Mode.KILLED, call, partial(change, machine))
                entries = Journal(machine.records_folder()).entries()
                landing = bool(entries) and entries[-1].is_interrupted
                if landing and ground.look(place) not in (before, after):
                    broken = ground.keep(place, folder / "broken", start)
                    break
                if entries and entries[-1].finished:
                    break
        if broken:
            two = [before, after, undone]
            results.append(("resume", points(ground, broken, finished, two, every)))
            results.append(("undo of a death", points(ground, broken, taken_back, two, every)))
    for what, (tried, whole, wrong) in results:
        title = f"{what} of {name}" if what else name
        print(f"  {ground.kind:6} {title:40} {tried:4} points, {whole:4} whole", flush=True)
        for line in wrong[:3]:
            print(f"         {line}", flush=True)
    return (
        sum(result[0] for _, result in results),
        sum(result[1] for _, result in results),
        [line for _, result in results for line in result[2]],
    )


def main() -> None:
    words = sys.argv[1:]
    every = int(words[words.index("--every") + 1]) if "--every" in words else 1
    chosen = [word for word in words if not word.startswith("--") and not word.isdigit()]
    unshare(CLONE_NEWNS)
    private_mounts()
    os.environ["LC_ALL"] = "C"
    # The same salt and hash for every password, so that what two runs leave can be compared.
    account_steps.hashed_all = lambda given: dict.fromkeys(given, HASH)
    os.urandom = lambda size: bytes(size)
    tried = whole = 0
    for ground in (BENCH, ROOT):
        for name in CHANGES:
            if (chosen and not any(word in name or word == ground.kind for word in chosen)) or (
                ground is BENCH and name in ("add a guest",)
            ):
                continue
            some, good, _ = try_change(ground, name, every)
            tried, whole = tried + some, whole + good
    print(f"{tried} points tried, {whole} whole (promised: all, of 500 and more)")
    raise SystemExit(0 if tried == whole else 1)


HASH = ""
if __name__ == "__main__":
    from verrou.machines.linux.accounts.hashing import hashed

    HASH = hashed(PASSWORD)
    main()
