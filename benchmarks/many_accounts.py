"""200 accounts from a baseline in one worksheet, on a real root with 10,000, as ratios to the system's own tools.

Run as root. Promised: at least 5 times faster than ``newusers`` with passwords, and 100 times faster than a loop of
``useradd`` without. Ours is the whole program: reading the baseline and the machine, guards, journal, homes.
"""

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from large_root import fill

from debian_root import PrivateRoot, base_root
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare

THERE, NEW = 10_000, 200
USERADDS = 5
"""How many of the loop are run; the rest would take as long each."""


@contextmanager
def filled_root() -> Iterator[PrivateRoot]:
    """A root with many accounts and one administrator."""
    with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(base_root(), Path(folder, "root")) as root:
        fill(root, THERE)
        root.write("/etc/sudoers.d/station", "gull0 ALL=(ALL:ALL) ALL\n")
        yield root


def seconds(work: Callable[[], subprocess.CompletedProcess[str]]) -> float:
    start = time.perf_counter()
    ended = work()
    assert ended.returncode == 0, ended.stdout[-2000:] + ended.stderr[-2000:]
    return time.perf_counter() - start


def ours(password: str) -> float:
    """``verrou harden`` with a baseline that declares the accounts."""
    with filled_root() as root, tempfile.TemporaryDirectory() as folder:
        text = "".join(f'[accounts.tern{n}]\npassword = "{password}"\n' for n in range(NEW))
        Path(folder, "season.toml").write_text(text)
        program = [sys.executable, "-m", "verrou", "harden", "-m", str(root.path), "-b", "season.toml", "--yes"]
        program += ["--password-file", "handed.txt"]
        return seconds(lambda: subprocess.run(program, cwd=folder, capture_output=True, text=True, check=False))


def newusers() -> float:
    with filled_root() as root:
        lines = "".join(f"tern{n}:kittiwake-Cliff-{n}::::/home/tern{n}:/bin/bash\n" for n in range(NEW))
        return seconds(lambda: root.inside("newusers", typed=lines))


def useradd() -> float:
    with filled_root() as root:
        return sum(seconds(lambda n=n: root.inside("useradd", "-M", f"tern{n}")) for n in range(USERADDS)) / USERADDS


def main() -> None:
    unshare(CLONE_NEWNS)
    private_mounts()
    with_passwords, without = (min(ours(word) for _ in range(2)) for word in ("generate", "blank"))
    theirs, one = newusers(), useradd()
    print(f"{NEW} accounts beside {THERE}: {with_passwords:.2f} s with passwords, {without:.2f} s without")
    print(f"  {theirs / with_passwords:.1f} times faster than newusers ({theirs:.1f} s), promised 5")
    print(f"  {one * NEW / without:.0f} times faster than a loop of useradd ({one:.2f} s each), promised 100")


if __name__ == "__main__":
    main()
