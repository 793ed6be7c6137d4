"""What a live system is told after an entry: its caches of accounts look again, and its own log has a line."""

import subprocess
import syslog
from pathlib import Path

from verrou.machines.linux.inside import CLEAN_ENVIRONMENT

CACHES = (
    ("/run/nscd/socket", ("/usr/sbin/nscd", "--invalidate=passwd")),
    ("/run/nscd/socket", ("/usr/sbin/nscd", "--invalidate=group")),
    ("/var/lib/sss/pipes/nss", ("/usr/sbin/sss_cache", "--everything")),
)
"""By what tells that it runs: the program that has a cache look again: nscd(8), sss_cache(8)."""
PATIENCE = 10
"""Seconds that one of them may take."""


def tell(line: str) -> None:
    """Have the caches of the live system look again, and leave a line in its log (facility authpriv). What cannot be
    told is left: the change itself has landed."""
    for running, command in CACHES:
        if Path(running).exists() and Path(command[0]).exists():
            try:
                subprocess.run(
                    command, env=CLEAN_ENVIRONMENT, capture_output=True, stdin=subprocess.DEVNULL, timeout=PATIENCE
                )
            except (OSError, subprocess.SubprocessError):
                continue
    printable = "".join(c if c.isprintable() else "?" for c in line)
    syslog.openlog("verrou", syslog.LOG_PID, syslog.LOG_AUTHPRIV)
    syslog.syslog(syslog.LOG_NOTICE, printable)
    syslog.closelog()
