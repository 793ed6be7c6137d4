"""Files replaced and merged, the journal and its lock, and what is printed."""

import csv
import io
import json
import os
import signal
from pathlib import Path

import pytest
from attrs import asdict, evolve
from hypothesis import given
from hypothesis import strategies as st

from conftest import Verrou
from verrou.core.baselines.toml_lines import line_index, line_of
from verrou.core.errors import BadInput, MachineRefused
from verrou.core.history.entries import Difference, JournalRecord, RunState, StepRecord
from verrou.machines.changes import FileChange, FileState
from verrou.machines.folder_operations import TakeHome, UnmakeHome
from verrou.machines.linux.copy.merging import merge_lines, merge_records
from verrou.machines.local_files import item_at, write_new
from verrou.records import journal as records_journal
from verrou.records import machine_lock as lock_module
from verrou.records.journal import JOURNAL, START, Journal, _link
from verrou.records.machine_lock import is_held, machine_lock
from verrou.reports.tables import Table, as_csv, columns_of, shown


def filled(folder: Path) -> Journal:
    """Two runs that changed something, and one that only tried."""
    journal = Journal(folder)
    for number in (1, 2):
        was, now = FileState(b"secret hash", 0o600), FileState(b"other hash", 0o600, attributes=(("user.x", b"\0y"),))
        output = evolve(TOLD, command=f"run {number}")
        assert journal.begin(output, [FileChange("/f", was, now), TakeHome("/home/tern", 7)]) == number
        journal.finish(number)
    journal.note(RunState.TESTED, TOLD)
    return journal


TOLD = JournalRecord(
    command="run",
    by="wilma",
    steps=(StepRecord("a step", "done"),),
    differences=(Difference("account tern", "enabled", "yes", "no"),),
)


def test_what_was_kept_comes_back_as_it_was(tmp_path: Path) -> None:
    journal = filled(tmp_path / "j")
    change, operation = journal.changes(1)
    assert change == FileChange(
        "/f", FileState(b"secret hash", 0o600), FileState(b"other hash", 0o600, attributes=(("user.x", b"\0y"),))
    )
    assert operation == TakeHome("/home/tern", 7) and operation.entry == 1
    assert [(e.number, e.command, str(e.state())) for e in journal.entries()] == [
        (1, "run 1", "done"),
        (2, "run 2", "done"),
        (3, "run", "tested"),
    ]
    for path in (tmp_path / "j").rglob("*"):
        assert path.stat().st_mode & 0o077 == 0, f"{path} is for its owner alone"
    assert b"hash" not in (tmp_path / "j/journal.jsonl").read_bytes()
    assert [entry.number for entry in journal.pending_cleanup()] == [1, 2]
    (tmp_path / "j/kept/0002/contents").write_bytes(b"other hash, secret hash")
    assert len(journal.damaged()) == 1
    with pytest.raises(BadInput, match="was modified, so it cannot be undone"):
        journal.changes(2)


def test_each_line_of_the_journal_is_on_disk_before_the_run_continues(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    synced: list[tuple[str, int]] = []

    def note(descriptor: int) -> None:
        synced.append((os.readlink(f"/proc/self/fd/{descriptor}"), os.fstat(descriptor).st_size))

    monkeypatch.setattr(os, "fsync", note)
    journal = Journal(tmp_path / "records")
    number = journal.begin(TOLD, [])
    journal.finish(number)
    file = journal.folder / JOURNAL
    sizes = [size for place, size in synced if place == str(file)]
    assert len(sizes) == 2 and sizes[-1] == file.stat().st_size


def test_a_journal_of_another_version_is_left_to_that_version(bench: Path, verrou: Verrou) -> None:
    verrou("rule", "set", "lockout.after=9", "-m", bench, "--yes")
    journal = bench.with_name("hide-01.verrou") / "journal.jsonl"
    lines = [json.loads(line)["record"] for line in journal.read_text().splitlines()]
    for marked, whose in (({}, "Verrou 0.1"), ({"format": 3}, "a newer version")):
        chain, text = START, ""
        for line in lines:
            line.pop("format", None)
            chain = _link(chain, output := line | marked)
            text += json.dumps({"record": output, "chain": chain}) + "\n"
        journal.write_text(text)
        for words, code in ((("undo", "--yes"), 2), (("rule", "set", "lockout.after=8", "--yes"), 2), (("survey",), 0)):
            assert f"written by {whose}" in verrou(*words, "-m", bench, code=code).stderr
        assert journal.read_text() == text


def test_an_entry_of_a_few_days_ago_is_read_and_can_be_undone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """It has no reason and no tested names, and its folder operation bears the number of the entry it undid."""
    journal = Journal(tmp_path / "j")
    monkeypatch.setattr(records_journal, "asdict", lambda record: _without(asdict(record), "why", "tried"))
    facts = [("uid", 7), ("gid", 7), ("mode", 448), ("kept", 1), ("entry", 1), ("finished", 1)]
    monkeypatch.setattr(
        records_journal, "operation_data", lambda _: {"operation": "unmake-home", "place": "/home/tern", "facts": facts}
    )
    journal.begin(TOLD, [TakeHome("/home/tern", 7)])
    (entry,) = journal.entries()
    assert (entry.why, entry.tried) == ("", ())
    assert journal.changes(1) == [UnmakeHome("/home/tern", 7, 7, 0o700, True)] and journal.changes(1)[0].entry == 1


def _without(facts: dict[str, object], *names: str) -> dict[str, object]:
    return {name: value for name, value in facts.items() if name not in names}


def test_an_undo_of_an_undo_is_done_again(tmp_path: Path) -> None:
    journal = Journal(tmp_path / "j")
    for undoes in ((), (1,), (2,)):
        journal.finish(journal.begin(evolve(TOLD, undoes=undoes), []))
    assert [(e.number, e.undone_by) for e in journal.entries()] == [(1, None), (2, 3), (3, None)]


@pytest.mark.parametrize("mode", [0o755, 0o770])
def test_records_that_others_can_write_are_not_trusted(tmp_path: Path, mode: int) -> None:
    (tmp_path / "j").mkdir()
    (tmp_path / "j").chmod(mode)
    with pytest.raises(MachineRefused, match="closed to others"):
        Journal(tmp_path / "j").begin(TOLD, [])
    (tmp_path / "link").symlink_to(tmp_path / "j")
    with pytest.raises(MachineRefused, match="closed to others"):
        Journal(tmp_path / "link").begin(TOLD, [])


def test_a_second_run_waits_and_then_says_who_is_at_work(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Another process holds the lock; the kernel lets go of it when that dies."""
    ready, output = os.pipe()
    child = os.fork()
    if child == 0:
        with machine_lock(tmp_path, "hide-01", "harden", "wilma"):
            os.write(output, b"x")
            signal.pause()
        os._exit(0)
    os.read(ready, 1)
    monkeypatch.setattr(lock_module, "PATIENCE", 0.0)
    assert is_held(tmp_path)
    with (
        pytest.raises(MachineRefused, match=r"hide-01 is in use by wilma \(harden, since "),
        machine_lock(tmp_path, "hide-01", "undo", "ana"),
    ):
        pass
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    assert not is_held(tmp_path)
    with machine_lock(tmp_path, "hide-01", "undo", "ana"):
        pass


def test_a_failed_write_leaves_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match="No space"):
        write_new(tmp_path / "file", FileState(b"new", 0o600, os.geteuid(), os.getegid()))
    assert list(tmp_path.iterdir()) == []


def test_what_hangs_on_a_file_is_kept(tmp_path: Path) -> None:
    (tmp_path / "old").write_bytes(b"x")
    os.setxattr(tmp_path / "old", "user.station", b"hide")
    (tmp_path / "old").chmod(0o4750)
    item = item_at(tmp_path / "old")
    write_new(tmp_path / "new", item)
    assert item_at(tmp_path / "new") == item and item.attributes == (("user.station", b"hide"),)
    (tmp_path / "link").symlink_to("old")
    assert item_at(tmp_path / "link").link == "old" and item_at(tmp_path / "link").content is None


LINES = st.lists(st.sampled_from([b"a", b"b", b"c", b"", b"a"]), max_size=8).map(b"\n".join)


@given(before=LINES, after=LINES)
def test_lines_that_no_one_else_touched_come_back_whole(before: bytes, after: bytes) -> None:
    assert merge_lines(before, after, after) == (before, [])


@given(st.sets(st.integers(0, 9)), st.sets(st.integers(0, 9)))
def test_of_two_writers_each_keeps_what_is_its_own(ours: set[int], theirs: set[int]) -> None:
    """We and somebody else change lines of one file; ours go back, theirs stay, and what both changed is said."""
    before = [b"line %d" % n for n in range(10)]
    after = [b"ours %d" % n if n in ours else line for n, line in enumerate(before)]
    now = [b"theirs %d" % n if n in theirs else line for n, line in enumerate(after)]
    merged, kept = merge_lines(*(b"\n".join(lines) for lines in (before, after, now)))
    for number, line in enumerate(merged.split(b"\n")):
        assert line in (before[number], now[number])
        assert line == now[number] or number not in theirs
        assert line == before[number] or number in theirs or kept
    assert bool(kept) is bool(ours & theirs) or kept


def test_members_are_merged_name_by_name() -> None:
    before, after = b"sudo:x:27:ana\nringers:x:5:\n", b"sudo:x:27:ana,tern\nringers:x:5:\n"
    now = b"sudo:x:27:ana,tern,bors\nringers:x:5:bors\n"
    assert merge_records("/etc/group", before, after, now) == (b"sudo:x:27:ana,bors\nringers:x:5:bors\n", [])
    removed = b"ringers:x:5:\n"
    assert merge_records("/etc/group", before, removed, b"ringers:x:5:bors\n")[0].splitlines() == [
        b"ringers:x:5:bors",
        b"sudo:x:27:ana",
    ]


@given(st.data())
def test_any_change_to_a_line_of_the_journal_shows(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("journal")
    journal = filled(folder / "j")
    path = folder / "j/journal.jsonl"
    content = path.read_bytes()
    position = data.draw(st.integers(0, len(content) - 2))
    replacement = data.draw(st.sampled_from(b"x7 ").filter(lambda byte: byte != content[position]))
    path.write_bytes(content[:position] + bytes([replacement]) + content[position + 1 :])
    try:
        output = [(e.command, e.by, e.steps, e.differences) for e in journal.entries()]
    except BadInput:
        return
    path.write_bytes(content)
    assert output == [(e.command, e.by, e.steps, e.differences) for e in journal.entries()], (
        "only white space may differ"
    )


@given(st.text(max_size=40))
def test_nothing_shown_moves_a_cursor(text: str) -> None:
    assert shown(text).isprintable()
    assert shown([text, text]) == f"{shown(text)}, {shown(text)}"


FORMULAS = st.text("=+-@\t\r '|", min_size=1, max_size=3)
"""What spreadsheets begin to reckon at."""


@given(st.lists(st.builds(str.__add__, FORMULAS | st.just(""), st.text(max_size=12)), min_size=1, max_size=5))
def test_csv_reads_back_and_starts_no_formula(values: list[str]) -> None:
    sheet = Table("s", columns_of(("a", "A")), tuple({"a": value} for value in values))
    header, *cells = csv.reader(io.StringIO(as_csv(sheet)))
    assert header == ["a"]
    for value, cell in zip(values, [c[0] if c else "" for c in cells], strict=True):
        assert cell.lstrip("'") == shown(value).lstrip("'")
        assert not cell.lstrip().startswith(("=", "+", "-", "@"))


KEYS = st.from_regex(r"[a-z_]{1,5}", fullmatch=True)


@given(st.dictionaries(KEYS, st.dictionaries(KEYS, st.integers(0, 9), max_size=4), max_size=4), st.booleans())
def test_every_key_has_its_line(document: dict[str, dict[str, int]], comments: bool) -> None:
    lines: list[str] = []
    expected = {}
    for table, keys in document.items():
        lines += [f"# about {table} = x"] if comments else []
        lines.append(f"[{table}]")
        expected[(table,)] = len(lines)
        for key, value in keys.items():
            lines.append(f'{key} = "{value} [x] # y"  # z = 1')
            expected[table, key] = len(lines)
    index = line_index("\n".join(lines))
    assert {path: index.get(path) for path in expected} == expected
    assert line_of(index, ("nowhere", "at", "all")) is None


def test_lines_of_dotted_keys_and_repeated_tables() -> None:
    text = 'a.b = 1\n[[waiver]]\nrule = """\nx = 3\n"""\n[[waiver]]\n"quoted key" = 2\n[x."y z"]\n'
    index = line_index(text)
    assert index["a", "b"] == 1 and index["waiver", 0, "rule"] == 3
    assert index["waiver", 1, "quoted key"] == 7 and index["x", "y z"] == 8
    assert ("waiver", 0, "x") not in index


@pytest.mark.parametrize("width", [80, 100, 160])
def test_no_line_is_wider_than_the_terminal(
    verrou: Verrou,
    tmp_path: Path,
    width: int,
    monkeypatch: pytest.MonkeyPatch,
    station: Path,
) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    for arguments in (
        ("survey", "-m", "station/warden-03", "--all"),
        ("audit", "-m", "station/hide-01.bench.json", "-b", "station/hide-01.toml"),
        ("harden", "-m", "station/hide-01.bench.json", "-b", "station/hide-01.toml", "--preview"),
        ("verify", "-m", "station/ringing-02.bench.json", "-b", "station/ringing-02.toml"),
        ("rule", "explain", "lockout", "password"),
        ("rule", "list"),
        ("compare", "station/hide-01", "station/surveys/hide-01-2025-09"),
        ("baseline", "compare", "office", "shared-desk"),
        ("round", "station/surveys", "--baselines", "station/which.toml"),
        ("logbook", "list", "--logbook", "station/verrou-logbook.db"),
        ("logbook", "show", "1", "--logbook", "station/verrou-logbook.db"),
        ("trend", "--logbook", "station/verrou-logbook.db"),
        ("handbook",),
        ("baseline", "show", "public-terminal"),
        ("group", "list", "-m", "station/warden-03"),
    ):
        output = verrou(*arguments, code=None).stdout
        assert output and max(map(len, output.splitlines())) <= width, arguments
        assert "\x1b" not in output, "no colour in a pipe"
    assert "built in" in verrou("account", "list", "-m", "station/hide-01.bench.json").stdout, "whatever the width"


def test_every_format_shows_the_same(verrou: Verrou, station: Path) -> None:
    arguments = ("audit", "-m", "station/hide-01.bench.json", "-b", "station/hide-01.toml")
    output = verrou.json(*arguments, code=1)
    rows = list(csv.DictReader(io.StringIO(verrou(*arguments, "--format", "csv", code=1).stdout)))
    text = verrou(*arguments, code=1).stdout
    assert [(f["subject"], f["verdict"], f["statement"]) for f in output["findings"]] == [
        (row["subject"], row["verdict"], row["statement"]) for row in rows
    ]
    counts = output["score"]
    assert counts["assessed"] == counts["met"] + counts["not_met"] + counts["unknown"]
    assert f"{counts['met']} of {counts['assessed']} met" in text
    for finding in output["findings"]:
        assert finding["subject"] in text


def test_only_a_family_is_hardened(verrou: Verrou, bench: Path) -> None:
    verrou("harden", "-m", bench, "-b", "shared-desk", "--only", "lockout", "--yes", code=1)
    policy = json.loads(bench.read_text())["policy"]
    assert (policy["try_limit"], policy["length"]) == (5, 0)
