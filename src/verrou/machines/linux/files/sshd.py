"""The settings of the remote shell server, as sshd_config(5) puts them together."""

from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from itertools import pairwise

from verrou.core.model import Source
from verrou.machines.linux.root import Root

SSHD_CONFIG = "/etc/ssh/sshd_config"
SSHD = "/usr/sbin/sshd"
DEEPEST = 16
MOST_FILES = 200


def sshd_installed(root: Root) -> bool:
    """Whether there is a remote shell server at all."""
    return root.exists(SSHD) and root.exists(SSHD_CONFIG)


def sshd_settings(root: Root, wanted: str) -> Iterator[tuple[str, Source]]:
    """Every value of a keyword (in lower case) in order; the first counts, but for lists, which add up. ``Include``
    takes patterns; ``Match`` blocks are left out."""
    for key, values, source, for_some in _lines(root):
        if key == wanted and values and not for_some:
            yield " ".join(values), source


def named_users(root: Root) -> Iterator[tuple[str, Source]]:
    """The accounts that lines of the server's configuration name by their names, ``Match User`` included."""
    if not root.exists(SSHD_CONFIG):
        return
    for key, values, source, _ in _lines(root):
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


def _lines(root: Root) -> Iterator[tuple[str, list[str], Source, bool]]:
    """Each line as keyword in lower case, values, where it stands, and whether it is for some accounts only."""
    files = 0

    def in_file(file: str, depth: int, for_some: bool) -> Iterator[tuple[str, list[str], Source, bool]]:
        nonlocal files
        files += 1
        for position, line in enumerate(root.lines(file) if files <= MOST_FILES else (), start=1):
            words = line.split("#", 1)[0].replace("=", " ").split()
            if not words:
                continue
            key = words[0].lower()
            for_some = for_some or key == "match"
            if key == "include" and depth < DEEPEST:
                for pattern in words[1:]:
                    folder, _, name = (pattern if pattern.startswith("/") else f"/etc/ssh/{pattern}").rpartition("/")
                    for found in root.names_in(folder):
                        if fnmatchcase(found, name):
                            yield from in_file(f"{folder}/{found}", depth + 1, for_some)
            else:
                yield key, words[1:], Source(file, position, " ".join(words)), for_some

    return in_file(SSHD_CONFIG, 0, False)
