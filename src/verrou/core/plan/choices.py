"""A named preset as values for one machine."""

from verrou.core.model import Snapshot, Status
from verrou.core.rules import CATALOGUE, PRESETS, Rule, reading_of
from verrou.core.values import Value


def values_of(snapshot: Snapshot, name: str) -> tuple[dict[str, Value], list[str]]:
    """What a preset sets on a machine: its own values, or the next stricter one that the machine takes; and the rules
    that are left out, each with the reason."""
    chosen = next(presets[name] for presets in PRESETS.values() if name in presets)
    values: dict[str, Value] = {}
    left_out: list[str] = []
    for rule_id, raw in chosen.values.items():
        rule = CATALOGUE[rule_id]
        reading = reading_of(rule, snapshot)
        value = rule.kind.parse(raw)
        taken = value if reading.status is Status.NOT_APPLICABLE else _taken(rule, value, snapshot)
        if reading.status is Status.NOT_APPLICABLE:
            left_out.append(f"{rule_id}: {reading.reason}")
        elif taken is None:
            left_out.append(f"{rule_id}: {rule.kind.why_not_accepted(value, snapshot.takes[rule_id])}")
        else:
            values[rule_id] = taken
    return values, left_out


def _taken(rule: Rule, value: Value, snapshot: Snapshot) -> Value | None:
    """The value, or the next stricter word that the machine takes; None where it takes none of them."""
    takes = snapshot.takes.get(rule.id)
    if takes is None or not rule.kind.why_not_accepted(value, takes):
        return value
    words = () if takes.cannot else takes.words or ()
    stricter = [word for word in words if rule.kind.at_least(word, value)]
    return min(stricter, key=rule.kind.rank, default=None)


def preset_names() -> list[str]:
    """Every named preset, from the one that asks most of people to the one that asks least."""
    return [name for presets in PRESETS.values() for name in presets]
