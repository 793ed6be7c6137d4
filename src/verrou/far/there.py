"""The far end: runs a whole command as if its user sat at this computer, who is at the near end of the cable."""

import base64
import gc
import io
import json
import os
import signal
import socket
import sys
import threading
import time
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from types import NoneType
from typing import TYPE_CHECKING, Any, TypeVar, assert_never

import click
from attrs import define

from verrou.cli.handing_over import call_this, is_this
from verrou.cli.user import sit_down
from verrou.core import errors
from verrou.core.errors import MachineRefused, VerrouError
from verrou.core.judging.guards import ARRIVES_WITHIN
from verrou.far.frames import MOST_FROM_HERE, Channel, Cut, NotUnderstood
from verrou.far.order import ENVIRONMENT, Order, Task, order_from

if TYPE_CHECKING:
    from verrou.core.history.records import RunRecord
    from verrou.core.model import Snapshot

A = TypeVar("A")
PATIENCE = 60.0
"""Seconds without a sign of the near end, after which it is taken for gone. It sends one every ten."""
SENT_AT_ONCE = 32768
NEAR_ALONE = ("VERROU_MACHINE", "VERROU_LOGBOOK")


class Gone(BaseException):
    """The near end is gone, before anything was changed: the run ends."""


@define(repr=False)
class Cable:
    """The connection to the near end. Once changes are applied, the run goes on without it."""

    channel: Channel
    applying: bool = False

    def send(self, **frame: Any) -> None:
        try:
            self.channel.send(frame)
        except Cut:
            if not self.applying:
                raise Gone from None

    def receive(self, within: float | None = None) -> dict[str, Any]:
        until = None if within is None else time.monotonic() + within
        try:
            while "beat" in (frame := self.channel.receive(PATIENCE)):
                if until is not None and time.monotonic() > until:
                    raise Gone
        except (Cut, NotUnderstood):
            raise Gone from None
        return frame

    def call(self, name: str, kind: type[A], /, within: float | None = None, **parts: Any) -> A:
        """Have the near end do something, and return its answer, of a kind; ``within`` so many seconds, if given.

        Raises: VerrouError, click.Abort, EOFError, Gone."""
        sys.stdout.flush()
        sys.stderr.flush()
        self.send(call=name, parts=parts)
        frame = self.receive(within)
        if "error" in frame:
            error, message = str(frame["error"]), str(frame.get("message", ""))
            raise RAISED.get(error, MachineRefused)(message) if error not in ENDED else ENDED[error]()
        answer = frame.get("answer")
        if not isinstance(answer, kind):
            raise Gone
        return answer

    def strings(self, name: str, count: int | None = None, /, **parts: Any) -> list[str]:
        """Have the near end do something, and return its answer: texts, so many of them, if given."""
        answer = self.call(name, list, **parts)
        if (count is not None and len(answer) != count) or not all(isinstance(text, str) for text in answer):
            raise Gone
        return answer


RAISED: Mapping[str, type[VerrouError]] = {
    name: kind for name, kind in vars(errors).items() if isinstance(kind, type) and issubclass(kind, VerrouError)
}
ENDED: Mapping[str, type[Exception]] = {"Abort": click.Abort, "EOFError": EOFError}


class FarStream(io.TextIOBase):
    """A standard stream of the near end; ``columns`` is the width of a terminal."""

    encoding, errors = "utf-8", "strict"

    def __init__(self, cable: Cable, name: str, terminal: bool, columns: int) -> None:
        self.cable, self.name, self.terminal, self.columns = cable, name, terminal, columns
        self._held: list[str] = []
        self._size = 0

    def isatty(self) -> bool:
        return self.terminal

    def writable(self) -> bool:
        return True

    def fileno(self) -> int:
        return 1

    def write(self, text: str) -> int:
        if not isinstance(text, str):  # Click finds out by this what kind of stream it has
            raise TypeError(f"a text is written here, not {type(text).__name__}")
        self._held.append(text)
        self._size += len(text)
        if self._size >= SENT_AT_ONCE or (self.terminal and ("\n" in text or "\r" in text)):
            self.flush()
        return len(text)

    def flush(self) -> None:
        held, self._held, self._size = "".join(self._held), [], 0
        for start in range(0, len(held), SENT_AT_ONCE):
            self.cable.send(**{self.name: held[start : start + SENT_AT_ONCE]})


@define(repr=False)
class FarUser:
    """The user at the near end."""

    cable: Cable
    can_be_asked: bool
    has_logbook: bool
    account: str
    ends: str

    @property
    def visitor(self) -> "FarUser | None":
        return self if self.account else None

    def sign_in_again(self, line: socket.socket) -> tuple[bool, str]:
        """See :class:`verrou.machines.protocol.Visitor`."""
        self.cable.send(call="arrive", parts={})

        def pass_on() -> None:
            with suppress(OSError, Gone):
                while part := line.recv(SENT_AT_ONCE):
                    self.cable.send(door=base64.b64encode(part).decode())
                self.cable.send(door="")

        passing = threading.Thread(target=pass_on, daemon=True)
        passing.start()
        while "door" in (frame := self.cable.receive()):
            content = said_at_door(frame["door"])
            with suppress(OSError):
                line.sendall(content) if content else line.shutdown(socket.SHUT_WR)
        with suppress(OSError):
            line.shutdown(socket.SHUT_RDWR)
        passing.join()
        match frame.get("answer"):
            case [bool(succeeded), str(message)]:
                return succeeded, message
        raise Gone

    def still_arrives(self) -> bool:
        try:
            return self.cable.call("still_arrives", bool, within=ARRIVES_WITHIN)
        except Gone:
            return False

    def confirm(self, question: str) -> bool:
        return self.cable.call("confirm", bool, question=question)

    def hidden(self, prompt: str, *, twice: bool = False) -> str:
        return self.cable.call("hidden", str, prompt=prompt, twice=twice)

    def choose(self, prompt: str, words: Sequence[str]) -> str:
        return self.cable.call("choose", str, prompt=prompt, words=list(words))

    def typed(self, prompt: str) -> str:
        return self.cable.call("typed", str, prompt=prompt)

    def line(self) -> str:
        return self.cable.call("line", str)

    def baseline(self, name: str, named_in: str) -> tuple[str, str]:
        text, place = self.cable.strings("baseline", 2, name=name, named_in=named_in)
        return text, place

    def baselines_here(self) -> Sequence[str]:
        return self.cable.strings("baselines_here")

    def survey(self, address: str) -> "Snapshot":
        if is_this(address):
            from verrou.cli.observing import looked_at
            from verrou.cli.options import opened

            return looked_at(opened(address))
        from verrou.core.surveys.data import snapshot_from

        text = self.cable.call("survey", str, address=address)
        try:
            return snapshot_from(json.loads(text))
        except ValueError:
            raise Gone from None

    def new_name(self, stem: str, suffix: str) -> str:
        return self.cable.call("new_name", str, stem=stem, suffix=suffix)

    def write_new(self, file: Path, content: str | bytes) -> None:
        assert isinstance(content, str)  # only pictures are bytes, and none is of one machine
        self.cable.call("write_new", NoneType, file=str(file), content=content)

    def reserve(self, file: Path) -> None:
        self.cable.call("reserve", NoneType, file=str(file))

    def hand_over(self, passwords: Mapping[str, str], file: Path | None) -> None:
        self.cable.call("hand_over", NoneType, passwords=dict(passwords), file=None if file is None else str(file))

    def discard(self, file: Path) -> None:
        self.cable.call("discard", NoneType, file=str(file))

    def check_logbook(self, logbook: str | None) -> None:
        self.cable.call("check_logbook", NoneType, logbook=logbook)

    def record(self, record: "RunRecord", logbook: str | None, beside: Path | None) -> None:
        from verrou.core.surveys.data import plain

        where = None if beside is None else str(beside)
        self.cable.call("record", NoneType, record=plain(record), logbook=logbook, beside=where)

    def before_applying(self, entry: int) -> None:
        self.cable.call("before_applying", NoneType, entry=entry)
        self.cable.applying = True


def said_at_door(text: object) -> bytes:
    """Return what the near end says at the door. Raises: Gone: it is not in the form of the door."""
    try:
        return base64.b64decode(str(text), validate=True)
    except ValueError:
        raise Gone from None


def serve(incoming: int, outgoing: int) -> None:
    """Run the command that the near end asks for, to its end."""
    from verrou.__main__ import GARBAGE_THRESHOLDS

    gc.set_threshold(*GARBAGE_THRESHOLDS)
    signal.signal(signal.SIGHUP, signal.SIG_IGN)
    cable = Cable(Channel(incoming, outgoing, MOST_FROM_HERE))
    try:
        try:
            order = order_from(cable.receive())
        except (KeyError, TypeError, ValueError):
            raise Gone from None
        _be_there(cable, order)
        try:
            code = _run(order)
        except Exception:  # a fault of ours looks there as it does here
            traceback.print_exc()
            code = 1
        sys.stdout.flush()
        sys.stderr.flush()
        cable.send(exit=code)
    except Gone:
        os._exit(1)


def _be_there(cable: Cable, order: Order) -> None:
    """Let this process have the near end's terminal, environment and user."""
    for name in (*ENVIRONMENT, *NEAR_ALONE):
        os.environ.pop(name, None)
    os.environ.update(order.environment)
    sys.stdin = open(os.devnull, encoding="utf-8")  # noqa: SIM115
    sys.stdout = FarStream(cable, "out", order.output, order.columns)
    sys.stderr = FarStream(cable, "err", order.errors, order.columns)
    call_this(order.address)
    sit_down(FarUser(cable, order.asks, order.logbook, order.account, order.ends))


def _run(order: Order) -> int:
    """Run what the near end asks for, and return the exit code."""
    match order.task:
        case Task.COMMAND:
            from verrou.cli.main import run

            return run(order.words)
        case Task.OUTCOME:
            from verrou.far.outcome import outcome_of

            sys.stdout.write(outcome_of(order.entry))
            return 0
        case _:
            assert_never(order.task)
