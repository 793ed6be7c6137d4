"""The settings of the remote shell server, as sshd_config(5) puts them together."""

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
"""An address set aside for documentation (RFC 5737): stands for any other computer."""
BY_PASSWORD = ("passwordauthentication", "kbdinteractiveauthentication")
"""What lets anybody in by a password, where one of them says yes."""
_WORD = re.compile(r'"([^"]*)"|(\S+)')


def sshd_installed(root: Root) -> bool:
    """Whether there is a remote shell server at all."""
    return root.exists(SSHD) and root.exists(sshd_config(root))


def sshd_config(root: Root) -> str:
    """Where its settings stand: the vendor's count where the administrator has none."""
    return VENDORS_CONFIG if not root.exists(SSHD_CONFIG) and root.exists(VENDORS_CONFIG) else SSHD_CONFIG


def sshd_settings(root: Root, wanted: str) -> Iterator[tuple[str, Source]]:
    """Every value of a keyword (in lower case) in order; the first counts, but for lists, which add up. ``Include``
    takes patterns; ``Match`` blocks are left out."""
    for key, values, source, under in config_lines(root):
        if key == wanted and values and not under:
            yield " ".join(values), source


def named_users(root: Root) -> Iterator[tuple[str, Source]]:
    """The accounts that lines of the server's configuration name by their names, ``Match User`` included."""
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


def sshd_setting(root: Root, wanted: str, otherwise: str) -> tuple[str, Source | None]:
    """The value of a keyword that counts, in lower case, and where it stands; what the server takes without it."""
    value, source = next(sshd_settings(root, wanted), (otherwise, None))
    return value.lower(), source


@frozen
class Criteria:
    """What a ``Match`` line asks for: keyword in lower case and its patterns; all of them have to be met."""

    asked: tuple[tuple[str, str], ...]
    source: Source

    def about(self, name: str, groups: Sequence[str]) -> bool:
        """Whether it is met by an account that comes from another computer (:data:`REMOTE`), as ``sshd -T -C`` has
        it."""
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
        """Whether it hangs on where somebody comes from."""
        return any(key not in ("all", "user", "group") for key, _ in self.asked)


def _in_list(patterns: str, values: Sequence[str], *, addresses: bool = False) -> bool | None:
    """Whether one of the values is in a list of patterns: True, False where a negated pattern takes it out, None where
    nothing says. See PATTERNS in ssh_config(5)."""
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
    """What the server's settings come to for somebody, however that is known."""

    def setting(self, wanted: str, otherwise: str) -> tuple[str, Source | None]:
        """The value of a keyword that counts, in lower case, and where it stands."""
        ...

    def names(self, wanted: str) -> list[tuple[str, Source]]:
        """All words of a list, each with its line."""
        ...


@frozen
class Shell:
    """The server's settings as they are for some accounts: those of the ``Match`` blocks that are about them, and
    beneath these the ones that hold for everybody."""

    blocks: Sequence[Line]
    general: Sequence[Line]

    def setting(self, wanted: str, otherwise: str) -> tuple[str, Source | None]:
        """The value of a keyword that counts, in lower case, and where it stands."""
        for key, values, source, _ in (*self.blocks, *self.general):
            if key == wanted and values:
                return " ".join(values).lower(), source
        return otherwise, None

    def names(self, wanted: str) -> list[tuple[str, Source]]:
        """All words of a list, each with its line. One that stands in a block replaces that of everybody."""
        for lines in (self.blocks, self.general):
            found = [(word, source) for key, values, source, _ in lines if key == wanted for word in values]
            if found:
                return found
        return []


def shells(root: Root, people: Iterable[tuple[str, Sequence[str]]]) -> tuple[Shell, list[tuple[Shell, list[str]]]]:
    """The settings for everybody, and those of each set of accounts (by name, with their groups) for whom ``Match``
    blocks make others."""
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
    """The settings for one account."""
    mine = [line for line in lines if line[3] and all(each.about(name, groups) for each in line[3])]
    return Shell(mine, [line for line in lines if not line[3]])


def ever_set(root: Root, wanted: str, otherwise: str) -> list[str]:
    """What a keyword is set to for anybody: for everybody, and in each ``Match`` block."""
    inside = [" ".join(values) for key, values, _, under in config_lines(root) if key == wanted and values and under]
    return [next(sshd_settings(root, wanted), (otherwise, None))[0], *inside]


def set_keyword(root: Root, keyword: str, value: str) -> None:
    """Set a keyword for everybody in a private copy: where it stands, or before all else."""
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
    """The ``Match`` lines that hang on where somebody comes from: they say nothing of who comes from elsewhere."""
    seen = {str(each.source): each for _, _, _, criteria in config_lines(root) for each in criteria if each.by_origin}
    return (each.source for each in seen.values())


def config_lines(root: Root) -> Iterator[Line]:
    """Each line as keyword in lower case, values, where it stands, and the ``Match`` lines that it stands under. A
    block ends with the file that it begins in."""
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
    """The words of a line: quotes hold one together, a comment ends it, one sign of equality may follow the keyword."""
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
