"""What goes over the cable: JSON objects, one a line, bounded on both sides."""

import json
import os
import select
import threading
import time
from typing import Any

MOST_FROM_THERE = 64_000_000
"""Bytes of the longest line from the other computer, which may belong to someone else."""
MOST_FROM_HERE = 600_000_000
"""Bytes of the longest line to it: a survey that a comparison sends over."""
PIECE = 65536
SILENT = "no answer"
"""Why a connection is taken for gone that is still open."""


class Cut(Exception):
    """The connection is gone: the other end closed it, or was silent for too long."""


class NotUnderstood(Exception):
    """The other end sent what is no frame; the message says what."""


class Channel:
    """Frames over two open files. Sending is safe from several threads; one thread receives."""

    def __init__(self, incoming: int, outgoing: int, most: int) -> None:
        self.incoming, self.outgoing, self.most = incoming, outgoing, most
        self._held = bytearray()
        self._searched = 0
        self._sending = threading.Lock()

    def send(self, frame: dict[str, Any]) -> None:
        """Send a frame. Raises: Cut."""
        self.send_raw(json.dumps(frame).encode() + b"\n")

    def send_raw(self, content: bytes) -> None:
        """Send bytes as they are. Raises: Cut."""
        with self._sending:
            left = memoryview(content)
            try:
                while left:
                    left = left[os.write(self.outgoing, left[:PIECE]) :]
            except OSError as error:
                raise Cut(error.strerror) from None

    def receive(self, patience: float | None = None) -> dict[str, Any]:
        """Return the next frame. Raises: Cut: none came for ``patience`` seconds. NotUnderstood."""
        line = self.line(patience)
        try:
            frame = json.loads(line)
        except (ValueError, RecursionError):
            raise NotUnderstood("a line that is no JSON") from None
        if not isinstance(frame, dict):
            raise NotUnderstood("a line that is no JSON object")
        return frame

    def line(self, patience: float | None = None) -> bytes:
        """Return the next line, without its end. Raises: Cut, NotUnderstood: it is too long."""
        until = None if patience is None else time.monotonic() + patience
        while (end := self._held.find(b"\n", self._searched)) < 0:
            self._searched = len(self._held)
            if self._searched > self.most:
                raise NotUnderstood(f"a line of more than {self.most} bytes")
            self._held += self._read(until)
        line = bytes(self._held[:end])
        del self._held[: end + 1]
        self._searched = 0
        return line

    def _read(self, until: float | None) -> bytes:
        left = None if until is None else max(0.0, until - time.monotonic())
        if left is not None and not select.select([self.incoming], [], [], left)[0]:
            raise Cut(SILENT)
        try:
            part = os.read(self.incoming, PIECE)
        except OSError as error:
            raise Cut(error.strerror) from None
        if not part:
            raise Cut("closed")
        return part
