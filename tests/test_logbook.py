"""The logbook, on SQLite and on a PostgreSQL server alike: what goes in, whole and once; what waits; how it went."""

import itertools
import json
import os
import random
import shlex
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sql
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, examples
from crashing import WHOLE, Mode, meeting
from debian_root import mount
from postgres import PASSWORD, NoServer, Server, server
from test_seat_bench import machines
from trend_by_records import trend
from verrou.cli.baseline_files import load_baseline
from verrou.core.errors import BadInput
from verrou.core.history.records import AccountRecord, Counts, FindingRecord, ReadingRecord, RunRecord, TrialRecord
from verrou.core.history.runs import Run
from verrou.core.history.trend import MachineHistory, Moment, Regression, Trend, soon, together
from verrou.core.judging.audit import audit
from verrou.core.judging.recording import record_of
from verrou.core.model import Role
from verrou.core.model.access import as_known_role
from verrou.core.model.known import Known
from verrou.core.model.verdicts import Result, Severity, Verdict
from verrou.core.surveys.data import plain
from verrou.core.testing.trials import not_tried
from verrou.machines.bench.authority import Authority
from verrou.machines.bench.readings import snapshot_of
from verrou.records import logbook
from verrou.records.logbook import Delivery, Place, deliver, deliver_soon, migrations, reading, waiting
from verrou.records.logbook.adding import add
from verrou.records.logbook.migrations import NEWEST, upgrade
from verrou.records.logbook.place import place_of
from verrou.records.logbook.reader import Selection
from verrou.records.logbook.schema import metadata
from verrou.records.logbook.store import Store
from verrou.reports.tables import shown
from verrou.reports.trend import regressed_table

DAY = datetime(2026, 4, 7, 9, 30)


def made(key: str, **more: Any) -> RunRecord:
    """A record with something of each kind in it."""
    record = RunRecord(
        key=key,
        run=Run.VERIFY,
        at=DAY,
        clock=DAY,
        by="wilma",
        tool="verrou 0",
        identity="identity-1",
        machine="hide-01",
        system="bench machine, “full” edition",
        baseline="office",
        digest="00ff",
        findings=(
            FindingRecord("lockout.after", Severity.HIGH, Verdict.NOT_MET),
            FindingRecord("password.classes", Severity.LOW, Verdict.WAIVED, date(2027, 6, 30), "site warden"),
        ),
        accounts=(AccountRecord("tern", Role.STANDARD, True), AccountRecord("daypass'; --", Known.UNKNOWN, False)),
        readings=(ReadingRecord("lockout.after", "50 failed attempts"),),
        tests=(TrialRecord("lockout.after", "4 failed attempts", Result.PASSED),),
    )
    return evolve(record, **more)


def load_records(place: Place, machine: str = "") -> list[RunRecord]:
    """All records, whole, in order."""
    with reading(place) as logbook:
        return list(logbook.records(Selection(machine)))


def keep(record: RunRecord, place: Place) -> Delivery:
    """What a command does with a record."""
    waiting.put(place.waiting, record)
    return deliver_soon(place)


SUBJECTS = ("lockout.after", "lockout.lasts", "password.min_length", "accounts.tern", ".of no family")


def at_random(chance: random.Random, number: int) -> RunRecord:
    """A record of one of a few machines, at one of a few moments, with a few findings of any verdict."""
    clock = DAY + timedelta(hours=7 * chance.randrange(40))
    findings = []
    for subject in chance.sample(SUBJECTS, chance.choice((0, 3, 5, 5, 5))):
        verdict = chance.choice((Verdict.MET, Verdict.NOT_MET, *Verdict))
        until = date(2026, 4, 1) + timedelta(days=chance.randrange(90)) if verdict is Verdict.WAIVED else None
        findings.append(
            FindingRecord(subject, chance.choice(list(Severity)), verdict, until, "warden" if until else "")
        )
    machine = chance.randrange(3)
    return made(
        f"{number:03}",
        run=chance.choice(list(Run)),
        clock=clock,
        at=clock + timedelta(minutes=chance.randrange(2)),
        identity=f"identity-{machine}",
        machine=chance.choice((f"hide-0{machine}", f"hide-0{machine}", "lamp-01")),
        baseline=chance.choice(("office", "office", "shared-desk")),
        findings=tuple(findings),
    )


@pytest.fixture(scope="session")
def postgres() -> Iterator[Server]:
    """A real server; where it must be there (in CI), its absence is a failure, not a skip."""
    try:
        with server() as running:
            yield running
    except NoServer as reason:
        if os.environ.get("CI") or os.environ.get("VERROU_NEED_REAL_ROOT"):
            pytest.fail(f"the tests on a real PostgreSQL server must run here: {reason}")
        pytest.skip(str(reason))


@pytest.fixture(autouse=True)
def patient(monkeypatch: pytest.MonkeyPatch) -> None:
    """No test hangs on how busy the machine is: a record that would go in is waited for."""
    monkeypatch.setattr(logbook, "PATIENCE", 60.0)


@pytest.fixture(params=["sqlite", "postgresql"])
def place(request: pytest.FixtureRequest, tmp_path: Path) -> Place:
    """A new logbook of either kind."""
    if request.param == "sqlite":
        return place_of("", tmp_path)
    running: Server = request.getfixturevalue("postgres")
    return place_of(running.fresh("verrou"), tmp_path)


def test_what_goes_in_comes_out_once_and_in_order(place: Place) -> None:
    later = made("b", clock=DAY + timedelta(days=1), run=Run.UNDO, findings=(), entry=7)
    other = made("c", identity="identity-2", machine="ringing-02", accounts=())
    for record in (later, made("a"), other, made("a", by="somebody else")):
        assert keep(record, place).delivered == 1
    assert load_records(place) == [made("a"), other, later]
    assert [account.role for account in load_records(place)[0].accounts][1] is Known.UNKNOWN, (
        "and no word that looks like it"
    )
    assert as_known_role(None) is Known.UNKNOWN, "as older records have it"
    renamed = made("d", machine="lamp-01", clock=DAY + timedelta(days=2))
    keep(renamed, place)
    assert [record.key for record in load_records(place, "hide-01")] == ["a", "b", "d"], (
        "known again by identity, not by name"
    )
    assert load_records(place, "nobody") == [] and not place.waiting.exists()
    with Store(place) as store:
        assert store.add([made("e", entry=1), made("e", entry=2), made("a")]) == 1
    assert [record.entry for record in load_records(place) if record.key == "e"] == [1], "the first stays"


def writers(place: Place, name: str) -> None:
    """30 writers at once, each with a record; whatever comes of each."""
    threads = [threading.Thread(target=keep, args=(made(f"{name}-{n}"), place)) for n in range(30)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def in_child(work: Callable[[], object]) -> int:
    child = os.fork()
    if child == 0:
        code = 1
        try:
            work()
            code = 0
        finally:
            os._exit(code)
    return child


def test_two_technicians_with_thirty_writers_each_lose_nothing(place: Place, tmp_path: Path) -> None:
    """On a logbook that nobody has made yet; what does not get through at once waits, each with its own technician."""
    mine = [Place(tmp_path / f"{name}.waiting", place.file, place.server) for name in ("wilma", "anselm")]
    children = [in_child(lambda at=each: writers(at, at.waiting.stem)) for each in mine]  # type: ignore[misc]
    assert [os.waitpid(child, 0)[1] for child in children] == [0, 0]
    for each in mine:
        (each.waiting / waiting.MARK).unlink(missing_ok=True)
        while (left := deliver(each)).waiting:
            assert "cannot be reached" in left.reason
    found = [record.key for record in load_records(place)]
    assert len(found) == len(set(found)) == 60
    assert not any(waiting.files(each.waiting) for each in mine)


def killed_at_statement(after: int, work: Callable[[], object]) -> int:
    """Kill a child before one of the statements that it gives a database; how it ended."""

    def watched() -> None:
        seen = []

        @sql.event.listens_for(sql.Engine, "before_cursor_execute")
        def _(*_: object) -> None:
            seen.append(1)
            if len(seen) > after:
                os.kill(os.getpid(), signal.SIGKILL)

        work()

    return os.waitstatus_to_exitcode(os.waitpid(in_child(watched), 0)[1])


def test_a_writer_that_is_killed_leaves_all_of_a_record_or_nothing(place: Place) -> None:
    """Killed before each statement of the first write, the one that makes the tables, and once more of a later one."""
    for number in range(60):
        record = made(f"killed-{number}")
        waiting.put(place.waiting, record)
        ended = killed_at_statement(number, lambda: deliver(place))
        there = [each for each in load_records(place) if each.key == record.key]
        assert there in ([], [record])
        assert there or waiting.files(place.waiting), "what did not go in is still there"
        (place.waiting / waiting.MARK).unlink(missing_ok=True)
        assert not deliver(place).waiting
        assert [each for each in load_records(place) if each.key == record.key] == [record]
        if ended == 0:
            break
    else:
        pytest.fail("no run came to its end")
    assert number > 5


def test_a_waiting_record_of_0_1_is_brought_forward(tmp_path: Path) -> None:
    trial = {"rule": "password.blank_ways", "tried": "a blank password", "proof": "disproved"}
    finding = {"subject": "password.blank_ways", "severity": "grave", "verdict": "short"}
    former_words = {
        "format": "verrou record 1",
        "findings": [finding | {"waived_until": None, "waived_by": ""}],
        "readings": [{"rule": "population.ended_accounts", "words": "disabled"}],
        "trials": [trial],
    }
    waiting.put(tmp_path, made("old"))
    (file,) = waiting.files(tmp_path)
    file.write_text(json.dumps(json.loads(file.read_text()) | former_words))
    assert waiting.read(file) == made(
        "old",
        findings=(FindingRecord("password.blank_accepted", Severity.HIGH, Verdict.NOT_MET),),
        readings=(ReadingRecord("population.expired_accounts", "disabled"),),
        tests=(TrialRecord("password.blank_accepted", "a blank password", Result.FAILED),),
    )


def test_records_that_no_one_of_us_wrote_hold_no_one_up(place: Place, tmp_path: Path) -> None:
    waiting.put(place.waiting, made("good"))
    good = json.loads(waiting.files(place.waiting)[0].read_text())
    for number, change in enumerate(
        (
            {"by": "a\x00b"},
            {"by": "\ud800"},
            {"entry": 2**70},
            {"entry": "x"},
            {"at": "2026-04-07T09:30:00+02:00"},
            {"clock": "9999-99-99"},
            {"run": "dance"},
            {"findings": [{"subject": "x"}]},
            {"findings": 3},
            {"key": None},
            {"format": "verrou record 99"},
        )
    ):
        (place.waiting / f"0-{number}.record.json").write_text(json.dumps(good | {"key": f"k{number}"} | change))
    for number, content in enumerate((b"", b"\xff", b"[" * 100_000, b"null")):
        (place.waiting / f"1-{number}.record.json").write_bytes(content)
    (place.waiting / "2.record.json").symlink_to("/dev/zero")
    (place.waiting / "3.record.json").mkdir()
    left = deliver(place)
    assert not left.waiting and len(left.foreign) == len(waiting.files(place.waiting)) >= 14, left
    assert made("good") in load_records(place)
    (tmp_path / "other").write_text("theirs")
    (place.waiting / waiting.MARK).symlink_to(tmp_path / "other")
    waiting.note_unreached(place.waiting, "nobody is there")
    assert (tmp_path / "other").read_text() == "theirs" and waiting.unreached(place.waiting) == "nobody is there"
    if place.file is not None:
        place.file.rename(tmp_path / "elsewhere.db")
        place.file.symlink_to(tmp_path / "elsewhere.db")
        assert "not an ordinary file" in deliver(place).reason


def test_an_older_logbook_is_brought_forward_and_a_newer_one_left_alone(place: Place, tmp_path: Path) -> None:
    url = f"sqlite:///{place.file}" if place.file else place.server.replace("postgresql:", "postgresql+psycopg:")
    engine = sql.create_engine(url)
    with engine.begin() as connection:
        upgrade(connection, "0001")
        connection.execute(sql.text("insert into machines (id, identity) values (1, 'identity-1')"))
        connection.execute(
            sql.text(
                """insert into records
                (id, "key", machine_id, run, at, clock, "by", tool, machine, system, baseline, digest)
                values (1, 'old', 1, 'audit', :day, :day, 'wilma', 'verrou 0', 'hide-01', 's', '', '')"""
            ),
            {"day": DAY if place.server else f"{DAY}.000000"},
        )
        connection.execute(sql.text("insert into findings values (1, 0, 'lockout.after', 'grave', 'short', null, '')"))
    if place.server:  # numbers given by hand are not counted by the server
        with engine.begin() as connection:
            for table in ("machines", "records"):
                connection.execute(sql.text(f"select setval(pg_get_serial_sequence('{table}', 'id'), 1)"))
    keep(made("new"), place)
    old, new = load_records(place)
    assert (old.key, old.findings, old.tests) == (
        "old",
        (FindingRecord("lockout.after", Severity.HIGH, Verdict.NOT_MET),),
        (),
    )
    assert new == made("new")
    with engine.begin() as connection:
        context = MigrationContext.configure(connection)
        missing = [] if place.server else ["ix_summaries_of_all"]
        found = compare_metadata(context, metadata)
        assert [index.name for _, index in found] == missing, "the tables are as declared, but for what a server needs"
        assert connection.scalar(sql.text("select version_num from alembic_version")) == NEWEST
        connection.execute(sql.text("update alembic_version set version_num = '9999'"))
    left = keep(made("late"), place)
    assert left.waiting == 1 and "use the newer Verrou" in left.reason
    with pytest.raises(BadInput, match="schema 9999"):
        load_records(place)


BACKWARD = {
    "0003": (
        "drop table summaries",
        "drop table lapses",
        "drop index ix_records_of_a_machine",
        "drop index ix_records_in_order",
        "drop index ix_records_by_name",
        "create index ix_records_machine_id on records (machine_id)",
    ),
    "0004": (
        "drop index if exists ix_summaries_of_all",
        *(f"alter table lapses drop column {name}" for name in ("place", "severity", "verdict")),
    ),
}
"""What makes an earlier schema of the newest one."""


@pytest.mark.parametrize("former", BACKWARD)
def test_an_older_logbook_is_brought_forward_whole_or_not_at_all(place: Place, former: str) -> None:
    """Killed at a statement, again and again; by a person who reads, since there is too much for one who passes by."""
    chance = random.Random(5)
    records = [at_random(chance, number) for number in range(500)]
    with Store(place) as store:
        store.add(records)
        with store.connected() as connection:
            for order in (*BACKWARD[former], "drop index ix_findings_waived"):
                connection.execute(sql.text(order))
            connection.execute(sql.text(f"update alembic_version set version_num = '{former}'"))
    left = keep(made("one more"), place)
    advised = f"To bring its 500 records forward, once: verrou logbook list --logbook {shlex.quote(place.shown)}"
    assert left.waiting == 1 and advised in left.reason
    after, ended = 0, -signal.SIGKILL
    while ended:
        ended = killed_at_statement(after, lambda: load_records(place))
        after += 3 + after // 3
    assert after > 20
    (place.waiting / waiting.MARK).unlink()
    assert deliver(place).delivered == 1
    everything = load_records(place)
    with reading(place) as opened:
        found = opened.histories("", (), soon(DAY.date()), every_moment=True)
    assert found == trend(everything, DAY.date()).histories and len(everything) == 501


def test_a_logbook_that_does_not_answer_keeps_no_one_waiting(
    verrou: Verrou, bench: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A server that takes the connection and says nothing; then none at all; then a logbook that is there."""
    monkeypatch.setattr(logbook, "PATIENCE", 3.0)
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        port = silent.getsockname()[1]
        address = f"postgresql://ana@127.0.0.1:{port}/verrou"
        audit = ("audit", "-m", bench, "-b", "essential", "--logbook", address)
        first = verrou(*audit, code=1)
        assert "1 record stored in" in first.stderr and "Essential" in first.stdout
    assert "2 records stored in" in verrou(*audit, code=1).stderr, "let alone for a while"
    folder = next(tmp_path.glob("*.waiting"))
    (folder / waiting.MARK).unlink()
    assert "connection refused" in verrou(*audit, code=1).stderr
    folder.rename(tmp_path / "verrou-logbook.waiting")
    (tmp_path / "verrou-logbook.waiting" / "strange.record.json").write_text('{"format": "verrou record 1"}')
    output = verrou("logbook", "list")
    assert "3 records of 1 machine" in output.stdout and "left where it is" in output.stderr
    assert [path.name for path in (tmp_path / "verrou-logbook.waiting").iterdir()] == ["strange.record.json"]
    assert not list(tmp_path.glob("*/.*"))


def test_passwords_come_from_a_file_and_never_stand_in_an_address(
    verrou: Verrou, bench: Path, tmp_path: Path, postgres: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    audit = ("audit", "-m", bench, "-b", "essential")
    for address in (f"postgresql://ana:{PASSWORD}@h/d", f"postgresql://ana@h/d?password={PASSWORD}"):
        refused = verrou(*audit, "--logbook", address, code=2)
        assert "contains a password" in refused.stderr and PASSWORD not in refused.stderr + refused.stdout
        monkeypatch.setenv("VERROU_LOGBOOK", address)
        assert PASSWORD not in verrou(*audit, code=2).stderr
        monkeypatch.delenv("VERROU_LOGBOOK")
    postgres.fresh("verrou")
    address = f"postgresql://ana@127.0.0.1:{postgres.port}/verrou"
    assert "no password supplied" in verrou(*audit, "--logbook", address, code=1).stderr
    next(tmp_path.glob("*.waiting/not-reached")).unlink()
    secret = tmp_path / "pgpass"
    secret.write_text(f"127.0.0.1:{postgres.port}:verrou:ana:{PASSWORD}\n")
    secret.chmod(0o600)
    monkeypatch.setenv("PGPASSFILE", str(secret))
    assert "2 records" in verrou(*audit, "--logbook", address, code=1).stderr
    service = tmp_path / "services"
    service.write_text(f"[station]\nhost=127.0.0.1\nport={postgres.port}\ndbname=verrou\nuser=ana\n")
    monkeypatch.setenv("PGSERVICEFILE", str(service))
    monkeypatch.setenv("VERROU_LOGBOOK", "postgresql:///?service=station")
    assert "1 record" in verrou(*audit, code=1).stderr
    assert "3 records of 1 machine" in verrou("logbook", "list").stdout
    for wrong in ("mysql://h/d", "postgresql://h:port/d", str(tmp_path)):
        assert "logbook: " in verrou("logbook", "list", "--logbook", wrong, code=2).stderr


def test_every_kind_of_run_is_kept_and_no_secret_is(verrou: Verrou, bench: Path, tmp_path: Path) -> None:
    verrou("account", "change", "warden", "--full-name", "Wilma", "-m", bench, "--yes")
    data = bench.read_text()
    bench.write_text(data.replace('"hint": ""', '"hint": "the ship and the year"'))
    passwords = [account["password"] for account in json.loads(bench.read_text())["accounts"] if account["password"]]
    secrets = [password[part] for password in passwords for part in ("salt", "hash")]
    at = ("-m", bench, "--log")
    verrou("survey", *at, "--save", "surveys-1")
    verrou("audit", *at, "-b", "shared-desk", code=1)
    verrou("harden", *at, "-b", "shared-desk", "--only", "lockout", "--yes", code=1)
    verrou("verify", *at, "-b", "shared-desk", code=1)
    verrou("undo", *at, "--yes")
    output = [json.loads(line) for line in verrou("logbook", "export").stdout.splitlines()]
    assert [each["run"] for each in output] == ["survey", "audit", "harden", "verify", "undo"]
    assert [each["entry"] for each in output] == [None, None, 2, None, 3]
    assert output[0]["readings"] and output[3]["tests"] and output[1]["findings"] and not output[4]["findings"]
    assert len({each["identity"] for each in output}) == 1 and output[0]["identity"]
    content = (tmp_path / "verrou-logbook.db").read_bytes()
    assert secrets and b"Shared desk" in content
    for secret in (GOOD_PASSWORD, "the ship and the year", *secrets):
        assert secret.encode() not in content
    assert (tmp_path / "verrou-logbook.db").stat().st_size < 200_000
    closed = subprocess.run(
        f"{sys.executable} -m verrou audit -m {bench} -b office --log | true",
        shell=True,
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=True,
    )
    assert "Traceback" not in closed.stderr and "6 records" in verrou("logbook", "list").stdout, (
        "kept, though nobody read it"
    )
    one = verrou("logbook", "list", "hide-01", "--run", "audit", "--since", "2026-09-14").stdout
    assert "2 of 6 records of 1 machine" in one
    assert "verrou journal show 2" in verrou("logbook", "show", "3").stdout
    for nowhere in ("nowhere", "\udcff", "\x1b[2J"):
        assert "no machine" in verrou("trend", nowhere, code=2).stderr
    for wrong in (("--limit", "0"), ("--limit", "9" * 30), ("--skip", "9" * 30), ("--since", "yesterday")):
        verrou("logbook", "list", *wrong, code=2)
    with sqlite3.connect(tmp_path / "verrou-logbook.db") as by_hand:
        by_hand.execute("update findings set verdict = 'splendid'")
    assert "logbook is damaged: 'splendid'" in verrou("logbook", "show", "2", code=2).stderr
    (tmp_path / "broken.db").write_text("not a database")
    assert "cannot be reached" in verrou("logbook", "list", "--logbook", "broken.db", code=2).stderr
    with sqlite3.connect(tmp_path / "foreign.db") as foreign:
        foreign.execute("create table records (x)")
    assert "no logbook's" in verrou("logbook", "list", "--logbook", "foreign.db", code=2).stderr


def test_two_at_once_on_one_machine_know_of_each_other(postgres: Server, tmp_path: Path) -> None:
    """On a server, whoever adds to a machine waits for the other, since what regressed follows from both."""
    place = place_of(postgres.fresh("verrou"), tmp_path)
    holds, short = ((FindingRecord("lockout.after", Severity.HIGH, each),) for each in (Verdict.MET, Verdict.NOT_MET))
    first, second = made("first", findings=holds), made("second", findings=short, clock=DAY + timedelta(days=1))
    waits = sql.text("select count(*) from pg_locks where not granted")
    with Store(place) as one, Store(place) as two, Store(place, make=False) as watching:
        two.add([made("before", findings=(), clock=DAY - timedelta(days=9))])
        with one.connected() as connection:
            add(connection, [first])
            worker = threading.Thread(target=two.add, args=([second],))
            worker.start()
            blocked = 0
            while worker.is_alive() and not blocked:
                with watching.connected() as other:
                    blocked = other.scalar(waits)
        worker.join()
    with reading(place) as opened:
        [history] = opened.histories("", (), DAY.date(), every_moment=True)
    assert [each.subject for each in history.regressed] == ["lockout.after"]


@pytest.mark.parametrize("seed", (0, 1, 3))
def test_the_logbook_answers_as_one_who_reads_every_record(place: Place, seed: int) -> None:
    """In whatever order the records arrive, together or one by one, and some of them twice."""
    chance = random.Random(seed)
    made_ones = [at_random(chance, number) for number in range(119)]
    last = max((record for record in made_ones if record.findings), key=lambda record: (record.clock, record.at))
    made_ones.append(evolve(last, key="119", run=Run.UNDO, at=last.at + timedelta(minutes=1), findings=()))
    left = list(made_ones)
    with Store(place) as store:
        while left:
            many = min(len(left), chance.choice((1, 1, 7, 40)))
            part = [left.pop(chance.randrange(len(left))) for _ in range(many)]
            assert store.add([*part, part[0]]) == many
    everything = load_records(place)
    assert sorted(everything, key=lambda record: record.key) == made_ones
    assert everything == sorted(everything, key=lambda record: (record.clock, record.at)), "in their order"
    today = date(2026, 4, 20)
    with reading(place) as logbook:
        for machine, families in itertools.product(("", "hide-01", "lamp-01"), ((), ("lockout",), ("accounts", "x"))):
            named = {record.identity for record in everything if machine in ("", record.machine)}
            expected = trend([record for record in everything if record.identity in named], today, families)
            found = logbook.histories(machine, families, soon(today), every_moment=True)
            assert found == expected.histories
            assert together(found) == expected.together
            short = logbook.histories(machine, families, soon(today), every_moment=False)
            assert [each.moments for each in short] == [(*each.moments[:2], *each.moments[-3:]) for each in found]
        found = logbook.histories("", (), date.max, every_moment=False)
        assert any(each.regressed for each in found) and any(each.ending for each in found)
        first = min(waiver.until for each in found for waiver in each.ending)
        for day in (first, first - timedelta(days=1)):
            assert any(each.ending for each in logbook.histories("", (), day, every_moment=False)) is (day == first)
        for runs, since in itertools.product(((), ("audit", "undo")), (None, DAY + timedelta(days=5))):
            chosen = [r for r in everything if (not runs or r.run in runs) and (since is None or r.clock >= since)]
            selection = Selection("", runs, since)
            assert list(logbook.records(selection)) == chosen
            extent, page = logbook.page(selection, 10, 5)
            assert (extent.recorded, extent.selected) == (120, len(chosen))
            assert [run.facts.key for run in page] == [record.key for record in chosen[-15:-5]]
            assert [run.tally for run in page] == [record.tally for record in chosen[-15:-5]]
            whole = [logbook.record(run.number) for run in page]
            assert whole == chosen[-15:-5]
            assert page[0].counts == Counts(2, 1, 1, 0, 0)


def test_records_go_from_one_logbook_to_another_whole_and_once(place: Place, tmp_path: Path) -> None:
    chance = random.Random(1)
    first = place_of(str(tmp_path / "first.db"), tmp_path)
    with Store(first) as store:
        store.add([at_random(chance, number) for number in range(12)])
    lines = [json.dumps(waiting.as_data(record)).encode() for record in load_records(first)]
    assert logbook.import_records(place, lines[:5], "x") == (5, 0)
    wrong = [b"{}", b'"', b"[" * 5000, lines[0].replace(b'"clock": "2026-', b'"clock": "2O26-')]
    wrong += [lines[0].replace(b'"key": "', b'"key": "k').replace(b"wilma", b"wil\\u0000ma")] if place.server else []
    for line in wrong:
        with pytest.raises(BadInput, match=r"x: record 13: .*Nothing was imported"):
            logbook.import_records(place, [*lines, line], "x")
    assert len(load_records(place)) == 5
    assert logbook.import_records(place, [*lines, b"\n"], "x") == (7, 5)
    assert load_records(place) == load_records(first)


def test_the_trend_is_reported_and_drawn(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    at = ("--logbook", "station/verrou-logbook.db", "--on", "2026-09-14")
    text = verrou("trend", *at, code=1).stdout
    assert "2 regressed" in " ".join(text.split()) and "2026-10-01  ringing-02  elevation.helpers_reach_prompt" in text
    output = verrou.json("trend", *at, code=1)
    assert [len(each["moments"]) for each in output["machines"]] == [8, 5, 4]
    assert output["together"][-1]["met"] == sum(each["moments"][-1]["met"] for each in output["machines"])
    family = verrou.json("trend", "hide-01", "--family", "lockout", *at, code=1)
    assert {each["subject"].split(".")[0] for each in family["machines"][0]["regressed"]} == {"lockout"}
    twice = verrou.json("trend", "hide-01", "--family", "lockout", "--family", "lockout", *at, code=1)
    assert twice["machines"] == family["machines"]
    for name in ("went.svg", "went.png", "went.html"):
        verrou("trend", *at, "--save", name, code=1)
    assert (tmp_path / "went.png").read_bytes().startswith(b"\x89PNG")
    page = (tmp_path / "went.html").read_text()
    assert page.count("<svg") == 1 and "hide-01" in page and "<script" not in page
    assert "expected one of .svg, .png, .html" in verrou("trend", *at, "--save", "went.pdf", code=2).stderr


@examples(25)
@given(machines(), st.sampled_from([Run.SURVEY, Run.VERIFY]))
def test_any_machine_can_be_kept(machine: Authority, run: Run) -> None:
    """Through the folder in which it waits, and through the tables, it comes back as it was."""
    snapshot = snapshot_of(machine, "x")
    found = audit(snapshot, load_baseline("shared-desk"))
    output = {"key": "k", "at": DAY, "by": "wil\x1bma", "tool": "verrou"}
    record = record_of(run, snapshot, shown, found=found, trials=not_tried("no time"), **output)
    with tempfile.TemporaryDirectory() as folder:
        place = place_of("", Path(folder))
        waiting.put(place.waiting, record)
        assert waiting.read(waiting.files(place.waiting)[0]) == record
        assert deliver(place).delivered == 1 and list(load_records(place)) == [record]
    assert sum(plain(record.tally).values()) == len(found.findings) and bool(record.readings) is (run is Run.SURVEY)
    assert record.by == "wil\\x1bma"


@pytest.mark.parametrize("mode", list(Mode))
def test_a_record_waits_whole_or_not_at_all(mode: Mode, tmp_path: Path) -> None:
    folder = tmp_path / "verrou-logbook.waiting"
    for call in range(1, 40):
        ended = meeting(mode, call, lambda: waiting.put(folder, made("a")))
        found = waiting.files(folder)
        assert [waiting.read(path) for path in found] in ([], [made("a")])
        if mode is not Mode.KILLED:
            assert not list(folder.glob(".*")) or not folder.exists(), "nothing is left lying about"
        shutil.rmtree(folder, ignore_errors=True)
        if ended == WHOLE:
            break
    assert 3 < call < 39


@pytest.mark.parametrize(
    ("address", "file", "server", "waits"),
    [
        ("", "verrou-logbook.db", "", "verrou-logbook.waiting"),
        ("station.db", "station.db", "", "station.db.waiting"),
        ("a/verrou-logbook.db", "a/verrou-logbook.db", "", "a/verrou-logbook.waiting"),
        ("postgres://ana@hut/verrou", "", "postgresql://ana@hut/verrou", "verrou-logbook-hut-verrou.waiting"),
        ("postgresql:///?service=hut", "", "postgresql:///?service=hut", "verrou-logbook-service-hut.waiting"),
    ],
)
def test_where_a_logbook_is_and_where_records_wait_for_it(address: str, file: str, server: str, waits: str) -> None:
    place = place_of(address, Path("."))
    assert (str(place.file or ""), place.server, str(place.waiting)) == (file, server, waits)


def test_a_logbook_that_no_one_may_write_is_read(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    verrou("logbook", "list", "--logbook", "station/verrou-logbook.db")
    (tmp_path / "cdrom").mkdir()
    mount(str(tmp_path / "station"), tmp_path / "cdrom", "--bind")
    try:
        mount("none", tmp_path / "cdrom", "-o", "remount,bind,ro")
        at = ("--logbook", "cdrom/verrou-logbook.db")
        assert "17 records of 3 machines" in verrou("logbook", "list", *at).stdout
        kept_not = verrou("audit", "-m", "cdrom/hide-01", "-b", "office", *at, code=1)
        assert "this audit was not recorded" in kept_not.stderr and "of 31 met" in kept_not.stdout
    finally:
        subprocess.run(["umount", "-l", str(tmp_path / "cdrom")], check=True)


def test_the_demo_ends_as_its_machines_are(verrou: Verrou, station: Path) -> None:
    """The last record of each is what an audit of it says today."""
    exported = verrou("logbook", "export", "--logbook", "station/verrou-logbook.db").stdout
    output = [json.loads(line) for line in exported.splitlines()]
    for machine, baseline in (("hide-01", "station/hide-01.toml"), ("ringing-02", "station/ringing-02.toml")):
        found = verrou("audit", "-m", f"station/{machine}", "-b", baseline, "--format", "json", code=1).stdout
        last = [each for each in output if each["machine"] == machine][-1]
        verdicts = {finding["subject"]: finding["verdict"] for finding in json.loads(found)["findings"]}
        assert {finding["subject"]: finding["verdict"] for finding in last["findings"]} == verdicts


def test_a_machine_keeps_its_identity_and_shows_no_more_by_it(
    verrou: Verrou, bench: Path, tmp_path: Path, station: Path
) -> None:
    def identity(*machine: object) -> str:
        return str(verrou.json("survey", "-m", *machine)["machine"]["identity"])

    first = identity(bench)
    verrou("account", "rename", "keeper", "lamplighter", "-m", bench, "--yes")
    moved = bench.rename(tmp_path / "desk-09.bench.json")
    assert identity(moved) == first != ""
    verrou("machine", "new", "desk-10", "--bare")
    assert identity("desk-10") != first
    root = tmp_path / "station/warden-03"
    assert identity(root) == "", "before its first start a system has none"
    (root / "etc/machine-id").write_text("0123456789abcdef0123456789abcdef\n")
    hashed = identity(root)
    assert hashed and "0123456789abcdef" not in hashed and identity(root) == hashed
    for nothing in ("uninitialized\n", "\n", "not an identity\n", "0" * 31):
        (root / "etc/machine-id").write_text(nothing)
        assert identity(root) == ""


def test_the_schemas_lead_from_each_to_the_next() -> None:
    scripts = ScriptDirectory(str(Path(migrations.__file__).with_name("scripts")))
    chain = [script.revision for script in scripts.walk_revisions()]
    assert tuple(reversed(chain)) == migrations.KNOWN and scripts.get_heads() == [NEWEST]


def test_where_a_run_is_kept_is_said_or_set(
    verrou: Verrou, bench: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of a survey beside the file that it is saved to; else where one is; and nothing where nobody asked."""
    (tmp_path / "surveys").mkdir()
    verrou("survey", "-m", bench)
    assert not list(tmp_path.glob("**/*logbook*"))
    verrou("survey", "-m", bench, "--save", "surveys/monday", "--log")
    verrou("audit", "-m", bench, "-b", "office", "--log", code=1)
    assert [path.relative_to(tmp_path) for path in sorted(tmp_path.glob("**/*.db"))] == [
        Path("surveys/verrou-logbook.db"),
        Path("verrou-logbook.db"),
    ]
    monkeypatch.setenv("VERROU_LOGBOOK", "station.db")
    verrou("audit", "-m", bench, "-b", "office", code=1)
    verrou("survey", "-m", bench, "--save", "surveys/tuesday")
    verrou("audit", "-m", bench, "-b", "office", "--logbook", "other.db", code=1)
    output = {name: verrou("logbook", "list", "--logbook", name).stdout for name in ("station.db", "other.db")}
    assert "2 records" in output["station.db"] and "1 record " in output["other.db"]
    assert "2 records" in verrou("logbook", "list").stdout, "the setting says which"
    verrou("harden", "-m", bench, "-b", "office", "--only", "lockout", "--preview", code=1)
    assert "2 records" in verrou("logbook", "list").stdout, "a preview is no run"


def test_what_regressed_is_listed_worst_first() -> None:
    def history(machine: str, severity: Severity) -> MachineHistory:
        regression = Regression("lockout.after", severity, DAY.date(), DAY.date())
        return MachineHistory(machine, machine, "office", 1, (Moment(at=DAY),), (regression,), ())

    table = regressed_table(Trend([history("hide-01", Severity.LOW), history("warden-03", Severity.HIGH)]))
    assert [row["machine"] for row in table.rows] == ["warden-03", "hide-01"]
    assert [row["machine"] for row in table.first(1).rows] == ["warden-03"]
