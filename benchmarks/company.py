"""Runs beside runs, and beside the system's own tools: nothing is lost, and nobody is refused for company.

Run as root. Promised: of 2 x 50 additions on one bench machine and on one real root all are there, with entries
numbered once; of 200 of the system's tools beside 200 of ours none is lost and none refused. ``--small`` tries a tenth.
"""

import os
import sys
import tempfile
from collections.abc import Callable
from datetime import datetime
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from conftest import forked
from debian_root import PrivateRoot, base_root
from verrou.machines.bench.authority import Authority
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare
from verrou.machines.registry import open_machine
from verrou.records.journal import Journal

PASSWORD = "kittiwake-Cliff-42"


def additions(address: str, kind: str, count: int, folder: Path) -> int:
    """How many of ``count`` additions, one after the other, the program did not say were done."""
    refused = 0
    for number in range(count):
        words = ["account", "add", f"{kind}{number}", "--password", "blank", "--keep-password", "--yes", "-m", address]
        ended = forked(words, "", folder)
        if ended.returncode:
            refused += 1
            print(f"  {kind}{number}: {ended.stderr.strip()}", flush=True)
    return refused


def beside(*works: Callable[[], int]) -> int:
    """All of them at once, each in a process of its own; the sum of what they answer."""
    children = []
    for work in works:
        child = os.fork()
        if child == 0:
            os._exit(min(work(), 255))
        children.append(child)
    return sum(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children)


def judge(what: str, address: str, names: list[str], required: dict[str, int], refused: int, ours: int) -> bool:
    entries = Journal(open_machine(address).records_folder()).entries()
    there = {kind: sum(name.startswith(kind) for name in names) for kind in required}
    numbered = [entry.number for entry in entries] == list(range(1, ours + 1))
    whole = there == required and len(set(names)) == len(names) and not refused and numbered
    print(f"{what}: {there}, refused {refused}, entries numbered once: {'yes' if numbered else 'no'}", flush=True)
    return whole


def _theirs(root: PrivateRoot, loop: str) -> int:
    return root.inside("sh", "-c", loop).returncode


def main() -> None:
    small = "--small" in sys.argv
    runs, tools = (5, 20) if small else (50, 200)
    unshare(CLONE_NEWNS)
    private_mounts()
    good = []
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        file = folder / "hide-01.bench.json"
        machine = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
        machine.reset_password("keeper", PASSWORD)
        machine.save(file)
        refused = beside(*(lambda k=k: additions(str(file), k, runs, folder) for k in ("left", "right")))
        names = [account["name"] for account in Authority(file.read_text()).accounts()]
        required = {"left": runs, "right": runs}
        good.append(judge(f"2 x {runs} on a bench machine", str(file), names, required, refused, 2 * runs))
    for title, beside_us in (
        (f"2 x {runs} on a real root", ("left", "right")),
        (f"{tools} useradd beside {tools}", ("ours", "theirs")),
    ):
        with tempfile.TemporaryDirectory() as place, PrivateRoot.over(base_root(), Path(place, "root")) as root:
            address, count = str(root.path), runs if "left" in beside_us else tools
            loop = f"n=0; for i in $(seq 0 {count - 1}); do useradd -M theirs$i || n=$((n+1)); done; exit $n"
            tool = partial(_theirs, root, loop)
            works = [tool if k == "theirs" else partial(additions, address, k, count, Path(place)) for k in beside_us]
            refused = beside(*works)
            names = [line.split(":")[0] for line in root.read("/etc/passwd").splitlines()]
            ours = count * sum(kind != "theirs" for kind in beside_us)
            good.append(judge(title, address, names, dict.fromkeys(beside_us, count), refused, ours))
    raise SystemExit(0 if all(good) else 1)


if __name__ == "__main__":
    main()
