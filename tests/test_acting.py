"""What acts for an account without anybody signing in: named, told before it is closed, and taken away with it."""

import os
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou
from debian_root import PrivateRoot
from verrou.core.model import ActKind
from verrou.machines.linux.entry.routes import sessions
from verrou.machines.linux.machine import LinuxMachine
from verrou.machines.linux.root import Root

KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGuillemotsOwnKey guillemot@laptop"
SESSION = "# private\nUID=1001\nUSER=tern\nACTIVE=1\nSTATE=active\nTTY=tty2\nCLASS=user\nREALTIME=1757838600000000\n"


def put(root: PrivateRoot, name: str, text: str, mode: int = 0o600, uid: int = 0) -> None:
    root.write(name, text)
    path = root.path / name.lstrip("/")
    path.chmod(mode)
    os.chown(path, uid, uid)


@pytest.fixture
def busy(root: PrivateRoot, verrou: Verrou) -> PrivateRoot:
    """A root where tern has a bit of everything that goes on without her."""
    for name in ("warden", "tern"):
        role = ("--role", "administrator") if name == "warden" else ()
        made = ("account", "add", name, *role, "--keep-password", "-m", root.path, *TYPED)
        verrou(*made, typed=f"{GOOD_PASSWORD}\n")
    uid, warden = (int(root.inside("id", "-u", name).stdout) for name in ("tern", "warden"))
    put(root, "/var/spool/cron/crontabs/tern", "SHELL=/bin/sh\n# tides\n@daily true\n5 4 * * * true\n", uid=uid)
    put(root, "/var/spool/cron/atjobs/a00001030a0b0c", "#!/bin/sh\ntrue\n", 0o700, uid)
    put(root, "/var/lib/systemd/linger/tern", "", 0o644)
    put(root, "/etc/cron.d/tides", "17 * * * * tern /usr/local/bin/tides\n", 0o644)
    put(root, "/etc/cron.d/ignored.by-its-name", "17 * * * * tern true\n", 0o644)
    put(root, "/home/tern/.ssh/id.pub", KEY)
    put(root, "/home/warden/.ssh/authorized_keys", f'command="echo ssh-rsa no",no-pty {KEY}\n', uid=warden)
    return root


@pytest.mark.real_root
def test_cron_is_right_about_who_is_closed(busy: PrivateRoot, verrou: Verrou) -> None:
    def allowed() -> bool:
        return busy.inside("pamtester", "cron", "tern", "acct_mgmt").returncode == 0

    def statement() -> bool:
        tern = LinuxMachine(busy.path, str(busy.path)).observe().by_name["tern"]
        return {act.kind: act.runs_when_disabled for act in tern.acts}[ActKind.CRONTAB]

    assert allowed() and statement()
    busy.inside("passwd", "-l", "tern")
    assert allowed() and statement(), "a locked password stops no job"
    output = verrou("account", "disable", "tern", "-m", busy.path, "--yes").stdout
    assert not allowed() and not statement()
    assert "tern still runs jobs after it is disabled: its key also signs in to warden" in " ".join(output.split())
    assert (
        "has jobs that will run again when it is enabled: crontab /var/spool/cron/crontabs/tern (2 jobs)"
        in " ".join(output.split())
    )
    put(busy, "/etc/pam.d/cron", "account required pam_permit.so\n", 0o644)
    assert allowed() and statement(), "cron with a stack that asks nothing runs the jobs of the closed"
    listed = verrou("account", "list", "--state", "still-runs", "-m", busy.path, "--format", "csv").stdout
    assert [line.split(",")[1] for line in listed.splitlines()[1:]] == ["tern"]


@pytest.mark.real_root
def test_who_is_removed_leaves_nothing_that_runs(busy: PrivateRoot, verrou: Verrou) -> None:
    shown = verrou.line("account", "show", "tern", "-m", busy.path)
    for message in (
        "crontabs/tern (2 jobs)",
        "at job /var/spool/cron/atjobs",
        "cron runs jobs as this account: /etc/cron.d/tides:1",
    ):
        assert message in shown
    assert "ignored" not in shown and "its key also signs in to warden: /home/warden/.ssh/authorized_keys:1" in shown
    before = busy.tree()
    output = " ".join(
        verrou("account", "remove", "tern", "--files", "archive", "-m", busy.path, "--yes").stdout.split()
    )
    assert "/etc/cron.d/tides:1 still names it" in output and "Remove that line yourself" in output
    for folder in ("var/spool/cron/crontabs", "var/spool/cron/atjobs", "var/lib/systemd/linger"):
        assert not [path for path in (busy.path / folder).iterdir() if not path.name.startswith(".")]
    left = verrou("survey", "-m", busy.path).stderr
    assert "/etc/cron.d/tides:1: this line has cron work as tern, an account that does not exist" in left
    verrou("undo", "-m", busy.path, "--yes")
    assert {n: f for n, f in busy.tree().items() if "spool" in n or "linger" in n} == {
        n: f for n, f in before.items() if "spool" in n or "linger" in n
    }


@pytest.mark.real_root
def test_a_renamed_account_keeps_its_jobs(busy: PrivateRoot, verrou: Verrou) -> None:
    output = verrou("account", "rename", "tern", "guillemot", "-m", busy.path, "--yes").stdout
    assert "/etc/cron.d/tides:1 names tern and not guillemot" in " ".join(output.split())
    assert "@daily" in busy.read("/var/spool/cron/crontabs/guillemot")
    assert not (busy.path / "var/spool/cron/crontabs/tern").exists()


def test_sessions_where_there_is_no_utmp(tmp_path: Path) -> None:
    folder = tmp_path / "run/systemd/sessions"
    folder.mkdir(parents=True)
    (folder / "3").write_text(SESSION)
    (folder / "c1").write_text(SESSION.replace("CLASS=user", "CLASS=greeter").replace("tty2", "tty7"))
    (folder / "9").write_text(SESSION.replace("STATE=active", "STATE=closing").replace("tty2", "tty9"))
    (folder / "noise").write_bytes(bytes(range(256)))
    found = sessions(Root(tmp_path), {})
    (since,) = found["tern"].sessions
    assert (
        list(found) == ["tern"] and since.startswith("tty2 since 2025-09-14") and found["tern"].routes == ("console",)
    )
    assert list(sessions(Root(tmp_path), {1001: "gull"})) == ["gull"], "a session goes on under its number"


@pytest.mark.real_root
def test_files_of_who_leaves_are_handed_over_wherever_they_are(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path, "--yes")
    root.users("tern", "ana")
    tern, ana = (int(root.inside("id", "-u", name).stdout) for name in ("tern", "ana"))
    for place, mode in (("home/tern/notes.txt", 0o640), ("home/tern/tool", 0o4755), ("srv/rota.ods", 0o644)):
        path = root.path / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(place)
        os.chown(path, tern, tern)
        path.chmod(mode)
    (root.path / "home/tern/link").symlink_to("/etc/shadow")
    os.chown(root.path / "home/tern/link", tern, tern, follow_symlinks=False)
    (root.path / "home/tern/anas").write_text("x")
    remove = ("account", "remove", "tern", "--files", "hand-over")
    verrou(*remove, *m, code=2)
    verrou(*remove, "--to", "tern", *m, code=2)
    os.chown(root.path / "home/tern/anas", ana, ana)
    assert "ana already has files in /home/tern" in verrou(*remove, "--to", "ana", *m, code=4).stderr
    (root.path / "home/tern/anas").unlink()
    before = root.tree()
    verrou(*remove, "--to", "ana", *m)
    owners = {name: facts[1:3] for name, facts in root.tree().items()}
    assert not [name for name, owner in owners.items() if owner[0] == tern]
    for place in ("home/tern", "home/tern/notes.txt", "home/tern/link", "srv/rota.ods"):
        assert owners[place][0] == ana, place
    assert owners["etc/shadow"] == before["etc/shadow"][1:3]
    assert not (root.path / "home/tern/tool").stat().st_mode & 0o4000, "a program of tern's never runs as ana"
    verrou("undo", *m)
    after = {name: facts for name, facts in root.tree().items() if name != "home/tern/tool"}
    assert after == {name: facts for name, facts in before.items() if name != "home/tern/tool"}


def test_files_of_a_bench_machine_are_handed_over(verrou: Verrou, station: Path) -> None:
    m = ("-m", "station/hide-01", "--yes")
    verrou("account", "remove", "guillemot", "--files", "hand-over", "--to", "tern", *m)
    shown = verrou("account", "disable", "tern", "--preview", *m[:2], code=None).stdout
    assert "rota-2024.ods" in shown and "counts-2024.ods" in shown
