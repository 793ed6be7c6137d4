"""Every rule that a Linux system keeps, one keeper each; what it has none of, and where derived ones are read from."""

from collections.abc import Mapping

from verrou.core.model import Reading, absent, unreadable
from verrou.core.plan.steps import SetRules
from verrou.core.values import AcceptedValues
from verrou.machines.linux.files.account_files import SHADOW
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import elevation, idle, lockout, logon, notice, outside, password, rights, screen
from verrou.machines.linux.rules.keeper import LinuxRuleAdapter, System

__all__ = ["ABSENT", "DERIVED", "KEEPERS", "System", "readings", "set_rules", "takes"]

KEEPERS: Mapping[str, LinuxRuleAdapter] = {
    **password.KEEPERS,
    **lockout.KEEPERS,
    **logon.KEEPERS,
    **elevation.KEEPERS,
    **rights.KEEPERS,
    **screen.KEEPERS,
    **notice.KEEPERS,
    **idle.KEEPERS,
    **outside.KEEPERS,
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
    "builtin.guest_enabled": "not kept: there is no built-in guest account",
    "builtin.admin_name": "not kept: programs rely on the name root, so it is not changed",
    "builtin.guest_name": "not kept: there is no built-in guest account",
    "population.ageing_exempt": "the longest age in each account's line of /etc/shadow",
    "population.unused_for": "the last sign-in in lastlog, wtmp, or the databases of lastlog2 and wtmpdb, whichever "
    "the system writes; of who never signed in, the day of the password in "
    "/etc/shadow, or the first day that the record reaches back to",
    "population.temporary_limit": "the end date in each account's line of /etc/shadow",
    "population.hints": "not kept: no such hints",
    "population.recovery_questions": "not kept: no such questions",
}
"""Where the facts stand that a rule is derived from, where that is worth saying."""


def readings(system: System) -> dict[str, Reading]:
    """Every rule that is not derived."""
    kept = {rule_id: _read(keeper, system) for rule_id, keeper in KEEPERS.items()}
    return kept | {rule_id: absent(reason) for rule_id, reason in ABSENT.items()}


def _read(keeper: LinuxRuleAdapter, system: System) -> Reading:
    """What a keeper reads; nothing can be known where it asks for a file that we may not read."""
    root = system.root
    root.asked.clear()
    reading = keeper.read(system)
    needed = {SHADOW} if keeper.in_shadow else set()
    hidden = sorted((root.asked | needed) & root.denied.keys())
    return unreadable(f"{hidden[0]} can be read by root alone", "run as root") if hidden else reading


def takes(system: System) -> dict[str, AcceptedValues]:
    """What the system takes, by rule."""
    return {rule_id: keeper.takes_on(system) for rule_id, keeper in KEEPERS.items()}


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """What Verrou wrote about an account, or a group as ``group:NAME``, follows it to its new name, or goes with it."""
    for family in (logon, rights, screen):
        family.named_otherwise(root, name, new_name)


def set_rules(root: Root, step: SetRules) -> str:
    """Set the rules of one step; answers with what is worth saying. Raises Refused."""
    said = []
    for rule_id, value in step.values.items():
        keeper = KEEPERS.get(rule_id)
        if keeper is None:
            raise StepRejected(f"a Linux machine does not keep {rule_id}")
        said.append(keeper.write(root, value))
    if step.values.keys() & lockout.KEEPERS.keys():
        said.append(lockout.in_stack(root))
    return "; ".join(dict.fromkeys(text for text in said if text))
