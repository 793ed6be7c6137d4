"""What the tests share: the built program, bench machines, and throwaway Debian roots."""

import ctypes
import fcntl
import gc
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from attrs import frozen
from hypothesis import HealthCheck, Phase, settings

from verrou.core.model import Snapshot
from verrou.core.model.access import usable_administrators
from verrou.core.steps.step import Step
from verrou.machines.bench.authority import Authority
from verrou.machines.changes import Secrets, StepResult
from verrou.machines.linux.files.sign_ins import LASTLOG_RECORD
from verrou.machines.protocol import Machine
from verrou.records import dry_runs, transactions

sys.path.insert(0, str(Path(__file__).parent))
from debian_root import DESKTOP, NEWEST, PACKAGES, SUITE, PrivateRoot, Unavailable, base_root
from programs import Holder, become_program

os.environ.pop("COLUMNS", None)  # a width that a caller has set would break lines where the tests expect none
os.register_at_fork(after_in_child=gc.freeze)
"""A forked program copies no page of this process only to find that there is no garbage on it."""
FACTOR = int(os.environ.get("VERROU_SEARCH", "1"))
"""How many times more cases than usual are generated."""
settings.register_profile(
    "verrou",
    deadline=None,
    phases=[phase for phase in Phase if phase is not Phase.explain],  # which takes minutes, and looks like a hang
    max_examples=60 * FACTOR,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
    derandomize="CI" in os.environ,
    print_blob=True,
)
settings.load_profile("verrou")


def examples(count: int) -> settings:
    """Another number of generated cases than usual."""
    return settings(max_examples=count * FACTOR)


PROGRAMS = {"usr/bin/sudo": 0o4755, "bin/bash": 0o755, "bin/sh": 0o755}


def with_programs(root: Path) -> Path:
    """A tree with the programs that accounts rest on: sudo, which makes root of people by its own mode, and shells."""
    for name, mode in PROGRAMS.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).touch()
        (root / name).chmod(mode)
    return root


def with_files(root: Path, files: Mapping[str, str]) -> Path:
    """A tree with some files, by their names below it."""
    for name, text in files.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_text(text)
    return root


@frozen
class Verrou:
    """The program as a person runs it in a folder: ``verrou("audit", "-b", "essential", typed="...", code=1)``.

    It runs in a forked process: what it says is the same as from a new interpreter, and much sooner there. Where a test
    has changed something in its own, it is forked from that."""

    folder: Path
    here: bool = False

    def __call__(self, *arguments: object, typed: str = "", code: int | None = 0) -> subprocess.CompletedProcess[str]:
        """Run it. ``code`` is what it has to end with, None for anything."""
        words = [str(argument) for argument in arguments]
        ended = forked(words, typed, self.folder, here=self.here)
        assert "Traceback" not in ended.stderr, ended.stderr
        if code is not None:
            assert ended.returncode == code, f"{words}\n{ended.stdout}\n{ended.stderr}"
        return ended

    def json(self, *arguments: object, code: int | None = 0) -> Any:
        """What it gives other programs."""
        return json.loads(self(*arguments, "--format", "json", code=code).stdout)

    def line(self, *arguments: object, code: int | None = 0) -> str:
        """What it tells people, as one line: where lines break is the terminal's affair."""
        return " ".join(self(*arguments, code=code).stdout.split())


GOOD_PASSWORD = "kittiwake-Cliff-42"
TYPED = ("--yes", "--password", "stdin")


def titled(text: str) -> str:
    """A baseline with the title that each must have, where it has none; its lines stay where they are, but for those
    below a heading of its own."""
    if "title" in text:
        return text
    heading = '[baseline]\ntitle = "the station"\n'
    return text.replace("[baseline]\n", heading) if "[baseline]\n" in text else f"{text}\n{heading}"


def bare(value: object) -> object:
    """What a value in JSON comes to, without its unit."""
    assert isinstance(value, dict)
    return next(value[key] for key in ("answer", "number", "duration", "word", "names", "name") if key in value)


@pytest.fixture
def verrou(request: pytest.FixtureRequest, tmp_path: Path) -> Verrou:
    """The program, in the test's own folder."""
    return Verrou(tmp_path, here="monkeypatch" in request.fixturenames)


HOLDERS: list[Holder] = []


def end_holders() -> None:
    """End the processes that programs are forked from."""
    while HOLDERS:
        HOLDERS.pop().end()


pytest_sessionfinish = end_holders


def forked(words: list[str], typed: str, folder: Path, *, here: bool = False) -> subprocess.CompletedProcess[str]:
    """The program in a process of its own, with files for its standard streams; ``here``: forked from this one, so that
    what a test has changed in it counts there."""
    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as output, tempfile.TemporaryFile() as complained:
        given.write(typed.encode())
        given.seek(0)
        streams = [given.fileno(), output.fileno(), complained.fileno()]
        if here or (HOLDERS and HOLDERS[-1].owner != os.getpid()):
            sys.stdout.flush()
            sys.stderr.flush()
            child = os.fork()
            if child == 0:
                become_program(words, folder, streams)
            code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        else:
            if not HOLDERS or not HOLDERS[-1].serves():
                end_holders()
                HOLDERS.append(Holder())
            code = HOLDERS[-1].run(words, folder, streams)
        output.seek(0)
        complained.seek(0)
        out, err = output.read().decode(), complained.read().decode()
    return subprocess.CompletedProcess(words, code, out, err)


def do(machine: Machine, *steps: Step, secrets: Secrets | None = None) -> list[StepResult]:
    """Do a dry run of the steps and apply them, with no guard asked; return the results."""
    given = secrets or Secrets()
    dry_run = dry_runs.do_dry_run(machine, machine.observe(), list(steps), given)
    assert not dry_run.prediction_reason, dry_run.prediction_reason
    if dry_run.changes:
        transactions.commit(machine, dry_run, given, transactions.RunInfo("test"))
    return [result for _, result in dry_run.steps]


@contextmanager
def administered_throughout(machine: Machine, before: Snapshot, after: Snapshot) -> Iterator[None]:
    """Somebody can administer after each place that lands, where somebody can before and afterwards."""
    instants = []
    apply = machine.apply

    def watched(*what: object) -> None:
        apply(*what)  # type: ignore[arg-type]
        instants.append([account.name for account in usable_administrators(machine.observe())])

    machine.apply = watched  # type: ignore[method-assign]
    yield
    machine.apply = apply  # type: ignore[method-assign]
    if usable_administrators(before) and usable_administrators(after):
        assert all(instants), "at every instant somebody can administer"


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's files, laid out once."""
    folder = tmp_path_factory.mktemp("demo") / "station"
    ended = forked(["demo", str(folder), "--quiet"], "", folder.parent)
    assert ended.returncode == 0, ended.stderr
    return folder


@pytest.fixture
def station(demo: Path, tmp_path: Path) -> Path:
    """The demo's files in ``station`` of the test's own folder."""
    return shutil.copytree(demo, tmp_path / "station", symlinks=True)


@pytest.fixture
def bench(tmp_path: Path) -> Path:
    """A fresh bench machine with one more administrator, ``warden``."""
    path = tmp_path / "hide-01.bench.json"
    machine = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
    machine.reset_password("keeper", GOOD_PASSWORD)
    machine.add("warden", "Wilma Warden", GOOD_PASSWORD, must_change=False)
    machine.join("warden", "administrators")
    machine.save(path)
    return path


@cache
def has_mounts_of_its_own() -> bool:
    """Whether this process could leave everybody else's mounts, which it does once."""
    libc = ctypes.CDLL(None, use_errno=True)
    return not libc.unshare(0x00020000) and not libc.mount(b"none", b"/", None, 16384 | (1 << 18), None)


def base_of(suite: str, beside: tuple[str, ...] = (), usual: tuple[str, ...] = PACKAGES) -> Path:
    """A Debian root, built once and kept. Where it must be there (in CI), its absence is a failure, not a skip."""
    try:
        base = base_root(suite, beside, usual)
        if not has_mounts_of_its_own():
            raise Unavailable("no mounts of our own: run as root on Linux")
        return base
    except Unavailable as reason:
        if os.environ.get("CI") or os.environ.get("VERROU_NEED_REAL_ROOT"):
            pytest.fail(f"the tests on a real Debian root must run here: {reason}")
        pytest.skip(str(reason))


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The folder of caches: no test leaves anything to another, or to whoever runs them."""
    folder = tmp_path.parent / f"{tmp_path.name}.cache"
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder))
    return folder / "verrou"


@pytest.fixture(scope="session")
def stick(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that holds Verrou as one file, and its digest: made once, by whichever process of this run is first."""
    shared = tmp_path_factory.getbasetemp()
    folder = (shared.parent if "PYTEST_XDIST_WORKER" in os.environ else shared) / "stick"
    with open(folder.with_suffix(".lock"), "w") as lock:
        fcntl.lockf(lock, fcntl.LOCK_EX)
        if not (folder / "verrou.pyz.sha256").exists():
            maker = Path(__file__).parent.parent / "scripts/stick"
            subprocess.run([sys.executable, maker, folder], check=True, capture_output=True)
    return folder


@pytest.fixture(scope="session")
def debian() -> Path:
    """The release that most tests run on."""
    return base_of(SUITE)


@pytest.fixture
def newest_root(tmp_path: Path) -> Iterator[PrivateRoot]:
    """A private, writable root of the newest Debian release, gone after the test."""
    with PrivateRoot.over(base_of(NEWEST), tmp_path / "warden-03") as private:
        yield private


def with_accounts(base: Path, folder: Path, roles: Mapping[str, str], password: str = GOOD_PASSWORD) -> Path:
    """What accounts that Verrou makes change of a base, as a layer over it; ``password`` is that of the last one."""
    with PrivateRoot.over(base, folder / "warden-03") as private:
        for name, role in roles.items():
            keep = ("--keep-password",) if role != "guest" else ()
            words = ["account", "add", name, "--role", role, *keep, "-m", str(private.path), *TYPED]
            ended = forked(words, f"{password if name == list(roles)[-1] else GOOD_PASSWORD}\n", folder)
            assert ended.returncode == 0, ended.stderr
        return private.keep(folder / "changed")


@pytest.fixture(scope="session")
def people_at_the_desktop(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The accounts of :func:`desktop`, made once."""
    roles = {"warden": "administrator", "tern": "standard", "gull": "standard", "daypass": "guest"}
    return with_accounts(base_of(SUITE, DESKTOP), tmp_path_factory.mktemp("desktop"), roles)


@pytest.fixture
def desktop(people_at_the_desktop: Path, tmp_path: Path) -> Iterator[PrivateRoot]:
    """A private, writable Debian root that people sign in to by a screen, with an administrator ``warden``, the
    standard users ``tern`` and ``gull``, and the guest ``daypass``."""
    with PrivateRoot.over(base_of(SUITE, DESKTOP), tmp_path / "warden-03", people_at_the_desktop) as private:
        yield private


@pytest.fixture
def root(debian: Path, tmp_path: Path) -> Iterator[PrivateRoot]:
    """A private, writable Debian root, gone after the test."""
    with PrivateRoot.over(debian, tmp_path / "warden-03") as private:
        yield private


def admitted_at_the_console(root: PrivateRoot, verrou: Verrou, *names: str) -> list[str]:
    """Those of some accounts whom PAM itself lets go on at a console once they have proved who they are; what Verrou
    tells of each, from files and by asking, is the same."""
    admitted = []
    for name in names:
        lets = root.inside("pamtester", "-I", "tty=tty1", "login", name, "acct_mgmt").returncode == 0
        for how in ("--files-only", "--ask-system"):
            (row,) = verrou.json("access", name, "-m", root.path, how)
            assert (row["routes"]["console"] is not None) is lets, (name, how)
        admitted += [name] * lets
    return admitted


@pytest.fixture(scope="session")
def administrator(debian: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The account of :func:`manned_root`, made once."""
    return with_accounts(debian, tmp_path_factory.mktemp("manned"), {"warden": "administrator"})


@contextmanager
def manned(debian: Path, layer: Path, folder: Path) -> Iterator[PrivateRoot]:
    """A private root with the accounts of a layer; the first of them signed in just now."""
    with PrivateRoot.over(debian, folder / "warden-03", layer) as private:
        with open(private.path / "var/log/lastlog", "wb") as log:
            log.seek(1000 * LASTLOG_RECORD.size)
            log.write(LASTLOG_RECORD.pack(int(time.time()), b"tty1", b""))
        yield private


@pytest.fixture
def manned_root(debian: Path, administrator: Path, tmp_path: Path) -> Iterator[PrivateRoot]:
    """A private root with one administrator, ``warden``, made by Verrou."""
    with manned(debian, administrator, tmp_path) as private:
        yield private
