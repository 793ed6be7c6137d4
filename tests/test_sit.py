"""Somebody sits at a bench machine: what they see is what every command says of it."""

import json
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path
from random import Random

import pytest
from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, examples, titled
from test_predicted import values
from test_seat_bench import ANSWERS, machines
from verrou.cli.baseline_files import fetch_baseline
from verrou.core.baselines.baseline import read_baseline
from verrou.core.judging.audit import audit
from verrou.core.model import Account, Reading, Snapshot, Status, unreadable
from verrou.core.model.access import routes_now
from verrou.core.model.acts import PROGRAMS, UserAct, why_act
from verrou.core.model.elevation import PromptOutcome
from verrou.core.model.known import Known
from verrou.core.model.reasons import MET_WORDS
from verrou.core.model.routes import Route
from verrou.core.model.screens import screens_of
from verrou.core.model.verdicts import Result, Verdict
from verrou.core.rules import CATALOGUE, setting
from verrou.core.steps.step import SetRules
from verrou.core.testing.trials import run_trials
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.machine import BenchCopy
from verrou.machines.bench.practice import make_practice
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.bench.rules import ADAPTERS
from verrou.machines.bench.session_rules import DRIVES, KINDS_OF_PROGRAM
from verrou.machines.bench.sitting import Sitting
from verrou.machines.bench.steps import do_step
from verrou.machines.changes import Secrets
from verrou.machines.local_files import item_at

FAMILIES = ("rights", "elevation", "sharing", "screen", "logon", "lockout")
OTHER_PASSWORD = "razorbill-Skerry-17"
SET = [rule_id for rule_id, each in ADAPTERS.items() if each.write and rule_id.partition(".")[0] in FAMILIES]


RULES = st.sampled_from(SET).flatmap(
    lambda rule_id: values(CATALOGUE[rule_id].kind).map(lambda value: SetRules((setting(rule_id, value),)))
)
GIVEN = st.sampled_from(["", "yes", GOOD_PASSWORD, "x"])


def sits(machine: Authority, name: str) -> Sitting | None:
    """Somebody who signs in at a copy of the machine, with the password that is right; None where nobody can."""
    for password in ("", GOOD_PASSWORD):
        copy = Sitting(Authority(machine.compact()))  # another each time: a wrong password may lock the account
        if copy.machine.switched_off:
            copy.start_up()
        with suppress(No):
            copy.press_keys()
            copy.sign_in(name, password)
            return copy
    return None


def does(sitting: Sitting, act: UserAct) -> tuple[bool, str]:
    """Whether somebody may do it, and what they are asked first."""
    token = sitting.front["token"]  # type: ignore[index]
    try:
        if act in PROGRAMS:
            met = ANSWERS[sitting.machine.start(token, KINDS_OF_PROGRAM[PROGRAMS[act]])]
            return (False, "") if met is PromptOutcome.DENIED else (True, MET_WORDS[met])
        if act is UserAct.SHUT_DOWN:
            sitting.shut_down()
        else:
            sitting.set_clock(sitting.machine.clock)
    except No:
        return False, ""
    return True, ""


def check(machine: Authority) -> None:
    """What sitting there shows is what is said of the machine."""
    snapshot = snapshot_of(machine, "")
    screens = screens_of(snapshot)
    at_first = Sitting(Authority(machine.compact()))
    if at_first.front is None and not machine.switched_off and screens.listed is not None:
        assert all(f"({name})" in " ".join(at_first.look().lines) for name in screens.listed)
    for account in snapshot.accounts:
        sitting = sits(machine, account.name)
        in_now = Route.CONSOLE in routes_now(account, snapshot)
        if sitting is None:
            automatic = any(each.account == account.name for each in screens.automatic)
            assert not in_now or automatic or account.change_due, account.name
            continue
        assert in_now, account.name
        for act in UserAct:
            answer = why_act(act, account, snapshot)
            again = sits(machine, account.name)
            assert again is not None
            assert (answer.answer is Known.YES, answer.prompt) == does(again, act), (account.name, act, answer.chain)
        check_limits(sitting, account, snapshot)


def check_limits(sitting: Sitting, account: Account, snapshot: Snapshot) -> None:
    """The limits of shared use and the idle time are those that the readings tell, once somebody has signed in."""
    machine, token = sitting.machine, sitting.front["token"]  # type: ignore[index]
    after = snapshot_of(machine, "").readings
    hidden, covered = after["sharing.hidden_drives"], after["sharing.applies_to"].value
    mine = {str(account.name), "everyone", *(f"group:{group}" for group in account.groups)}
    bound = bool(mine & covered) and not machine.can_administer(token)  # type: ignore[operator]
    if hidden.status is Status.READ:
        for drive, own in DRIVES.items():
            shown = not (bound and {drive, "all"} & hidden.value)  # type: ignore[operator]
            assert machine.browses(token, own) is shown
    assert machine.opens_settings(token) is not (bound and after["sharing.settings_closed"].value is True)
    minutes = machine.idle_minutes(account.name)
    locks = after["screen.locks_after"].value
    assert locks == "never" or (minutes and timedelta(minutes=minutes) <= locks), "nobody's is looser than what is told"
    if minutes:
        sitting.idle(timedelta(minutes=minutes) - timedelta(seconds=1))
        assert not sitting.front["locked"]  # type: ignore[index]
        sitting.idle(timedelta(minutes=minutes))
        assert sitting.front["locked"]  # type: ignore[index]


@examples(30)
@given(machines(), st.data())
def test_what_sitting_there_shows_is_what_is_said(machine: Authority, data: st.DataObject) -> None:
    sitting = Sitting(machine)
    names = [str(each["name"]) for each in machine.accounts()]
    acts: list[Callable[[], object]] = [
        lambda: sitting.press_keys(),
        lambda: sitting.sign_in(data.draw(st.sampled_from(names)), data.draw(GIVEN)),
        lambda: sitting.sign_out(),
        lambda: sitting.lock(),
        lambda: sitting.unlock(GOOD_PASSWORD),
        lambda: sitting.start(data.draw(st.sampled_from(list(KINDS_OF_PROGRAM.values())))),
        lambda: sitting.answer(data.draw(GIVEN), data.draw(st.sampled_from(names))),
        lambda: sitting.idle(timedelta(minutes=data.draw(st.sampled_from([1, 20, 90])))),
        lambda: sitting.wait(timedelta(minutes=data.draw(st.sampled_from([1, 20, 60 * 24])))),
        lambda: sitting.set_automatic(data.draw(st.sampled_from(["", *names]))),
        lambda: sitting.set_idle(data.draw(st.sampled_from([None, 0, 5]))),
        lambda: sitting.shut_down(),
        lambda: sitting.start_up(),
        lambda: do_step(machine, data.draw(RULES), Secrets()),
        lambda: machine.join(data.draw(st.sampled_from(names)), "administrators"),
        lambda: machine.leave(data.draw(st.sampled_from(names)), "administrators"),
        lambda: machine.set_open(data.draw(st.sampled_from(names)), data.draw(st.booleans())),
    ]
    for act in data.draw(st.lists(st.sampled_from(acts), max_size=8)):
        with suppress(No):
            act()
    sitting.look()
    check(Authority(machine.text()))


@examples(15)
@given(st.sampled_from(["full", "basic"]), st.sampled_from(["en", "fr"]), RULES, st.integers())
def test_any_rule_set_to_any_value_is_read_back_and_shown(
    edition: str, language: str, step: SetRules, seed: int
) -> None:
    """On both sides of a restart."""
    machine = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30), edition, language)
    for name in ("o*", "Ána?", "tern"):
        machine.add(name, "", GOOD_PASSWORD, must_change=False)
    try:
        do_step(machine, step, Secrets())
    except No:
        return
    (rule_id, value), snapshot = next(iter(step.values.items())), snapshot_of(machine, "")
    reading = snapshot.readings[rule_id]
    stands = reading.value if reading.pending is None else reading.pending
    assert stands is not None and CATALOGUE[rule_id].kind.accepts_result(stands, value, snapshot.members)
    for _ in range(2):
        snapshot = snapshot_of(machine, "")
        results = run_trials(BenchCopy(machine, "", "", item_at(Path("none")), {}).attempt, snapshot, Random(seed))
        assert [each for each in results if each.result is Result.FAILED] == []
        machine.restart()


SCRIPT = f"""
# a ringer mistypes
look
expect (ringer)
mistype ringer 3
sign-in ringer
{GOOD_PASSWORD}
expect the account is locked
wait 45 minutes
sign-in ringer
{GOOD_PASSWORD}
expect ringer is signed in
start unsigned
expect refused administrator rights
start signed
expect no program can reach this prompt
answer administrator warden
{OTHER_PASSWORD}
expect starts with administrator rights
idle 10 minutes
expect the screen is locked
sign-in warden
{OTHER_PASSWORD}
people
expect ringer (console since 2026-09-14 09:15, locked)
set-clock 2026-09-15 08:00
expect may not set the clock
restart
expect (warden)
"""
TO_SIT_AT = (
    *("lockout.after=3", "lockout.lasts=30 minutes", "elevation.standard=admin-password,unsigned=denied"),
    *("elevation.prompt_apart=yes", "screen.locks_after=10 minutes", "rights.set_clock=nobody"),
)


@pytest.fixture
def desk(bench: Path, verrou: Verrou) -> Path:
    """A machine with a warden and a ringer, and rules that one can run into."""
    machine = Authority(bench.read_text())
    machine.reset_password("warden", OTHER_PASSWORD)
    machine.add("ringer", "", GOOD_PASSWORD, must_change=False)
    machine.save(bench)
    verrou("rule", "set", *TO_SIT_AT, "-m", bench, "--yes")
    verrou("machine", "restart", "-m", bench)
    return bench


def test_a_script_is_sat_through_and_its_expectations_are_checked(desk: Path, verrou: Verrou) -> None:
    output = verrou("sit", "-m", desk, "--explain", typed=SCRIPT).stdout
    assert "because of lockout.after: an account is locked after 3 failed attempts" in output
    assert "because of elevation.standard: to elevate a program, standard users give: admin-password, but" in output
    assert GOOD_PASSWORD not in output and OTHER_PASSWORD not in output
    wrong = verrou("sit", "-m", desk, typed="look\nexpect (puffin)\nshut-down\n", code=1)
    assert "line 2: expected '(puffin)', and saw: +---" in wrong.stderr and "shut-down" not in wrong.stdout
    for script, message in (
        ("lok\n", "line 1: unknown act 'lok'. Did you mean look?"),
        ("\nsign-in warden\n", "line 3: the script ends where it has to give: Password of warden"),
        ("start unsinged\n", "line 1: PROGRAM: invalid value 'unsinged'. Did you mean unsigned?"),
        ("idle 5\n", "line 1: idle: invalid value '5'"),
        ("mistype warden 0\n", "line 1: usage: mistype ACCOUNT [TIMES [ROUTE]]"),
        ("set-clock 2026-09-15T08:00+02:00\n", "line 1: usage: set-clock"),
        ("look 'x\n", "line 1: No closing quotation"),
    ):
        assert message in verrou("sit", "-m", desk, typed=script, code=2).stderr, script


def test_a_session_keeps_what_its_account_was_when_it_began(desk: Path, verrou: Verrou) -> None:
    verrou("sit", "-m", desk, typed=f"sign-in warden\n{OTHER_PASSWORD}\n")
    typed = ("--password", "stdin", "-m", desk, "--yes")
    verrou("account", "add", "bors", "--role", "administrator", *typed, typed=f"{GOOD_PASSWORD}\n")
    verrou("account", "swap", "warden", "bors", *typed, "--override", "own-account", typed=f"{GOOD_PASSWORD}\n")
    warden = verrou.json("account", "show", "warden", "-m", desk)
    assert "keeps-rights" in warden["states"] and warden["role"] == "standard"
    assert "warden is signed in: administrator until it signs out" in verrou("access", "-m", desk).stdout
    bors = verrou.json("account", "show", "bors", "-m", desk)
    assert bors["role"] == "administrator" and "awaits-rights" not in bors["states"], "no one is signed in as it"
    assert "keeps them until it signs out" in verrou.line("why", "warden", "elevate", "-m", desk)
    at_first = "start system\nexpect nothing is asked\nsign-out\n"
    again = f"sign-in warden\n{OTHER_PASSWORD}\nstart system\nexpect an administrator gives name and password\n"
    verrou("sit", "-m", desk, typed=at_first + again)
    verrou("group", "join", "administrators", "warden", "-m", desk, "--yes")
    assert "awaits-rights" in verrou.json("account", "show", "warden", "-m", desk)["states"]


def test_what_is_not_known_of_a_rule_is_not_known_of_what_a_user_may_do(desk: Path) -> None:
    snapshot = snapshot_of(Authority(desk.read_text()), "")
    ringer = next(account for account in snapshot.accounts if account.name == "ringer")
    for rule_id, act in (
        ("elevation.standard", UserAct.RUN_SIGNED),
        ("rights.shut_down", UserAct.SHUT_DOWN),
        ("sharing.installer", UserAct.INSTALL),
    ):
        listed = {"rights.install_software": Reading(frozenset({"ringer"}))}
        doubtful = evolve(snapshot, readings={**snapshot.readings, **listed, rule_id: unreadable("it is a riddle")})
        answer = why_act(act, ringer, doubtful)
        assert answer.answer is Known.UNKNOWN and "it is a riddle" in answer.chain[0].statement, rule_id


def test_several_people_share_one_screen(desk: Path, verrou: Verrou) -> None:
    verrou("rule", "set", "screen.shut_down_button=no", "rights.shut_down=nobody", "-m", desk, "--yes")
    verrou("machine", "restart", "-m", desk)
    script = f"""
shut-down
expect the screen has no button
sign-in ringer
{GOOD_PASSWORD}
shut-down
expect may not switch the machine off
sign-in warden
{OTHER_PASSWORD}
people
expect ringer (console since 2026-09-14 08:30, locked) warden (console since 2026-09-14 08:30, here)
switch ringer
{OTHER_PASSWORD}
expect the password is wrong
switch ringer
{GOOD_PASSWORD}
people
expect ringer (console since 2026-09-14 08:30, here) warden (console since 2026-09-14 08:30, locked)
lock
expect ringer of hide-01 is signed in; the screen is locked
browse
expect the screen is locked
unlock
{GOOD_PASSWORD}
expect ringer is signed in
sign-in ringer network
{GOOD_PASSWORD}
start system
expect over the network there is no screen
browse removable
expect The drive opens
"""
    verrou("sit", "-m", desk, typed=script)


def test_wrong_answers_to_a_prompt_lock_and_a_disabled_administrator_opens_nothing(desk: Path, verrou: Verrou) -> None:
    sit = ("sit", "-m", desk)
    first = f"sign-in ringer\n{GOOD_PASSWORD}\n"
    tries = "start signed\nanswer administrator warden\nwrong\nexpect the password is wrong\n" * 3
    right = f"start signed\nanswer administrator warden\n{OTHER_PASSWORD}\n"
    verrou(*sit, typed=f"{first}{tries}{right}expect is locked\n")
    assert verrou.json("account", "show", "warden", "-m", desk)["failed_attempts"] == 3
    machine = Authority(desk.read_text())
    machine.unlock("warden")
    machine.set_open("warden", False)
    machine.save(desk)
    verrou(*sit, typed=f"{right}expect is closed\n")
    machine.set_open("warden", True)
    machine.set_end("warden", machine.clock - timedelta(days=1))
    machine.reset_password("keeper", "")
    machine.set_open("keeper", True)
    machine.set_policy("blank_by", [])
    machine.save(desk)
    verrou(*sit, typed=f"{right}expect has ended\n")
    verrou(*sit, typed="start signed\nanswer administrator keeper\n\nexpect a blank password is not accepted\n")
    refused = (
        "start signed\nstart unsigned\nexpect refused administrator rights\nanswer yes\nexpect nothing was asked\n"
    )
    verrou(*sit, typed=refused)


def test_what_gives_a_password_away_can_be_set_up_and_used(desk: Path, verrou: Verrou) -> None:
    script = f"""
sign-in ringer
{GOOD_PASSWORD}
hint the bird on the cup
questions "Which island?"
Skerry
link ringer@birds.example
idle-time 2 minutes
sign-out
mistype ringer
expect Hint: the bird on the cup
recover ringer
Lundy
{OTHER_PASSWORD}
expect the answers are wrong
recover ringer
Skerry
kittiwake-Ledge-77
expect has a new password
sign-in ringer
kittiwake-Ledge-77
change-password
kittiwake-Ledge-77
fulmar-Ledge-78
expect is changed
automatic ringer
expect only an administrator
sign-in warden
{OTHER_PASSWORD}
automatic ringer
expect From the next start on, ringer is signed in
restart
expect ringer is signed in
"""
    verrou("sit", "-m", desk, typed=script)
    machine = Authority(desk.read_text())
    with pytest.raises(No, match="the answers are wrong"):
        machine.recover("ringer", [], GOOD_PASSWORD)
    assert next(each["recent_tries"] for each in machine.accounts() if each["name"] == "ringer") == 1
    about = verrou.json("account", "show", "ringer", "-m", desk)
    assert about["hint"] == "the bird on the cup" and about["recovery_questions"] == ["Which island?"]
    assert about["linked_identity"] == "ringer@birds.example"
    assert "ringer" in verrou("signin", "-m", desk).stdout


def without_secrets(machine: Authority) -> str:
    data = json.loads(machine.text())
    data["serial"] = ""
    for account in data["accounts"]:
        account["password"] = account["password"] and account["password"]["blank"]
        account["history"], account["recovery"] = [], [each["question"] for each in account["recovery"]]
    return json.dumps(data)


@examples(40)
@given(st.text(max_size=9))
def test_a_flawed_machine_falls_short_in_what_it_says_and_in_nothing_else(seed: str) -> None:
    practice, again = make_practice("practice-01", seed), make_practice("practice-01", seed)
    assert without_secrets(practice.machine) == without_secrets(again.machine) and practice.page == again.page
    baseline = read_baseline(practice.baseline, "practice-01.toml", fetch_baseline)
    found = audit(snapshot_of(practice.machine, ""), baseline)
    assert {each.subject for each in found.findings if each.verdict is not Verdict.MET} == set(practice.flaws)
    assert {rule.partition(".")[0] for rule in practice.flaws} == {rule.family for rule in CATALOGUE.values()}


def test_a_practice_comes_with_its_job_sheet_and_passwords(tmp_path: Path, verrou: Verrou) -> None:
    new = ("machine", "new", "practice-01", "--flawed", "tides")
    verrou(*new)
    passwords = tmp_path / "practice-01-passwords.txt"
    assert passwords.stat().st_mode & 0o777 == 0o600
    given = dict(line.split(": ") for line in passwords.read_text().splitlines())
    assert Authority((tmp_path / "practice-01.bench.json").read_text()).sign_in("warden", given["warden"])
    page = (tmp_path / "practice-01-job.txt").read_text()
    assert "- passwords need at least 12 characters\n" in page and given["warden"] not in page
    assert "already exists" in verrou(*new, code=2).stderr
    assert "cannot be combined" in verrou("machine", "new", "other", "--flawed", "1", "--bare", code=2).stderr


def test_single_commands_are_run_by_those_who_are_listed(desk: Path, verrou: Verrou) -> None:
    m, before = ("-m", desk, "--yes"), desk.read_bytes()
    verrou("rule", "set", "elevation.commands=ringer: /usr/bin/count birds; group:administrators: /usr/bin/x", *m)
    about = {name: verrou.json("account", "show", name, *m[:2]) for name in ("ringer", "warden")}
    assert about["ringer"]["may_run"] == ["/usr/bin/count birds"] and about["warden"]["may_run"] == [], "it can run all"
    first = f"sign-in ringer\n{GOOD_PASSWORD}\nrun /usr/bin/count birds\nexpect It runs with administrator rights\n"
    verrou(
        "sit",
        *m[:2],
        typed=f"{first}run /usr/bin/count fish\nexpect may not run that\nrun /usr/bin/x\nexpect may not\n",
    )
    verrou("sit", *m[:2], typed="sign-out\n")
    for wrong in ("ringer: count", "ringer: /usr/bin/*", "ringer: /usr/bin/env x", "puffin: /usr/bin/x", "ringer"):
        verrou("rule", "set", f"elevation.commands={wrong}", *m, code=4 if "puffin" in wrong else 2)
    verrou("account", "rename", "ringer", "kittiwake", *m)
    assert "kittiwake: /usr/bin/count birds" in verrou.line("rule", "show", "elevation.commands", *m[:2])
    baseline = desk.with_name("b.toml")
    baseline.write_text(titled('[elevation]\ncommands = { "group:administrators" = ["/usr/bin/x"], reason = "r" }'))
    assert "kittiwake: /usr/bin/count birds" in verrou.line("audit", "-b", baseline, *m[:2], code=1)
    verrou("harden", "-b", baseline, *m)
    verrou("audit", "-b", baseline, *m[:2])
    for _ in range(3):
        verrou("undo", *m)
    assert json.loads(desk.read_bytes())["policy"] == json.loads(before)["policy"]
