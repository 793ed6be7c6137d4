"""The near end of a cable, with an other end that lies; addresses, frames and tables, without a cable."""

import io
import json
import os
import select
import socket
import struct
import subprocess
import sys
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

import verrou.far.desk
from conftest import Verrou, examples
from verrou.cli.user import LocalUser
from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights, VerrouError
from verrou.core.history.entries import JournalEntry
from verrou.far import near, relay, starter
from verrou.far.address import address_from
from verrou.far.connection import FROM_SOCKET, Connection, Secret
from verrou.far.desk import CALLS, Desk, Lying, shown
from verrou.far.frames import Channel, Cut, NotUnderstood
from verrou.far.order import Order, Task, command_order, order_from
from verrou.far.outcome import words_of_outcome
from verrou.far.ssh import Said
from verrou.far.surveys import survey_from
from verrou.far.there import Cable, FarStream
from verrou.records.rounds import read_assignment
from verrou.records.standing import words_of
from verrou.reports.terminal import Terminal

SECRET = "kittiwake-Cliff-42"


def served(desk: Desk, *frames: object) -> list[dict[str, Any]]:
    sent: list[dict[str, Any]] = []
    for frame in frames:
        assert isinstance(frame, dict)
        desk.serve(frame, sent.append)
    return sent


def desk_for(*words: str, asks: bool = True) -> Desk:
    return Desk("hide-04", words, io.StringIO(), io.StringIO(), asks=asks)


def call(name: str, /, **parts: object) -> dict[str, object]:
    return {"call": name, "parts": parts}


LIES = [
    (("survey",), {"out": 1}),
    (("survey",), {"out": "x", "err": "y"}),
    (("survey",), {"exit": 256}),
    (("survey",), {"exit": "0"}),
    (("survey",), {}),
    (("survey",), {"door": "AAAA"}),
    (("survey",), call("arrive")),
    (("survey",), call("no_such")),
    (("survey",), call("__init__")),
    (("survey",), call("confirm", question=1)),
    (("survey",), call("confirm", question="x", more="y")),
    (("survey",), call("write_new", file="x.html", content="y")),
    (("report", "--save", "sheet.html"), call("write_new", file="other.html", content="y")),
    (("report", "--save", "sheet.html"), call("write_new", file="../sheet.html", content="y")),
    (("report", "--save", "sheet.html"), call("write_new", file="/etc/sheet.html", content="y")),
    (("visit",), call("write_new", file="../sheet.html", content="y")),
    (("visit",), call("write_new", file=".bashrc", content="y")),
    (("visit",), call("new_name", stem="../x", suffix=".txt")),
    (("harden", "--password-file", "p.txt"), call("hand_over", passwords={"a": "b"}, file="p.txt")),
    (("harden", "--password-file", "p.txt"), call("discard", file="own.txt")),
    (("harden",), call("hand_over", passwords={"a": "b\x1b[2J"}, file=None)),
    (("harden",), call("hand_over", passwords={"a": 1}, file=None)),
    (("audit", "-b", "hut.toml"), call("baseline", name="/etc/shadow", named_in="")),
    (("audit", "-b", "hut.toml"), call("baseline", name="own.txt", named_in="")),
    (("audit", "-b", "hut.toml"), call("baseline", name="more.toml", named_in="elsewhere/hut.toml")),
    (("compare", "a", "now"), call("survey", address="own.survey.json")),
    (("audit", "-b", "hut.toml"), call("write_new", file="audit", content="y")),
    (("audit", "-b", "new.toml"), call("write_new", file="new.toml", content="y")),
    (("report", "--save", "own.txt"), call("baseline", name="own.txt", named_in="")),
    (("report", "--save", "own.txt"), call("survey", address="own.txt")),
    (("survey",), call("baselines_here")),
    (("survey",), call("record", record={}, logbook=None, beside=None)),
    (("survey", "--log"), call("record", record={}, logbook="/tmp/x.db", beside=None)),
    (("survey", "--log"), call("check_logbook", logbook="postgresql://elsewhere/x")),
    (("round",), call("choose", prompt="x", words=[])),
    (("round",), call("choose", prompt="x", words=["a\x1b[2J"])),
]


@pytest.mark.parametrize(("words", "frame"), LIES, ids=[f"{number}" for number in range(len(LIES))])
def test_what_the_command_does_not_name_is_not_done(
    words: tuple[str, ...], frame: dict[str, object], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.delenv("VERROU_LOGBOOK", raising=False)
    Path("own.txt").write_text(SECRET)
    Path("hut.toml").write_text('[baseline]\ntitle = "The hut"\nbuilds_on = ["more.toml"]\n')
    before = sorted(os.listdir())
    with pytest.raises(Lying):
        served(desk_for(*words), frame)
    assert sorted(os.listdir()) == before and Path("own.txt").read_text() == SECRET


def test_what_the_command_names_is_done(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    Path("hut.toml").write_text('[baseline]\ntitle = "The hut"\nbuilds_on = ["more.toml"]\n')
    Path("more.toml").write_text('[baseline]\ntitle = "More"\n')
    desk = desk_for("harden", "-b", "hut.toml", "--password-file=p.txt")
    handed = call("hand_over", passwords={"gull": SECRET}, file="p.txt")
    sent = served(
        desk,
        call("baseline", name="hut.toml", named_in=""),
        call("baseline", name="more.toml", named_in="hut.toml"),
        call("reserve", file="p.txt"),
        handed,
        call("reserve", file="p.txt"),
    )
    assert [frame.get("error") for frame in sent] == [None, None, None, None, "BadInput"]
    assert sent[1]["answer"] == ['[baseline]\ntitle = "More"\n', "more.toml"]
    assert Path("p.txt").read_text() == f"gull: {SECRET}\n" and Path("p.txt").stat().st_mode & 0o777 == 0o600
    Path("a.survey.json").write_text("{}")
    (answered,) = served(desk_for("-v", "compare", "a.survey.json", "now"), call("survey", address="a.survey.json"))
    assert answered["error"] == "BadInput" and "not a survey" in answered["message"]
    (saved,) = served(desk_for("survey", "--save", "near"), call("write_new", file="near.survey.json", content="{}"))
    assert saved == {"answer": None} and Path("near.survey.json").read_text() == "{}"


def test_questions_bear_the_name_of_the_other_computer(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    monkeypatch.setattr(LocalUser, "hidden", lambda self, prompt, twice=False: asked.append(prompt) or SECRET)
    sent = served(desk_for("harden"), call("hidden", prompt="Password of your bank\x1b[2J\r", twice=True))
    assert asked == ["hide-04 asks: Password of your bank\\x1b[2J\\r"] and sent == [{"answer": SECRET}]
    monkeypatch.setattr(LocalUser, "typed", lambda self, prompt: asked.append(prompt) or "on")
    served(desk_for("visit"), call("typed", prompt="> "), call("typed", prompt="Password: "))
    assert asked[1:] == ["> ", "hide-04 asks: Password: "]
    with pytest.raises(Lying, match="where no one is asked"):
        served(desk_for("harden", asks=False), call("hidden", prompt="Password", twice=False))
    monkeypatch.setattr(verrou.far.desk, "MOST_UNSEEN", 10)
    served(desk_for("harden"), {"out": "x" * 11})
    with pytest.raises(Lying, match="more than any survey"):
        served(desk_for("harden", asks=False), {"out": "x" * 6}, {"err": "x" * 5})
    desk = desk_for("harden")
    with pytest.raises(Lying, match="more questions"):
        served(desk, *[call("hidden", prompt="x", twice=False)] * 2001)


@given(st.text(st.characters(codec="utf-8") | st.sampled_from("\x1b\r\n[m0123;JH\x07\u202e\x9b")))
@examples(200)
def test_no_sign_of_the_other_end_moves_a_cursor(text: str) -> None:
    for styles in (True, False):
        left = shown(text, styles=styles)
        for style in ("0", "1", "2", "1;31", "33", "32"):
            left = left.replace(f"\x1b[{style}m", "")
        for part in left.split("\r") if styles else [left]:
            assert part.replace("\n", "").isprintable(), (text, left)
        assert styles or "\r" not in left
    assert shown("\x1b[1mx\x1b[0m a\r  \rb", styles=False) == "x ab"
    assert shown("a\r     \rb", styles=True) == "a\r     \rb" and shown("a\rb", styles=True) == "a\\rb"


FRAMES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=20) | st.sampled_from(["out", "exit", *CALLS]),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.sampled_from(["out", "err", "call", "parts", "exit", "door", "x"]), inner, max_size=4)
    ),
    max_leaves=8,
)


@given(st.dictionaries(st.sampled_from(["out", "err", "call", "parts", "exit", "door", "answer"]), FRAMES, max_size=3))
@examples(300)
def test_any_frame_is_served_or_a_lie(frame: dict[str, object]) -> None:
    desk = desk_for("survey", asks=False)
    try:
        code = desk.serve(frame, lambda _: None)
    except Lying:
        return
    assert code is None or 0 <= code <= 255
    assert set(frame) in ({"out"}, {"err"}, {"exit"}, {"call", "parts"})


@given(st.lists(st.binary(max_size=40) | st.sampled_from([b"{", b"[1]", b'{"a": 1}', b"\n", b"[" * 2000]), max_size=8))
@examples(200)
def test_any_bytes_are_frames_or_not_understood(parts: list[bytes]) -> None:
    reading, writing = os.pipe()
    try:
        os.write(writing, b"".join(parts))
        os.close(writing)
        channel = Channel(reading, reading, 500)
        while True:
            try:
                assert isinstance(channel.receive(0), dict)
            except NotUnderstood as why:
                if "more than" in str(why):  # the connection ends there
                    break
            except Cut:
                break
    finally:
        os.close(reading)


def test_a_line_without_end_is_bounded() -> None:
    reading, writing = os.pipe()
    os.write(writing, b"x" * 1001)
    with pytest.raises(NotUnderstood, match="more than 1000 bytes"):
        Channel(reading, writing, 1000).receive(0)
    with pytest.raises(Cut, match="no answer"):
        Channel(reading, writing, 5000).receive(0)
    for each in (reading, writing):
        os.close(each)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("ssh://hide-04", ["--", "hide-04"]),
        ("ssh://warden@hide-04:2222", ["-l", "warden", "-p", "2222", "--", "hide-04"]),
        ("ssh://warden@[fe80::1%eth0]:22", ["-l", "warden", "-p", "22", "--", "fe80::1%eth0"]),
        ("ssh://192.0.2.7", ["--", "192.0.2.7"]),
    ],
)
def test_an_address_is_taken_apart(text: str, words: list[str]) -> None:
    assert address_from(text).ssh_words == words and str(address_from(text)) == text


@given(st.text(st.sampled_from("ab-@:[]/ %;'\"\\$\n\tü0.")))
@examples(300)
def test_no_address_is_an_option(text: str) -> None:
    try:
        words = address_from(f"ssh://{text}").ssh_words
    except BadInput:
        return
    end = words.index("--")
    assert len(words) == end + 2 and not any(word.startswith("-") for word in words[end + 1 :])
    assert all(not word.startswith("-") for word in words[1:end:2]) and not set(" /'\"\\\n\t;") & set("".join(words))


def test_an_order_comes_back() -> None:
    order = Order(Task.COMMAND, "ssh://x", ("survey",), columns=77, environment=(("TERM", "dumb"),))
    assert order_from(json.loads(json.dumps(order.data()))) == order


def test_output_is_as_wide_as_the_terminal_at_this_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", "77")
    order = command_order("ssh://x", ["survey"])
    assert order.columns == 77 and ("COLUMNS", "77") in order.environment
    monkeypatch.delenv("COLUMNS")
    stream = FarStream(Cable(Channel(0, 0, 0)), "out", True, 77)
    monkeypatch.setattr(sys, "__stdout__", None)
    assert Terminal(stream).width == 77


def test_the_outcome_of_a_run_in_words() -> None:
    entry = JournalEntry(number=3, command="undo", by="keeper", begun="2026-11-28 12:00:00")
    whole = evolve(entry, finished="2026-11-28 12:00:01")
    assert words_of_outcome(entry) == words_of(entry)
    assert words_of_outcome(whole) == "entry 3 (undo) was applied whole"
    assert words_of_outcome(evolve(whole, undone_by=4)) == "entry 3 (undo) was applied, and undone by entry 4"


SAID = {
    "No ED25519 host key is known for x": "is not known here: SHA256:abc (ssh-ed25519)",
    "Host key verification failed.": "is not known here",
    "WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED!\nOffending ED25519 key in /h/known:3": "(/h/known, line 3)",
    "k@x: Permission denied (publickey,password).": "it accepts: publickey,password",
    "ssh: Could not resolve hostname x: Name or service not known": "no computer of that name",
    "ssh: connect to host x port 22: Connection refused": "nothing answers at that port",
    "ssh: connect to host x port 22: No route to host": "no way to it in the network",
    "ssh: connect to host x port 22: Connection timed out": "did not answer in time",
    "kex_exchange_identification: Connection closed by remote host": "it closed the connection",
    "ssh: something \x1b[2J else": "no connection over SSH: something \\x1b[2J else",
    "": "ssh ended without a word",
}


@pytest.mark.parametrize("line", SAID)
def test_what_ssh_says_in_plain_words(line: str) -> None:
    said = Said(("debug1: Server host key: ssh-ed25519 SHA256:abc", *line.split("\n"), "debug1: Exit"))
    error = said.why_not(address_from("ssh://k@hide-04"))
    assert SAID[line] in str(error) and str(error).startswith("hide-04: ")


def test_the_password_is_sent_once_unless_somebody_is_asked(monkeypatch: pytest.MonkeyPatch) -> None:
    connection = Connection(address_from("ssh://hide-04"), Secret(SECRET), asks=False)
    assert connection._password(0) == SECRET
    with pytest.raises(Exception, match="did not accept"):
        connection._password(1)


HANGS = {
    "exec sleep 100": "it did not answer in time",
    "echo 'Authenticated to hide-04 (x) using \"publickey\".' >&2; exec sleep 100": "does not start a program",
    "exec yes": "print without end",
    "echo hello; exit 1": "ssh ended without a word",
    "echo 'Authenticated to hide-04' >&2; sleep 0.2; exit 1": "no program was started",
}


@pytest.mark.parametrize("script", HANGS)
def test_a_connection_that_hangs_is_left(script: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "ssh").write_text(f"#!/bin/sh\n{script}\n")
    (tmp_path / "ssh").chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    connection = Connection(address_from("ssh://hide-04"), Secret(), asks=False, limit=1)
    with connection, pytest.raises(VerrouError, match=HANGS[script]):
        connection.arrive()


def test_root_runs_what_comes_from_the_account_alone(tmp_path: Path) -> None:
    """The socket of the relay is told apart from anybody else's by who made it."""
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind("\0verrou-of-a-test")
        listening.listen(2)
        for uid, code in ((os.geteuid(), 0), (os.geteuid() + 1, 9)):
            command = [sys.executable, "-I", "-c", FROM_SOCKET, "verrou-of-a-test", str(uid)]
            with subprocess.Popen(command, stderr=subprocess.DEVNULL) as started:
                line = listening.accept()[0]
                with line, suppress(OSError):
                    line.sendall(b"6\nexit()")
                assert started.wait(30) == code


@pytest.mark.skipif(os.geteuid() != 0, reason="root alone becomes somebody else")
def test_the_relay_passes_on_to_root_alone() -> None:
    connects = "import os,socket;os.setuid(%d);s=socket.socket(1);s.connect(chr(0)+'verrou-relay-test');s.recv(1)"
    pipe, (silent, writing) = subprocess.PIPE, os.pipe()
    cat = subprocess.Popen(["cat"], stdin=pipe, stdout=pipe, stderr=pipe)
    others = []
    with socket.socket(socket.AF_UNIX) as listening, cat:
        listening.bind("\0verrou-relay-test")
        listening.listen(2)
        try:
            for uid in (12345, 0):
                others.append(subprocess.Popen([sys.executable, "-I", "-c", connects % uid]))
                assert select.select([listening], [], [], 30)[0] or uid == 0
            line = relay.elevated(cat, listening, "ask-x:", silent)
            assert line is not None
            with line:
                assert struct.unpack("3i", line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))[1] == 0
        finally:
            for process in (cat, *others):
                process.kill()
    for other in others:
        other.wait()
    for each in (silent, writing):
        os.close(each)


def test_what_arrives_damaged_is_not_run() -> None:
    ours, theirs = socket.socketpair()
    program = Path(starter.__file__).read_text()
    run = f"import socket,sys;s=socket.socket(fileno={theirs.fileno()});exec(sys.argv[1])"
    with ours, subprocess.Popen([sys.executable, "-I", "-c", run, program], pass_fds=[theirs.fileno()]) as started:
        theirs.close()
        channel = Channel(ours.fileno(), ours.fileno(), 1000)
        assert channel.receive(30)["at"] == "starter"
        channel.send({"size": 4, "sha256": "0" * 64})
        channel.send_raw(b"abcd")
        assert channel.receive(30) == {"at": "starter", "damaged": True}
        started.wait(30)


@pytest.mark.parametrize("text", ["", "{", "[]", "{}", '{"format": "verrou survey 3"}', "[" * 100_000])
def test_what_is_no_survey_is_none(text: str) -> None:
    with pytest.raises(MachineRefused, match="hide-04: it sent no survey"):
        survey_from("hide-04", 0, text, "")
    with pytest.raises(NotEnoughRights, match=r"hide-04: no rights\\x1b"):
        survey_from("hide-04", 5, text, "verrou: no rights\x1b[2J\n")


TABLES = {
    '[machines]\n"hide-*" = "office"': [],
    '[machines]\nhide-04 = { at = "ssh://hide-04", baseline = "office" }': [("hide-04", "ssh://hide-04", "office")],
    '[machines]\nhide-04 = { at = "ssh://hide-04" }': "no baseline. Add baseline = NAME",
    '[machines]\nhide-04 = "office"': "does not say where it is",
    "[machines]\nhide-04 = { at = 4 }": "invalid value {'at': 4}",
    '[machines]\nhide-04 = { place = "x" }': "invalid value {'place': 'x'}",
    '[machines]\n"../x" = { at = "ssh://x", baseline = "office" }': "files are named by it",
}


@pytest.mark.parametrize("text", list(TABLES)[1:])
def test_a_table_says_where_each_machine_is(text: str) -> None:
    expected = TABLES[text]
    try:
        stops = read_assignment(text, "lab.toml").stops("lab.toml", None)
        assert [(stop.name, stop.address, stop.baseline) for stop in stops] == expected
    except BadInput as error:
        assert isinstance(expected, str) and expected in str(error)


def test_a_table_of_machines_here_is_a_round_too(verrou: Verrou, station: Path, tmp_path: Path) -> None:
    named = {"terminal": "hide-01", "ringing-02": "ringing-02"}
    lines = [f'{name} = {{ at = "station/{machine}.bench.json" }}' for name, machine in named.items()]
    (tmp_path / "lab.toml").write_text("\n".join(["[machines]", *lines, 'gone = { at = "ssh://-x" }']))
    assert "gone: invalid address" in verrou("round", "lab.toml", "-b", "essential", code=2).stderr
    assert "no.toml: No such file" in verrou("round", "no.toml", "-b", "essential", code=2).stderr
    (tmp_path / "lab.toml").write_text("\n".join(["[machines]", *lines]))
    rows = verrou.json("round", "lab.toml", "-b", "essential", code=1)["machines"]
    assert {row["machine"] for row in rows} == set(named)
    assert "not across a cable" in verrou("round", "lab.toml", "-b", "essential", "--harden", code=2).stderr
    assert "goes with a table" in verrou("round", "station", "-b", "essential", "--harden", code=2).stderr


def test_the_stick_is_made_once_for_many() -> None:
    assert near.stick() is near.stick() and near.stick()[:2] == b"#!"
