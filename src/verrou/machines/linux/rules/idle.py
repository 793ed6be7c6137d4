"""When an idle session is locked or ended on a Linux system: by the shell, by systemd-logind, by the screen locker."""

import re
from collections.abc import Mapping
from datetime import timedelta

from verrou.core.model import Reading, Source, shipped_default, unreadable
from verrou.core.rules.screen import RULES
from verrou.core.values import Value
from verrou.machines.linux.display_managers import in_use
from verrou.machines.linux.files import dconf
from verrou.machines.linux.files.keyfile import all_entries, drop_ins, last_of, set_key
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.keeper import Keeper, System, weakest

KIND = next(rule.kind for rule in RULES if rule.id == "screen.locks_after")
PROFILE, PROFILE_FOLDER = "/etc/profile", "/etc/profile.d"
IDLE_SCRIPT = f"{PROFILE_FOLDER}/verrou-idle.sh"
LOGIND_CONF = "/etc/systemd/logind.conf"
LOGIND_FOLDERS = ("/usr/lib/systemd/logind.conf.d", "/etc/systemd/logind.conf.d")
LOGIND_OWN = "/etc/systemd/logind.conf.d/50-verrou.conf"
_TMOUT = re.compile(r"(?:(?:export|readonly|declare -[xr]+|typeset -[xr]+)\s+)*TMOUT=(\d{1,7})\b(.*)")


def _read_shell_idle(root: Root) -> Reading:
    """TMOUT of bash(1), as the files say that every sign-in shell goes through. They are programs: a line that hangs on
    a condition is not known to count."""
    files = [PROFILE, *(f"{PROFILE_FOLDER}/{name}" for name in root.names_in(PROFILE_FOLDER) if name.endswith(".sh"))]
    found: Reading | None = None
    for file in files:
        for number, line in enumerate(root.lines(file), start=1):
            if "TMOUT" not in line.split("#", 1)[0]:
                continue
            source = Source(file, number, line.strip())
            match = _TMOUT.match(line)
            if match is not None:
                seconds = int(match[1])
                found = Reading(timedelta(seconds=seconds) if seconds else "never", source=source)
            elif not re.match(r"(export|readonly)(\s+-\w+)*\s+TMOUT\s*;?\s*$", line):
                return unreadable(f"{source}: whether this line counts, only the shell can tell", source=source)
    return found or Reading("never", source=shipped_default("no TMOUT"))


def _read_desktop_idle(root: Root) -> Reading:
    """What systemd-logind does when everybody is idle: logind.conf(5)."""
    found = all_entries(root, [LOGIND_CONF, *drop_ins(root, LOGIND_FOLDERS)])
    action, after = last_of(found, "Login", "IdleAction"), last_of(found, "Login", "IdleActionSec")
    if action is None or action.value in ("", "ignore"):
        return Reading("never", source=action.source if action else shipped_default("IdleAction=ignore"))
    span = _span(after.value) if after is not None else timedelta(minutes=30)
    source = after.source if after is not None else action.source
    if span is None:
        return unreadable(f"{source}: that is no time", source=source)
    return Reading(span or "never", source=source)


_SPAN = re.compile(r"(\d{1,9})\s*(us|ms|seconds?|sec|s|minutes?|min|m|hours?|hr|h|days?|d|)\s*")
_SECONDS = {"": 1.0, "u": 1e-6, "ms": 1e-3, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}


def _span(text: str) -> timedelta | None:
    """A time as systemd.time(7) has it: ``30min``, ``1h 30min``, a bare number of seconds."""
    parts = list(_SPAN.finditer(text.strip()))
    if not parts or "".join(part[0] for part in parts).strip() != text.strip():
        return None
    seconds = 0.0
    for part in parts:
        unit = part[2]
        seconds += int(part[1]) * (_SECONDS["ms"] if unit == "ms" else _SECONDS[unit[:1]])
    return timedelta(seconds=round(seconds))


IDLE = dconf.Key("org/gnome/desktop/session", "idle-delay")
LOCKS = dconf.Key("org/gnome/desktop/screensaver", "lock-enabled")
DELAY = dconf.Key("org/gnome/desktop/screensaver", "lock-delay")


def _read_locker(root: Root) -> Reading:
    """The screen locker of desktops that go by dconf: a person's own setting counts unless the machine locks it."""
    idle, locks, delay = (dconf.kept(root, key) for key in (IDLE, LOCKS, DELAY))
    open_ones = [key for key, each in ((IDLE, idle), (LOCKS, locks), (DELAY, delay)) if each is None or not each.lock]
    if open_ones or idle is None or locks is None or delay is None:
        said = f"{open_ones[0]} is not locked, so that a person's own setting decides, which may be never"
        source = next((each.source for each in (idle, locks, delay) if each is not None), None)
        return Reading("never", source=source or Source(dconf.PROFILE), reason=said)
    seconds = [re.fullmatch(r"(?:uint32 )?(\d{1,9})", each.value) for each in (idle, delay)]
    if seconds[0] is None or seconds[1] is None:
        return unreadable(f"{idle.source}: that is no number of seconds", source=idle.source)
    whole = timedelta(seconds=int(seconds[0][1]) + int(seconds[1][1]))
    never = int(seconds[0][1]) == 0 or locks.value != "true"
    return Reading("never" if never else whole, source=idle.source)


def _read_idle(system: System) -> Reading:
    found = [("the shell", _read_shell_idle(system.root))]
    if dconf.present(system.root):
        found.append(("the screen locker", _read_locker(system.root)))
    if in_use(system.root):
        found.append(("the desktop", _read_desktop_idle(system.root)))
    return weakest(KIND, found)


def _put_idle(root: Root, value: Value) -> str:
    seconds = int(value.total_seconds()) if isinstance(value, timedelta) else 0
    for file in (PROFILE, *(f"{PROFILE_FOLDER}/{name}" for name in root.names_in(PROFILE_FOLDER))):
        lines = root.lines(file)
        left = [line for line in lines if file == IDLE_SCRIPT or not re.match(r"[^#]*\bTMOUT\b", line)]
        if left != lines:
            root.write(file, "\n".join(left) + "\n")
    if seconds:
        root.write(
            IDLE_SCRIPT,
            "# An idle shell ends. Written by Verrou; verrou rule set changes it.\n"
            f"TMOUT={seconds}\nreadonly TMOUT\nexport TMOUT\n",
        )
    else:
        root.remove(IDLE_SCRIPT)
    if in_use(root):
        for key, text in (("IdleAction", "lock" if seconds else "ignore"), ("IdleActionSec", f"{seconds or 1800}s")):
            for file in (LOGIND_CONF, *drop_ins(root, LOGIND_FOLDERS)):
                set_key(root, file, "Login", key, text)
            set_key(root, LOGIND_OWN, "Login", key, text, only_there=False)
    if dconf.present(root):
        dconf.keep(root, {IDLE: f"uint32 {seconds}", LOCKS: "true" if seconds else "false", DELAY: "uint32 0"})
    return f"written to {IDLE_SCRIPT}" + (f" and {LOGIND_OWN}" if in_use(root) else "")


KEEPERS: Mapping[str, Keeper] = {
    "screen.locks_after": Keeper(
        f"TMOUT for the shell, in {PROFILE} and {PROFILE_FOLDER}; where there is a sign-in screen, IdleAction in "
        f"{LOGIND_CONF} and its folders too; where desktops go by dconf, idle-delay and the screen locker's keys, and "
        "whether they are locked",
        _read_idle,
        _put_idle,
    ),
}
