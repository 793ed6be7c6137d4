"""What people are told: of a run that broke off, of passwords, of what came out otherwise, and advice that works."""

import json
import os
import pty
import shlex
import signal
import subprocess
import sys
import tempfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import TYPED, Verrou, examples, forked, titled
from debian_root import PrivateRoot
from programs import USUAL_ROUNDS
from test_seat_bench import machines
from verrou.core.judging.guards import refusals_on
from verrou.core.judging.review import Candidate
from verrou.core.model import Account, Builtin, Grant, Group, MachineFacts, Naming, Role, Snapshot
from verrou.core.model.reasons import why
from verrou.core.model.routes import AccessListEntry, EntryPoint, Principals, Route, allow_only
from verrou.core.model.screens import screens_of
from verrou.core.model.verdicts import Result
from verrou.core.testing.access_tests import access_trial
from verrou.core.testing.attempts import Answer
from verrou.machines.bench import state
from verrou.machines.bench.authority import Authority
from verrou.machines.bench.machine import BenchMachine
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.linux.copy.private_copy import PrivateCopy
from verrou.machines.linux.copy.requests import SignIn
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable, Machine, TooSlow
from verrou.machines.registry import open_machine
from verrou.records import dry_runs, transactions
from verrou.records.journal import JOURNAL, Journal

OTHER_PASSWORD = "razorbill-Ledge-77"


def break_off(machine: Machine) -> None:
    """Leave a run behind that died before anything landed."""
    from verrou.core.steps.step import SetEnabled

    dry_run = dry_runs.do_dry_run(machine, machine.observe(), [SetEnabled("passerby", True)], transactions.Secrets())
    record = transactions._record(dry_run, transactions.RunInfo("account enable passerby"))
    journal = Journal(machine.records_folder())
    journal.begin(record, dry_run.changes)


def test_a_run_that_was_interrupted_is_reported_by_every_command(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    m, message = ("-m", bench), "was interrupted"
    verrou("survey", *m, "--save", "before")
    break_off(open_machine(str(bench)))
    b = ("-b", "essential")
    for command in (
        *(("survey",), ("audit", *b), ("verify", *b), ("account", "list"), ("access",), ("signin",), ("rule", "show")),
        *(("account", "disable", "warden", "--preview"), ("harden", *b, "--preview"), ("compare", "now", "before")),
        *(("group", "list"), ("baseline", "capture"), ("report", *b), ("account", "disable", "warden", "--yes")),
    ):
        output = verrou(*command, *m, code=None).stderr
        assert output.count(message) == 1, (command, output)
    assert message in verrou("round", tmp_path, *b, code=1).stderr
    for style in ("html", "markdown"):
        sheet = verrou("report", *b, *m, "--format", style, "--no-tests", code=1).stdout
        first = sheet.split("<main")[-1] if style == "html" else sheet
        assert message in " ".join(first.split())[:400] and "signed off against" not in sheet
    verrou("survey", *m, "--save", "while")
    assert message in verrou("audit", *b, "-m", "while", code=1).stderr, "a survey keeps it"
    verrou("resume", *m)
    assert not verrou("survey", *m).stderr, "and of a machine that is as it should be nothing is said"


def test_a_bench_machine_beats_a_survey_of_its_own_moment(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    verrou("survey", "-m", bench, "--save", "a-before")
    verrou("rule", "set", "password.min_length=12", "-m", bench, "--yes")
    rows = verrou.json("round", tmp_path, "-b", "essential", code=1)["machines"]
    assert [row["address"] for row in rows] == [str(bench)]
    bench.rename(tmp_path / "elsewhere")
    os.utime(tmp_path / "a-before.survey.json", (1, 1))
    verrou("survey", "-m", "a-before", "--save", "b-later", code=0)
    output = verrou("round", tmp_path, "-b", "essential", "--every", code=1).stdout
    assert "a-before.survey.json,2026-09-14" in "".join(output.split())
    rows = verrou.json("round", tmp_path, "-b", "essential", code=1)["machines"]
    assert [Path(row["address"]).name for row in rows] == ["b-later.survey.json"]


def test_what_was_typed_is_in_the_journal(bench: Path, verrou: Verrou) -> None:
    site = bench.with_name("site.toml")
    site.write_text(titled("[lockout]\nafter = 4\n"))
    lines = (
        ["account", "swap", "warden", "tern", "-m", str(bench), *TYPED],
        ["rule", "set", "password.min_length=12", "lockout.after=5", "-m", str(bench), "--yes"],
        ["harden", "-b", str(site), "--only", "lockout", "-m", str(bench), "--yes"],
        ["undo", "-m", str(bench), "--yes"],
    )
    for words in lines:
        verrou(*words, typed=f"{OTHER_PASSWORD}\n", code=None)
    kept = verrou.json("journal", "list", "-m", bench)
    assert [shlex.split(entry["command"]) for entry in kept] == [*lines]
    assert OTHER_PASSWORD not in (bench.with_name("hide-01.verrou") / JOURNAL).read_text()


def test_anyone_who_has_enough_of_the_output_loses_no_password(bench: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A reader who goes before the password was shown: nothing is changed. One who saw it: it is set."""
    program = (sys.executable, "-m", "verrou", "account", "add", "tern", "--password", "generate", "--yes")
    add = [*program, "-m", str(bench)]
    start = bench.read_bytes()
    running = subprocess.Popen(add, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert running.stdout is not None and running.stderr is not None
    running.stdout.close()
    output = running.stderr.read()
    assert running.wait() == 4, output
    assert "nothing was changed" in output and bench.read_bytes() == start
    shown = subprocess.run([*add, "--keep-password"], capture_output=True, text=True, check=True).stdout
    password = next(line.partition(": ")[2] for line in shown.splitlines() if line.startswith("  tern: "))
    monkeypatch.setattr(state, "ROUNDS", USUAL_ROUNDS)  # the program ran in an interpreter of its own
    assert Authority(bench.read_text()).sign_in("tern", password)


def test_a_terminal_that_goes_away_waits_for_what_is_being_applied(bench: Path) -> None:
    """The hang-up comes while the change lands: it is whole, and then the program ends by it."""
    program = (
        "import os, signal\n"
        "from verrou.machines.bench.machine import BenchMachine\n"
        "apply = BenchMachine.apply\n"
        "def gone(self, change, entry):\n"
        "    os.kill(os.getpid(), signal.SIGHUP)\n"
        "    os.kill(os.getpid(), signal.SIGTERM)\n"
        "    apply(self, change, entry)\n"
        "BenchMachine.apply = gone\n"
        "from verrou.__main__ import main\nmain()\n"
    )
    words = ["account", "enable", "passerby", "-m", str(bench), "--yes"]
    ended = subprocess.run([sys.executable, "-c", program, *words], capture_output=True, text=True, check=False)
    assert ended.returncode in (-signal.SIGHUP, -signal.SIGTERM), ended.stderr
    assert Authority(bench.read_text()).accounts()[1]["open"]
    assert Journal(BenchMachine(bench).records_folder()).interrupted_entry() is None


def test_a_list_that_gives_a_right_is_seen_in_its_group(bench: Path, verrou: Verrou) -> None:
    m = ("-m", bench)
    verrou("group", "add", "watch", "--member", "warden", *m, "--yes")
    verrou("rule", "set", "rights.set_clock=group:watch", "logon.network.denied=group:watch", *m, "--yes")
    output = verrou.line("group", "show", "watch", *m)
    assert "named in rights.set_clock" in output and "denies network" in output
    output = verrou.line("group", "remove", "watch", *m, "--preview")
    assert "warden lose what group watch grants: denies network; named in rights.set_clock" in output
    verrou("rule", "set", "screen.hidden_accounts=group:watch", *m, "--yes")
    output = verrou.line("group", "show", "watch", *m)
    assert "named in screen.hidden_accounts" in output, "what waits for a restart, too"
    warden = Authority(bench.read_text())
    warden.set_policy("in_console", warden.policy()["out_network"])
    warden.set_policy("out_console", warden.policy()["out_network"])
    warden.save(bench)
    assert "route: console" not in verrou("group", "show", "watch", *m).stdout


def test_a_trial_is_of_what_it_says(bench: Path, verrou: Verrou) -> None:
    """Once the console is limited by names, what is asked at it is still tried: by somebody who is let in first."""
    m = ("-m", bench)
    allowed, after = "logon.console.allowed=warden", "lockout.after=5"
    verrou("account", "password", "warden", *m, *TYPED, typed=f"{OTHER_PASSWORD}\n")
    verrou("rule", "set", allowed, after, *m, *TYPED, typed=f"{OTHER_PASSWORD}\n")
    output = verrou.json("verify", "-b", "essential", *m, code=1)["tests"]
    by_rule: dict[str, set[str]] = {}
    for trial in output:
        by_rule.setdefault(trial["rule"], set()).add(trial["result"])
        assert "is denied sign-in by" not in trial["seen"] or trial["rule"].startswith("logon."), trial
    for rule_id in ("lockout.after", "elevation.standard", "logon.console.allowed"):
        assert by_rule[rule_id] == {"passed"}, (rule_id, output)
    verrou("rule", "set", "lockout.after=4", *m, "--yes", "--test")


@examples(120)
@given(machines(), st.sampled_from([-2, -1, 0, 1, None]), st.integers(0, 2))
def test_automatic_sign_in_is_reported_as_the_authority_does_it(
    machine: Authority, days: int | None, outside: int
) -> None:
    """An account that has ended is signed in by nobody, whatever else stands there."""
    for name in (a["name"] for a in machine.accounts() if a["id"] >= 100):
        machine.set_end(name, None if days is None else machine.clock + timedelta(days=days))
        machine.tie(name, "x@far" if outside == 2 and machine.policy()["outside"] == 2 else "")
    machine.set_policy("outside", outside)
    found = screens_of(snapshot_of(machine, ""))
    begun = Authority(machine.compact()).restart()
    machine._data["waiting"].clear()
    assert [each.account for each in screens_of(snapshot_of(machine, "")).automatic] == ([begun] if begun else [])
    closed = {a["name"] for a in machine.accounts() if machine._has_ended(machine._account(a["name"]))}
    assert not {each.account for each in found.automatic} & closed


@examples(30)
@given(machines(), st.data())
def test_advice_of_a_no_does_what_it_says(machine: Authority, data: st.DataObject) -> None:
    """Every command that is advised is said, and then that reason is none any more."""
    snapshot = snapshot_of(machine, "")
    account = data.draw(st.sampled_from([a for a in snapshot.accounts if a.builtin is not Builtin.OTHER]))
    route = data.draw(st.sampled_from([Route.CONSOLE, Route.NETWORK, Route.REMOTE_SCREEN]))
    output = why(account, route, snapshot)
    for reason in () if output.yes else output.chain:
        commands = [part.strip() for part in reason.change.split(", then ") if part.startswith("verrou ")]
        if not commands or any(words in reason.change for words in (", or ", "account password")):
            continue
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "hide-01.bench.json")
            machine.save(path)
            for command in commands:
                guards = ("own-account", "blank-administrator", "orphaned-files")
                accept = [word for guard in guards for word in ("--override", guard)]
                words = [*shlex.split(command)[1:], "-m", str(path), "--yes", *accept]
                ended = forked(words, "", Path(folder))
                guarded = ended.returncode == 3
                assert ended.returncode == 0 or guarded, (command, ended.stdout, ended.stderr)
            changed = Authority(path.read_text())
            changed._data["waiting"].clear()  # what counts from the next sign-in
            after = snapshot_of(changed, "")
            left = {each.statement for each in why(after.by_name[account.name], route, after).chain if not each.helps}
            assert guarded or reason.statement not in left, (reason.statement, reason.change)


class Refusing:
    """Somebody whom every way refuses."""

    account, password, groups = "tern", "x", ()

    def come_by(self, route: Route, service: str, password: str) -> Answer:
        return Answer(False, "the shutters are down")


def test_a_refusal_of_everybody_shows_nothing_of_a_list() -> None:
    entry_point = EntryPoint(Route.CONSOLE, (allow_only(Principals(("warden",))),))
    somebody: Any = Refusing()
    found = list(access_trial(somebody, somebody, Snapshot(FACTS, (), (), entry_points=(entry_point,)), Role.STANDARD))
    assert [each.result for each in found] == [Result.NOT_RUN] and "denied too" in found[0].seen


FACTS = MachineFacts("hide-01", "linux", "x", "this", datetime(2026, 9, 14), Naming("[a-z]+", 20, ""))
DOOR = Group("sudo", "27", ("warden", "boss"), (Grant.ADMINISTRATION,))


@pytest.mark.parametrize(
    ("in_use", "came_by", "inside", "denied", "refused"),
    [
        ("warden", "remote-shell", "", ("warden",), {"own-account"}),
        ("warden", "remote-shell", "", ("warden", "boss"), {"own-account", "administrators-denied"}),
        ("warden", "console", "", ("warden", "boss"), set()),
        ("", "", "remote-shell", ("warden", "boss"), {"administrators-denied"}),
        ("", "", "console", ("warden", "boss"), set()),
        ("boss", "remote-shell", "", ("warden",), set()),
    ],
)
def test_the_route_by_which_one_came_stays_open(
    in_use: str, came_by: str, inside: str, denied: tuple[str, ...], refused: set[str]
) -> None:
    accounts = tuple(
        Account(name, str(n), groups=("sudo",), inside_by=(inside,) if inside else ())
        for n, name in enumerate(("warden", "boss"))
    )
    machine = MachineFacts(
        *(FACTS.name, FACTS.kind, FACTS.system, FACTS.address, FACTS.now, FACTS.naming), in_use, came_by
    )
    console = EntryPoint(Route.CONSOLE)
    before = Snapshot(machine, accounts, (DOOR,), entry_points=(console, EntryPoint(Route.REMOTE_SHELL)))
    for line in (AccessListEntry(False, (Principals(denied),)), allow_only(Principals(("ana",)))):
        after = Snapshot(machine, accounts, (DOOR,), entry_points=(console, EntryPoint(Route.REMOTE_SHELL, (line,))))
        found = {refusal.guard for refusal in refusals_on(Candidate(before, after, ()))}
        everyone = {"own-account"} & {"own-account" if came_by == "remote-shell" else ""}
        all_out = everyone | ({"administrators-denied"} if "remote-shell" in (came_by, inside) else set())
        assert found == (refused if line.who == (Principals(denied),) else all_out)


def test_one_value_that_cannot_be_is_left_as_a_manual_step(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    m = ("-m", bench)
    verrou("rule", "set", "password.max_age=5 days", *m, "--yes")
    site = tmp_path / "site.toml"
    site.write_text(titled('[password]\nwarn_before = "14 days"\nmin_length = 12\n'))
    output = verrou("harden", "-b", site, *m, "--yes", code=1).stdout
    assert "must be shorter than password.max_age (5 days)" in " ".join(output.split())
    policy = Authority(bench.read_text()).policy()
    assert (policy["length"], policy["age_max_days"]) == (12, 5)
    verrou("harden", "-b", "shared-desk", "--only", "password", *m, "--yes", code=1)


def test_the_exit_code_of_harden_is_that_of_the_audit_afterwards(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    site = tmp_path / "site.toml"
    site.write_text(titled('[population]\nadministrators = { only = ["warden"] }\n'))
    output = verrou.line("harden", "-b", site, "-m", bench, "--yes", code=1)
    assert "verrou account disable keeper" in output and "group leave" not in output
    site.write_text(titled("[password]\nmin_length = 12\n"))
    verrou("harden", "-b", site, "-m", bench, "--preview")
    assert "Afterwards 1 of 1 met" in verrou.line("harden", "-b", site, "-m", bench, "--yes")


def test_a_survey_of_a_kind_that_no_one_knows_is_shown(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    verrou("account", "enable", "passerby", "-m", bench, "--yes")
    verrou("survey", "-m", bench, "--save", "kept")
    path = tmp_path / "kept.survey.json"
    path.write_text(path.read_text().replace('"kind": "bench"', '"kind": "toaster"'))
    for command in (("survey", "--all"), ("account", "show", "keeper"), ("audit", "-b", "essential"), ("access",)):
        verrou(*command, "-m", path, code=None)
    journal = tmp_path / "hide-01.verrou" / JOURNAL
    from verrou.records.journal import START, _link

    output = json.loads(journal.read_text().splitlines()[0])["record"] | {"entry": float("inf")}
    journal.write_text(json.dumps({"record": output, "chain": _link(START, output)}) + "\n")
    assert "not a journal line" in verrou("journal", "list", "-m", bench, code=2).stderr


@pytest.mark.real_root
def test_an_account_with_folders_nested_without_end_is_closed_and_removed(
    manned_root: PrivateRoot, verrou: Verrou
) -> None:
    root, m = manned_root, ("-m", manned_root.path, "--yes")
    root.users("gull")
    nest = "import os\nos.chdir('/home/gull')\nfor _ in range(1100):\n    os.mkdir('d'); os.chdir('d')\n"
    subprocess.run([sys.executable, "-c", f"import os; os.chroot({str(root.path)!r})\n{nest}"], check=True)
    root.inside("chown", "-R", "gull:", "/home/gull")
    verrou("account", "remove", "gull", "--files", "archive", *m)
    verrou("undo", *m)
    assert (root.path / "home/gull" / "/".join(["d"] * 1000)).is_dir()
    verrou("account", "remove", "gull", "--files", "delete", *m)
    assert not (root.path / "home/gull").exists()


def test_who_was_late_once_is_not_asked_again(tmp_path: Path) -> None:
    asked = []

    class Late:
        def ask(self, request: object) -> None:
            asked.append(request)
            raise TooSlow("the system did not answer within 2 seconds")

    copy = PrivateCopy(Root(tmp_path), {}, Late())  # type: ignore[arg-type]
    for _ in range(3):
        with pytest.raises(DryRunUnavailable, match="did not answer"):
            copy.ask(SignIn("tern", "x"))
    assert len(asked) == 1


@pytest.mark.real_root
def test_what_cannot_come_out_so_is_reported_with_its_reason(manned_root: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", manned_root.path, "--yes")
    output = verrou("rule", "set", "elevation.standard=admin-password", *m, code=4).stderr
    assert "no action of polkit asks for an administrator" in output
    manned_root.write("/etc/ssh/sshd_config.d/10-site.conf", "DenyUsers gull\n")
    output = verrou("rule", "set", "logon.remote-shell.denied=nobody", *m, code=4).stderr
    assert "requested nobody, but the machine would set gull" in output
    assert "gull" in verrou("rule", "show", "logon.remote-shell.denied", *m[:2]).stdout
    assert "rule set" not in verrou("why", "warden", "remote-shell", *m[:2]).stdout


def test_passwords_typed_at_a_terminal_are_not_lost_with_it(bench: Path) -> None:
    """The terminal goes before the answer: nothing is changed."""
    start = bench.read_bytes()
    child, terminal = pty.fork()
    if child == 0:
        words = ["verrou", "account", "add", "tern", "-m", str(bench)]
        os.execv(sys.executable, [sys.executable, "-m", *words])
    os.read(terminal, 1)
    os.close(terminal)
    os.waitpid(child, 0)
    assert bench.read_bytes() == start


def test_a_narrow_sheet_loses_no_heading_and_no_name(
    verrou: Verrou, monkeypatch: pytest.MonkeyPatch, station: Path
) -> None:
    m = ("-m", "station/hide-01.bench.json")
    monkeypatch.setenv("COLUMNS", "110")
    output = verrou("survey", *m).stdout.splitlines()
    assert "keeper  administrator" in output and "    routes: console, network, remote-screen" in output
    monkeypatch.setenv("COLUMNS", "60")
    output = verrou("access", *m).stdout.splitlines()
    assert output[1] == "keeper" and output[2].startswith("    role administrator; console password")
    sides = ("station/surveys/hide-01-2025-09", "station/surveys/hide-01-2026-09")
    assert verrou("compare", *sides, code=1).stdout.count("account daypass\n") == 1


@pytest.mark.real_root
@pytest.mark.parametrize("command", [("survey", "-m"), ("round", "-b", "essential")])
def test_a_closed_folder_wants_other_rights(bench: Path, tmp_path: Path, command: tuple[str, ...]) -> None:
    closed = tmp_path / "closed"
    closed.mkdir(mode=0)
    words = [sys.executable, "-m", "verrou", *command, str(closed)]
    nobody = ["setpriv", "--reuid", "65534", "--clear-groups", "--bounding-set", "-all", *words]
    for folder in (tmp_path, *list(tmp_path.parents)[:-2]):
        if folder.stat().st_uid == 0 and not folder.stat().st_mode & 0o001:
            folder.chmod(folder.stat().st_mode | 0o011)
    ended = subprocess.run(nobody, capture_output=True, text=True, check=False)
    assert ended.returncode == 5 and "Run as one that can" in ended.stderr, ended.stderr
