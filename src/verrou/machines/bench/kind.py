"""Bench machines as a kind of machine. What opens them is imported when one is opened, for a quick start."""

from pathlib import Path

from verrou.machines.kind import Kind, RulePlaces
from verrou.machines.protocol import Machine


class BenchKind(Kind):
    """Simulated workstations in files."""

    name = "bench"
    suffix = ".bench.json"
    addresses = f"NAME{suffix}"

    def open(self, address: str) -> Machine:
        from verrou.machines.bench.machine import BenchMachine

        return BenchMachine(Path(address))

    def rule_places(self) -> RulePlaces:
        from verrou.machines.bench import rules

        return RulePlaces(rules.ADAPTERS, rules.ABSENT, rules.DERIVED)


BENCH = BenchKind()
