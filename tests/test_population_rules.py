"""Rules that are read off the accounts: what each finds, what a worksheet does about it, what is left to a person."""

from datetime import date, datetime, timedelta

import pytest
from attrs import evolve
from hypothesis import strategies as st

from test_audit import FACTS, GATES, PEOPLE, asked
from verrou.core.errors import BadInput
from verrou.core.judging.audit import audit
from verrou.core.model import (
    Account,
    Builtin,
    Detail,
    Grant,
    Group,
    Naming,
    PasswordState,
    Reading,
    Role,
    Snapshot,
    Source,
)
from verrou.core.model.access import routes_of
from verrou.core.model.routes import EntryPoint, Principals, Route, allow_only
from verrou.core.model.states import AccountState, states_of, useful_hint
from verrou.core.model.verdicts import Verdict
from verrou.core.planning.change_plan import plan_changes
from verrou.core.prediction.account_creation import NoWay, check_name, new_account, role_steps, swap_steps
from verrou.core.prediction.predict import predict
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.steps.step import CreateAccount, CreateGroup, Join, Leave, SetEnabled, TrySignIn

TODAY = FACTS.now.date()
KEEPS = evolve(FACTS, details=tuple(Detail))
WARDEN = evolve(PEOPLE[1], password_changed=TODAY, last_sign_in=FACTS.now)


def days(number: int) -> date:
    return TODAY - timedelta(days=number)


def machine(
    *accounts: Account, facts: object = KEEPS, entry_points: tuple[EntryPoint, ...] = (), **readings: Reading
) -> Snapshot:
    named = {key.replace("__", "."): reading for key, reading in readings.items()}
    return Snapshot(facts, (WARDEN, *accounts), GATES, named, entry_points=entry_points)  # type: ignore[arg-type]


TERN = Account("tern", "1001", password_changed=days(400), last_sign_in=datetime(2026, 9, 1))
IDLE = Account("idle", "1002", password_changed=days(400))
GUEST = Account("daypass", "1003", groups=("guests",), password_changed=days(3))
SEASON = evolve(TERN, name="season", until=date(2026, 12, 1))
GONE = evolve(TERN, name="gone", until=date(2026, 9, 13))
FOUND = (
    ("unused_for", (TERN,), timedelta(days=13)),
    ("unused_for", (TERN, IDLE), timedelta(days=400)),
    ("unused_for", (evolve(IDLE, password_changed=None),), None),
    ("unused_for", (evolve(IDLE, enabled=False),), timedelta(0)),
    ("unused_for", (evolve(IDLE, password_changed=None, change_due=True),), timedelta(0)),
    ("unused_for", (evolve(IDLE, change_due=True),), timedelta(days=400)),
    ("unused_for", (evolve(IDLE, sessions=("console",)),), timedelta(0)),
    ("unused_for", (evolve(IDLE, until=days(1)),), timedelta(0)),
    ("unused_for", (evolve(IDLE, builtin=Builtin.GUEST),), timedelta(0)),
    ("temporary_limit", (TERN,), timedelta(0)),
    ("temporary_limit", (TERN, GUEST), "never"),
    ("temporary_limit", (evolve(GUEST, until=date(2026, 9, 15)), SEASON), timedelta(days=78)),
    ("temporary_limit", (GONE,), timedelta(0)),
    ("expired_accounts", (SEASON,), "disabled"),
    ("expired_accounts", (SEASON, GONE), "enabled"),
    ("expired_accounts", (evolve(GONE, enabled=False),), "disabled"),
    ("hints", (evolve(TERN, hint="..."),), "forbidden"),
    ("hints", (evolve(TERN, hint="the ship"),), "allowed"),
    ("recovery_questions", (evolve(TERN, recovery_questions=("Which ship?",)),), "allowed"),
)


@pytest.mark.parametrize(("rule", "accounts", "value"), FOUND)
def test_what_is_found(rule: str, accounts: tuple[Account, ...], value: object) -> None:
    assert reading_of(CATALOGUE[f"population.{rule}"], machine(*accounts)).value == value


@pytest.mark.parametrize(
    ("hint", "useful"),
    [("", False), (" -- ", False), ("No hint.", False), ("none", False), ("the year", True), ("7", True), ("no", True)],
)
def test_which_hints_show_something(hint: str, useful: bool) -> None:
    assert useful_hint(hint) is useful
    assert (AccountState.HINT in states_of(evolve(TERN, hint=hint), machine(evolve(TERN, hint=hint)))) is useful


BASELINE = """
[population]
unused_for = "180 days"
temporary_limit = "60 days"
expired_accounts = "disabled"
hints = "forbidden"
recovery_questions = "forbidden"
[accounts.listed]
"""


def test_what_the_plan_does_about_it() -> None:
    hinted = evolve(TERN, name="hinted", hint="the ship", recovery_questions=("Which ship?",))
    listed = evolve(IDLE, name="listed")
    now = machine(TERN, IDLE, GUEST, SEASON, GONE, hinted, listed)
    plan = plan_changes(now, asked(BASELINE), audit(now, asked(BASELINE)))
    assert {step.what for step in plan.steps} == {
        "disable account idle",
        "account daypass: expire after 2026-11-13",
        "account season: expire after 2026-11-13",
        "disable account gone",
        "remove the hint of account hinted",
        "remove the recovery questions of account hinted",
    }
    assert [item.subject for item in plan.manual] == ["population.unused_for"]
    assert "listed" in plan.manual[0].advice
    for step in plan.steps:
        now = predict(step, now)
    short = {f.subject for f in audit(now, asked(BASELINE)).findings if f.verdict is Verdict.NOT_MET}
    assert short == {"population.unused_for"}, "who is listed is left open"


def test_a_new_guest_gets_an_end_in_the_same_plan() -> None:
    """The rule holds until the worksheet itself makes a guest."""
    baseline = asked('[population]\ntemporary_limit = "60 days"\n[accounts.tern]\nrole = "guest"\n')
    plan = plan_changes(machine(TERN), baseline, audit(machine(TERN), baseline))
    assert [step.what for step in plan.steps] == [
        "add account tern to group guests",
        "account tern: expire after 2026-11-13",
    ]


def test_what_a_new_account_brings_up_is_reported_in_the_same_plan() -> None:
    now = machine(entry_points=(EntryPoint(Route.CONSOLE), EntryPoint(Route.NETWORK)))
    baseline = asked('[population]\nunused_for = "90 days"\n[accounts.gull]\nroutes = ["console"]\n')
    plan = plan_changes(now, baseline, audit(now, baseline))
    assert [type(step) for step in plan.steps] == [CreateAccount]
    (left,) = plan.manual
    assert "gull can sign in over the network" in left.advice, "and nothing is said of its never having been used"


def test_a_listed_account_whose_end_has_passed_is_as_listed() -> None:
    closed = evolve(GONE, name="tern", enabled=False)
    baseline = asked("[accounts.tern]\nuntil = 2026-09-13\n")
    assert audit(machine(closed), baseline).all_met
    assert not audit(machine(closed), asked("[accounts.tern]\nuntil = 2026-09-14\n")).all_met


AFAR = Group("afar", "14", ("tern",))
SCREEN = EntryPoint(Route.REMOTE_SCREEN, (allow_only(Principals(groups=("afar", "administrators"))),))
SHELL = EntryPoint(Route.REMOTE_SHELL, keys=True, passwords=False, keys_only=Principals(("warden",)))


@pytest.mark.parametrize(
    ("account", "expected"),
    [
        (TERN, ["console"]),
        (evolve(TERN, groups=("afar",)), ["console", "remote-screen"]),
        (evolve(TERN, keys=1), ["console", "remote-shell"]),
        (evolve(TERN, keys=1, password=PasswordState.NONE), ["remote-shell"]),
        (evolve(TERN, groups=("afar",), password=PasswordState.BLANK), ["console"]),
        (evolve(TERN, keys=1, enabled=False), []),
        (evolve(TERN, keys=1, may_sign_in=False), []),
        (GONE, []),
        (evolve(TERN, linked_identity="tern@birds.example"), []),
    ],
)
def test_routes(account: Account, expected: list[str]) -> None:
    now = machine(
        account,
        entry_points=(EntryPoint(Route.CONSOLE), SCREEN, SHELL),
        password__blank_accepted=Reading(frozenset({"console"})),
        population__linked_identities=Reading("forbidden"),
    )
    assert list(routes_of(account, now)) == expected


NAMES = st.sampled_from(["tern", "ana", "w*", "*"])
CIRCLES = st.builds(Principals, st.lists(NAMES, max_size=2).map(tuple), st.lists(st.sampled_from(["afar"])).map(tuple))


def test_a_route_that_should_be_denied_is_denied_by_leaving_or_left_to_a_person() -> None:
    now = machine(
        evolve(TERN, groups=("afar",)), entry_points=(EntryPoint(Route.CONSOLE), SCREEN, EntryPoint(Route.NETWORK))
    )
    now = evolve(now, groups=(*GATES, AFAR))
    baseline = asked('[accounts.tern]\nroutes = ["console"]\n')
    plan = plan_changes(now, baseline, audit(now, baseline))
    assert [step.what for step in plan.steps] == ["remove account tern from group afar"]
    (left,) = plan.manual
    assert "tern can sign in over the network" in left.advice
    with_all = asked('[accounts.tern]\nroutes = ["console", "network", "remote-screen"]\n')
    assert audit(now, with_all).all_met


def test_what_a_kind_of_account_is_made_with() -> None:
    here = machine(facts=evolve(KEEPS, temporary_homes=True))
    (standard,) = new_account(here, "gull", Role.STANDARD)
    (guest,) = new_account(here, "gull", Role.GUEST, password="blank")
    assert isinstance(standard, CreateAccount) and isinstance(guest, CreateAccount)
    assert (standard.must_change, standard.cannot_change, standard.home_kept) == (True, False, True)
    assert (guest.must_change, guest.cannot_change, guest.home_kept) == (False, True, False)
    (elsewhere,) = new_account(machine(), "gull", Role.GUEST)
    assert isinstance(elsewhere, CreateAccount) and elsewhere.home_kept
    bare = Snapshot(evolve(KEEPS, guest_group="guests"), (WARDEN,), GATES[:1])
    group, guest = new_account(bare, "gull", Role.GUEST)
    assert isinstance(group, CreateGroup) and group.confined
    after = predict(guest, predict(group, bare))
    assert after.by_name["gull"].groups == ("guests",)
    with pytest.raises(NoWay, match="none can be created"):
        new_account(evolve(bare, machine=KEEPS), "gull", Role.GUEST)
    with pytest.raises(NoWay, match="install the package sudo"):
        new_account(evolve(bare, groups=()), "gull", Role.ADMINISTRATOR)


def test_roles_are_changed_by_groups_alone() -> None:
    named = evolve(TERN, grants=(Grant.ADMINISTRATION,), granted_by=(Source("/etc/sudoers", 3),))
    with pytest.raises(NoWay, match="by itself \\(/etc/sudoers:3\\)"):
        role_steps(machine(named), "tern", Role.STANDARD)
    steps = role_steps(machine(TERN), "tern", Role.ADMINISTRATOR)
    assert steps == [Join("tern", "administrators")]
    assert role_steps(machine(), "warden", Role.GUEST) == [Join("warden", "guests"), Leave("warden", "administrators")]
    assert role_steps(machine(TERN), "tern", Role.STANDARD) == []


def test_the_swap_raises_tries_and_only_then_takes_away() -> None:
    keeper = evolve(PEOPLE[0], enabled=True, groups=("administrators",))
    now = machine(keeper, evolve(TERN, enabled=False))
    kinds = [type(step) for step in swap_steps(now, "warden", "tern", "ask")]
    assert kinds == [Join, SetEnabled, TrySignIn, Leave]
    steps = swap_steps(now, "keeper", "gull", "generate")
    assert [type(step) for step in steps] == [CreateAccount, TrySignIn, SetEnabled], "a built-in one is disabled"
    for old, new in (("tern", "warden"), ("warden", "warden")):
        with pytest.raises(NoWay):
            swap_steps(now, old, new, "ask")


def test_names_are_taken_with_or_without_case() -> None:
    for without_case, refused in ((True, True), (False, False)):
        naming = Naming("[A-Za-z0-9-]+", 20, "letters", without_case)
        here = machine(TERN, facts=evolve(KEEPS, naming=naming))
        for name in ("TERN", "Guests", "HIDE-01"):
            if refused:
                with pytest.raises(BadInput, match="Choose another name"):
                    check_name(here, name)
            else:
                check_name(here, name)
        with pytest.raises(BadInput, match="already has an account tern"):
            check_name(here, "tern", group=True)


def test_an_identity_that_is_not_there_is_no_name_for_a_new_group() -> None:
    baseline = asked('[groups.777]\nmembers = ["warden"]\n')
    plan = plan_changes(machine(), baseline, audit(machine(), baseline))
    assert plan.steps == () and "no group with ID 777" in plan.manual[0].advice
