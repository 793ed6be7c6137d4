"""What a reading says, in a sentence."""

from verrou.core.model import Reading, Status
from verrou.core.rules import WHEN, Rule


def reading_says(rule: Rule, reading: Reading) -> str:
    """How a rule stands on a machine."""
    if reading.status is Status.NOT_APPLICABLE:
        return f"not applicable on this machine: {rule.title}"
    if reading.status is Status.UNKNOWN:
        return f"not known: {rule.title}"
    if reading.value is None:
        return f"{rule.title}: not set"
    said = rule.say(reading.value)
    if not reading.enforced:
        said = f"{rule.title}: {rule.kind.say(reading.value)} (configured but not enforced)"
    if reading.pending is not None:
        said += f" ({rule.kind.say(reading.pending)} {WHEN[rule.takes_effect]})"
    return said
