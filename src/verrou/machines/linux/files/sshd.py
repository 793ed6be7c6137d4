"""Settings of the remote shell server, as sshd_config(5) combines them."""

import re
from collections.abc import Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from ipaddress import ip_address, ip_network
from itertools import pairwise, takewhile
from typing import Protocol

from attrs import frozen

from verrou.core.errors import BadInput
from verrou.core.model import Source
from verrou.machines.linux.root import Root

SSHD_CONFIG, VENDORS_CONFIG = "/etc/ssh/sshd_config", "/usr/etc/ssh/sshd_config"
SSHD = "/usr/sbin/sshd"
DROP_IN = "/etc/ssh/sshd_config.d/00-verrou.conf"
"""The first value of a keyword counts, so that a file of our own comes before others."""
FOLDER = "/etc/ssh"
"""Where names without a folder are looked for."""
DEEPEST = 16
MOST_FILES = 200
REMOTE = "203.0.113.1"
"""An address reserved for documentation (RFC 5737): stands for any other computer."""
BY_PASSWORD = ("passwordauthentication", "kbdinteractiveauthentication")
"""Settings of which any yes accepts passwords."""
_WORD = re.compile(r'"([^"]*)"|(\S+)')


def sshd_installed(root: Root) -> bool:
    """Return whether there is a remote shell server at all."""
    return root.exists(SSHD) and root.exists(sshd_config(root))


def sshd_config(root: Root) -> str:
    """Return the path of its settings: the vendor's file where the administrator has none."""
    return VENDORS_CONFIG if not root.exists(SSHD_CONFIG) and root.exists(VENDORS_CONFIG) else SSHD_CONFIG


def sshd_settings(root: Root, required: str) -> Iterator[tuple[str, Source]]:
    """Yield every value of a keyword (in lower case) in order; the first decides, except for lists, which add up.

    ``Include`` takes patterns; ``Match`` blocks are left out."""
    for key, values, source, under in config_lines(root):
        if key == required and values and not under:
            yield " ".join(values), source


def named_users(root: Root) -> Iterator[tuple[str, Source]]:
    """Yield the accounts that the server's configuration names, ``Match User`` included."""
    if not root.exists(sshd_config(root)):
        return
    for key, values, source, _ in config_lines(root):
        names: Sequence[str] = values if key in ("allowusers", "denyusers") else ()
        if key == "match":
            lists = [after for word, after in pairwise(values) if word.lower() == "user"]
            names = [name for each in lists for name in each.split(",")]
        for name in names:
            plain = name.partition("@")[0].removeprefix("!")
            if plain and not set(plain) & set("*?"):
                yield plain, source


def sshd_setting(root: Root, required: str, otherwise: str) -> tuple[str, Source | None]:
    """Return the deciding value of a keyword, in lower case, and its source; the server's default without one."""
    value, source = next(sshd_settings(root, required), (otherwise, None))
    return value.lower(), source


@frozen(repr=False)
class Criteria:
    """Criteria of a ``Match`` line: keywords in lower case with their patterns; all of them have to match."""

    asked: tuple[tuple[str, str], ...]
    source: Source

    def about(self, name: str, groups: Sequence[str]) -> bool:
        """Return whether it matches an account from another computer (:data:`REMOTE`), as in ``sshd -T -C``."""
        return bool(self.asked) and all(self._met(key, patterns, name, groups) for key, patterns in self.asked)

    @staticmethod
    def _met(key: str, patterns: str, name: str, groups: Sequence[str]) -> bool:
        match key:
            case "all":
                return True
            case "user":
                return _in_list(patterns, [name]) is True
            case "group":
                return _in_list(patterns, groups) is True
            case "host" | "address":
                return _in_list(patterns, [REMOTE], addresses=True) is True
            case _:
                return False

    @property
    def by_origin(self) -> bool:
        """Whether a criterion depends on the origin of the connection."""
        return any(key not in ("all", "user", "group") for key, _ in self.asked)


def _in_list(patterns: str, values: Sequence[str], *, addresses: bool = False) -> bool | None:
    """Return whether one of the values matches a list of patterns: False for a negated match, None for no match.

    See PATTERNS in ssh_config(5)."""
    found: bool | None = None
    for value in values:
        for pattern in patterns.split(","):
            plain = pattern.removeprefix("!")
            if _is_like(value, plain, addresses):
                if plain != pattern:
                    return False
                found = True
    return found


def _is_like(value: str, pattern: str, addresses: bool) -> bool:
    if addresses and "/" in pattern:
        try:
            return ip_address(value) in ip_network(pattern, strict=False)
        except ValueError:
            return False
    return fnmatchcase(value, pattern.replace("[", "[[]"))


Line = tuple[str, list[str], Source, tuple[Criteria, ...]]


class Settings(Protocol):
    """Effective settings of the server for an account, however they are known."""

    def setting(self, required: str, otherwise: str) -> tuple[str, Source | None]:
        """Return the deciding value of a keyword, in lower case, and its source."""
        ...

    def names(self, required: str) -> list[tuple[str, Source]]:
        """Return all words of a list, each with its line."""
        ...


@frozen(repr=False)
class Shell:
    """Settings of the server for some accounts: those of the matching ``Match`` blocks, then those for everyone."""

    blocks: Sequence[Line]
    general: Sequence[Line]

    def setting(self, required: str, otherwise: str) -> tuple[str, Source | None]:
        """Return the deciding value of a keyword, in lower case, and its source."""
        for key, values, source, _ in (*self.blocks, *self.general):
            if key == required and values:
                return " ".join(values).lower(), source
        return otherwise, None

    def names(self, required: str) -> list[tuple[str, Source]]:
        """Return all words of a list, each with its line. A list in a block replaces the one for everyone."""
        for lines in (self.blocks, self.general):
            found = [(word, source) for key, values, source, _ in lines if key == required for word in values]
            if found:
                return found
        return []


def shells(root: Root, people: Iterable[tuple[str, Sequence[str]]]) -> tuple[Shell, list[tuple[Shell, list[str]]]]:
    """Return the settings for everyone, and those of each set of accounts with other matching ``Match`` blocks.

    Accounts are given by name, with their groups."""
    lines = list(config_lines(root))
    general = [line for line in lines if not line[3]]
    inside = [line for line in lines if line[3]]
    if not inside:
        return Shell((), general), []
    different: dict[tuple[int, ...], list[str]] = {}
    for name, groups in people:
        mine = tuple(at for at, line in enumerate(inside) if all(c.about(name, groups) for c in line[3]))
        if mine:
            different.setdefault(mine, []).append(name)
    return Shell((), general), [
        (Shell([inside[at] for at in mine], general), names) for mine, names in different.items()
    ]


def shell_of(lines: Sequence[Line], name: str, groups: Sequence[str]) -> Shell:
    """Return the settings for one account."""
    mine = [line for line in lines if line[3] and all(each.about(name, groups) for each in line[3])]
    return Shell(mine, [line for line in lines if not line[3]])


def ever_set(root: Root, required: str, otherwise: str) -> list[str]:
    """Return all values of a keyword: for everyone, and in each ``Match`` block."""
    inside = [" ".join(values) for key, values, _, under in config_lines(root) if key == required and values and under]
    return [next(sshd_settings(root, required), (otherwise, None))[0], *inside]


def set_keyword(root: Root, keyword: str, value: str) -> None:
    """Set a keyword for everyone in a private copy: where it is set, or before everything else."""
    _, where = sshd_setting(root, keyword.lower(), "")
    if where is not None and where.line is not None and where.place.startswith("/etc/"):
        lines = (root.text(where.place) or "").split("\n")
        lines[where.line - 1] = f"{keyword} {value}"
        root.write(where.place, "\n".join(lines))
        return
    kept = [line for line in root.lines(DROP_IN) if line.split()[:1] != [keyword]]
    root.write(DROP_IN, "".join(f"{line}\n" for line in (*kept, f"{keyword} {value}")))
    if sshd_setting(root, keyword.lower(), "")[0] != value.lower():
        root.write(SSHD_CONFIG, f"Include {DROP_IN}\n{root.text(SSHD_CONFIG) or ''}")


def by_origin(root: Root) -> Iterator[Source]:
    """Return the ``Match`` lines that depend on the origin of a connection."""
    seen = {str(each.source): each for _, _, _, criteria in config_lines(root) for each in criteria if each.by_origin}
    return (each.source for each in seen.values())


def config_lines(root: Root) -> Iterator[Line]:
    """Yield each line as keyword in lower case, values, source, and the ``Match`` lines above it.

    A block ends with the file that it begins in."""
    files = 0

    def included(pattern: str, by: Source, depth: int, under: tuple[Criteria, ...]) -> Iterator[Line]:
        try:
            all_found = root.matching(pattern)
        except BadInput:
            yield "include", [pattern], by, under
            return
        for found in all_found:
            if root.is_file(found):
                yield from in_file(found, depth + 1, under)
            elif not root.is_folder(found):
                # The server passes over folders, and does not start over a link that leads nowhere (measured, 9.2).
                yield "include", [found], by, under

    def in_file(file: str, depth: int, outer: tuple[Criteria, ...]) -> Iterator[Line]:
        nonlocal files
        files += 1
        under = outer
        for position, line in enumerate(root.lines(file) if files <= MOST_FILES else (), start=1):
            words = _words(line)
            if not words:
                continue
            key, source = words[0].lower(), Source(file, position, " ".join(words))
            if key == "match":
                under = (*outer, _criteria(words[1:], source))
                yield key, words[1:], source, under
            elif key == "include" and depth < DEEPEST:
                for pattern in words[1:]:
                    yield from included(
                        pattern if pattern.startswith("/") else f"{FOLDER}/{pattern}", source, depth, under
                    )
            else:
                yield key, words[1:], source, under

    return in_file(sshd_config(root), 0, ())


def _words(line: str) -> list[str]:
    """Split a line: quotes group, a comment ends it, and one equals sign may follow the keyword."""
    found = [quoted or plain for quoted, plain in _WORD.findall(line.strip())]
    if found and "=" in found[0]:
        key, _, value = found[0].partition("=")
        found = [key, *([value] if value else []), *found[1:]]
    elif len(found) > 1 and found[1].startswith("="):
        found[1:2] = [found[1][1:]] if found[1] != "=" else []
    return list(takewhile(lambda word: not word.startswith("#"), found))


def _criteria(words: Sequence[str], source: Source) -> Criteria:
    pairs: list[tuple[str, str]] = []
    rest = list(words)
    while rest:
        key, equals, value = rest.pop(0).partition("=")
        if key.lower() in ("all", "canonical", "final"):
            pairs.append((key.lower(), ""))
        else:
            pairs.append((key.lower(), value if equals else rest.pop(0) if rest else ""))
    return Criteria(tuple(pairs), source)
