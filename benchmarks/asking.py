"""What it costs to ask the system itself: ``verrou access`` with --ask-system as a ratio to --files-only, in turn.

Run as root."""

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from measuring import Line, in_turn, line, ratios, told
from people import fill

from debian_root import DESKTOP, PACKAGES, SUITE, PrivateRoot, base_root
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare

ROUNDS = 5


def lines() -> Iterator[Line]:
    """The promises about asking, by CPU time of all processes."""
    unshare(CLONE_NEWNS)
    private_mounts()
    for name, beside, count in (("plain root, 12 accounts", (), 12), ("desktop root, 200 accounts", DESKTOP, 200)):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder, "warden-03")
            with PrivateRoot.over(base_root(SUITE, beside, PACKAGES), place) as root:
                fill(root, count)
                access = [str(Path(sys.executable).with_name("verrou")), "access", "-m", str(place)]
                found = in_turn({"read": [*access, "--files-only"], "asked": [*access, "--ask-system"]}, ROUNDS)
        yield line("asking", f"{name}: access, asked / read", 1.3, ratios(found, "asked", "read"))
        yield line("asking", f"{name}: access, asked", None, [each.cpu for each in found["asked"]], "s CPU")


if __name__ == "__main__":
    told(lines)
