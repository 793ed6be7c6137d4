"""The sign-off sheet: what it tells, in every form it is written in."""

import json
from pathlib import Path
from xml.etree import ElementTree

import pytest

from conftest import Verrou
from verrou.reports.sign_off import WRITTEN

AT = ("-m", "station/hide-01", "-b", "station/hide-01.toml")
JUNIT = Path(__file__).with_name("junit-10.xsd")
"""The schema by which programs that gather the results of tests read them; see the licence in it."""


def check_against_schema(file: Path) -> None:
    import xmlschema  # here alone: not each worker needs it

    xmlschema.validate(file, JUNIT)


@pytest.fixture
def hardened(verrou: Verrou, station: Path) -> None:
    """The terminal in the bird hide, hardened and started again."""
    verrou("harden", *AT, "--yes", code=1)
    verrou("machine", "restart", "-m", "station/hide-01")


@pytest.mark.usefixtures("hardened")
def test_the_sheet_shows_before_and_now_what_was_done_and_proved(verrou: Verrou) -> None:
    sheet = verrou.json("report", *AT)
    assert sheet["before"]["high"] == 7 and sheet["now"]["high"] == 0 and sheet["now"]["met"] == 54
    assert sum(sheet["before"].values()) == sum(sheet["now"].values())
    changed = {line["subject"]: line for line in sheet["changed"]}
    assert (
        changed["lockout.after"]["before"] == "not-met" and "50 failed attempts" in changed["lockout.after"]["message"]
    )
    assert not sheet["no_before"] or sheet["before"]
    assert [(waiver["rule"], waiver["by"], waiver["lapsed"]) for waiver in sheet["waivers"]] == [
        ("screen.attention_key", "site warden", False),
        ("password.classes", "site warden", False),
    ]
    assert {trial["result"] for trial in sheet["tests"]} == {"passed"} and len(sheet["tests"]) == 82
    assert [entry["number"] for entry in sheet["entries"]] == [1] and sheet["entries"][0]["steps"]
    shown = verrou.json("audit", *AT)
    lines = [*sheet["left"], *sheet["changed"], *sheet["met"], *sheet["not_applicable"]]
    assert {line["subject"]: line["now"] for line in lines} == {
        finding["subject"]: finding["verdict"] for finding in shown["findings"]
    }
    assert len(sheet["baseline"]["digest"]) == 64 and sheet["tool"].startswith("verrou ")
    quick = verrou.json("report", *AT, "--no-tests")
    assert quick["tests"] == [] and quick["baseline"] == sheet["baseline"]


def test_the_digest_is_of_all_that_a_baseline_is_made_of(verrou: Verrou, tmp_path: Path, bench: Path) -> None:
    def digest() -> str:
        output = verrou("report", "-m", bench, "-b", "mine.toml", "--format", "json", "--no-tests", code=1).stdout
        return str(json.loads(output)["baseline"]["digest"])

    (tmp_path / "below.toml").write_text('[baseline]\ntitle = "below"\n[lockout]\nafter = 5\n')
    (tmp_path / "mine.toml").write_text('[baseline]\ntitle = "mine"\nbuilds_on = ["below.toml"]\n')
    first = digest()
    (tmp_path / "below.toml").write_text('[baseline]\ntitle = "below"\n[lockout]\nafter = 4\n')
    assert digest() != first
    (tmp_path / "below.toml").write_text('[baseline]\ntitle = "below"\n[lockout]\nafter = 5\n')
    assert digest() == first


@pytest.mark.usefixtures("hardened")
def test_every_form_shows_the_same(verrou: Verrou, tmp_path: Path) -> None:
    verrou("account", "disable", "tern", "-m", "station/hide-01", "--yes")
    remove = ("account", "remove", "guillemot", "--files", "keep", "-m", "station/hide-01", "--yes")
    verrou(*remove, "--override", "orphaned-files")
    for suffix in WRITTEN:
        verrou("report", *AT, "--since", "2", "--save", f"sheet{suffix}", code=1)
    sheet = json.loads((tmp_path / "sheet.json").read_text())
    assert [line["subject"] for line in sheet["left"] if line["now"] == "not-met"] == ["accounts.tern"]
    assert [entry["number"] for entry in sheet["entries"]] == [2, 3]
    for suffix in (".html", ".md"):
        text = (tmp_path / f"sheet{suffix}").read_text().replace("\\", "")
        assert "done; overrode orphaned-files" in text
        for line in (*sheet["left"], *sheet["changed"], *sheet["met"]):
            assert line["subject"] in text
        assert sheet["baseline"]["digest"] in text and text.count("date, signature") == 2
    assert (tmp_path / "sheet.html").read_text().count("<svg") == 1
    check_against_schema(tmp_path / "sheet.xml")
    suites = ElementTree.parse(tmp_path / "sheet.xml").getroot()
    findings, trials = suites
    assert int(findings.get("tests", "0")) == len(findings) and len(trials) == len(sheet["tests"])
    assert findings.get("failures") == "1" == str(len(findings.findall(".//failure")))
    assert findings.get("skipped") == str(len(findings.findall(".//skipped"))) == "4"
    assert "already exists" in verrou("report", *AT, "--save", "sheet.md", code=2).stderr
    assert "expected one of .html, .md, .json, .xml" in verrou("report", *AT, "--save", "sheet.pdf", code=2).stderr
    assert "no entry 9" in verrou("report", *AT, "--since", "9", code=2).stderr


def test_what_only_waits_is_no_manual_step_and_left_to_no_one(verrou: Verrou, station: Path) -> None:
    verrou("harden", *AT, "--yes", code=1)
    sheet = verrou.json("report", *AT, "--no-tests", code=1)
    waiting = {line["subject"] for line in sheet["left"] if line["now"] == "not-met"}
    assert {line["subject"] for line in sheet["later"]} == waiting and not sheet["manual"]
    assert (
        sheet["summary"][-1].startswith("Remaining: takes effect later: ") and "runs verrou" not in sheet["summary"][-1]
    )


def test_a_sheet_without_a_past_says_why(verrou: Verrou, bench: Path) -> None:
    never = verrou.json("report", "-m", bench, "-b", "office", "--no-tests", code=1)
    assert never["before"] is None and never["no_before"] == "nothing was changed by Verrou" and not never["entries"]
    assert all(line["before"] is None and line["message"] == "" for line in never["left"])
    verrou("survey", "-m", bench, "--save", "monday")
    output = verrou("report", "-m", "monday", "-b", "office", code=1).stdout
    assert "There is no “before”" in output and "not\\-run" not in output and "not-run" in output


def test_what_was_waived_too_long_is_reported_as_that(verrou: Verrou, bench: Path, tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text(
        '[baseline]\ntitle = "mine"\n[lockout]\nafter = 5\n[password]\nclasses = 3\ndictionary = "checked"\n'
        '[[waiver]]\nrule = "lockout.after"\nreason = "until the new keyboard"\nby = "warden"\nuntil = 2026-01-31\n'
        '[[waiver]]\nrule = "password.classes"\nreason = "no shift key"\nby = "warden"\nuntil = 2027-01-31\n'
    )
    sheet = ("report", "-m", bench, "-b", "mine.toml", "--no-tests")
    output = verrou.json(*sheet, code=1)
    assert [(each["rule"], each["until"], each["lapsed"]) for each in output["waivers"]] == [
        ("lockout.after", "2026-01-31", True),
        ("password.classes", "2027-01-31", False),
    ]
    assert [line["subject"] for line in output["not_applicable"]] == ["password.dictionary"]
    page = verrou(*sheet, "--format", "html", code=1).stdout
    assert "expired; no longer counts" in page and "Not applicable on this machine" in page
    assert "1 waived by warden" in page
    suite = ElementTree.fromstring(verrou(*sheet, "--format", "junit", code=1).stdout)[0]
    outcomes = {case.get("name"): [child.tag for child in case] for case in suite}
    assert outcomes == {
        "lockout.after": ["failure"],
        "password.classes": ["skipped"],
        "password.dictionary": ["skipped"],
    }


def test_the_sheet_of_a_machine_that_cannot_be_read_whole(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    at = ("-m", "station/warden-03", "-b", "office", "--no-tests")
    output = verrou.json("report", *at, code=1)
    unreadable = [line["subject"] for line in output["left"] if line["now"] == "unknown"]
    assert unreadable and output["now"]["unknown"] == len(unreadable)
    verrou("report", *at, "--save", "sheet.xml", code=1)
    check_against_schema(tmp_path / "sheet.xml")
    findings = ElementTree.parse(tmp_path / "sheet.xml").getroot()[0]
    assert findings.get("errors") == str(len(unreadable)) == str(len(findings.findall(".//error")))
    assert output["manual"], "what no step closes is left by hand"


def test_the_sheet_is_of_the_journal_as_it_stands(verrou: Verrou, bench: Path) -> None:
    """Entries that were gone back over are told as that, and before is before what still stands."""
    at = ("-m", bench, "-b", "shared-desk", "--no-tests", "--format", "json")
    verrou("rule", "set", "lockout.after=5", "-m", bench, "--yes")
    verrou("undo", "-m", bench, "--yes")
    gone = verrou.json("report", *at, code=1)
    assert gone["before"] is None and not gone["entries"] and not gone["changed"]
    overriding = ("--override", "own-account", "--override", "orphaned-files")
    verrou("rule", "set", "password.min_length=14", "-m", bench, "--yes", *overriding)
    for form in ("markdown", "html"):
        page = verrou("report", *at[:-1], form, code=1).stdout
        assert "overrode own-account, orphaned-files" in page.replace("\\-", "-")
    stands = verrou.json("report", *at, code=1)
    assert [line["subject"] for line in stands["changed"]] == ["password.min_length"]
    assert [(entry["number"], entry["state"]) for entry in stands["entries"]] == [(3, "done")]
    every = verrou.json("report", *at, "--since", "1", code=1)
    assert [(entry["number"], entry["state"]) for entry in every["entries"]] == [
        (1, "undone"),
        (2, "done"),
        (3, "done"),
    ]
    assert [line["subject"] for line in every["changed"]] == ["password.min_length"]
