"""Outcome of an elevation request, derived account by account from the facts."""

from collections.abc import Mapping
from enum import StrEnum

from verrou.core.model.access import role_of
from verrou.core.model.facts import Account, Builtin, Reading, Role, Source, Status
from verrou.core.model.snapshot import Snapshot
from verrou.core.values import Value


class Program(StrEnum):
    """What asks for elevation: system programs, signed, unsigned, installers, and remote help."""

    SYSTEM_PART = "system-part"
    SIGNED = "signed"
    UNSIGNED = "unsigned"
    INSTALLER = "installer"
    REMOTE_HELP = "remote-help"


class PromptOutcome(StrEnum):
    """Outcome of an elevation request, ordered from least to most strict."""

    NO_PROMPT = "no-prompt"
    CONFIRM = "confirm"
    OWN_PASSWORD = "own-password"
    ADMIN_PASSWORD = "admin-password"
    DENIED = "denied"
    UNKNOWN = "unknown"


class ElevationSubject(StrEnum):
    """Kind of account, as elevation rules tell accounts apart."""

    ADMINISTRATOR = "administrator"
    BUILT_IN = "built-in"
    STANDARD = "standard"
    GUEST = "guest"


GIVES = {"nothing": PromptOutcome.NO_PROMPT, "approval": PromptOutcome.CONFIRM, "password": PromptOutcome.OWN_PASSWORD}
SUDO_ASKS = {"none": PromptOutcome.NO_PROMPT, "own": PromptOutcome.OWN_PASSWORD, "root's": PromptOutcome.ADMIN_PASSWORD}
"""Prompt by the password that a line of sudoers(5) asks for."""


def rule_outcome(who: ElevationSubject, program: Program, values: Mapping[str, Value]) -> PromptOutcome:
    """Return the outcome by the enforced values of ``elevation.*``; a rule without a value asks for nothing."""
    standing = values.get("elevation.standard_gives", "denied")
    if who is ElevationSubject.GUEST or (who is ElevationSubject.STANDARD and standing == "denied"):
        return PromptOutcome.DENIED
    if program is Program.INSTALLER and values.get("elevation.installers") == "fail":
        return PromptOutcome.DENIED
    if program is Program.UNSIGNED and values.get("elevation.unsigned_programs") == "denied":
        return PromptOutcome.DENIED
    rule = "elevation.builtin_gives" if who is ElevationSubject.BUILT_IN else "elevation.administrator_gives"
    gives = (
        PromptOutcome.ADMIN_PASSWORD if who is ElevationSubject.STANDARD else GIVES[str(values.get(rule, "nothing"))]
    )
    entries = program is Program.SYSTEM_PART and values.get("elevation.system_parts", "pass") == "pass"
    if gives is PromptOutcome.NO_PROMPT or (entries and who is not ElevationSubject.STANDARD):
        return PromptOutcome.NO_PROMPT
    apart = values.get("elevation.prompt_apart") is True
    if program is Program.REMOTE_HELP and apart and values.get("elevation.helpers_reach_prompt") is False:
        return PromptOutcome.DENIED
    return gives


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
    return rule_outcome(subject_of(account, snapshot), program, _values(snapshot))


def is_the_system(account: Account, snapshot: Snapshot) -> bool:
    """Return whether an account has the ID as which the system itself works, under any name."""
    admin = snapshot.builtin(Builtin.ADMIN)
    return snapshot.machine.admin_ageing_exempt and admin is not None and admin.identity == account.identity


def decided_by(account: Account, snapshot: Snapshot) -> Reading | None:
    """Return the rule that decides the outcome."""
    which = {ElevationSubject.BUILT_IN: "builtin_gives", ElevationSubject.ADMINISTRATOR: "administrator_gives"}
    key = which.get(subject_of(account, snapshot), "standard_gives")
    return snapshot.readings.get(f"elevation.{key}")


def granted_by(account: Account, snapshot: Snapshot) -> tuple[Source, ...]:
    """Return the lines that make an account an administrator, by itself or through its groups."""
    found = {str(source): source for source in account.granted_by}
    for name in account.groups:
        group = snapshot.group(name) if name in snapshot.administering else None
        lines = (group.granted_by or (group.source,)) if group is not None else ()
        found |= {str(source): source for source in lines if source is not None}
    return tuple(found.values())


def _values(snapshot: Snapshot) -> dict[str, Value]:
    found: dict[str, Value] = {}
    for rule_id, reading in snapshot.readings.items():
        if rule_id.startswith("elevation.") and reading.value is not None and reading.enforced:
            found[rule_id] = reading.value
    return found
