"""What ``-v`` reports: what was asked, run, changed and skipped, and never a secret."""

from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou
from debian_root import PrivateRoot


def test_files_and_changes_are_reported_each_once_and_only_on_request(
    verrou: Verrou, bench: Path, station: Path
) -> None:
    at = ("why", "warden", "console", "-m", "station/warden-03")
    quiet, some, all_of_it = verrou(*at).stderr, verrou(*at, "-v").stderr, verrou("-vv", *at).stderr
    assert "machines." not in quiet and "read /etc/shadow" not in some
    lines = all_of_it.splitlines()
    assert lines.count("machines.linux.root: read /etc/shadow") == 1
    assert sum("display-manager.service is not read" in line for line in lines) == 1
    output = verrou("account", "add", "gull", *TYPED, "-m", bench, "-vv", typed=GOOD_PASSWORD).stderr
    assert "records.journal: " in output and GOOD_PASSWORD not in output


@pytest.mark.real_root
def test_no_secret_is_reported_of_a_real_system(manned_root: PrivateRoot, verrou: Verrou) -> None:
    words = ("account", "add", "gull", "--role", "administrator", *TYPED, "-m", manned_root.path, "-vv")
    output = verrou(*words, typed=GOOD_PASSWORD).stderr
    assert "machines.linux.copy.private_copy: private copy of" in output
    assert ": apply /etc/shadow\n" in output
    output += verrou("account", "test", "gull", *TYPED[1:], "-m", manned_root.path, "-vv", typed=GOOD_PASSWORD).stderr
    assert "asked in the private copy: " in output
    hashes = [line.split(":")[1] for line in manned_root.read("/etc/shadow").splitlines()]
    assert not [each for each in (GOOD_PASSWORD, *hashes) if len(each) > 3 and each in output]


def test_what_a_file_says_moves_no_cursor_in_a_message(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    strange = tmp_path / Path("station/warden-03/etc/sudoers.d/\x9b31m")
    strange.symlink_to("nowhere")
    output = verrou("survey", "-m", "station/warden-03", "-v").stderr
    assert "\x9b" not in output and "\\x9b31m: skipped" in output
