"""Modules come into the PAM stack as profiles of the system's own mechanism, by its own updater."""

from verrou.machines.linux.inside import run_inside
from verrou.machines.linux.pam_stack import UPDATER
from verrou.machines.linux.root import Root

PROFILES = "/usr/share/pam-configs"
EDITED_BY_HAND = (
    "somebody edited the managed block of /etc/pam.d/common-* by hand, so the system no longer updates it: "
    "run pam-auth-update and let it rewrite the block"
)


class Refused(Exception):
    """A step that the system does not take; the message says why."""


def update_stack(root: Root, *arguments: str) -> None:
    """Have the system put its stack together anew.

    Raises:
        Refused: there is no updater, or it failed.
    """
    if not root.exists(UPDATER):
        raise Refused(f"there is no {UPDATER} here, so modules must be put into the PAM stack by hand")
    ended = run_inside(root, [UPDATER, "--package", *arguments])
    root.forget()
    if ended.returncode != 0:
        words = (ended.stderr or ended.stdout).strip().splitlines()
        raise Refused(f"{UPDATER} ended with {ended.returncode}: {words[-1] if words else 'no word why'}")
