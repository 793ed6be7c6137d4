"""Notable states of an account: one word each, and the text of each."""

from collections.abc import Mapping
from enum import StrEnum

from verrou.core.model.access import has_route, is_person, locked, routes_of
from verrou.core.model.ageing import expired, must_change, password_ages, usable_until
from verrou.core.model.background_jobs import keeps_running
from verrou.core.model.facts import Account, PasswordState
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


def states_of(account: Account, snapshot: Snapshot) -> Mapping[AccountState, str]:
    """Return the notable states of an account, the most severe first, each with its text for a table."""
    found = {state: _words(state, account, snapshot) for state in AccountState}
    return {state: words for state, words in found.items() if words}


def _words(state: AccountState, account: Account, snapshot: Snapshot) -> str:
    """Return the text of a state; empty where the account is not in it."""
    now = snapshot.machine.now
    past_end = expired(account, snapshot, now.date())
    match state:
        case AccountState.SAME_IDENTITY:
            twin = next((other for other in snapshot.by_identity[account.identity] if other is not account), None)
            return f"same ID as {twin.name}" if twin is not None else ""
        case AccountState.BLANK:
            return "blank password" if account.password is PasswordState.BLANK and account.enabled else ""
        case AccountState.CAN_SIGN_IN:
            return "can sign in" if not is_person(account) and has_route(account, snapshot) else ""
        case AccountState.OPEN_BY_KEY:
            return "disabled, but can still sign in" if not account.enabled and routes_of(account, snapshot) else ""
        case AccountState.DISABLED:
            return "" if account.enabled else "disabled"
        case AccountState.NO_PASSWORD:
            without = account.enabled and account.password is PasswordState.NONE and is_person(account)
            return "no usable password" if without else ""
        case AccountState.EXPIRED:
            return f"expired after {usable_until(account, snapshot)}" if past_end else ""
        case AccountState.UNTIL:
            return f"until {account.until}" if account.until is not None and account.enabled and not past_end else ""
        case AccountState.LOCKED:
            until = account.locked_until
            if until is None or not locked(account, snapshot):
                return ""
            return "locked until unlocked" if until.year == 9999 else f"locked until {until:%H:%M}"
        case AccountState.PASSWORD_DUE:
            return "password change due" if must_change(account, snapshot, now.date()) else ""
        case AccountState.FIXED:
            return "password fixed" if account.cannot_change else ""
        case AccountState.DOES_NOT_AGE:
            set_and_open = account.enabled and account.password is PasswordState.SET
            return "exempt from password ageing" if set_and_open and not password_ages(account, snapshot) else ""
        case AccountState.HINT:
            return "hint" if account.hint and useful_hint(account.hint) else ""
        case AccountState.QUESTIONS:
            return "recovery questions" if account.recovery_questions else ""
        case AccountState.OUTSIDE:
            return "linked to an online identity" if account.linked_identity else ""
        case AccountState.SOME_COMMANDS:
            return f"can run {counted(len(account.may_run), 'command')} as root" if account.may_run else ""
        case AccountState.WITHOUT_PASSWORD:
            free = account.elevation_asks == "none" and account.identity != "0"
            return "elevates without a prompt" if free else ""
        case AccountState.KEY:
            return "has a key" if account.keys == 1 else f"has {account.keys} keys" if account.keys else ""
        case AccountState.KEY_OPENS_OTHERS:
            opened = list(dict.fromkeys(act.opens for act in account.acts if act.opens))
            return f"its key signs in to {joined(opened)}" if opened else ""
        case AccountState.STILL_ACTS:
            return (
                "still runs jobs"
                if is_person(account) and not has_route(account, snapshot) and keeps_running(account)
                else ""
            )
        case AccountState.WRONG_TRIES:
            return counted(account.failed_attempts, "failed attempt") if account.failed_attempts else ""
        case AccountState.SIGNED_IN:
            return "signed in now" if account.sessions else ""


SAYS_NOTHING = ("none", "no hint", "nothing", "not given", "n/a")
"""Hints that reveal nothing, by the words people write into a required field."""


def useful_hint(hint: str) -> bool:
    """Return whether a hint may reveal something: not empty, not punctuation alone, and not in :data:`SAYS_NOTHING`."""
    message = hint.strip().strip(".!-").casefold()
    return any(c.isalnum() for c in message) and message not in SAYS_NOTHING
