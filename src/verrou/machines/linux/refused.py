"""How the deeds on a Linux system say no."""


class StepRejected(Exception):
    """A step that the system rejects; the message says why."""
