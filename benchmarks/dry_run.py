"""What a dry run costs on a real root, alone and with its tests: seconds, and CPU seconds of all processes.

Run as root."""

import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from measuring import Line, in_turn, line, told
from people import fill

from debian_root import DESKTOP, PACKAGES, SUITE, PrivateRoot, base_root
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare

ROUNDS, PEOPLE = 3, 5


def lines() -> Iterator[Line]:
    """The promises about dry runs."""
    unshare(CLONE_NEWNS)
    private_mounts()
    for name, beside in (("plain root", ()), ("desktop root", DESKTOP)):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder, "warden-03")
            with PrivateRoot.over(base_root(SUITE, beside, PACKAGES), place) as root:
                fill(root, PEOPLE)
                at = ["-m", str(place)]
                verrou = str(Path(sys.executable).with_name("verrou"))
                harden = [verrou, "harden", *at, "-b", "shared-desk", "--preview"]
                found = in_turn(
                    {
                        "one account": [verrou, "account", "add", "tern", *at, "--password", "blank", "--preview"],
                        "harden": harden,
                        "with tests": [*harden, "--test"],
                        "survey": [verrou, "survey", *at, "--ask-system"],
                    },
                    ROUNDS,
                )
        plain = not beside
        added, hardened, tested = (found[each] for each in ("one account", "harden", "with tests"))
        yield line("dry run", f"{name}: an account added", 1.0 if plain else None, [each.wall for each in added], "s")
        yield line("dry run", f"{name}: harden", 1.0 if plain else None, [each.wall for each in hardened], "s")
        if plain:
            yield line("dry run", f"{name}: harden with its tests", 2.0, [each.wall for each in tested], "s")
        else:
            yield line("dry run", f"{name}: harden with its tests", 5.0, [each.cpu for each in tested], "s CPU")
            yield line("dry run", f"{name}: survey", None, [each.cpu for each in found["survey"]], "s CPU")


if __name__ == "__main__":
    told(lines)
