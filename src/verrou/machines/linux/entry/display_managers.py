"""Display managers of a Linux system: which is installed, its settings, and its automatic sign-in.

Sources: lightdm's own ``lightdm.conf`` (every key with a comment), ``lightdm --show-config``; ``daemon.conf`` of gdm3;
sddm.conf(5); greetd(5); agetty(8). In each of them the last file that sets a key decides."""

import os
import tomllib
from collections.abc import Iterator

from verrou.core.model import Source
from verrou.log import Log
from verrou.machines.linux.entry.automatic import Automatic, signed_in_at_start
from verrou.machines.linux.files.keyfile import KeyfileEntry, all_entries, drop_ins, headings, last_of, with_entry
from verrou.machines.linux.root import Root

LOG = Log(__name__)

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
SLIM_CONF, NODM_CONF = "/etc/slim.conf", "/etc/default/nodm"
LXDM_CONF, GREETD_CONF = "/etc/lxdm/lxdm.conf", "/etc/greetd/config.toml"
IN_USE = "/etc/systemd/system/display-manager.service"
PROGRAMS = {
    "lightdm": ("/usr/sbin/lightdm", "/usr/bin/lightdm"),
    "gdm3": ("/usr/sbin/gdm3", "/usr/sbin/gdm", "/usr/bin/gdm"),
    "sddm": ("/usr/bin/sddm",),
    "lxdm": ("/usr/sbin/lxdm", "/usr/bin/lxdm"),
    "greetd": ("/usr/sbin/greetd", "/usr/bin/greetd"),
    "slim": ("/usr/bin/slim",),
    "nodm": ("/usr/sbin/nodm",),
}
UNASKED_SERVICES = ("lightdm-autologin", "gdm-autologin", "sddm-autologin")
"""PAM service name of sign-in without a prompt."""
TRUE = ("true", "yes", "on", "1")


def in_use(root: Root) -> list[str]:
    """Return the display managers of the console: those installed, or the one that the system starts, if it says which.

    An unknown one is returned as well."""
    there = [name for name, programs in PROGRAMS.items() if any(root.exists(program) for program in programs)]
    try:
        started = os.readlink(root.place(IN_USE.rpartition("/")[0]) / IN_USE.rpartition("/")[2])
    except OSError as error:
        LOG.info("%s is not read (%s): every installed display manager counts", IN_USE, error.strerror)
        return there
    named = started.rpartition("/")[2].removesuffix(".service").removesuffix("-plymouth")
    named = "gdm3" if named == "gdm" else named
    strange = named not in PROGRAMS and root.exists(started if started.startswith("/") else IN_USE)
    return [named] if named in there or strange else there


def lightdm_files(root: Root) -> list[str]:
    """Return its files in reading order; the last decides."""
    folders = (*LIGHTDM_FOLDERS, *LIGHTDM_ETC)
    return [*(file for folder in folders for file in drop_ins(root, (folder,))), LIGHTDM_CONF]


def of_seat(root: Root) -> dict[str, KeyfileEntry]:
    """Return the settings of the machine's seat, by key."""
    of_all: dict[str, KeyfileEntry] = {}
    of_this: dict[str, KeyfileEntry] = {}
    for file in lightdm_files(root):
        sections: dict[str, dict[str, KeyfileEntry]] = {name: {} for name in headings(root.lines(file))}
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


def automatic_accounts(root: Root) -> list[Automatic]:
    """Return automatic and timed sign-in, and guest sessions, of every display manager and text console."""
    routes = {"lightdm": _by_lightdm, "gdm3": _by_gdm, "sddm": _by_sddm, "lxdm": _by_lxdm, "greetd": _by_greetd}
    routes |= {"slim": _by_slim, "nodm": _by_nodm}
    found = [
        each for name in in_use(root) for each in (routes[name](root) if name in routes else [_by_a_strange_one(name)])
    ]
    return [*found, *signed_in_at_start(root)]


def _by_a_strange_one(name: str) -> Automatic:
    statement = f"whether {name} signs a user in automatically is not known"
    return Automatic("", statement, Source(IN_USE, text=name), name, known=False)


def _by_lightdm(root: Root) -> Iterator[Automatic]:
    seat = of_seat(root)
    name, timeout = seat.get("autologin-user"), seat.get("autologin-user-timeout")
    if name is not None and name.value:
        seconds = timeout.value if timeout is not None and timeout.value not in ("", "0") else ""
        when = f"after {seconds} seconds" if seconds else "at each start"
        yield Automatic(name.value, f"lightdm signs it in {when}", name.source, "lightdm-autologin")
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
        yield Automatic("", f"lightdm {'begins' if at_once else 'offers'} guest sessions", source, "lightdm-autologin")


def _by_gdm(root: Root) -> Iterator[Automatic]:
    found = all_entries(root, GDM_CONF)
    for kind, words in (("AutomaticLogin", "at each start"), ("TimedLogin", "after a while")):
        enabled, name = last_of(found, "daemon", f"{kind}Enable"), last_of(found, "daemon", kind)
        if enabled is not None and enabled.value.lower() in TRUE and name is not None and name.value:
            yield Automatic(name.value, f"gdm3 signs it in {words}", name.source, "gdm-autologin")


def _by_sddm(root: Root) -> Iterator[Automatic]:
    name = last_of(all_entries(root, sddm_files(root)), "Autologin", "User")
    if name is not None and name.value:
        yield Automatic(name.value, "sddm signs it in at each start", name.source, "sddm-autologin")


def _by_lxdm(root: Root) -> Iterator[Automatic]:
    name = last_of(all_entries(root, [LXDM_CONF]), "base", "autologin")
    if name is not None and name.value:
        yield Automatic(name.value, "lxdm signs it in at each start", name.source, "lxdm")


GREETERS = ("agreety", "gtkgreet", "tuigreet", "regreet", "wlgreet", "nwg-hello", "ddlm", "qtgreet", "phrog")
"""Programs that ask for a name and a password on behalf of greetd(1)."""


def _by_greetd(root: Root) -> Iterator[Automatic]:
    """Yield its first session, and a default session without a prompt: a program that is no greeter is a session
    itself."""
    try:
        document = tomllib.loads(root.text(GREETD_CONF) or "")
        found = {key: dict(document.get(key, {})) for key in ("initial_session", "default_session")}
    except (ValueError, AttributeError, RecursionError, TypeError):
        message = "greetd cannot read its file, so the account it signs in is not known"
        yield Automatic("", message, Source(GREETD_CONF), "greetd", known=False)
        return
    for key, session in found.items():
        name, command = session.get("user"), str(session.get("command", ""))
        if key == "default_session" and (not command or any(each in command for each in GREETERS)):
            continue
        if isinstance(name, str) and name:
            when = (
                "at each start" if key == "initial_session" else f"for {command.split()[0]}, which prompts no one here"
            )
            yield Automatic(name, f"greetd signs it in {when}", Source(GREETD_CONF, text=f"user = {name}"), "greetd")


def _by_slim(root: Root) -> Iterator[Automatic]:
    """Yield lines of a keyword and a value; the last decides."""
    found = {}
    for number, line in enumerate(root.lines(SLIM_CONF), start=1):
        words = line.split("#", 1)[0].split()
        if len(words) > 1:
            found[words[0]] = words[1], Source(SLIM_CONF, number, " ".join(words))
    name, source = found.get("default_user", ("", None))
    if found.get("auto_login", ("no", None))[0].lower() in TRUE and name and source is not None:
        yield Automatic(name, "slim signs it in at each start", source, "slim")


def _by_nodm(root: Root) -> Iterator[Automatic]:
    """Yield the account that nodm(8) signs in; it does nothing else."""
    found = {e.key: e for e in all_entries(root, [NODM_CONF])}
    enabled, user = found.get("NODM_ENABLED"), found.get("NODM_USER")
    if enabled is not None and enabled.value.strip("\"'").lower() not in ("no", "false", "0", ""):
        name = user.value.strip("\"'") if user is not None else "root"
        source = user.source if user is not None else Source(NODM_CONF)
        yield Automatic(name or "root", "nodm signs it in at each start", source, "nodm")


def gdm_screen(root: Root, key: str) -> tuple[str, Source] | None:
    """Return the value of a key of gdm3's own screen, without quotes, and its source; None for no value."""
    for file in GDM_SCREEN:
        entry = last_of(all_entries(root, [file]), GDM_SECTION, key)
        if entry is not None:
            return entry.value.strip("'\""), entry.source
    return None


def put_on_gdm_screen(root: Root, key: str, value: str) -> None:
    """Set a key of gdm3's own screen, in a private copy."""
    file = next((each for each in GDM_SCREEN if root.exists(each)), GDM_SCREEN[0])
    text = root.text(file) or ""
    if root.place(file) != root.path / file.removeprefix("/"):
        root.remove(file)  # a link to the vendor's own, which is not ours to write
    root.write(file, with_entry(text, GDM_SECTION, key, value))
