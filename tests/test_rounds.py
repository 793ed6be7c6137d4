"""Many machines at once: each row is what its audit says, whatever lies beside it; surveys read in a row are read as if
each were alone; the table, the page and its picture."""

import csv
import hashlib
import io
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
from collections import Counter
from contextlib import suppress
from datetime import datetime
from html.parser import HTMLParser
from pathlib import Path

import pytest
from attrs import evolve
from hypothesis import find, given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, examples
from test_seat_bench import machines
from verrou.cli.baseline_files import load_baseline
from verrou.core.baselines.baseline import Baseline
from verrou.core.errors import BadInput
from verrou.core.judging.audit import Audit, FindingCache, audit
from verrou.core.judging.rounds import RULES, SIGNS, Row, worst_first
from verrou.core.model import Snapshot
from verrou.core.surveys.data import snapshot_from, survey_data
from verrou.core.surveys.text import MOST_MEMBERS, MOST_REMEMBERED, SurveyReader
from verrou.machines.bench.authority import Authority
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.registry import machines_in
from verrou.records import rounds
from verrou.records.round_cache import Renewal, RoundCache
from verrou.reports.figures import NAMED_ROWS, machines_by_rules
from verrou.reports.round_page import MOST_IN_WORDS, as_page
from verrou.reports.tables import as_json

READER = SurveyReader()
"""One for all examples, so that it remembers parts of others."""


def read(text: str, reader: SurveyReader | None) -> Snapshot | str:
    try:
        return reader.snapshot(text) if reader else snapshot_from(json.loads(text))
    except (BadInput, ValueError, RecursionError):
        return "no survey"


@examples(80)
@given(machines(), st.randoms(use_true_random=False), st.integers(0, 6))
def test_a_survey_reads_the_same_alone_and_in_a_row(machine: Authority, chance: random.Random, changes: int) -> None:
    """Changed at random too: lines left out, doubled, swapped, and signs that mean something in JSON put in."""
    lines = as_json(survey_data(snapshot_of(machine, ""))).splitlines(keepends=True)
    for _ in range(changes):
        at, other = chance.randrange(len(lines)), chance.randrange(len(lines))
        match chance.randrange(4):
            case 0:
                del lines[at]
            case 1:
                lines.insert(at, lines[other])
            case 2:
                lines[at], lines[other] = lines[other], lines[at]
            case _:
                line = lines[at]
                where = chance.randrange(len(line))
                lines[at] = line[:where] + chance.choice('{}[],:"\\ \n0') + line[where:]
    text = "".join(lines)
    assert read(text, READER) == read(text, None)


@pytest.mark.parametrize(
    ("line", "instead"),
    [
        ('      "name": "keeper",\n', ""),
        ('      "name": "keeper",\n', '      7name": "keeper",\n'),
        ('      "origin": "built-in",\n', '      7origin": "built-in",\n'),
        ('      "last_sign_in": null,\n', '      "last_sign_in": null, "enabled": false,\n'),
        ('      "usable_until": null\n', '      "usable_until": null,\n      "name": "late"\n'),
        ('      "source": {\n        "place"', '      "source": {\n      "name": "within",\n      "place"'),
        ('      "must_change": false,\n', '      "must\tchange": false,\n'),
        ('      "shell": "",\n', '      "name": "again",\n'),
        ('      "locked_until": null,\n', '      "home": "/elsewhere",\n'),
        ('      "origin": "built-in",\n', '      "name": "short"\n    },\n    {\n      "origin": "built-in",\n'),
    ],
)
def test_a_member_is_never_read_where_it_does_not_stand(line: str, instead: str) -> None:
    """A sign that is no quote, two on a line, one twice, one of an object within another whose own is missing, a
    sign in a name that JSON does not have there, one twice while another is missing, and hardly any."""
    text = as_json(survey_data(snapshot_of(Authority.fresh("hide-01", datetime(2026, 9, 14)), "")))
    assert text.count(line) and read(text, READER) == read(text, None) != "no survey"
    changed = text.replace(line, instead, 1)
    assert read(changed, READER) == read(changed, None)
    changed = changed.replace('      "name": "keeper",\n', "", 1)
    assert read(changed, READER) == read(changed, None)


def test_every_row_is_what_the_audit_of_that_machine_says(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    """More machines than it takes to share them out among processes, and what is no machine beside them."""
    folder = tmp_path / "many"
    folder.mkdir()
    surveys = sorted((tmp_path / "station/surveys").iterdir())
    for number in range(70):
        raw = json.loads(surveys[number % len(surveys)].read_text())
        raw["machine"] |= {"name": f"desk-{number:02}", "identity": f"{number:032x}"}
        (folder / f"desk-{number:02}.survey.json").write_text(json.dumps(raw, indent=None if number % 3 else 2) + "\n")
    (folder / "cut.survey.json").write_text((folder / "desk-00.survey.json").read_text()[:2000])
    (folder / "strange.json").write_text("[]")
    (folder / "pipe.survey.json").symlink_to("/dev/zero")
    (folder / "notes.txt").write_text("no machine")
    ended = verrou("round", "many", "-b", "shared-desk", "--format", "json", code=1)
    output = json.loads(ended.stdout)
    assert {Path(each["address"]).name for each in output["left_out"]} == {
        *("cut.survey.json", "strange.json", "pipe.survey.json")
    }
    assert ended.stderr.count("skipped: ") == 3
    rows = output["machines"]
    assert len(rows) == 70
    weights = [(-row["high"], -row["medium"], -row["low"]) for row in rows]
    assert weights == sorted(weights), "the worst first"
    for row in rows[::9]:
        audit = verrou.json("audit", "-m", row["address"], "-b", "shared-desk", code=None)
        verdicts = {finding["subject"]: finding["verdict"] for finding in audit["findings"]}
        assert {rule: verdict for verdict, rules in row["rules"].items() for rule in rules} == verdicts
        assert (row["met"], row["assessed"]) == (audit["score"]["met"], audit["score"]["assessed"])
        assert row["worst"] == audit["findings"][0]["statement"]
    lines = verrou("round", "many", "-b", "shared-desk", "--format", "lines", code=1).stdout.splitlines()
    assert [json.loads(line) for line in lines] == rows


def test_a_machine_is_known_again_and_audited_against_its_own_baseline(
    verrou: Verrou, tmp_path: Path, station: Path
) -> None:
    which = ("--baselines", "station/which.toml", "--format", "json")
    output = verrou.json("round", "station/surveys", *which, code=1)
    assert {row["machine"]: row["baseline"].split(":")[0] for row in output["machines"]} == {
        "hide-01": "Cap Fauvel",
        "ringing-02": "Cap Fauvel",
        "warden-03": "Office",
    }
    assert output["older"] == 7 and {row["at"][:7] for row in output["machines"]} == {"2026-09"}
    assert len(verrou.json("round", "station/surveys", *which, "--every", code=1)["machines"]) == 10
    every = verrou.json("round", "station", "-b", "office", code=1)
    assert {row["machine"] for row in every["machines"]} == {"hide-01", "ringing-02", "warden-03"}
    (tmp_path / "some.toml").write_text('[machines]\n"hide-*" = "office"\n')
    some = verrou("round", "station/surveys", "--baselines", "some.toml", code=1)
    assert "no baseline is named for warden-03" in some.stderr and "1 machine" in some.stdout
    for text, message in (
        ("[machine]\n", "expected a table [machines]"),
        ("[machines]\nx = 3\n", "expected the name of a baseline"),
        ('[machines]\nx = "offic"\n', "Did you mean office?"),
        ("[", "not valid TOML"),
    ):
        (tmp_path / "wrong.toml").write_text(text)
        assert message in verrou("round", "station/surveys", "--baselines", "wrong.toml", code=2).stderr
    assert "found no machine" in verrou("round", "station/warden-03/etc", "-b", "office", code=2).stderr
    assert "no baseline given" in verrou("round", "station", code=2).stderr


HOSTILE = (
    *("<script>alert(1)</script>", '"><img src=x onerror=alert(1)>', "=HYPERLINK(1)", "tern\x1b[2J\x07\u202e"),
    "&lt;{{7*7}}",
)


class Looked(HTMLParser):
    """What a page is made of, and everything in it that could lead anywhere else."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: set[str] = set()
        self.leads: list[str] = []
        self.feed(text)
        self.leads += re.findall(r"url\((?!#)[^)]*\)|@import[^;]*", text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        for name, value in attrs:
            if name.startswith("on") or (
                name in ("src", "href", "xlink:href", "action")
                and not (value or "").startswith(("#", "data:image/png"))
            ):
                self.leads.append(f"{tag} {name}={value}")


def test_a_survey_that_did_not_change_is_judged_once(
    verrou: Verrou, tmp_path: Path, station: Path, own_cache: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By its content, baseline and program alone: where it lies and what else is there makes no difference."""
    shutil.copytree(tmp_path / "station/surveys", tmp_path / "surveys")
    judged = tmp_path / "judged"

    def seen(snapshot: Snapshot, baseline: Baseline, known: FindingCache | None = None) -> Audit:
        with judged.open("a") as stream:  # the program is a process of its own
            stream.write("one\n")
        return audit(snapshot, baseline, known)

    monkeypatch.setattr(rounds, "audit", seen)

    def go(folder: str, baseline: str = "office") -> tuple[object, int]:
        judged.write_text("")
        found = verrou.json("round", folder, "-b", baseline, "--every", code=1)
        return found, judged.read_text().count("one")

    first, count = go("surveys")
    assert count == len(list((tmp_path / "surveys").iterdir())) > 5
    cached = own_cache / "rounds.json"
    assert cached.stat().st_mode & 0o7777 == 0o600 and go("surveys") == (first, 0)
    (tmp_path / "surveys").rename(tmp_path / "moved")
    with monkeypatch.context() as inside:
        inside.chdir(tmp_path / "moved")
        assert machines_in(Path()) == sorted(os.listdir())
    moved, again = go("moved")
    assert again == 0 and json.dumps(moved).replace("moved/", "surveys/") == json.dumps(first)
    assert go("moved", "shared-desk")[1] == count
    (tmp_path / "which.toml").write_text('[machines]\n"hide-*" = "shared-desk"\n"*" = "office"\n')
    judged.write_text("")
    verrou("round", "moved", "--baselines", "which.toml", code=1)
    assert not judged.read_text(), "whichever baseline a machine has now"
    a_survey = next((tmp_path / "moved").iterdir())
    a_survey.write_text(a_survey.read_text().replace("\n", "\n ", 1))
    assert go("moved")[1] == 1, "another content"

    def forged(part: bytes, instead: bytes) -> None:
        body = re.sub(part, instead, cached.read_bytes().rpartition(b"\n")[0], count=1) + b"\n"
        cached.write_bytes(body + hashlib.sha256(body).hexdigest().encode())

    for harm in (
        lambda: cached.write_bytes(cached.read_bytes()[:-9]),
        lambda: cached.write_text("{}"),
        lambda: cached.write_bytes(cached.read_bytes().replace(b"hide", b"hidf", 1)),
        lambda: cached.chmod(0o620),
        lambda: forged(b',"hide-01",', b",1,"),
        lambda: forged(rb'"[HML?w.+-]{20,}"', b'"+"'),
        lambda: forged(rb'",.*\n', b'"]\n'),
        lambda: os.chown(cached, 65534, 0),
        lambda: own_cache.chmod(0o777),
        lambda: monkeypatch.setattr("verrou.__version__", "0.9"),
    ):
        assert go("moved")[1] == 0
        harm()
        assert go("moved") == (moved, count), "thrown away"
        own_cache.chmod(0o700)
    cached.unlink()
    cached.symlink_to(tmp_path / "elsewhere.json")
    assert go("moved") == (moved, count) and not (tmp_path / "elsewhere.json").exists()
    cached.unlink()
    with monkeypatch.context() as full, open("/dev/full", "r+b", buffering=0) as disk:
        full.setattr("verrou.records.round_cache.TemporaryFile", lambda: disk)
        assert go("moved") == (moved, count), "a round never fails for it"
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc")
    assert go("moved") == (moved, count)


@pytest.fixture
def hostile(tmp_path: Path, verrou: Verrou) -> Path:
    """A folder of surveys of machines whose names and accounts mean something elsewhere, and a baseline of such."""
    folder = tmp_path / "hostile"
    folder.mkdir()
    for number, name in enumerate(HOSTILE):
        snapshot = snapshot_of(Authority.fresh("hide-01", datetime(2026, 9, 14)), "")
        machine = evolve(snapshot.machine, name=name, system=name, identity=f"{number}{name}")
        accounts = tuple(evolve(a, name=f"{name}{a.name}", enabled=True) for a in snapshot.accounts)
        data = survey_data(evolve(snapshot, machine=machine, accounts=accounts))
        (folder / f"{number}.survey.json").write_text(as_json(data))
    title = json.dumps("<b>title</b>\u0007 =1+1")
    (tmp_path / "hostile.toml").write_text(
        f'[baseline]\ntitle = {title}\nbuilds_on = ["shared-desk"]\n'
        '[population]\nunlisted = { value = "report", reason = "<i>x</i>" }\n'
        '[[waiver]]\nrule = "lockout.after"\nreason = "<u>why</u>"\nby = "=cmd()"\nuntil = 2030-01-01\n'
    )
    return folder


def test_names_stay_names_on_pages_and_in_spreadsheets(hostile: Path, verrou: Verrou, tmp_path: Path) -> None:
    verrou("round", hostile, "-b", "hostile.toml", "--html", "round.html", code=1)
    verrou("report", "-m", hostile / "0", "-b", "hostile.toml", "--save", "report.html", code=1)
    verrou("audit", "-m", hostile / "1", "-b", "hostile.toml", "--log", code=1)
    verrou("trend", "--save", "trend.html")
    verrou("trend", "--save", "trend.svg")
    verrou("report", "-m", hostile / "3", "-b", "hostile.toml", "--save", "report.md", code=1)
    for name in ("round.html", "report.html", "trend.html", "trend.svg"):
        text = (tmp_path / name).read_text()
        looked = Looked(text)
        assert not looked.tags & {"script", "img", "b", "i", "u", "iframe", "object", "link"} or looked.tags & {
            "b"
        } == {"b"}
        assert not looked.leads, looked.leads
        assert "<b>title" not in text and "<img" not in text and "<script" not in text and "49" not in looked.rawdata
        assert all(sign.isprintable() or sign == "\n" for sign in text)
        assert name == "trend.svg" or "default-src 'none'" in text
    markdown = (tmp_path / "report.md").read_text()
    assert "\\<b\\>title" in markdown and all(sign.isprintable() or sign == "\n" for sign in markdown)
    table = verrou("round", hostile, "-b", "hostile.toml", "--format", "csv", code=1).stdout
    rows = list(csv.DictReader(io.StringIO(table)))
    assert [row["machine"] for row in rows].count("'=HYPERLINK(1)") == 1
    assert {row["oldest_waiver"] for row in rows} == {"2030-01-01"}
    for row in csv.reader(io.StringIO(table)):
        assert not [cell for cell in row if cell[:1] in ("=", "+", "-", "@", "\t", "\r")]


def test_a_browser_makes_nothing_of_names_on_pages(hostile: Path, verrou: Verrou, tmp_path: Path) -> None:
    browser = shutil.which("chromium")
    if browser is None:
        pytest.skip("chromium is not installed")
    verrou("round", hostile, "-b", "hostile.toml", "--html", "round.html", code=1)
    verrou("report", "-m", hostile / "1", "-b", "hostile.toml", "--save", "report.html", code=1)
    for name in ("round.html", "report.html"):
        shown = subprocess.run(
            [
                *(browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking"),
                *("--disable-component-update", "--disable-sync", "--no-first-run"),
                *(f"--user-data-dir={tmp_path / 'profile'}", "--dump-dom", (tmp_path / name).as_uri()),
            ],
            capture_output=True,
            text=True,
            check=True,
            timeout=100,
        ).stdout
        assert "onerror=alert" in shown and not Looked(shown).leads


def filtered(page: str, key: str) -> tuple[int, int]:
    """How many machines a filter names, and how many lines of machines it leaves."""
    label = re.search(rf'<label for="show-{key}">[a-z ]+: (\d+)</label>', page)
    hides = re.search(rf"#show-{key}:checked ~ table.machines tbody tr:not\(\.(\w)\)", page)
    assert label and bool(hides) is (key != "all")
    lines = re.findall(r'<tr class="([a-z ]*)">', page)
    return int(label[1]), len([line for line in lines if hides is None or hides[1] in line.split()])


def test_the_page_filters_without_a_script_and_its_picture_draws_what_is_asked(
    verrou: Verrou, tmp_path: Path, station: Path
) -> None:
    verrou("round", "station/surveys", "--baselines", "station/which.toml", "--html", "round.html", code=1)
    page = (tmp_path / "round.html").read_text()
    for key, count in (("all", 3), ("high", 3), ("waived", 2), ("unknown", 1)):
        assert filtered(page, key) == (count, count), key
    picture = page[page.index("<svg") : page.index("</svg>")]
    drawn = re.findall(r"<!-- ([a-z]+\.[a-z_.-]+) -->", picture)
    output = verrou.json("round", "station/surveys", "--baselines", "station/which.toml", code=1)
    asked = {rule for row in output["machines"] for rules in row["rules"].values() for rule in rules}
    assert set(drawn) == asked and len(drawn) == len(asked)


@pytest.fixture
def many(tmp_path: Path, verrou: Verrou, station: Path) -> Path:
    """A folder of more surveys than one process looks at."""
    text = (tmp_path / "station/surveys/hide-01-2026-09.survey.json").read_text()
    folder = tmp_path / "many"
    folder.mkdir()
    identity = json.loads(text)["machine"]["identity"]
    for number in range(600):
        (folder / f"{number:03}.survey.json").write_text(text.replace(identity, f"{number:032x}"))
    return folder


@pytest.mark.parametrize("how", ["broken off", "one ended"])
def test_a_round_that_is_broken_off_ends_in_one_line(many: Path, how: str) -> None:
    """At the keyboard, which all of its processes hear; and one of them ended from outside."""
    slow = f"import time, verrou.records.rounds as r; r._Worker.look = lambda self, address: time.sleep(60); {MAIN}"
    slow = f"import signal; signal.signal(signal.SIGINT, signal.default_int_handler); {slow}"  # whoever started us
    running = subprocess.Popen(
        [sys.executable, "-c", slow, "round", str(many), "-b", "office"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )
    children = Path(f"/proc/{running.pid}/task/{running.pid}/children")
    while len(started := children.read_text().split()) < 2:
        assert running.poll() is None
    if how == "broken off":
        asleep = [Path(f"/proc/{child}/wchan") for child in started]
        while not all("nanosleep" in path.read_text() for path in asleep):
            assert running.poll() is None
        os.killpg(running.pid, signal.SIGINT)
        for child in started:  # what they are at is long; one that ended takes others along
            with suppress(ProcessLookupError):
                os.kill(int(child), signal.SIGTERM)
    else:
        os.kill(int(started[0]), signal.SIGKILL)
    output = running.communicate()[1]
    assert running.returncode == (130 if how == "broken off" else 4) and "Traceback" not in output, output
    assert ("interrupted" if how == "broken off" else "ended from outside") in output


MAIN = "from verrou.__main__ import main; main()"


def row(name: str, signs: str) -> Row:
    """A row of a round that says little more than how each rule stands."""
    counts = {mark: signs.count(sign) for mark, sign in SIGNS.items()}
    at = datetime(2026, 9, 14)
    own = {"machine": name, "identity": name, "address": name, "system": "system", "baseline": "office"}
    return Row(**counts, **own, at=at, signs=signs)


@pytest.mark.parametrize("count", [1, 12, MOST_IN_WORDS])
def test_a_picture_of_any_number_of_machines(count: int) -> None:
    signs = ("H" + "M?" + "+" * len(RULES))[: len(RULES) - 1] + "."
    picture = machines_by_rules([row(f"desk-{n:03}", signs) for n in range(count)])
    assert picture.startswith("<svg") and f"{count} machines by {len(RULES) - 1} rules" in picture
    names = re.findall(r"<!-- (desk-\d+) -->", picture)
    assert names == [f"desk-{n:03}" for n in range(count)] if count <= NAMED_ROWS else 10 < len(names) < 20
    assert ("<!-- H -->" in picture) is (count <= NAMED_ROWS), "letters where there is room for them"
    assert f"<!-- {RULES[0]} -->" in picture and f"<!-- {RULES[-1]} -->" not in picture, "nobody was asked for the last"


@pytest.mark.parametrize(("count", "most"), [(1_000, 250_000), (10_000, 2_000_000)])
def test_a_page_of_thousands_has_each_machine_and_each_rule_once(count: int, most: int) -> None:
    chance = random.Random(count)
    rows = [
        row(f"desk-{n:05}", "".join(chance.choice("HMLw?-+++++.") for _ in RULES))
        for n in range(count - 100)  # all of which differ, and a hundred that do not
    ] + [row(f"hide-{n:03}", "+" * len(RULES)) for n in range(100)]
    rows[-2:] = [evolve(rows[-2], high=1), evolve(rows[-1], listed=("accounts.ana",))]
    page = as_page(rows, [], 0)
    assert len(page) < most and "<script" not in page
    lines = page[page.index('<table class="machines signs">') :]
    assert set(re.findall(r"[a-z]+-\d+", lines)) == {each.machine for each in rows}
    assert lines.count("<tr class=") == count - 97 and "<summary>98 machines</summary>" in lines
    assert filtered(page, "well") == (99, 2) and filtered(page, "all") == (count, count - 97)
    shown = re.search(rf'<tr class="[a-z ]*"><td>{rows[0].machine}<td>[^<]*<td class=s>([^<\n]*)', lines)
    assert shown and shown[1] == rows[0].signs.replace(".", " ").replace("+", "·").rstrip()
    names = re.findall(r"<span>([a-z_.-]+)</span>", lines)
    assert names == list(RULES), "each above its column"
    not_met = Counter(sign for each in rows for sign in each.signs[0])
    of_the_first = not_met["H"] + not_met["M"] + not_met["L"]
    assert re.search(rf">{RULES[0]}</span>.*?<td[^>]*>{of_the_first}</td><td[^>]*>{not_met['?']}</td>", page)


def test_signs_that_no_font_has_are_drawn_without_a_word(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    path = tmp_path / "station/surveys/hide-01-2026-09.survey.json"
    path.write_text(path.read_text().replace('"name": "hide-01"', '"name": "巣箱 $x^2$ 🐦"'))
    output = verrou("round", "station/surveys", "-b", "office", "--html", "round.html", code=1)
    assert output.stderr == "Saved: round.html\n" and "巣箱 $x^2$ 🐦" in (tmp_path / "round.html").read_text()


@examples(25)
@given(st.lists(machines(), min_size=1, max_size=4))
def test_what_was_found_before_changes_no_finding(several: list[Authority]) -> None:
    """Machines one after another through one reader, each as if it were alone."""
    baseline, reader, known = load_baseline("public-terminal"), SurveyReader(), {}
    for machine in (*several, *several):
        snapshot = snapshot_of(machine, "")
        text = as_json(survey_data(snapshot))
        assert audit(reader.snapshot(text), baseline, known) == audit(snapshot_from(json.loads(text)), baseline)


def test_what_is_remembered_of_surveys_does_not_grow(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    text = (tmp_path / "station/surveys/ringing-02-2026-09.survey.json").read_text()
    reader = SurveyReader()
    for number in range(MOST_REMEMBERED + 200):
        changed = text.replace("ringer", f"ringer{number}").replace('"number": 8', f'"number": {number % 2000}')
        changed = changed.replace('"note": "', f'"note": "{number}')
        assert f"ringer{number}" in reader.snapshot(changed).by_name
    several = reader.machine, reader.account, reader.group
    kept = [reader.groups, reader.entry_points, reader.kept, reader.derived, *(each.alike for each in several)]
    assert max(map(len, [*kept, reader.accounts])) <= MOST_REMEMBERED
    assert max(map(len, [reader.accounts.seen, *(each.known for each in several)])) <= MOST_MEMBERS
    _, again, and_again = (reader.snapshot(text).by_identity["1"][0] for _ in range(3))
    assert again is and_again, "what comes again is read once"


ROWS = st.builds(
    Row,
    **{name: st.integers(0, 1) for name in ("high", "medium", "low", "unknown")},
    **{name: st.sampled_from("ab") for name in ("machine", "address", "identity")},
    **{name: st.just("") for name in ("system", "baseline")},
    signs=st.just("." * len(RULES)),
    at=st.sampled_from([datetime(2026, 9, 14), datetime(2026, 9, 15)]),
    recorded=st.sampled_from([None, 1.0, 2.0]),
)


@examples(100)
@given(st.lists(ROWS, max_size=6))
def test_the_worst_come_first_and_the_newest_alone(rows: list[Row]) -> None:
    def place(row: Row) -> tuple[object, ...]:
        return -row.high, -row.medium, -row.low, -row.unknown, row.machine, row.address

    expected: dict[str, Row] = {}
    for row in sorted(rows, key=lambda row: (row.at, row.recorded is None, row.recorded or 0)):
        expected[row.identity] = row
    latest, older = rounds.newest([*rows])
    times = [(row.identity, row.at, row.recorded) for row in latest]
    assert sorted(times) == sorted((row.identity, row.at, row.recorded) for row in expected.values())
    assert older == len(rows) - len(latest)
    ranked = sorted(rows, key=place)
    worst_first(rows)
    assert rows == ranked


def test_the_rows_of_a_round_are_kept_before_those_of_earlier_ones(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("verrou.records.round_cache.MOST_ROWS", 3)
    file = tmp_path / "rounds.json"
    content = find(ROWS, lambda _: True).content
    keys = [bytes([number]) * 64 for number in range(5)]
    for some in (keys[:3], [keys[3], keys[2]]):
        renewal = Renewal(RoundCache.read(file), file)
        for key in some:
            renewal.keep(key, content)
        renewal.write()
    assert list(RoundCache.read(file)) == [keys[3], keys[2], keys[0]]


def test_who_is_in_a_group_counts_though_the_readings_are_the_same() -> None:
    """The same list names the same account on three machines; whether it may be there hangs on its groups."""
    baseline, reader, known = load_baseline("shared-desk"), SurveyReader(), {}
    verdicts = []
    for administers in (True, False, True):
        machine = Authority.fresh("hide-01", datetime(2026, 9, 14))
        machine.add("tern", "", GOOD_PASSWORD, must_change=False)
        machine.set_policy("in_remote-screen", [100])
        if administers:
            machine.join("tern", "administrators")
        snapshot = reader.snapshot(as_json(survey_data(snapshot_of(machine, ""))))
        found = {finding.subject: finding.verdict for finding in audit(snapshot, baseline, known).findings}
        verdicts.append(str(found["logon.remote-screen.allowed"]))
    assert verdicts == ["met", "not-met", "met"] and len(known) == 1
