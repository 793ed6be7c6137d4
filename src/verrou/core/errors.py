"""Errors, each with the exit code of the command line.

0 success; 1 a requirement is not met or a test failed; 2 wrong usage or unreadable input; 3 blocked by a guard; 4
rejected by the machine, or interrupted; 5 not enough rights; 6 cancelled."""


class VerrouError(Exception):
    """A failure, reported in one line. ``exit_code`` is the command's."""

    exit_code = 2


class BadInput(VerrouError):
    """A file or an argument that cannot be used; the message says what is wrong, where, and what to do."""

    exit_code = 2


class GuardRefused(VerrouError):
    """A plan that a guard blocks; nothing was changed."""

    exit_code = 3


class MachineRefused(VerrouError):
    """The machine rejected the change, or a run was interrupted."""

    exit_code = 4


class BrokeOff(MachineRefused):
    """A run that began to change the machine and was interrupted."""


class NotEnoughRights(VerrouError):
    """The operating system denied reading or writing what is needed."""

    exit_code = 5


class NotAgreed(VerrouError):
    """The user did not confirm."""

    exit_code = 6
