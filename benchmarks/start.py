"""How long Verrou takes to start, as a ratio to importing Click alone; and the one file, to the installed program."""

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from measuring import Line, in_turn, line, ratios, told

ROUNDS = 15


def lines() -> Iterator[Line]:
    """The promises about starting, by CPU time."""
    with tempfile.TemporaryDirectory() as folder:
        verrou = str(Path(sys.executable).with_name("verrou"))
        machine = str(Path(folder, "hide-01.bench.json"))
        subprocess.run([verrou, "machine", "new", machine, "--bare"], stdout=subprocess.DEVNULL, check=True)
        make = Path(__file__).parent.parent / "scripts/stick"
        subprocess.run([sys.executable, make, folder], capture_output=True, check=True)
        stick = [sys.executable, str(Path(folder, "verrou.pyz"))]
        survey = ["survey", "-m", machine]
        found = in_turn(
            {
                "click": [sys.executable, "-c", "import click"],
                "version": [verrou, "--version"],
                "survey": [verrou, *survey],
                "one file, version": [*stick, "--version"],
                "one file, survey": [*stick, *survey],
            },
            ROUNDS,
        )
    yield line("start", "verrou --version / import click", 1.15, ratios(found, "version", "click"))
    yield line("start", "survey of a bench machine / import click", 2.3, ratios(found, "survey", "click"))
    yield line("start", "one file / installed: --version", 1.5, ratios(found, "one file, version", "version"))
    yield line(
        "start", "one file / installed: survey of a bench machine", 1.3, ratios(found, "one file, survey", "survey")
    )


if __name__ == "__main__":
    told(lines)
