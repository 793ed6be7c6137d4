"""What a logbook of many machines and years takes to answer, on SQLite and on PostgreSQL.

python benchmarks/logbook.py [200000]
"""

import random
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import sqlalchemy as sql
from attrs import fields
from measuring import Line, line, quietly, ran, told

from postgres import server
from verrou.core.history.records import AccountRecord, FindingRecord, RunRecord, TrialRecord
from verrou.core.history.runs import Run
from verrou.core.model import Role
from verrou.core.model.verdicts import Result, Verdict
from verrou.core.rules import CATALOGUE
from verrou.records.logbook.place import Place, place_of
from verrou.records.logbook.schema import metadata
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


def multiply(place: Place) -> None:
    """Make of each record as many as :data:`TIMES`, of other machines: in the database, which is sooner done."""
    with Store(place) as store, store.connected() as connection:
        text = sql.text
        if connection.dialect.name == "postgresql":  # what is copied refers to what was copied before it
            connection.execute(text("set session_replication_role = replica"))
        machines, last = (connection.scalar(text(f"select max(id) from {t}")) for t in ("machines", "records"))
        for n in range(1, TIMES):
            own = {
                "id": {"machines": f"id + {n * machines}", "records": f"id + {n * last}"},
                "identity": f"identity || '-{n}'",
                "key": f"key || '-{n}'",
                "machine": f"machine || '-{n}'",
                "machine_id": f"machine_id + {n * machines}",
                "record_id": f"record_id + {n * last}",
            }
            for table in metadata.sorted_tables:
                names = [f'"{column.name}"' for column in table.columns]
                made = [own.get(column.name, f'"{column.name}"') for column in table.columns]
                taken = [each[table.name] if isinstance(each, dict) else each for each in made]
                key = {"machines": "id", "records": "id"}.get(table.name, "record_id")
                most = machines if table.name == "machines" else last
                order = f"insert into {table.name} ({', '.join(names)}) select {', '.join(taken)} from {table.name}"
                connection.execute(text(f"{order} where {key} <= {most}"))
        if connection.dialect.name == "postgresql":
            for table in ("machines", "records"):
                numbered = f"pg_get_serial_sequence('{table}', 'id')"
                connection.execute(text(f"select setval({numbered}, (select max(id) from {table}))"))
    with Store(place) as store:
        if store.engine.dialect.name == "postgresql":  # a server does it by itself in less than ten years
            with store.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
                connection.execute(sql.text("vacuum analyze"))


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


TIMES = 10
FIELDS = [field.name for field in fields(RunRecord) if field.name != "key"]
QUESTIONS: Sequence[tuple[str, ...]] = (
    ("logbook", "list"),
    ("logbook", "list", "desk-00007"),
    ("logbook", "show", "777"),
    ("trend",),
    ("trend", "desk-00007"),
    ("trend", "--family", "lockout"),
)
BESIDE: Sequence[tuple[str, ...]] = (("trend", "--format", "json"), ("trend", "--format", "csv"))
"""What is asked without a promise: each machine's whole history, and a table of all of them."""
SECONDS, MEGABYTES, ROUNDS = 2.0, 150.0, 3


def of(name: str, place: Place, count: int, few: Mapping[str, float]) -> Iterator[Line]:
    """The promises about one logbook; ``few``: what adding one took with few records in it."""
    begun = time.perf_counter()
    with Store(place) as store:
        added = store.add(records(count // TIMES))
    yield line("logbook", f"{name}: {added} records imported", None, [time.perf_counter() - begun], "s")
    multiply(place)
    for words in (*QUESTIONS, *BESIDE):
        command = [sys.executable, "-m", "verrou", *words, "--logbook", place.server or str(place.file)]
        taken = [quietly(partial(ran, command), 2) for _ in range(ROUNDS)]
        what, promised = f"{name}, {count} records: {' '.join(words)}", words in QUESTIONS
        yield line("logbook", what, SECONDS if promised else None, [each.wall for each in taken], "s")
        memory = [each.megabytes for each in taken]
        yield line("logbook", f"{what}, memory", MEGABYTES if promised else None, memory, "MB")
    yield line("logbook", f"{name}: one more at {count} / at few records", 1.5, [one_more(place, count) / few[name]])


def lines(count: int = 200_000) -> Iterator[Line]:
    """The promises about the logbook."""
    with tempfile.TemporaryDirectory() as folder, server() as running:
        running.run("postgres", "alter role ana superuser")
        few, places = {}, {}
        for number in (1_000, count):
            file = place_of(str(Path(folder, f"{number}.db")), Path(folder))
            places[number] = {"SQLite": file, "PostgreSQL": place_of(running.fresh(f"many{number}"), Path(folder))}
        for name, place in places[1_000].items():
            with Store(place) as store:
                store.add(records(1_000))
            few[name] = one_more(place, 1_000)
        for name, place in places[count].items():
            yield from of(name, place, count, few)


if __name__ == "__main__":
    told(lambda: lines(*map(int, sys.argv[1:])))
