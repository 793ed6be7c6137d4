"""Runs on the other computer as the account that signed in, from memory: becomes root by that computer's own means, and
passes on what comes and goes.

What is passed on goes through a socket of its own and not through sudo's input and output, which sudo may record
(``log_input`` and ``log_output`` of sudoers(5)). Nothing but the standard library is there yet."""

import json
import os
import pwd
import select
import shutil
import socket
import struct
import subprocess
import sys
from typing import Any

PROMPT = "ask-%s:"
"""What sudo asks with; the signs in it are new each time, so that no other output is taken for it."""
MOST_SAID = 4000
PIECE = 65536


def main() -> None:
    """Tell who is here, become root, and pass on."""
    nonce = sys.argv[1]
    account = pwd.getpwuid(os.geteuid()).pw_name
    tell(at="relay", account=account, root=os.geteuid() == 0, connection=os.environ.get("SSH_CONNECTION", ""))
    order = hear()
    if os.geteuid() == 0:
        program = sys.stdin.buffer.read(order["size"])
        exec(compile(program, "starter", "exec"), {"__name__": "__main__", "channel": (0, 1)})
        return
    means = elevation(nonce)
    if not means:
        tell(at="relay", ended=None, said="")
        return
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(f"\0{nonce}")
    listening.listen(1)
    command = [*means, "sh", "-c", order["start"] % os.geteuid()]
    pipe = subprocess.PIPE
    with subprocess.Popen(command, stdin=pipe, stdout=pipe, stderr=pipe, close_fds=True) as elevating:
        line = elevated(elevating, listening, PROMPT % nonce, 0)
        listening.close()
        if line is not None:
            tell(at="relay", elevated=True)
            pass_on(line, elevating)
        for stream in (elevating.stdin, elevating.stdout, elevating.stderr):
            if stream is not None:
                stream.close()


def elevation(nonce: str) -> list[str]:
    """Return the command line by which this account becomes root; doas can ask at a terminal alone."""
    if sudo := shutil.which("sudo"):
        return [sudo, "-S", "-k", "-p", PROMPT % nonce, "--"]
    doas = shutil.which("doas")
    return [doas, "-n"] if doas else []


def elevated(
    elevating: "subprocess.Popen[bytes]", listening: socket.socket, prompt: str, near: int
) -> socket.socket | None:
    """Wait until root has connected, and give the password when sudo asks for it; None where it did not, or where
    ``near``, which is silent before it is asked, is gone."""
    assert elevating.stdin and elevating.stdout and elevating.stderr
    said, asked = b"", prompt.encode()
    watched: list[Any] = [listening, elevating.stdout, elevating.stderr, near]
    while True:
        ready = select.select(watched, [], [])[0]
        if listening in ready:
            line = listening.accept()[0]
            if struct.unpack("3i", line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))[1] == 0:
                return line
            line.close()
        if near in ready:
            elevating.kill()
            return None
        for stream in (elevating.stdout, elevating.stderr):
            if stream in ready:
                part = os.read(stream.fileno(), PIECE)
                if not part:
                    watched.remove(stream)
                said = (said + part)[-MOST_SAID:]
        if asked in said:
            said = said.replace(asked, b"")
            tell(at="relay", asks=True, said=said.decode(errors="replace"))
            password = hear().get("password")
            if password is None:
                elevating.kill()
                return None
            elevating.stdin.write(password.encode("utf-8", "surrogateescape") + b"\n")
            elevating.stdin.flush()
        if elevating.stdout not in watched and elevating.stderr not in watched:
            tell(at="relay", ended=elevating.wait(), said=said.decode(errors="replace"))
            return None


def pass_on(line: socket.socket, elevating: "subprocess.Popen[bytes]") -> None:
    """Pass on what comes and goes, to the end of the run; without a near end its output goes nowhere."""
    assert elevating.stdout and elevating.stderr
    rest = [elevating.stdout, elevating.stderr]
    watched: list[Any] = [line, sys.stdin, *rest]
    while True:
        for ready in select.select(watched, [], [])[0]:
            try:
                part = line.recv(PIECE) if ready is line else os.read(ready.fileno(), PIECE)
            except OSError:
                part = b""
            if ready is line and not part:
                return
            if not part:
                watched.remove(ready)
            try:
                if ready is line:
                    write(part)
                elif ready is sys.stdin:
                    line.sendall(part) if part else line.shutdown(socket.SHUT_WR)
            except OSError:
                continue


def write(content: bytes) -> None:
    """Write to the near end. Raises: OSError: it is gone."""
    while content:
        content = content[os.write(1, content) :]


def tell(**frame: Any) -> None:
    """Tell the near end."""
    write(json.dumps(frame).encode() + b"\n")


def hear() -> dict[str, Any]:
    """Return what the near end says; it ends this program by saying nothing more."""
    line = sys.stdin.buffer.readline()
    if not line:
        sys.exit(1)
    frame: dict[str, Any] = json.loads(line)
    return frame


if __name__ == "__main__":
    main()
