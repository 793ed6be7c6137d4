"""Where each rule is set, by kind of machine."""

from collections.abc import Mapping

from verrou.machines.kind import RulePlaces
from verrou.machines.registry import KINDS


def where_set(rule_id: str) -> Mapping[str, str]:
    """Return where a rule is set, by kind of machine.

    A derived rule is set where its facts are; a rule that a kind does not have has the reason instead."""
    places = {kind.name: kind.rule_places() for kind in KINDS}
    return {name: _place_of(rule_id, each) for name, each in places.items() if each is not None}


def why_untested(rule_id: str) -> Mapping[str, str]:
    """Return why no test shows a rule, by the kinds of machine that have the rule and no test of it."""
    places = {kind.name: kind.rule_places() for kind in KINDS}
    return {name: each.untested[rule_id] for name, each in places.items() if each and rule_id in each.untested}


def _place_of(rule_id: str, places: RulePlaces) -> str:
    if rule_id in places.adapters:
        return places.adapters[rule_id].where
    if rule_id in places.absent:
        return f"not available: {places.absent[rule_id]}"
    return places.derived.get(rule_id, "derived from the accounts")
