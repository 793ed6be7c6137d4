"""A second sign-in to the machine, by the user's own ssh: through a door that its private copy holds open, or anew."""

import base64
import os
import secrets
import shlex
import socket
import struct
import sys
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

from verrou.core.errors import MachineRefused, NotEnoughRights, VerrouError
from verrou.far.connection import Connection
from verrou.far.frames import Cut, NotUnderstood

PIECE = 32768
WITHIN, PAUSE = 45.0, 1.0
"""Seconds within which it has to succeed, less than the other end waits for it; and between two tries."""
TO_THE_DOOR = (
    "import os,select,socket,sys;s=socket.socket(1);s.connect(bytes(1)+sys.argv[1].encode());o={0:s,s:1}\n"
    "while o:\n"
    " for r in select.select(list(o),[],[])[0]:\n"
    "  d=s.recv(32768) if r is s else os.read(0,32768)\n"
    "  if r is s and not d: sys.exit()\n"
    "  if d: s.sendall(d) if r==0 else os.write(1,d)\n"
    "  else: o.pop(0);s.shutdown(1)\n"
)
"""What ssh runs in place of a network connection (ProxyCommand of ssh_config(5)): it leads to this process."""

Send = Callable[[dict[str, Any]], None]
Connect = Callable[[Sequence[str]], Connection]


def why_not(connect: Connect, more: Sequence[str] = ()) -> VerrouError | None:
    """Sign in and become root once more; return why that failed, or None."""
    try:
        with connect(more) as connection:
            connection.arrive()
    except VerrouError as error:
        return error
    except (Cut, NotUnderstood, OSError) as error:
        return MachineRefused(f"the connection was lost ({error})")
    return None


def arrives(connect: Connect, seconds: float = WITHIN) -> bool:
    """Sign in and become root once more, and try again for some seconds unless it is denied: the server there may be
    reading its settings again."""
    until = time.monotonic() + seconds
    while (reason := why_not(connect)) is not None:
        if isinstance(reason, NotEnoughRights) or time.monotonic() > until:
            return False
        time.sleep(PAUSE)
    return True


class Visit:
    """One sign-in through the door, in threads beside the command that is served; its result is sent as an answer."""

    def __init__(self, host: str, connect: Connect, send: Send) -> None:
        self.host, self.connect, self.send = host, connect, send
        self._name = f"verrou{secrets.token_hex(12)}"
        self._listening = socket.socket(socket.AF_UNIX)
        self._listening.bind(f"\0{self._name}")
        self._listening.listen(1)
        self._line: socket.socket | None = None
        self._there = threading.Event()
        for work in (self._sign_in, self._listen):
            threading.Thread(target=work, daemon=True).start()

    def hear(self, text: str) -> None:
        """Take what the server behind the door said. Raises: ValueError: it is not in the form of the door."""
        content = base64.b64decode(text, validate=True)
        self._there.wait(WITHIN)
        if self._line is not None:
            with suppress(OSError):
                self._line.sendall(content) if content else self._line.shutdown(socket.SHUT_WR)

    def _sign_in(self) -> None:
        program = f'exec(__import__("base64").b64decode("{base64.b64encode(TO_THE_DOOR.encode()).decode()}"))'
        command = shlex.join([sys.executable, "-I", "-c", program, self._name])
        more = ("-o", f"ProxyCommand={command}", "-o", "ProxyUseFdpass=no")
        reason = why_not(self.connect, more)
        self._there.set()
        self._listening.close()
        with suppress(Cut):
            message = str(reason or "").removeprefix(f"{self.host}: ").rstrip(".")
            self.send({"answer": [reason is None, message]})

    def _listen(self) -> None:
        try:
            line = self._listening.accept()[0]
            with line:
                if struct.unpack("3i", line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))[1] != os.geteuid():
                    return
                self._line = line
                self._there.set()
                while part := line.recv(PIECE):
                    self.send({"door": base64.b64encode(part).decode()})
                self.send({"door": ""})
        except (OSError, Cut):
            return
