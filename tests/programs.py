"""A process that holds Verrou and nothing else, and becomes the program for a test: forking copies the tables of all
memory that a process holds, and a worker of pytest holds three times as much."""

import gc
import importlib
import json
import os
import pkgutil
import socket
import struct
import subprocess
import sys
import traceback
from pathlib import Path
from typing import NoReturn

import verrou
from verrou.machines.bench import state
from verrou.machines.linux.accounts import hashing

MOUNTS = "/proc/self/ns/mnt"
USUAL_ROUNDS, state.ROUNDS = state.ROUNDS, 10
hashing.ROUNDS = 1
"""What slows down who guesses passwords slows down tests as well, and none is about that."""

for module in pkgutil.walk_packages(verrou.__path__, "verrou."):
    # Once here, and not again in each forked program: that is a third of the time of this suite.
    if not module.name.startswith(("verrou.__main__", "verrou.records.logbook.migrations")):
        importlib.import_module(module.name)


class Holder:
    """The holder of one process, which sees the same mounts."""

    def __init__(self) -> None:
        self.owner, self.mounts = os.getpid(), os.readlink(MOUNTS)
        self.line, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        command, nothing = [sys.executable, __file__, str(theirs.fileno())], subprocess.DEVNULL
        with theirs:
            self.process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=nothing, stdout=nothing)

    def serves(self) -> bool:
        """Whether it is this process's own, and no mounts were changed apart from it."""
        return self.owner == os.getpid() and self.mounts == os.readlink(MOUNTS)

    def end(self) -> None:
        """End it, and count its time as this process's own."""
        self.line.close()
        self.process.wait()

    def run(self, words: list[str], folder: Path, streams: list[int]) -> int:
        """Run the program; return what it ended with."""
        asked = {"words": words, "folder": str(folder), "environment": dict(os.environ)}
        socket.send_fds(self.line, [json.dumps(asked).encode()], streams)
        return int(struct.unpack("i", self.line.recv(4))[0])


def serve(line: socket.socket) -> None:
    """Become the program in a child, for each who asks; end with who asks."""
    gc.freeze()
    while True:
        message, streams, _, _ = socket.recv_fds(line, 1 << 20, 3)
        if not message:
            return
        asked = json.loads(message)
        child = os.fork()
        if child == 0:
            os.environ.clear()
            os.environ.update(asked["environment"])
            become_program(asked["words"], Path(asked["folder"]), streams)
        for stream in streams:
            os.close(stream)
        line.sendall(struct.pack("i", os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])))


def become_program(words: list[str], folder: Path, streams: list[int]) -> NoReturn:
    """Be the program from now on, with these files as its standard streams."""
    code = 1
    try:
        for number, stream in enumerate(streams):
            os.dup2(stream, number)
        sys.stdin, sys.stdout, sys.stderr = (
            os.fdopen(number, mode, encoding="utf-8", closefd=False) for number, mode in ((0, "r"), (1, "w"), (2, "w"))
        )
        os.chdir(folder)
        os.environ.pop("VERROU_MACHINE", None)
        sys.argv = ["verrou", *words]
        from verrou.__main__ import main

        main()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    serve(socket.socket(fileno=int(sys.argv[1])))
