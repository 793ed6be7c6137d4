"""A round over many surveys, beside merely decoding their JSON on the same cores; and what it takes of memory.

python benchmarks/round.py [10000]
"""

import json
import os
import random
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from datetime import datetime, timedelta
from multiprocessing import get_context
from pathlib import Path

from attrs import evolve

from verrou.core.model import Account, AccountName, Snapshot
from verrou.core.surveys.data import survey_data
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.readings import snapshot_of
from verrou.reports.tables import as_json

NAMES = (
    "tern",
    "guillemot",
    "ringer",
    "ana",
    "bors",
    "petrel",
    "fulmar",
    "warden",
    "skua",
    "puffin",
    "gannet",
    "eider",
)
KINDS = 400
"""How many machines are made one by one; each survey is one of them with other names, days and people."""


def made(chance: random.Random) -> Snapshot:
    """A bench machine as somebody may have left it."""
    now = datetime(2026, 9, 14, 8, 30) - timedelta(days=chance.randrange(200))
    machine = Authority.fresh("x", now, chance.choice(("full", "basic")), chance.choice(("en", "fr")))
    for name in chance.sample(NAMES, chance.randrange(2, 9)):
        machine.add(name, name.title(), "kittiwake-Cliff-42", must_change=chance.random() < 0.2)
    for key, values in {
        "try_limit": (0, 3, 5, 8, 10, 50),
        "lock_minutes": (0, 5, 15, 30, 60),
        "window_minutes": (5, 15, 30, 60),
        "length": range(17),
        "classes": (0, 1, 2, 3),
        "age_max_days": (0, 90, 180, 365),
        "idle_minutes": (0, 5, 10, 15, 20),
        "name_inside": (True, False),
    }.items():
        with suppress(No):  # what the machine does not take stays as it was
            machine.set_policy(key, chance.choice(tuple(values)))
    return snapshot_of(machine, "x")


def surveys(folder: Path, count: int) -> None:
    chance = random.Random(17)
    kinds = [made(chance) for _ in range(KINDS)]
    for number in range(count):
        kind, name = chance.choice(kinds), f"desk-{number:05}"

        def person(account: Account, number: int = number) -> Account:
            if account.builtin is not None:
                return account
            day = kind.machine.now - timedelta(days=chance.randrange(400))  # noqa: B023
            return evolve(account, name=AccountName(f"{account.name}{number}"), last_sign_in=day)

        facts = evolve(kind.machine, name=name, identity=f"{number:016x}", address=f"{name}.bench.json")
        snapshot = evolve(kind, machine=facts, accounts=tuple(map(person, kind.accounts)))
        (folder / f"{name}.survey.json").write_text(as_json(survey_data(snapshot)), encoding="utf-8")


def decode(path: str) -> None:
    with open(path, encoding="utf-8") as stream:
        json.loads(stream.read())


def decoding(folder: Path) -> float:
    paths = [str(path) for path in sorted(folder.iterdir())]
    begun = time.perf_counter()
    with ProcessPoolExecutor(len(os.sched_getaffinity(0)), get_context("fork")) as pool:
        for _ in pool.map(decode, paths, chunksize=50):
            pass
    return time.perf_counter() - begun


def going_round(folder: Path) -> tuple[float, int]:
    """Seconds, and the largest resident size of one of its processes in kilobytes."""
    command = [sys.executable, "-m", "verrou", "round", str(folder), "-b", "shared-desk", "--format", "lines"]
    watched = f"import resource,subprocess,sys; subprocess.run({command!r}, stdout=subprocess.DEVNULL); " + (
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    begun = time.perf_counter()
    ended = subprocess.run([sys.executable, "-c", watched], capture_output=True, text=True, check=True)
    return time.perf_counter() - begun, int(ended.stdout)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory() as kept:
        few, many = Path(kept, "few"), Path(kept, "many")
        for folder, number in ((few, max(count // 10, 1)), (many, count)):
            folder.mkdir()
            surveys(folder, number)
        size = sum(path.stat().st_size for path in many.iterdir()) / count / 1000
        _, little = going_round(few)
        runs = [(going_round(many), decoding(many)) for _ in range(3)]
        ratio = sorted(taken / bare for (taken, _), bare in runs)
        print(f"{count} surveys of {size:.0f} kB: a round takes {runs[0][0][0]:.1f} s, decoding {runs[0][1]:.1f} s")
        print(f"round / decoding their JSON   {ratio[1]:.2f}   (promised: 2)")
        print(f"memory at {count} / at {count // 10}   {runs[0][0][1] / little:.2f}   (promised: 1.2)")


if __name__ == "__main__":
    main()
