"""What being in a group means, in words."""

from collections.abc import Iterator

from verrou.core.model import Group, Snapshot
from verrou.core.model.access import ways_given, ways_taken
from verrou.core.rules import CATALOGUE
from verrou.core.values import GROUP


def gives(group: Group, snapshot: Snapshot) -> list[str]:
    """What being in the group gives and takes: what it grants, the ways that it opens and closes, and the other rules
    whose lists name it."""
    closed = ways_taken(group, snapshot)
    return [
        *(str(grant) for grant in group.grants),
        *(f"route: {way}" for way in ways_given(group, snapshot) if way not in closed),
        *([f"denies {', '.join(closed)}"] if closed else []),
        *(f"named in {rule_id}" for rule_id in naming(group, snapshot)),
    ]


def naming(group: Group, snapshot: Snapshot) -> Iterator[str]:
    """The rules whose lists name the group, but for those of the ways in."""
    for rule_id, reading in snapshot.readings.items():
        rule = CATALOGUE.get(rule_id)
        if rule is None or rule.family == "logon" or not isinstance(reading.value, frozenset):
            continue
        if f"{GROUP}{group.name}" in reading.value | _coming(reading.pending):
            yield rule_id


def _coming(pending: object) -> frozenset[str]:
    return pending if isinstance(pending, frozenset) else frozenset()
