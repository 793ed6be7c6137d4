"""The part of a bench machine's authority about sessions: routes, rights, elevation, screens, shared use.

Lists contain the IDs of accounts and groups; None stands for everyone. Numbers and their trap values are its own: 0
minutes of memory remember nothing, 0 seconds of patience wait without end, 0 idle minutes never lock. Some values take
effect only after a restart, or at the next sign-in: until then the former value is stored in ``waiting`` and stays
enforced. What an account has to give before a program is elevated is a number for each kind of program: 0 nothing, 1 a
yes, 2 its own password, 3 an administrator's, 4 it is refused. Accounts may have an idle time of their own
(``own_idle``), which applies to them unless the machine's is pinned."""

from typing import Any

KEEPER, PASSERBY, PATTERN = 1, 2, 3
ADMINISTRATORS, USERS, GUESTS, REMOTE_USERS = 11, 12, 13, 14
WAYS = ("console", "network", "remote-screen")
DRIVES = ("data", "stick", "system")
DUTIES = ("clock", "install", "off")
PROGRAMS = ("part", "vouched", "unsigned", "installer", "helper")
"""System, signed and unsigned programs, an installer, and remote help."""
SHIPPED_SEAT: dict[str, Any] = {
    "in_console": None,
    "out_console": [],
    "in_network": [ADMINISTRATORS, USERS],
    "out_network": [],
    "in_remote-screen": [ADMINISTRATORS, REMOTE_USERS],
    "out_remote-screen": [],
    "duty_off": None,
    "duty_clock": [ADMINISTRATORS],
    "duty_install": [ADMINISTRATORS],
    "gives_administrator": dict.fromkeys(PROGRAMS, 0),
    "gives_keeper": dict.fromkeys(PROGRAMS, 1),
    "gives_user": dict.fromkeys(PROGRAMS, 4),
    "gives_guest": dict.fromkeys(PROGRAMS, 4),
    "commands": [],
    "apart": False,
    "helpers_reach": True,
    "memory_minutes": 8,
    "patience_seconds": 0,
    "opens_for": 2,
    "opens_as": 0,
    "hidden": [],
    "shows_last": True,
    "off_button": True,
    "locked_tells": 2,
    "keys_first": False,
    "idle_minutes": 0,
    "idle_pinned": False,
    "greeting": {"title": "", "text": ""},
    "drives_hidden": [],
    "settings_shut": False,
    "installer_for": 0,
    "covered": [GUESTS],
}
GIVES_LIMITS = {
    "gives_administrator": (0, 4),
    "gives_keeper": (0, 4),
    "gives_user": (3, 4),
    "gives_guest": (3, 4),
}
SEAT_LIMITS = {
    "memory_minutes": (0, 240),
    "patience_seconds": (0, 1_800),
    "opens_for": (0, 2),
    "locked_tells": (0, 2),
    "idle_minutes": (0, 600),
    "installer_for": (0, 2),
}
SEAT_SWITCHES = (*("apart", "helpers_reach", "shows_last", "off_button", "keys_first", "idle_pinned", "settings_shut"),)
LISTS = (
    *(f"{side}_{route}" for route in WAYS for side in ("in", "out")),
    *(f"duty_{duty}" for duty in DUTIES),
    *("hidden", "covered"),
)
FULL_ONLY = (
    *(f"{side}_{route}" for route in WAYS for side in ("in", "out")),
    *("apart", "helpers_reach", "drives_hidden"),
)
"""What the basic edition lacks: there it keeps the default. It does not tell kinds of program apart either."""
AFTER_RESTART = (
    *("apart", "helpers_reach", "keys_first", "opens_for", "shows_last"),
    *("hidden", "off_button", "greeting"),
)
AFTER_SIGN_IN = ("settings_shut", "drives_hidden", "covered", "locked_tells")
LONGEST_GREETING = 1_200


def belongs(listed: list[int] | None, identities: set[int]) -> bool:
    """Return whether one of these IDs (of the account and its groups) is listed; None lists everyone."""
    return listed is None or bool(identities & set(listed))


def _is_command(entry: Any, identities: set[int]) -> bool:
    """Return whether an entry of ``commands`` is an ID that is given, and a line."""
    good = isinstance(entry, list) and len(entry) == 2 and type(entry[0]) is int and isinstance(entry[1], str)
    return good and entry[0] in identities and entry[1].startswith("/") and entry[1].isprintable()


def fault_in(key: str, value: Any, identities: set[int]) -> str:
    """Return why a value is invalid for a key of :data:`SHIPPED_SEAT`; empty where it is valid."""
    if key in SEAT_LIMITS:
        low, high = SEAT_LIMITS[key]
        number = isinstance(value, int) and not isinstance(value, bool)
        return "" if number and low <= value <= high else f"{key} must be {low} to {high}, not {value}"
    if key in GIVES_LIMITS:
        low, high = GIVES_LIMITS[key]
        good = isinstance(value, dict) and value.keys() == set(PROGRAMS)
        good = good and all(type(each) is int and low <= each <= high for each in value.values())
        return "" if good else f"{key} is a number from {low} to {high} for each of {', '.join(PROGRAMS)}"
    if key in SEAT_SWITCHES:
        return "" if isinstance(value, bool) else f"{key} is on or off, not {value}"
    if key in LISTS:
        good = value is None or (isinstance(value, list) and all(type(each) is int for each in value))
        if not good:
            return f"{key} is a list of identities, or nothing for everyone"
        unknown = sorted(set(value or ()) - identities)
        return f"{key}: no account or group has the ID {unknown[0]}" if unknown else ""
    if key == "commands":
        good = isinstance(value, list) and all(_is_command(each, identities) for each in value)
        return "" if good else "commands is a list of IDs, each with the line that it may run"
    if key == "drives_hidden":
        good = isinstance(value, list) and all(each in ("*", *DRIVES) for each in value)
        return "" if good else f"{key} is a list of {', '.join(DRIVES)}, or * for all"
    if key == "greeting":
        good = isinstance(value, dict) and set(value) == {"title", "text"}
        good = good and all(isinstance(each, str) and len(each) <= LONGEST_GREETING for each in value.values())
        return "" if good else f"{key} is a title and a text of at most {LONGEST_GREETING} characters"
    return (
        "" if type(value) is int and (value == 0 or value in identities) else f"{key}: no account or group has that ID"
    )


def elevation(policy: dict[str, Any], kind: str, program: str) -> str:
    """Return the outcome of elevating a program: ``runs``, ``approve``, ``own password``, ``administrator's
    password`` or ``refused``.

    ``kind``: administrator, keeper, user or guest."""
    gives = policy[f"gives_{kind}"][program]
    if gives and program == "helper" and policy["apart"] and not policy["helpers_reach"]:
        return "refused"
    return ("runs", "approve", "own password", "administrator's password", "refused")[gives]
