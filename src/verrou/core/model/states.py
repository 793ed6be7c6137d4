"""Notable states of an account: one word each, and the text of each."""

from collections.abc import Iterator, Mapping
from datetime import MAXYEAR
from enum import StrEnum

from verrou.core.model.access import administers, has_route, is_person, locked, routes_of
from verrou.core.model.ageing import expired, must_change, password_ages, usable_until
from verrou.core.model.background_jobs import keeps_running
from verrou.core.model.facts import Account, Grant, PasswordState
from verrou.core.model.snapshot import Snapshot
from verrou.core.model.text import counted, joined


class AccountState(StrEnum):
    """Notable state of an account, the most severe first."""

    SAME_IDENTITY = "duplicate-id"
    BLANK = "blank"
    CAN_SIGN_IN = "can-sign-in"
    OPEN_BY_KEY = "open-by-key"
    DISABLED = "disabled"
    NO_PASSWORD = "no-usable-password"
    EXPIRED = "expired"
    UNTIL = "until"
    LOCKED = "locked"
    PASSWORD_DUE = "change-due"
    FIXED = "fixed"
    DOES_NOT_AGE = "ageing-exempt"
    HINT = "hint"
    QUESTIONS = "recovery-questions"
    OUTSIDE = "linked-identity"
    SOME_COMMANDS = "root-commands"
    WITHOUT_PASSWORD = "no-prompt"
    KEY = "key"
    KEY_OPENS_OTHERS = "shared-key"
    STILL_ACTS = "still-runs"
    WRONG_TRIES = "failed-attempts"
    SIGNED_IN = "signed-in"
    KEEPS_RIGHTS = "keeps-rights"
    AWAITS_RIGHTS = "awaits-rights"


_States = Iterator[tuple[AccountState, str]]


def states_of(account: Account, snapshot: Snapshot) -> Mapping[AccountState, str]:
    """Return the notable states of an account, the most severe first, each with its text for a table."""
    found = {state: text for each in _SUBJECTS for state, text in each(account, snapshot)}
    return {state: found[state] for state in AccountState if state in found}


def _of_signing_in(account: Account, snapshot: Snapshot) -> _States:
    if not is_person(account) and has_route(account, snapshot):
        yield AccountState.CAN_SIGN_IN, "can sign in"
    if not account.enabled:
        yield AccountState.DISABLED, "disabled"
        if routes_of(account, snapshot):
            yield AccountState.OPEN_BY_KEY, "disabled, but can still sign in"
    if expired(account, snapshot, snapshot.machine.now.date()):
        yield AccountState.EXPIRED, f"expired after {usable_until(account, snapshot)}"
    elif account.until is not None and account.enabled:
        yield AccountState.UNTIL, f"until {account.until}"
    if account.locked_until is not None and locked(account, snapshot):
        by_itself = account.locked_until.year != MAXYEAR
        yield AccountState.LOCKED, f"locked until {f'{account.locked_until:%H:%M}' if by_itself else 'unlocked'}"
    if account.failed_attempts:
        yield AccountState.WRONG_TRIES, counted(account.failed_attempts, "failed attempt")
    if account.sessions:
        yield AccountState.SIGNED_IN, "signed in now"
    if account.session_grants is not None:
        now, in_session = administers(account, snapshot), Grant.ADMINISTRATION in account.session_grants
        if in_session and not now:
            yield AccountState.KEEPS_RIGHTS, "administrator until it signs out"
        if now and not in_session:
            yield AccountState.AWAITS_RIGHTS, "administrator from its next sign-in"


def _of_the_password(account: Account, snapshot: Snapshot) -> _States:
    if account.enabled and account.password is PasswordState.BLANK:
        yield AccountState.BLANK, "blank password"
    if account.enabled and account.password is PasswordState.NONE and is_person(account):
        yield AccountState.NO_PASSWORD, "no usable password"
    if must_change(account, snapshot, snapshot.machine.now.date()):
        yield AccountState.PASSWORD_DUE, "password change due"
    if account.cannot_change:
        yield AccountState.FIXED, "password fixed"
    if account.enabled and account.password is PasswordState.SET and not password_ages(account, snapshot):
        yield AccountState.DOES_NOT_AGE, "exempt from password ageing"
    if account.hint and useful_hint(account.hint):
        yield AccountState.HINT, "hint"
    if account.recovery_questions:
        yield AccountState.QUESTIONS, "recovery questions"


def _of_rights(account: Account, snapshot: Snapshot) -> _States:
    twin = next((other for other in snapshot.by_identity[account.identity] if other is not account), None)
    if twin is not None:
        yield AccountState.SAME_IDENTITY, f"same ID as {twin.name}"
    if account.linked_identity:
        yield AccountState.OUTSIDE, "linked to an online identity"
    if account.may_run:
        yield AccountState.SOME_COMMANDS, f"can run {counted(len(account.may_run), 'command')} as root"
    if account.elevation_asks == "none" and account.identity != "0":
        yield AccountState.WITHOUT_PASSWORD, "elevates without a prompt"


def _of_keys_and_jobs(account: Account, snapshot: Snapshot) -> _States:
    if account.keys:
        yield AccountState.KEY, "has a key" if account.keys == 1 else f"has {account.keys} keys"
    if opened := list(dict.fromkeys(act.opens for act in account.acts if act.opens)):
        yield AccountState.KEY_OPENS_OTHERS, f"its key signs in to {joined(opened)}"
    if is_person(account) and not has_route(account, snapshot) and keeps_running(account):
        yield AccountState.STILL_ACTS, "still runs jobs"


_SUBJECTS = (_of_signing_in, _of_the_password, _of_rights, _of_keys_and_jobs)


SAYS_NOTHING = ("none", "no hint", "nothing", "not given", "n/a")
"""Hints that reveal nothing, by the words people write into a required field."""


def useful_hint(hint: str) -> bool:
    """Return whether a hint may reveal something: not empty, not punctuation alone, and not in :data:`SAYS_NOTHING`."""
    message = hint.strip().strip(".!-").casefold()
    return any(c.isalnum() for c in message) and message not in SAYS_NOTHING
