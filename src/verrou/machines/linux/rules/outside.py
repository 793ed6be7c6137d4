"""Accounts from other sources on a Linux system."""

from collections.abc import Mapping

from verrou.core.model import Reading, program_default
from verrou.core.values import AcceptedValues, Value
from verrou.machines.linux.accounts.outside import NSSWITCH, outside_sources
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System


def _read(system: System) -> Reading:
    found = list(outside_sources(system.root))
    if not found:
        return Reading("forbidden", source=program_default("accounts are in the system's own files only"))
    name, source = found[0]
    message = f"{name} adds accounts of another computer"
    if not any(account.linked_identity for account in system.accounts):
        message += "; no file here lists them"
    return Reading("allowed", source=source, overrides=tuple(each for _, each in found[1:]), reason=message)


def _write(root: Root, value: Value) -> str:
    raise StepRejected(CANNOT)


CANNOT = f"remove the source from {NSSWITCH} and its module from the PAM stack manually, with the program that added it"
ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "population.linked_identities": LinuxRuleAdapter(
        f"the sources of passwd in {NSSWITCH} beside the system's own, and modules for directories in the auth stacks",
        _read,
        _write,
        AcceptedValues(words=("allowed", "forbidden")),
        lambda _: CANNOT,
    )
}
