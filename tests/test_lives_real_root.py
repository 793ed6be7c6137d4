"""The whole life of accounts on a real Debian root: made, changed, handed over, removed; the system itself judges."""

import ctypes
import hashlib
import os
import subprocess
import tarfile
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou
from debian_root import PrivateRoot
from test_real_root import content_judges

pytestmark = pytest.mark.real_root
OTHER_PASSWORD = "razorbill-Skerry-17"
SESSION_LOGS = {"var/log/lastlog", "var/log/wtmp"}
"""What a session of the test itself writes."""


def session(root: PrivateRoot, account: str, password: str, command: str) -> list[str]:
    """Sign in at the console through PAM, open a session, run a command in it as the account, and say what it says."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            from verrou.machines.linux.pam import client as pam_client

            libc = ctypes.CDLL(None)
            libc.calloc.restype = libc.strdup.restype = ctypes.c_void_p
            os.chroot(root.path)
            os.chdir("/")
            pam, handle = ctypes.CDLL("libpam.so.0"), ctypes.c_void_p()
            talk = pam_client.Session("login", account, lambda _: password)
            answer = pam_client._CONVERSE(talk._converse(libc))
            conversation = pam_client._Conversation(answer, None)
            pam.pam_start(b"login", account.encode(), ctypes.byref(conversation), ctypes.byref(handle))
            pam.pam_set_item(handle, pam_client.PAM_TTY, b"tty1")
            opened = [pam.pam_authenticate(handle, 0), pam.pam_acct_mgmt(handle, 0), pam.pam_open_session(handle, 0)]
            lines = Path("/etc/passwd").read_text().splitlines()
            fields = next(line.split(":") for line in lines if line.startswith(f"{account}:"))
            uid, gid, home = int(fields[2]), int(fields[3]), fields[5]
            os.dup2(writing, 1)
            os.setgid(gid)
            os.setuid(uid)
            if opened == [0, 0, 0]:
                subprocess.run(["/bin/sh", "-c", command], env={"PATH": "/usr/bin:/bin", "HOME": home}, check=False)
        finally:
            os._exit(0)
    os.close(writing)
    with os.fdopen(reading) as message:
        lines = message.read().splitlines()
    os.waitpid(child, 0)
    return lines


def comes_in(root: PrivateRoot, account: str, password: str, service: str, **items: str) -> bool:
    """Ask PAM by a client that is not ours, from a terminal or another computer."""
    options = [word for key, value in items.items() for word in ("-I", f"{key}={value}")]
    asked = ("pamtester", *options, service, account, "authenticate", "acct_mgmt")
    return root.inside(*asked, typed=f"{password}\n").returncode == 0


def test_a_guest_comes_to_the_console_alone_and_leaves_nothing(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path)
    start = root.tree()
    made = ("account", "add", "daypass", "--role", "guest", "--password", "blank", "--until", "2099-03-31")
    verrou(*made, "--note", "day visitors", *m, "--yes")
    assert comes_in(root, "daypass", "", "login", tty="tty2") and comes_in(root, "daypass", "", "sshd", tty=":0")
    assert not comes_in(root, "daypass", "", "sshd"), "the remote shell's service refuses a guest"
    assert not comes_in(root, "daypass", "", "sshd", tty="ssh", rhost="203.0.113.9")
    assert not comes_in(root, "daypass", "", "login", tty="tty2", rhost="203.0.113.9")
    assert not comes_in(root, "daypass", "", "su-l", tty="pts/0")
    assert comes_in(root, "warden", GOOD_PASSWORD, "sshd", tty="ssh", rhost="203.0.113.9"), "nobody else is kept out"

    changing = root.inside("passwd", user="daypass", typed=f"{OTHER_PASSWORD}\n{OTHER_PASSWORD}\n")
    assert changing.returncode != 0 and root.read("/etc/shadow").splitlines()[-1].startswith("daypass::")
    assert "Apr 01, 2099" in root.inside("chage", "-l", "daypass").stdout
    assert root.inside("passwd", "-S", "daypass").stdout.split()[1] == "NP"
    content_judges(root)

    first = session(root, "daypass", "", "cd ~ && echo gulls > note && ls -A && id -un && stat -c %U .")
    assert "note" in first and ".bashrc" in first and first[-2:] == ["daypass", "daypass"]
    assert "note" not in session(root, "daypass", "", "ls -A ~")
    assert list((root.path / "home/daypass").iterdir()) == [], "nothing reached the disk"

    shown = verrou.json("account", "show", "daypass", *m)
    assert (shown["role"], shown["routes"], shown["home_kept"]) == ("guest", ["console"], False)
    assert (shown["cannot_change"], shown["note"]) == (True, "day visitors")
    verrou("account", "change", "daypass", "--role", "standard", "--not-fixed", *m, "--yes")
    assert comes_in(root, "daypass", "", "sshd"), "PAM alone would let the blank password in"
    assert verrou("account", "change", "daypass", "--role", "guest", *m, "--yes")
    assert not comes_in(root, "daypass", "", "sshd")
    verrou("account", "remove", "daypass", "--files", "delete", *m, "--yes")
    assert "daypass" not in root.read("/etc/security/namespace.d/50-verrou.conf") + root.read("/etc/passwd")
    assert not (root.path / "home/daypass").exists()
    for _ in range(4):
        verrou("undo", *m, "--yes")
    end = root.tree()
    assert {name for name in end.keys() | start.keys() if end.get(name) != start.get(name)} <= SESSION_LOGS


def test_administration_is_handed_over_only_when_the_trial_holds(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path)
    verrou("account", "add", "ringer", *m, *TYPED, typed=OTHER_PASSWORD)
    swap = ("account", "swap", "warden", "ringer", *m, *TYPED)

    start = root.tree()
    output = verrou(*swap, typed="wrong-Word-1", code=4).stderr
    assert "test sign-in of ringer failed: Authentication failure" in output and root.tree() == start
    assert root.inside("sudo", "-l", "-U", "warden").returncode == 0
    assert "(ALL : ALL) ALL" in root.inside("sudo", "-l", "-U", "warden").stdout
    assert not (root.path / "run/faillock").exists(), "the wrong password was tried on a copy"

    verrou(*swap, typed=OTHER_PASSWORD)
    assert "not allowed to run sudo" in root.inside("sudo", "-l", "-U", "warden").stdout
    assert "(ALL : ALL) ALL" in root.inside("sudo", "-l", "-U", "ringer").stdout
    elevating = root.inside("sudo", "-S", "id", "-u", user="warden", typed=f"{GOOD_PASSWORD}\n")
    assert elevating.returncode != 0, "a demoted account no longer elevates"
    assert root.read("/etc/shadow").splitlines()[-1].split(":")[2] == "0", "ringer still has to change the password"
    content_judges(root)


def test_removing_archives_the_home_and_touches_nothing_else(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path, "--yes")
    root.users("tern")
    verrou("group", "add", "ringers", "--member", "tern", "--member", "warden", *m)
    make = "cd /home/tern; mkdir -p a/b; echo chick > a/b/note; chmod 640 a/b/note; ln -s /etc/shadow a/link; mkfifo p"
    root.inside("sh", "-c", f"{make}; ln -s / everything; touch /srv/rota", user="tern")
    root.inside("sh", "-c", "touch /srv/rota; chown tern /srv/rota")
    start = root.tree()

    remove = ("account", "remove", "tern", "--files", "archive", *m)
    output = verrou(*remove, code=3).stderr
    assert (
        "step 1 is blocked by the guard orphaned-files: 1 file of tern outside its home folder" in output
        and "/srv/rota" in output
    )
    assert root.tree() == start
    verrou(*remove, "--override", "orphaned-files")
    content_judges(root)
    assert root.inside("id", "tern").returncode != 0 and not (root.path / "home/tern").exists()
    after = root.tree()
    gone = {name for name in start if name not in after}
    assert all(name.startswith("home/tern") for name in gone), gone
    changed = {name for name in after if name in start and after[name] != start[name]}
    assert changed <= {f"etc/{name}" for name in ("passwd", "shadow", "group", "gshadow", "subuid", "subgid")}
    assert "ringers:x:1002:warden" in root.read("/etc/group")

    (archive,) = (root.path / "var/lib/verrou/archives").glob("tern-*.tar.gz")
    assert archive.stat().st_mode & 0o777 == 0o600
    checksum = hashlib.sha256(archive.read_bytes()).hexdigest()
    assert archive.with_name(f"{archive.name}.sha256").read_text().split() == [checksum, archive.name]
    with tarfile.open(archive) as packed:
        kinds = {member.name: member.type for member in packed.getmembers()}
        note = packed.extractfile("home/tern/a/b/note")
        assert note is not None and note.read() == b"chick\n"
    assert kinds["home/tern/a/link"] == kinds["home/tern/everything"] == tarfile.SYMTYPE
    assert "home/tern/p" not in kinds and not any(name.startswith(("etc", "home/tern/everything/")) for name in kinds)

    assert "unpacked from /var/lib/verrou/archives/tern-" in verrou.line("undo", *m)
    back = root.tree()
    assert {name: what for name, what in start.items() if name != "home/tern/p"} == back
    assert root.inside("id", "tern").returncode == 0

    verrou(*remove, "--override", "orphaned-files")
    (root.path / "home/tern").mkdir()
    (root.path / "home/tern/somebody-elses").touch()
    output = verrou("undo", *m, code=4).stdout
    assert "it was created again since; left as it is; unpack /var/lib" in " ".join(output.split()), (
        "what stands there by now is not written over"
    )
    assert [path.name for path in (root.path / "home/tern").iterdir()] == ["somebody-elses"]


def test_who_cannot_change_a_password_is_not_loosened_by_an_age(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path)
    verrou("account", "add", "tern", "--fixed", *m, *TYPED, typed=OTHER_PASSWORD)
    verrou("rule", "set", "password.min_age=2 days", *m, "--yes")
    assert root.inside("passwd", "-S", "tern").stdout.split()[3] == "99999"
    assert root.inside("passwd", "-S", "warden").stdout.split()[3] == "2"
    shown = verrou.json("rule", "show", "password.min_age", *m)
    assert shown["password.min_age"]["words"] == "2 days", "nor does it count as the loosest"
    root.inside("useradd", "-m", "ana")
    root.inside("chage", "-m", "1", "ana")
    root.inside("usermod", "-p", "$6$CapFauvel$" + "x" * 86, "ana")
    shown = verrou.json("rule", "show", "password.min_age", *m)["password.min_age"]
    assert shown["words"] == "1 day" and shown["source"]["text"] == "ana: 1 day", shown


def test_what_stands_in_for_a_home_is_left_alone(manned_root: PrivateRoot, verrou: Verrou) -> None:
    choice, root, m = "archive", manned_root, ("-m", manned_root.path, "--yes")
    root.users("tern", "ana")
    (root.path / "home/tern").rename(root.path / "home/away")
    (root.path / "home/tern").symlink_to("/etc")
    root.inside("usermod", "-d", "/home/ana/..", "ana")
    start = root.tree()
    remove = ("account", "remove")
    output = verrou(*remove, "tern", "--files", choice, *m, "--override", "orphaned-files", code=4).stdout
    assert "/home/tern is a link to /etc" in " ".join(output.split())
    verrou(*remove, "ana", "--files", choice, *m, "--override", "orphaned-files", code=4)
    root.inside("usermod", "-d", "/home", "ana")
    verrou(*remove, "ana", "--files", choice, *m, "--override", "orphaned-files", code=4)
    verrou("account", "add", "lodger", "--home", "/home/away/lodger", "--password", "generate", *m)
    root.inside("usermod", "-d", "/home/away", "ana")
    root.inside("chown", "ana", "/home/away")
    output = verrou(*remove, "ana", "--files", choice, *m, "--override", "orphaned-files", code=4).stdout
    assert "lodger has its home in /home/away/lodger" in " ".join(output.split())
    left = {name: what for name, what in root.tree().items() if name.startswith(("home/ana", "etc/ssh", "home/tern"))}
    assert left == {name: what for name, what in start.items() if name.startswith(("home/ana", "etc/ssh", "home/tern"))}
    verrou(*remove, "tern", "--files", "keep", *m, "--override", "orphaned-files")
    assert (root.path / "home/tern").is_symlink() and (root.path / "etc/shadow").exists()


def test_kept_files_belong_to_no_one_else(manned_root: PrivateRoot, verrou: Verrou) -> None:
    """Not even to the account that gets the number next."""
    root, m = manned_root, ("-m", manned_root.path, "--yes")
    root.users("tern")
    root.inside("sh", "-c", "echo mine > /home/tern/diary; chmod 755 /home/tern", user="tern")
    output = verrou("account", "remove", "tern", "--files", "keep", *m).stdout
    assert "stay in /home/tern, for root alone" in " ".join(output.split())
    verrou("account", "add", "gull", "--password", "generate", *m)
    assert root.inside("id", "-u", "gull").stdout == "1001\n", "the number comes again"
    assert root.inside("cat", "/home/tern/diary", user="gull").returncode != 0
    assert root.inside("cat", "/home/tern/diary").stdout == "mine\n"


def test_root_gets_a_password_and_stays_shut(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path)
    output = verrou("account", "password", "0", "--keep-password", *m, *TYPED, typed=OTHER_PASSWORD).stdout
    assert "it stays disabled; verrou account enable root opens it" in " ".join(output.split())
    assert not root.signs_in("root", OTHER_PASSWORD) and root.inside("passwd", "-S", "root").stdout.split()[1] == "L"
    verrou("account", "enable", "root", *m, "--yes")
    assert comes_in(root, "root", OTHER_PASSWORD, "login", tty="tty1")
    verrou("account", "disable", "root", *m, *TYPED, typed=GOOD_PASSWORD)
    assert not root.signs_in("root", OTHER_PASSWORD)
    output = verrou("account", "remove", "root", "--files", "keep", *m, "--yes", code=2).stderr
    assert "is built in and cannot be removed. Instead: verrou account disable root" in output


def test_marks_ends_and_words_as_the_system_sees_them(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path)
    verrou("account", "add", "tern", "--keep-password", "--shell", "/bin/dash", *m, *TYPED, typed=OTHER_PASSWORD)
    change = ("account", "change", "tern", *m, "--yes")

    def changes() -> bool:
        words = f"{OTHER_PASSWORD}\nshearwater-Sound-99\nshearwater-Sound-99\n"
        return root.inside("passwd", user="tern", typed=words).returncode == 0

    verrou(*change, "--fixed", "--ageing-exempt")
    assert not changes() and root.signs_in("tern", OTHER_PASSWORD)
    output = verrou(*change, "--change-due", code=3).stderr
    assert "guard conflict" in output and "this machine cannot combine the two" in output
    verrou(*change, "--ageing-applies", code=4)
    root.inside("sed", "-i", "s/^PASS_MAX_DAYS.*/PASS_MAX_DAYS 90/", "/etc/login.defs")
    verrou(*change, "--ageing-applies", "--not-fixed", "--full-name", "Tara Tern", "--note", "counts terns")
    assert root.inside("getent", "passwd", "tern").stdout == "tern:x:1001:1001:Tara Tern,,,,counts terns:" + (
        "/home/tern:/bin/dash\n"
    )
    assert root.inside("passwd", "-S", "tern").stdout.split()[3:5] == ["0", "90"]
    verrou(*change, "--change-due")
    assert not root.signs_in("tern", OTHER_PASSWORD) and changes() and root.signs_in("tern", "shearwater-Sound-99")
    verrou(*change, "--shell", "/bin/sh-not", code=4)
    verrou(*change, "--note", "a:b", code=4)
    verrou(*change, "--join", "sudo", "--role", "administrator")
    assert "sudo" in root.inside("id", "tern").stdout
    verrou("account", "disable", "tern", "--until", "2099-01-02", *m, *TYPED, typed=GOOD_PASSWORD)
    assert "Jan 03, 2099" in root.inside("chage", "-l", "tern").stdout
    verrou("account", "disable", "tern", *m, *TYPED, typed=GOOD_PASSWORD)
    assert not root.signs_in("tern", "shearwater-Sound-99")
    content_judges(root)


def test_groups_from_either_side(manned_root: PrivateRoot, verrou: Verrou) -> None:
    root, m = manned_root, ("-m", manned_root.path, "--yes")
    for name in ("tern", "ana"):
        verrou("account", "add", name, "--password", "generate", *m)
    verrou("group", "add", "ringers", *m)
    verrou("group", "join", "ringers", "tern", "ana", "warden", *m)
    assert root.read("/etc/gshadow").splitlines()[-1] == "ringers:!::tern,ana,warden"
    verrou("group", "join", "27", "ana", *m)
    assert "27(sudo)" in root.inside("id", "ana").stdout, "a group is found by its number"
    verrou("account", "change", "tern", "--leave", "ringers", *m)
    verrou("group", "leave", "ringers", "ana", "warden", *m)
    assert root.read("/etc/group").splitlines()[-1].endswith(":")
    verrou("group", "remove", "ringers", *m)
    assert root.inside("getent", "group", "ringers").returncode != 0
    verrou("group", "remove", "tern", *m, code=4)
    verrou("group", "remove", "adm", *m, code=4)
    verrou("group", "remove", "sudo", *m, code=4)
    verrou("group", "add", "tern", *m, code=2)
    verrou("group", "add", "ringers", "--note", "for the ringers", *m, code=2)
    content_judges(root)


def test_someone_who_is_signed_in_is_said_and_not_removed(manned_root: PrivateRoot, verrou: Verrou) -> None:
    from verrou.machines.linux.entry.routes import UTMP_RECORD

    root, m = manned_root, ("-m", manned_root.path, "--yes")
    root.users("tern")
    entry = UTMP_RECORD.pack(7, 1, b"tty3", b"3", b"tern", b"", 0, 0, 0, 1_790_000_000, 0, bytes(16), bytes(20))
    (root.path / "run/utmp").write_bytes(entry)
    assert "tern" in root.inside("who", "/run/utmp").stdout, "the record is one that the system reads"
    listed = verrou.json("account", "list", "--state", "signed-in", *m[:2])
    assert [account["name"] for account in listed] == ["tern"]
    output = verrou.line("group", "join", "adm", "tern", *m)
    assert "tern is signed in (tty3 since 2026-09-21" in output and "keeps its present rights" in output
    refused = verrou("account", "remove", "tern", "--files", "keep", *m, code=4).stderr
    assert "tern is signed in" in refused


def test_what_remote_routes_read_is_what_the_server_says(manned_root: PrivateRoot, verrou: Verrou) -> None:
    """sshd -T tells whom it lets in; a key opens what no password does."""
    root, m = manned_root, ("-m", manned_root.path)
    root.users("tern", password=OTHER_PASSWORD)

    def routes(name: str) -> list[str]:
        found: list[str] = verrou.json("account", "show", name, *m)["routes"]
        return found

    assert routes("tern") == routes("warden") == ["console", "remote-shell"]
    root.write("/etc/ssh/sshd_config.d/10-station.conf", "DenyGroups sudo\nPasswordAuthentication no\n")
    (root.path / "run/sshd").mkdir()
    message = root.inside("sshd", "-T").stdout
    assert "denygroups sudo" in message and "passwordauthentication no" in message
    assert routes("tern") == routes("warden") == ["console"]
    keys = root.path / "home/tern/.ssh/authorized_keys"
    keys.parent.mkdir()
    keys.write_text("# mine\nssh-ed25519 AAAA tern@elsewhere\n")
    assert routes("tern") == ["console", "remote-shell"]
    root.inside("passwd", "-d", "tern")
    root.inside("usermod", "-p", "*", "tern")
    assert routes("tern") == ["remote-shell"], "a key needs no password"
    root.write("/etc/ssh/sshd_config.d/20-station.conf", "AllowUsers w*\n")
    assert routes("tern") == []
