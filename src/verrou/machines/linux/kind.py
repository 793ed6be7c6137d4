"""Linux systems as a kind of machine. What opens them is imported when one is opened, for a quick start."""

import os
from pathlib import Path

from verrou.machines.kind import Kind, RulePlaces, is_file
from verrou.machines.protocol import Machine

THIS = "this"
"""The address of this computer."""
OF_A_SYSTEM = "etc/passwd"
"""What every system has (passwd(5))."""


class LinuxKind(Kind):
    """This computer, and folders that hold a Linux root."""

    name = "linux"
    addresses = f'"{THIS}", a mounted Linux root'

    def is_at(self, address: str) -> bool:
        return address == THIS or is_file(f"{address}/{OF_A_SYSTEM}")

    def why_not(self, address: str) -> str:
        return f"a folder without {OF_A_SYSTEM}" if Path(address).is_dir() else ""

    def may_be(self, entry: "os.DirEntry[str]") -> bool:
        return entry.is_dir() and self.is_at(entry.path)

    def open(self, address: str) -> Machine:
        from verrou.machines.linux.machine import LinuxMachine

        return LinuxMachine(Path("/" if address == THIS else address), address)

    def rule_places(self) -> RulePlaces:
        from verrou.machines.linux import rules
        from verrou.machines.linux.rules.untested import UNTESTED

        return RulePlaces(rules.ADAPTERS, rules.ABSENT, rules.DERIVED, UNTESTED)


LINUX = LinuxKind()
