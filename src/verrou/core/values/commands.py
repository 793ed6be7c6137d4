"""Who may run which single commands."""

import re
from collections.abc import Callable, Mapping

from attrs import frozen

from verrou.core.values.kind import (
    NOBODY,
    CommandRights,
    JsonSchema,
    Kind,
    Members,
    Unacceptable,
    Value,
    ValueData,
    either,
    exactly,
)
from verrou.core.values.names import GROUP

_COMMAND = r"(?a:/[\w@%+./-]+( [\w@%+.,:=/-]+)*)"
_SHELLS = "sh bash dash ash zsh ksh mksh fish csh tcsh busybox"
_STARTERS = "env su sudo doas pkexec run0 systemd-run chroot nsenter unshare xargs find script screen tmux expect"
_EDITORS = "vi vim view nano ed emacs less more most man awk gawk mawk python python3 perl ruby lua node php tclsh"
_WRITERS = "tee cp mv dd tar zip rsync ssh scp git make apt apt-get dpkg pip crontab at chmod chown mount docker podman"
_ACCOUNTS = "gdb strace visudo sudoedit passwd usermod useradd"
OPENS_SHELL = frozenset(" ".join((_SHELLS, _STARTERS, _EDITORS, _WRITERS, _ACCOUNTS)).split())
"""Programs that run any other program, or write any file: who may run one of them as an administrator is one."""


@frozen(eq=False, repr=False)
class Commands(Kind):
    """Commands by account or group, and no others; fewer are stricter.

    A command is an absolute path with its arguments as written, without a wildcard."""

    @property
    def accepted(self) -> str:
        example = f'{{ "{GROUP}ringers" = ["/usr/bin/systemctl restart kiosk"] }}'
        return (
            f'"{NOBODY}", or by account, or "{GROUP}NAME", a list of commands with absolute path and arguments, '
            f"without a wildcard or a program that opens a shell or writes any file, such as {example}"
        )

    @property
    def names_people(self) -> bool:
        return True

    def is_written_as_table(self, raw: Mapping[str, object]) -> bool:
        return all(isinstance(each, list) for each in raw.values()) and not {"any_of", "only"} & raw.keys()

    def parse(self, raw: object) -> Value:
        if raw == NOBODY:
            return CommandRights()
        if not isinstance(raw, dict):
            raise Unacceptable(raw, self.accepted)
        pairs = set()
        for who, commands in raw.items():
            name = who.removeprefix(GROUP) if isinstance(who, str) else ""
            if not name.strip() or not name.isprintable() or set(name) & set(",:") or not isinstance(commands, list):
                raise Unacceptable(raw, self.accepted)
            for command in commands:
                if not isinstance(command, str) or not re.fullmatch(_COMMAND, command):
                    raise Unacceptable(command, self.accepted)
                if command.split()[0].rpartition("/")[2] in OPENS_SHELL:
                    raise Unacceptable(command, "a program that neither opens a shell nor writes any file")
                pairs.add((who, command))
        return CommandRights(frozenset(pairs))

    def parse_text(self, text: str) -> Value:
        """Return the value of a command line: ``WHO: COMMAND``, several with a semicolon between them."""
        written: dict[str, list[str]] = {}
        if text.strip() == NOBODY:
            return CommandRights()
        for each in text.split(";"):
            head, colon, rest = each.strip().removeprefix(GROUP).partition(":")
            who = f"{GROUP if each.strip().startswith(GROUP) else ''}{head.strip()}"
            if not colon:
                raise Unacceptable(text, f"WHO: COMMAND; ..., or {NOBODY}")
            written.setdefault(who, []).append(" ".join(rest.split()))
        return self.parse(written)

    def load(self, data: object) -> Value:
        raw = data["commands"] if isinstance(data, dict) and "commands" in data else data
        if not isinstance(raw, dict) or not all(isinstance(each, list) for each in raw.values()):
            raise Unacceptable(data, self.accepted)
        return CommandRights(frozenset((str(who), str(each)) for who, commands in raw.items() for each in commands))

    def dump(self, value: Value) -> ValueData:
        return {"commands": _by_who(value)}

    def written(self, value: Value) -> object:
        return _by_who(value) or NOBODY

    def schema(self) -> JsonSchema:
        return exactly(commands=_TABLE)

    def written_schema(self) -> JsonSchema:
        return either({"const": NOBODY}, _TABLE)

    def format(self, value: Value) -> str:
        found = _by_who(value).items()
        parts = [f"{_who(who)}: {each}" for who, commands in found for each in commands]
        return "; ".join(parts) or NOBODY

    def rank(self, value: Value) -> float:
        return -float(len(_pairs(value)))

    def at_least(self, value: Value, required: Value) -> bool:
        return self.at_least_expanded(value, required, {})

    def at_least_expanded(self, value: Value, required: Value, members: Members) -> bool:
        return _pairs(value) <= _expanded(required, members)

    def accepts_result(self, value: Value, required: Value, members: Members) -> bool:
        """Return whether the same people can run the same commands: a machine may list the members of a group."""
        return _people(value, members) == _people(required, members)

    def with_group_names(self, value: Value, name_of: Callable[[str], str]) -> Value:
        return CommandRights(frozenset((name_of(who), command) for who, command in _pairs(value)))

    @property
    def plain_meaning(self) -> str:
        return "these commands for these and no others; fewer are stricter"


_TABLE: JsonSchema = {
    "type": "object",
    "additionalProperties": {"type": "array", "items": {"type": "string"}},
}


def _pairs(value: Value) -> frozenset[tuple[str, str]]:
    assert isinstance(value, CommandRights)
    return value.pairs


def _by_who(value: Value) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for who, command in sorted(_pairs(value)):
        found.setdefault(who, []).append(command)
    return found


def _who(name: str) -> str:
    return f"group {name.removeprefix(GROUP)}" if name.startswith(GROUP) else name


def _expanded(value: Value, members: Members) -> set[tuple[str, str]]:
    """Return the pairs, and those of the members of each group beside them."""
    found = set(_pairs(value))
    for who, command in _pairs(value):
        found |= {(str(name), command) for name in members.get(who.removeprefix(GROUP), ()) if who.startswith(GROUP)}
    return found


def _people(value: Value, members: Members) -> set[tuple[str, str]]:
    """Return the pairs with members in place of groups; a group without members stays."""
    pairs = _pairs(value)
    inside = {who: members.get(who.removeprefix(GROUP), ()) for who, _ in pairs if who.startswith(GROUP)}
    return {(str(name), command) for who, command in pairs for name in (inside.get(who) or (who,))}
