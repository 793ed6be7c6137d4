"""Tests that show by behaviour that a rule is enforced. The attempts are chosen here; the machine's authority
responds."""

import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import timedelta
from typing import Protocol

from attrs import frozen

from verrou.core.model import Account, AccountName, GroupName, Reading, Role, Snapshot, Status, counted, joined
from verrou.core.model.access import accepted_credential
from verrou.core.model.elevation import PromptOutcome, elevation_values, rule_about, rule_outcome
from verrou.core.model.programs import ElevationSubject, Program
from verrou.core.model.routes import Route
from verrou.core.model.verdicts import Result, TrialResult
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.rules.elevation import GIVES
from verrou.core.testing.passwords import Policy, breaking, make_password, policy_of
from verrou.core.values import format_duration


@frozen
class Answer:
    """Response of the authority to an attempt, in its own words."""

    accepted: bool
    message: str = ""


class TrialAccount(Protocol):
    """A temporary test account on the machine's own authority, and what can be tested with it."""

    account: str
    password: str

    @property
    def other_services(self) -> Sequence[str]:
        """The services besides the console's own that ask for a password."""
        ...

    def sign_in(self, password: str, service: str = "") -> Answer:
        """Sign in at the console, or by another service."""
        ...

    def change_password(self, old: str, new: str) -> Answer:
        """Change the password as the account's owner."""
        ...

    def reset_password(self, new: str) -> None:
        """Set a password of the account as an administrator."""
        ...

    def age_password(self) -> None:
        """Age the password so that its owner may change it, but not so far that it has expired."""
        ...

    def pass_time(self, span: timedelta) -> None:
        """Move the account's recorded failed attempts ``span`` into the past."""
        ...

    def unlock(self) -> None:
        """Unlock the account as an administrator."""
        ...

    @property
    def groups(self) -> Sequence[str]:
        """The groups of the account."""
        ...

    def come_by(self, route: Route, service: str, password: str) -> Answer:
        """Sign in by a route; by one of its services, where the machine tells them apart.

        Raises: CannotTry: with the reason."""
        ...

    @property
    def programs(self) -> Sequence[Program]:
        """The kinds of program that the machine tells apart; one that stands for all, where it tells none apart."""
        ...

    def elevate(self, program: Program, given: str) -> Answer:
        """Elevate a program in a session of its own, giving what a cell of ``elevation.*`` names.

        Not accepted means rejected by what decides about elevation. Raises: CannotTry: something else stopped it, or
        this cannot be given here, with the reason."""
        ...

    def elevate_again(self, program: Program, after: timedelta) -> Answer:
        """Elevate, let time pass, and elevate again without another answer. Raises: CannotTry: with the reason."""
        ...

    def answer_late(self, program: Program, after: timedelta) -> Answer:
        """Ask for elevation, let time pass, and give the right answer then. Raises: CannotTry: with the reason."""
        ...


class CannotTry(Exception):
    """A test cannot run here; the message is the reason."""


_MARGIN = timedelta(seconds=30)
_MOMENT = timedelta(seconds=5)
WHO_COMES_IN = "logon.console.allowed"
_TRIED_FOR = ("lockout.after", "password.min_length", WHO_COMES_IN)
TRIED_ROLES = (Role.ADMINISTRATOR, Role.STANDARD, Role.GUEST)
Attempt = Callable[[Policy, Role, bool], AbstractContextManager[TrialAccount]]
"""Creates a temporary test account of a role, for the length of the block. The last argument: no logon list denies it,
for tests of other rules."""


def run_trials(attempt: Attempt, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Yield the results of all tests as they come, each on an account that ``attempt`` makes."""
    policy = policy_of(snapshot)
    for trial, about in zip((lockout_trial, weak_password_trial), _TRIED_FOR, strict=False):
        try:
            with attempt(policy, Role.STANDARD, True) as subject:
                yield from trial(subject, snapshot, rng)
        except CannotTry as reason:
            yield TrialResult(about, "no test", Result.NOT_RUN, str(reason))
    for role in TRIED_ROLES:
        try:
            with attempt(policy, role, True) as let_in, attempt(policy, role, False) as subject:
                yield from access_trial(subject, let_in, snapshot, role)
                yield from elevation_trial(let_in, snapshot, role)
        except CannotTry as reason:
            yield TrialResult(WHO_COMES_IN, f"a temporary {role} account", Result.NOT_RUN, str(reason))


def access_trial(subject: TrialAccount, let_in: TrialAccount, snapshot: Snapshot, role: Role) -> Iterator[TrialResult]:
    """Sign in by each route and each of its services with the right password.

    The snapshot says which should be admitted. A denial shows that a list denies an account only where a similar
    account, which no list denies, is admitted."""
    groups = tuple(map(GroupName, subject.groups))
    account = Account(AccountName(subject.account), f"trial:{subject.account}", groups=groups)
    for entry_point in snapshot.entry_points:
        if entry_point.automatic:
            continue
        expected = accepted_credential(account, entry_point, snapshot) is not None
        kept_out = not entry_point.admits(account)
        for service in entry_point.services or ("",):
            by = f" ({service})" if service else ""
            message = f"a temporary {role} account signs in {entry_point.route.phrase}{by}"
            rule = f"logon.{entry_point.route}.allowed"
            try:
                answer = subject.come_by(entry_point.route, service, subject.password)
                control = let_in.come_by(entry_point.route, service, let_in.password) if kept_out else answer
            except CannotTry as reason:
                yield TrialResult(rule, message, Result.NOT_RUN, str(reason))
                continue
            if kept_out and not answer.accepted and not control.accepted:
                why = f"an account that no list denies is denied too: {control.message}"
                yield TrialResult(rule, message, Result.NOT_RUN, why)
                continue
            yield _judge(rule, message, answer, expected)


_SUBJECTS = {
    Role.ADMINISTRATOR: ElevationSubject.ADMINISTRATOR,
    Role.STANDARD: ElevationSubject.STANDARD,
    Role.GUEST: ElevationSubject.GUEST,
}
_GIVING = {
    "nothing": "without an answer",
    "approval": "after approval",
    "password": "with its own password",
    "admin-password": "with an administrator's password",
}
_SHOWS: Mapping[PromptOutcome, Mapping[str, bool]] = {
    PromptOutcome.NO_PROMPT: {"nothing": True},
    PromptOutcome.CONFIRM: {"approval": True, "nothing": False},
    PromptOutcome.OWN_PASSWORD: {"password": True, "nothing": False},
    PromptOutcome.ADMIN_PASSWORD: {"admin-password": True, "password": False},
    PromptOutcome.DENIED: {"password": False, "admin-password": False},
}
"""By outcome what a test gives, and whether that is accepted."""


def elevation_trial(subject: TrialAccount, snapshot: Snapshot, role: Role) -> Iterator[TrialResult]:
    """Test elevation of each kind of program, in sessions of the account: with what is required, and with less."""
    who, values = _SUBJECTS[role], elevation_values(snapshot)
    rule = rule_about(who, values)
    if rule not in values or (len(subject.programs) == 1 and values[rule] == GIVES.uniform("nothing")):
        # What is asked of some accounts is not known, or of some of them nothing: only who may elevate can be shown.
        shows: Mapping[str, bool] = {"password": role is Role.ADMINISTRATOR}
    else:
        shows = {}
    outcomes = {program: rule_outcome(who, program, values) for program in subject.programs}
    for outcome in dict.fromkeys(outcomes.values()):
        programs = [program for program, each in outcomes.items() if each is outcome]
        what = "a program" if len(programs) == len(outcomes) else joined([GIVES.rows[each] for each in programs])
        for given, accepted in (shows or _SHOWS[outcome]).items():
            message = f"a temporary {role} account elevates {what} {_GIVING[given]}"
            try:
                answers = [subject.elevate(program, given) for program in programs]
            except CannotTry as reason:
                yield TrialResult(rule, message, Result.NOT_RUN, str(reason))
                continue
            unexpected = [each for each in answers if each.accepted is not accepted]
            yield _judge(rule, message, (unexpected or answers)[0], accepted)
    if role is Role.ADMINISTRATOR:
        prompts = (PromptOutcome.CONFIRM, PromptOutcome.OWN_PASSWORD, PromptOutcome.ADMIN_PASSWORD)
        if prompting := [program for program, each in outcomes.items() if each in prompts]:
            yield from _questions_trial(subject, snapshot, prompting[0])


def _questions_trial(subject: TrialAccount, snapshot: Snapshot, program: Program) -> Iterator[TrialResult]:
    """Check how long an answer to the prompt for a program is remembered, and that an unanswered prompt ends."""
    for rule_id, ask, words in (
        ("elevation.remembered_for", subject.elevate_again, "elevates, and again {} later without an answer"),
        ("elevation.unanswered_after", subject.answer_late, "is prompted, and answers correctly {} later"),
    ):
        reading = _in_force(rule_id, snapshot)
        if reading is None or reading.value is None:
            continue
        holds = reading.value if isinstance(reading.value, timedelta) else timedelta()
        if rule_id == "elevation.unanswered_after" and not holds:
            continue  # it never ends, so no test can wait for it
        shortly_before = [(holds - _MOMENT, True)] if holds > _MOMENT else []
        for after, accepted in (*shortly_before, (holds + _MOMENT, False)):
            message = f"a temporary administrator account {words.format(format_duration(after))}"
            try:
                yield _judge(rule_id, message, ask(program, after), accepted)
            except CannotTry as reason:
                yield TrialResult(rule_id, message, Result.NOT_RUN, str(reason))
                break


def not_tried(reason: str) -> list[TrialResult]:
    """Return the results where nothing can be tested at all."""
    return [TrialResult(about, "no test", Result.NOT_RUN, reason) for about in _TRIED_FOR]


def _in_force(rule_id: str, snapshot: Snapshot) -> Reading | None:
    reading = reading_of(CATALOGUE[rule_id], snapshot)
    good = reading.status is Status.READ and reading.enforced and reading.value is not None
    return reading if good else None


def _judge(rule: str, tried: str, answer: Answer, should_accept: bool) -> TrialResult:
    expected = answer.accepted is should_accept
    seen = "accepted" if answer.accepted else "denied"
    return TrialResult(
        rule,
        tried,
        Result.PASSED if expected else Result.FAILED,
        f"{seen}: {answer.message}" if answer.message else seen,
    )


def lockout_trial(subject: TrialAccount, snapshot: Snapshot, rng: random.Random) -> Iterator[TrialResult]:
    """Test the lock: failed attempts, the right password denied, then time or an unlock, and the right password
    accepted."""
    after = _in_force("lockout.after", snapshot)
    right, wrong = subject.password, subject.password + "x"
    control = subject.sign_in(right)
    if not control.accepted:
        raise CannotTry(f"the temporary account could not sign in at all: {control.message}")
    if after is None or not isinstance(after.value, int):
        yield TrialResult("lockout.after", "no test", Result.NOT_RUN, "no lock-out is enforced")
        return
    attempts = int(after.value)
    if attempts > 50:
        yield TrialResult("lockout.after", "no test", Result.NOT_RUN, f"{attempts} failed attempts are too many")
        return
    if attempts > 1:
        _mistype(subject, wrong, attempts - 1)
        yield _judge(
            "lockout.after",
            f"{counted(attempts - 1, 'failed attempt')}, then the right password",
            subject.sign_in(right),
            True,
        )
    _mistype(subject, wrong, attempts)
    yield _judge(
        "lockout.after",
        f"{counted(attempts, 'failed attempt')}, then the right password",
        subject.sign_in(right),
        False,
    )
    yield from _lock_ends(subject, snapshot, right)
    forget = _in_force("lockout.forget_after", snapshot)
    if forget is not None and isinstance(forget.value, timedelta) and attempts > 1:
        _mistype(subject, wrong, attempts - 1)
        subject.pass_time(forget.value + _MARGIN)
        _mistype(subject, wrong, 1)
        message = CATALOGUE["lockout.forget_after"].kind.format(forget.value)
        yield _judge(
            "lockout.forget_after",
            f"{counted(attempts - 1, 'failed attempt')}, {message} later one more, then the right password",
            subject.sign_in(right),
            True,
        )
    yield from _by_other_services(subject, right, wrong, attempts)


def _lock_ends(subject: TrialAccount, snapshot: Snapshot, right: str) -> Iterator[TrialResult]:
    lasts = _in_force("lockout.lasts", snapshot)
    if lasts is not None and isinstance(lasts.value, timedelta):
        message = CATALOGUE["lockout.lasts"].kind.format(lasts.value)
        subject.pass_time(lasts.value - 2 * _MARGIN)
        yield _judge("lockout.lasts", f"the right password shortly before {message}", subject.sign_in(right), False)
        subject.pass_time(3 * _MARGIN)
        yield _judge("lockout.lasts", f"the right password after {message}", subject.sign_in(right), True)
    else:
        subject.unlock()
        yield _judge("lockout.lasts", "the right password after unlocking", subject.sign_in(right), True)


def _by_other_services(subject: TrialAccount, right: str, wrong: str, attempts: int) -> Iterator[TrialResult]:
    """Check every other service: each has its own stack, so failed attempts have to lock there, too."""
    for service in subject.other_services:
        subject.unlock()
        control = subject.sign_in(right, service)
        message = f"{counted(attempts, 'failed attempt')} by {service}, then the right password"
        if not control.accepted:
            reason = f"{service} denies the temporary account sign-in at all: {control.message}"
            yield TrialResult("lockout.after", message, Result.NOT_RUN, reason)
            continue
        _mistype(subject, wrong, attempts, service)
        yield _judge("lockout.after", message, subject.sign_in(right, service), False)
    subject.unlock()


def _mistype(subject: TrialAccount, wrong: str, times: int, service: str = "") -> None:
    for _ in range(times):
        if subject.sign_in(wrong, service).accepted:
            raise CannotTry("the machine accepts wrong passwords: something in its sign-in admits anyone")


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
            results.append(TrialResult(rule_id, tried, Result.NOT_RUN, "no candidate breaks this rule alone"))
            continue
        for candidate in candidates:
            answer = subject.change_password(old, candidate)
            if not answer.accepted:
                break
            subject.reset_password(old)
            subject.age_password()
        results.append(_judge(rule_id, tried, answer, False))
    good = make_password(policy, subject.account, rng)
    control = subject.change_password(old, good)
    if not control.accepted:
        for result in results:
            yield TrialResult(
                result.rule, result.test, Result.NOT_RUN, f"a good one was rejected too: {control.message}"
            )
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
    """Change passwords until ``first`` is the oldest remembered one, then try to set it again."""
    current = first
    for _ in range(policy.remember - 1):
        following = make_password(policy, subject.account, rng)
        subject.age_password()
        if not subject.change_password(current, following).accepted:
            break
        current = following
    subject.age_password()
    message = f"the password of {policy.remember - 1} changes ago" if current != first else "the password in use"
    yield _judge("password.remember", message, subject.change_password(current, first), False)


def _too_soon(subject: TrialAccount, snapshot: Snapshot, policy: Policy, rng: random.Random) -> Iterator[TrialResult]:
    """Test that a new password cannot be changed before its minimum age."""
    min_age = _in_force("password.min_age", snapshot)
    if min_age is None or not isinstance(min_age.value, timedelta) or not min_age.value:
        return
    first, second = (make_password(policy, subject.account, rng) for _ in range(2))
    subject.reset_password(first)
    subject.age_password()
    if not subject.change_password(first, second).accepted:
        return
    third = make_password(policy, subject.account, rng)
    yield _judge("password.min_age", "a second change on the same day", subject.change_password(second, third), False)
