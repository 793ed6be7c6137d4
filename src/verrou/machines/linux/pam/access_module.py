"""Result of pam_access(8) for an account and an origin: access.conf(5) in the module's own grammar.

Names are compared without case, a list may except others from itself, and each file's first line that matches both the
account and the origin decides."""

import ipaddress
import re
from collections.abc import Callable, Iterator, Sequence

from verrou.core.made_often import made_often
from verrou.core.model.known import Known, any_of
from verrou.machines.linux.files.access_file import files_read
from verrou.machines.linux.pam.stack import PamLine
from verrou.machines.linux.root import Root, host_name

_TERMINAL = re.compile(r"tty\w*|pts/\d+|:\d*(\.\d+)?|console", re.IGNORECASE)
SERVICES = frozenset(
    (
        *(
            "cron",
            "crond",
            "atd",
            "su",
            "sudo",
            "login",
            "ssh",
            "sshd",
            "systemd-user",
            "gdm",
            "gdm-password",
            "lightdm",
        ),
        *("sddm", "lxdm", "xdm", "wdm", "slim", "greetd", "nodm"),
    )
)
"""A place of this computer besides a terminal and a screen: a service that names neither."""
SEPARATORS = ", \t"
LONGEST_LINE = 8191
"""Bytes of a line that the module reads at once, its end included."""


@made_often
class Comer:
    """A user and an origin: ``place`` is an address, or a terminal where ``remote`` is not set."""

    name: str
    groups: tuple[str, ...]
    place: str
    remote: bool


def allows(root: Root, line: PamLine, comer: Comer) -> Known:
    """Return whether the module allows an account by what a line of a stack has it read."""
    separators = line.argument("listsep") or SEPARATORS
    groups_by_name = line.argument("nodefgroup") is None

    def about(word: str) -> Known:
        name, _, host = word[:1] + word[1:].partition("@")[0], "", word[1:].partition("@")[2]
        if "@" in word[1:]:
            here = host_name(root)
            return about(name) & _from(host, here, remote=False)
        if word.startswith("@"):
            return Known.UNKNOWN  # a netgroup
        if word.startswith("(") and word.endswith(")"):
            return Known.of(word[1:-1] in comer.groups)
        if word.lower() in ("all", comer.name.lower()):
            return Known.YES
        return Known.of(groups_by_name and word in comer.groups)

    def there(word: str) -> Known:
        return _from(word, comer.place, remote=comer.remote)

    for allowed, people, places in _rules(root, line):
        matches = _matches(places, separators, there) & _matches(people, separators, about)
        if matches is Known.UNKNOWN:
            return Known.UNKNOWN
        if matches is Known.YES:
            return Known.of(allowed)
    return Known.YES


def _rules(root: Root, line: PamLine) -> Iterator[tuple[bool, str, str]]:
    separator = line.argument("fieldsep") or ":"
    for file in files_read(root, line):
        text = root.text(file) or ""
        # What follows the last end of a line is no line to the module.
        for words in text.split("\n")[:-1]:
            if words.startswith("#") or not words.strip():
                continue
            fields = _fields(words.rstrip(), separator)
            if fields is not None and fields[0][:1] in ("+", "-"):
                yield fields[0].startswith("+"), fields[1], fields[2]


def _fields(text: str, separators: str) -> tuple[str, str, str] | None:
    """Split at the first two fields as strtok(3) does, and return the rest whole."""
    found: list[str] = []
    for _ in range(2):
        text = text.lstrip(separators)
        end = next((n for n, sign in enumerate(text) if sign in separators), len(text))
        found.append(text[:end])
        text = text[end + 1 :]
    return (found[0], found[1], text) if found[0] and found[1] and text else None


def _matches(text: str, separators: str, matches: Callable[[str], Known]) -> Known:
    """Return whether a list matches: what follows EXCEPT is excluded."""
    words = _words(text, separators)
    return _part(words, matches)


def _part(words: Sequence[str], matches: Callable[[str], Known]) -> Known:
    except_at = next((n for n, word in enumerate(words) if word.lower() == "except"), len(words))
    met = any_of(map(matches, words[:except_at]))
    if met is Known.NO or except_at == len(words):
        return met
    return met & ~_part(words[except_at + 1 :], matches)


def _words(text: str, separators: str) -> list[str]:
    for sign in separators[1:]:
        text = text.replace(sign, separators[0])
    return [word for word in text.split(separators[0]) if word]


def _from(word: str, place: str, *, remote: bool) -> Known:
    """Return whether a word matches an origin."""
    if word.startswith("@"):
        return Known.UNKNOWN
    if word.lower() in ("all", place.lower()):
        return Known.YES
    if word.startswith("."):
        # A computer's name, which its address may have or not.
        return Known.UNKNOWN if remote else Known.of(place.lower().endswith(word.lower()) and len(place) > len(word))
    if not remote:
        return Known.of(word.lower() == "local")
    if word.lower() == "local":
        return Known.NO
    if word.endswith("."):
        return Known.of(place.startswith(word))
    if _TERMINAL.fullmatch(word) or word in SERVICES:
        return Known.NO  # no computer bears such a name
    try:
        network = ipaddress.ip_network(word, strict=False)
        # A mask of zero bits matches no one: pam_access(8) rejects it.
        return Known.of(network.prefixlen > 0 and ipaddress.ip_address(place) in network)
    except ValueError:
        return Known.UNKNOWN  # a host name: its address depends on a name server
