"""What is built of the project: a source archive, and a wheel of it that installs and runs by itself."""

import os
import subprocess
import sys
import tarfile
import venv
from pathlib import Path
from zipfile import ZipFile

import pytest

TOP = Path(__file__).parent.parent
PACKAGES = next(path for path in sys.path if path.endswith("site-packages"))


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """The source archive, and the wheel that is built from it."""
    folder = tmp_path_factory.mktemp("built")
    command = [sys.executable, "-m", "build", "--no-isolation", "--outdir", folder, TOP]
    subprocess.run(command, check=True, capture_output=True)
    return next(folder.glob("*.tar.gz")), next(folder.glob("*.whl"))


def test_the_archives_contain_what_they_need_and_their_licence(built: tuple[Path, Path]) -> None:
    source, wheel = built
    with tarfile.open(source) as archive:
        names = {name.partition("/")[2] for name in archive.getnames()}
    assert {"LICENSE", "README.md", "CHANGELOG.md", "tests/conftest.py", "docs/handbook/reference.md"} <= names
    packed = ZipFile(wheel)
    files = {name for name in packed.namelist() if name.startswith("verrou/")}
    mine = {str(path.relative_to(TOP / "src")) for path in (TOP / "src/verrou").rglob("*") if path.is_file()}
    chapters = {f"verrou/handbook/{path.name}" for path in (TOP / "docs/handbook").iterdir()}
    assert files == {name for name in mine if "__pycache__" not in name} | chapters
    about = packed.read(next(name for name in packed.namelist() if name.endswith("METADATA"))).decode()
    assert "License-Expression: Apache-2.0\n" in about and "Author: The Verrou authors\n" in about


def test_the_wheel_installs_and_runs_in_a_fresh_environment(built: tuple[Path, Path], tmp_path: Path) -> None:
    """The packages it depends on are those of the tests: nothing is fetched."""
    venv.create(tmp_path / "fresh")
    python = tmp_path / "fresh/bin/python"
    install = [sys.executable, "-m", "pip", "--python", python, "install", "--no-index", "--no-deps", built[1]]
    subprocess.run(install, check=True, capture_output=True)

    def run(*words: str) -> str:
        environment = {**os.environ, "PYTHONPATH": PACKAGES}
        program = tmp_path / "fresh/bin/verrou"
        return subprocess.run(
            [program, *words], env=environment, cwd=tmp_path, check=True, capture_output=True, text=True
        ).stdout

    run("demo", "station", "--quiet")
    assert run("survey", "-m", "station/hide-01").startswith("hide-01: bench machine")
    assert run("handbook", "first-machine").startswith("# ")
    found = [python, "-c", "import verrou; print(verrou.__file__)"]
    where = subprocess.run(
        found, env={**os.environ, "PYTHONPATH": PACKAGES}, capture_output=True, text=True, check=True
    )
    assert where.stdout.startswith(str(tmp_path / "fresh")), "and not what the tests run from"
