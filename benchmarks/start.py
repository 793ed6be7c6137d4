"""How long Verrou takes to start, as a ratio to importing Click alone, measured in turn in one run.

Promised: ``verrou --version`` within 1.3 times, a survey of a bench machine within 2.5 times. The stick, whose modules
are compiled at each start, is measured beside the installed program.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROUNDS = 25
# As on anybody's machine: compiled modules are kept, and output is buffered.
ENVIRONMENT = {k: v for k, v in os.environ.items() if k not in ("PYTHONDONTWRITEBYTECODE", "PYTHONUNBUFFERED")}
PROMISED = {"--version": 1.3, "survey of a bench machine": 2.5}


def seconds(command: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, env=ENVIRONMENT, check=True)
    return time.perf_counter() - start


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        verrou = str(Path(sys.executable).with_name("verrou"))
        machine = str(Path(folder, "hide-01.bench.json"))
        subprocess.run([verrou, "machine", "new", machine, "--bare"], stdout=subprocess.DEVNULL, check=True)
        commands = {
            "import click": [sys.executable, "-c", "import click"],
            "--version": [verrou, "--version"],
            "survey of a bench machine": [verrou, "survey", "-m", machine],
        }
        make = Path(__file__).parent.parent / "scripts/stick"
        subprocess.run([sys.executable, make, folder], stdout=subprocess.DEVNULL, check=True)
        for name in PROMISED:
            commands[f"{name}, the stick"] = [sys.executable, str(Path(folder, "verrou.pyz")), *commands[name][1:]]
        times: dict[str, list[float]] = {name: [] for name in commands}
        for command in commands.values():
            seconds(command)
        for _ in range(ROUNDS):
            for name, command in commands.items():
                times[name].append(seconds(command))
    base = statistics.median(times["import click"])
    print(f"import click: {base * 1000:.0f} ms (median of {ROUNDS})")
    for name, promised in PROMISED.items():
        print(f"{name}: {statistics.median(times[name]) / base:.2f} times, promised {promised}")
    for name in PROMISED:
        stick, installed = (statistics.median(times[each]) for each in (f"{name}, the stick", name))
        print(f"{name}, the stick: {stick * 1000:.0f} ms, {stick / installed:.2f} times the installed program")


if __name__ == "__main__":
    main()
