"""The guards over generated machines: no worksheet that leaves nobody to administer gets through."""

from datetime import date, datetime, timedelta
from pathlib import Path

import pytest
from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

from conftest import Verrou, titled
from verrou.core.baselines.baseline import read_baseline
from verrou.core.errors import BadInput, GuardRefused
from verrou.core.judging import administrator_guards, guards, review
from verrou.core.judging.audit import audit
from verrou.core.model import (
    Account,
    Builtin,
    Files,
    Flag,
    Grant,
    Group,
    MachineFacts,
    Naming,
    Origin,
    PasswordState,
    Reading,
    Role,
    Snapshot,
    unreadable,
)
from verrou.core.model.access import role_of, usable_administrator, usable_administrators
from verrou.core.model.known import Known
from verrou.core.model.routes import Admission, EntryPoint, Principals, Route, allow_only
from verrou.core.model.verdicts import Verdict
from verrou.core.planning.change_plan import plan_changes, rule_steps
from verrou.core.prediction.predict import predict
from verrou.core.rules import setting
from verrou.core.steps.step import (
    CreateAccount,
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
    SetRules,
    Step,
    TrySignIn,
)

NOW = datetime(2026, 9, 14, 8, 30)
LATER = NOW.date() + administrator_guards.LOOK_AHEAD
EXCLUDING = ((Flag.CHANGE_DUE, Flag.CANNOT_CHANGE), (Flag.CHANGE_DUE, Flag.AGEING_EXEMPT))
FACTS = MachineFacts("hide-01", "bench", "bench", "x", NOW, Naming("[a-z]+", 20, ""), excluding=EXCLUDING)
NAMES = ("keeper", "warden", "tern", "ana", "bors")
GROUPS = {"administrators": Grant.ADMINISTRATION, "users": Grant.ORDINARY_USE, "guests": Grant.GUEST_USE}

CONSOLE_ALONE, EVERY_WAY = frozenset({"console"}), frozenset(map(str, Route))


@st.composite
def snapshots(draw: st.DrawFn) -> Snapshot:
    accounts = []
    for number, name in enumerate(NAMES):
        accounts.append(
            Account(
                name=name,
                identity=str(500 + number),
                builtin=Builtin.ADMIN if name == "keeper" else None,
                origin=Origin.BUILT_IN if name == "keeper" else Origin.ADDED,
                groups=tuple(draw(st.sets(st.sampled_from(list(GROUPS)), max_size=2))),
                enabled=draw(st.booleans()),
                password=draw(st.sampled_from(PasswordState)),
                until=draw(st.sampled_from([None, date(2026, 9, 1), date(2026, 10, 1), date(2027, 1, 1)])),
                locked_until=draw(st.sampled_from([None, NOW + timedelta(hours=1), NOW - timedelta(hours=1)])),
            )
        )
    groups = tuple(
        Group(name, name, tuple(a.name for a in accounts if name in a.groups), (grant,))
        for name, grant in GROUPS.items()
    )
    return Snapshot(FACTS, tuple(accounts), groups, {"password.blank_accepted": Reading(CONSOLE_ALONE)})


ACCOUNTS, GATES = st.sampled_from(NAMES), st.sampled_from(list(GROUPS))
STEPS = st.lists(
    st.builds(SetEnabled, ACCOUNTS, st.booleans())
    | st.builds(Leave, ACCOUNTS, GATES)
    | st.builds(Join, ACCOUNTS, GATES)
    | st.builds(SetPassword, ACCOUNTS, st.sampled_from(["ask", "blank"]))
    | st.builds(CreateAccount, st.just("gull"), st.sampled_from([Role.STANDARD, Role.ADMINISTRATOR]))
    | st.builds(Rename, ACCOUNTS, st.sampled_from(["beacon", "puffin"]))
    | st.builds(Remove, ACCOUNTS, st.sampled_from(FilesChoice), st.just(Files()))
    | st.builds(RemoveGroup, GATES)
    | st.builds(TrySignIn, ACCOUNTS),
    max_size=6,
)


def perhaps_administering(snapshot: Snapshot) -> set[str]:
    """Who administers if every password that could not be read is a good one."""
    good = {PasswordState.UNKNOWN: PasswordState.SET}
    known = snapshot.with_accounts(
        tuple(evolve(a, password=good.get(a.password, a.password)) for a in snapshot.accounts)
    )
    return {a.identity for a in usable_administrators(known)}


@given(snapshots(), STEPS)
def test_no_plan_takes_an_administrator_before_another_was_tried(snapshot: Snapshot, steps: list[Step]) -> None:
    """Nor the last one: said again here in other words than the guards use, over the names that stay."""
    steps = guards.with_trials(snapshot, steps)
    refused = {refusal.guard for refusal in guards.refusals(snapshot, steps)}
    could, perhaps = {a.identity for a in usable_administrators(snapshot)}, perhaps_administering(snapshot)
    lasting = any(usable_administrator(a, snapshot, LATER) for a in usable_administrators(snapshot))
    tried: set[str] = set()
    for step in steps:
        if isinstance(step, TrySignIn | SetPassword) and step.account in snapshot.by_name:
            identity = snapshot.by_name[step.account].identity
            tried = tried | {identity} if isinstance(step, TrySignIn) else tried - {identity}
        snapshot = predict(step, snapshot)
    can = {a.identity for a in usable_administrators(snapshot)}
    taken = bool(could) or bool(perhaps - perhaps_administering(snapshot))
    assert ("last-administrator" in refused) is (taken and not can), "nobody who may be one is taken for a doubtful one"
    if can:
        assert ("untested-administrator" in refused) is (bool(could - can) and not can & tried)
        lasts = any(usable_administrator(a, snapshot, LATER) for a in usable_administrators(snapshot))
        assert ("expiring-administrator" in refused) is (lasting and not lasts)


def two_administrators(in_use: str = "") -> Snapshot:
    keeper = Account("keeper", "1", builtin=Builtin.ADMIN, groups=("administrators",), home="/people/keeper")
    warden = Account("warden", "1000", groups=("administrators",))
    group = Group("administrators", "11", ("keeper", "warden"), (Grant.ADMINISTRATION,))
    return Snapshot(evolve(FACTS, in_use=in_use), (keeper, warden), (group,))


@pytest.mark.parametrize(
    ("steps", "in_use", "refused"),
    [
        ([Leave("keeper", "administrators")], "", True),
        ([TrySignIn("warden"), Leave("keeper", "administrators")], "", False),
        ([Leave("keeper", "administrators")], "warden", False),
        ([TrySignIn("keeper"), Leave("keeper", "administrators")], "", True),
        ([TrySignIn("warden"), SetPassword("warden"), Leave("keeper", "administrators")], "", True),
        ([TrySignIn("warden"), Rename("warden", "wilma"), Leave("keeper", "administrators")], "", False),
        ([Remove("keeper", FilesChoice.KEEP, Files())], "", True),
    ],
)
def test_who_takes_over_is_tried_first(steps: list[Step], in_use: str, refused: bool) -> None:
    found = guards.refusals(two_administrators(in_use), steps)
    assert [r.guard for r in found] == (["untested-administrator"] if refused else [])


@pytest.mark.parametrize(
    ("step", "refused"),
    [
        (SetEnabled("keeper", False), True),
        (SetEnabled("keeper", False, Files("/people/keeper", 3, 12)), False),
        (SetEnabled("keeper", True), False),
        (Remove("keeper", FilesChoice.DELETE), True),
        (Remove("keeper", FilesChoice.DELETE, Files("/people/keeper", 3, 12)), False),
        (Remove("keeper", FilesChoice.KEEP, Files("/people/keeper", 3, 12, ("/shed/log",), 1)), True),
    ],
)
def test_files_are_named_and_none_is_left_to_no_one(step: Step, refused: bool) -> None:
    snapshot = two_administrators("warden")
    found = guards.refusals(snapshot, [step])
    assert [r.guard for r in found] == (["orphaned-files"] if refused else [])
    assert guards.refusals(snapshot, [step], ["orphaned-files"]) == []


@pytest.mark.parametrize(
    ("steps", "refused"),
    [
        ([SetFlags("warden", change_due=True, cannot_change=True)], True),
        ([SetFlags("warden", ageing_exempt=True), SetPassword("warden", must_change=True)], True),
        ([SetFlags("warden", cannot_change=True, ageing_exempt=True)], False),
        ([SetPassword("warden"), SetFlags("warden", change_due=False, cannot_change=True)], False),
        ([CreateAccount("gull", Role.STANDARD, must_change=True, cannot_change=True)], True),
    ],
)
def test_marks_that_exclude_each_other_are_refused_with_the_reason(steps: list[Step], refused: bool) -> None:
    found = guards.refusals(two_administrators(), steps)
    message = [r.reason for r in found if r.guard == "conflict"]
    assert bool(message) is refused and all("this machine cannot combine the two" in reason for reason in message)


@given(snapshots(), STEPS)
def test_what_a_step_foresees_keeps_groups_and_accounts_in_step(snapshot: Snapshot, steps: list[Step]) -> None:
    for step in steps:
        snapshot = predict(step, snapshot)
    for group in snapshot.groups:
        assert set(group.members) == {a.name for a in snapshot.accounts if group.name in a.groups}


@given(snapshots(), st.data())
def test_a_plan_from_a_baseline_closes_what_it_can_and_passes_or_is_refused(
    snapshot: Snapshot, data: st.DataObject
) -> None:
    roles = data.draw(
        st.dictionaries(st.sampled_from(NAMES[1:]), st.sampled_from(["administrator", "standard", "guest"]))
    )
    text = "[builtin]\nadmin_enabled = false\n" + "".join(
        f'[accounts.{name}]\nrole = "{role}"\npassword = "generate"\n' for name, role in roles.items()
    )
    baseline = read_baseline(titled(text), "b.toml", lambda name, _: (_ for _ in ()).throw(BadInput(name)))
    plan = plan_changes(snapshot, baseline, audit(snapshot, baseline))
    after = snapshot
    for step in plan.steps:
        after = predict(step, after)
    manual = {item.subject for item in plan.manual}
    not_met = (Verdict.NOT_MET, Verdict.UNKNOWN)
    short = {f.subject for f in audit(after, baseline).findings if f.verdict in not_met}
    assert short == manual, "whatever still falls short is left by hand and said so"
    for name, role in roles.items():
        assert role_of(after.by_name[name], after) == role


def lockout(after: object, lasts: int | None, forget: int | None) -> Snapshot:
    def span(minutes: int | None) -> timedelta | None:
        return None if minutes is None else timedelta(minutes=minutes)

    readings = {
        "lockout.after": Reading(after),  # type: ignore[arg-type]
        "lockout.lasts": Reading(span(lasts)),
        "lockout.forget_after": Reading(span(forget)),
    }
    warden = Account("warden", "1000", groups=("administrators",))
    return Snapshot(FACTS, (warden,), (Group("administrators", "11", ("warden",), (Grant.ADMINISTRATION,)),), readings)


def test_a_tied_rule_that_would_contradict_is_set_along_and_said() -> None:
    (step,) = rule_steps(lockout(5, 30, 30), {"lockout.forget_after": timedelta(minutes=60)})
    assert dict(step.values)["lockout.lasts"] == timedelta(minutes=60)  # type: ignore[union-attr]
    assert "lockout.lasts set as well" in step.why


def test_a_contradiction_is_refused() -> None:
    required = {"lockout.lasts": timedelta(minutes=10), "lockout.forget_after": timedelta(minutes=20)}
    snapshot = lockout(5, 30, 30)
    with pytest.raises(GuardRefused, match="step 1 is blocked by the guard conflict"):
        guards.check(review.candidate_of(snapshot, rule_steps(snapshot, required)))


def test_a_machine_that_moved_is_refused() -> None:
    steps = [SetRules((setting("lockout.after", 4),)), SetEnabled("warden", True)]
    planned = guards.preconditions(lockout(5, 30, 30), steps)
    with pytest.raises(GuardRefused, match=r"changed-machine: rule lockout.lasts changed"):
        guards.check_unchanged(planned, guards.preconditions(lockout(5, 31, 30), steps))
    other = Account("tern", "1001", failed_attempts=3)
    beside = lockout(5, 30, 30)
    beside = evolve(beside, accounts=(evolve(beside.accounts[0], last_sign_in=NOW), other))
    guards.check_unchanged(planned, guards.preconditions(beside, steps))
    before, after = (evolve(two_administrators(), groups=(Group("ringers", number),)) for number in ("20", "21"))
    joins = [Join("warden", "ringers")]
    with pytest.raises(GuardRefused, match="group ringers changed"):
        guards.check_unchanged(guards.preconditions(before, joins), guards.preconditions(after, joins))


def test_a_proper_successor_is_tested_before_the_built_in_administrator() -> None:
    before = two_administrators()
    ringer = Account("ringer", "1001", groups=("administrators",), last_sign_in=NOW)
    keeper = evolve(before.accounts[0], last_sign_in=NOW)
    three = before.with_accounts((keeper, before.accounts[1], ringer))
    trial, step = guards.with_trials(three, [SetEnabled("ringer", False)])
    assert isinstance(trial, TrySignIn) and trial.account == "warden" and step == SetEnabled("ringer", False)


@pytest.mark.parametrize("password", [PasswordState.BLANK, PasswordState.UNKNOWN, PasswordState.SET])
def test_a_new_name_takes_no_administrator_away_and_makes_none(password: PasswordState) -> None:
    before = two_administrators()
    alone = before.with_accounts((evolve(before.accounts[0], password=password),))
    assert guards.refusals(alone, [Rename("keeper", "lamplighter")]) == []


@pytest.mark.parametrize(("enabled", "password"), [(True, PasswordState.BLANK), (False, PasswordState.NONE)])
def test_only_disabling_overwrites_a_blank_password(enabled: bool, password: PasswordState) -> None:
    before = two_administrators().with_accounts((Account("tern", "1001", password=PasswordState.BLANK),))
    machine = evolve(before, machine=evolve(before.machine, disabling_clears_blank=True))
    assert predict(SetEnabled("tern", enabled), machine).by_name["tern"].password is password


def test_lists_of_an_entry_point_follow_a_new_name() -> None:
    listed = EntryPoint(Route.CONSOLE, (allow_only(Principals(accounts=("warden",))),))
    after = predict(Rename("warden", "wilma"), evolve(two_administrators(), entry_points=(listed,)))
    assert after.entry_points[0].admits(after.by_name["wilma"]) and not after.entry_points[0].admits(
        after.by_name["keeper"]
    )


def lasting(now: Snapshot, *steps: Step) -> list[str]:
    return [r.guard for r in guards.refusals(now, steps) if r.guard == "expiring-administrator"]


def test_an_administrator_lasts() -> None:
    """Ends, ages with days of grace, and a lock that only an administrator lifts."""
    two = two_administrators("warden")
    tomorrow, in_spring = NOW.date() + timedelta(days=1), date(2027, 3, 1)
    assert not lasting(two, SetEnd("warden", tomorrow)), "keeper stays"
    alone = evolve(two, accounts=(two.by_name["warden"],))
    assert lasting(alone, SetEnd("warden", tomorrow)) and not lasting(alone, SetEnd("warden", in_spring))
    ends = evolve(alone, accounts=(evolve(alone.accounts[0], until=tomorrow),))
    assert not lasting(ends, SetPassword("warden")), "it was so before"
    graced = evolve(alone.accounts[0], password_changed=NOW.date() - timedelta(days=40), grace=10)
    aged = evolve(alone, accounts=(graced,), readings={"password.max_age": Reading("never")})
    assert lasting(aged, SetRules((setting("password.max_age", timedelta(days=50)),)))
    assert not lasting(aged, SetRules((setting("password.max_age", timedelta(days=200)),)))
    for_good = SetRules((setting("lockout.lasts", "until-unlocked"),))
    rules = {"lockout.after": Reading(5), "lockout.lasts": Reading(timedelta(hours=1))}
    assert lasting(evolve(alone, readings=rules), for_good)
    assert not lasting(evolve(two, readings=rules), for_good), "the built-in one does not lock"
    for exempts in (Reading("nobody"), unreadable("a group is exempt")):
        assert lasting(evolve(two, readings={**rules, "lockout.exempts": exempts}), for_good)


def test_a_machine_without_an_administrator_may_be_hardened() -> None:
    nobody = evolve(two_administrators(), accounts=())
    steps = [CreateAccount("tern", Role.STANDARD)]
    assert guards.refusals(nobody, steps) == []
    assert guards.warnings(review.candidate_of(nobody, steps)) and not guards.warnings(
        review.candidate_of(two_administrators(), steps)
    )


def in_use(snapshot: Snapshot, name: str) -> Snapshot:
    return evolve(snapshot, machine=evolve(snapshot.machine, in_use=name))


@given(snapshots(), STEPS, ACCOUNTS)
def test_the_account_in_use_keeps_what_it_is(snapshot: Snapshot, steps: list[Step], own: str) -> None:
    snapshot = in_use(snapshot, own)
    refused = [r for r in guards.refusals(snapshot, steps) if r.guard == "own-account"]
    assert not [r for r in guards.refusals(snapshot, steps, ["own-account"]) if r.guard == "own-account"]
    if refused:
        assert own in refused[0].reason and "--override own-account" in refused[0].mend
        return
    was = snapshot.by_name[own]
    role = role_of(was, snapshot)
    for step in steps:
        snapshot = predict(step, snapshot)
    (now,) = snapshot.by_identity[was.identity]
    assert (now.enabled or not was.enabled) and (role_of(now, snapshot) is role or role is not Role.ADMINISTRATOR)


def test_the_account_in_use_is_not_disabled() -> None:
    steps = [TrySignIn("keeper"), SetEnabled("warden", False, Files("/people/warden", 0, 0))]
    assert [r.guard for r in guards.refusals(two_administrators("warden"), steps)] == ["own-account"]
    assert guards.refusals(two_administrators("keeper"), steps) == []


def test_only_some_guards_may_be_accepted(bench: Path, verrou: Verrou) -> None:
    output = verrou(
        "account", "disable", "keeper", "-m", bench, "--override", "last-administrator", "--yes", code=2
    ).stderr
    assert "own-account" in output
    may = ("expiring-administrator", "blank-administrator", "own-account", "orphaned-files")
    assert may == guards.ACCEPTABLE


@pytest.mark.parametrize(
    ("steps", "console_only", "refused"),
    [
        ([SetPassword("tern", "blank")], True, False),
        ([SetPassword("tern", "blank")], False, False),
        ([SetPassword("tern", "blank"), Join("tern", "afar")], True, False),
        ([Join("tern", "afar"), SetPassword("tern", "blank"), Leave("tern", "afar")], False, False),
        ([Join("tern", "afar"), SetPassword("tern", "blank")], False, True),
        ([SetPassword("ana", "blank")], False, False),
        ([SetPassword("ana", "blank"), SetEnabled("ana", True), Join("ana", "afar")], False, True),
        ([SetRules((setting("password.blank_accepted", EVERY_WAY),))], True, False),
        ([SetPassword("bors", "blank"), SetRules((setting("password.blank_accepted", EVERY_WAY),))], True, True),
        ([SetRules((setting("password.blank_accepted", CONSOLE_ALONE),)), SetPassword("tern", "blank")], False, False),
    ],
)
def test_a_blank_password_can_sign_in_at_the_console_only(steps: list[Step], console_only: bool, refused: bool) -> None:
    accounts = (
        Account("warden", "1000", groups=("administrators",)),
        Account("tern", "1001"),
        Account("ana", "1002", enabled=False),
        Account("bors", "1003", groups=("afar",)),
    )
    groups = (Group("administrators", "11", ("warden",), (Grant.ADMINISTRATION,)), Group("afar", "14", ("bors",)))
    entry_points = (
        EntryPoint(Route.CONSOLE),
        EntryPoint(Route.REMOTE_SCREEN, (allow_only(Principals(groups=("afar",))),)),
    )
    snapshot = Snapshot(
        FACTS,
        accounts,
        groups,
        {"password.blank_accepted": Reading(CONSOLE_ALONE if console_only else EVERY_WAY)},
        entry_points=entry_points,
    )
    assert [r.guard for r in guards.refusals(snapshot, steps)] == (["remote-blank-password"] if refused else [])


@pytest.mark.parametrize(("password", "refused"), [(Known.UNKNOWN, True), (Known.YES, True), (Known.NO, False)])
def test_a_blank_password_that_may_do_beside_a_key_is_refused(password: Known, refused: bool) -> None:
    decided = Admission(password, Known.YES, Known.NO, "sshd")
    blank = Account("tern", "1001", password=PasswordState.BLANK, keys=1)
    warden = Account("warden", "1000", groups=("administrators",))
    administrators = (Group("administrators", "11", ("warden",), (Grant.ADMINISTRATION,)),)
    shut = EntryPoint(Route.REMOTE_SHELL, admissions={"tern": Admission(Known.NO, Known.NO, Known.NO, "sshd")})
    before = Snapshot(FACTS, (warden, blank), administrators, {}, entry_points=(EntryPoint(Route.CONSOLE), shut))
    after = evolve(before, entry_points=(EntryPoint(Route.CONSOLE), evolve(shut, admissions={"tern": decided})))
    found = [r.guard for r in guards.refusals_on(review.Candidate(before, after, ()))]
    assert ("remote-blank-password" in found) is refused


def test_a_door_that_stood_open_before_does_not_stop_the_mending() -> None:
    blank = Account("tern", "1001", password=PasswordState.BLANK)
    warden = Account("warden", "1000", groups=("administrators",))
    groups = (Group("administrators", "11", ("warden",), (Grant.ADMINISTRATION,)),)
    readings = {"password.blank_accepted": Reading(EVERY_WAY)}
    snapshot = Snapshot(FACTS, (warden, blank), groups, readings, entry_points=(EntryPoint(Route.NETWORK),))
    assert guards.refusals(snapshot, [CreateAccount("ana", Role.STANDARD)]) == []
