"""What can go wrong, each with the exit code that the command line gives it.

0 success; 1 a requirement is not met or a test failed; 2 wrong usage or unreadable input; 3 blocked by a guard;
4 rejected by the machine, or interrupted; 5 not enough rights; 6 cancelled.
"""


class VerrouError(Exception):
    """A failure that is told to the person in one line. ``exit_code`` is what the command ends with."""

    exit_code = 2


class BadInput(VerrouError):
    """A file or an argument that cannot be used; the message says what was found, where, and what to do."""

    exit_code = 2


class GuardRefused(VerrouError):
    """A worksheet that would break a promise; nothing was touched."""

    exit_code = 3


class MachineRefused(VerrouError):
    """The machine's own authority said no, or a run broke off."""

    exit_code = 4


class BrokeOff(MachineRefused):
    """A run that began to change the machine and could not finish."""


class NotEnoughRights(VerrouError):
    """The operating system did not let us read or write what is needed."""

    exit_code = 5


class NotAgreed(VerrouError):
    """Somebody was asked, and did not say yes."""

    exit_code = 6
