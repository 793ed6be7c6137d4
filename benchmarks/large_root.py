"""A survey and an audit of a real root with many people, as ratios to pwck and to bare reading of the same files.

Run as root. The bare side opens every file that the survey opens, reads it and splits it into lines and fields.

python benchmarks/large_root.py [100000]
"""

import os
import sys
import tempfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from measuring import Line, cpu_of, exponent, in_order, line, quietly, ran, told
from people import fill

from debian_root import PrivateRoot, base_root
from verrou.cli.baseline_files import load_baseline
from verrou.core.baselines.baseline import Baseline
from verrou.core.judging.audit import audit
from verrou.machines.linux import root as root_of_linux
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare
from verrou.machines.linux.machine import LinuxMachine

ROUNDS = 5


def opened_by(root: PrivateRoot) -> list[str]:
    """The ordinary files of a root that a survey of it opens."""
    seen: dict[str, None] = {}
    really = root_of_linux.open_in_root

    def watched(top: int, name: str, flags: int, mode: int = 0) -> int:
        if not flags & os.O_PATH:
            seen[str(root.path / name.lstrip("/"))] = None
        return really(top, name, flags, mode)

    root_of_linux.open_in_root = watched
    try:
        LinuxMachine(root.path, "").observe()
    finally:
        root_of_linux.open_in_root = really
    return [place for place in seen if os.path.isfile(place)]


def bare(places: list[str]) -> None:
    for place in places:
        with open(place, "rb") as stream:
            [text.split(b":") for text in stream.read().split(b"\n")]


def audited(root: PrivateRoot, baseline: Baseline) -> None:
    """Survey a root and audit it, with everybody who does not meet a rule."""
    for finding in audit(LinuxMachine(root.path, "").observe(), baseline).findings:
        _ = finding.gaps


def measured(root: PrivateRoot) -> tuple[list[float], list[float]]:
    """CPU seconds of a survey with its audit, and of bare reading, in turn."""
    baseline = load_baseline("shared-desk")
    places = opened_by(root)
    ours, theirs = [], []
    for _ in range(ROUNDS):
        ours.append(quietly(lambda: cpu_of(partial(audited, root, baseline))))
        theirs.append(quietly(lambda: cpu_of(lambda: bare(places))))
    print(f"({len(places)} files: {min(ours):.2f} s, {min(theirs):.3f} s)", file=sys.stderr)
    return ours, theirs


def asked(root: PrivateRoot) -> float:
    """CPU seconds of a survey that asks the system, its children's included."""
    command = [sys.executable, "-m", "verrou", "survey", "-m", str(root.path), "--ask-system", "--format", "json"]
    return quietly(lambda: ran(command).cpu)


def lines(most: int = 10_000) -> Iterator[Line]:
    """The promises about large roots."""
    unshare(CLONE_NEWNS)
    private_mounts()
    before = None
    for accounts in [count for count in (1_000, 10_000, 100_000) if count <= most]:
        with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(base_root(), Path(folder, "root")) as root:
            fill(root, accounts)
            ours, theirs = measured(root)
            against = in_order(ours, theirs)
            yield line("accounts", f"{accounts}: survey and audit / bare reading", 15, against)
            if before is not None:
                power = exponent(before, min(ours), 10)
                yield line(
                    "accounts", f"growth from {accounts // 10} to {accounts} accounts, as a power", 1.1, [power], ""
                )
            before = min(ours)
            if accounts == 10_000:
                command = ["chroot", str(root.path), "pwck", "-r", "-q"]
                pwck = [quietly(partial(ran, command, codes=range(256))).cpu for _ in range(ROUNDS)]
                yield line("accounts", "10000: survey and audit / pwck -r -q", 0.1, in_order(ours, pwck))
                yield line("accounts", "10000: survey that asks the system", None, [asked(root)], "s")


if __name__ == "__main__":
    counts = [int(word) for word in sys.argv[1:]]
    told(lambda: lines(*counts))
