"""IDs of accounts and groups: those in use, and the next one."""

from collections.abc import Mapping

from attrs import define, field

from verrou.core.model import Source
from verrou.machines.linux.accounts.population import defined_number
from verrou.machines.linux.files.account_files import AccountFile
from verrou.machines.linux.refused import StepRejected


@define(repr=False)
class Numbers:
    """IDs that login.defs(5) leaves for new accounts, in files that are being changed. Hundreds are given at once."""

    files: Mapping[str, AccountFile]
    defs: Mapping[str, tuple[str, Source]]
    _given: dict[str, set[int]] = field(factory=dict, init=False)
    _highest: dict[str, int] = field(factory=dict, init=False)

    def given(self, file: str) -> set[int]:
        """Return the IDs in use in a file."""
        if file not in self._given:
            self._given[file] = {int(record.fields[2]) for record in self.files[file].records()}
        return self._given[file]

    def free(self, file: str, kind: str) -> int:
        """Return the ID after the highest, or else the first gap, in the range of ``kind``: ``UID`` or ``GID``.

        Raises: StepRejected: the range is full."""
        low, high = defined_number(self.defs, f"{kind}_MIN", 1000), defined_number(self.defs, f"{kind}_MAX", 60000)
        given = self.given(file)
        if file not in self._highest:
            self._highest[file] = max((n for n in given if low <= n <= high), default=low - 1)
        above = self._highest[file] + 1
        free = above if above <= high else next((n for n in range(low, high + 1) if n not in given), None)
        if free is None:
            raise StepRejected(f"no number from {low} to {high} is free in {file}")
        return free

    def take(self, file: str, number: int) -> None:
        """Reserve an ID."""
        self.given(file).add(number)
        if number == self._highest.get(file, -1) + 1:
            self._highest[file] = number

    def forget(self) -> None:
        """Count anew: something was removed."""
        self._given.clear()
        self._highest.clear()
