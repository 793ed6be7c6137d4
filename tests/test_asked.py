"""What the system itself is asked: PAM, sshd, sudo and doas answer in a private copy, shut in, and are heeded."""

import faulthandler
import json
import os
import re
import shutil
import socket
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, Verrou
from debian_root import PrivateRoot
from sudoers_files import SAMPLES, manned, put
from test_shut_in import hostile, listener, victim
from verrou.core.model import AccountName, Grant, Snapshot
from verrou.core.model.access import Credential, administers, admitted, doubts
from verrou.core.model.known import Known
from verrou.core.model.routes import Route
from verrou.core.testing.attempts import Answer
from verrou.machines.linux.copy.inside import Inside
from verrou.machines.linux.copy.private_copy import PrivateCopy, private_copy
from verrou.machines.linux.copy.requests import A, AskPam, Request, SignIn, TryElevating
from verrou.machines.linux.elevation.asked import _of_sudo
from verrou.machines.linux.machine import LinuxMachine
from verrou.machines.linux.pam import client, questions
from verrou.machines.linux.pam.asking import word_and_hash
from verrou.machines.linux.pam.questions import Question, Reply, comment_out
from verrou.machines.linux.root import Root
from verrou.machines.protocol import Asking, DryRunUnavailable
from verrou.machines.registry import open_machine

pytestmark = pytest.mark.real_root
__all__ = ["listener", "victim"]


@pytest.fixture
def two(manned_root: PrivateRoot) -> Iterator[PrivateRoot]:
    """A root with the administrator ``warden`` and the standard user ``tern``, each with a password."""
    manned_root.inside("useradd", "-m", "-s", "/bin/bash", "tern")
    manned_root.inside("chpasswd", typed=f"tern:{GOOD_PASSWORD}\nwarden:{GOOD_PASSWORD}\n")
    yield manned_root


LISTED = "account required pam_listfile.so onerr=fail item=user sense=deny file=/etc/away apply=tern"


def at_the_console(snapshot: Snapshot, name: str) -> set[Credential | None]:
    account = snapshot.by_name[AccountName(name)]
    return {
        admitted(account, entry_point, snapshot)
        for entry_point in snapshot.entry_points
        if entry_point.route is Route.CONSOLE
    }


def before_all(root: PrivateRoot, service: str, *lines: str) -> None:
    root.write(f"/etc/pam.d/{service}", "\n".join((*lines, root.read(f"/etc/pam.d/{service}"))))


def test_what_the_files_do_not_show_is_asked_and_the_line_named(two: PrivateRoot, verrou: Verrou) -> None:
    """A module's argument that nobody here knows; reading alone says so, and how to know it."""
    two.write("/etc/away", "tern\n")
    before_all(two, "login", LISTED)
    m = ("-m", two.path, "--format", "json")
    read = verrou.json("why", "tern", "console", *m)
    assert read["answer"] == "unknown" and "pam_listfile.so" in str(read)
    asked = verrou.json("why", "tern", "console", *m, "--ask-system")
    assert asked["answer"] == "no" and "PAM, asked itself, denies sign-in by pam_listfile.so" in str(asked["chain"])
    assert asked["chain"][0]["source"]["line"] == 1
    routes = {row["account"]: row["routes"]["console"] for row in verrou.json("access", *m, "--ask-system")}
    assert (routes["warden"], routes["tern"]) == ("password", None)
    assert not two.signs_in("tern", GOOD_PASSWORD, "login") and two.signs_in("warden", GOOD_PASSWORD, "login")
    output = verrou("why", "tern", "console", "-m", two.path, "--ask-system", "--files-only", code=2).stderr
    assert "--files-only and --ask-system cannot be combined. Use one of them." in output


def test_where_the_system_answers_otherwise_than_its_files_both_are_reported(two: PrivateRoot, verrou: Verrou) -> None:
    """A module that is not what its name says."""
    modules = next((two.path / "usr/lib").glob("*/security"))
    shutil.copy(modules / "pam_deny.so", modules / "pam_localuser.so")
    before_all(two, "login", "account required pam_localuser.so")
    m, both = (
        ("-m", two.path, "--ask-system"),
        "denies sign-in by pam_localuser.so, although its files read as if it allowed it",
    )
    rows = {row["account"]: row for row in verrou.json("access", *m)}
    assert rows["tern"]["routes"]["console"] is None and both in rows["tern"]["differs"][0]
    assert rows["root"]["differs"] == [], "nobody gets in as root, asked or read"
    assert f"warden and tern: console: login: PAM, asked itself, {both}" in verrou("access", *m).stdout.replace(
        "\n", " "
    )


def test_what_keeps_sudo_from_answering_is_no_answer() -> None:
    assert _of_sudo(Answer(False, "sudo: a password is required")) is Known.UNKNOWN
    assert _of_sudo(Answer(False, "tern is not in the sudoers file.")) is Known.NO


def test_guards_rest_on_what_was_asked(two: PrivateRoot, verrou: Verrou) -> None:
    """tern administers by its files, and PAM turns it away: it is no one to leave the machine to."""
    two.inside("usermod", "-aG", "sudo", "tern")
    two.write("/etc/away", "tern\n")
    before_all(two, "login", LISTED)
    output = verrou("account", "disable", "warden", "-m", two.path, "--yes", code=3).stderr
    assert "last-administrator" in output
    two.write("/etc/away", "")
    output = verrou("account", "disable", "warden", "-m", two.path, "--preview", code=None).stdout
    assert "programs from this disk ran in isolation" in " ".join(output.split()) and "PAM" in output


def test_what_is_true_of_this_hour_stays_not_known(two: PrivateRoot) -> None:
    before_all(two, "login", "account required pam_time.so")
    two.write("/etc/security/time.conf", "login;*;!root;Al0000-2400\n")
    snapshot = open_machine(str(two.path)).observe(asked=True)
    assert at_the_console(snapshot, "warden") == {Credential.UNKNOWN}
    assert doubts(snapshot.by_name[AccountName("warden")], Route.CONSOLE, snapshot)


def test_what_is_not_in_the_copy_stays_not_known(two: PrivateRoot) -> None:
    """A reader of fingers has nothing to read in a copy: its no there is not one of the machine."""
    modules = next((two.path / "usr/lib").glob("*/security/pam_deny.so")).parent
    shutil.copy(modules / "pam_deny.so", modules / "pam_fprintd.so")
    before_all(two, "login", "auth sufficient pam_fprintd.so")
    two.inside("usermod", "-L", "tern")
    snapshot = open_machine(str(two.path)).observe(asked=True)
    assert at_the_console(snapshot, "warden") == {Credential.PASSWORD}
    assert at_the_console(snapshot, "tern") == {Credential.UNKNOWN}
    two.write("/etc/pam.d/login", two.read("/etc/pam.d/login").partition("\n")[2])
    before_all(two, "login", "auth required pam_exec.so /usr/bin/false")
    snapshot = open_machine(str(two.path)).observe(asked=True)
    assert at_the_console(snapshot, "warden") == {Credential.UNKNOWN}, "a system error may be one of the copy"


COUNTS = (
    "auth required pam_faillock.so preauth deny=1\nauth [success=1 default=ignore] pam_unix.so\n"
    "auth [default=die] pam_faillock.so authfail deny=1\nauth required pam_permit.so"
)


def test_a_second_thing_that_is_wanted_is_not_known_to_be_missing(two: PrivateRoot) -> None:
    """A no behind two prompts says nothing of who has what the second one is for."""
    two.write("/etc/pam.d/login", two.read("/etc/pam.d/login") + "auth required pam_ftp.so\n")
    snapshot = open_machine(str(two.path)).observe(asked=True)
    assert at_the_console(snapshot, "warden") == {Credential.UNKNOWN}


def test_a_service_that_hangs_or_breaks_is_not_answered_and_the_others_are(
    two: PrivateRoot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(questions, "PATIENCE_A_QUESTION", 0.7)
    for name, text in {
        "sleeps": "auth required pam_exec.so /usr/bin/sleep 600",
        "breaks": "auth include",  # libpam breaks down over that
        "asks": "auth required pam_exec.so expose_authtok /usr/bin/true\nauth required pam_unix.so",
        "stands": "auth required pam_unix.so",
        "counts": COUNTS,
    }.items():
        two.write(f"/etc/pam.d/{name}", f"{text}\naccount required pam_unix.so\n")
    word, hash_of_word = word_and_hash()
    put_to = [
        Question(service, "tern", "tty1", "", typed, "auth")
        for service in ("sleeps", "breaks", "stands", "asks", "counts")
        for typed in (word, "wrong", "wrong", word)
    ]
    faulthandler.disable()  # what breaks here is libpam, and an answer
    with private_copy(Root(two.path)) as copy:
        answers = copy.ask(AskPam(put_to, hash_of_word, "/run/faillock")).replies
        stored = [copy.root.text("/etc/shadow") == two.read("/etc/shadow"), copy.root.names_in("/run/faillock")]
    faulthandler.enable()
    output = [None if each is None else each[1] for each in answers]
    assert output == [None] * 8 + [0, 7, 7, 0] * 2 + [0, 6, 6, 0], (
        "no wrong word locks anybody out of the next question"
    )
    assert stored == [True, []], "nothing of it stays in the copy"


def test_a_line_that_is_left_out_keeps_its_place() -> None:
    text = "# c\nauth [success=1 \\\n default=die] pam_unix.so x\naccount required pam_deny.so\n"
    assert comment_out(text, 2, 3).split("\n")[1:] == [
        *("auth [default=ignore] pam_unix.so x", "", "account required pam_deny.so", "")
    ]
    assert "auth [default=ignore] pam_deny.so" in comment_out("auth required pam_deny.so", 1, 1)


@pytest.mark.parametrize("live", [False, True], ids=["disk", "this"])
def test_a_question_reaches_nothing_and_is_bounded(
    two: PrivateRoot, tmp_path: Path, victim: int, listener: socket.socket, live: bool
) -> None:
    """Programs in the stack of PAM that try everything, multiply, and want all memory; on a disk, and on this
    computer."""
    outside, log = tmp_path / "outside", two.path / "run/log"
    outside.mkdir()
    hostile(two, "/usr/bin/hostile", outside, victim, listener.getsockname()[1])
    output = two.read("/usr/bin/hostile").replace("/etc/hostile-log", "/tmp/hostile-log")
    two.write("/usr/bin/hostile", output.replace("exit 0", "test \"$(sort -u /tmp/hostile-log)\" = 'ran'"))
    programs = {
        "tries": "/usr/bin/hostile",
        "multiplies": "/bin/bash -c 'f() { f | f & f; }; f'",
        "swells": "/usr/bin/perl -e '$x = \"x\" x 4e9; exit(length($x) < 1)'",
    }
    for name, program in programs.items():
        (two.path / f"usr/bin/{name}").write_text(f"#!/bin/bash\nexec {program}\n")
        (two.path / f"usr/bin/{name}").chmod(0o755)
        two.write(f"/etc/pam.d/{name}", f"auth required pam_exec.so /usr/bin/{name}\naccount required pam_permit.so\n")
    word, hash_of_word = word_and_hash()
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as listening, private_copy(Root(two.path, live=live)) as copy:
        listening.bind(str(log))
        listening.setblocking(False)
        (two.path / "tmp/log").unlink(missing_ok=True)
        for name in programs:
            put_to = [Question(name, "tern", "tty1", "", word, "auth")]
            try:
                (reply,) = copy.ask(AskPam(put_to, hash_of_word, "/run/faillock")).replies
                ended = ""
            except Exception as error:
                reply, ended = None, str(error)
            assert reply is None or reply[:2] != (True, 0), (name, reply)
            assert name != "multiplies" or "was interrupted" in ended, "ended for their number, and not for being late"
            assert name != "swells" or (reply is not None and reply.auth == 4), (
                "it was given no more memory, and failed by itself"
            )
        assert copy.run(["/bin/true"]) == (0, ""), "the copy itself goes on"
        with pytest.raises(BlockingIOError):
            listening.recv(100)
    assert os.listdir(outside) == []
    with pytest.raises(BlockingIOError):
        listener.accept()


def test_what_turns_into_another_program_answers_nothing_more(monkeypatch: pytest.MonkeyPatch) -> None:
    def put(question: Question, _: object) -> Reply:
        me = os.getuid()
        if question.service == "turns":
            os.setresuid(65534, 65534, 65534)
        return Reply(True, me, None, 0)

    monkeypatch.setattr(questions, "put", put)
    replies, late = questions.put_all([Question(each, "", "", "", "") for each in ("turns", "asks")], lambda: None)
    assert [each.auth for each in replies if each] == [0, 0] and not late


@pytest.mark.parametrize("accepts", [False, True])
def test_wrong_passwords_in_a_row_are_as_many_whatever_a_module_does(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, accepts: bool
) -> None:
    tried = tmp_path / "tried"

    def sign_in(_: client.Session) -> tuple[bool, str]:
        with tried.open("a") as file:
            file.write("x")
        if not accepts:
            os.setresuid(65534, 65534, 65534)
        return accepts, ""

    monkeypatch.setattr(client.Session, "sign_in", sign_in)
    answer = Inside().answer(SignIn("tern", "wrong", times=3))
    assert (tried.read_text(), answer["accepted"]) == ("x" if accepts else "xxx", accepts)


def test_who_is_late_is_waited_for_once(two: PrivateRoot, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(questions, "PATIENCE_A_QUESTION", 0.7)
    asked: list[set[str]] = []
    ask = PrivateCopy.ask

    def noted(copy: PrivateCopy, request: Request[A]) -> A:
        asked.append({each.service for each in request.questions} if isinstance(request, AskPam) else set())
        return ask(copy, request)

    monkeypatch.setattr(PrivateCopy, "ask", noted)
    before_all(two, "login", "auth required pam_exec.so /usr/bin/sleep 600")
    machine = open_machine(str(two.path))
    for _ in range(2):
        machine.observe(asked=True)
    put_to = [each for each in asked if each]
    assert "login" in put_to[0] and "login" not in put_to[1] and "sshd" in put_to[1]


def test_what_runs_of_this_computer_is_taken_along_and_of_a_disk_it_is_not(two: PrivateRoot) -> None:
    two.write("/run/nologin", "")
    two.write("/run/systemd/system/x.service", "[Service]\n")
    snapshot = open_machine(str(two.path)).observe()
    assert at_the_console(snapshot, "tern") == {Credential.PASSWORD}, (
        "what a disk has in /run is gone at its next start"
    )
    for live in (False, True):
        with private_copy(Root(two.path, live=live)) as copy:
            assert copy.root.exists("/run/nologin") is live
            assert copy.root.exists("/run/systemd/system/x.service") is live


def test_a_system_whose_pam_cannot_run_is_read_and_that_is_reported(two: PrivateRoot, verrou: Verrou) -> None:
    library = next((two.path / "usr/lib").glob("*/libpam.so.0"))
    library.unlink()
    output = verrou("access", "-m", two.path, "--ask-system")
    assert "the system itself was not asked, and its files alone were read: this system has no PAM" in output.stderr
    assert "warden" in output.stdout and ".so" not in output.stderr


def test_sudo_and_doas_are_asked(two: PrivateRoot, verrou: Verrou) -> None:
    two.write("/etc/sudoers.d/night", "+night ALL=(ALL) ALL\n")
    m = ("-m", two.path, "--format", "json")
    roles = {row["account"]: row["role"] for row in verrou.json("access", *m)}
    assert (roles["root"], roles["warden"], roles["tern"]) == ("administrator", "administrator", "unknown")
    roles = {row["account"]: row["role"] for row in verrou.json("access", *m, "--ask-system")}
    assert roles["tern"] == "standard"
    two.inside("useradd", "-m", "-s", "/bin/bash", "ana")
    two.inside("chpasswd", typed=f"ana:{GOOD_PASSWORD}\n")
    two.write("/etc/sudoers.d/night", "tern ALL=(ALL) ALL\0\n")
    roles = {row["account"]: row["role"] for row in verrou.json("access", *m, "--ask-system")}
    assert (roles["tern"], roles["ana"]) == ("administrator", "standard"), "a line that we do not read may tell anybody"
    two.write("/etc/sudoers.d/night", "tern ALL=(ALL) ALL, \\\n")
    output = verrou("access", *m, "--ask-system")
    assert "so sudo rejects everyone" in output.stderr
    assert {row["account"] for row in json.loads(output.stdout) if row["role"] == "administrator"} == {"root"}


def test_a_sudo_that_breaks_takes_nothing_from_anybody(two: PrivateRoot) -> None:
    two.write("/etc/sudo.conf", "Plugin sudoers_policy nowhere.so\n")
    machine = open_machine(str(two.path))
    snapshot = machine.observe(asked=True)
    warden = snapshot.by_name[AccountName("warden")]
    assert administers(warden, snapshot) and not [each for each in snapshot.warnings if "asked itself" in each]


@pytest.mark.parametrize("first", ["tern", "gull"])
def test_of_two_with_one_id_sudo_counts_the_main_group_of_the_first(two: PrivateRoot, first: str) -> None:
    groups = {first: "sudo", "tern" if first == "gull" else "gull": "users"}
    two.inside("userdel", "tern")
    for name, group in groups.items():
        two.inside("useradd", "-o", "-u", "1700", "-g", group, "-s", "/bin/bash", name)
    two.inside("useradd", "-u", "1600", "-s", "/bin/bash", "auk")
    two.inside("chpasswd", typed="".join(f"{name}:{GOOD_PASSWORD}\n" for name in (*groups, "auk")))
    for asked in (False, True):
        snapshot = open_machine(str(two.path)).observe(asked=asked)
        assert {each.name for each in snapshot.accounts if administers(each, snapshot)} == {"root", "warden", *groups}
        assert not any("asked itself" in each for each in snapshot.warnings)
    two.write("/etc/passwd", "".join(sorted(two.read("/etc/passwd").splitlines(keepends=True), key=second_of(first))))
    for asked in (False, True):
        snapshot = open_machine(str(two.path)).observe(asked=asked)
        assert {each.name for each in snapshot.accounts if administers(each, snapshot)} == {"root", "warden", first}


def test_an_account_that_has_gone_meanwhile_ends_a_question_and_no_copy(two: PrivateRoot) -> None:
    word, hash_of_word = word_and_hash()
    with private_copy(Root(two.path)) as copy:
        with pytest.raises(DryRunUnavailable, match="there is no account gull"):
            copy.ask(TryElevating(["tern", "gull"], "", word, hash_of_word, "/run/faillock"))
        (answer,) = copy.ask(TryElevating(["tern"], "", word, hash_of_word, "/run/faillock"))
    assert _of_sudo(answer.sudo) is Known.NO


def second_of(name: str) -> Callable[[str], bool]:
    """Key that sorts the line of an account behind all others."""
    return lambda line: line.startswith(f"{name}:")


def test_a_main_group_without_a_name_counts_by_its_number(two: PrivateRoot) -> None:
    """For sudo itself and for its files: nobody else gets what its number is given."""
    two.inside("useradd", "-m", "-s", "/bin/bash", "ana")
    two.inside("chpasswd", typed=f"ana:{GOOD_PASSWORD}\ntern:{GOOD_PASSWORD}\n")
    lines = two.read("/etc/passwd").splitlines()
    moved = [re.sub(r"^(tern:x:\d+):\d+:", r"\1:4242:", line) for line in lines]
    two.write("/etc/passwd", "\n".join(moved) + "\n")
    two.write("/etc/sudoers.d/night", "%#4242 ALL=(ALL) ALL\n")
    machine = open_machine(str(two.path))
    assert isinstance(machine, LinuxMachine)
    for asking in (Asking.FILES_ONLY, Asking.SYSTEM):
        machine.asking = asking
        snapshot = machine.observe()
        assert not [each for each in snapshot.warnings if "asked itself" in each]
        given = {str(a.name): Grant.ADMINISTRATION in a.grants for a in snapshot.accounts if a.may_sign_in}
        assert (given["tern"], given["ana"]) == (True, False)


@pytest.mark.parametrize("text", SAMPLES[::8])
def test_sudo_answers_as_its_files_read(root: PrivateRoot, text: str) -> None:
    manned(root)
    put(root, f"{text}\n")
    root.inside("chpasswd", typed=f"warden:{GOOD_PASSWORD}\ntern:{GOOD_PASSWORD}\nana b:{GOOD_PASSWORD}\n")
    machine = open_machine(str(root.path))
    assert isinstance(machine, LinuxMachine)
    snapshot = machine.observe(asked=True)
    assert not [each for each in snapshot.warnings if "asked itself" in each], text
    machine.asking = Asking.FILES_ONLY
    read = machine.observe(asked=True)
    given = [[Grant.ADMINISTRATION in a.grants for a in each.accounts] for each in (snapshot, read)]
    assert given[0] == given[1]
