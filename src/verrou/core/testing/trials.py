"""All tests that show by behaviour that rules are enforced, each on temporary accounts.

The attempts are chosen in the modules beside this one; the machine's own authority responds."""

import random
from collections.abc import Callable, Iterator, Mapping

from attrs import evolve

from verrou.core.model import Reading, Role, Snapshot
from verrou.core.model.programs import ElevationSubject
from verrou.core.model.verdicts import TrialResult
from verrou.core.rules import CATALOGUE
from verrou.core.testing.access_tests import access_trial
from verrou.core.testing.attempts import Attempt, CannotTry, TrialAccount, not_run
from verrou.core.testing.elevation_tests import COMMANDS, commands_trial, elevation_trial, prompt_trial
from verrou.core.testing.lockout_tests import exemption_trial, lockout_trial
from verrou.core.testing.password_tests import (
    ageing_trial,
    blank_trial,
    linked_trial,
    storage_trial,
    weak_password_trial,
)
from verrou.core.testing.passwords import Policy, policy_of
from verrou.core.testing.screen_tests import automatic_trial, lock_trial, screen_trial
from verrou.core.testing.session_tests import COVERED, rights_trial, sharing_trial
from verrou.core.values import GROUP, CommandRights

Trial = Callable[[TrialAccount, Snapshot, random.Random], Iterator[TrialResult]]
ALONE: tuple[tuple[str, Trial], ...] = (
    ("lockout.after", lockout_trial),
    ("lockout.exempts", exemption_trial),
    ("password.min_length", weak_password_trial),
    ("password.max_age", ageing_trial),
    ("password.storage", storage_trial),
    ("password.blank_accepted", blank_trial),
    ("population.linked_identities", linked_trial),
)
"""Tests on a standard account of their own, each with the rule that it is about first of all."""
WHO_COMES_IN = "logon.console.allowed"
_TRIED_FOR = ("lockout.after", "password.min_length", WHO_COMES_IN)
ROLES = {
    Role.ADMINISTRATOR: ElevationSubject.ADMINISTRATOR,
    Role.STANDARD: ElevationSubject.STANDARD,
    Role.GUEST: ElevationSubject.GUEST,
}
MOST_GROUPS = 4
"""Of the groups that lists name, so many have an account of their own."""
AFTER_A_RESTART = ", after a restart"


def run_trials(attempt: Attempt, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Yield the results of all tests as they come, each on an account that ``attempt`` makes."""
    policy = policy_of(snapshot)
    for about, trial in ALONE:
        try:
            with attempt(policy, Role.STANDARD, True, ()) as subject:
                yield from trial(subject, snapshot, rng)
        except CannotTry as reason:
            yield not_run(about, "no test", reason)
    for role, who in ROLES.items():
        try:
            with attempt(policy, role, True, ()) as let_in, attempt(policy, role, False, ()) as subject:
                yield from access_trial(subject, let_in, snapshot, f"a temporary {role} account")
                yield from elevation_trial(let_in, snapshot, who)
                if role is not Role.ADMINISTRATOR:
                    yield from commands_trial(let_in, snapshot, f"a temporary {role} account")
                yield from rights_trial(let_in, snapshot, role)
                yield from sharing_trial(let_in, snapshot, role)
        except CannotTry as reason:
            yield not_run(WHO_COMES_IN, f"a temporary {role} account", reason)
    yield from _in_groups(attempt, policy, snapshot)
    yield from _at_the_screen(attempt, policy, snapshot)


def _in_groups(attempt: Attempt, policy: Policy, snapshot: Snapshot) -> Iterator[TrialResult]:
    """Test lists that name further groups, each by a standard account that is in one of them."""
    for name in _listed_groups(snapshot)[:MOST_GROUPS]:
        try:
            with (
                attempt(policy, Role.STANDARD, True, ()) as let_in,
                attempt(policy, Role.STANDARD, False, (name,)) as subject,
            ):
                yield from access_trial(subject, let_in, snapshot, f"a temporary account in group {name}")
            with attempt(policy, Role.STANDARD, True, (name,)) as subject:
                yield from commands_trial(subject, snapshot, f"a temporary account in group {name}")
            if GROUP + name in _names(snapshot, COVERED):
                with attempt(policy, Role.STANDARD, True, (name,)) as subject:
                    yield from sharing_trial(subject, snapshot, Role.STANDARD)
        except CannotTry as reason:
            yield not_run(WHO_COMES_IN, f"a temporary account in group {name}", reason)


def _listed_groups(snapshot: Snapshot) -> list[str]:
    """Return the groups that make no role and that a list about sign-in or shared use names."""
    lists = [rule_id for rule_id in CATALOGUE if rule_id.startswith("logon.") or rule_id in (COVERED, COMMANDS)]
    named = {name.removeprefix(GROUP) for rule_id in lists for name in _names(snapshot, rule_id) if GROUP in name}
    return sorted(str(group.name) for group in snapshot.groups if group.name in named and not group.grants)


def _names(snapshot: Snapshot, rule_id: str) -> frozenset[str]:
    reading = snapshot.readings.get(rule_id)
    value = reading.value if reading is not None else None
    if isinstance(value, CommandRights):
        return frozenset(who for who, _ in value.pairs)
    return value if isinstance(value, frozenset) else frozenset()


def _at_the_screen(attempt: Attempt, policy: Policy, snapshot: Snapshot) -> Iterator[TrialResult]:
    """Test screens and the prompt; where something waits for a restart, on both sides of it.

    What is after the restart has an account of its own: signing in before would be seen on the screen."""
    try:
        with attempt(policy, Role.ADMINISTRATOR, True, ()) as subject:
            yield from screen_trial(subject, snapshot)
            yield from lock_trial(subject, snapshot)
            yield from _of_the_builtin(subject, snapshot)
        with attempt(policy, Role.ADMINISTRATOR, True, ()) as subject:
            yield from _restarted(subject, snapshot)
    except CannotTry as reason:
        yield not_run("screen.hidden_accounts", "no test", reason)


def _restarted(subject: TrialAccount, snapshot: Snapshot) -> Iterator[TrialResult]:
    try:
        name = subject.restart()
    except CannotTry as reason:
        yield not_run("screen.automatic_signin", "the copy restarts", reason)
        return
    yield from automatic_trial(name, snapshot)
    if any(reading.pending is not None for reading in snapshot.readings.values()):
        later = restarted(snapshot)
        yield from screen_trial(subject, later, AFTER_A_RESTART, name)
        yield from prompt_trial(subject, later, AFTER_A_RESTART)


def _of_the_builtin(subject: TrialAccount, snapshot: Snapshot) -> Iterator[TrialResult]:
    rule = "elevation.builtin"
    if rule not in snapshot.readings or snapshot.readings[rule].value is None:
        return
    try:
        yield from elevation_trial(subject.builtin(), snapshot, ElevationSubject.BUILT_IN)
    except CannotTry as reason:
        yield not_run(rule, "the built-in administrator elevates", reason)


def restarted(snapshot: Snapshot) -> Snapshot:
    """Return a snapshot in which what waits has happened."""
    readings: Mapping[str, Reading] = {
        rule_id: reading if reading.pending is None else evolve(reading, value=reading.pending, pending=None)
        for rule_id, reading in snapshot.readings.items()
    }
    return evolve(snapshot, readings=readings)


def not_tried(reason: str) -> list[TrialResult]:
    """Return the results where nothing can be tested at all."""
    return [not_run(about, "no test", reason) for about in _TRIED_FOR]
