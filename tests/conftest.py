"""What the tests share: the built program, bench machines, and throwaway Debian roots."""

import ctypes
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from verrou.machines.bench.authority import Authority

sys.path.insert(0, str(Path(__file__).parent))
from debian_root import PrivateRoot, Unavailable, base_root

settings.register_profile(
    "verrou", deadline=None, max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
settings.load_profile("verrou")

Verrou = Callable[..., subprocess.CompletedProcess[str]]
GOOD_PASSWORD = "kittiwake-Cliff-42"
TYPED = ("--yes", "--password", "stdin")


@pytest.fixture
def verrou(tmp_path: Path) -> Verrou:
    """The program as a person runs it: ``verrou("audit", "-b", "essential", typed="...", code=1)``."""

    def run(*arguments: object, typed: str = "", code: int | None = 0) -> subprocess.CompletedProcess[str]:
        ended = subprocess.run(
            [sys.executable, "-m", "verrou", *map(str, arguments)],
            input=typed,
            capture_output=True,
            text=True,
            cwd=tmp_path,
            env={k: v for k, v in os.environ.items() if k != "VERROU_MACHINE"},
            check=False,
        )
        assert "Traceback" not in ended.stderr, ended.stderr
        if code is not None:
            assert ended.returncode == code, f"{arguments}\n{ended.stdout}\n{ended.stderr}"
        return ended

    return run


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


@pytest.fixture(scope="session")
def debian() -> Path:
    """A Debian root, built once and kept. Where it must be there (in CI), its absence is a failure, not a skip."""
    try:
        base = base_root()
        libc = ctypes.CDLL(None, use_errno=True)
        if libc.unshare(0x00020000) or libc.mount(b"none", b"/", None, 16384 | (1 << 18), None):
            raise Unavailable("no mounts of our own: run as root on Linux")
        return base
    except Unavailable as reason:
        if os.environ.get("CI") or os.environ.get("VERROU_NEED_REAL_ROOT"):
            pytest.fail(f"the tests on a real Debian root must run here: {reason}")
        pytest.skip(str(reason))


@pytest.fixture
def root(debian: Path, tmp_path: Path) -> Iterator[PrivateRoot]:
    """A private, writable Debian root, gone after the test."""
    with PrivateRoot.over(debian, tmp_path / "warden-03") as private:
        yield private


@pytest.fixture
def manned_root(root: PrivateRoot, verrou: Verrou) -> PrivateRoot:
    """A private root with one administrator, ``warden``, made by Verrou."""
    verrou(
        *("account", "add", "warden", "--role", "administrator", "--keep-password"),
        *("--password", "stdin", "--yes", "-m", root.path),
        typed=GOOD_PASSWORD + "\n",
    )
    return root
