"""The lock of idle sessions on a Linux system: by the screen locker, or by the shell."""

import re
from collections.abc import Mapping
from datetime import timedelta

from verrou.core import advice
from verrou.core.model import Origin, Reading, Source, name_list, program_default, unreadable
from verrou.core.rules.screen import RULES
from verrou.core.values import Value
from verrou.machines.linux.entry.display_managers import in_use
from verrou.machines.linux.files import dconf
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, weakest

KIND = next(rule.kind for rule in RULES if rule.id == "screen.locks_after")
PROFILE, PROFILE_FOLDER = "/etc/profile", "/etc/profile.d"
IDLE_SCRIPT = f"{PROFILE_FOLDER}/verrou-idle.sh"
_TMOUT = re.compile(r"(?:(?:export|readonly|declare -[xr]+|typeset -[xr]+)\s+)*TMOUT=([0-9]{1,7})\b(.*)")


def _read_shell_idle(root: Root) -> Reading:
    """Return TMOUT of bash(1) from the files that every sign-in shell reads.

    They are programs: a line under a condition has an unknown result."""
    files = [PROFILE, *root.files_matching(f"{PROFILE_FOLDER}/*.sh")]
    found: Reading | None = None
    for file in files:
        for number, line in enumerate(root.lines(file), start=1):
            if "TMOUT" not in line.split("#", 1)[0]:
                continue
            source = Source(file, number, line.strip())
            match = _TMOUT.match(line)
            if match is not None:
                seconds = int(match[1])
                ends = "an idle shell ends, and with it what runs in it"
                found = Reading(timedelta(seconds=seconds) if seconds else "never", source=source, reason=ends)
            elif not re.match(r"(export|readonly)(\s+-\w+)*\s+TMOUT\s*;?\s*$", line):
                return unreadable(f"{source}: only the shell knows whether this line counts", source=source)
    return found or Reading("never", source=program_default("no TMOUT"))


IDLE = dconf.DconfKey("org/gnome/desktop/session", "idle-delay")
LOCKS = dconf.DconfKey("org/gnome/desktop/screensaver", "lock-enabled")
DELAY = dconf.DconfKey("org/gnome/desktop/screensaver", "lock-delay")


def _read_locker(root: Root) -> Reading:
    """Return the reading of the screen locker of dconf desktops: a user's setting decides unless the machine locks
    it."""
    idle, locks, delay = (dconf.saved_settings(root, key) for key in (IDLE, LOCKS, DELAY))
    open_ones = [key for key, each in ((IDLE, idle), (LOCKS, locks), (DELAY, delay)) if each is None or not each.lock]
    if open_ones or idle is None or locks is None or delay is None:
        message = f"{open_ones[0]} is not locked, so each user's own setting decides, which may be never"
        source = next((each.source for each in (idle, locks, delay) if each is not None), None)
        return Reading("never", source=source or Source(dconf.PROFILE), reason=message)
    seconds = [re.fullmatch(r"(?:uint32 )?([0-9]{1,9})", each.value) for each in (idle, delay)]
    if seconds[0] is None or seconds[1] is None:
        return unreadable(f"{idle.source}: not a number of seconds", source=idle.source)
    whole = timedelta(seconds=int(seconds[0][1]) + int(seconds[1][1]))
    never = int(seconds[0][1]) == 0 or locks.value != "true"
    message = "" if never else "the screen locks, and programs keep running"
    return Reading("never" if never else whole, source=idle.source, reason=message)


LOCKERS = ("gnome-shell", "gnome-screensaver", "budgie-screensaver")
"""Programs that lock a screen by these keys."""
NO_LOCKER = (
    "what an idle desktop does here is not known: no screen locker is installed that Verrou reads "
    f"({', '.join(LOCKERS)})"
)


def _locked_by_dconf(root: Root) -> bool:
    return dconf.present(root) and any(root.exists(f"/usr/bin/{name}") for name in LOCKERS)


OBEY = ("bash", "rbash", "ksh", "ksh93", "mksh")
"""The shells that read these files and end at TMOUT: others have the variable and stay, or never see it (measured)."""


def _who_does_not_obey(system: System) -> list[str]:
    """Return the accounts whose shell has no TMOUT."""
    return [
        f"{account.name} ({account.shell or '/bin/sh'})"
        for account in system.accounts
        if account.origin is Origin.ADDED
        and account.may_sign_in
        and system.root.place(account.shell or "/bin/sh").name not in OBEY
    ]


def _of_shells(system: System) -> Reading:
    """Return the value for users of a shell: TMOUT applies to no one whose shell does not follow it."""
    reading = _read_shell_idle(system.root)
    strangers = _who_does_not_obey(system) if isinstance(reading.value, timedelta) else []
    if not strangers:
        return reading
    message = f"no TMOUT ends the shell of {name_list(strangers)}; {advice.set_shell()}"
    return Reading("never", source=reading.source, reason=message)


def _read_idle(system: System) -> Reading:
    """Return the reading of a screen locker where people sign in to a desktop, else that of the shell's own time."""
    shell = "the shell", _of_shells(system)
    if not in_use(system.root):
        return shell[1]
    if not _locked_by_dconf(system.root):
        return unreadable(NO_LOCKER)
    return weakest(KIND, [shell, ("the screen locker", _read_locker(system.root))])


def _cannot(system: System) -> str:
    return NO_LOCKER if in_use(system.root) and not _locked_by_dconf(system.root) else ""


def _put_idle(root: Root, value: Value) -> str:
    seconds = int(value.total_seconds()) if isinstance(value, timedelta) else 0
    for file in (PROFILE, *root.files_matching(f"{PROFILE_FOLDER}/*")):
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
    if _locked_by_dconf(root):
        dconf.save_settings(root, {IDLE: f"uint32 {seconds}", LOCKS: "true" if seconds else "false", DELAY: "uint32 0"})
    return f"written to {IDLE_SCRIPT}" + (" and to dconf" if _locked_by_dconf(root) else "")


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "screen.locks_after": LinuxRuleAdapter(
        f"TMOUT for the shell, in {PROFILE} and {PROFILE_FOLDER}; where there is a sign-in screen, the screen "
        f"locker's settings, if it is {' or '.join(LOCKERS)}: idle-delay and the locker's keys of dconf, and whether "
        "they are locked",
        _read_idle,
        _put_idle,
        cannot=_cannot,
    ),
}
