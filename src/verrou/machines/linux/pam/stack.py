"""The PAM stack of a service as libpam combines it (pam.conf(5), pam.d(5)): includes, controls, arguments."""

import re
from collections.abc import Iterator, Mapping, Sequence

from attrs import define, evolve, field, frozen

from verrou.core.model import Source
from verrou.machines.linux.pam.control import actions_of
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root

FACILITIES = ("auth", "account", "password", "session")
DEEPEST = 16
"""Most nested substacks in libpam."""
MOST_INCLUDED, MOST_FILES = 100, 1000
"""Most nested includes, and files in all: a stack with more is circular, and libpam fails over it."""
CIRCLES = "includes go in circles"
FOLDERS = ("/etc/pam.d", "/usr/lib/pam.d", "/usr/etc/pam.d")
"""Folders of service files: the administrator's, and the vendors' used where it has none."""
OTHER = "other"
ALL_FAIL = "default=bad"
"""The control of a line that has none of its own, and calls no module."""
UPDATER = "/usr/sbin/pam-auth-update"
SPACE = " \n\t"
"""What parts the words of a line: nothing else, so that a carriage return is part of the last word."""
_TOKEN = re.compile(r"\[((?:\\\]|[^\]])*)(?:\]|$)|([^ \n\t]+)")
LONGEST_LINE = 1000
"""Bytes of a line beyond which versions of libpam differ: some take it, some refuse the whole file."""


@frozen(repr=False)
class PamLine:
    """One line of a stack with its source.

    ``first`` and ``last`` are physical lines from 1. ``depth`` counts the substacks around it. ``fault`` says why
    libpam cannot use the line and denies by it; a line that ``enters`` a substack calls no module."""

    file: str
    first: int
    last: int
    control: str
    module: str
    arguments: tuple[str, ...] = ()
    depth: int = 0
    fault: str = ""
    enters: bool = False

    @property
    def source(self) -> Source:
        return Source(self.file, self.first, self.fault or " ".join((self.module, *self.arguments)))

    @property
    def module_name(self) -> str:
        """The module's name without its folder."""
        return self.module.rpartition("/")[2]

    def argument(self, key: str) -> str | None:
        """Return the value of ``key=value``, ``""`` for a bare ``key``, None without either; the last one decides."""
        found = self.values(key)
        return found[-1] if found else None

    def values(self, key: str) -> list[str]:
        """Return all values of ``key=value``, ``""`` for a bare ``key``, in order."""
        given = (argument.strip("[]").partition("=") for argument in self.arguments)
        return [value for name, _, value in given if name == key]

    @property
    def actions(self) -> Mapping[str, str]:
        """The action at each result of the module."""
        return actions_of(self.control)


@frozen(repr=False)
class Stack:
    """One facility of one service, in libpam's order.

    ``chain`` are all lines, those that enter a substack and faulty ones included. ``fatal`` is a line over which libpam
    does not start the service at all, in whatever facility; ``unclear`` is a place where versions of libpam differ."""

    service: str
    chain: tuple[PamLine, ...]
    fatal: Source | None = None
    unclear: Source | None = None

    @property
    def lines(self) -> tuple[PamLine, ...]:
        """The lines that call a module."""
        return tuple(line for line in self.chain if line.module and not line.enters)

    @property
    def broken(self) -> tuple[Source, ...]:
        """The lines that libpam cannot use, and denies by."""
        return (*filter(None, (self.fatal,)), *(line.source for line in self.chain if line.fault))

    def having(self, module: str, *arguments: str) -> list[PamLine]:
        """Return the lines of a module, with these bare arguments."""
        return [line for line in self.lines if line.module_name == module and set(arguments) <= set(line.arguments)]


def service_file(root: Root, service: str) -> str:
    """Return the file of a service: the administrator's own, else the vendor's; nothing without either."""
    return next((f"{folder}/{service}" for folder in FOLDERS if root.exists(f"{folder}/{service}")), "")


def load_stack(root: Root, service: str, facility: str) -> Stack:
    """Return the stack of a service.

    One without a file, or without a line for the facility, gets that of ``other``, as libpam does."""
    mine, others = _read(root, service), _read(root, OTHER)
    counts = mine if mine.chains[facility] else others
    fatal, unclear = mine.fatal or others.fatal, mine.unclear or others.unclear
    if not mine.files and not others.files:
        fatal = Source(f"{FOLDERS[0]}/{OTHER}", None, "the file is missing")
    return Stack(service, tuple(counts.chains[facility]), fatal, unclear)


def _read(root: Root, service: str) -> "_Reading":
    def read() -> _Reading:
        reading = _Reading(root)
        if file := service_file(root, service):
            reading.read(file, None, 0, 0)
        return reading

    return root.made_once(("PAM", service), read)


@define(repr=False)
class _Reading:
    """libpam's own reading of its files: a line that it cannot use denies each time it is reached."""

    root: Root
    chains: dict[str, list[PamLine]] = field(factory=lambda: {facility: [] for facility in FACILITIES})
    fatal: Source | None = None
    unclear: Source | None = None
    files: int = 0

    def read(self, file: str, required: str | None, included: int, depth: int) -> bool:
        """Read the lines of a file, for ``wanted`` alone where it was included for one facility.

        Returns whether it could be read to its end: not if it is missing or included too deep."""
        self.files += 1
        if included > MOST_INCLUDED or self.files > MOST_FILES:
            self.fatal = self.fatal or Source(file, None, CIRCLES)
        if self.fatal or depth >= DEEPEST or self.root.text(file) is None:
            return False
        for first, last, text in _logical_lines(self.root.lines(file)):
            if text.endswith("\\"):
                if not included:
                    self.fatal = self.fatal or Source(file, last, "it continues on another line, which is missing")
                return False
            if len(text.encode(errors="surrogateescape")) > LONGEST_LINE:
                self.unclear = self.unclear or Source(file, first, f"this line has over {LONGEST_LINE} bytes")
            self._line(file, (first, last), text, required, included, depth)
        return True

    def _line(self, file: str, at: tuple[int, int], text: str, required: str | None, included: int, depth: int) -> None:
        words = [(inner or plain, not plain) for inner, plain in _TOKEN.findall(text)]
        first = words[0][0]
        if first == "@include":
            self._include(PamLine(file, *at, ALL_FAIL, "", (), depth), words[1:2], required, included)
            return
        kind, fault = first.removeprefix("-").lower(), ""
        if kind not in FACILITIES:
            # libpam takes it for the facility requested, or for the most sensitive of the four.
            kind, fault = required or FACILITIES[0], f"{first!r} is not one of {', '.join(FACILITIES)}"
        if not required or kind == required:
            self._module(kind, file, at, words[1:], fault, included, depth)

    def _include(
        self, line: PamLine, words: Sequence[tuple[str, bool]], kind: str | None, included: int, deeper: int = 0
    ) -> None:
        """Read another file, for one facility or all.

        libpam fails over an include without a file, and over one for all facilities that fails."""
        if not words:
            self.fatal = self.fatal or Source(line.file, line.first, "it includes, and names no file")
        elif not self.read(self._included(words[0][0]), kind, included + 1, line.depth + deeper):
            message = f"the included file {words[0][0]} cannot be read"
            if kind is None:
                self.fatal = self.fatal or Source(line.file, line.first, message)
            else:
                self.chains[kind].append(evolve(line, fault=message))

    def _module(
        self,
        kind: str,
        file: str,
        at: tuple[int, int],
        words: Sequence[tuple[str, bool]],
        fault: str,
        included: int,
        depth: int,
    ) -> None:
        if not words:
            message = fault or "a control and a module are missing"
            self.chains[kind].append(PamLine(file, *at, ALL_FAIL, "", (), depth, message))
            return
        (control, bracketed), module = words[0], words[1][0] if len(words) > 1 else ""
        if control.lower() in ("include", "substack"):
            substack = control.lower() == "substack"
            entering = PamLine(file, *at, ALL_FAIL, module, (), depth, enters=True)
            if substack:
                self.chains[kind].append(entering)
            self._include(evolve(entering, module="", enters=False), words[1:2], kind, included, substack)
            return
        arguments = tuple(f"[{word}]" if inside else word for word, inside in words[2:])
        fault = fault or ("" if module else "no module")
        control = control if bracketed else control.lower()
        self.chains[kind].append(PamLine(file, *at, control, "" if fault else module, arguments, depth, fault))

    def _included(self, name: str) -> str:
        return name if name.startswith("/") else service_file(self.root, name) or f"{FOLDERS[0]}/{name}"


def _logical_lines(lines: Sequence[str]) -> Iterator[tuple[int, int, str]]:
    """Join lines at a backslash and drop comments and blank ones, each with its first and last line from 1.

    A line that continues at the end of the file keeps its backslash."""
    first, joined = 0, ""
    for number, line in enumerate(lines, start=1):
        text = line.split("#", 1)[0].strip(SPACE)
        if not text:
            continue  # within a continued line, too
        first = first or number
        joined += text
        if text.endswith("\\"):
            joined = joined[:-1] + " "
            continue
        yield first, number, joined
        first, joined = 0, ""
    if first:
        yield first, len(lines), f"{joined}\\"


def with_argument(text: str, line: PamLine, key: str, value: str | None) -> str:
    """Return the text of ``line``'s file with ``key=value`` on that line (a bare ``key`` for ``""``, none for None)."""
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
    """Return why a file of the stack is never edited: a link to another program's file, or generated by its heading.

    Empty where it may be edited."""
    place = root.place(file)
    if place != root.place(file.rpartition("/")[0]) / file.rpartition("/")[2]:
        kept = "/" + str(place.relative_to(root.path))
        return f"{file} is a link to {kept}, which another program puts together; change it with that program"
    if any(map(_PUT_TOGETHER.match, root.lines(file)[:LINES_OF_A_HEADING])):
        return f"{file} says that a program generates it; change it with that program"
    return ""


def edit_argument(root: Root, line: PamLine, key: str, value: str | None) -> None:
    """Set an argument of a line in its file, or remove it (None). Raises: StepRejected: another program generates the
    file."""
    if reason := put_together(root, line.file):
        raise StepRejected(reason)
    text = root.text(line.file)
    assert text is not None, "the line was read from this file"
    root.write(line.file, with_argument(text, line, key, value))
