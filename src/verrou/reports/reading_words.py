"""What a reading says, in a sentence."""

from verrou.core.model import Reading, Status
from verrou.core.rules import WHEN, Rule


def reading_says(rule: Rule, reading: Reading) -> str:
    """How a rule stands on a machine."""
    if reading.status is Status.ABSENT:
        return f"there is no such rule here: {rule.title}"
    if reading.status is Status.UNREADABLE:
        return f"could not be read: {rule.title}"
    if reading.value is None:
        return f"{rule.title}: not set"
    said = rule.say(reading.value)
    if not reading.in_force:
        said = f"{rule.title}: set to {rule.kind.say(reading.value)}, but nothing acts on it"
    if reading.pending is not None:
        said += f" ({rule.kind.say(reading.pending)} {WHEN[rule.takes_effect]})"
    return said
