"""Kinds of program and kinds of account, as elevation tells them apart."""

from enum import StrEnum


class Program(StrEnum):
    """What asks for elevation: a part of the system itself, another signed or unsigned program, an installer, and a
    program for remote help."""

    SYSTEM = "system"
    SIGNED = "signed"
    UNSIGNED = "unsigned"
    INSTALLER = "installer"
    REMOTE_HELP = "remote-help"


class ElevationSubject(StrEnum):
    """Kind of account, as elevation rules tell accounts apart: ``elevation.<kind>`` is the rule about it."""

    ADMINISTRATOR = "administrator"
    BUILT_IN = "builtin"
    STANDARD = "standard"
    GUEST = "guest"
