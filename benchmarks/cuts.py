"""Cuts connections at random instants, and checks that the machine is whole and the outcome told right.

    sudo .venv/bin/python benchmarks/cuts.py [CUTS [SEED]]

The client is killed, the server's child there, the program there, or the cable is pulled, while an account is added or
removed, a baseline applied, a run undone or resumed. Prints a table of what was cut, and what became of it."""

import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from booted import until
from debian_root import SUITE, base_root
from far_machine import BESIDE, PASSWORD, Cable, FarMachine, people

BASELINE = """
[baseline]
title = "The hut"
[password]
min_length = 12
[lockout]
after = 5
lasts = "45 minutes"
forget_after = "20 minutes"
"""
HOST = "hide-04"
DOING = {
    "harden": ("harden", "-b", "hut.toml", "--yes"),
    "add": ("account", "add", "gull", "--password", "generate", "--password-file", "{file}", "--yes"),
    "remove": ("account", "remove", "tern", "--files", "archive", "--yes"),
    "undo": ("undo", "--yes"),
    "resume": ("resume",),
}
AS_IT_APPLIES = 0.2
"""Seconds; shorter instants are counted from the first change, others from the start."""
CUTS = ("near", "server", "program", "cable")


def state(machine: FarMachine) -> str:
    """A digest of all that these commands change, without what is random in it."""
    text = machine.shell(
        "cd /; for f in $(find etc home var/lib/pam var/archives -type f 2>/dev/null | sort"
        " | grep -v -e ssh/ -e '-$' -e 'lock$' -e tar);"
        " do echo $f; sed -E 's/^([^:]+):\\$[^:]*:[0-9]*:/\\1:x:0:/' $f; done | sha256sum; ls -a home"
    )
    return " ".join(text.split())


def wait_for_changes(machine: FarMachine, near: "subprocess.Popen[str]") -> list[int]:
    """Wait until the journal there begins to be written, and return the processes of the program."""
    journal, processes = machine.root / "var/lib/verrou", list[int]()
    while near.poll() is None and not processes:
        processes = machine.program()
    before = written(journal)
    while near.poll() is None and written(journal) == before:
        time.sleep(0.0002)
    return processes


def written(journal: Path) -> tuple[int, int]:
    """How much a journal holds: change sets, and bytes."""
    with suppress(OSError):
        return len(os.listdir(journal / "kept")), (journal / "journal.jsonl").stat().st_size
    return 0, 0


def cut(kind: str, cable: Cable, machine: FarMachine, near: "subprocess.Popen[str]", there: list[int]) -> None:
    """Cut the connection in one of four ways."""
    match kind:
        case "near":
            subprocess.run(["pkill", "-KILL", "-s", str(near.pid)], check=False)
        case "server":
            machine.inside("pkill", "-KILL", "-f", "^sshd: .*@notty")
        case "program":
            for process in there or machine.program():
                with suppress(ProcessLookupError):
                    os.kill(process, signal.SIGKILL)
        case "cable":
            cable.plug(False)


def journal(cable: Cable) -> str:
    return cable.verrou("journal", "list", "-m", f"ssh://{HOST}").stdout


def one(cable: Cable, machine: FarMachine, doing: str, kind: str, instant: float, before: str, number: int) -> str:
    """Do one thing, cut it, and return what became of it; fails where that is not whole, or told wrong."""
    words = [word.format(file=f"passwords-{number}") for word in DOING[doing]]
    with subprocess.Popen(
        cable.words(*words, "-m", f"ssh://{HOST}"),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        env=cable.environment,
        cwd=cable.folder,
        start_new_session=True,
    ) as near:
        there = wait_for_changes(machine, near) if instant < AS_IT_APPLIES else []
        time.sleep(instant)
        ended = near.poll() is not None
        cut(kind, cable, machine, near, there)
        if kind == "cable":
            time.sleep(random.choice((2, 18)))
            cable.plug(True)
        told = near.communicate()[0]
    until(lambda: machine.inside("pgrep", "-f", "s.connect.bytes").returncode, "the end of the run there", 120)
    listed = journal(cable)
    found = "interrupted" if re.search(r"^\d+ .* interrupted ", listed, re.M) else "whole"
    if found == "interrupted":
        assert kind == "program", (doing, kind, told, listed)
    if "what had not begun" in told:
        assert state(machine) == before, (doing, kind, told, listed)
    if "applied whole" in told:
        assert found == "whole" and state(machine) != before, (doing, kind, told, listed)
    if "was interrupted" in told:
        assert found == "interrupted", (doing, kind, told, listed)
    if ended:
        return "done before"
    return found if found == "interrupted" else "as before" if state(machine) == before else "applied"


def an_instant(chance: random.Random) -> float:
    """A while from the first change, or one from the start."""
    return chance.uniform(0, 0.03) if chance.random() < 0.7 else chance.uniform(1.0, 4.2)


def main() -> None:
    cuts, seed = (int(word) for word in (*sys.argv[1:3], "200", "1")[:2])
    chance, table = random.Random(seed), Counter[tuple[str, str, str]]()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        base = base_root(SUITE, BESIDE)
        with Cable.laid(folder) as cable, FarMachine.up(cable, HOST, base, folder, 4) as machine:
            people(machine, (folder / "key.pub").read_text())
            machine.shell(f"useradd -m boss; echo boss:{PASSWORD} | chpasswd; usermod -aG sudo boss")
            cable.name(HOST, machine.address, "keeper")
            cable.trust(machine)
            (folder / "hut.toml").write_text(BASELINE)
            first = state(machine)
            for number in range(cuts):
                doing, kind = chance.choice(("harden", "add", "remove")), chance.choice(CUTS)
                found = one(cable, machine, doing, kind, an_instant(chance), first, number)
                table[doing, kind, found] += 1
                print(number, doing, kind, found, flush=True)
                if state(machine) != first:
                    doing = chance.choice(("undo", "resume")) if found == "interrupted" else "undo"
                    kind = chance.choice(CUTS)
                    again = one(cable, machine, doing, kind, an_instant(chance), state(machine), number)
                    table[doing, kind, again] += 1
                    print(number, doing, kind, again, flush=True)
                for _ in range(4):
                    if state(machine) == first and "interrupted" not in journal(cable):
                        break
                    ended = cable.verrou("undo", "--yes", "-m", f"ssh://{HOST}")
                assert state(machine) == first, ended
    for (doing, kind, found), count in sorted(table.items()):
        print(f"{doing:<8} {kind:<8} {found:<12} {count}")
    print(f"{sum(table.values())} cuts, all whole")


if __name__ == "__main__":
    main()
