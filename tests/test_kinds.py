"""A kind of machine that is only here: it is observed and tested, and cannot be copied. A class and a line suffice."""

import errno
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import pytest
from attrs import evolve

from conftest import Verrou
from verrou.core.errors import NotEnoughRights
from verrou.core.model import Account, Files, Snapshot
from verrou.demo.scenario import lay_out
from verrou.machines import registry
from verrou.machines.bench.machine import BenchMachine
from verrou.machines.kind import Kind
from verrou.machines.protocol import CannotLook, Lacks, Machine

if TYPE_CHECKING:
    from verrou.core.testing.attempts import Attempt

NO_COPY = "it answers by radio, and nothing can be copied from it"


class Buoy:
    """A tide gauge out at sea, whose accounts are those of a bench machine."""

    kind = "buoy"
    recorded = None
    changeable = Lacks(NO_COPY)
    askable = Lacks("it runs no programs")

    def __init__(self, path: Path) -> None:
        self.behind = BenchMachine(path)
        self.address, self.name = str(path), path.stem

    @property
    def testable(self) -> "Buoy":
        return self

    def observe(self, *, asked: bool = False) -> Snapshot:
        found = self.behind.observe(asked=asked)
        return evolve(found, machine=evolve(found.machine, name=self.name, kind=self.kind, identity=""))

    def files_of(self, account: Account, everywhere: bool) -> Files:
        raise CannotLook("its files are out of reach")

    @contextmanager
    def tests(self) -> "Iterator[Attempt]":
        with self.behind.tests() as attempt:
            yield attempt


class BuoyKind(Kind):
    name = "buoy"
    suffix = ".buoy"
    addresses = "NAME.buoy"

    def open(self, address: str) -> Machine:
        return Buoy(Path(address))


def test_a_new_kind_of_machine_needs_a_class_and_a_line(
    verrou: Verrou, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(registry, "KINDS", (*registry.KINDS, BuoyKind()))
    (tmp_path / "station").mkdir()
    lay_out(tmp_path / "station")
    buoy = tmp_path / "sea/tide-01.buoy"
    buoy.parent.mkdir()
    shutil.copy(tmp_path / "station/hide-01.bench.json", buoy)
    before = buoy.read_bytes()
    m, b = ("-m", buoy), ("-b", tmp_path / "station/hide-01.toml")

    assert "tide-01" in verrou("survey", *m, "--save", "tide-01").stdout
    assert "daypass" in verrou("access", *m).stdout
    assert "not met" in verrou("audit", *m, *b, code=1).stdout
    verrou("baseline", "capture", "--save", "tide.toml", *m)
    assert "tide-01 now compared with tide-01" in verrou("compare", "tide-01.survey.json", "now", *m).stdout
    (row,) = verrou.json("round", "sea", *b, code=1)["machines"]
    assert row["machine"] == "tide-01"
    results = verrou.json("verify", *m, *b, code=1)["tests"]
    assert {"passed", "failed"} & {each["result"] for each in results}
    sheet = verrou("report", *m, *b, code=1).stdout
    assert NO_COPY in sheet and "lockout.after" in sheet

    for command in (("harden", *b), ("account", "disable", "tern"), ("rule", "set", "password.min_length=14")):
        assert f"tide-01: {NO_COPY}" in verrou(*command, *m, "--yes", code=4).stderr
    assert NO_COPY in verrou("harden", *m, *b, "--preview", code=3).stdout
    assert f"tide-01: {NO_COPY}" in verrou("journal", "list", *m, code=4).stderr
    assert "it runs no programs" in verrou("survey", *m, "--ask-system", code=2).stderr
    assert "NAME.buoy" in verrou("survey", "-m", "nowhere", code=2).stderr
    assert buoy.read_bytes() == before and sorted(path.name for path in buoy.parent.iterdir()) == ["tide-01.buoy"]


def test_what_may_not_be_looked_at_is_told_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    look = os.stat

    def denied(place: str, **more: bool) -> os.stat_result:
        if str(place).endswith("etc/passwd"):
            raise PermissionError(errno.EACCES, "Permission denied", str(place))
        return look(place, **more)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "stat", denied)
    with pytest.raises(NotEnoughRights, match="this account cannot read it"):
        registry.open_machine(str(tmp_path))
