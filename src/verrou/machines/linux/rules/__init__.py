"""Adapters of all rules of a Linux system; rules that it does not have; and sources of derived ones."""

from collections.abc import Mapping

from verrou.core.model import Reading, absent, unreadable
from verrou.core.steps.step import SetRules
from verrou.core.values import AcceptedValues
from verrou.machines.linux.files.account_files import SHADOW
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import (
    commands,
    elevation,
    idle,
    lockout,
    logon,
    notice,
    outside,
    password,
    rights,
    screen,
)
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System

__all__ = ["ABSENT", "ADAPTERS", "DERIVED", "System", "accepted_values", "readings", "set_rules"]

ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    **password.ADAPTERS,
    **lockout.ADAPTERS,
    **logon.ADAPTERS,
    **elevation.ADAPTERS,
    **commands.ADAPTERS,
    **rights.ADAPTERS,
    **screen.ADAPTERS,
    **notice.ADAPTERS,
    **idle.ADAPTERS,
    **outside.ADAPTERS,
}
ABSENT: Mapping[str, str] = {
    **elevation.ABSENT,
    **screen.ABSENT,
}
_BUILT_IN = (
    "the account with uid 0; disabled means that no password can match (! or * in /etc/shadow). Programs and elevation "
    "still run as it"
)
DERIVED: Mapping[str, str] = {
    "builtin.admin_enabled": _BUILT_IN,
    "builtin.guest_enabled": "not available: there is no built-in guest account",
    "builtin.admin_name": "not available: programs rely on the name root, so it is not changed",
    "builtin.guest_name": "not available: there is no built-in guest account",
    "population.ageing_exempt": "the longest age in each account's line of /etc/shadow",
    "population.unused_for": "the last sign-in in lastlog, wtmp, or the databases of lastlog2 and wtmpdb, whichever "
    "the system writes; of who never signed in, the day of the password in "
    "/etc/shadow, or the first day that the record reaches back to",
    "population.temporary_limit": "the end date in each account's line of /etc/shadow",
    "population.hints": "not available: a Linux system has no password hints",
    "population.recovery_questions": "not available: a Linux system has no recovery questions",
}
"""Source of a derived rule's facts, where it is worth naming."""


def readings(system: System) -> dict[str, Reading]:
    """Return every rule that is not derived."""
    kept = {rule_id: _read(adapter, system) for rule_id, adapter in ADAPTERS.items()}
    return kept | {rule_id: absent(reason) for rule_id, reason in ABSENT.items()}


def _read(adapter: LinuxRuleAdapter, system: System) -> Reading:
    """Return an adapter's reading; unreadable where it needs a file that is denied."""
    root = system.root
    root.asked.clear()
    reading = adapter.read(system)
    needed = {SHADOW} if adapter.in_shadow else set()
    hidden = sorted((root.asked | needed) & root.denied.keys())
    return unreadable(f"{hidden[0]} can be read by root alone", "run as root") if hidden else reading


def accepted_values(system: System) -> dict[str, AcceptedValues]:
    """Return the values that the system accepts, by rule."""
    return {rule_id: adapter.takes_on(system) for rule_id, adapter in ADAPTERS.items()}


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Apply a new name (of an account, or ``group:NAME``), or its removal, to what Verrou wrote about it."""
    for family in (commands, logon, rights, screen):
        family.named_otherwise(root, name, new_name)


def set_rules(root: Root, step: SetRules) -> str:
    """Set the rules of one step. Return what is worth reporting. Raises: StepRejected."""
    messages = []
    for rule_id, value in step.values.items():
        adapter = ADAPTERS.get(rule_id)
        if adapter is None:
            raise StepRejected(f"a Linux machine has no rule {rule_id}")
        messages.append(adapter.write(root, value))
    if step.values.keys() & lockout.ADAPTERS.keys():
        messages.append(lockout.in_stack(root))
    return "; ".join(dict.fromkeys(text for text in messages if text))
