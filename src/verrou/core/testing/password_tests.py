"""Tests of passwords: what is accepted, how long they last, and how they are stored."""

import random
from collections.abc import Iterator
from datetime import timedelta

from verrou.core.model import Snapshot
from verrou.core.model.routes import Route
from verrou.core.model.verdicts import TrialResult
from verrou.core.rules import CATALOGUE
from verrou.core.testing.attempts import CannotTry, TrialAccount, in_force, judge, judge_seen, not_run
from verrou.core.testing.passwords import Policy, breaking, make_password, policy_of

DAY = timedelta(days=1)


def weak_password_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Set passwords as the owner that each break one rule, then a good one, without which the rest proves nothing."""
    policy = policy_of(snapshot)
    old = subject.password
    results: list[TrialResult] = []
    subject.age_password()
    for rule_id, tried in _WEAK.items():
        if not _asks(rule_id, policy):
            continue
        candidates = breaking(rule_id, policy, subject.account, rng)
        if not candidates:
            results.append(not_run(rule_id, tried, "no candidate breaks this rule alone"))
            continue
        for candidate in candidates:
            answer = subject.change_password(old, candidate)
            if not answer.accepted:
                break
            subject.reset_password(old)
            subject.age_password()
        results.append(judge(rule_id, tried, answer, False))
    good = make_password(policy, subject.account, rng)
    control = subject.change_password(old, good)
    if not control.accepted:
        for result in results:
            yield not_run(result.rule, result.test, f"a good one was rejected too: {control.message}")
        return
    yield from results
    if _asks("password.remember", policy):
        yield from _remembered(subject, policy, good, rng)
    yield from _too_soon(subject, snapshot, policy, rng)


_WEAK = {
    "password.min_length": "a password one character too short",
    "password.classes": "a password of too few kinds of character",
    "password.may_contain_name": "a password that contains the account's name",
    "password.dictionary": "a password made of a dictionary word",
}


def _asks(rule_id: str, policy: Policy) -> bool:
    """Return whether the policy rejects anything by this rule."""
    return {
        "password.min_length": policy.min_length > 1,
        "password.classes": policy.classes > 1,
        "password.may_contain_name": not policy.may_contain_name,
        "password.dictionary": policy.dictionary,
        "password.remember": policy.remember > 0,
    }[rule_id]


def _remembered(subject: TrialAccount, policy: Policy, first: str, rng: random.Random) -> Iterator[TrialResult]:
    """Change passwords until ``first`` is the oldest remembered one, then try to set it again; and another one, without
    which a denial proves nothing."""
    rule, current = "password.remember", first
    message = f"the password of {policy.remember - 1} changes ago" if policy.remember > 1 else "the password in use"
    for _ in range(policy.remember - 1):
        following = make_password(policy, subject.account, rng)
        subject.age_password()
        changed = subject.change_password(current, following)
        if not changed.accepted:
            yield not_run(rule, message, f"a password could not be changed so often: {changed.message}")
            return
        current = following
    subject.age_password()
    answer = subject.change_password(current, first)
    if not answer.accepted:
        control = subject.change_password(current, make_password(policy, subject.account, rng))
        if not control.accepted:
            yield not_run(rule, message, f"another one was rejected too: {control.message}")
            return
    yield judge(rule, message, answer, False)


def _too_soon(subject: TrialAccount, snapshot: Snapshot, policy: Policy, rng: random.Random) -> Iterator[TrialResult]:
    """Test that a new password cannot be changed before its minimum age."""
    min_age = in_force("password.min_age", snapshot)
    if min_age is None or not isinstance(min_age.value, timedelta) or not min_age.value:
        return
    first, second = (make_password(policy, subject.account, rng) for _ in range(2))
    subject.reset_password(first)
    subject.age_password()
    if not subject.change_password(first, second).accepted:
        return
    third = make_password(policy, subject.account, rng)
    yield judge("password.min_age", "a second change on the same day", subject.change_password(second, third), False)


def ageing_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test the longest age on both sides, and the warning before it."""
    longest = in_force("password.max_age", snapshot)
    if longest is None:
        return
    if not isinstance(longest.value, timedelta):
        yield not_run("password.max_age", "no test", "a password never has to be changed")
        return
    for over, due in ((timedelta(), False), (DAY, True)):
        subject.age_password_by(longest.value + over)
        answer = subject.sign_in(subject.password)
        days = (longest.value + over).days
        if answer.change_due and not due and longest.overrides:
            why = f"the temporary account has a shorter age than {longest.source}"
            yield not_run("password.max_age", f"signs in with a password {days} days old", why)
            return
        seen = "a new password is required" if answer.change_due else "accepted" if answer.accepted else answer.message
        required = "a new password is required" if due else "accepted"
        yield judge_seen("password.max_age", f"signs in with a password {days} days old", seen, required)
    warning = in_force("password.warn_before", snapshot)
    if warning is None or not isinstance(warning.value, timedelta) or not timedelta() < warning.value < longest.value:
        return
    first = (longest.value - warning.value).days
    for days, warned in ((first - 1, False), (first + 1, True)):
        subject.age_password_by(days * DAY)
        answer = subject.sign_in(subject.password)
        seen, required = ("a warning" if each else "no warning" for each in (answer.warned, warned))
        if answer.accepted:
            yield judge_seen("password.warn_before", f"signs in with a password {days} days old", seen, required)
        else:
            yield not_run("password.warn_before", f"signs in with a password {days} days old", answer.message)


def storage_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test how a password is stored that its owner has set."""
    accepted = in_force("password.storage", snapshot)
    if accepted is None or not isinstance(accepted.value, frozenset):
        return
    message = "the hash of a password that its owner has set"
    subject.age_password()
    new = make_password(policy_of(snapshot), subject.account, rng)
    changed = subject.change_password(subject.password, new)
    if not changed.accepted:
        yield not_run("password.storage", message, changed.message)
        return
    scheme = subject.stored_scheme()
    required = scheme if scheme in accepted.value else CATALOGUE["password.storage"].kind.format(accepted.value)
    yield judge_seen("password.storage", message, scheme, required)


def blank_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test a blank password by each route and each of its services, beside one that is not blank."""
    rule = "password.blank_accepted"
    accepted = in_force(rule, snapshot)
    if accepted is None or not isinstance(accepted.value, frozenset):
        return
    doors = [
        (entry_point.route, service)
        for entry_point in snapshot.entry_points
        if not entry_point.automatic
        for service in entry_point.services or ("",)
    ]
    controls = {}
    for route, service in doors:
        try:
            controls[route, service] = subject.come_by(route, service, subject.password)
        except CannotTry as reason:
            yield not_run(rule, _blank_text(route, service), reason)
    try:
        subject.set_blank()
    except CannotTry as reason:
        yield not_run(rule, "no test", reason)
        return
    for (route, service), control in controls.items():
        if not control.accepted:
            yield not_run(rule, _blank_text(route, service), f"another password is denied too: {control.message}")
            continue
        yield judge(rule, _blank_text(route, service), subject.come_by(route, service, ""), route in accepted.value)


def _blank_text(route: Route, service: str) -> str:
    return f"signs in {route.phrase}{f' ({service})' if service else ''} with a blank password"


def linked_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test whether an account can be linked to an online identity, and signs in once it is."""
    rule = "population.linked_identities"
    reading, accepted = in_force(rule, snapshot), snapshot.accepted_values.get(rule)
    if reading is None or (accepted is not None and accepted.cannot):
        return
    for before, message, accepting in (
        (True, "an account that is linked already signs in", ("allowed", "existing-only")),
        (False, "an account is linked now, and signs in", ("allowed",)),
    ):
        try:
            yield judge(rule, message, subject.link(before=before), reading.value in accepting)
        except CannotTry as reason:
            yield not_run(rule, message, reason)
            return
