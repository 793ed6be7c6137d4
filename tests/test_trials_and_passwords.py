"""Trials find every rule that does not act; passwords break just the rule they are meant to break."""

from datetime import datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou
from verrou.cli.passwords import _words
from verrou.core.model import Snapshot
from verrou.core.model.verdicts import Result, TrialResult
from verrou.core.rules import CATALOGUE
from verrou.core.testing.passwords import (
    Policy,
    breaking,
    broken_rules,
    classes_in,
    make_password,
    make_phrase,
    policy_of,
)
from verrou.core.testing.tested import TESTED
from verrou.core.testing.trials import run_trials
from verrou.machines.bench import session as seat
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.machine import BenchMachine
from verrou.machines.bench.rules import ADAPTERS
from verrou.machines.linux.rules import ADAPTERS as LINUX_ADAPTERS
from verrou.machines.linux.rules.untested import UNTESTED
from verrou.reports.catalogue import rules_tested

POLICIES = st.builds(
    Policy,
    min_length=st.integers(0, 60),
    classes=st.integers(0, 4),
    may_contain_name=st.booleans(),
    dictionary=st.booleans(),
)
ACCOUNTS = st.sampled_from(["tern", "a", "guillemot", "ringer-2", "zq"])


@given(POLICIES, ACCOUNTS, st.integers())
def test_a_made_password_satisfies_the_rules(policy: Policy, account: str, seed: int) -> None:
    made = make_password(policy, account, Random(seed))
    assert not broken_rules(made, policy, account)
    assert len(made) >= 16 and made.isprintable() and " " not in made
    assert not set(made) & set("il1IO0o|"), "it can be read aloud"


@given(POLICIES, ACCOUNTS, st.integers())
def test_a_phrase_satisfies_the_rules_and_is_made_of_words(policy: Policy, account: str, seed: int) -> None:
    words = _words()
    made = make_phrase(policy, account, words, Random(seed))
    assert not broken_rules(made, policy, account)
    *message, digits = made.split("-")
    assert len(message) >= 4 and {word.lower() for word in message} <= set(words) and digits.isdigit()
    assert len(words) > 7_000, "four of them are hard to guess"


@given(POLICIES, ACCOUNTS, st.integers(), st.sampled_from(["min_length", "classes", "may_contain_name"]))
def test_a_candidate_breaks_its_rule_and_no_other(policy: Policy, account: str, seed: int, key: str) -> None:
    candidates = breaking(f"password.{key}", policy, account, Random(seed))
    if not candidates:
        return
    broken = set(broken_rules(candidates[0], policy, account))
    asked = {"min_length": policy.min_length > 1, "classes": policy.classes > 1, "may_contain_name": True}[key]
    forbids = key != "may_contain_name" or not policy.may_contain_name
    assert broken == ({f"password.{key}"} if asked and forbids else set())


@given(POLICIES, st.integers())
def test_dictionary_words_break_nothing_else(policy: Policy, seed: int) -> None:
    candidates = breaking("password.dictionary", policy, "tern", Random(seed))
    assert all(not broken_rules(candidate, policy, "tern") for candidate in candidates)
    assert candidates or policy.min_length > 24


@given(st.tuples(st.text(max_size=20), st.sampled_from(["", "Tern"])).map("".join), POLICIES, POLICIES)
def test_what_satisfies_both_satisfies_each(candidate: str, one: Policy, other: Policy) -> None:
    policy = one.together(other)
    assert (policy.dictionary, policy.remember) == (
        one.dictionary or other.dictionary,
        max(one.remember, other.remember),
    )
    both = set(broken_rules(candidate, policy, "tern"))
    assert both == set(broken_rules(candidate, one, "tern")) | set(broken_rules(candidate, other, "tern"))
    assert classes_in(candidate) <= {"lower", "upper", "digit", "symbol"}


RINGERS = 102
STRICT: dict[str, Any] = {
    "try_limit": 4,
    "lock_minutes": 45,
    "window_minutes": 20,
    "length": 12,
    "classes": 3,
    "history": 3,
    "age_max_days": 90,
    "age_min_days": 1,
    "warn_days": 5,
    "name_inside": False,
    "blank_by": ["console"],
    "outside": 1,
    "in_remote-screen": None,
    **{f"out_{route}": [RINGERS] for route in seat.WAYS},
    "duty_install": None,
    "duty_off": [seat.ADMINISTRATORS],
    "duty_clock": [seat.ADMINISTRATORS],
    "gives_administrator": dict.fromkeys(seat.PROGRAMS, 2),
    "gives_user": dict.fromkeys(seat.PROGRAMS, 3),
    "gives_guest": {**dict.fromkeys(seat.PROGRAMS, 4), "installer": 3},
    "commands": [[RINGERS, "/usr/bin/count"]],
    "apart": True,
    "helpers_reach": False,
    "memory_minutes": 5,
    "patience_seconds": 60,
    "opens_for": 1,
    "opens_as": seat.PASSERBY,
    "hidden": [seat.KEEPER],
    "keys_first": True,
    "locked_tells": 1,
    "idle_minutes": 10,
    "greeting": {"title": "Cap Fauvel", "text": "Quiet."},
    "drives_hidden": ["stick"],
    "settings_shut": True,
}
ACTS_OTHERWISE: dict[str, list[tuple[str, Any]]] = {
    "population.linked_identities": [("outside", 2), ("outside", 0)],
    "password.min_length": [("length", 11)],
    "password.classes": [("classes", 2)],
    "password.remember": [("history", 2)],
    "password.max_age": [("age_max_days", 91), ("age_max_days", 89)],
    "password.min_age": [("age_min_days", 0)],
    "password.warn_before": [("warn_days", 7), ("warn_days", 3)],
    "password.may_contain_name": [("name_inside", True)],
    "password.blank_accepted": [("blank_by", ["console", "network"]), ("blank_by", [])],
    "lockout.after": [("try_limit", 5), ("try_limit", 3)],
    "lockout.lasts": [("lock_minutes", 20), ("lock_minutes", 50), ("lock_minutes", 0)],
    "lockout.forget_after": [("window_minutes", 45)],
    "lockout.exempts": [("lock_keeper", True)],
    **{f"logon.{route}.allowed": [(f"in_{route}", [seat.ADMINISTRATORS])] for route in seat.WAYS},
    **{f"logon.{route}.denied": [(f"out_{route}", [])] for route in seat.WAYS},
    "rights.shut_down": [("duty_off", None), ("duty_off", [])],
    "rights.set_clock": [("duty_clock", None), ("duty_clock", [])],
    "rights.install_software": [("duty_install", [seat.ADMINISTRATORS])],
    "elevation.administrator": [("gives_administrator", {**dict.fromkeys(seat.PROGRAMS, 2), "unsigned": 1})],
    "elevation.builtin": [("gives_keeper", {**dict.fromkeys(seat.PROGRAMS, 1), "part": 0})],
    "elevation.standard": [("gives_user", {**dict.fromkeys(seat.PROGRAMS, 3), "installer": 4})],
    "elevation.guest": [("gives_guest", dict.fromkeys(seat.PROGRAMS, 3))],
    "elevation.commands": [("commands", []), ("commands", [[seat.USERS, "/usr/bin/count"]])],
    "elevation.prompt_apart": [("apart", False)],
    "elevation.helpers_reach_prompt": [("helpers_reach", True)],
    "elevation.remembered_for": [("memory_minutes", 6), ("memory_minutes", 4)],
    "elevation.unanswered_after": [("patience_seconds", 70), ("patience_seconds", 50)],
    "screen.automatic_signin": [("opens_for", 0)],
    "screen.hidden_accounts": [("hidden", [])],
    "screen.shows_last_account": [("shows_last", False)],
    "screen.shut_down_button": [("off_button", False)],
    "screen.locked_shows": [("locked_tells", 2), ("locked_tells", 0)],
    "screen.attention_key": [("keys_first", False)],
    "screen.locks_after": [("idle_minutes", 11), ("idle_minutes", 9), ("idle_minutes", 0)],
    "screen.notice": [("greeting", {"title": "Cap Fauvel", "text": "Loud."})],
    "sharing.hidden_drives": [("drives_hidden", []), ("drives_hidden", ["*"])],
    "sharing.settings_closed": [("settings_shut", False)],
    "sharing.installer": [("installer_for", 2), ("installer_for", 1)],
    "sharing.applies_to": [("covered", [seat.USERS, seat.GUESTS])],
}
"""By rule the settings with which the strict machine does not do as it says."""


@pytest.fixture
def strict(bench: Path) -> BenchMachine:
    machine = Authority(bench.read_text())
    machine.add("ringer", "", GOOD_PASSWORD, must_change=False)
    machine.add_group("ringers", "")
    machine.join("ringer", "ringers")
    machine.set_open("passerby", True)
    machine.reset_password("passerby", "")
    for key, value in STRICT.items():
        machine.set_policy(key, value)
    machine.sign_out(machine.sign_in("warden", GOOD_PASSWORD))
    machine.restart()
    machine.sign_out(machine.front_session()["token"])  # type: ignore[index]
    machine.save(bench)
    return BenchMachine(bench)


def trials(machine: BenchMachine, snapshot: Snapshot | None = None) -> list[TrialResult]:
    with machine.dry_run() as copy:
        return list(run_trials(copy.attempt, snapshot or machine.observe(), Random(7)))


def test_all_is_proved_on_an_honest_machine(strict: BenchMachine) -> None:
    before = strict.path.read_bytes()
    results = trials(strict)
    assert [result for result in results if result.result is not Result.PASSED] == []
    assert {result.rule for result in results} >= ACTS_OTHERWISE.keys()
    assert strict.path.read_bytes() == before, "nothing of the trial is left"


@pytest.mark.parametrize("rule", ACTS_OTHERWISE)
def test_a_rule_that_reads_well_and_acts_otherwise_is_disproved(strict: BenchMachine, rule: str) -> None:
    read = strict.observe()
    for key, acts_as in ACTS_OTHERWISE[rule]:
        machine = Authority(strict.path.read_text())
        machine.set_policy(key, acts_as)
        machine._data["waiting"].clear()
        other = BenchMachine(strict.path.with_name("other.bench.json"))
        machine.save(other.path)
        disproved = {result.rule for result in trials(other, read) if result.result is Result.FAILED}
        assert rule in disproved, (key, acts_as)


KEPT_AS_THEY_ARE = ("population.linked_identities",)
"""Rules that a Linux system has and that nothing sets there."""


def test_every_rule_that_can_be_set_has_a_test_or_a_reason(strict: BenchMachine) -> None:
    on_bench = {rule_id for rule_id, adapter in ADAPTERS.items() if adapter.write is not None}
    assert on_bench == ACTS_OTHERWISE.keys() and on_bench <= TESTED.keys()
    on_linux = LINUX_ADAPTERS.keys() - set(KEPT_AS_THEY_ARE)
    assert on_linux <= TESTED.keys() and UNTESTED.keys() <= on_linux and len(UNTESTED) <= 6
    assert TESTED.keys() == {rule_id for rule_id, each in CATALOGUE.items() if each.derived is None}
    reference = Path(__file__).parent.parent / "docs/handbook/reference.md"
    assert rules_tested() in reference.read_text(), "verrou.reports.catalogue.rules_tested makes the table"


def test_what_another_rule_stopped_was_not_run_and_says_by_which(strict: BenchMachine) -> None:
    machine = Authority(strict.path.read_text())
    machine.set_policy("duty_install", [seat.ADMINISTRATORS])
    machine.save(strict.path)
    about = [each for each in trials(strict) if each.rule == "sharing.installer" and "standard" in each.test]
    assert [(each.result, each.seen.partition(":")[0]) for each in about] == [
        (Result.NOT_RUN, "stopped by rights.install_software")
    ]


def test_what_waits_for_a_restart_is_tested_on_both_sides_of_it(strict: BenchMachine) -> None:
    machine = Authority(strict.path.read_text())
    machine.set_policy("apart", False)
    machine.set_policy("off_button", False)
    machine.save(strict.path)
    results = [each for each in trials(strict) if each.rule in ("elevation.prompt_apart", "screen.shut_down_button")]
    assert {each.result for each in results} == {Result.PASSED}
    seen = {(each.rule, "after a restart" in each.test): each.seen for each in results}
    assert seen == {
        ("elevation.prompt_apart", False): "the prompt is isolated",
        ("elevation.prompt_apart", True): "an ordinary window",
        ("screen.shut_down_button", False): "a button",
        ("screen.shut_down_button", True): "no button",
    }


def refuses_everything(self: Authority, *_: object) -> None:
    raise No("no")


def test_refusals_prove_nothing_on_a_machine_that_refuses_everything(
    strict: BenchMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Authority, "change_password", refuses_everything)
    weak = [result for result in trials(strict) if result.rule in ("password.min_length", "password.remember")]
    assert weak and {result.result for result in weak} == {Result.NOT_RUN}
    monkeypatch.setattr(Authority, "sign_in", refuses_everything)
    results = trials(strict)
    lockout = [(each.result, each.seen) for each in results if each.rule == "lockout.after"]
    assert lockout == [(Result.NOT_RUN, "the temporary account could not sign in at all: no")]
    lists = ("logon.", "screen.", "population.", "password.max_age")
    assert not [each for each in results if each.result is Result.PASSED and not each.rule.startswith(lists)]


@pytest.mark.parametrize("accepted", [1, 2])
def test_a_machine_that_changes_no_password_any_more_remembers_none(
    strict: BenchMachine, monkeypatch: pytest.MonkeyPatch, accepted: int
) -> None:
    change, changed = Authority.change_password, list[int]()

    def tired(self: Authority, account: str, old: str, new: str) -> None:
        if len(changed) == accepted:
            raise No("no more today")
        change(self, account, old, new)
        changed.append(1)

    monkeypatch.setattr(Authority, "change_password", tired)
    (remembered,) = [result for result in trials(strict) if result.rule == "password.remember"]
    assert remembered.result is Result.NOT_RUN and "no more today" in remembered.seen


def test_a_machine_that_lets_everybody_in_is_no_proof_of_anything(
    strict: BenchMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Authority, "_matches", staticmethod(lambda kept, password: True))
    results = trials(strict)
    assert not any(r.result is Result.PASSED for r in results if r.rule.startswith("lockout."))
    assert "accepts wrong passwords" in results[0].seen


def test_a_policy_counts_only_what_is_in_force(bench: Path, verrou: Verrou) -> None:
    snapshot = BenchMachine(bench).observe()
    assert policy_of(snapshot) == Policy()
    verrou("rule", "set", "password.min_length=12", "password.classes=3", "password.remember=4", "-m", bench, "--yes")
    assert policy_of(BenchMachine(bench).observe()) == Policy(12, 3, True, False, 4)


def test_a_typed_password_meets_the_rules_that_its_plan_sets(bench: Path, verrou: Verrou) -> None:
    text = '[baseline]\ntitle = "x"\n[password]\nmin_length = 14\n[accounts.tern]\npassword = "ask"\n'
    (bench.parent / "strict.toml").write_text(text)
    words = ("harden", "-m", bench, "-b", "strict.toml", "--password", "stdin", "--yes")
    output = verrou(*words, typed="kittiwake-4\n", code=2).stderr
    assert "(password.min_length)" in output and "nothing was changed" in output
    assert policy_of(BenchMachine(bench).observe()) == Policy()
    verrou(*words, typed=f"{GOOD_PASSWORD}\n")


def test_the_authority_counts_by_its_own_clock() -> None:
    machine = Authority.fresh("hide-01", datetime(2026, 9, 14))
    machine.set_policy("try_limit", 2)
    machine.add("tern", "", "gull-1", must_change=False)

    def attempts(password: str, *, route: str = "console") -> str:
        try:
            machine.sign_in("tern", password, route)
        except No as no:
            return str(no)
        return "in"

    machine.mark("tern", "never_ends", True)
    assert [attempts("x"), attempts("x"), attempts("gull-1")] == ["the password is wrong"] * 2 + [
        "the account is locked"
    ]
    machine.clock += timedelta(minutes=24)
    assert attempts("gull-1") == "the account is locked"
    machine.clock += timedelta(minutes=1)
    assert attempts("gull-1") == "in"
    machine.set_policy("lock_minutes", 0)
    assert [attempts("x"), attempts("x")] and attempts("gull-1") == "the account is locked"
    machine.clock += timedelta(days=999)
    assert attempts("gull-1") == "the account is locked"
    machine.unlock("tern")
    assert attempts("gull-1") == "in"
    machine.reset_password("tern", "")
    assert attempts("") == "in"
    assert attempts("", route="network") == "a blank password is not accepted: network"
    machine.set_open("tern", False)
    assert attempts("") == "the account is closed"
    machine.set_open("tern", True)
    machine.mark("tern", "never_ends", False)
    machine.reset_password("tern", "gull-2", must_change=True)
    assert attempts("gull-2") == "the password must be changed first"
    machine.change_password("tern", "gull-2", "gull-3")
    assert attempts("gull-3") == "in"
