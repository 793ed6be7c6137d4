"""The system's own ssh(1) as a process: how it is called, and what it says when it cannot connect."""

import re
import shutil
import signal
import subprocess
import threading
from collections.abc import Sequence

from attrs import frozen

from verrou.core.errors import MachineRefused, NotEnoughRights, VerrouError
from verrou.far.address import Address
from verrou.reports.terminal import printable

ALWAYS = (
    *("-T", "-e", "none", "-a", "-x", "-v"),
    *(
        word
        for setting in (
            "ClearAllForwardings=yes",
            "ConnectTimeout=10",
            "ControlMaster=no",
            "ControlPath=none",
            "ForkAfterAuthentication=no",
            "LogLevel=DEBUG1",
            "PermitLocalCommand=no",
            "RemoteCommand=none",
            "ServerAliveCountMax=3",
            "ServerAliveInterval=5",
            "SessionType=default",
            "StdinNull=no",
            "UpdateHostKeys=no",
            "VerifyHostKeyDNS=no",
        )
        for word in ("-o", setting)
    ),
)
"""Options of ssh_config(5), before the user's own: no terminal and no forwarding there, a connection of one's own that
is noticed to be gone after 15 seconds, and no host key accepted by any means but the user's own word."""
ASKING = ("-o", "StrictHostKeyChecking=ask")
WITHOUT_ASKING = ("-o", "StrictHostKeyChecking=yes", "-o", "BatchMode=yes")
FAILED = 255
"""The exit code of ssh itself, when it could not connect."""
MOST_LINES = 2000


def ssh_words(address: Address, command: str, *, asks: bool, more: Sequence[str] = ()) -> list[str]:
    """Return the command line of ssh. Raises: MachineRefused: there is no ssh on this computer."""
    program = shutil.which("ssh")
    if program is None:
        raise MachineRefused("ssh was not found on this computer. Install it (the package openssh-client on Debian).")
    return [program, *ALWAYS, *(ASKING if asks else WITHOUT_ASKING), *more, *address.ssh_words, command]


@frozen(repr=False)
class Said:
    """What ssh said on its standard error."""

    lines: tuple[str, ...]

    @property
    def method(self) -> str:
        """By what the account was authenticated: ``publickey``, ``password``, ...; empty where ssh did not say it."""
        found = self._found(r'Authenticated to .* using "([^"]+)"')
        return found[1] if found else ""

    def _found(self, pattern: str) -> re.Match[str] | None:
        return next((found for line in self.lines if (found := re.search(pattern, line))), None)

    @property
    def _fingerprint(self) -> str:
        found = self._found(r"Server host key: (\S+) (SHA256:\S+)")
        return f"{found[2]} ({found[1]})" if found else "an unknown fingerprint"

    def why_not(self, address: Address) -> VerrouError:
        """Return why there is no connection, as an error with what to do."""
        host = address.shown
        if self._found("REMOTE HOST IDENTIFICATION HAS CHANGED"):
            kept = self._found(r"Offending \S+ key in (.*?):(\d+)")
            where = f" ({kept[1]}, line {kept[2]})" if kept else ""
            return MachineRefused(
                f"{host}: its host key is {self._fingerprint} and not the one that is stored for it{where}. Either it "
                "was set up again, or another computer answers in its place. Find out which at that computer first."
            )
        if self._found(r"host key is known for|Host key verification failed"):
            return MachineRefused(
                f"{host}: its host key is not known here: {self._fingerprint}. Compare it at that computer, then "
                f"accept it: {accepting(address)}"
            )
        if denied := self._found(r"Permission denied \(([^)]*)\)|Too many authentication failures"):
            by = f"; it accepts: {denied[1]}" if denied[1] else ""
            return NotEnoughRights(f"{host}: sign-in over SSH was denied{by}. Check the account and its key.")
        for pattern, message in REASONS:
            if self._found(pattern):
                return MachineRefused(f"{host}: {message}")
        last = next((line for line in reversed(self.lines) if line.strip() and not line.startswith("debug")), "")
        about = printable(last.strip()[:300]).removeprefix("ssh: ")
        return MachineRefused(f"{host}: no connection over SSH: {about or 'ssh ended without a word'}")


REASONS = (
    (r"Could not resolve hostname", "no computer of that name was found. Check the name, or give its IP address."),
    (r"Connection refused", "nothing answers at that port. Check that its SSH server runs, and the port."),
    (r"(No route to host|Network is unreachable)", "there is no way to it in the network. Check the cable."),
    (r"(timed out|Operation now in progress)", "it did not answer in time. Check that it is on and connected."),
    (r"(Connection closed by|Connection reset by|kex_exchange_identification)", "it closed the connection."),
)


def accepting(address: Address) -> str:
    """Return the command line by which a user accepts a host key."""
    from shlex import join

    return join(["ssh", *address.ssh_words, "true"])


def connect(words: Sequence[str], *, apart: bool) -> "subprocess.Popen[bytes]":
    """Start ssh. ``apart``: from the terminal, which it would else ask at; there, Ctrl-C is for the command alone."""

    def start() -> "subprocess.Popen[bytes]":
        pipe = subprocess.PIPE
        return subprocess.Popen(words, stdin=pipe, stdout=pipe, stderr=pipe, bufsize=0, start_new_session=apart)

    if apart or threading.current_thread() is not threading.main_thread():
        return start()
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        return start()
    finally:
        signal.signal(signal.SIGINT, before)
