"""The sign-in screens of a Linux system: which is there, what its files set, and whom it lets in without asking.

Sources: lightdm's own ``lightdm.conf`` (every key with a comment), ``lightdm --show-config``; ``daemon.conf`` of gdm3;
sddm.conf(5); greetd(5); agetty(8). In each of them the last file that sets a key decides.
"""

import os
import re
import tomllib
from collections.abc import Iterator

from attrs import frozen

from verrou.core.model import Source
from verrou.machines.linux.files.keyfile import Entry, all_entries, drop_ins, headings, last_of, with_entry
from verrou.machines.linux.root import Root

LIGHTDM_CONF = "/etc/lightdm/lightdm.conf"
LIGHTDM_FOLDERS = ("/usr/share/lightdm/lightdm.conf.d", "/usr/local/share/lightdm/lightdm.conf.d")
LIGHTDM_ETC = ("/etc/xdg/lightdm/lightdm.conf.d", "/etc/lightdm/lightdm.conf.d")
SEATS = ("Seat:*", "SeatDefaults", "Seat:seat0")
GUEST_SCRIPT = "guest-account-script"
GDM_CONF = ("/etc/gdm3/custom.conf", "/etc/gdm3/daemon.conf", "/etc/gdm/custom.conf")
GDM_SCREEN = ("/etc/gdm3/greeter.dconf-defaults", "/etc/gdm/greeter.dconf-defaults")
GDM_SECTION = "org/gnome/login-screen"
SDDM_CONF = "/etc/sddm.conf"
SDDM_FOLDERS = ("/usr/lib/sddm/sddm.conf.d", "/etc/sddm.conf.d")
LXDM_CONF, GREETD_CONF = "/etc/lxdm/lxdm.conf", "/etc/greetd/config.toml"
UNIT_FOLDERS = ("/usr/lib/systemd/system", "/lib/systemd/system", "/etc/systemd/system")
IN_USE = "/etc/systemd/system/display-manager.service"
PROGRAMS = {
    "lightdm": ("/usr/sbin/lightdm", "/usr/bin/lightdm"),
    "gdm3": ("/usr/sbin/gdm3", "/usr/sbin/gdm", "/usr/bin/gdm"),
    "sddm": ("/usr/bin/sddm",),
    "lxdm": ("/usr/sbin/lxdm", "/usr/bin/lxdm"),
    "greetd": ("/usr/sbin/greetd", "/usr/bin/greetd"),
}
UNASKED_SERVICES = ("lightdm-autologin", "gdm-autologin", "sddm-autologin")
"""What PAM knows a sign-in by that nobody is asked for."""
TRUE = ("true", "yes", "on", "1")


def in_use(root: Root) -> list[str]:
    """The display managers that may stand at the console: those installed, or the one that the system starts, where it
    says which."""
    there = [name for name, programs in PROGRAMS.items() if any(root.exists(program) for program in programs)]
    try:
        started = os.readlink(root.place(IN_USE.rpartition("/")[0]) / IN_USE.rpartition("/")[2])
    except OSError:
        return there
    named = started.rpartition("/")[2].removesuffix(".service").removesuffix("-plymouth")
    named = "gdm3" if named == "gdm" else named
    return [named] if named in there else there


def lightdm_files(root: Root) -> list[str]:
    """Its files in the order in which they are read; the last decides."""
    folders = (*LIGHTDM_FOLDERS, *LIGHTDM_ETC)
    return [*(file for folder in folders for file in drop_ins(root, (folder,))), LIGHTDM_CONF]


def of_seat(root: Root) -> dict[str, Entry]:
    """What counts for the seat of the machine, by key."""
    of_all: dict[str, Entry] = {}
    of_this: dict[str, Entry] = {}
    for file in lightdm_files(root):
        sections: dict[str, dict[str, Entry]] = {name: {} for name in headings(root.lines(file))}
        for entry in all_entries(root, [file]):
            sections.setdefault(entry.section, {})[entry.key] = entry
        # The older name of the section for every seat is the same section to lightdm, and of the two in one file the
        # one that begins later is laid over the other; the section for this seat comes after both.
        for section, found in sections.items():
            if section in SEATS[:2]:
                of_all |= found
            elif section == SEATS[2]:
                of_this |= found
    return of_all | of_this


def sddm_files(root: Root) -> list[str]:
    return [*drop_ins(root, SDDM_FOLDERS), SDDM_CONF]


@frozen
class Unasked:
    """Somebody who is signed in without being asked: an account, or nobody in particular (``""``). ``service`` is the
    one of PAM by which that happens: its account stack may still turn them away."""

    account: str
    says: str
    source: Source
    service: str


def whom_unasked(root: Root) -> list[Unasked]:
    """Automatic and timed sign-in, and guest sessions, of every display manager and text console."""
    ways = {"lightdm": _by_lightdm, "gdm3": _by_gdm, "sddm": _by_sddm, "lxdm": _by_lxdm, "greetd": _by_greetd}
    found = [each for name in in_use(root) for each in ways[name](root)]
    return [*found, *_by_getty(root)]


def _by_lightdm(root: Root) -> Iterator[Unasked]:
    seat = of_seat(root)
    name, timeout = seat.get("autologin-user"), seat.get("autologin-user-timeout")
    if name is not None and name.value:
        seconds = timeout.value if timeout is not None and timeout.value not in ("", "0") else ""
        when = f"after {seconds} seconds" if seconds else "at each start"
        yield Unasked(name.value, f"lightdm signs it in {when}", name.source, "lightdm-autologin")
    script = seat.get(GUEST_SCRIPT)
    allowed = seat.get("allow-guest")
    program = script.value.split()[0] if script is not None and script.value else ""
    program = program if program.startswith("/") else f"/usr/sbin/{program}"
    if script is None or not script.value or not root.exists(program):
        return
    if allowed is None or allowed.value.lower() in TRUE:
        by_itself = seat.get("autologin-guest")
        at_once = by_itself is not None and by_itself.value.lower() in TRUE
        source = by_itself.source if by_itself is not None and at_once else (allowed or script).source
        yield Unasked("", f"lightdm {'begins' if at_once else 'offers'} guest sessions", source, "lightdm-autologin")


def _by_gdm(root: Root) -> Iterator[Unasked]:
    found = all_entries(root, GDM_CONF)
    for kind, words in (("AutomaticLogin", "at each start"), ("TimedLogin", "after a while")):
        enabled, name = last_of(found, "daemon", f"{kind}Enable"), last_of(found, "daemon", kind)
        if enabled is not None and enabled.value.lower() in TRUE and name is not None and name.value:
            yield Unasked(name.value, f"gdm3 signs it in {words}", name.source, "gdm-autologin")


def _by_sddm(root: Root) -> Iterator[Unasked]:
    name = last_of(all_entries(root, sddm_files(root)), "Autologin", "User")
    if name is not None and name.value:
        yield Unasked(name.value, "sddm signs it in at each start", name.source, "sddm-autologin")


def _by_lxdm(root: Root) -> Iterator[Unasked]:
    name = last_of(all_entries(root, [LXDM_CONF]), "base", "autologin")
    if name is not None and name.value:
        yield Unasked(name.value, "lxdm signs it in at each start", name.source, "lxdm")


def _by_greetd(root: Root) -> Iterator[Unasked]:
    try:
        document = tomllib.loads(root.text(GREETD_CONF) or "")
        name = document.get("initial_session", {}).get("user", "")
    except (ValueError, AttributeError, RecursionError):
        return
    if isinstance(name, str) and name:
        yield Unasked(name, "greetd signs it in at each start", Source(GREETD_CONF, text=f"user = {name}"), "greetd")


_AUTOLOGIN = re.compile(r"(?:--autologin[= ]|\s-a\s*)(\S+)")


def _by_getty(root: Root) -> Iterator[Unasked]:
    """Text consoles: the last command of a unit and its drop-ins counts."""
    units: dict[str, list[str]] = {}
    for folder in UNIT_FOLDERS:
        for name in root.names_in(folder):
            unit = name.removesuffix(".d")
            if "getty" not in unit or not unit.endswith(".service"):
                continue
            if name == unit:
                units.setdefault(unit, []).insert(0, f"{folder}/{name}")
            else:
                units.setdefault(unit, []).extend(drop_ins(root, (f"{folder}/{name}",)))
    for unit, files in units.items():
        commands = [e for e in all_entries(root, files) if e.section == "Service" and e.key == "ExecStart" and e.value]
        match = _AUTOLOGIN.search(commands[-1].value) if commands else None
        if match is not None:
            yield Unasked(match[1], f"the text console {unit} signs it in at each start", commands[-1].source, "login")


def gdm_screen(root: Root, key: str) -> tuple[str, Source] | None:
    """What gdm3's own screen is told of a key, without quotes, and where; None where nothing is."""
    for file in GDM_SCREEN:
        entry = last_of(all_entries(root, [file]), GDM_SECTION, key)
        if entry is not None:
            return entry.value.strip("'\""), entry.source
    return None


def put_on_gdm_screen(root: Root, key: str, value: str) -> None:
    """Tell gdm3's own screen a key, in a private copy."""
    file = next((each for each in GDM_SCREEN if root.exists(each)), GDM_SCREEN[0])
    text = root.text(file) or ""
    if root.place(file) != root.path / file.removeprefix("/"):
        root.remove(file)  # a link to the vendor's own, which is not ours to write
    root.write(file, with_entry(text, GDM_SECTION, key, value))
