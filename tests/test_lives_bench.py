"""The whole life of accounts on bench machines, by the built program; the authority judges."""

import json
from datetime import date, datetime
from pathlib import Path
from typing import Any

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou
from verrou.machines.bench.authority import Authority, NewPasswordFirst, No
from verrou.machines.bench.readings import last_day

OTHER_PASSWORD = "razorbill-Skerry-17"


def authority(path: Path) -> Authority:
    return Authority(path.read_text())


def kept(path: Path, name: str) -> dict[str, Any]:
    return next(account for account in authority(path).accounts() if account["name"] == name)


@pytest.mark.parametrize(
    ("ends", "day"),
    [
        ("2026-09-14T23:59:59", 14),
        ("2026-09-15T00:00:00", 14),
        ("2026-09-14T18:00:00", 14),
        ("2026-09-14T10:00:00", 13),
    ],
)
def test_an_account_that_ends_within_a_day_is_shown_with_its_last_day_of_use(ends: str, day: int) -> None:
    assert last_day(ends, datetime(2026, 9, 14, 12)) == date(2026, 9, day)


def test_a_guest_in_one_go(bench: Path, verrou: Verrou) -> None:
    add = ("account", "add", "daypass", "--role", "guest", "--password", "blank", "--until", "2026-12-01")
    verrou(*add, "--note", "day visitors", "-m", bench, "--yes")
    machine = authority(bench)
    token = machine.sign_in("daypass", "")
    with pytest.raises(No, match="only an administrator can change"):
        machine.change_password("daypass", "", OTHER_PASSWORD)
    for route in ("network", "remote-screen", "remote-shell"):
        with pytest.raises(No):
            machine.sign_in("daypass", "", route)
    machine.put("daypass", "/people/daypass/note", 12)
    machine.put("daypass", "/shared/note", 12)
    machine.sign_out(token)
    assert [file["place"] for file in machine.files("daypass")[1]] == ["/shared/note"], "the home is emptied"
    machine.clock = datetime(2026, 12, 1, 23)
    machine.sign_out(machine.sign_in("daypass", ""))
    machine.clock = datetime(2026, 12, 2)
    with pytest.raises(No, match="ended"):
        machine.sign_in("daypass", "")
    shown = verrou.json("account", "show", "daypass", "-m", bench)
    assert (shown["role"], shown["groups"], shown["routes"], shown["note"]) == (
        *("guest", ["guests"], ["console"], "day visitors"),
    )


def test_a_standard_user_must_change_and_an_administrator_can_elevate(bench: Path, verrou: Verrou) -> None:
    verrou("account", "add", "tern", "-m", bench, *TYPED, typed=OTHER_PASSWORD)
    with pytest.raises(NewPasswordFirst):
        authority(bench).sign_in("tern", OTHER_PASSWORD)
    verrou("account", "add", "ana", "--role", "administrator", "-m", bench, *TYPED, typed=OTHER_PASSWORD)
    output = verrou("account", "test", "ana", "-m", bench, *TYPED[1:], typed=OTHER_PASSWORD).stdout
    assert "a new password is required first" in " ".join(output.split())
    assert kept(bench, "ana")["must_change"] and not authority(bench).accounts()[-1]["sessions"], "nothing remains"
    output = verrou("account", "test", "tern", "-m", bench, *TYPED[1:], typed=OTHER_PASSWORD).stdout
    assert "cannot elevate" in " ".join(output.split())


def test_the_swap_and_who_is_signed_in(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    token = machine.sign_in("warden", GOOD_PASSWORD)
    machine.set_open("keeper", False)
    machine.save(bench)
    swap = ("account", "swap", "warden", "ringer", "-m", bench)
    preview = verrou(*swap, "--preview").stdout
    order = [preview.index(words) for words in ("create administrator", "test account ringer", "from group admin")]
    assert order == sorted(order)
    assert "warden is signed in (console since 2026-09-14 08:30)" in " ".join(preview.split())
    verrou(*swap, *TYPED, typed=OTHER_PASSWORD)
    assert kept(bench, "warden")["groups"] == ["users"] and "administrators" in kept(bench, "ringer")["groups"]
    machine = authority(bench)
    assert machine.can_administer(token), "an open session keeps its rights"
    machine.sign_out(token)
    assert not machine.can_administer(machine.sign_in("warden", GOOD_PASSWORD))

    before = bench.read_bytes()
    output = verrou(
        "account", "swap", "ringer", "warden", "-m", bench, *TYPED, typed="not-the-Password-1", code=4
    ).stderr
    assert "test sign-in of warden failed: the password is wrong" in output
    assert bench.read_bytes() == before
    verrou("account", "swap", "tern", "warden", "-m", bench, code=2)
    verrou("account", "swap", "warden", "ringer", "-m", bench, code=2)


@pytest.mark.parametrize("choice", ["keep", "archive", "delete"])
def test_leaving(bench: Path, verrou: Verrou, choice: str) -> None:
    machine = authority(bench)
    machine.add("tern", "Tara Tern", GOOD_PASSWORD, must_change=False)
    machine.put("tern", "/people/tern/counts", 4_000)
    machine.put("tern", "/shared/rota", 20)
    machine.save(bench)
    start = bench.read_bytes()
    output = verrou.line("account", "disable", "tern", "-m", bench, "--preview")
    assert "1 file, 4.0 kB in /people/tern; 1 elsewhere: /shared/rota" in output
    remove = ("account", "remove", "tern", "--files", choice, "-m", bench, "--yes")
    assert "/shared/rota" in verrou(*remove, code=3).stderr and bench.read_bytes() == start
    verrou(*remove, "--override", "orphaned-files")
    document = json.loads(bench.read_text())
    homes = [file for file in document["disk"] if file["place"].startswith("/people/tern")]
    assert [file["owner"] for file in homes] == ([1] if choice == "keep" else [])
    assert [len(archive["files"]) for archive in document["archives"]] == ([1] if choice == "archive" else [])
    assert [file["place"] for file in document["disk"] if file not in homes] == ["/shared/rota"]
    assert "orphaned-files" in verrou("journal", "list", "--format", "csv", "-m", bench).stdout
    identity = document["next"]
    verrou("account", "add", "gull", "-m", bench, *TYPED, typed=OTHER_PASSWORD)
    assert kept(bench, "gull")["id"] == identity > 101, "an identity is not given again"
    verrou("undo", "-m", bench, "--yes")
    verrou("undo", "-m", bench, "--yes")
    assert bench.read_bytes() == start
    verrou("account", "remove", "keeper", "--files", "keep", "-m", bench, "--yes", code=2)


def test_marks_exclude_each_other_before_anything_happens(bench: Path, verrou: Verrou) -> None:
    change = ("account", "change", "warden", "-m", bench, "--yes")
    verrou(*change, "--ageing-exempt", "--fixed")
    before = bench.read_bytes()
    assert "this machine cannot combine the two" in verrou(*change, "--change-due", code=3).stderr
    assert bench.read_bytes() == before
    verrou("account", "password", "warden", "-m", bench, *TYPED, typed=OTHER_PASSWORD)
    assert not kept(bench, "warden")["must_change"], "a new password does not ask for what the mark excludes"
    verrou(*change, "--ageing-applies", "--not-fixed", "--change-due")
    assert [kept(bench, "warden")[mark] for mark in ("must_change", "cannot_change", "never_ends")] == [
        True,
        False,
        False,
    ]
    with pytest.raises(No, match="cannot be combined"):
        authority(bench).mark("warden", "never_ends", True)


def test_a_french_machine_is_put_right_by_its_baseline(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    path = tmp_path / "station/ringing-02.bench.json"
    b = ("-m", path, "-b", tmp_path / "station/ringing-02.toml")
    verrou("group", "join", "14", "bors", "-m", path, "--yes")
    assert "utilisateurs distants" in kept(path, "bors")["groups"], "a group is found by its identity"
    shown = verrou.line("group", "show", "14", "-m", path)
    assert "grants route: remote-screen" in shown and "ana (standard), bors (standard)" in shown
    verrou("harden", *b, "--yes", code=1)
    assert not kept(path, "phare")["open"] and not kept(path, "petrel")["open"], "the built-in and the ended are closed"
    assert kept(path, "ringer")["groups"] == ["utilisateurs", "ringers"]
    assert kept(path, "ana")["groups"] == ["utilisateurs", "ringers"] and not kept(path, "ana")["never_ends"]
    assert "ringers" in kept(path, "fulmar")["groups"]
    assert authority(path).policy()["outside"] == 1
    with pytest.raises(No, match="ties no further"):
        authority(path).tie("ana", "ana@birds.example")
    verrou("machine", "restart", "-m", path)
    verrou("audit", *b)
    assert authority(path).policy()["out_network"][-1] == int(kept(path, "fulmar")["id"]), "its way is closed by name"


def test_anyone_who_is_tied_outside_is_not_locked_out_unawares(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    for name in ("keeper", "warden"):
        machine.tie(name, f"{name}@birds.example")
    machine.save(bench)
    rule = ("rule", "set", "population.linked_identities=forbidden", "-m", bench)
    assert "guard last-administrator" in verrou(*rule, "--yes", code=3).stderr
    verrou(
        "account", "add", "ana", "--role", "administrator", "--keep-password", "-m", bench, *TYPED, typed=OTHER_PASSWORD
    )
    verrou(*rule, *TYPED, typed=OTHER_PASSWORD)
    with pytest.raises(No, match="linked to an online identity cannot"):
        authority(bench).sign_in("warden", GOOD_PASSWORD)


def test_hints_and_questions_are_shown_and_taken_away(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    m = ("-m", "station/hide-01.bench.json")
    listed = verrou.json("account", "list", "--state", "hint", *m)
    assert [account["name"] for account in listed] == ["tern"]
    assert "the year we saw the albatross" in verrou("account", "show", "tern", *m).stdout
    assert "Which bird did you see first?" in verrou("account", "show", "guillemot", *m).stdout
    verrou("account", "change", "tern", "--no-hint", *m, "--yes")
    output = verrou("journal", "show", "1", *m).stdout
    assert "hint present" in " ".join(output.split()) and "the ship" not in output
    verrou("account", "change", "guillemot", "--no-questions", "--note", "left in 2024", *m, "--yes")
    for rule in ("hints", "recovery_questions"):
        shown = verrou.json("rule", "show", f"population.{rule}", *m)
        assert shown[f"population.{rule}"]["value"] == {"word": "forbidden"}


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("account", "add", "x" * 10_000), "not a valid account name on this machine; expected 1 to 26 characters"),
        (("account", "add", "a:b"), "none of"),
        (("account", "add", "\u202etern"), "not a valid account name"),
        (("account", "add", "gull", "--full-name", "\u202eGerd"), "--full-name: contains control characters"),
        (("account", "add", "WARDEN"), "already has an account warden"),
        (("account", "add", "Users"), "already has a group users"),
        (("account", "add", "hide-01"), "the name of the machine"),
        (("group", "add", "Keeper"), "already has an account keeper"),
        (("account", "rename", "warden", "guests"), "already has a group guests"),
        (("account", "add", "gull", "--home", "/people/x"), "Leave out --home"),
        (
            ("account", "add", "gull", "--shell", "/bin/sh"),
            "cannot store a shell; a bench machine stores: full name, note",
        ),
        (
            ("account", "change", "warden", "--until", "soon"),
            'expected a day such as 2027-03-31 or 31 March 2027, or "never"',
        ),
        (("account", "change", "warden"), "no change was given"),
        (("account", "change", "warden", "--role", "administrator"), "warden already has the role administrator"),
        (("account", "change", "gull", "--role", "guest"), "has no account 'gull'"),
        (("group", "show", "gests"), "Did you mean guests?"),
        (("group", "remove", "guests"), "is built in"),
    ],
)
def test_what_cannot_be_is_said_before_anything_happens(
    bench: Path, verrou: Verrou, arguments: tuple[str, ...], words: str
) -> None:
    before = bench.read_bytes()
    yes = () if "show" in arguments else ("--yes",)
    output = verrou(*arguments, "-m", bench, *yes, code=None)
    assert output.returncode in (2, 4) and words in " ".join((output.stdout + output.stderr).split())
    assert len(output.stderr) < 300 and bench.read_bytes() == before
