"""What a logbook of many machines and years takes to answer, on SQLite and on PostgreSQL.

python benchmarks/logbook.py [200000]
"""

import random
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from attrs import fields

from postgres import server
from verrou.core.history.records import AccountRecord, FindingRecord, RunRecord, TrialRecord
from verrou.core.history.runs import Run
from verrou.core.model import Role
from verrou.core.model.verdicts import Result, Verdict
from verrou.core.rules import CATALOGUE
from verrou.records.logbook.place import Place, place_of
from verrou.records.logbook.store import Store

A_YEAR, YEARS = 4, 10
BEGUN = datetime(2016, 9, 14, 8, 0)
NAMES = ("tern", "guillemot", "ringer", "ana", "bors", "petrel", "fulmar", "warden", "skua", "puffin", "gannet")
RULES = [rule for rule in CATALOGUE.values() if rule.family != "sharing"]


def records(count: int, seed: int = 23) -> Iterator[RunRecord]:
    """Yield the records of the machines that make this many, in the order in which they arrive: a few arrive late."""
    chance = random.Random(seed)
    machines = max(count // (A_YEAR * YEARS), 1)
    late: list[RunRecord] = []
    standing = [{rule.id: chance.random() < 0.8 for rule in RULES} for _ in range(machines)]
    number = 0
    for visit in range(count // machines):
        for machine in range(machines):
            met = standing[machine]
            for rule in chance.sample(RULES, 2):
                met[rule.id] = chance.random() < 0.85
            clock = BEGUN + timedelta(days=visit * 91 + machine % 60, minutes=chance.randrange(600))
            record = _record(chance, f"{number:032x}", machine, clock, met)
            number += 1
            if chance.random() < 0.02:
                late.append(record)
                continue
            yield record
            if len(late) > 50:
                yield late.pop(chance.randrange(len(late)))
    yield from late


def _record(chance: random.Random, key: str, machine: int, clock: datetime, met: dict[str, bool]) -> RunRecord:
    run = chance.choice((Run.AUDIT, Run.AUDIT, Run.AUDIT, Run.HARDEN, Run.VERIFY, Run.UNDO))
    findings = tuple(
        FindingRecord(rule.id, rule.severity, Verdict.WAIVED, clock.date() + timedelta(days=200), "site warden")
        if chance.random() < 0.02
        else FindingRecord(rule.id, rule.severity, Verdict.MET if met[rule.id] else Verdict.NOT_MET)
        for rule in RULES
    )
    return RunRecord(
        key,
        run,
        clock,
        clock,
        chance.choice(("wilma", "anselm")),
        "verrou 0.2.0",
        f"{machine:016x}",
        f"desk-{machine:05}",
        "bench machine, full edition",
        chance.choice(("office",) * 9 + ("shared-desk",)),
        "00ff" * 16,
        chance.randrange(9) if run is Run.HARDEN else None,
        () if run is Run.UNDO else findings,
        tuple(AccountRecord(name, Role.STANDARD, chance.random() < 0.9) for name in chance.sample(NAMES, 6)),
        (),
        (TrialRecord("lockout.after", "4 failed attempts", Result.PASSED),) if run is Run.VERIFY else (),
    )


def asked(place: Place, *words: str) -> tuple[float, float]:
    """Seconds and megabytes of a question."""
    where = place.server or str(place.file)
    command = [sys.executable, "-m", "verrou", *words, "--logbook", where]
    watched = f"import resource,subprocess; subprocess.run({command!r}, stdout=subprocess.DEVNULL, check=False); " + (
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    begun = time.perf_counter()
    ended = subprocess.run([sys.executable, "-c", watched], capture_output=True, text=True, check=True)
    return time.perf_counter() - begun, int(ended.stdout) / 1000


def one_more(place: Place, seed: int) -> float:
    """CPU seconds of our side to add one record."""
    record = next(records(40, seed))
    taken = []
    for number in range(20):
        begun = time.perf_counter()
        with Store(place) as store:
            store.add([RunRecord(f"more-{seed}-{number}", *(getattr(record, name) for name in FIELDS))])
        taken.append(time.perf_counter() - begun)
    return sorted(taken)[len(taken) // 2]


FIELDS = [field.name for field in fields(RunRecord) if field.name != "key"]
QUESTIONS: Sequence[tuple[str, ...]] = (
    ("logbook", "list"),
    ("logbook", "list", "desk-00007"),
    ("logbook", "show", "777"),
    ("trend",),
    ("trend", "desk-00007"),
    ("trend", "--family", "lockout"),
    ("trend", "--format", "json"),
    ("trend", "--format", "csv"),
)


def measure(name: str, place: Place, count: int) -> None:
    begun = time.perf_counter()
    with Store(place) as store:
        added = store.add(records(count))
    print(f"{name}: {added} records imported in {time.perf_counter() - begun:.0f} s")
    for words in QUESTIONS:
        seconds, megabytes = min(asked(place, *words) for _ in range(2))
        print(f"  {' '.join(words):32} {seconds:6.2f} s  {megabytes:5.0f} MB")
    print(f"  one more record {one_more(place, count) * 1000:.1f} ms")


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200_000
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with tempfile.TemporaryDirectory() as folder, server() as running:
        for number in (count // 200, count):
            measure("SQLite", place_of(str(Path(folder, f"{number}.db")), Path(folder)), number)
            measure("PostgreSQL", place_of(running.fresh(f"many{number}"), Path(folder)), number)


if __name__ == "__main__":
    main()
