"""A private copy of a whole Linux system, in mounts that no one else sees.

A child process leaves everyone else's mounts, mounts an overlay over each folder that Verrou may write, and makes that
its root. Reading and changing code works on the copy from outside, through ``/proc/CHILD/root``; the system's own
programs run inside; what was written is in the upper folders of the overlays. It is gone when the child ends, however
it ends. Whatever runs in it is isolated, of this computer as of a mounted disk: with processes, network, names and
mounts of its own, a few plain devices, no way to write outside of the copy, only the capabilities that it needs, and
bounded time, memory and processes."""

import gc
import json
import os
import signal
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any

from attrs import define, field

from verrou.core.errors import NotEnoughRights, VerrouError
from verrou.log import Log
from verrou.machines.linux.copy.inside import never_return, serve
from verrou.machines.linux.copy.layout import lay_out
from verrou.machines.linux.copy.requests import A, Request, RunProgram
from verrou.machines.linux.copy.sandbox import (
    CLONE_NEWIPC,
    CLONE_NEWNET,
    CLONE_NEWNS,
    CLONE_NEWPID,
    CLONE_NEWUTS,
    die_with_parent,
    unshare,
)
from verrou.machines.linux.elevation import polkit_query
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable, TooSlow

LOG = Log(__name__)


@define(repr=False)
class PrivateCopy:
    """The copy from outside. ``root`` is its tree; ``uppers`` gives, by folder, where written files are."""

    root: Root
    uppers: dict[str, Path]
    line: "_Channel"
    ran: set[str] = field(factory=set, init=False)
    """What of the system's own programs ran in the copy so far."""
    too_slow: dict[tuple[type[Request[Any]], str], str] = field(factory=dict, init=False)
    """What was asked and not answered in time."""

    def run(self, command: Sequence[str]) -> tuple[int, str]:
        """Run one of the system's own programs inside. Return its exit code and output. Raises: DryRunUnavailable."""
        self.ran.add(command[0])
        ended = self.ask(RunProgram(list(command)))
        LOG.info("ran %s in the private copy: ended with %s", " ".join(command), ended.code)
        return ended.code, ended.message

    def ask(self, request: Request[A]) -> A:
        """Ask the system inside. Raises: DryRunUnavailable: it could not be asked, or its answer makes no sense."""
        self.ran |= set(request.programs)
        about = type(request), request.topic
        if about in self.too_slow:
            raise DryRunUnavailable(self.too_slow[about])
        LOG.info("asked in the private copy: %s", type(request).__name__)  # never what: it may contain a password
        try:
            return request.understood(self.line.ask(request))
        except TooSlow as slow:
            LOG.info("no answer in time: %s", slow)
            self.too_slow[about] = str(slow)  # it is not waited for again
            raise
        except DryRunUnavailable as reason:
            LOG.info("no answer: %s", reason)
            raise
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            LOG.info("the answer is not understood: %r", error)
            raise DryRunUnavailable("the system's answer makes no sense") from None


@contextmanager
def private_copy(machine_root: Root) -> Iterator[PrivateCopy]:
    """Yield a private copy of the system at ``machine_root``, for the length of the block.

    Raises: DryRunUnavailable: none can be made here, with the reason. NotEnoughRights: only root can make one."""
    if os.geteuid() != 0:
        raise NotEnoughRights("only root can make a private copy of this machine and change it; run as root")
    to_child, from_child = os.pipe(), os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        never_return(lambda: _begin(machine_root, to_child[0], from_child[1]))
    os.close(to_child[0])
    os.close(from_child[1])
    try:
        with os.fdopen(to_child[1], "w") as asking, os.fdopen(from_child[0]) as answering:
            line = _Channel(asking, answering)
            begun = line.hear() | line.hear()  # from the two processes of the child, in whichever order they get to it
            inner = int(begun["pid"])
            root = Root(Path(f"/proc/{inner}/root"), live=machine_root.live)
            uppers = {name: Path(f"/proc/{inner}/fd/{number}") for name, number in begun["uppers"].items()}
            copy = PrivateCopy(root, uppers, line)
            LOG.info("private copy of %s made, with overlays over %s", machine_root.path, ", ".join(uppers))
            root.runner, root.asker = copy.run, copy.ask if root.could_run else None
            yield copy
    finally:
        with suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


@define(repr=False)
class _Channel:
    """The channel to the child: one JSON text each way."""

    asking: IO[str]
    answering: IO[str]

    def ask(self, request: Request[A]) -> dict[str, Any]:
        """Return the answer as it came. Raises: DryRunUnavailable: there is none."""
        try:
            self.asking.write(json.dumps(request.as_data()) + "\n")
            self.asking.flush()
        except (BrokenPipeError, ValueError):
            raise DryRunUnavailable(
                "the private copy of the machine ended unexpectedly. Try again, or use --no-dry-run."
            ) from None
        return self.hear()

    def hear(self) -> dict[str, Any]:
        try:
            answer = json.loads(self.answering.readline())
        except ValueError:
            raise DryRunUnavailable(
                "the private copy of the machine ended unexpectedly. Try again, or use --no-dry-run."
            ) from None
        if isinstance(answer, dict) and "too_slow" in answer:
            raise TooSlow(str(answer["trouble"]))
        if not isinstance(answer, dict) or "trouble" in answer:
            raise DryRunUnavailable(str(answer["trouble"]) if isinstance(answer, dict) else "it makes no sense")
        return answer


def _begin(machine_root: Root, requests: int, answers: int) -> None:
    """Run the child: namespaces, then the tree, then answering requests."""
    # Existing objects are never garbage: a collection would copy each page of them in each child that answers a
    # question.
    gc.freeze()
    die_with_parent()
    os.setsid()
    nothing = os.open(os.devnull, os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(nothing, number)
    kept = {0, 1, 2, requests, answers}
    for number in map(int, os.listdir("/proc/self/fd")):
        if number not in kept:
            with suppress(OSError):
                os.close(number)
    asking, answering = os.fdopen(requests), os.fdopen(answers, "w")

    def reply(answer: dict[str, object]) -> None:
        answering.write(json.dumps(answer) + "\n")
        answering.flush()

    try:
        unshare(CLONE_NEWNS | CLONE_NEWPID | CLONE_NEWNET | CLONE_NEWIPC | CLONE_NEWUTS)
    except OSError as error:
        reply({"trouble": f"this system does not allow mount namespaces ({error.strerror})"})
        return
    inner = os.fork()
    if inner:
        reply({"pid": inner})
        os.waitpid(inner, 0)
        return
    die_with_parent()
    try:
        polkit_query.prepare(machine_root)
        uppers = lay_out(machine_root)
    except (OSError, VerrouError) as error:
        reply({"trouble": f"the copy could not be laid out: {error}"})
        return
    sys.path.clear()  # what Python would still load from here on would come from the copied system
    reply({"uppers": uppers})
    serve(asking, reply)
