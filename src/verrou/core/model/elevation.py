"""What somebody meets who wants administration: derived from what a machine keeps, account by account."""

from collections.abc import Mapping
from enum import StrEnum

from verrou.core.model.access import role_of
from verrou.core.model.facts import Account, Builtin, Reading, Role, Source, Status
from verrou.core.model.snapshot import Snapshot
from verrou.core.values import Value


class Program(StrEnum):
    """What wants administration: a part of the system, a program that somebody vouches for, one that nobody does, one
    that installs, one that helps from afar."""

    SYSTEM_PART = "system-part"
    SIGNED = "signed"
    UNSIGNED = "unsigned"
    INSTALLER = "installer"
    REMOTE_HELP = "remote-help"


class PromptOutcome(StrEnum):
    """What somebody meets, from the loosest to the strictest."""

    NO_PROMPT = "no-prompt"
    CONFIRM = "confirm"
    OWN_PASSWORD = "own-password"
    ADMIN_PASSWORD = "admin-password"
    DENIED = "denied"
    UNKNOWN = "unknown"


class ElevationSubject(StrEnum):
    """What an account is to elevation."""

    ADMINISTRATOR = "administrator"
    BUILT_IN = "built-in"
    STANDARD = "standard"
    GUEST = "guest"


GIVES = {"nothing": PromptOutcome.NO_PROMPT, "approval": PromptOutcome.CONFIRM, "password": PromptOutcome.OWN_PASSWORD}
SUDO_ASKS = {"none": PromptOutcome.NO_PROMPT, "own": PromptOutcome.OWN_PASSWORD, "root's": PromptOutcome.ADMIN_PASSWORD}
"""Whose password a line of sudoers(5) asks for, and what that is to whoever gives it."""


def rule_outcome(who: ElevationSubject, program: Program, values: Mapping[str, Value]) -> PromptOutcome:
    """What rules make of a request, by the values of ``elevation.*`` that are in force; what is missing asks
    nothing."""
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
    passes = program is Program.SYSTEM_PART and values.get("elevation.system_parts", "pass") == "pass"
    if gives is PromptOutcome.NO_PROMPT or (passes and who is not ElevationSubject.STANDARD):
        return PromptOutcome.NO_PROMPT
    apart = values.get("elevation.prompt_apart") is True
    if program is Program.REMOTE_HELP and apart and values.get("elevation.helpers_reach_prompt") is False:
        return PromptOutcome.DENIED
    return gives


def subject_of(account: Account, snapshot: Snapshot) -> ElevationSubject:
    """What an account is to elevation, whatever it is called."""
    if account.builtin is Builtin.ADMIN:
        return ElevationSubject.BUILT_IN
    role = role_of(account, snapshot)
    if role is Role.ADMINISTRATOR:
        return ElevationSubject.ADMINISTRATOR
    return ElevationSubject.GUEST if role is Role.GUEST else ElevationSubject.STANDARD


def elevation_outcome(account: Account, snapshot: Snapshot, program: Program = Program.SIGNED) -> PromptOutcome:
    """What an account meets on a machine that wants a program to have administration. Where lines about the account
    decide whose password it gives, they do so for every program alike."""
    if is_the_system(account, snapshot):
        return PromptOutcome.NO_PROMPT
    if account.elevation_asks in SUDO_ASKS and subject_of(account, snapshot) is ElevationSubject.ADMINISTRATOR:
        return SUDO_ASKS[account.elevation_asks]
    reading = decided_by(account, snapshot)
    if reading is not None and reading.status is Status.UNKNOWN:
        return PromptOutcome.UNKNOWN
    return rule_outcome(subject_of(account, snapshot), program, _values(snapshot))


def is_the_system(account: Account, snapshot: Snapshot) -> bool:
    """Whether an account bears the identity as which the system itself works, under whatever name."""
    admin = snapshot.builtin(Builtin.ADMIN)
    return snapshot.machine.admin_left_out and admin is not None and admin.identity == account.identity


def decided_by(account: Account, snapshot: Snapshot) -> Reading | None:
    """The rule that decides what an account meets."""
    which = {ElevationSubject.BUILT_IN: "builtin_gives", ElevationSubject.ADMINISTRATOR: "administrator_gives"}
    key = which.get(subject_of(account, snapshot), "standard_gives")
    return snapshot.readings.get(f"elevation.{key}")


def granted_by(account: Account, snapshot: Snapshot) -> tuple[Source, ...]:
    """The lines that give an account administration, by itself or by its groups."""
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
