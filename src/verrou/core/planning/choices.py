"""A preset as values for one machine."""

from verrou.core.model import Snapshot, Status
from verrou.core.rules import CATALOGUE, PRESETS, Rule, reading_of
from verrou.core.values import Value


def values_of(snapshot: Snapshot, name: str) -> tuple[dict[str, Value], list[str]]:
    """Return the values that a preset sets on a machine, and the rules it leaves out, with the reason.

    A value that the machine does not accept is replaced by the next stricter one."""
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
            left_out.append(f"{rule_id}: {rule.kind.why_not_accepted(value, snapshot.accepted_values[rule_id])}")
        else:
            values[rule_id] = taken
    return values, left_out


def _taken(rule: Rule, value: Value, snapshot: Snapshot) -> Value | None:
    """Return the value, or the next stricter one that the machine accepts; None where it accepts none."""
    accepted_values = snapshot.accepted_values.get(rule.id)
    if accepted_values is None or not rule.kind.why_not_accepted(value, accepted_values):
        return value
    return None if accepted_values.cannot else rule.kind.accepted_instead(value, accepted_values)


def preset_names() -> list[str]:
    """Return every preset, strictest first."""
    return [name for presets in PRESETS.values() for name in presets]
