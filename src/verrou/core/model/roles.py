"""What an account is given for a role. The one place that defines it."""

from collections.abc import Mapping

from verrou.core.model import Grant, Role

ROLE_GRANTS: Mapping[Role, tuple[Grant, ...]] = {
    Role.STANDARD: (Grant.ORDINARY_USE,),
    Role.GUEST: (Grant.GUEST_USE,),
    Role.ADMINISTRATOR: (Grant.ORDINARY_USE, Grant.ADMINISTRATION),
}
"""What gives an account a role: grants of groups, and flags that make it last."""
ROLES_COME_FROM = {grant for grants in ROLE_GRANTS.values() for grant in grants}
