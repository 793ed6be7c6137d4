"""What the guards foresee is what happens: generated steps, done for real, on a bench machine and on a Linux tree."""

import shutil
from datetime import date, datetime
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from test_linux_steps import tree
from verrou.core import guards
from verrou.core.access import can_sign_in, role_of, usable_administrators
from verrou.core.errors import GuardRefused
from verrou.core.model import Flag, Posture, Role
from verrou.core.steps import (
    CreateAccount,
    CreateGroup,
    FilesChoice,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetPassword,
    Step,
    TrySignIn,
    Unlock,
    account_of,
)
from verrou.machines import Machine, Outcome, Secrets, open_machine
from verrou.machines.bench.authority import Authority
from verrou.records.carry_out import carry_out, undo, with_files

__all__ = ["tree"]
PASSWORD = "kittiwake-Cliff-42"
NAMES = st.sampled_from(["keeper", "root", "warden", "tern", "gull", "puffin"])
GROUPS = st.sampled_from(["administrators", "users", "guests", "sudo", "ringers", "tern"])
WAYS = st.sampled_from(["ask", "blank"])
ROLES = st.sampled_from([Role.STANDARD, Role.ADMINISTRATOR, Role.GUEST])
STEPS = st.lists(
    st.builds(CreateAccount, NAMES, ROLES, st.just("Gerd Gull"), WAYS, st.booleans())
    | st.builds(SetEnabled, NAMES, st.booleans())
    | st.builds(SetPassword, NAMES, WAYS, st.booleans())
    | st.builds(Join, NAMES, GROUPS)
    | st.builds(Leave, NAMES, GROUPS)
    | st.builds(Rename, NAMES, NAMES)
    | st.builds(Unlock, NAMES)
    | st.builds(SetEnd, NAMES, st.sampled_from([None, date(2020, 1, 1), date(2099, 1, 1)]))
    | st.builds(SetFlags, NAMES, st.lists(st.tuples(st.sampled_from(Flag), st.booleans()), max_size=2).map(tuple))
    | st.builds(Remove, NAMES, st.sampled_from(FilesChoice))
    | st.builds(CreateGroup, GROUPS)
    | st.builds(RemoveGroup, GROUPS),
    min_size=1,
    max_size=7,
)


def amounts_to(posture: Posture) -> dict[str, tuple[object, ...]]:
    """By name, all that a guard asks of an account."""
    today = posture.machine.now.date()
    return {
        a.name: (
            role_of(a, posture),
            a.enabled,
            a.password,
            can_sign_in(a, today),
            a.must_change and a.enabled,
            a.cannot_change,
        )
        for a in posture.accounts
    }


def happens_as_foreseen(machine: Machine, steps: list[Step]) -> None:
    for step in steps:
        before = machine.observe()
        secrets = Secrets({account_of(step) or "": PASSWORD})
        (result,) = machine.perform([step], secrets)
        after = machine.observe()
        if result.outcome is Outcome.DONE:
            assert amounts_to(after) == amounts_to(step.foresee(before)), step.what
        else:
            assert amounts_to(after) == amounts_to(before), (step.what, result.said)


def fresh_bench(folder: Path) -> Machine:
    path = folder / "hide-01.bench.json"
    authority = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
    authority.reset_password("keeper", PASSWORD)
    authority.add("warden", "", PASSWORD, must_change=False)
    authority.add("tern", "", "", must_change=False)
    authority.save(path)
    return open_machine(str(path))


@settings(max_examples=80)
@given(steps=STEPS)
def test_on_a_bench_machine(tmp_path: Path, steps: list[Step]) -> None:
    happens_as_foreseen(fresh_bench(tmp_path), steps)


@settings(max_examples=80)
@given(steps=STEPS)
def test_on_a_linux_tree(tree: Path, steps: list[Step]) -> None:
    keep = tree / "kept"
    if not keep.exists():
        shutil.copytree(tree / "etc", keep, symlinks=True)
    shutil.rmtree(tree / "etc")
    shutil.rmtree(tree / "home", ignore_errors=True)
    shutil.copytree(keep, tree / "etc", symlinks=True)
    happens_as_foreseen(open_machine(str(tree)), steps)


@settings(max_examples=60)
@given(steps=STEPS)
def test_no_run_takes_the_last_administrator_and_every_run_can_be_undone(tmp_path: Path, steps: list[Step]) -> None:
    shutil.rmtree(tmp_path / "hide-01.verrou", ignore_errors=True)
    machine = fresh_bench(tmp_path)
    start = (tmp_path / "hide-01.bench.json").read_bytes()
    posture = machine.observe()
    secrets = Secrets(dict.fromkeys(("keeper", "root", "warden", "tern", "gull", "puffin"), PASSWORD))
    steps = with_files(machine, posture, guards.with_trials(posture, steps))
    try:
        guards.check(posture, steps)
        run = carry_out(machine, steps, posture.fingerprint, secrets, command="test")
    except GuardRefused:
        assert (tmp_path / "hide-01.bench.json").read_bytes() == start
        return
    assert usable_administrators(run.after)
    undo(machine, None)
    assert (tmp_path / "hide-01.bench.json").read_bytes() == start


def test_a_refused_step_in_the_middle_leaves_nobody_locked_out(tmp_path: Path) -> None:
    """The new administrator is refused by the machine: the old one must not be taken away for it."""
    machine = fresh_bench(tmp_path)
    posture = machine.observe()
    wanted: list[Step] = [CreateAccount("users", Role.ADMINISTRATOR), SetEnabled("keeper", False)]
    steps = guards.with_trials(posture, wanted)
    assert [type(step) for step in steps] == [CreateAccount, TrySignIn, SetEnabled]
    guards.check(posture, steps)
    run = carry_out(machine, steps, posture.fingerprint, Secrets(users=PASSWORD), command="test")
    assert [result.outcome for _, result in run.results] == [Outcome.REFUSED] * 3
    assert "leave no administrator" in run.results[2][1].said
    assert usable_administrators(run.after)


def test_a_trial_that_held_counts_when_another_step_was_refused(tmp_path: Path) -> None:
    machine = fresh_bench(tmp_path)
    steps: list[Step] = [
        CreateAccount("gull", Role.ADMINISTRATOR, must_change=False),
        Rename("tern", "users"),
        TrySignIn("gull"),
        SetEnabled("keeper", False),
    ]
    posture = machine.observe()
    run = carry_out(machine, steps, posture.fingerprint, Secrets(gull=PASSWORD), command="test")
    outcomes = [result.outcome for _, result in run.results]
    assert outcomes == [Outcome.DONE, Outcome.REFUSED, Outcome.DONE, Outcome.DONE]
    assert [account.name for account in usable_administrators(run.after)] == ["gull"]


def test_a_built_in_account_without_a_password_is_foreseen_as_each_machine_keeps_it(tmp_path: Path, tree: Path) -> None:
    """The bench machine opens it with its first password, a Linux system keeps it shut."""
    path = tmp_path / "fresh.bench.json"
    Authority.fresh("fresh", datetime(2026, 9, 14, 8, 30)).save(path)
    happens_as_foreseen(open_machine(str(path)), [SetPassword("keeper", must_change=False)])
    happens_as_foreseen(open_machine(str(tree)), [SetPassword("root", must_change=False)])
