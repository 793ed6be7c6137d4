"""What an account is given so that it amounts to a role. The one place that says so."""

from collections.abc import Mapping

from verrou.core.model import Grant, Role

ROLE_GRANTS: Mapping[Role, tuple[Grant, ...]] = {
    Role.STANDARD: (Grant.ORDINARY_USE,),
    Role.GUEST: (Grant.GUEST_USE,),
    Role.ADMINISTRATOR: (Grant.ORDINARY_USE, Grant.ADMINISTRATION),
}
"""What an account needs to be given to amount to a role, what makes the role last."""
ROLES_COME_FROM = {grant for grants in ROLE_GRANTS.values() for grant in grants}
