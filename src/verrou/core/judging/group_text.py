"""Effects of group membership, in words."""

from collections.abc import Iterator

from verrou.core.model import Group, Snapshot
from verrou.core.model.access import denied_routes, granted_routes
from verrou.core.rules import CATALOGUE
from verrou.core.values import GROUP


def gives(group: Group, snapshot: Snapshot) -> list[str]:
    """Return what membership grants and denies: grants, routes, and the other rules that name the group."""
    closed = denied_routes(group, snapshot)
    return [
        *(str(grant) for grant in group.grants),
        *(f"route: {route}" for route in granted_routes(group, snapshot) if route not in closed),
        *([f"denies {', '.join(closed)}"] if closed else []),
        *(f"named in {rule_id}" for rule_id in naming(group, snapshot)),
    ]


def naming(group: Group, snapshot: Snapshot) -> Iterator[str]:
    """Yield the rules whose lists name the group, apart from those of sign-in routes."""
    for rule_id, reading in snapshot.readings.items():
        rule = CATALOGUE.get(rule_id)
        if rule is None or rule.family == "logon" or not isinstance(reading.value, frozenset):
            continue
        if f"{GROUP}{group.name}" in reading.value | _coming(reading.pending):
            yield rule_id


def _coming(pending: object) -> frozenset[str]:
    return pending if isinstance(pending, frozenset) else frozenset()
