"""Files put back and merged, the journal's chain, and what is printed."""

import csv
import io
import json
import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Verrou
from verrou.core.errors import BadInput
from verrou.core.toml_lines import line_index, line_of
from verrou.machines import Item, Outcome
from verrou.machines.local_files import STAGED, item_at, put_back, write_whole
from verrou.records.journal import Journal
from verrou.reports.sheets import Sheet, as_csv, columns_of, shown


def bring_back(folder: Path, before: dict[str, Item], after: dict[str, Item] | None) -> dict[str, Outcome]:
    return {item.item: item.outcome for item in put_back(lambda n: folder / n, before, after, lambda _: None)}


def remember(folder: Path, *names: str) -> dict[str, Item]:
    return {name: item_at(folder / name) for name in names}


def test_files_folders_modes_and_absence_come_back(tmp_path: Path) -> None:
    names = ("changed", "made", "gone", "folder", "folder/inside", "same")
    (tmp_path / "changed").write_bytes(b"old")
    (tmp_path / "changed").chmod(0o640)
    (tmp_path / "gone").write_bytes(b"was")
    (tmp_path / "same").write_bytes(b"same")
    before = remember(tmp_path, *names)
    (tmp_path / "changed").write_bytes(b"new")
    (tmp_path / "changed").chmod(0o600)
    (tmp_path / "made").write_bytes(b"x")
    (tmp_path / "gone").unlink()
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder/inside").write_bytes(b"y")
    after = remember(tmp_path, *names)
    done = bring_back(tmp_path, before, after)
    assert remember(tmp_path, *names) == before
    assert set(done) == set(names) - {"same"} and set(done.values()) == {Outcome.UNDONE}


def test_what_somebody_else_wrote_stays(tmp_path: Path) -> None:
    (tmp_path / "theirs").write_bytes(b"old")
    before = remember(tmp_path, "theirs", "home", "home/x")
    (tmp_path / "theirs").write_bytes(b"ours")
    (tmp_path / "home").mkdir()
    (tmp_path / "home/x").write_bytes(b"skeleton")
    after = remember(tmp_path, "theirs", "home", "home/x")
    (tmp_path / "theirs").write_bytes(b"theirs")
    (tmp_path / "home/letter").write_bytes(b"dear")
    done = bring_back(tmp_path, before, after)
    assert done == {"theirs": Outcome.REFUSED, "home/x": Outcome.UNDONE, "home": Outcome.REFUSED}
    assert (tmp_path / "theirs").read_bytes() == b"theirs"
    assert (tmp_path / "home/letter").read_bytes() == b"dear"
    assert set(bring_back(tmp_path, before, None)) == {"theirs", "home"}, "a run that broke off is taken back whole"


def test_a_link_put_in_the_way_is_not_followed(tmp_path: Path) -> None:
    (tmp_path / "outside").write_bytes(b"precious")
    (tmp_path / "file").write_bytes(b"old")
    before = remember(tmp_path, "file")
    (tmp_path / "file").write_bytes(b"new")
    after = remember(tmp_path, "file")
    (tmp_path / "file").unlink()
    (tmp_path / "file").symlink_to("outside")
    assert bring_back(tmp_path, before, after) == {"file": Outcome.REFUSED}
    assert (tmp_path / "outside").read_bytes() == b"precious"


def test_a_failed_write_leaves_the_old_file_and_nothing_else(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "file").write_bytes(b"old")

    def full(_: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match="No space"):
        write_whole(tmp_path / "file", b"new", 0o600, os.geteuid(), os.getegid())
    assert [path.name for path in tmp_path.iterdir()] == ["file"]
    assert (tmp_path / "file").read_bytes() == b"old"


def test_what_a_killed_run_staged_is_cleared_away(tmp_path: Path) -> None:
    (tmp_path / "file").write_bytes(b"old")
    before = remember(tmp_path, "file")
    (tmp_path / f"file{STAGED}99").write_bytes(b"half")
    (tmp_path / "file").write_bytes(b"new")
    bring_back(tmp_path, before, None)
    assert [path.name for path in tmp_path.iterdir()] == ["file"]


def filled(folder: Path) -> Journal:
    journal = Journal(folder)
    for number in (1, 2):
        assert journal.begin(f"run {number}", "wilma", "", (), ["a step"], {"f": Item(b"secret hash", 0o600)}) == number
        journal.step(number, "a step", "done", "")
        journal.finish(number, {"f": Item(b"other hash", 0o600)})
    return journal


def test_what_was_kept_comes_back_and_goes_with_the_entry(tmp_path: Path) -> None:
    journal = filled(tmp_path / "j")
    assert journal.before(1) == {"f": Item(b"secret hash", 0o600)}
    assert journal.after(1) == {"f": Item(b"other hash", 0o600)}
    assert [(e.number, e.command, len(e.outcomes), bool(e.finished)) for e in journal.entries()] == [
        (1, "run 1", 1, True),
        (2, "run 2", 1, True),
    ]
    for path in (tmp_path / "j").rglob("*"):
        assert path.stat().st_mode & 0o077 == 0, f"{path} is for its owner alone"
    journal.undone(1)
    kept = [path.read_bytes() for path in (tmp_path / "j/kept/0002").rglob("*") if path.is_file()]
    assert b"secret hash" in kept and not (tmp_path / "j/kept/0001").exists()


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
        told = [(e.command, e.by, e.steps, e.outcomes) for e in journal.entries()]
    except BadInput:
        return
    path.write_bytes(content)
    assert told == [(e.command, e.by, e.steps, e.outcomes) for e in journal.entries()], "only white space may differ"


@given(st.text(max_size=40))
def test_nothing_shown_moves_a_cursor(text: str) -> None:
    assert shown(text).isprintable()
    assert shown([text, text]) == f"{shown(text)}, {shown(text)}"


@given(st.lists(st.text(max_size=12), min_size=1, max_size=5))
def test_csv_reads_back_and_starts_no_formula(values: list[str]) -> None:
    sheet = Sheet("s", columns_of(("a", "A")), tuple({"a": value} for value in values))
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
    verrou: Verrou, tmp_path: Path, width: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    verrou("demo", "cap", "--quiet")
    for arguments in (
        ("survey", "-m", "cap/warden-03", "--all"),
        ("audit", "-m", "cap/hide-01.bench.json", "-b", "cap/hide-01.toml"),
        ("harden", "-m", "cap/hide-01.bench.json", "-b", "cap/hide-01.toml", "--preview"),
        ("verify", "-m", "cap/ringing-02.bench.json", "-b", "cap/ringing-02.toml"),
        ("rule", "explain", "lockout", "password"),
        ("rule", "list"),
        ("baseline", "show", "public-terminal"),
        ("group", "list", "-m", "cap/warden-03"),
    ):
        told = verrou(*arguments, code=None).stdout
        assert told and max(map(len, told.splitlines())) <= width, arguments
        assert "\x1b" not in told, "no colour in a pipe"


def test_every_format_tells_the_same(verrou: Verrou) -> None:
    verrou("demo", "cap", "--quiet")
    arguments = ("audit", "-m", "cap/hide-01.bench.json", "-b", "cap/hide-01.toml")
    told = json.loads(verrou(*arguments, "--format", "json", code=1).stdout)
    rows = list(csv.DictReader(io.StringIO(verrou(*arguments, "--format", "csv", code=1).stdout)))
    text = verrou(*arguments, code=1).stdout
    assert [(f["subject"], f["verdict"], f["found"]) for f in told["findings"]] == [
        (row["subject"], row["verdict"], row["found"]) for row in rows
    ]
    counts = told["score"]
    assert counts["counted"] == counts["holds"] + counts["short"] + counts["unreadable"]
    assert f"{counts['holds']} of {counts['counted']} hold" in text
    for finding in told["findings"]:
        assert finding["subject"] in text


def test_only_a_family_is_hardened(verrou: Verrou, bench: Path) -> None:
    verrou("harden", "-m", bench, "-b", "shared-desk", "--only", "lockout", "--yes", code=1)
    policy = json.loads(bench.read_text())["policy"]
    assert (policy["try_limit"], policy["length"]) == (5, 0)
