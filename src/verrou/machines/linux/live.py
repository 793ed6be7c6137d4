"""What a live system is told after an entry: its caches of accounts look again, services read their settings again, and
its own log has a line."""

import subprocess
import syslog
from collections.abc import Iterator, Sequence
from pathlib import Path

from verrou.machines.linux.inside import CLEAN_ENVIRONMENT
from verrou.machines.linux.root import Root

CACHES = (
    ("/run/nscd/socket", ("/usr/sbin/nscd", "--invalidate=passwd")),
    ("/run/nscd/socket", ("/usr/sbin/nscd", "--invalidate=group")),
    ("/var/lib/sss/pipes/nss", ("/usr/sbin/sss_cache", "--everything")),
)
"""By what tells that it runs: the program that has a cache look again: nscd(8), sss_cache(8)."""
SYSTEMCTL, STARTED_BY_SYSTEMD = "/usr/bin/systemctl", "/run/systemd/system"
"""What tells services, and the folder that is there where systemd is the first process, by sd_booted(3)."""
CHECKED = ("/usr/sbin/sshd", "-t")
READERS: Sequence[tuple[str, Sequence[str], Sequence[str]]] = (
    ("/etc/ssh/", CHECKED, (SYSTEMCTL, "reload", "ssh.service")),
    ("/etc/ssh/", CHECKED, (SYSTEMCTL, "reload", "sshd.service")),
    ("/var/lib/AccountsService/", (), (SYSTEMCTL, "try-restart", "accounts-daemon.service")),
)
"""By where its settings stand: what has to end well first, and how a service is told to read them again; sessions that
are open go on. The unit of sshd goes by either name. A server that is told to read what it cannot use ends."""
PATIENCE = 10
"""Seconds that one of them may take."""


def can_tell(root: Root) -> bool:
    """Whether services of the system can be told to read their settings again."""
    return root.live and root.exists(SYSTEMCTL) and root.exists(STARTED_BY_SYSTEMD)


def notify(root: Root, line: str, places: Sequence[str]) -> None:
    """Tell the live system what changed in ``places``, and leave a line in its log (facility authpriv). What cannot be
    told is left: the change itself has landed."""
    for command in _commands(root, places):
        _ends_well(command)
    printable = "".join(c if c.isprintable() else "?" for c in line)
    syslog.openlog("verrou", syslog.LOG_PID, syslog.LOG_AUTHPRIV)
    syslog.syslog(syslog.LOG_NOTICE, printable)
    syslog.closelog()


def _commands(root: Root, places: Sequence[str]) -> Iterator[Sequence[str]]:
    yield from (c for running, c in CACHES if Path(running).exists() and Path(c[0]).exists())
    if can_tell(root):
        for folder, checked, command in READERS:
            if any(place.startswith(folder) for place in places) and (not checked or _ends_well(checked)):
                yield command


def _ends_well(command: Sequence[str]) -> bool:
    none = subprocess.DEVNULL
    try:
        ended = subprocess.run(command, env=CLEAN_ENVIRONMENT, capture_output=True, stdin=none, timeout=PATIENCE)
    except (OSError, subprocess.SubprocessError):
        return False
    return ended.returncode == 0
