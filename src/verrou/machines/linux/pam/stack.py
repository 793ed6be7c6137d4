"""The PAM stack of a service as libpam puts it together (pam.conf(5), pam.d(5)): includes, controls, arguments."""

import re
from collections.abc import Iterator, Sequence

from attrs import define, field, frozen

from verrou.core.model import Source
from verrou.machines.linux.refused import Refused
from verrou.machines.linux.root import Root

FACILITIES = ("auth", "account", "password", "session")
CONTROLS = ("required", "requisite", "sufficient", "optional", "binding")
DEEPEST = 16
MOST_FILES = 200
CIRCLES = "includes go in circles"
FOLDERS = ("/etc/pam.d", "/usr/lib/pam.d", "/usr/etc/pam.d")
"""Where the files of services stand: the administrator's, and the vendors' that count where there is none of these."""
OTHER = "other"
FOR_ROOT_ALONE = ("pam_rootok.so",)
"""Modules that let in root itself and nobody else."""
UPDATER = "/usr/sbin/pam-auth-update"
_TOKEN = re.compile(r"\[(?:\\\]|[^\]])*\]|\S+")


@frozen
class PamLine:
    """One line of a stack: where it stands, and what it says. ``first`` and ``last`` are physical lines from 1."""

    file: str
    first: int
    last: int
    control: str
    module: str
    arguments: tuple[str, ...]

    @property
    def source(self) -> Source:
        return Source(self.file, self.first, " ".join((self.module, *self.arguments)))

    def argument(self, key: str) -> str | None:
        """The value of ``key=value``, ``""`` for a bare ``key``, None without either; the last one counts."""
        found = None
        for argument in self.arguments:
            name, _, value = argument.strip("[]").partition("=")
            if name == key:
                found = value
        return found

    @property
    def actions(self) -> dict[str, str]:
        """The control as its ``value=action`` pairs; the plain words are short for some of them."""
        plain = {
            "required": "success=ok new_authtok_reqd=ok ignore=ignore default=bad",
            "requisite": "success=ok new_authtok_reqd=ok ignore=ignore default=die",
            "sufficient": "success=done new_authtok_reqd=done default=ignore",
            "optional": "success=ok new_authtok_reqd=ok default=ignore",
            "binding": "success=done new_authtok_reqd=done default=bad",
        }
        pairs = plain.get(self.control, self.control.strip("[]")).split()
        return dict(pair.split("=", 1) for pair in pairs if "=" in pair)


@frozen
class Stack:
    """All lines of one facility of one service, in the order libpam runs them, and the lines it cannot use."""

    service: str
    lines: tuple[PamLine, ...]
    broken: tuple[Source, ...]

    def having(self, module: str, *arguments: str) -> list[PamLine]:
        """The lines of a module, with these bare arguments."""
        return [x for x in self.lines if x.module.rpartition("/")[2] == module and set(arguments) <= set(x.arguments)]

    def skipped_by(self, line: PamLine) -> PamLine | None:
        """An earlier line that can end the stack with success, or jump over ``line``, before it is reached."""
        position = self.lines.index(line)
        for index, earlier in enumerate(self.lines[:position]):
            if earlier.module.rpartition("/")[2] in FOR_ROOT_ALONE:
                continue
            action = earlier.actions.get("success", earlier.actions.get("default", "ignore"))
            if action == "done" or (action.isdigit() and index + int(action) >= position):
                return earlier
        return None


def service_file(root: Root, service: str) -> str:
    """The file of a service: the administrator's own, else the vendor's; nothing without either."""
    return next((f"{folder}/{service}" for folder in FOLDERS if root.exists(f"{folder}/{service}")), "")


def load_stack(root: Root, service: str, facility: str) -> Stack:
    """The stack of a service. One without a file, or without a line for the facility, gets that of ``other``, as libpam
    does."""
    reading = _Reading(root, facility)
    file = service_file(root, service)
    if file:
        reading.read(file, 0)
    other = service_file(root, OTHER)
    if not reading.lines and not reading.broken and (other or not file):
        reading.read(other or f"{FOLDERS[0]}/{OTHER}", 0)
    return Stack(service, tuple(reading.lines), tuple(reading.broken))


@define
class _Reading:
    root: Root
    facility: str
    lines: list[PamLine] = field(factory=list)
    broken: list[Source] = field(factory=list)
    files: int = 0

    def read(self, file: str, depth: int) -> None:
        self.files += 1
        if depth > DEEPEST or self.files > MOST_FILES or self.root.text(file) is None:
            why = "the included file is missing" if depth <= DEEPEST and self.files <= MOST_FILES else CIRCLES
            self.broken.append(Source(file, None, why))
            return
        for first, last, text in _logical_lines(self.root.lines(file)):
            self._line(file, first, last, _TOKEN.findall(text), depth)

    def _line(self, file: str, first: int, last: int, tokens: list[str], depth: int) -> None:
        if tokens[0] == "@include":
            if len(tokens) == 2:
                self.read(self._included(tokens[1]), depth + 1)
            else:
                self.broken.append(Source(file, first, "@include without a file"))
            return
        kind = tokens[0].removeprefix("-").lower()
        if kind not in FACILITIES:
            self.broken.append(Source(file, first, f"{tokens[0]!r} is none of {', '.join(FACILITIES)}"))
        elif kind != self.facility:
            return
        elif len(tokens) < 3:
            missing = "a control and a module are missing" if len(tokens) < 2 else "no module"
            self.broken.append(Source(file, first, missing))
        else:
            self._module(file, first, last, tokens, depth)

    def _module(self, file: str, first: int, last: int, tokens: list[str], depth: int) -> None:
        control = tokens[1].lower() if not tokens[1].startswith("[") else tokens[1]
        if control in ("include", "substack"):
            self.read(self._included(tokens[2]), depth + 1)
        elif control in CONTROLS or (control.startswith("[") and control.endswith("]")):
            self.lines.append(PamLine(file, first, last, control, tokens[2], tuple(tokens[3:])))
        else:
            self.broken.append(Source(file, first, f"{tokens[1]!r} is no control"))

    def _included(self, name: str) -> str:
        return name if name.startswith("/") else service_file(self.root, name) or f"{FOLDERS[0]}/{name}"


def _logical_lines(lines: Sequence[str]) -> Iterator[tuple[int, int, str]]:
    """Lines joined at a backslash, comments and blank ones left out, each with its first and last line from 1."""
    first, joined = 0, ""
    for number, line in enumerate(lines, start=1):
        text = line.split("#", 1)[0].rstrip()
        first = first or number
        if text.endswith("\\"):
            joined += text[:-1] + " "
            continue
        joined += text
        if joined.strip():
            yield first, number, joined.strip()
        first, joined = 0, ""
    if joined.strip():
        yield first, len(lines), joined.strip()


def with_argument(text: str, line: PamLine, key: str, value: str | None) -> str:
    """The text of ``line``'s file with ``key=value`` on that line (a bare ``key`` for ``""``, none for None)."""
    lines = text.split("\n")
    before = lines[line.first - 1 : line.last]
    word = key if value == "" else f"{key}={value}"
    changed = []
    found = False
    for physical in before:
        tokens = re.split(r"(\s+)", physical)
        for i, token in enumerate(tokens):
            if token.strip("[]").partition("=")[0] == key:
                tokens[i] = "" if value is None or found else word
                found = True
        changed.append("".join(tokens).rstrip())
    if not found and value is not None:
        changed[-1] = f"{changed[-1]} {word}"
    lines[line.first - 1 : line.last] = changed
    return "\n".join(lines)


_PUT_TOGETHER = re.compile(r"#.*(generated by|auto-?generated|do not (edit|modify)|will be (overwritten|lost))", re.I)
LINES_OF_A_HEADING = 12


def put_together(root: Root, file: str) -> str:
    """Why a file of the stack is never edited: it is a link to what another program keeps, or it says in its heading
    that a program puts it together. Nothing where it may be."""
    place = root.place(file)
    if place != root.place(file.rpartition("/")[0]) / file.rpartition("/")[2]:
        kept = "/" + str(place.relative_to(root.path))
        return f"{file} is a link to {kept}, which another program puts together; change it with that program"
    if any(map(_PUT_TOGETHER.match, root.lines(file)[:LINES_OF_A_HEADING])):
        return f"{file} says that a program puts it together; change it with that program"
    return ""


def edit_argument(root: Root, line: PamLine, key: str, value: str | None) -> None:
    """Set an argument of a line in its file, or take it off (None).

    Raises:
        Refused: the file is put together by another program.
    """
    if reason := put_together(root, line.file):
        raise Refused(reason)
    text = root.text(line.file)
    assert text is not None, "the line was read from this file"
    root.write(line.file, with_argument(text, line, key, value))
