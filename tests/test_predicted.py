"""What is predicted, what a dry run sees on the private copy, and what the machine has afterwards are one: over
generated worksheets with all steps and all rules, on a bench machine and on a Linux tree."""

import shutil
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import get_args

from attrs import evolve
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import administered_throughout, do, examples
from test_linux_steps import tree
from verrou.core.errors import GuardRefused
from verrou.core.judging import guards
from verrou.core.model import Detail, Role, Snapshot, Status
from verrou.core.model.access import can_sign_in, role_of, usable_administrators
from verrou.core.model.ageing import expired, must_change
from verrou.core.prediction.predict import predict
from verrou.core.rules import CATALOGUE, setting
from verrou.core.steps.step import (
    CreateAccount,
    CreateGroup,
    FilesChoice,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetGroupNote,
    SetPassword,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    Unlock,
)
from verrou.core.values import (
    Choice,
    CommandRights,
    Commands,
    Count,
    Listed,
    NameSet,
    Notice,
    Span,
    Table,
    Value,
    Words,
    YesNo,
)
from verrou.machines.bench.authority import Authority
from verrou.machines.changes import Outcome, Secrets
from verrou.machines.protocol import Machine
from verrou.machines.registry import open_machine
from verrou.records import dry_runs, reversals, transactions
from verrou.records.journal import Journal

__all__ = ["tree"]
PASSWORD = "kittiwake-Cliff-42"
ALL_NAMES = ("keeper", "root", "warden", "tern", "gull", "puffin")
NAMES = st.sampled_from(ALL_NAMES)
DETAILS = st.sampled_from([detail for detail in Detail if detail is not Detail.GROUP_NOTE])
GROUPS = st.sampled_from(["administrators", "users", "guests", "sudo", "ringers", "tern"])
WAYS = st.sampled_from(["ask", "blank"])
MARK = st.sampled_from([None, True, False])
DAYS = st.sampled_from([None, date(2020, 1, 1), date(2099, 1, 1)])
RULES = [rule for rule in CATALOGUE.values() if rule.derived is None]


def values(kind: object) -> st.SearchStrategy[Value]:
    if isinstance(kind, YesNo):
        return st.booleans()
    if isinstance(kind, Choice):
        return st.sampled_from(kind.options)
    if isinstance(kind, Table):
        words = st.sampled_from(kind.options)
        return st.dictionaries(st.sampled_from([*kind.rows, "all"]), words, min_size=1).map(kind.parse)
    if isinstance(kind, NameSet):
        several = st.frozensets(st.sampled_from(kind.options[:3]), min_size=0 if kind.none else 1)
        return several if kind.none else st.just(frozenset({"yescrypt", "sha512"}))
    if isinstance(kind, Listed):
        people = st.sampled_from([*ALL_NAMES[2:5], "group:users", "group:administrators", "group:sudo", kind.every])
        return st.frozensets(people if kind.of_people else st.sampled_from(["removable", "system"]), max_size=2).map(
            lambda names: frozenset({kind.every}) if kind.every in names else names
        )
    if isinstance(kind, Commands):
        pairs = st.tuples(st.sampled_from([*ALL_NAMES[2:5], "group:users"]), st.just("/usr/bin/count birds"))
        return st.frozensets(pairs, max_size=2).map(CommandRights)
    if isinstance(kind, Words):
        return st.sampled_from([Notice(), Notice("Cap Fauvel", "Quiet."), Notice("", "Two\nlines.")])
    assert isinstance(kind, Count | Span)
    words: st.SearchStrategy[Value] = st.sampled_from(list(kind.words)) if kind.words else st.nothing()
    if isinstance(kind, Count):
        return st.integers(kind.low, min(kind.high, 9)) | words
    unit = timedelta(**{f"{kind.unit}s": 1})
    return st.integers(kind.low, min(kind.high, 90)).map(lambda number: unit * number) | words


SETTINGS = st.lists(
    st.sampled_from(RULES).flatmap(lambda rule: st.tuples(st.just(rule.id), values(rule.kind))),
    min_size=1,
    max_size=3,
    unique_by=lambda pair: pair[0],
).map(lambda pairs: SetRules(tuple(setting(*pair) for pair in pairs)))
STEP = (
    st.builds(
        CreateAccount,
        NAMES,
        st.sampled_from([Role.STANDARD, Role.ADMINISTRATOR, Role.GUEST]),
        st.just("Gerd Gull"),
        WAYS,
        st.booleans(),
        cannot_change=st.booleans(),
        home_kept=st.booleans(),
        until=DAYS,
    )
    | st.builds(SetEnabled, NAMES, st.booleans())
    | st.builds(SetPassword, NAMES, WAYS, st.booleans())
    | st.builds(Join, NAMES, GROUPS)
    | st.builds(Leave, NAMES, GROUPS)
    | st.builds(Rename, NAMES, NAMES)
    | st.builds(Unlock, NAMES)
    | st.builds(SetEnd, NAMES, DAYS)
    | st.builds(SetFlags, NAMES, MARK, MARK, MARK)
    | st.builds(SetDetails, NAMES, DETAILS.map(lambda detail: ((detail, "a word"),)))
    | st.builds(Remove, NAMES, st.sampled_from(FilesChoice))
    | st.builds(CreateGroup, GROUPS, confined=st.booleans())
    | st.builds(RemoveGroup, GROUPS)
    | st.builds(SetGroupNote, GROUPS, st.just("a note"))
    | st.builds(TrySignIn, NAMES)
    | st.builds(StopJobs, NAMES)
    | SETTINGS
)
assert len(STEP.original_strategies) == len(get_args(Step)), "every kind of step is generated"
STEPS = st.lists(STEP, min_size=1, max_size=7)
EARLIER = st.lists(STEP, max_size=4)
"""What makes one machine of many: done before anything is asked of it, guards or no guards."""


def follows(snapshot: Snapshot) -> dict[str, object]:
    """All that a guard or an audit asks: what each account amounts to, and each rule as far as it is known."""
    today = snapshot.machine.now.date()
    people = {
        f"account {a.name}": (
            role_of(a, snapshot),
            a.enabled,
            a.password,
            can_sign_in(a, snapshot),
            must_change(a, snapshot, today) and a.enabled,
            expired(a, snapshot, today),
            a.cannot_change,
            a.until,
            tuple(sorted(a.groups)) if a.name != "gull" else (),
        )
        for a in snapshot.accounts
    }
    rules = {
        rule_id: (reading.value, reading.pending, reading.enforced)
        for rule_id, reading in snapshot.readings.items()
        if reading.status is Status.READ
    }
    return people | rules


def agrees(predicted: Snapshot, seen: Snapshot, step: Step) -> None:
    expected, found = follows(predicted), follows(seen)
    if isinstance(step, CreateAccount):  # the machine may give it a group of its own beside
        expected.pop(f"account {step.account}", None), found.pop(f"account {step.account}", None)
        if step.account in predicted.by_name and step.account in seen.by_name:
            assert role_of(predicted.by_name[step.account], predicted) is role_of(seen.by_name[step.account], seen)
    unknown = {r for r, reading in predicted.readings.items() if reading.status is Status.UNKNOWN}
    tried = dict(step.values) if isinstance(step, SetRules) else {}
    for what in expected.keys() | found.keys():
        if what in unknown or (what in CATALOGUE and what not in tried):
            continue
        assert found.get(what) == expected.get(what), (step.what, what)


def stripped(snapshot: Snapshot) -> Snapshot:
    """A snapshot without what its clock says."""
    return evolve(snapshot, machine=evolve(snapshot.machine, now=datetime.min, address=""))


def as_predicted_and_dry_run(machine: Machine, steps: list[Step]) -> None:
    secrets = Secrets(dict.fromkeys(ALL_NAMES, PASSWORD))
    for step in steps:
        before = machine.observe()
        if isinstance(step, SetRules) and any(
            (accepted_values.why or accepted_values.cannot) and each.kind.why_not_accepted(each.value, accepted_values)
            for each in step.settings
            if (accepted_values := before.accepted_values.get(each.rule_id)) is not None
        ):
            continue  # nothing here could make it so, which is said before a step is made of it
        dry_run = dry_runs.do_dry_run(machine, before, [step], secrets)
        assert not dry_run.prediction_reason
        (_, result), *_ = dry_run.steps
        if result.outcome is Outcome.DONE:
            agrees(predict(step, before), dry_run.after, step)
        else:
            assert not dry_run.changes, (step.what, result.message)
        assert stripped(machine.observe()) == stripped(before), "a dry run touches nothing"
        if dry_run.changes:
            transactions.commit(machine, dry_run, secrets, transactions.RunInfo("test"))
            assert stripped(machine.observe()) == stripped(dry_run.after), step.what


def fresh_bench(folder: Path) -> Machine:
    path = folder / "hide-01.bench.json"
    shutil.rmtree(folder / "hide-01.verrou", ignore_errors=True)
    authority = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
    authority.reset_password("keeper", PASSWORD)
    authority.add("warden", "", PASSWORD, must_change=False)
    authority.add("tern", "", "", must_change=False)
    authority.save(path)
    return open_machine(str(path))


def fresh_tree(tree: Path) -> Machine:
    keep = tree / "kept"
    if not keep.exists():
        shutil.copytree(tree / "etc", keep, symlinks=True)
    for folder in ("etc", "home", "var"):
        shutil.rmtree(tree / folder, ignore_errors=True)
    shutil.copytree(keep, tree / "etc", symlinks=True)
    return open_machine(str(tree))


@examples(25)
@given(steps=STEPS)
def test_on_a_bench_machine(tmp_path: Path, steps: list[Step]) -> None:
    as_predicted_and_dry_run(fresh_bench(tmp_path), steps)


@examples(12)
@example(steps=[Join("tern", "tern")])
@example(steps=[SetFlags("root", cannot_change=True)])
@given(steps=STEPS)
def test_on_a_linux_tree(tree: Path, steps: list[Step]) -> None:
    as_predicted_and_dry_run(fresh_tree(tree), steps)


def made_otherwise(machine: Machine, earlier: list[Step]) -> Machine:
    do(machine, *earlier, secrets=Secrets(dict.fromkeys(ALL_NAMES, PASSWORD)))
    shutil.rmtree(machine.records_folder(), ignore_errors=True)
    return machine


def whole_plan_and_back(machine: Machine, steps: list[Step]) -> None:
    """A worksheet as one: the guards, what lands, an administrator at every instant of it, and the way back."""
    secrets = Secrets(dict.fromkeys(ALL_NAMES, PASSWORD))
    start = machine.observe()
    dry_run = dry_runs.do_dry_run(machine, start, guards.with_trials(start, steps), secrets)
    try:
        guards.check(dry_run.candidate)
    except GuardRefused:
        return
    if not dry_run.changes:
        return
    with administered_throughout(machine, start, dry_run.after):
        transactions.commit(machine, dry_run, secrets, transactions.RunInfo("test"))
    assert stripped(machine.observe()) == stripped(dry_run.after)
    journal = Journal(machine.records_folder())
    back = reversals.dry_run_undo(machine, journal, [1])
    assert not back.candidate.gap
    with administered_throughout(machine, dry_run.after, back.after):
        reversals.undo(machine, back, reversals.to_undo(journal, 1, None), transactions.RunInfo("undo"))
    gone = [step.account for step in steps if isinstance(step, Remove) and step.choice is FilesChoice.DELETE]
    if not gone:
        assert stripped(machine.observe()) == stripped(start)


@examples(20)
@given(earlier=EARLIER, steps=STEPS)
def test_a_plan_on_a_bench_machine_and_back(tmp_path: Path, earlier: list[Step], steps: list[Step]) -> None:
    whole_plan_and_back(made_otherwise(fresh_bench(tmp_path), earlier), steps)


@examples(12)
@given(earlier=EARLIER, steps=STEPS)
def test_a_plan_on_a_linux_tree_and_back(tree: Path, earlier: list[Step], steps: list[Step]) -> None:
    whole_plan_and_back(made_otherwise(fresh_tree(tree), earlier), steps)


def test_a_refused_step_in_the_middle_leaves_no_one_locked_out(tmp_path: Path) -> None:
    """The new administrator is rejected by the machine: the old one must not be taken away for it."""
    machine = fresh_bench(tmp_path)
    snapshot = machine.observe()
    required: list[Step] = [CreateAccount("users", Role.ADMINISTRATOR), SetEnabled("keeper", False)]
    steps = guards.with_trials(snapshot, required)
    assert [type(step) for step in steps] == [CreateAccount, TrySignIn, SetEnabled]
    dry_run = dry_runs.do_dry_run(machine, snapshot, steps, Secrets(users=PASSWORD))
    assert [r.outcome for _, r in dry_run.steps] == [Outcome.REJECTED, Outcome.REJECTED, Outcome.DONE]
    assert [r.guard for r in guards.refusals_on(dry_run.candidate)] == ["last-administrator"]


def test_a_trial_that_held_counts_when_another_step_was_refused(tmp_path: Path) -> None:
    machine = fresh_bench(tmp_path)
    steps: list[Step] = [
        CreateAccount("gull", Role.ADMINISTRATOR, must_change=False),
        Rename("tern", "users"),
        TrySignIn("gull"),
        SetEnabled("keeper", False),
    ]
    dry_run = dry_runs.do_dry_run(machine, machine.observe(), steps, Secrets(gull=PASSWORD))
    outcomes = [result.outcome for _, result in dry_run.steps]
    assert outcomes == [Outcome.DONE, Outcome.REJECTED, Outcome.DONE, Outcome.DONE]
    assert guards.refusals_on(dry_run.candidate) == []
    assert [account.name for account in usable_administrators(dry_run.after)] == ["gull"]


def test_a_built_in_account_without_a_password_is_predicted_as_each_machine_keeps_it(
    tmp_path: Path, tree: Path
) -> None:
    """The bench machine opens it with its first password, a Linux system keeps it shut."""
    path = tmp_path / "fresh.bench.json"
    Authority.fresh("fresh", datetime(2026, 9, 14, 8, 30)).save(path)
    as_predicted_and_dry_run(open_machine(str(path)), [SetPassword("keeper", must_change=False)])
    as_predicted_and_dry_run(open_machine(str(tree)), [SetPassword("root", must_change=False)])
