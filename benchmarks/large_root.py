"""A survey and an audit of a real root with many accounts, as ratios to the system's own pwck and to bare reading.

Run as root. Promised for 10,000 accounts: a tenth of ``pwck -r -q``, and 10 times the bare reading and splitting of the
four account files; growing linearly up to 100,000.
"""

import gc
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from debian_root import PrivateRoot, base_root
from verrou.__main__ import GARBAGE_THRESHOLDS
from verrou.cli.baseline_files import load_baseline
from verrou.core.judging.audit import audit
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare
from verrou.machines.linux.files.account_files import GROUP, GSHADOW, PASSWD, SHADOW
from verrou.machines.linux.machine import LinuxMachine

PLAIN_THRESHOLDS = gc.get_threshold()
HASH = "$y$j9T$CapFauvelSampleSalt00$SampleOnlyNoPasswordMatches0123456789abcdef"


def best(*works: Callable[[], object], rounds: int = 7) -> list[float]:
    """The shortest time in seconds of each piece of work, measured in turn."""
    times: list[list[float]] = [[] for _ in works]
    for _ in range(rounds):
        for position, work in enumerate(works):
            start = time.perf_counter()
            work()
            times[position].append(time.perf_counter() - start)
    return [min(each) for each in times]


def fill(root: PrivateRoot, accounts: int) -> None:
    """Ordinary accounts with a group of their own and a password."""
    texts = {PASSWD: "", SHADOW: "", GROUP: "", GSHADOW: ""}
    for number in range(accounts):
        name, uid = f"gull{number}", 1000 + number
        texts[PASSWD] += f"{name}:x:{uid}:{uid}:Gull {number}:/home/{name}:/bin/bash\n"
        texts[SHADOW] += f"{name}:{HASH}:20500:0:99999:7:::\n"
        texts[GROUP] += f"{name}:x:{uid}:\n"
        texts[GSHADOW] += f"{name}:!::\n"
    for name, text in texts.items():
        with open(root.path / name.lstrip("/"), "a") as file:
            file.write(text)


def measure(root: PrivateRoot, accounts: int) -> None:
    baseline = load_baseline("shared-desk")
    fill(root, accounts)
    files = [root.path / name.lstrip("/") for name in (PASSWD, SHADOW, GROUP, GSHADOW)]

    def ours_as_the_program_runs() -> None:
        gc.set_threshold(*GARBAGE_THRESHOLDS)
        audit(LinuxMachine(root.path, "").observe(), baseline)

    def bare_as_python_runs() -> None:
        gc.set_threshold(*PLAIN_THRESHOLDS)
        kept = [[line.split(":") for line in file.read_text().split("\n")] for file in files]
        assert len(kept) == len(files)

    ours, bare = best(ours_as_the_program_runs, bare_as_python_runs)
    print(f"{accounts} accounts: surveyed and audited in {ours * 1000:.0f} ms")
    print(f"  {ours / bare:.1f} times bare reading and splitting ({bare * 1000:.0f} ms), promised 10")
    if accounts > 10_000:
        return
    words = [sys.executable, "-m", "verrou", "{}", "-m", str(root.path), "--format", "json"]
    access, survey = best(
        *(
            lambda name=name: subprocess.run(
                [each.format(name) for each in words], stdout=subprocess.DEVNULL, check=True
            )
            for name in ("access", "survey")
        ),
        rounds=3,
    )
    print(f"  access as a whole program {access / survey:.2f} times the survey, promised 1.5")
    program = [sys.executable, "-m", "verrou", "audit", "-m", str(root.path), "-b", "shared-desk"]
    whole, pwck = best(
        lambda: subprocess.run(program, stdout=subprocess.DEVNULL, check=False),
        lambda: root.inside("pwck", "-r", "-q"),
        rounds=2,
    )
    print(f"  {ours / pwck:.3f} of pwck -r -q ({pwck:.1f} s), promised 0.1; as a whole program {whole / pwck:.3f}")


def main() -> None:
    unshare(CLONE_NEWNS)
    private_mounts()
    for accounts in (10_000, 100_000):
        with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(base_root(), Path(folder, "root")) as root:
            measure(root, accounts)


if __name__ == "__main__":
    main()
