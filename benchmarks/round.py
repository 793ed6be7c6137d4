"""A round over many surveys that differ, of both kinds of machine, beside merely decoding their JSON on the same cores;
a second one, beside reading and hashing them; its page; and what it takes of memory.

Run as root, for the survey of a real Linux system. python benchmarks/round.py [10000]
"""

import random
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from attrs import evolve
from measuring import Line, in_turn, line, ran, ratios, told
from people import fill

from debian_root import PrivateRoot, base_root
from verrou.core.model import Account, AccountName, Origin, Snapshot
from verrou.core.surveys.data import survey_data
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare
from verrou.machines.linux.machine import LinuxMachine
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


def linux(folder: Path) -> Snapshot:
    """A real Debian system with a dozen people."""
    with PrivateRoot.over(base_root(), folder / "warden-03") as root:
        fill(root, 12)
        return LinuxMachine(root.path, "").observe()


def differing(chance: random.Random, kind: Snapshot, kinds: Sequence[Snapshot]) -> Snapshot:
    """A machine with some readings of others of its kind, so that hardly two have the same ones."""
    readings = dict(kind.readings)
    for rule in chance.sample(sorted(readings), 12):
        other = chance.choice(kinds)
        if other.machine.kind == kind.machine.kind and rule in other.readings:
            readings[rule] = other.readings[rule]
    return evolve(kind, readings=readings)


def surveys(folder: Path, count: int) -> None:
    chance = random.Random(17)
    kinds = [made(chance) for _ in range(KINDS)]
    with tempfile.TemporaryDirectory() as place:
        kinds += [linux(Path(place))] * (KINDS // 4)
    for number in range(count):
        name = f"desk-{number:05}"
        kind = differing(chance, chance.choice(kinds), kinds)

        def person(account: Account, number: int = number) -> Account:
            if account.origin is not Origin.ADDED:
                return account  # it came with its system, and is the same on each
            day = kind.machine.now - timedelta(days=chance.randrange(400))  # noqa: B023
            return evolve(account, name=AccountName(f"{account.name}{number}"), last_sign_in=day)

        facts = evolve(kind.machine, name=name, identity=f"{number:016x}", address=f"{name}.bench.json")
        snapshot = evolve(kind, machine=facts, accounts=tuple(map(person, kind.accounts)))
        snapshot = evolve(snapshot, groups=tuple(evolve(group, members=()) for group in snapshot.groups))
        (folder / f"{name}.survey.json").write_text(as_json(survey_data(snapshot)), encoding="utf-8")


ON_ALL_CORES = (
    "import json,os,sys; from hashlib import sha256; from concurrent.futures import ProcessPoolExecutor as P;"
    "from multiprocessing import get_context\n"
    "def work(place):\n"
    "    content = open(place, 'rb').read(); {}\n"
    "paths = [os.path.join(sys.argv[1], name) for name in sorted(os.listdir(sys.argv[1]))]\n"
    "with P(len(os.sched_getaffinity(0)), get_context('fork')) as pool:\n"
    "    for _ in pool.map(work, paths, chunksize=50): pass\n"
)
DECODE, HASH = (ON_ALL_CORES.format(each) for each in ("json.loads(content)", "sha256(content).hexdigest()"))
ROUNDS = 2


def lines(count: int = 10_000) -> Iterator[Line]:
    """The promises about rounds, by CPU time."""
    unshare(CLONE_NEWNS)
    private_mounts()
    with tempfile.TemporaryDirectory() as kept:
        few, many, page = Path(kept, "few"), Path(kept, "many"), Path(kept, "page.html")
        for folder, number in ((few, max(count // 10, 1)), (many, count)):
            folder.mkdir()
            surveys(folder, number)
        went = [sys.executable, "-m", "verrou", "round", "-b", "shared-desk", "--format", "lines"]
        first = ["env", "XDG_CACHE_HOME=/dev/null/none", *went]  # a cache that cannot be there
        again = ["env", f"XDG_CACHE_HOME={kept}/cache", *went]
        python = [sys.executable, "-c"]
        found = in_turn(
            {
                "round": [*first, str(many)],
                "again": [*again, str(many)],
                "few": [*first, str(few)],
                "decoding": [*python, DECODE, str(many)],
                "hashing": [*python, HASH, str(many)],
            },
            ROUNDS,
        )
        ran([*again, str(many), "--html", str(page)])
        size = page.stat().st_size / 1e6
    yield line("round", f"{count} surveys / decoding their JSON", 2, ratios(found, "round", "decoding"))
    yield line("round", f"{count} surveys again / reading and hashing", 1.2, ratios(found, "again", "hashing"))
    more = [mine.megabytes / its.megabytes for mine, its in zip(found["round"], found["few"], strict=True)]
    yield line("round", f"memory at {count} / at {count // 10} surveys", 1.2, more)
    yield line("round", f"page of {count} machines", 2.0, [size], "MB")


if __name__ == "__main__":
    told(lambda: lines(*map(int, sys.argv[1:])))
