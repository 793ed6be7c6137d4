"""Adapters of the rules about sessions on a bench machine: routes, rights, elevation, screens, shared use."""

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from attrs import evolve

from verrou.core.model import Reading, Source
from verrou.core.model.programs import Program
from verrou.core.model.routes import Route
from verrou.core.rules.screen import RULES as SCREEN_RULES
from verrou.core.values import EVERYONE, GROUP, AcceptedValues, Cells, CommandRights, Notice, Value, cells_of
from verrou.machines.bench.adapter import BenchRuleAdapter, Written, source_of, stored, switch, words
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.session import PROGRAMS


def _names(authority: Authority, listed: list[int] | None) -> Value:
    """Return IDs as the names of accounts and groups."""
    if listed is None:
        return frozenset({EVERYONE})
    names = {a["id"]: str(a["name"]) for a in authority.accounts()}
    names |= {g["id"]: f"{GROUP}{g['name']}" for g in authority.groups()}
    return frozenset(names[each] for each in listed)


def _identities(authority: Authority, value: Value) -> list[int] | None:
    """Return the IDs of names, the inverse of :func:`_names`; raises No for an unknown name."""
    assert isinstance(value, frozenset)
    if EVERYONE in value:
        return None
    known = {a["name"].casefold(): int(a["id"]) for a in authority.accounts()}
    known |= {f"{GROUP}{g['name']}".casefold(): int(g["id"]) for g in authority.groups()}
    for name in sorted(value):
        if name.casefold() not in known:
            what = f"group {name.removeprefix(GROUP)}" if name.startswith(GROUP) else f"account {name}"
            raise No(f"there is no {what} on this machine")
    return sorted(known[name.casefold()] for name in value)


def _listed(key: str, where: str) -> BenchRuleAdapter:
    """Return the adapter of a list of IDs, which are read as today's names."""

    def read(authority: Authority) -> Reading:
        reading = plain.read(authority)
        if reading.value is None:
            return reading
        now, coming = authority.effective(key), authority.policy()[key]
        pending = None if now == coming else _names(authority, coming)
        return evolve(reading, value=_names(authority, now), pending=pending)

    plain = stored(key, where, lambda _: frozenset[str](), _identities, lambda _: AcceptedValues())
    return evolve(plain, read=read)


def _minutes(key: str, where: str, unit: str, trap: str) -> BenchRuleAdapter:
    """Return a number of minutes or seconds, of which 0 means the word ``trap``."""
    one = timedelta(**{unit: 1})

    def from_value(_: Authority, value: Value) -> int:
        return value // one if isinstance(value, timedelta) else 0

    def accepted_values(authority: Authority) -> AcceptedValues:
        return AcceptedValues(one, one * authority.limits(key)[1], (trap,))

    return stored(key, where, lambda number: one * number if number else trap, from_value, accepted_values)


_LOCKS_AFTER = next(rule.kind for rule in SCREEN_RULES if rule.id == "screen.locks_after")


def _idle() -> BenchRuleAdapter:
    """Return the weakest idle time: an account's own applies to it unless the machine's is pinned."""
    plain = _minutes(
        "idle_minutes",
        "the authority's idle minutes, which it pins when they are set here; until then an "
        "account's own idle time counts for it",
        "minutes",
        "never",
    )

    def read(authority: Authority) -> Reading:
        reading = plain.read(authority)
        if authority.effective("idle_pinned"):
            return reading
        for account in authority.accounts():
            own = account["own_idle"] if account["open"] else None
            value: Value = timedelta(minutes=own) if own else "never"
            if own is not None and reading.value is not None and _weaker(value, reading.value):
                message = f"{account['name']} has an idle time of its own, which applies to it"
                here = Source(f"setting own_idle = {own} of account {account['id']}")
                overridden = (source_of(authority, "idle_minutes"),)
                reading = evolve(reading, value=value, source=here, overrides=overridden, reason=message)
        return reading

    def write(authority: Authority, value: Value) -> Written:
        authority.set_policy("idle_pinned", True)
        assert plain.write is not None
        return plain.write(authority, value)

    return evolve(plain, read=read, write=write)


def _weaker(value: Value, than: Value) -> bool:
    return _LOCKS_AFTER.rank(value) < _LOCKS_AFTER.rank(than)


def _automatic() -> BenchRuleAdapter:
    """Return the account that is signed in automatically, and whether there is one that would be."""
    limits = {0: "nobody", 1: "guests", 2: "anyone"}
    plain = words(
        "opens_for", "a number of the authority: for whom it is allowed; the account itself is a second setting", limits
    )

    def read(authority: Authority) -> Reading:
        reading = plain.read(authority)
        name = authority.opens_as()
        now, coming = whom(authority, name), whom(authority, authority.opens_as(as_set=True))
        source = source_of(authority, "opens_as")
        message = f"{name} is signed in at each start" if name else "no account is signed in at a start"
        return evolve(reading, value=now, source=source, reason=message, pending=None if now == coming else coming)

    def whom(authority: Authority, name: str) -> str:
        if not name:
            return "nobody"
        return "guests" if authority.kind_of(name) == "guest" else "anyone"

    return evolve(plain, read=read)


def _greeting() -> BenchRuleAdapter:
    def from_value(_: Authority, value: Value) -> dict[str, str]:
        assert isinstance(value, Notice)
        return {"title": value.title, "text": value.text}

    return stored(
        "greeting",
        "a title and a text of the authority's",
        lambda now: Notice(now["title"], now["text"]),
        from_value,
        lambda _: AcceptedValues(),
    )


DRIVES = {"removable": "stick", "other": "data", "system": "system"}
"""The authority's own word for each kind of drive."""


def _drives() -> BenchRuleAdapter:
    drives = {**DRIVES, "all": "*"}
    names = {drive: name for name, drive in drives.items()}

    def from_value(_: Authority, value: Value) -> list[str]:
        assert isinstance(value, frozenset)
        return ["*"] if "all" in value else sorted(drives[name] for name in value)

    return stored(
        "drives_hidden",
        "a list of the authority's drives",
        lambda now: frozenset(names[drive] for drive in now),
        from_value,
        lambda _: AcceptedValues(words=tuple(sorted(drives.keys() - {"all"}))),
    )


def _commands() -> BenchRuleAdapter:
    """Return the adapter of commands by ID, which are read by today's names."""

    def shown(authority: Authority, listed: list[list[Any]]) -> Value:
        names = {a["id"]: str(a["name"]) for a in authority.accounts()}
        names |= {g["id"]: f"{GROUP}{g['name']}" for g in authority.groups()}
        return CommandRights(frozenset((names[identity], line) for identity, line in listed))

    def read(authority: Authority) -> Reading:
        return evolve(plain.read(authority), value=shown(authority, authority.effective("commands")))

    def from_value(authority: Authority, value: Value) -> list[list[Any]]:
        assert isinstance(value, CommandRights)
        found = []
        for who, line in sorted(value.pairs):
            listed = _identities(authority, frozenset({who}))
            found += [[identity, line] for identity in listed or ()]
        return found

    plain = stored(
        "commands",
        "the authority's list of commands by account and group",
        lambda _: CommandRights(),
        from_value,
        lambda _: AcceptedValues(),
    )
    return evolve(plain, read=read)


def _locked() -> BenchRuleAdapter:
    """Return the adapter of what a locked screen shows: the authority knows no origin without a name."""
    shown = {2: frozenset({"name", "origin"}), 1: frozenset({"name"}), 0: frozenset[str]()}

    def from_value(_: Authority, value: Value) -> int:
        assert isinstance(value, frozenset)
        return next(number for number, parts in shown.items() if parts <= value)

    return stored(
        "locked_tells", "a number of the authority", shown.__getitem__, from_value, lambda _: AcceptedValues()
    )


_WAYS = {
    f"logon.{route}.{rule}": _listed(
        f"{side}_{route}", f"the authority's list of who {what} on that route; a denial wins"
    )
    for route in (Route.CONSOLE, Route.NETWORK, Route.REMOTE_SCREEN)
    for rule, side, what in (("allowed", "in", "comes in"), ("denied", "out", "is denied"))
}
_WORDS = ("nothing", "approval", "password", "admin-password", "denied")
KINDS_OF_PROGRAM = dict(zip(Program, PROGRAMS, strict=True))
"""The authority's own word for each kind of program."""


def _gives(key: str) -> BenchRuleAdapter:
    """Return the adapter of a number for each kind of program."""

    def from_value(authority: Authority, value: Value) -> dict[str, int]:
        asked = {KINDS_OF_PROGRAM[Program(row)]: _WORDS.index(word) for row, word in cells_of(value).items()}
        return {**authority.policy()[key], **asked}

    def accepted_values(authority: Authority) -> AcceptedValues:
        low, high = authority.limits(key)
        uniform = "" if authority.tells_programs_apart else "the basic edition does not tell kinds of program apart"
        return AcceptedValues(words=_WORDS[low : high + 1], uniform=uniform)

    return stored(
        key,
        "a number of the authority for each kind of program",
        lambda now: Cells(tuple((row, _WORDS[now[own]]) for row, own in KINDS_OF_PROGRAM.items())),
        from_value,
        accepted_values,
    )


ADAPTERS: Mapping[str, BenchRuleAdapter] = {
    **_WAYS,
    "rights.shut_down": _listed("duty_off", "the authority's list for that right"),
    "rights.set_clock": _listed("duty_clock", "the authority's list for that right"),
    "rights.install_software": _listed("duty_install", "the authority's list for that right"),
    "elevation.administrator": _gives("gives_administrator"),
    "elevation.builtin": _gives("gives_keeper"),
    "elevation.standard": _gives("gives_user"),
    "elevation.guest": _gives("gives_guest"),
    "elevation.commands": _commands(),
    "elevation.prompt_apart": switch("apart", "a switch of the authority"),
    "elevation.helpers_reach_prompt": switch("helpers_reach", "a switch of the authority"),
    "elevation.remembered_for": _minutes(
        "memory_minutes", "the authority's minutes of memory; 0 there remembers nothing", "minutes", "never"
    ),
    "elevation.unanswered_after": _minutes(
        "patience_seconds", "the authority's seconds of patience; 0 there waits without limit", "seconds", "never"
    ),
    "screen.automatic_signin": _automatic(),
    "screen.hidden_accounts": _listed("hidden", "the authority's list of accounts hidden on its sign-in screen"),
    "screen.shows_last_account": switch("shows_last", "a switch of the authority"),
    "screen.shut_down_button": switch("off_button", "a switch of the authority"),
    "screen.locked_shows": _locked(),
    "screen.attention_key": words("keys_first", "a switch of the authority", {False: "not-required", True: "required"}),
    "screen.locks_after": _idle(),
    "screen.notice": _greeting(),
    "sharing.hidden_drives": _drives(),
    "sharing.settings_closed": switch("settings_shut", "a switch of the authority"),
    "sharing.installer": words(
        "installer_for", "a number of the authority", {0: "everyone", 1: "administrators", 2: "nobody"}
    ),
    "sharing.applies_to": _listed("covered", "the authority's list of accounts with limits; never an administrator"),
}
_NO_SHELL = "a bench machine has no remote shell"
ABSENT: Mapping[str, str] = {
    "logon.remote-shell.allowed": _NO_SHELL,
    "logon.remote-shell.denied": _NO_SHELL,
}
