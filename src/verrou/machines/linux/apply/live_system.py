"""Notify a live system after an entry: account caches, services that read their settings again, and the system log."""

import subprocess
import syslog
from collections.abc import Iterator, Sequence
from pathlib import Path

from verrou.log import Log
from verrou.machines.linux.copy.sandbox import CLEAN_ENVIRONMENT
from verrou.machines.linux.root import Root

LOG = Log(__name__)

CACHES = (
    ("/run/nscd/socket", ("/usr/sbin/nscd", "--invalidate=passwd")),
    ("/run/nscd/socket", ("/usr/sbin/nscd", "--invalidate=group")),
    ("/var/lib/sss/pipes/nss", ("/usr/sbin/sss_cache", "--everything")),
)
"""Programs that flush account caches: nscd(8), sss_cache(8)."""
SYSTEMCTL, STARTED_BY_SYSTEMD = "/usr/bin/systemctl", "/run/systemd/system"
"""The program that notifies services, and the folder that exists where systemd runs, by sd_booted(3)."""
CHECKED = ("/usr/sbin/sshd", "-t")
READERS: Sequence[tuple[str, Sequence[str], Sequence[str]]] = (
    ("/etc/ssh/", CHECKED, (SYSTEMCTL, "reload", "ssh.service")),
    ("/etc/ssh/", CHECKED, (SYSTEMCTL, "reload", "sshd.service")),
    ("/var/lib/AccountsService/", (), (SYSTEMCTL, "try-restart", "accounts-daemon.service")),
)
"""By the place of their settings: the check that has to succeed, and the command that reloads a service; open sessions
continue. The unit of sshd has either name. A server that reloads invalid settings ends."""
PATIENCE = 10
"""Seconds that one of them may take."""


def can_tell(root: Root) -> bool:
    """Return whether services of the system can be told to read their settings again."""
    return root.live and root.exists(SYSTEMCTL) and root.exists(STARTED_BY_SYSTEMD)


def notify(root: Root, line: str, places: Sequence[str]) -> None:
    """Notify the live system of changes in ``places``, and write a line to its log (facility authpriv).

    A service that cannot be notified is skipped: the change itself is applied."""
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
    except (OSError, subprocess.SubprocessError) as error:
        LOG.info("%s: not run: %s", " ".join(command), error)
        return False
    LOG.info("%s: ended with %s", " ".join(command), ended.returncode)
    return ended.returncode == 0
