"""Units that systemd starts, as systemd.unit(5) combines them: overrides, drop-ins, instances."""

import os
from collections.abc import Iterator, Sequence

from attrs import frozen

from verrou.machines.linux.files.keyfile import KeyfileEntry, entries
from verrou.machines.linux.root import Root

VENDORS = ("/lib/systemd/system", "/usr/lib/systemd/system", "/usr/local/lib/systemd/system")
FOLDERS = (
    "/run/systemd/generator.late",
    *VENDORS,
    *("/run/systemd/generator", "/run/systemd/system.attached", "/run/systemd/system"),
    *("/etc/systemd/system.attached", "/etc/systemd/system", "/run/systemd/generator.early", "/run/systemd/transient"),
    *("/run/systemd/system.control", "/etc/systemd/system.control"),
)
"""Folders of units, by systemd.unit(5), lowest precedence first: of one name the last decides."""
STARTED_ANYWAY = ("getty@", "autovt@", "serial-getty@", "console-getty", "container-getty@", "rescue", "emergency")
"""Units that are started although no one enabled them: consoles, and emergency shells."""
WANTED = (".wants", ".requires", ".upholds")


@frozen(repr=False)
class Unit:
    """One service as systemd sees it: its name and its setting lines, of which the last of a key decides."""

    name: str
    lines: tuple[KeyfileEntry, ...]

    def value(self, key: str) -> KeyfileEntry | None:
        """Return the deciding line of a service's key; None where the last one clears it."""
        found = [line for line in self.lines if line.section == "Service" and line.key == key]
        return found[-1] if found and found[-1].value else None

    def commands(self) -> list[KeyfileEntry]:
        """Return the commands started: an empty line clears those before it."""
        found: list[KeyfileEntry] = []
        for line in self.lines:
            if line.section == "Service" and line.key == "ExecStart":
                found = [*found, line] if line.value else []
        return found


def folders_of(root: Root) -> list[str]:
    """Return the folders of units, lowest precedence first. /run decides only on a running system."""
    merged = root.place(VENDORS[0]) == root.place(VENDORS[1])
    return [e for e in FOLDERS if not (e == VENDORS[0] and merged) and (root.live or not e.startswith("/run/"))]


def file_of(root: Root, name: str) -> str:
    """Return the effective file of a unit; empty where there is none."""
    files = (f"{folder}/{name}" for folder in reversed(folders_of(root)))
    return next((file for file in files if root.item(file).there), "")


def started_units(root: Root, telling: Sequence[str]) -> Iterator[Unit]:
    """Yield the automatically started services with one of these words in a line; masked ones are skipped."""
    folders = folders_of(root)
    found: dict[str, list[str]] = {}
    enabled: set[str] = set()
    for folder in folders:
        for name in root.names_in(folder):
            if name.endswith(WANTED):
                enabled |= set(root.names_in(f"{folder}/{name}"))
            elif name.endswith(".service"):
                found[name] = [f"{folder}/{name}"]
            elif name.endswith(".service.d"):
                found.setdefault(name.removesuffix(".d"), [])
    for name in enabled:
        template = _template(name)
        if name not in found and template in found:
            found[name] = found[template]
    for name, unit in found.items():
        template = _template(name)
        base = unit or found.get(template, [])
        if not (name in enabled or name.startswith(STARTED_ANYWAY)) or (base and masked(root, base[-1])):
            continue
        files = [*base[-1:], *_drop_ins(root, folders, name)]
        texts = [(file, root.lines(file)) for file in files]
        if any(word in line for _, lines in texts for line in lines for word in telling):
            yield Unit(name, tuple(entry for file, lines in texts for entry in entries(file, _joined(lines))))


def _template(name: str) -> str:
    """Return the template of an instance: ``getty@.service`` of ``getty@tty1.service``.

    The name itself of any other."""
    before, at, _ = name.partition("@")
    return f"{before}@.service" if at else name


def _drop_ins(root: Root, folders: Sequence[str], name: str) -> list[str]:
    """Return the drop-ins of a unit, by name.

    Of one name the highest folder decides, and within a folder the drop-in of the unit itself, of its template, then of
    its name prefixes; those of all services come last."""
    found: dict[str, str] = {}
    for kinds in (_named_for(name), ["service"]):
        for folder in reversed(folders):
            for kind in kinds:
                for each in root.files_in(f"{folder}/{kind}.d"):
                    if each.endswith(".conf"):
                        found.setdefault(each, f"{folder}/{kind}.d/{each}")
    return [found[each] for each in sorted(found) if not masked(root, found[each])]


def _named_for(name: str) -> list[str]:
    """Return the names of a unit's drop-in folders: for ``serial-getty@ttyS0.service`` also ``serial-.service``."""
    kinds = list(dict.fromkeys((name, _template(name))))
    beginning = _template(name).partition("@")[0].removesuffix(".service")
    while "-" in beginning:
        beginning = beginning.rpartition("-")[0]
        kinds.append(f"{beginning}-.service")
    return kinds


def masked(root: Root, file: str) -> bool:
    """Return whether a unit is masked, or a drop-in is empty by a link to /dev/null."""
    try:
        target = os.readlink(root.place(file.rpartition("/")[0]) / file.rpartition("/")[2])
    except OSError:
        return root.text(file) == ""
    return target == "/dev/null"


def _joined(lines: Sequence[str]) -> list[str]:
    """Join lines that continue after a backslash, with empty ones in their place, so that line numbers stay."""
    found: list[str] = []
    begun = None
    for line in lines:
        found.append(line if begun is None else "")
        if begun is not None:
            found[begun] += " " + line.strip()
        if found[len(found) - 1 if begun is None else begun].endswith("\\"):
            begun = len(found) - 1 if begun is None else begun
            found[begun] = found[begun][:-1].rstrip()
        else:
            begun = None
    return found
