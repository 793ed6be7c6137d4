"""Keys by which anyone at the machine can restart it or switch it off, whatever polkit's rules say."""

from collections.abc import Iterator

from verrou.machines.linux.entry.units import file_of, masked
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.files.keyfile import all_entries, drop_ins, last_of
from verrou.machines.linux.root import Root

KEYS_TARGET = "ctrl-alt-del.target"
LOGIND = ("/usr/lib/systemd/systemd-logind", "/lib/systemd/systemd-logind")
SYSTEMD = ("/usr/lib/systemd/systemd", "/lib/systemd/systemd")
"""systemd does not read /etc/sysctl.conf but by a link among the other files; what starts other systems does."""
FOLDERS = ("/usr/lib", "/usr/local/lib", "/run", "/etc")
"""Where settings are, the folder that counts most last: logind.conf(5), sysctl.d(5)."""
RUNNING_SYSRQ, SYSCTL_CONF = "/proc/sys/kernel/sysrq", "/etc/sysctl.conf"
SYSRQ = ("kernel.sysrq", "kernel/sysrq")
ALL_KEYS, RESTARTING = 1, 128
"""Values of the setting: 1 allows every function, other numbers are masks in which 128 allows to restart and to switch
off (Documentation/admin-guide/sysrq.rst)."""


def keys_left(root: Root) -> str:
    """Return what anyone can do with the machine's keys alone, and what prevents each; empty where nothing."""
    found = "; ".join(_left(root))
    return found and f"anyone at the machine can still {found}"


def _left(root: Root) -> Iterator[str]:
    file = file_of(root, KEYS_TARGET)
    if file and not masked(root, file):
        # The kernel signals the first process, which starts a unit for it: systemd(1).
        yield f"restart it with Ctrl-Alt-Del at a text console (systemctl mask {KEYS_TARGET} prevents that)"
    if any(map(root.exists, LOGIND)) and _power_key(root) != "ignore":
        yield "switch it off with its power key (HandlePowerKey=ignore in /etc/systemd/logind.conf prevents that)"
    if (value := _sysrq(root)) is None or value == ALL_KEYS or value & RESTARTING:
        how = "restart it with Alt-SysRq-B" if value is not None else "perhaps restart it with Alt-SysRq-B"
        yield f"{how} (kernel.sysrq = 0 in /etc/sysctl.d prevents that)"


def _power_key(root: Root) -> str:
    """Return logind's action for the key; ``poweroff`` by default, logind.conf(5)."""
    whole = [f"{top}/systemd/logind.conf" for top in reversed(FOLDERS)]
    first = [file for file in whole if root.exists(file)][:1]
    files = [*first, *drop_ins(root, [f"{top}/systemd/logind.conf.d" for top in FOLDERS])]
    found = last_of(all_entries(root, files), "Login", "HandlePowerKey")
    return found.value if found is not None else "poweroff"


def _sysrq(root: Root) -> int | None:
    """Return the mask of the key's functions; None where nothing sets it and the kernel's default applies."""
    if root.live:
        lines = root.lines(RUNNING_SYSRQ)
        return digits(lines[0]) if lines else None
    last = [] if any(map(root.exists, SYSTEMD)) else [SYSCTL_CONF]
    files = [*drop_ins(root, [f"{top}/sysctl.d" for top in FOLDERS]), *last]
    found = [each.value for each in all_entries(root, files) if each.key.lstrip("-") in SYSRQ]
    return digits(found[-1]) if found else None
