"""Files with sections and ``key=value`` lines: read and edited, with every other byte kept.

Desktop programs and systemd write them; see the Desktop Entry Specification, and systemd.syntax(7)."""

from collections.abc import Iterator, Sequence

from attrs import frozen

from verrou.core.model import Source
from verrou.machines.linux.root import Root


@frozen(repr=False)
class KeyfileEntry:
    """One line that sets a key: section, key, value, and source (``line`` counts from 1)."""

    section: str
    key: str
    value: str
    file: str
    line: int

    @property
    def source(self) -> Source:
        return Source(self.file, self.line, f"{self.key}={self.value}")


def entries(file: str, lines: Sequence[str]) -> Iterator[KeyfileEntry]:
    """Yield the entries of the lines, in order."""
    section = ""
    for number, text in enumerate(lines, start=1):
        line = text.strip()
        if line.startswith("[") and line.endswith("]"):
            section = line[1:-1].strip()
        elif line and line[0] not in "#;" and "=" in line:
            key, _, value = line.partition("=")
            yield KeyfileEntry(section, key.strip(), value.strip(), file, number)


def headings(lines: Sequence[str]) -> list[str]:
    """Return the sections in order of their first line."""
    texts = (line.strip() for line in lines)
    return list(dict.fromkeys(text[1:-1].strip() for text in texts if text.startswith("[") and text.endswith("]")))


def with_entry(text: str, section: str, key: str, value: str | None) -> str:
    """Return ``text`` with ``key`` of ``section`` set to ``value`` in every line that sets it, or in a new line.

    The new line is at the end of the section, which is added where it is missing. None removes the lines. All other
    bytes stay."""
    lines = text.split("\n")
    found = [e.line for e in entries("", lines) if e.section == section and e.key == key]
    if found:
        for number in reversed(found):
            if value is None:
                del lines[number - 1]
            else:
                lines[number - 1] = f"{key}={value}"
        return "\n".join(lines)
    if value is None:
        return text
    headings = [n for n, line in enumerate(lines) if line.strip() == f"[{section}]"]
    if not headings:
        gap = "" if not text else "\n" if text.endswith("\n") else "\n\n"
        return f"{text}{gap}[{section}]\n{key}={value}\n"
    lines.insert(headings[-1] + 1, f"{key}={value}")
    return "\n".join(lines)


def drop_ins(root: Root, folders: Sequence[str], suffix: str = ".conf") -> list[str]:
    """Return the files of drop-in folders in reading order: by name, of one name the last folder's alone."""
    found = {name: f"{folder}/{name}" for folder in folders for name in root.files_in(folder) if name.endswith(suffix)}
    return [found[name] for name in sorted(found)]


def all_entries(root: Root, files: Sequence[str]) -> list[KeyfileEntry]:
    """Return the entries of several files, in order; the last of a key decides."""
    return [entry for file in files for entry in entries(file, root.lines(file) if root.exists(file) else [])]


def last_of(found: Sequence[KeyfileEntry], section: str, key: str) -> KeyfileEntry | None:
    """Return the deciding line."""
    return next((e for e in reversed(found) if e.section == section and e.key == key), None)


def set_key(root: Root, file: str, section: str, key: str, value: str | None, *, only_there: bool = True) -> None:
    """Set a key in an administrator's file, in a private copy; with ``only_there`` only where it is set already."""
    text = root.text(file) if root.exists(file) else None
    there = text is not None and any(e.section == section and e.key == key for e in entries(file, root.lines(file)))
    if file.startswith("/etc/") and (there or not only_there):
        root.write(file, with_entry(text or "", section, key, value))
