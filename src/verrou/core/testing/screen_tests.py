"""Tests of the sign-in screen, the lock of idle sessions and automatic sign-in."""

from collections.abc import Iterator
from datetime import timedelta

from verrou.core.model import AccountName, Reading, Role, Snapshot, joined
from verrou.core.model.access import role_of
from verrou.core.model.screens import screens_of
from verrou.core.model.verdicts import TrialResult
from verrou.core.rules import CATALOGUE
from verrou.core.testing.attempts import CannotTry, TrialAccount, coming, in_force, judge, judge_seen, not_run
from verrou.core.values import Notice, format_duration

LISTED, LAST, BUTTON = "screen.hidden_accounts", "screen.shows_last_account", "screen.shut_down_button"
NOTICE, KEYS = "screen.notice", "screen.attention_key"
LOCKS, SHOWS, AUTOMATIC = "screen.locks_after", "screen.locked_shows", "screen.automatic_signin"
_MOMENT = timedelta(seconds=5)


def screen_trial(subject: TrialAccount, snapshot: Snapshot, when: str = "", last: str = "") -> Iterator[TrialResult]:
    """Look at the sign-in screen, and sign in without the attention keys.

    ``when`` is put behind what is done; ``last`` is who has signed in since the snapshot."""
    about = {rule: reading for rule in (LISTED, LAST, BUTTON, KEYS) if (reading := in_force(rule, snapshot))}
    tried = f"looks at the sign-in screen{when}"
    try:
        screen = subject.first_screen()
    except CannotTry as reason:
        yield from (not_run(rule, tried, reason) for rule in about)
    else:
        shown = screens_of(snapshot)
        required = {
            LISTED: joined(shown.listed or ()) or "nobody",
            LAST: (shown.last and last) or shown.last or "nobody",
            BUTTON: _yes_no(about.get(BUTTON)),
            KEYS: "asked for" if KEYS in about and about[KEYS].value == "required" else "not asked for",
        }
        seen = {
            LISTED: joined([name for name in screen.listed if name != subject.account]) or "nobody",
            LAST: screen.last or "nobody",
            BUTTON: "a button" if screen.button else "no button",
            KEYS: "asked for" if screen.asks_keys else "not asked for",
        }
        what = {LISTED: "accounts", LAST: "last account", BUTTON: "to shut down", KEYS: "attention keys"}
        yield from (judge_seen(rule, f"{tried}: {what[rule]}", seen[rule], required[rule]) for rule in about)
    if KEYS in about:
        tried = f"signs in without the attention keys{when}"
        try:
            yield judge(KEYS, tried, subject.sign_in_without_keys(), about[KEYS].value == "not-required")
        except CannotTry as reason:
            yield not_run(KEYS, tried, reason)
    yield from _notice_trial(subject, snapshot, when)


def _yes_no(reading: Reading | None) -> str:
    return "a button" if reading is not None and reading.value is True else "no button"


def _notice_trial(subject: TrialAccount, snapshot: Snapshot, when: str) -> Iterator[TrialResult]:
    reading, kind = in_force(NOTICE, snapshot), CATALOGUE[NOTICE].kind
    if reading is None or not isinstance(reading.value, Notice):
        return
    tried = f"reads the notice before sign-in{when}"
    try:
        seen = subject.notice()
    except CannotTry as reason:
        yield not_run(NOTICE, tried, reason)
        return
    same = kind.same(seen, reading.value)
    yield judge_seen(NOTICE, tried, kind.format(reading.value if same else seen), kind.format(reading.value))


def lock_trial(subject: TrialAccount, snapshot: Snapshot) -> Iterator[TrialResult]:
    """Be idle for a moment less than the time and for the time, and look at the locked screen."""
    reading = in_force(LOCKS, snapshot)
    if reading is not None and reading.value is not None:
        if isinstance(reading.value, timedelta):
            spans = [(reading.value - _MOMENT, True), (reading.value, False)]
        else:
            spans = [(timedelta(days=1), True)]
        for span, stays in spans:
            message = f"signs in and is idle for {format_duration(span)}"
            try:
                yield judge(LOCKS, message, subject.idle(span), stays)
            except CannotTry as reason:
                yield not_run(LOCKS, message, reason)
                break
    shows = coming(SHOWS, snapshot)
    if not isinstance(shows, frozenset):
        return
    kind, message = CATALOGUE[SHOWS].kind, "looks at the locked screen"
    try:
        yield judge_seen(SHOWS, message, kind.format(subject.locked_screen()), kind.format(shows))
    except CannotTry as reason:
        yield not_run(SHOWS, message, reason)


def automatic_trial(name: str, snapshot: Snapshot) -> Iterator[TrialResult]:
    """Judge who is signed in when the copy has restarted."""
    allowed = coming(AUTOMATIC, snapshot)
    if allowed is None:
        return
    account = snapshot.by_name.get(AccountName(name))
    is_guest = account is not None and role_of(account, snapshot) is Role.GUEST
    seen = "nobody" if not name else "guests" if is_guest else "anyone"
    words = {"nobody": "no one is signed in", "guests": "a guest is signed in", "anyone": "a user is signed in"}
    yield judge_seen(AUTOMATIC, "the copy restarts", words[seen], words[str(allowed)])
