"""Trials find every rule that does not act; passwords break just the rule they are meant to break."""

from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Verrou
from verrou.cli.passwords import _words
from verrou.core.model.verdicts import Result, TrialResult
from verrou.core.testing.passwords import (
    Policy,
    breaking,
    broken_rules,
    classes_in,
    make_password,
    make_phrase,
    policy_of,
)
from verrou.core.testing.trials import run_trials
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.machine import BenchMachine

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


STRICT: dict[str, Any] = {
    "try_limit": 4,
    "lock_minutes": 45,
    "window_minutes": 20,
    "length": 12,
    "classes": 3,
    "history": 3,
    "age_max_days": 90,
    "age_min_days": 1,
    "name_inside": False,
}


@pytest.fixture
def strict(bench: Path) -> BenchMachine:
    machine = Authority(bench.read_text())
    for key, value in STRICT.items():
        machine.set_policy(key, value)
    machine.save(bench)
    return BenchMachine(bench)


def trials(machine: BenchMachine) -> list[TrialResult]:
    with machine.dry_run() as copy:
        return list(run_trials(copy.attempt, machine.observe(), Random(7)))


def test_all_is_proved_on_an_honest_machine(strict: BenchMachine) -> None:
    before = strict.path.read_bytes()
    results = trials(strict)
    assert {result.result for result in results} == {Result.PASSED}
    assert len(results) == 24
    assert strict.path.read_bytes() == before, "nothing of the trial is left"


def lies_about(*keys: str) -> Callable[[Authority], dict[str, Any]]:
    """A policy that reads as it was set and acts as if these were off."""
    whole = Authority.policy

    def policy(self: Authority) -> dict[str, Any]:
        return {**whole(self), **{key: STRICT[key] for key in keys}}

    return policy


@pytest.mark.parametrize(
    ("key", "acts_as", "rule"),
    [
        ("try_limit", 5, "lockout.after"),
        ("try_limit", 3, "lockout.after"),
        ("lock_minutes", 20, "lockout.lasts"),
        ("lock_minutes", 50, "lockout.lasts"),
        ("lock_minutes", 0, "lockout.lasts"),
        ("length", 11, "password.min_length"),
        ("classes", 2, "password.classes"),
        ("history", 2, "password.remember"),
        ("age_min_days", 0, "password.min_age"),
        ("name_inside", True, "password.may_contain_name"),
    ],
)
def test_a_rule_that_reads_well_and_acts_otherwise_is_disproved(
    strict: BenchMachine, monkeypatch: pytest.MonkeyPatch, key: str, acts_as: object, rule: str
) -> None:
    machine = Authority(strict.path.read_text())
    machine.set_policy(key, acts_as)
    machine.save(strict.path)
    monkeypatch.setattr(Authority, "policy", lies_about(key))
    monkeypatch.setattr(Authority, "effective", lambda self, key: self.policy()[key])
    disproved = {result.rule for result in trials(strict) if result.result is Result.FAILED}
    assert rule in disproved


def test_forgetting_too_late_is_disproved(strict: BenchMachine, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Authority, "_recent", lambda self, account: account["tries"])
    disproved = {result.rule for result in trials(strict) if result.result is Result.FAILED}
    assert disproved == {"lockout.forget_after"}


def refuses_everything(self: Authority, *_: object) -> None:
    raise No("no")


def test_refusals_prove_nothing_on_a_machine_that_refuses_everything(
    strict: BenchMachine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Authority, "change_password", refuses_everything)
    weak = [result for result in trials(strict) if result.rule.startswith("password.")]
    assert weak and {result.result for result in weak} == {Result.NOT_RUN}
    monkeypatch.setattr(Authority, "sign_in", refuses_everything)
    lockout = [result for result in trials(strict) if result.rule.startswith("lockout.")]
    assert [(r.result, r.seen) for r in lockout] == [
        (Result.NOT_RUN, "the temporary account could not sign in at all: no")
    ]


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
