"""What a machine is now: the facts that it keeps. What follows from them is derived in the modules beside this one."""

from verrou.core.model.facts import (
    Account,
    Builtin,
    Detail,
    Effect,
    Files,
    Flag,
    Grant,
    Group,
    Origin,
    PasswordState,
    Reading,
    Role,
    Source,
    Status,
    absent,
    shipped_default,
    unreadable,
)
from verrou.core.model.posture import (
    MachineFacts,
    Naming,
    Posture,
)
from verrou.core.model.words import (
    counted,
    name_list,
    say_size,
)

__all__ = [
    "Account",
    "Builtin",
    "Detail",
    "Effect",
    "Files",
    "Flag",
    "Grant",
    "Group",
    "MachineFacts",
    "Naming",
    "Origin",
    "PasswordState",
    "Posture",
    "Reading",
    "Role",
    "Source",
    "Status",
    "absent",
    "counted",
    "name_list",
    "say_size",
    "shipped_default",
    "unreadable",
]
