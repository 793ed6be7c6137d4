"""Outcome of an elevation request, derived account by account from the facts."""

from collections.abc import Container, Mapping
from enum import StrEnum

from verrou.core.model.access import role_of
from verrou.core.model.facts import Account, Builtin, Reading, Role, Source, Status
from verrou.core.model.programs import ElevationSubject, Program
from verrou.core.model.snapshot import Snapshot
from verrou.core.values import Value, cells_of


class PromptOutcome(StrEnum):
    """Outcome of an elevation request, ordered from least to most strict."""

    NO_PROMPT = "no-prompt"
    CONFIRM = "confirm"
    OWN_PASSWORD = "own-password"
    ADMIN_PASSWORD = "admin-password"
    DENIED = "denied"
    UNKNOWN = "unknown"


GIVES = {
    "nothing": PromptOutcome.NO_PROMPT,
    "approval": PromptOutcome.CONFIRM,
    "password": PromptOutcome.OWN_PASSWORD,
    "admin-password": PromptOutcome.ADMIN_PASSWORD,
    "denied": PromptOutcome.DENIED,
}
"""Outcome by the word in a cell of a rule ``elevation.<kind>``."""
SUDO_ASKS = {"none": PromptOutcome.NO_PROMPT, "own": PromptOutcome.OWN_PASSWORD, "root's": PromptOutcome.ADMIN_PASSWORD}
"""Prompt by the password that a line of sudoers(5) asks for."""


def rule_outcome(who: ElevationSubject, program: Program, values: Mapping[str, Value]) -> PromptOutcome:
    """Return the outcome by the enforced values of ``elevation.*``; without a rule about them, administrators are asked
    for nothing and others are denied."""
    table = values.get(rule_about(who, values))
    ranked = (ElevationSubject.ADMINISTRATOR, ElevationSubject.BUILT_IN)
    otherwise = PromptOutcome.NO_PROMPT if who in ranked else PromptOutcome.DENIED
    gives = otherwise if table is None else GIVES[cells_of(table)[program]]
    if gives in (PromptOutcome.NO_PROMPT, PromptOutcome.DENIED):
        return gives
    apart = values.get("elevation.prompt_apart") is True
    if program is Program.REMOTE_HELP and apart and values.get("elevation.helpers_reach_prompt") is False:
        return PromptOutcome.DENIED
    return gives


def rule_about(who: ElevationSubject, known: Container[str]) -> str:
    """Return the rule about a kind of account. A machine without one about guests treats them as standard users."""
    rule_id = f"elevation.{who}"
    if who is ElevationSubject.GUEST and rule_id not in known:
        return f"elevation.{ElevationSubject.STANDARD}"
    return rule_id


def subject_of(account: Account, snapshot: Snapshot) -> ElevationSubject:
    """Return which kind of account it is to elevation, whatever its name."""
    if account.builtin is Builtin.ADMIN:
        return ElevationSubject.BUILT_IN
    role = role_of(account, snapshot)
    if role is Role.ADMINISTRATOR:
        return ElevationSubject.ADMINISTRATOR
    return ElevationSubject.GUEST if role is Role.GUEST else ElevationSubject.STANDARD


def elevation_outcome(account: Account, snapshot: Snapshot, program: Program = Program.SIGNED) -> PromptOutcome:
    """Return the outcome of a program's request for elevation.

    Where configuration lines about the account say whose password it gives, they apply to every program."""
    if is_the_system(account, snapshot):
        return PromptOutcome.NO_PROMPT
    if account.elevation_asks in SUDO_ASKS and subject_of(account, snapshot) is ElevationSubject.ADMINISTRATOR:
        return SUDO_ASKS[account.elevation_asks]
    reading = decided_by(account, snapshot)
    if reading is not None and reading.status is Status.UNKNOWN:
        return PromptOutcome.UNKNOWN
    return rule_outcome(subject_of(account, snapshot), program, elevation_values(snapshot))


def is_the_system(account: Account, snapshot: Snapshot) -> bool:
    """Return whether an account has the ID as which the system itself works, under any name."""
    admin = snapshot.builtin(Builtin.ADMIN)
    return snapshot.machine.admin_ageing_exempt and admin is not None and admin.identity == account.identity


def decided_by(account: Account, snapshot: Snapshot) -> Reading | None:
    """Return the rule that decides the outcome."""
    who = subject_of(account, snapshot)
    reading = snapshot.readings.get(rule_about(who, snapshot.readings))
    if reading is not None and reading.status is Status.NOT_APPLICABLE:
        return snapshot.readings.get(rule_about(who, ()))
    return reading


def granted_by(account: Account, snapshot: Snapshot) -> tuple[Source, ...]:
    """Return the lines that make an account an administrator, by itself or through its groups."""
    found = {str(source): source for source in account.granted_by}
    for name in account.groups:
        group = snapshot.group(name) if name in snapshot.administering else None
        lines = (group.granted_by or (group.source,)) if group is not None else ()
        found |= {str(source): source for source in lines if source is not None}
    return tuple(found.values())


def elevation_values(snapshot: Snapshot) -> dict[str, Value]:
    """Return the enforced values of ``elevation.*``."""
    found: dict[str, Value] = {}
    for rule_id, reading in snapshot.readings.items():
        if rule_id.startswith("elevation.") and reading.value is not None and reading.enforced:
            found[rule_id] = reading.value
    return found
