"""The whole round on bench machines, with the built program; and what the authority does that nobody asked for."""

import csv
import io
import json
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, Verrou
from verrou.machines.bench.authority import Authority, No
from verrou.records.journal import Journal

SITE = """
[baseline]
title = "the lamp room"
builds_on = ["public-terminal"]
[builtin]
admin_name = "lamplighter"
[population]
unlisted = "disable"
[accounts.warden]
role = "administrator"
[accounts.tern]
role = "standard"
password = "ask"
[accounts.daypass]
role = "guest"
password = "blank"
[[waiver]]
rule = "password.classes"
machine = "hide-01"
reason = "broken shift key"
by = "site warden"
until = 2027-06-30
[[waiver]]
rule = "password.remember"
reason = "over"
by = "site warden"
until = 2026-06-30
"""


def authority(path: Path) -> Authority:
    return Authority(path.read_text())


def flawed(bench: Path) -> None:
    machine = authority(bench)
    machine.add("daypass", "day visitors", "", must_change=False)
    machine.add("guillemot", "Gil", GOOD_PASSWORD, must_change=False)
    machine.save(bench)


def test_the_whole_round(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    flawed(bench)
    start = bench.read_bytes()
    (tmp_path / "site.toml").write_text(SITE)
    b = ("-m", bench, "-b", "site.toml")
    rows = list(csv.DictReader(io.StringIO(verrou("audit", *b, "--format", "csv", code=1).stdout)))
    verdicts = {row["subject"]: row["verdict"] for row in rows}
    assert verdicts["password.classes"] == "waived"
    assert verdicts["password.remember"] == "not-met", "a waiver that ended waives nothing"
    assert verdicts["accounts.daypass"] == verdicts["accounts.tern"] == "not-met"

    preview = verrou("harden", *b, "--preview", code=1).stdout
    assert "nothing was changed" in preview and bench.read_bytes() == start
    order = [
        preview.index(words) for words in ("create standard account tern", "lockout.after", "disable account lamp")
    ]
    assert order == sorted(order), "give first, then set, then take away"

    refused = verrou("harden", *b, "--yes", "--password", "stdin", typed="tern1\n", code=2).stderr
    verrou("harden", *b, "--yes", "--password", "stdin", typed=f"Sandbar-kittiwake-5\n{GOOD_PASSWORD}\n", code=1)
    verrou("machine", "restart", "-m", bench)
    assert "password.min_length" in refused, "a first password must satisfy the rules that the worksheet sets"
    accounts = {a["id"]: a for a in authority(bench).accounts()}
    assert (accounts[1]["name"], accounts[1]["open"]) == ("lamplighter", False)
    assert not accounts[2]["open"]
    guest = next(a for a in accounts.values() if a["name"] == "daypass")
    assert guest["groups"] == ["guests"]
    policy = authority(bench).policy()
    assert [policy[key] for key in ("try_limit", "lock_minutes", "window_minutes")] == [5, 60, 60]

    verrou("audit", *b)
    output = verrou.json("verify", *b)
    assert {trial["result"] for trial in output["tests"]} == {"passed"}
    verrou("undo", "-m", bench, "--yes")
    before, after = (json.loads(text) for text in (start, bench.read_bytes()))
    assert before | {"next": after["next"]} == after, "an identity is not given again"


@pytest.mark.parametrize("lasts", ["45 minutes", "10 minutes", "until-unlocked"])
@pytest.mark.parametrize("forget", ["45 minutes", "10 minutes", "2 minutes"])
def test_lockout_rules_stand_although_the_authority_pulls_them_along(
    bench: Path, verrou: Verrou, lasts: str, forget: str
) -> None:
    contradiction = lasts == "10 minutes" and forget == "45 minutes"
    rules = (f"lockout.lasts={lasts}", f"lockout.forget_after={forget}", "lockout.after=4")
    verrou("rule", "set", *rules, "-m", bench, "--yes", code=3 if contradiction else 0)
    shown = verrou.json("rule", "show", "lockout", "-m", bench)
    stands = tuple(shown[rule]["value"] and shown[rule]["words"] for rule in ("lockout.lasts", "lockout.forget_after"))
    assert stands == ((None, None) if contradiction else (lasts, forget))


def test_what_a_trial_on_the_copy_disproves_is_not_done(
    bench: Path, verrou: Verrou, monkeypatch: pytest.MonkeyPatch
) -> None:
    rules = ("rule", "set", "lockout.after=4", "-m", bench, "--yes", "--test")
    start = bench.read_bytes()
    preview = verrou(*rules, "--preview").stdout
    assert "nothing is changed yet" in preview and "passed" in preview and bench.read_bytes() == start
    with monkeypatch.context() as patched:
        patched.setattr(Authority, "_count_try", lambda self, account: None)
        output = verrou(*rules, code=4).stderr
    assert "tests failed on the private copy for lockout.after" in output and bench.read_bytes() == start
    verrou(*rules)
    assert Authority(bench.read_text()).policy()["try_limit"] == 4


def test_the_authority_keeps_its_own_counsel(bench: Path) -> None:
    machine = authority(bench)
    for refused in (
        lambda: machine.add("a" * 27, "", "", must_change=False),
        lambda: machine.add("WARDEN", "", "", must_change=False),
        lambda: machine.rename("warden", "Users"),
        lambda: machine.set_policy("lock_minutes", 5),
        lambda: machine.leave("keeper", "administrators"),
        lambda: machine.change_password("warden", "wrong", "new"),
    ):
        with pytest.raises(No):
            refused()
    machine.set_policy("try_limit", 3)
    assert machine.policy()["lock_minutes"] == machine.policy()["window_minutes"] == 25
    for _ in range(9):
        with pytest.raises(No, match="wrong"):
            machine.sign_in("keeper", "wrong")
    for words in ("wrong", "wrong", "wrong", "locked"):
        with pytest.raises(No, match=words):
            machine.sign_in("warden", "wrong")


def test_undo_beside_another_program(bench: Path, verrou: Verrou) -> None:
    verrou("rule", "set", "lockout.after=4", "password.min_length=9", "-m", bench, "--yes")
    machine = authority(bench)
    machine.set_policy("length", 11)
    machine.set_open("passerby", True)
    machine.save(bench)
    output = verrou("undo", "-m", bench, "--yes").stdout
    assert "left as they are: policy length" in " ".join(output.split())
    policy = authority(bench).policy()
    assert (policy["try_limit"], policy["length"]) == (0, 11)
    assert next(a for a in authority(bench).accounts() if a["name"] == "passerby")["open"]


def test_the_journal_shows_a_gap_and_holds_no_secret(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    secret = "Sandbar-kittiwake-5"
    verrou("account", "add", "tern", "-m", bench, "--yes", "--password", "stdin", typed=secret + "\n")
    verrou("account", "disable", "tern", "-m", bench, "--yes")
    folder = tmp_path / "hide-01.verrou"
    assert not any(secret.encode() in path.read_bytes() for path in folder.rglob("*") if path.is_file())
    journal = folder / "journal.jsonl"
    assert "pbkdf2" not in journal.read_text() and journal.stat().st_mode & 0o077 == 0
    lines = journal.read_text().splitlines(keepends=True)
    journal.write_text("".join(lines[:1] + lines[2:]))
    assert "journal.jsonl:2: the chain breaks here" in verrou("undo", "-m", bench, "--yes", code=2).stderr
    journal.write_text("".join(lines) + '{"record": {"entry": 3, "wh')
    verrou("undo", "-m", bench, "--yes")


def test_passwords_come_in_safely(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    verrou("rule", "set", "password.min_length=12", "password.may_contain_name=no", "-m", bench, "--yes")
    output = verrou(
        "account", "add", "tern", "-m", bench, "--yes", "--password", "stdin", typed="tern7\n", code=2
    ).stderr
    assert "password.min_length" in output and "password.may_contain_name" in output, "every broken rule is named"
    verrou("account", "add", "tern", "-m", bench, "--yes", code=2)
    out = verrou(
        *("account", "add", "tern", "-m", bench, "--yes", "--password", "generate", "--keep-password"),
        *("--password-file", "handover.txt"),
    ).stdout
    handed = (tmp_path / "handover.txt").read_text().strip().partition(": ")[2]
    assert (tmp_path / "handover.txt").stat().st_mode & 0o777 == 0o600
    assert handed and handed not in out
    authority(bench).sign_in("tern", handed)
    start = bench.read_bytes()
    again = ("--yes", "--password", "generate", "--password-file")
    output = verrou("account", "add", "ana", "-m", bench, *again, "handover.txt", code=2).stderr
    assert "nothing was changed" in output and bench.read_bytes() == start
    verrou("account", "password", "passerby", "-m", bench, *again, "new.txt")
    for answer, message in (("n\n", "cancelled; nothing was changed"), ("", "nothing was changed: no answer")):
        output = verrou("account", "add", "bors", "-m", bench, typed=answer, code=6).stderr
        assert output.startswith(f"verrou: {message}")


def test_a_password_is_handed_over_even_when_the_run_breaks_off(
    bench: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from verrou.cli.main import run

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Journal, "finish", full)
    arguments = ["account", "add", "tern", "-m", str(bench), "--yes", "--keep-password", "--password", "generate"]
    assert run(arguments) == 4
    shown = capsys.readouterr().out
    handed = shown.partition("tern: ")[2].split()[0]
    authority(bench).sign_in("tern", handed)


def test_a_locked_account_is_found_shown_and_unlocked(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    m = ("-m", "station/ringing-02.bench.json")
    (locked,) = verrou.json("account", "list", "--state", "locked", *m)
    assert (locked["name"], locked["failed_attempts"], locked["locked_until"]) == ("bors", 5, "until-unlocked")
    shown = verrou("account", "show", "bors", *m).stdout
    assert "none while locked" in shown and "group utilisateurs: ordinary use" in shown
    verrou("account", "unlock", "bors", *m, "--yes")
    assert verrou.json("account", "list", "--state", "locked", *m) == []
    roles = verrou.json("account", "list", "--role", "administrator", *m)
    assert {account["name"] for account in roles} == {"phare", "ringer"}
    assert "No accounts match" in verrou("account", "list", "--state", "blank", *m).stdout
    for machine, hidden in (
        ("ringing-02.bench.json", "1 system account that cannot sign in is hidden; use --all to show it."),
        ("warden-03", "4 system accounts that cannot sign in are hidden; use --all to show them."),
    ):
        assert hidden in verrou("account", "list", "-m", f"station/{machine}").stdout
    again = verrou("account", "unlock", "bors", *m, "--yes").stdout
    assert "unchanged" in again
