"""A second sign-in from another computer, received on a private copy by its own SSH server (sshd(8), ``-i``)."""

import fcntl
import os
import select
import socket
import struct
import subprocess
import threading
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple, Self

from verrou.machines.linux.copy.bounds import bound_this_process
from verrou.machines.linux.copy.call_filter import refuse_calls
from verrou.machines.linux.copy.sandbox import (
    CLEAN_ENVIRONMENT,
    CLONE_NEWNET,
    CLONE_NEWNS,
    MS_NOSUID,
    NEEDED_INSIDE,
    give_up_capabilities,
    mount_new,
    private_mounts,
    unshare,
)
from verrou.machines.linux.entry.shell_asked import HERE, PORT
from verrou.machines.linux.files.sshd import REMOTE, SSHD
from verrou.machines.protocol import Visitor

DOOR = "/run/verrou-arrival"
"""The socket in the copy at which the visitor is let in from outside of it."""
LOGS = "/var/log"
SSHD_NEEDS = (*NEEDED_INSIDE, 18, 30)
"""What sshd needs of capabilities(7) besides: SYS_CHROOT, and AUDIT_CONTROL to say who signs in."""
PATIENCE, PIECE = 60.0, 65536
LATE, PAUSE = 20.0, 0.02
SIOCSIFADDR, SIOCSIFFLAGS, IFF_UP = 0x8916, 0x8914, 0x1
"""netdevice(7)"""
LOOPBACK = 1


class Ends(NamedTuple):
    """Both ends of a connection, as numbers and ports: the visitor's, and the server's."""

    visitor: str = REMOTE
    visitor_port: int = 0
    server: str = HERE
    server_port: int = int(PORT)


def ends_from(text: str) -> Ends:
    """Return both ends from ``SSH_CONNECTION`` (ssh(1)); any where it is none."""
    parts = text.split()
    if len(parts) == 4 and parts[1].isdigit() and parts[3].isdigit():
        return Ends(parts[0], int(parts[1]), parts[2], int(parts[3]))
    return Ends()


def receive(ends: Ends, config: str, gone: Sequence[str]) -> dict[str, object]:
    """Receive one visitor, in mounts and a network of its own; ``gone`` are homes that the plan removes.

    Return whether the server and the visitor spoke at all, and what the server complained. Raises: OSError: it cannot
    be received here."""
    unshare(CLONE_NEWNS | CLONE_NEWNET)
    private_mounts()
    for folder in (LOGS, *gone):  # sudo may insist on its log: a new one is as good
        if Path(folder).is_dir():
            mount_new("tmpfs", folder, "mode=0755,size=64m")
    mount_new("proc", "/proc", "subset=pid", flags=MS_NOSUID)  # who signs in is written there
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(DOOR)
        os.chmod(DOOR, 0o600)
        listening.listen(1)
        listening.settimeout(LATE)
        door = listening.accept()[0]
    near, far = _connected(ends)
    refuse_calls()
    give_up_capabilities(SSHD_NEEDS)
    bound_this_process(int(PATIENCE))
    complained = os.memfd_create("complained")
    command = [SSHD, "-i", "-e", "-f", config]
    line = far.fileno()
    with subprocess.Popen(command, env=CLEAN_ENVIRONMENT, stdin=line, stdout=line, stderr=complained) as server:
        far.close()
        spoke, came = _passed_on(door, near)
        near.close()
        door.close()
        with suppress(subprocess.TimeoutExpired):
            server.wait(1)
        server.kill()
    return {"spoke": spoke, "came": came, "message": os.pread(complained, 2000, 0).decode(errors="replace")}


class Arriving:
    """A visitor's way to the door of a copy, in a thread beside the question that opens it."""

    def __init__(self, visitor: Visitor, door: Path) -> None:
        self.visitor, self.door = visitor, door
        self.succeeded, self.message = False, ""
        self._over = threading.Event()
        self._broken: BaseException | None = None
        self._thread = threading.Thread(target=self._arrive, daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()
        if self._broken is not None:
            raise self._broken

    def _arrive(self) -> None:
        try:
            with socket.socket(socket.AF_UNIX) as line:
                while not self._over.is_set():
                    try:
                        line.connect(str(self.door))
                        break
                    except OSError:  # it is not open yet
                        self._over.wait(PAUSE)
                else:
                    return
                self.succeeded, self.message = self.visitor.sign_in_again(line)
        except BaseException as error:
            self._broken = error


def _connected(ends: Ends) -> tuple[socket.socket, socket.socket]:
    """Return two ends of a connection between these addresses, which exist in this network alone."""
    family = socket.AF_INET6 if ":" in ends.visitor else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as control:
        fcntl.ioctl(control, SIOCSIFFLAGS, struct.pack("16sh14x", b"lo", IFF_UP))
        for number, address in enumerate(dict.fromkeys((ends.visitor, ends.server))):
            _add_address(control, number, address.partition("%")[0])
    with socket.socket(family) as listening:
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listening.bind((ends.server.partition("%")[0], ends.server_port))
        listening.listen(1)
        near = socket.socket(family)  # and not by a name, for which Python would load what the copy has not
        near.bind((ends.visitor.partition("%")[0], ends.visitor_port))
        near.connect(listening.getsockname())
        far = listening.accept()[0]
    return near, far


def _add_address(control: socket.socket, number: int, address: str) -> None:
    if ":" in address:
        request = struct.pack("16sIi", socket.inet_pton(socket.AF_INET6, address), 128, LOOPBACK)
    else:
        name = f"lo:{number + 1}".encode()
        request = struct.pack("16sHH4s8x", name, socket.AF_INET, 0, socket.inet_aton(address))
    with suppress(FileExistsError):  # one of the loopback's own
        fcntl.ioctl(control, SIOCSIFADDR, request)


def _passed_on(door: socket.socket, near: socket.socket) -> tuple[bool, bool]:
    """Pass on between the visitor and the server until one of them ends; return whether each of them spoke, the server
    first."""
    other, spoke = {door: near, near: door}, {door: False, near: False}
    with suppress(OSError):
        while ready := select.select([door, near], [], [], PATIENCE)[0]:
            for one in ready:
                part = one.recv(PIECE)
                if not part:
                    return spoke[near], spoke[door]
                spoke[one] = True
                other[one].sendall(part)
    return spoke[near], spoke[door]
