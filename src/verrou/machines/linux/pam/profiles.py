"""Adding modules to the PAM stack as profiles of the system's own mechanism, by its own updater."""

from collections.abc import Mapping

from verrou.machines.linux.pam.stack import UPDATER
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root

PROFILES = "/usr/share/pam-configs"
EDITED_BY_HAND = (
    "the managed block of /etc/pam.d/common-* was edited manually, so the system no longer updates it: "
    "run pam-auth-update and let it rewrite the block"
)


def add_profiles(root: Root, texts: Mapping[str, str]) -> None:
    """Add profiles, by name, where the system's own mechanism looks for them, and rebuild the stack.

    Raises: StepRejected: there is no such mechanism, or it failed."""
    _check_updater(root)
    for name, text in texts.items():
        root.write(f"{PROFILES}/{name}", text)
    update_stack(root)


def no_updater(root: Root, module: str = "modules") -> str:
    """Return why a module cannot be added to the stack; empty where it can."""
    if root.exists(UPDATER) and root.exists(PROFILES):
        return ""
    return f"{UPDATER} is not installed, so {module} must be added to the PAM stack manually"


def _check_updater(root: Root) -> None:
    if reason := no_updater(root):
        raise StepRejected(reason)


def update_stack(root: Root, *arguments: str) -> None:
    """Have the system rebuild its stack. Raises: StepRejected: there is no updater, or it failed."""
    _check_updater(root)
    if root.runner is None:
        raise StepRejected(f"{UPDATER} can run only in a private copy of the machine, and there is none")
    code, message = root.runner([UPDATER, "--package", *arguments])
    root.forget()
    if code != 0:
        words = message.strip().splitlines()
        raise StepRejected(f"{UPDATER} ended with {code}: {words[-1] if words else 'it gave no reason'}")
