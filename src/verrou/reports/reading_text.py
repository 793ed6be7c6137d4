"""Text of a reading."""

from verrou.core.model import Reading, Status
from verrou.core.rules import WHEN, Rule


def reading_text(rule: Rule, reading: Reading) -> str:
    """Return the state of a rule on a machine as a sentence."""
    if reading.status is Status.NOT_APPLICABLE:
        return f"not applicable on this machine: {rule.title}"
    if reading.status is Status.UNKNOWN:
        return f"not known: {rule.title}"
    if reading.value is None:
        return f"{rule.title}: not set"
    message = rule.format(reading.value)
    if not reading.enforced:
        message = f"{rule.title}: {rule.kind.format(reading.value)} (configured but not enforced)"
    if reading.pending is not None:
        coming = "changes" if isinstance(reading.pending, bool) else rule.kind.format(reading.pending)
        message += f" ({coming} {WHEN[rule.takes_effect]})"
    return message
