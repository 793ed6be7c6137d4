"""200 accounts from a baseline in one plan, on a real root with 10,000, as ratios to the system's own tools, and to the
bare hashing of their passwords on all cores.

Run as root, on a quiet machine: these are wall times. Ours is the whole program: reading the baseline and the machine,
guards, journal, homes."""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from measuring import Line, line, quietly, ran, told
from people import fill

from debian_root import PrivateRoot, base_root
from verrou.machines.linux.accounts.hashing import hashed
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare

THERE, NEW, ROUNDS = 10_000, 200, 2
USERADDS = 5
"""How many of the loop are run; the rest would take as long each."""


@contextmanager
def filled_root() -> Iterator[PrivateRoot]:
    """A root with many people."""
    with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(base_root(), Path(folder, "root")) as root:
        fill(root, THERE)
        yield root


def seconds(work: Callable[[], subprocess.CompletedProcess[str]]) -> float:
    start = time.perf_counter()
    ended = work()
    assert ended.returncode == 0, ended.stdout[-2000:] + ended.stderr[-2000:]
    return time.perf_counter() - start


def ours(password: str) -> float:
    """``verrou harden`` with a baseline that declares the accounts."""
    with filled_root() as root, tempfile.TemporaryDirectory() as folder:
        accounts = "".join(f'[accounts.tern{n}]\npassword = "{password}"\n' for n in range(NEW))
        text = f'[baseline]\ntitle = "The season"\n{accounts}'
        Path(folder, "season.toml").write_text(text)
        program = [sys.executable, "-m", "verrou", "harden", "-m", str(root.path), "-b", "season.toml", "--yes"]
        return ran([*program, "--password-file", "handed.txt"], codes=(0,), cwd=folder).wall


def hashing() -> float:
    """Hashing as many passwords, on all cores."""
    start = time.perf_counter()
    with ProcessPoolExecutor(len(os.sched_getaffinity(0))) as pool:
        list(pool.map(hashed, [f"kittiwake-Cliff-{n}" for n in range(NEW)], chunksize=10))
    return time.perf_counter() - start


def newusers() -> float:
    with filled_root() as root:
        lines = "".join(f"tern{n}:kittiwake-Cliff-{n}::::/home/tern{n}:/bin/bash\n" for n in range(NEW))
        return seconds(lambda: root.inside("newusers", typed=lines))


def useradd() -> float:
    with filled_root() as root:
        return sum(seconds(lambda n=n: root.inside("useradd", "-M", f"tern{n}")) for n in range(USERADDS)) / USERADDS


def lines() -> Iterator[Line]:
    """The promises about many accounts in one plan."""
    unshare(CLONE_NEWNS)
    private_mounts()
    made = [quietly(partial(ours, "generate"), 2) for _ in range(ROUNDS)]
    bare, theirs = quietly(hashing), quietly(newusers, 2)
    yield line("accounts", f"{NEW} added in one plan / hashing on all cores", 1.5, [each / bare for each in made])
    yield line("accounts", f"{NEW} added: newusers / ours", 4, [theirs / each for each in made], most=False)
    one, without = quietly(useradd, 2), [quietly(partial(ours, "blank"), 2) for _ in range(ROUNDS)]
    loop = [one * NEW / each for each in without]
    yield line("accounts", f"{NEW} added without passwords: useradd / ours", 100, loop, most=False)


if __name__ == "__main__":
    told(lines)
