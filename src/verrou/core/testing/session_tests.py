"""Tests of what a signed-in user may do to the machine, and of the limits of shared use."""

from collections.abc import Callable, Iterator
from functools import partial

from verrou.core.model import Role, Snapshot
from verrou.core.model.acts import INSTALLER, RIGHTS
from verrou.core.model.verdicts import TrialResult
from verrou.core.testing.attempts import (
    Answer,
    CannotTry,
    TrialAccount,
    coming,
    in_force,
    is_listed,
    judge,
    not_run,
)
from verrou.core.values import EVERYONE, GROUP, Value

HIDDEN, CLOSED, COVERED = "sharing.hidden_drives", "sharing.settings_closed", "sharing.applies_to"


def rights_trial(subject: TrialAccount, snapshot: Snapshot, role: Role) -> Iterator[TrialResult]:
    """Shut the machine down, set its clock, install: by the account's own right, without elevation."""
    for act, rule in RIGHTS.items():
        reading = in_force(rule, snapshot)
        if reading is None:
            continue
        message = f"a temporary {role} account wants to {act.phrase}"
        if role is Role.ADMINISTRATOR and _names_people_alone(reading.value):
            yield not_run(rule, message, "the right is read of certain accounts, and the temporary one is none of them")
            continue
        try:
            yield judge(rule, message, subject.act(act), is_listed(subject, reading.value))
        except CannotTry as reason:
            yield not_run(rule, message, reason)
    reading = in_force(INSTALLER, snapshot)
    if reading is not None:
        message = f"a temporary {role} account starts an installer"
        may = reading.value == "everyone" or (reading.value == "administrators" and role is Role.ADMINISTRATOR)
        try:
            yield judge(INSTALLER, message, subject.run_installer(), may)
        except CannotTry as reason:
            yield not_run(INSTALLER, message, reason)


def _names_people_alone(listed: Value | None) -> bool:
    return isinstance(listed, frozenset) and bool(listed) and not any(n == EVERYONE or GROUP in n for n in listed)


def sharing_trial(subject: TrialAccount, snapshot: Snapshot, role: Role) -> Iterator[TrialResult]:
    """Open each drive and the settings: those whom the limits cover cannot, and others, administrators too, can.

    A limit that waits for a sign-in counts, since the account signs in for the test."""
    hidden, closed, listed = (coming(rule, snapshot) for rule in (HIDDEN, CLOSED, COVERED))
    covered = role is not Role.ADMINISTRATOR and is_listed(subject, listed)
    who = f"a temporary {role} account{'' if covered else ', which the limits do not cover,'}"
    limits: list[tuple[str, str, Callable[[], Answer], bool]] = []
    for drive in subject.drives if isinstance(hidden, frozenset) else ():
        out_of_sight = isinstance(hidden, frozenset) and bool({drive, "all"} & hidden)
        limits.append((HIDDEN, f"{who} opens the drive: {drive}", partial(subject.browse, drive), out_of_sight))
    if isinstance(closed, bool):
        limits.append((CLOSED, f"{who} opens the settings", subject.open_settings, closed))
    if covered and not any(limited for *_, limited in limits):
        yield not_run(COVERED, f"{who} is limited", "no drive is hidden, and the settings are not closed")
    for rule, message, attempt, limited in limits:
        about = COVERED if limited and not covered else rule
        try:
            yield judge(about, message, attempt(), not (limited and covered))
        except CannotTry as reason:
            yield not_run(about, message, reason)
