"""What can be done on a machine."""

from enum import StrEnum


class Run(StrEnum):
    """What was done on the machine."""

    SURVEY = "survey"
    AUDIT = "audit"
    HARDEN = "harden"
    VERIFY = "verify"
    UNDO = "undo"
