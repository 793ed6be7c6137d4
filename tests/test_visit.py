"""The job at one machine, led through at a terminal."""

from pathlib import Path

import pytest

from at_terminal import AtTerminal
from conftest import Verrou
from debian_root import PrivateRoot

ENTER = ""


def through(program: AtTerminal, *typed: str) -> None:
    for answer in typed:
        program.until("> ")
        program.type(answer)


def test_a_visit_leads_through_the_job_and_goes_on_where_the_machine_stands(
    verrou: Verrou, tmp_path: Path, station: Path
) -> None:
    visit = ("visit", "-m", "hide-01.bench.json")
    first = AtTerminal(visit, station)
    assert "daypass: blank password and signed in now" in first.until("Go on?")
    through(first, "on", "back", ENTER, "no-such", "hide-01.toml")
    plan = first.until("Go on?")
    assert (
        "no-such: no such baseline" in first.plain
        and "set 33 rules" in plan
        and "create administrator account warden" in plan
    )
    through(first, "back", "hide-01.toml", "help lockout.after", ENTER)
    assert "guillemot will be disabled and has 2 files in /people/guillemot" in first.until("What should become")
    through(first, "archive", "yes", "stop")
    assert first.ended() == 0
    shown = first.plain
    assert "$ verrou rule explain lockout.after" in shown and "steps done." in shown
    assert "$ verrou account remove guillemot --files archive -m hide-01.bench.json --yes" in shown
    assert "verrou harden -m hide-01.bench.json -b hide-01.toml --yes" in shown
    assert "Stopped. To go on: verrou visit -m hide-01.bench.json -b hide-01.toml" in shown
    again = AtTerminal(visit, station)
    assert "by hide-01.toml (entry 2)" in again.until("Go on from there?")
    through(again, ENTER, "yes", ENTER)
    assert again.ended() == 0
    assert "54 of 54 met" in again.plain and "Tests: 82 passed." in again.plain
    assert "sign-off" in (station / "hide-01-sheet.html").read_text().lower()
    assert "use the single commands: verrou survey" in verrou("visit", "-m", station / visit[2], code=2).stderr


def test_a_guard_asks_who_takes_over(bench: Path, tmp_path: Path) -> None:
    (tmp_path / "b.toml").write_text(
        '[baseline]\ntitle = "T"\n[accounts.warden]\nrole = "standard"\n[builtin]\nadmin_enabled = false\n'
    )
    visit = AtTerminal(("visit", "-m", bench, "-b", "b.toml"), tmp_path)
    through(visit, ENTER, ENTER, "yes")
    assert "guard last-administrator" in visit.until("What should be done?")
    through(visit, "create", "bors")
    for _ in range(2):
        visit.until(": ")
        visit.type("kittiwake-Cliff-42")
    visit.until("Current password")
    visit.type("kittiwake-Cliff-42")
    through(visit, "stop")
    assert visit.ended() == 0


@pytest.mark.real_root
def test_a_visit_to_a_real_system_stops_for_its_restart(manned_root: PrivateRoot, tmp_path: Path) -> None:
    visit = AtTerminal(("visit", "-m", manned_root.path, "-b", "shared-desk"), tmp_path)
    through(visit, ENTER, ENTER, "yes")
    assert "steps done." in visit.until("7 of 8")
    through(visit, ENTER)
    assert visit.ended() == 0 and "vm-sheet.html" in visit.plain
