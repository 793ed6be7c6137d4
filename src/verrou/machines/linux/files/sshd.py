"""The settings of the remote shell server, as sshd_config(5) puts them together."""

from collections.abc import Iterator
from fnmatch import fnmatchcase

from verrou.core.model import Source
from verrou.machines.linux.root import Root

SSHD_CONFIG = "/etc/ssh/sshd_config"
SSHD = "/usr/sbin/sshd"
DEEPEST = 16


def sshd_installed(root: Root) -> bool:
    """Whether there is a remote shell server at all."""
    return root.exists(SSHD) and root.exists(SSHD_CONFIG)


def sshd_settings(root: Root, wanted: str) -> Iterator[tuple[str, Source]]:
    """Every value of a keyword (in lower case) in order; the first counts, but for lists, which add up. ``Include``
    takes patterns; ``Match`` blocks are left out."""
    return _in_file(root, SSHD_CONFIG, wanted, 0)


def sshd_setting(root: Root, wanted: str, otherwise: str) -> tuple[str, Source | None]:
    """The value of a keyword that counts, in lower case, and where it stands; what the server takes without it."""
    value, source = next(sshd_settings(root, wanted), (otherwise, None))
    return value.lower(), source


def _in_file(root: Root, file: str, wanted: str, depth: int) -> Iterator[tuple[str, Source]]:
    for position, line in enumerate(root.lines(file), start=1):
        words = line.split("#", 1)[0].replace("=", " ").split()
        if not words:
            continue
        key = words[0].lower()
        if key == "match":
            return
        if key == "include" and depth < DEEPEST:
            for pattern in words[1:]:
                folder, _, name = (pattern if pattern.startswith("/") else f"/etc/ssh/{pattern}").rpartition("/")
                for found in root.names_in(folder):
                    if fnmatchcase(found, name):
                        yield from _in_file(root, f"{folder}/{found}", wanted, depth + 1)
        elif key == wanted and len(words) > 1:
            yield " ".join(words[1:]), Source(file, position, " ".join(words))
