"""A bench machine changed by somebody who sits at it, and not by a plan: under its lock, and without the journal."""

from collections.abc import Iterator
from contextlib import contextmanager

from verrou.machines.bench.authority import Authority
from verrou.machines.bench.machine import BenchMachine
from verrou.records.journal import Journal
from verrou.records.machine_lock import machine_lock
from verrou.records.transactions import current_user


@contextmanager
def at_the_bench(machine: BenchMachine, command: str) -> Iterator[Authority]:
    """Yield the machine as it is now, and save what became of it, whatever happens within."""
    journal = Journal(machine.records_folder())
    journal.make_folder()
    with machine_lock(journal.folder, machine.name, command, current_user()):
        authority = machine.load()
        before = authority.compact()
        try:
            yield authority
        finally:
            if authority.compact() != before:
                authority.save(machine.path)
