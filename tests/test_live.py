"""The live system, as ``-m this`` means it: this computer's own root, its writeable folders under private overlays, so
that nothing of it is ever touched."""

import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import forked
from debian_root import mount
from verrou.machines.linux.apply import live_system as live
from verrou.machines.linux.root import Root

pytestmark = pytest.mark.real_root
PASSWORD = "kittiwake-Cliff-42"
COVERED = ("/etc", "/var", "/home", "/usr/share", "/usr/sbin")


@pytest.fixture
def covered(debian: Path, tmp_path: Path) -> Iterator[Path]:
    """This process in mounts of its own already; overlays over what may be written, and a log that is ours."""
    layers = tmp_path / "layers"
    layers.mkdir()
    mount("tmpfs", layers, "-t", "tmpfs")
    over = [*COVERED]
    for number, folder in enumerate(over):
        for kind in ("upper", "work"):
            (layers / f"{kind}{number}").mkdir()
        options = f"lowerdir={folder},upperdir={layers}/upper{number},workdir={layers}/work{number}"
        mount("overlay", Path(folder), "-t", "overlay", "-o", options)
    mount("tmpfs", Path("/run"), "-t", "tmpfs")
    try:
        yield tmp_path
    finally:
        for folder in ("/run", *over, str(layers)):
            subprocess.run(["umount", "-l", folder], check=True)


def test_an_account_on_the_live_system_and_back(covered: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The caches are told and the log has a line; nothing stands in either that is secret."""
    log = Path("/run/log-of-the-test")
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as listening:
        listening.bind(str(log))
        there = Path("/dev/log").exists()
        if not there:
            Path("/dev/log").symlink_to(log)
        else:
            mount(str(log), Path("/dev/log"), "--bind")
        try:
            Path("/run/nscd").mkdir()
            Path("/run/nscd/socket").touch()
            Path("/usr/sbin/nscd").write_text("#!/bin/sh\necho $@ >> /run/nscd/told\n")
            Path("/usr/sbin/nscd").chmod(0o755)
            monkeypatch.setenv("LOGNAME", "root")
            before = {name: Path(f"/etc/{name}").read_bytes() for name in ("passwd", "shadow", "group")}
            words = ["account", "add", "gull", "--keep-password", "--password", "stdin", "--yes"]
            ended = forked(words, f"{PASSWORD}\n", covered)
            assert ended.returncode == 0, ended.stderr + ended.stdout
            assert "gull:" in Path("/etc/passwd").read_text() and Path("/home/gull").is_dir()
            listening.settimeout(5)
            line = listening.recv(4096).decode()
            facility = int(line[1 : line.index(">")]) >> 3
            assert (
                facility == 10
                and "entry 1: account add gull --keep-password --password stdin --yes, by " in line
                and PASSWORD not in line
            )
            assert "--invalidate=passwd" in Path("/run/nscd/told").read_text()
            ended = forked(["undo", "--yes"], "", covered)
            assert ended.returncode == 0, ended.stderr + ended.stdout
            assert {name: Path(f"/etc/{name}").read_bytes() for name in before} == before
            assert not Path("/home/gull").exists()
        finally:
            if there:
                subprocess.run(["umount", "/dev/log"], check=True)
            else:
                Path("/dev/log").unlink()


@pytest.mark.parametrize(("checked", "output"), [("true", True), ("false", False)])
def test_a_server_that_could_not_use_its_settings_is_not_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, checked: str, output: bool
) -> None:
    monkeypatch.setattr(live, "can_tell", lambda root: True)
    monkeypatch.setattr(live, "READERS", [("/etc/ssh/", (f"/bin/{checked}",), ("/bin/touch", str(tmp_path / "told")))])
    live.notify(Root(tmp_path), "entry 1", ["/etc/ssh/sshd_config.d/50.conf"])
    assert (tmp_path / "told").exists() is output


def test_a_kernel_that_lets_no_one_have_mounts(covered: Path) -> None:
    """What cannot be dry-run is only predicted, that is said, and nothing is changed."""
    program = """
import sys
from verrou.machines.linux.copy import private_copy
def refused(flags):
    raise OSError(1, "Operation not permitted")
private_copy.unshare = refused
from verrou.__main__ import main
main()
"""
    words = [sys.executable, "-c", program, "account", "add", "gull", "--password", "blank", "--keep-password"]
    environment = {**os.environ, "LOGNAME": "root"}
    ended = subprocess.run([*words, "--preview"], capture_output=True, text=True, check=False, env=environment)
    output = " ".join(ended.stdout.split())
    assert "Predicted only; no dry run: this system does not allow mount namespaces" in output, ended.stderr
    ended = subprocess.run([*words, "--yes"], capture_output=True, text=True, check=False, env=environment)
    assert ended.returncode == 4 and "nothing was changed" in ended.stderr
    assert "gull" not in Path("/etc/passwd").read_text()
