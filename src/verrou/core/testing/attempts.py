"""Attempts on a machine's own authority, and what they show. The machine makes them; tests choose them."""

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from datetime import timedelta
from typing import Protocol

from attrs import frozen

from verrou.core.model import Reading, Role, Snapshot, Status
from verrou.core.model.acts import UserAct
from verrou.core.model.programs import Program
from verrou.core.model.routes import Route
from verrou.core.model.verdicts import Result, TrialResult
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.testing.passwords import Policy
from verrou.core.values import EVERYONE, GROUP, Notice, Value


@frozen(repr=False)
class Answer:
    """Response of the authority to an attempt, in its own words.

    ``by`` are the rules that stopped it, where the machine tells. Of a sign-in: ``change_due`` says that only a new
    password is missing, ``warned`` that one will soon be due."""

    accepted: bool
    message: str = ""
    by: tuple[str, ...] = ()
    change_due: bool = False
    warned: bool = False


@frozen(repr=False)
class FirstScreen:
    """What the sign-in screen shows; ``asks_keys``: the attention keys have to be pressed first."""

    listed: tuple[str, ...]
    last: str
    button: bool
    notice: Notice
    asks_keys: bool


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

    def mistype(self, wrong: str, times: int, service: str = "") -> bool:
        """Give a wrong password several times, each in a sign-in of its own. Return whether it was accepted."""
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

    def age_password_by(self, span: timedelta) -> None:
        """Set the day of the password so far back."""
        ...

    def set_blank(self) -> None:
        """Make the password blank, whatever the rules say. Raises: CannotTry: with the reason."""
        ...

    def stored_scheme(self) -> str:
        """Return the hash scheme of the stored password."""
        ...

    def link(self, *, before: bool) -> Answer:
        """Sign in as an account that is linked to an online identity: ``before`` the rule was set, or now.

        Raises: CannotTry: with the reason."""
        ...

    def builtin(self) -> "TrialAccount":
        """Return the built-in administrator of the copy, with a password. Raises: CannotTry: with the reason."""
        ...

    def run_command(self, command: str) -> Answer:
        """Run a single command as an administrator, or be told that one may. Raises: CannotTry: with the reason."""
        ...

    def act(self, act: UserAct) -> Answer:
        """Do something that needs a right. Raises: CannotTry: with the reason."""
        ...

    def run_installer(self) -> Answer:
        """Start an installer. Raises: CannotTry: with the reason."""
        ...

    @property
    def drives(self) -> Sequence[str]:
        """The kinds of drive that the machine tells apart."""
        ...

    def browse(self, drive: str) -> Answer:
        """Open a drive of a kind. Raises: CannotTry: with the reason."""
        ...

    def open_settings(self) -> Answer:
        """Open the machine's settings. Raises: CannotTry: with the reason."""
        ...

    def prompt_is_apart(self, program: Program) -> Answer:
        """Ask for elevation; accepted means that the prompt is isolated. Raises: CannotTry: with the reason."""
        ...

    def first_screen(self) -> FirstScreen:
        """Look at the sign-in screen. Raises: CannotTry: with the reason."""
        ...

    def notice(self) -> Notice:
        """Return the notice that is shown before a sign-in at the console. Raises: CannotTry: with the reason."""
        ...

    def sign_in_without_keys(self) -> Answer:
        """Sign in at the console without the attention keys. Raises: CannotTry: with the reason."""
        ...

    def idle(self, span: timedelta) -> Answer:
        """Sign in and touch nothing; accepted means that the session is still open. Raises: CannotTry: with the
        reason."""
        ...

    def locked_screen(self) -> frozenset[str]:
        """Return what a locked session shows of its user: ``name``, ``origin``. Raises: CannotTry: with the reason."""
        ...

    def restart(self) -> str:
        """Restart the copy; return who is signed in then. Raises: CannotTry: with the reason."""
        ...


class CannotTry(Exception):
    """A test cannot run here; the message is the reason."""


Attempt = Callable[[Policy, Role, bool, Sequence[str]], AbstractContextManager[TrialAccount]]
"""Creates a temporary test account of a role, for the length of the block. The third argument: no logon list denies it,
for tests of other rules; the last are groups that it is in besides."""


def in_force(rule_id: str, snapshot: Snapshot) -> Reading | None:
    """Return the reading of a rule that is read and enforced; None for any other."""
    reading = reading_of(CATALOGUE[rule_id], snapshot)
    good = reading.status is Status.READ and reading.enforced and reading.value is not None
    return reading if good else None


def judge(rule: str, tried: str, answer: Answer, should_accept: bool) -> TrialResult:
    """Return whether an attempt came out as it should; one that another rule stopped was not run."""
    if not answer.accepted and should_accept and answer.by and rule not in answer.by:
        why = f": {answer.message}" if answer.message else ""
        return not_run(rule, tried, f"stopped by {answer.by[0]}{why}")
    expected = answer.accepted is should_accept
    seen = "accepted" if answer.accepted else "denied"
    return TrialResult(
        rule,
        tried,
        Result.PASSED if expected else Result.FAILED,
        f"{seen}: {answer.message}" if answer.message else seen,
    )


def first_unexpected(answers: Sequence[Answer], accepted: bool) -> Answer:
    """Return the first answer that is not as it should be; the first of all where each is."""
    return next((each for each in answers if each.accepted is not accepted), answers[0])


def judge_seen(rule: str, tried: str, seen: str, should_see: str) -> TrialResult:
    """Return whether what was seen is what should be."""
    if seen == should_see:
        return TrialResult(rule, tried, Result.PASSED, seen)
    return TrialResult(rule, tried, Result.FAILED, f"{seen}, not {should_see}")


def not_run(rule: str, tried: str, reason: object) -> TrialResult:
    """Return the result of a test that could not be made."""
    return TrialResult(rule, tried, Result.NOT_RUN, str(reason))


def coming(rule_id: str, snapshot: Snapshot) -> Value | None:
    """Return the value of a rule once what waits has happened; None where none is read and enforced."""
    reading = in_force(rule_id, snapshot)
    return None if reading is None else reading.value if reading.pending is None else reading.pending


def names_of(subject: TrialAccount) -> frozenset[str]:
    """Return the entries by which a list can name an account: its own, and one for each of its groups."""
    return frozenset({subject.account, *(f"{GROUP}{group}" for group in subject.groups)})


def is_listed(subject: TrialAccount, listed: Value | None) -> bool:
    """Return whether a list of accounts and groups names everyone, the account or a group of it."""
    return isinstance(listed, frozenset) and bool((names_of(subject) | {EVERYONE}) & listed)
