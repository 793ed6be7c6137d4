"""The error of steps that a Linux system rejects."""


class StepRejected(Exception):
    """A step that the system rejects; the message says why."""
