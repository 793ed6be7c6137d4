"""Single commands that sudo(8) lets somebody run as root: read of every line, written to the one drop-in."""

import re
from collections.abc import Mapping

from verrou.core.model import Reading, Source, absent, program_default, unreadable
from verrou.core.values import GROUP, CommandRights, Value
from verrou.machines.linux.files.sudoers import Sudoers
from verrou.machines.linux.files.sudoers_grammar import What
from verrou.machines.linux.packages import to_install
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System
from verrou.machines.linux.rules.elevation import DROP_IN, HEADING, MODE, cannot_without_sudo, checked
from verrou.machines.linux.rules.named import checked_names

WITHOUT_ARGUMENTS = '""'
"""In sudoers(5), behind a command that is run without arguments. Without it any arguments are allowed."""
ANY_ARGUMENTS = "*"


def _read(system: System) -> Reading:
    sudoers, doas = system.sudoers, system.doas
    if sudoers.unknown or doas.unknown:
        first = (*sudoers.unknown, *doas.unknown)[0]
        return unreadable(f"{first.where}: {first.text}", source=first)
    if not sudoers.installed and not doas.rules:
        return absent(
            "no one can run single commands as root: there is no sudo and no doas", to_install(system.root, "sudo")
        )
    administering = {account.name for account in system.administrators}
    pairs, source = set(), None
    for account in system.accounts:
        if account.name in administering:
            continue
        pairs |= {(str(account.name), _plain(command)) for command in account.may_run}
        source = source or (next(iter(account.granted_by), None) if account.may_run else None)
    for who, command in _ours(system.root):
        if who.startswith(GROUP):
            inside = next((g.members for g in system.groups if g.name == who.removeprefix(GROUP)), ())
            pairs -= {(str(name), command) for name in inside}
            pairs.add((who, command))
    source = source or (Source(DROP_IN) if pairs else program_default("no line allows it"))
    return Reading(CommandRights(frozenset(pairs)), source=source)


def _plain(command: str) -> str:
    """Return a command of sudoers as ours: with its arguments, or with a mark where any are allowed."""
    program, _, arguments = re.sub(r"\\([,:=\\])", r"\1", command).partition(" ")
    if not arguments:
        return f"{program} {ANY_ARGUMENTS}"
    return program if arguments == WITHOUT_ARGUMENTS else f"{program} {arguments}"


def _ours(root: Root) -> list[tuple[str, str]]:
    """Return who may run what by our own drop-in."""
    found = []
    for entry, source in Sudoers.load(root).entries:
        if source.place != DROP_IN:
            continue
        for member in entry.users:
            who = f"{GROUP}{member.text}" if member.what is What.GROUP else member.text
            found += [(who, _plain(a.command.text)) for p in entry.privileges for a in p.allowances]
    return found


def _write(root: Root, value: Value) -> str:
    assert isinstance(value, CommandRights)
    checked_names(root, frozenset(who for who, _ in value.pairs))
    lines = [f"{_who(who)} ALL=(root) {_command(command)}" for who, command in sorted(value.pairs)]
    _put(root, lines)
    return checked(root, DROP_IN)


def _put(root: Root, lines: list[str]) -> None:
    kept = [line for line in root.lines(DROP_IN) if line.startswith("Defaults ")]
    root.write(DROP_IN, HEADING + "".join(f"{line}\n" for line in (*kept, *lines)), MODE)


def _who(name: str) -> str:
    sign = "%" if name.startswith(GROUP) else ""
    return sign + re.sub(r"([^\w.-])", r"\\\1", name.removeprefix(GROUP), flags=re.ASCII)


def _command(command: str) -> str:
    program, space, arguments = command.partition(" ")
    return program + " " + (re.sub(r"([,:=\\])", r"\\\1", arguments) if space else WITHOUT_ARGUMENTS)


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Rename somebody in our own lines, or remove the lines where the new name is empty."""
    ours = _ours(root) if root.exists(DROP_IN) else []
    if not any(who == name for who, _ in ours):
        return
    changed = [(new_name if who == name else who, command) for who, command in ours]
    _put(root, [f"{_who(who)} ALL=(root) {_command(command)}" for who, command in sorted(changed) if who])


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "elevation.commands": LinuxRuleAdapter(
        f"lines of /etc/sudoers and its folder, and of /etc/doas.conf, about single commands; written to {DROP_IN}",
        _read,
        _write,
        cannot=cannot_without_sudo,
    )
}
