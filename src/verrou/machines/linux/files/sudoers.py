"""Who sudoers(5) makes an administrator: everything as root, by user, group or alias; the last word counts."""

import re
import stat
from collections.abc import Iterator, Sequence

from attrs import define, field, frozen

from verrou.core.model import Source
from verrou.machines.linux.root import Root

SUDOERS = "/etc/sudoers"
DEEPEST = 128
_INCLUDE = re.compile(r"\s*[@#](includedir|include)\s+(.+?)\s*$")
_ALIAS = re.compile(r"\s*(User|Runas|Host|Cmnd|Cmd)_Alias\s+(.*)$", re.DOTALL)
_TAG = re.compile(r"\s*(?:[A-Z_]+\s*:\s*)+")
_OPTION = re.compile(r"\s*(?:[A-Za-z_]+\s*=\s*\S+\s+)*")


@frozen
class Elevation:
    """A line that lets somebody run everything as root: a user, or a group when it begins with ``%``."""

    who: str
    source: Source


@define
class _Reading:
    root: Root
    aliases: dict[tuple[str, str], list[str]] = field(factory=dict)
    specs: list[tuple[str, str, Source]] = field(factory=list)
    passed_over: list[Source] = field(factory=list)


def elevations(root: Root) -> tuple[list[Elevation], list[Source]]:
    """Who may run everything as root, with the line that says so; and the files and lines that sudo passes over.

    Without the program sudo nothing that is written counts.
    """
    if not any(root.exists(f"{folder}/sudo") for folder in ("/usr/bin", "/usr/local/bin")):
        return [], []
    reading = _Reading(root)
    _read(reading, SUDOERS, 0)
    granted: dict[str, Elevation | None] = {}
    for users, rest, source in reading.specs:
        for who in _expand(reading, "User", _split(users, ",")):
            if who.startswith("!"):
                continue
            everything = _gives_everything(reading, rest)
            if everything is not None:
                granted[who] = Elevation(who, source) if everything else None
    return [elevation for elevation in granted.values() if elevation], reading.passed_over


def _read(reading: _Reading, file: str, depth: int) -> None:
    root = reading.root
    path = root.place(file)
    if depth > DEEPEST or not path.exists():
        return
    now = path.stat()
    if now.st_mode & stat.S_IWOTH or now.st_uid != 0 or (now.st_mode & stat.S_IWGRP and now.st_gid != 0):
        reading.passed_over.append(Source(file, None, "wrong owner or writable by others, so sudo ignores it"))
        return
    for number, line in _joined(root.lines(file)):
        if include := _INCLUDE.match(line):
            target = include[2].strip('"')
            target = target if target.startswith("/") else f"{file.rpartition('/')[0]}/{target}"
            if include[1] == "include":
                _read(reading, target, depth + 1)
                continue
            for name in root.names_in(target):
                if "." in name or name.endswith("~"):
                    reading.passed_over.append(Source(f"{target}/{name}", None, "sudo ignores names with . or ~"))
                else:
                    _read(reading, f"{target}/{name}", depth + 1)
            continue
        text = line.split("#", 1)[0] if not re.search(r"#\d", line) else line
        if not text.strip() or text.lstrip().startswith("Defaults"):
            continue
        if alias := _ALIAS.match(text):
            kind = "Cmnd" if alias[1] == "Cmd" else alias[1]
            for definition in _split(alias[2], ":"):
                name, _, members = definition.partition("=")
                reading.aliases[kind, name.strip()] = _split(members, ",")
            continue
        users, equals, rest = text.partition("=")
        words = users.split()
        if equals and len(words) >= 2:
            hosts = words[-1]
            if "ALL" in hosts or root.live:
                shown = " ".join(text.split())
                reading.specs.append((" ".join(words[:-1]), rest, Source(file, number, shown)))


def _gives_everything(reading: _Reading, rest: str) -> bool | None:
    """Whether a command list gives everything as root (True), takes everything away (False), or neither (None)."""
    runas = re.match(r"\s*\(([^)]*)\)", rest)
    if runas:
        users = _expand(reading, "Runas", _split(runas[1].partition(":")[0], ","))
        if not {"ALL", "root", "#0"} & set(users):
            return None
        rest = rest[runas.end() :]
    answer = None
    for command in _split(rest, ","):
        bare = _TAG.sub("", _OPTION.sub("", re.sub(r"^\([^)]*\)\s*", "", command)))
        for each in _expand(reading, "Cmnd", [bare.strip()]):
            if each == "ALL":
                answer = True
            elif each == "!ALL":
                answer = False
    return answer


def _expand(reading: _Reading, kind: str, names: Sequence[str], depth: int = 0) -> Iterator[str]:
    for name in names:
        members = reading.aliases.get((kind, name.strip()))
        if members is not None and depth < DEEPEST:
            yield from _expand(reading, kind, members, depth + 1)
        elif name.strip():
            yield name.strip()


def _split(text: str, separator: str) -> list[str]:
    return [part.strip() for part in re.split(rf"(?<!\\){separator}", text) if part.strip()]


def _joined(lines: Sequence[str]) -> Iterator[tuple[int, str]]:
    first, joined = 0, ""
    for number, line in enumerate(lines, start=1):
        first = first or number
        if line.endswith("\\"):
            joined += line[:-1]
            continue
        yield first, joined + line
        first, joined = 0, ""
    if joined:
        yield first, joined
