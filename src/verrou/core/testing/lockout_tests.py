"""Tests of the lock after failed attempts."""

import random
from collections.abc import Iterator
from datetime import timedelta

from verrou.core.model import Snapshot, counted
from verrou.core.model.verdicts import TrialResult
from verrou.core.rules import CATALOGUE
from verrou.core.testing.attempts import CannotTry, TrialAccount, in_force, judge, not_run

MARGIN = timedelta(seconds=30)
MOST_ATTEMPTS = 50
"""Most failed attempts that a test makes."""


def lockout_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test the lock: failed attempts, the right password denied, then time or an unlock, and the right password
    accepted."""
    after = in_force("lockout.after", snapshot)
    right, wrong = subject.password, subject.password + "x"
    control = subject.sign_in(right)
    if not control.accepted:
        raise CannotTry(f"the temporary account could not sign in at all: {control.message}")
    if after is None or not isinstance(after.value, int):
        yield not_run("lockout.after", "no test", "no lock-out is enforced")
        return
    attempts = int(after.value)
    if attempts > MOST_ATTEMPTS:
        yield not_run("lockout.after", "no test", f"{attempts} failed attempts are too many")
        return
    if attempts > 1:
        _mistype(subject, wrong, attempts - 1)
        yield judge(
            "lockout.after",
            f"{counted(attempts - 1, 'failed attempt')}, then the right password",
            subject.sign_in(right),
            True,
        )
    _mistype(subject, wrong, attempts)
    yield judge(
        "lockout.after",
        f"{counted(attempts, 'failed attempt')}, then the right password",
        subject.sign_in(right),
        False,
    )
    yield from _lock_ends(subject, snapshot, right)
    forget = in_force("lockout.forget_after", snapshot)
    if forget is not None and isinstance(forget.value, timedelta) and attempts > 1:
        _mistype(subject, wrong, attempts - 1)
        subject.pass_time(forget.value + MARGIN)
        _mistype(subject, wrong, 1)
        message = CATALOGUE["lockout.forget_after"].kind.format(forget.value)
        yield judge(
            "lockout.forget_after",
            f"{counted(attempts - 1, 'failed attempt')}, {message} later one more, then the right password",
            subject.sign_in(right),
            True,
        )
    yield from _by_other_services(subject, right, wrong, attempts)


def _lock_ends(subject: TrialAccount, snapshot: Snapshot, right: str) -> Iterator[TrialResult]:
    lasts = in_force("lockout.lasts", snapshot)
    if lasts is not None and isinstance(lasts.value, timedelta):
        message = CATALOGUE["lockout.lasts"].kind.format(lasts.value)
        subject.pass_time(lasts.value - 2 * MARGIN)
        yield judge("lockout.lasts", f"the right password shortly before {message}", subject.sign_in(right), False)
        subject.pass_time(3 * MARGIN)
        yield judge("lockout.lasts", f"the right password after {message}", subject.sign_in(right), True)
    else:
        subject.unlock()
        yield judge("lockout.lasts", "the right password after unlocking", subject.sign_in(right), True)


def _by_other_services(subject: TrialAccount, right: str, wrong: str, attempts: int) -> Iterator[TrialResult]:
    """Check every other service: each has its own stack, so failed attempts have to lock there, too."""
    for service in subject.other_services:
        subject.unlock()
        control = subject.sign_in(right, service)
        message = f"{counted(attempts, 'failed attempt')} by {service}, then the right password"
        if not control.accepted:
            reason = f"{service} denies the temporary account sign-in at all: {control.message}"
            yield not_run("lockout.after", message, reason)
            continue
        _mistype(subject, wrong, attempts, service)
        yield judge("lockout.after", message, subject.sign_in(right, service), False)
    subject.unlock()


def _mistype(subject: TrialAccount, wrong: str, times: int, service: str = "") -> None:
    if subject.mistype(wrong, times, service):
        raise CannotTry("the machine accepts wrong passwords: something in its sign-in admits anyone")


def exemption_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test whether the built-in administrator locks: failed attempts, then the right password."""
    rule = "lockout.exempts"
    after, exempts = in_force("lockout.after", snapshot), in_force(rule, snapshot)
    if exempts is None:
        return
    if after is None or not isinstance(after.value, int) or after.value > MOST_ATTEMPTS:
        yield not_run(rule, "no test", "no lock-out is enforced that a test can reach")
        return
    message = f"{counted(after.value, 'failed attempt')} of the built-in administrator, then the right password"
    try:
        builtin = subject.builtin()
        control = builtin.sign_in(builtin.password)
        if not control.accepted:
            raise CannotTry(f"the built-in administrator could not sign in at all: {control.message}")
        _mistype(builtin, builtin.password + "x", after.value)
        yield judge(rule, message, builtin.sign_in(builtin.password), exempts.value == "built-in")
        builtin.unlock()
    except CannotTry as reason:
        yield not_run(rule, message, reason)
