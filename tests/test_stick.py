"""The stick: one file, run in a root that has Python and nothing else, from a file system that nothing can write to."""

import hashlib
import html
import os
import subprocess
import sys
import zipfile
from pathlib import Path
from zipimport import zipimporter

import pytest

from conftest import base_of
from debian_root import NEWEST, SUITE, PrivateRoot, mount
from verrou import __version__
from verrou.far.load_once import LoadsOnce

TOP = Path(__file__).parent.parent


def test_it_is_one_file_of_python_alone_and_the_same_each_time(stick: Path, tmp_path: Path) -> None:
    file = stick / "verrou.pyz"
    digest = hashlib.sha256(file.read_bytes()).hexdigest()
    assert (stick / "verrou.pyz.sha256").read_text() == f"{digest}  verrou.pyz\n"
    names = zipfile.ZipFile(file).namelist()
    assert not [name for name in names if name.endswith((".so", ".pyd"))]
    assert {f"{name}c" for name in names if name.endswith(".py") and name != "__main__.py"} <= set(names)
    assert not [name for name in names if name.split("/")[0] in ("sqlalchemy", "alembic", "matplotlib", "numpy")]
    assert {"verrou/handbook/round.md", "verrou/baselines/office.toml"} <= set(names)
    message = subprocess.run(
        [sys.executable, "-I", file, "--version"], capture_output=True, text=True, check=True
    ).stdout
    assert message == f"verrou {__version__}, {digest}\n"
    subprocess.run([sys.executable, TOP / "scripts/stick", tmp_path], check=True, capture_output=True)
    assert (tmp_path / "verrou.pyz").read_bytes() == file.read_bytes()


def test_a_module_is_found_as_python_finds_it(stick: Path) -> None:
    file = stick / "verrou.pyz"
    text = (
        "import sys; file = sys.argv[1]; sys.path.insert(0, file); from verrou.far.load_once import load_once;"
        "load_once(file); import click, verrou.cli;"
        "print(*(type(each.__loader__).__name__ for each in (click, verrou.cli)))"
    )
    ended = subprocess.run([sys.executable, "-I", "-c", text, file], capture_output=True, text=True, check=True)
    assert ended.stdout == "LoadsOnce LoadsOnce\n"
    places = {name.rpartition("/")[0] for name in zipfile.ZipFile(file).namelist() if name.endswith(".py")}
    for place in places:
        own, plain = (importer(str(file / place)) for importer in (LoadsOnce, zipimporter))
        for name in ("__init__", "cli", "main", "core", "_make", "exceptions", "none"):
            ours, theirs = own.find_spec(name), plain.find_spec(name)
            assert (ours is None) is (theirs is None), (place, name)
            if ours and theirs:
                assert ours.origin == str(theirs.origin).removesuffix("c")
                assert ours.submodule_search_locations == theirs.submodule_search_locations


@pytest.mark.real_root
def test_where_python_has_a_part_of_its_library_only_one_line_says_so(stick: Path, tmp_path: Path) -> None:
    with PrivateRoot.over(base_of(SUITE, ("python3-minimal",), ()), tmp_path / "warden-03") as root:
        (root.path / "root/verrou.pyz").write_bytes((stick / "verrou.pyz").read_bytes())
        command = ["chroot", str(root.path), "/usr/bin/python3", "/root/verrou.pyz", "survey"]
        ended = subprocess.run(command, capture_output=True, text=True, check=False)
        assert ended.returncode == 2 and ended.stderr.count("\n") == 1, ended.stderr
        assert "install the whole of it (the package python3" in ended.stderr


@pytest.mark.real_root
def test_a_python_of_another_version_takes_the_sources(stick: Path, tmp_path: Path) -> None:
    with PrivateRoot.over(base_of(NEWEST, ("python3",), ()), tmp_path / "warden-03") as root:
        (root.path / "root/verrou.pyz").write_bytes((stick / "verrou.pyz").read_bytes())

        def ran(*words: str) -> str:
            command = ["chroot", str(root.path), "/usr/bin/python3", *words]
            return subprocess.run(command, capture_output=True, text=True, check=True).stdout

        assert ran("--version").split()[1].rpartition(".")[0] != "{}.{}".format(*sys.version_info)
        assert "accounts can sign in; " in ran("/root/verrou.pyz", "survey")


@pytest.mark.real_root
def test_it_runs_where_there_is_python_and_nothing_else(stick: Path, tmp_path: Path) -> None:
    with PrivateRoot.over(base_of(SUITE, ("python3",), ()), tmp_path / "warden-03") as root:
        place = root.path / "media"
        mount(str(stick), place, "--bind")
        try:
            mount("none", place, "-o", "remount,bind,ro")
            with pytest.raises(OSError):
                (place / "x").touch()

            def run(*words: str, code: int = 0) -> str:
                command = ["chroot", str(root.path), "/media/verrou.pyz", *words]
                environment = {"PATH": os.environ["PATH"], "HOME": "/root", "COLUMNS": "100"}
                ended = subprocess.run(command, capture_output=True, text=True, check=False, env=environment)
                assert ended.returncode == code and "Traceback" not in ended.stderr, (words, ended.stdout, ended.stderr)
                return ended.stdout + ended.stderr

            assert "root" in run("survey")
            run("demo", "/root/station")
            at = ("-m", "/root/station/ringing-02")
            assert "Generated passwords" in run("account", "password", "ana", *at, "--password", "generate", "--yes")
            sheet = ("--save", "/root/r.html", "--no-tests")
            run("report", *at, "-b", "/root/station/ringing-02.toml", *sheet, code=1)
            assert "pip install 'verrou[report]'" in html.unescape(root.read("/root/r.html"))
            kept = run("audit", *at, "-b", "office", "--log", "--logbook", "/root/log.db", code=1)
            assert "pip install 'verrou[logbook]'" in kept and "1 record stored in" in kept
            assert "# A round" in run("handbook", "round")
        finally:
            subprocess.run(["umount", "-l", str(place)], check=True)
