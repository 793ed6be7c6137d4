"""Runs on the other computer as root, from memory: takes the one-file form of Verrou, checks it, and starts it.

Nothing is written there: the file is in memory that ends with the process (memfd_create(2)). Nothing but the standard
library is there yet."""

import hashlib
import json
import os
import sys


def main() -> None:
    """Take the file over the line, and run it."""
    incoming, outgoing = line()
    tell(outgoing, {"at": "starter", "python": ".".join(map(str, sys.version_info[:3]))})
    order = json.loads(read_line(incoming))
    content = read(incoming, order["size"])
    if hashlib.sha256(content).hexdigest() != order["sha256"]:
        tell(outgoing, {"at": "starter", "damaged": True})
        return
    held = os.memfd_create("verrou")
    with os.fdopen(os.dup(held), "wb") as stream:
        stream.write(content)
    sys.path.insert(0, f"/proc/self/fd/{held}")
    from verrou.far.load_once import load_once

    load_once(sys.path[0])
    from verrou.far.there import serve

    serve(incoming, outgoing)


def line() -> tuple[int, int]:
    """Return the files by which the near end is reached, none of them a standard one: those lead nowhere from here."""
    given = globals()
    near = given["s"].detach() if "s" in given else None
    incoming, outgoing = given.get("channel", (near, near))
    incoming, outgoing = os.dup(incoming), os.dup(outgoing)
    nothing = os.open(os.devnull, os.O_RDWR)
    for number in (0, 1, 2):
        os.dup2(nothing, number)
    return incoming, outgoing


def read(incoming: int, size: int) -> bytes:
    """Return so many bytes of the near end, which ends this program by sending no more."""
    parts = []
    while size:
        part = os.read(incoming, min(size, 1 << 20))
        if not part:
            sys.exit(1)
        parts.append(part)
        size -= len(part)
    return b"".join(parts)


def read_line(incoming: int) -> bytes:
    """Return a line of the near end."""
    text = b""
    while not text.endswith(b"\n"):
        text += read(incoming, 1)
    return text


def tell(outgoing: int, frame: dict[str, object]) -> None:
    """Tell the near end."""
    os.write(outgoing, json.dumps(frame).encode() + b"\n")


if __name__ == "__main__":
    main()
