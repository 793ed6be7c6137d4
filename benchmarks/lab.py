"""A round over eight computers across cables, of which four fail: all at once against one after the other.

    sudo .venv/bin/python benchmarks/lab.py

Prints the round's table, and the ratios of wall time and CPU time of this end in one run."""

import resource
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from debian_root import SUITE, base_root
from far_machine import BESIDE, Cable, FarMachine, people

FIRST, FINE, BARE, UNTRUSTED, POOR, OFF = 4, 4, "hide-08", "hide-09", "hide-10", "hide-11"
ROUNDS = 3


def timed(cable: Cable, at_once: int) -> tuple[float, float, str]:
    """Wall time, CPU time and output of a round."""
    begun, before = time.perf_counter(), resource.getrusage(resource.RUSAGE_CHILDREN)
    ended = cable.verrou("round", "lab.toml", "--at-once", at_once)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return time.perf_counter() - begun, used, ended.stdout + ended.stderr


def main() -> None:
    names = [*(f"hide-{number:02}" for number in range(FIRST, FIRST + FINE)), BARE, UNTRUSTED, POOR, OFF]
    base = base_root(SUITE, BESIDE)
    with tempfile.TemporaryDirectory() as name, ExitStack() as stack:
        folder = Path(name)
        cable = stack.enter_context(Cable.laid(folder))
        for number, host in enumerate(names, start=FIRST):
            cable.name(host, f"127.0.0.{number}", "tern" if host == POOR else "keeper")
            if host == OFF:
                continue
            machine = stack.enter_context(FarMachine.up(cable, host, base, folder, number))
            people(machine, (folder / "key.pub").read_text())
            machine.shell(f"echo {number:032x} > /etc/machine-id; {'rm /usr/bin/python3*' if host == BARE else ':'}")
            if host != UNTRUSTED:
                cable.trust(machine)
        lines = [f'{host} = {{ at = "ssh://{host}", baseline = "essential" }}' for host in names]
        (folder / "lab.toml").write_text("\n".join(["[machines]", *lines]))
        print(timed(cable, 8)[2])
        ratios = []
        for _ in range(ROUNDS):
            (wall, cpu, _), (wall_singly, cpu_singly, _) = timed(cable, 8), timed(cable, 1)
            ratios.append((wall / wall_singly, cpu / cpu_singly))
            print(
                f"8 at once {wall:.1f} s, one after the other {wall_singly:.1f} s: {wall / wall_singly:.2f} of the time"
            )
        print(f"CPU time of this end: {min(cpu for _, cpu in ratios):.2f} to {max(cpu for _, cpu in ratios):.2f} times")


if __name__ == "__main__":
    main()
