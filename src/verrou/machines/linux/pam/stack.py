"""The PAM stack of a service as libpam puts it together (pam.conf(5), pam.d(5)): includes, controls, arguments."""

import re
from collections.abc import Iterator, Sequence

from attrs import frozen

from verrou.core.model import Source
from verrou.machines.linux.root import Root

FACILITIES = ("auth", "account", "password", "session")
CONTROLS = ("required", "requisite", "sufficient", "optional", "binding")
DEEPEST = 16
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
            action = earlier.actions.get("success", earlier.actions.get("default", "ignore"))
            if action == "done" or (action.isdigit() and index + int(action) >= position):
                return earlier
        return None


def load_stack(root: Root, service: str, facility: str) -> Stack:
    """The stack of a service; a service without a file gets ``other``, as libpam does."""
    name = service if root.exists(f"/etc/pam.d/{service}") else "other"
    lines: list[PamLine] = []
    broken: list[Source] = []
    _load(root, f"/etc/pam.d/{name}", facility, lines, broken, 0)
    return Stack(service, tuple(lines), tuple(broken))


def _load(root: Root, file: str, facility: str, lines: list[PamLine], broken: list[Source], depth: int) -> None:
    if depth > DEEPEST or root.text(file) is None:
        why = "includes go in circles" if depth > DEEPEST else "the included file is missing"
        broken.append(Source(file, None, why))
        return
    for first, last, text in _logical_lines(root.lines(file)):
        tokens = _TOKEN.findall(text)
        if tokens[0] == "@include":
            if len(tokens) == 2:
                _load(root, _beside(file, tokens[1]), facility, lines, broken, depth + 1)
            else:
                broken.append(Source(file, first, "@include without a file"))
            continue
        kind = tokens[0].removeprefix("-").lower()
        if kind not in FACILITIES:
            broken.append(Source(file, first, f"{tokens[0]!r} is none of {', '.join(FACILITIES)}"))
            continue
        if kind != facility:
            continue
        if len(tokens) < 3:
            broken.append(Source(file, first, "a control and a module are missing" if len(tokens) < 2 else "no module"))
            continue
        control = tokens[1].lower() if not tokens[1].startswith("[") else tokens[1]
        if control in ("include", "substack"):
            _load(root, _beside(file, tokens[2]), facility, lines, broken, depth + 1)
        elif control in CONTROLS or (control.startswith("[") and control.endswith("]")):
            lines.append(PamLine(file, first, last, control, tokens[2], tuple(tokens[3:])))
        else:
            broken.append(Source(file, first, f"{tokens[1]!r} is no control"))


def _beside(file: str, name: str) -> str:
    return name if name.startswith("/") else f"{file.rpartition('/')[0]}/{name}"


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


def edit_argument(root: Root, line: PamLine, key: str, value: str | None) -> None:
    """Set an argument of a line in its file, or take it off (None)."""
    text = root.text(line.file)
    assert text is not None, "the line was read from this file"
    root.write(line.file, with_argument(text, line, key, value))
