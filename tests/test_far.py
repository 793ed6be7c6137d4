"""A machine across a cable: real SSH servers on Debian roots, in a network of the tests' own."""

import json
import os
import re
import shlex
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from at_terminal import AtTerminal
from booted import until
from conftest import base_of
from debian_root import SUITE
from far_machine import BESIDE, PASSWORD, Cable, FarMachine, people
from test_papers import HANDBOOK, examples, plain
from verrou.far.one_file import one_file

pytestmark = pytest.mark.real_root
HOST, STICK = "hide-04", "/opt/verrou.pyz"
BASELINE = '[baseline]\ntitle = "The hut"\nbuilds_on = ["more.toml"]\n[password]\nmin_length = 12\n'
MORE = '[baseline]\ntitle = "More"\n[lockout]\nafter = 5\nlasts = "45 minutes"\nforget_after = "20 minutes"\n'
NEW = "guillemot-Ledge-77"


@pytest.fixture(scope="module")
def layer(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, Path]]:
    """What a computer with people has beside the base, and the key that opens it."""
    folder = tmp_path_factory.mktemp("people")
    base = base_of(SUITE, BESIDE)
    with Cable.laid(folder) as cable, FarMachine.up(cable, HOST, base, folder, 4) as machine:
        people(machine, (folder / "key.pub").read_text())
        (machine.root / STICK[1:]).write_bytes(one_file())
        kept = machine.keep(folder / "layer")
    yield kept, folder / "key"


@pytest.fixture
def cable(layer: tuple[Path, Path], tmp_path: Path) -> Iterator[Cable]:
    with Cable.laid(tmp_path, layer[1]) as cable:
        (tmp_path / "hut.toml").write_text(BASELINE)
        (tmp_path / "more.toml").write_text(MORE)
        yield cable


def a_host(cable: Cable, layer: Path, number: int = 4, more: str = "") -> "Iterator[FarMachine]":
    name = f"hide-0{number}"
    with FarMachine.up(cable, name, base_of(SUITE, BESIDE), cable.folder, number, layer, more=more) as machine:
        for account in ("keeper", "warden", "tern", "root"):
            cable.name(f"{name}-{account}", machine.address, account)
        cable.trust(machine)
        yield machine


@pytest.fixture
def machine(cable: Cable, layer: tuple[Path, Path]) -> Iterator[FarMachine]:
    yield from a_host(cable, layer[0])


def at(account: str) -> tuple[str, str]:
    return "-m", f"ssh://{HOST}-{account}"


COMMANDS = (
    "survey --all",
    "access",
    "audit -b hut.toml",
    "audit -b nope.toml",
    "harden -b hut.toml --preview",
    "account add gull --password generate --preview",
    "rule show password --format csv",
    "rule list",
    "compare near now",
    "journal list",
)


TIME = re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d")
"""A minute may end between two runs."""


def test_every_command_is_the_same_there_and_across(cable: Cable, machine: FarMachine) -> None:
    saved = cable.verrou("survey", *at("root"), "--save", "near")
    assert saved.returncode == 0 and "Saved: near.survey.json" in saved.stderr, saved.stderr
    for name in ("hut.toml", "more.toml", "near.survey.json"):
        (machine.root / "opt" / name).write_text((cable.folder / name).read_text())
    for command in COMMANDS:
        words = command.split()
        there = machine.inside("sh", "-c", f'cd /opt && COLUMNS=70 python3 -I {STICK} "$@"', "sh", *words)
        across = cable.verrou(*words, *at("root"), COLUMNS="70")
        if command == "rule list":  # it takes no machine, so that nobody connects to one
            assert across.returncode == 2 and "no such option '-m'" in across.stderr
            continue
        ours, theirs = (TIME.sub("TIME", each.stdout) for each in (across, there))
        assert (ours, across.stderr, across.returncode) == (theirs, there.stderr, there.returncode)
    left = machine.shell("find / -xdev -newer /proc/1 -name '*verrou*' -not -path '/proc/*' -not -path '/opt/*'")
    assert set(left.split()) <= {"/var/lib/verrou"}, left


def test_a_job_from_end_to_end(cable: Cable, machine: FarMachine) -> None:
    """Questions, passwords and files are those of the near end; the journal alone stays there."""
    added = cable.verrou("account", "add", "gull", "--password", "stdin", *at("keeper"), "--yes", typed=f"{NEW}\n")
    assert added.returncode == 0, added.stderr
    hashed = machine.shell("grep ^gull: /etc/shadow").split(":")[1]
    assert (
        machine.shell(f'python3 -W ignore -c \'import crypt;print(crypt.crypt("{NEW}", "{hashed}"))\'').strip()
        == hashed
    )
    ended = cable.verrou("account", "add", "daypass", "--role", "guest", "--password", "generate", *at("root"))
    assert ended.returncode == 6 and "no answer" in ended.stderr
    file = ("--password", "generate", "--password-file", "handed.txt")
    assert cable.verrou("account", "add", "daypass", *file, "--yes", *at("root")).returncode == 0
    handed = cable.folder / "handed.txt"
    assert handed.read_text().startswith("daypass: ") and handed.stat().st_mode & 0o777 == 0o600
    hardened = cable.verrou("harden", "-b", "hut.toml", "--yes", "--log", *at("keeper"))
    assert "3 steps done" in hardened.stdout or "2 steps done" in hardened.stdout, hardened.stdout + hardened.stderr
    assert "Recorded in verrou-logbook.db: 1 record" in hardened.stderr
    saved = cable.verrou("report", "-b", "hut.toml", "--no-tests", "--save", "sheet.html", *at("keeper"))
    assert "Saved: sheet.html" in saved.stderr and "The hut" in (cable.folder / "sheet.html").read_text()
    again = cable.verrou("report", "-b", "hut.toml", "--no-tests", "--save", "sheet.html", *at("keeper"))
    assert again.returncode == 2 and "already exists" in again.stderr
    assert cable.verrou("undo", "--to", "0", "--yes", *at("keeper")).returncode == 0
    assert "gull" not in machine.shell("cat /etc/passwd")
    entries = json.loads(cable.verrou("journal", "list", "--format", "json", *at("root")).stdout)
    assert entries[0]["by"] == "keeper" and entries[0]["command"].endswith("--yes")


def test_no_secret_leaves_the_stream(cable: Cable, machine: FarMachine) -> None:
    """Sudo asks first, and records all that it sees; the server there and its children are traced."""
    machine.shell("echo 'Defaults log_input, log_output' > /etc/sudoers.d/record; chmod 440 /etc/sudoers.d/record")
    trace, followed = cable.folder / "trace", ["execve", "write", "sendto", "pwrite64", "memfd_create", "openat"]
    command = ["strace", "-f", "-y", "-s", "9999", "-e", f"trace={','.join(followed)}", "-o", str(trace)]
    with subprocess.Popen([*command, "-p", str(machine.first)], stderr=subprocess.DEVNULL) as tracing:
        try:
            until(lambda: "TracerPid:\t0" not in Path(f"/proc/{machine.first}/status").read_text(), "a trace")
            words = ["account", "add", "gull", *at("warden"), "--yes"]
            terminal = AtTerminal(words, cable.folder, cable.words(), cable.environment)
            for asked, typed in (
                ("sudo on hide-04-warden asks: password of warden: ", "not-this-one"),
                ("not accepted; sudo on hide-04-warden asks: password of warden: ", PASSWORD),
                ("hide-04-warden asks: Password for gull: ", NEW),
                ("Repeat for confirmation: ", NEW),
            ):
                terminal.until(asked)
                terminal.type(typed)
            assert terminal.ended() == 0, terminal.shown
        finally:
            tracing.terminate()
    assert PASSWORD not in terminal.shown and NEW not in terminal.shown and "\x1b[1mstep" in terminal.shown
    lines = [line for line in trace.read_text(errors="replace").splitlines() if PASSWORD in line or NEW in line]
    assert any(NEW in line for line in lines) and any(PASSWORD in line for line in lines)
    for line in lines:
        assert any(f"({n}<{kind}" in line for n in range(20) for kind in ("pipe:", "socket:", "UNIX")), line[:300]
    for secret in (PASSWORD, NEW):
        assert machine.inside("grep", "-rqF", secret, "/var/log", "/var/lib/verrou").returncode == 1
    assert machine.shell("ls /var/log/sudo-io").strip(), "sudo recorded nothing, so that this shows nothing"


NO_SHELL = "printf '#!/bin/sh\\nsleep 1000\\n' > /bin/hangs; chmod 755 /bin/hangs; usermod -s /bin/hangs keeper"
OLD = (
    "mv /usr/bin/python3.11 /opt/; printf '#!/bin/sh\\n[ $1 = -V ] && echo Python 3.9.2; exit 1\\n' > /usr/bin/python3"
)
REFUSALS = {
    "no rights": ("tern", "", 5, "may not become root there"),
    "no Python": ("keeper", "rm /usr/bin/python3*", 4, "Python 3.11 or newer is needed there; it has none"),
    "old Python": ("keeper", f"rm /usr/bin/python3; {OLD}; chmod 755 /usr/bin/python3", 4, "it has Python 3.9.2"),
    "requiretty": ("keeper", "echo 'Defaults requiretty' >> /etc/sudoers.d/keeper", 5, "insists on a terminal"),
    "no sudo": ("keeper", "rm /usr/bin/sudo /usr/bin/doas", 5, "neither sudo nor doas was found"),
    "doas asks": ("keeper", "rm /usr/bin/sudo; echo permit keeper > /etc/doas.conf", 5, "doas there does not let"),
    "no shell": ("keeper", "usermod -s /usr/sbin/nologin keeper", 4, "no program was started: This account is"),
    "no key": ("keeper", "rm -r /home/keeper/.ssh", 5, "sign-in over SSH was denied; it accepts: publickey"),
    "noisy": ("keeper", "echo 'echo hello; echo verrou here' >> /home/keeper/.bashrc", 0, ""),
    "doas": ("keeper", "rm /usr/bin/sudo; echo permit nopass keeper > /etc/doas.conf", 0, ""),
    "python3.11 alone": ("keeper", "rm /usr/bin/python3", 0, ""),
    "csh": ("keeper", "ln -s /bin/dash /bin/other; usermod -s /bin/other keeper", 0, ""),
}


@pytest.mark.parametrize("what", REFUSALS)
def test_what_keeps_a_command_from_running_there_is_one_line(cable: Cable, machine: FarMachine, what: str) -> None:
    account, change, code, message = REFUSALS[what]
    machine.shell(change or "true")
    given = {"typed": f"{PASSWORD}\n"}
    (cable.folder / "table.toml").write_text(
        f'[machines]\none = {{ at = "{at(account)[1]}", baseline = "hut.toml" }}\n'
    )
    if what == "no rights":  # sudo asks first, and tells only who gave the right password
        ended = cable.verrou("round", "table.toml", "--sudo-password", "same", **given)
        assert ended.returncode == 2 and message in ended.stderr, ended.stderr
        return
    ended = cable.verrou("account", "list", *at(account))
    assert ended.returncode == code and message in ended.stderr, ended.stderr
    assert len(ended.stderr.splitlines()) == (code != 0) and "keeper" in (ended.stdout or "keeper")


def test_host_keys_and_silence(cable: Cable, machine: FarMachine) -> None:
    """Nothing is accepted silently; what does not answer is named."""
    known = cable.folder / "known"
    trusted = known.read_text()
    fingerprint = machine.shell("ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub").split()[1]
    known.write_text("")
    ended = cable.verrou("survey", *at("keeper"))
    assert ended.returncode == 4 and "its host key is not known here" in ended.stderr and fingerprint in ended.stderr
    assert "ssh -- hide-04-keeper true" in ended.stderr and known.read_text() == ""
    other = (cable.folder / "key.pub").read_text().split()[1]
    known.write_text(f"{machine.address} ssh-ed25519 {other}\n")
    ended = cable.verrou("survey", *at("keeper"))
    assert "not the one that is stored for it" in ended.stderr and "known, line 1" in ended.stderr
    assert fingerprint in ended.stderr and "StrictHostKeyChecking" not in ended.stderr
    known.write_text(trusted)
    cable.name("nobody-there", "127.0.0.99", "keeper")
    ended = cable.verrou("survey", "-m", "ssh://nobody-there")
    assert ended.returncode == 4 and "nothing answers at that port" in ended.stderr
    for address in ("ssh://-oProxyCommand=x", "ssh://a b", "ssh://h/path", "ssh://h:0", "ssh://h:99999", "ssh://"):
        ended = cable.verrou("survey", "-m", address)
        assert ended.returncode == 2 and "invalid address" in ended.stderr, ended.stderr


BRANCH = {
    "denied by name": ("true", "rule set logon.remote-shell.denied=keeper", "the route in use"),
    "allowed without me": ("true", "rule set logon.remote-shell.allowed=warden", "the route in use"),
    "disabled": ("true", "account disable keeper", "the account you are using"),
    "a list, read after a reload": (
        "echo 'AllowUsers warden' > /etc/ssh/sshd_config.d/x.conf",
        "rule set password.min_length=10",
        "tried on the private copy, failed: sign-in over SSH was denied",
    ),
    "for my address alone": (
        "printf 'Match Address 127.0.0.1\\nDenyUsers keeper\\n' > /etc/ssh/sshd_config.d/x.conf",
        "rule set password.min_length=10",
        "tried on the private copy, failed",
    ),
    "my key is in a home that goes": (
        "cp /home/keeper/.ssh/authorized_keys /home/tern/kept; chmod 644 /home/tern/kept; chmod 755 /home/tern;"
        "printf 'StrictModes no\\nAuthorizedKeysFile /home/tern/kept\\n' > /etc/ssh/sshd_config.d/x.conf; kill -HUP 1",
        "account remove tern --files delete",
        "tried on the private copy, failed",
    ),
    "a shell that is none": (
        "echo /usr/sbin/nologin >> /etc/shells",
        "account change keeper --shell /usr/sbin/nologin",
        "signed in, but no program was started: This account is currently not available",
    ),
    "a module that comes with the change": (
        "printf 'Name: x\\nDefault: yes\\nPriority: 900\\nAccount-Type: Primary\\nAccount:\\n\\trequisite pam_deny.so'"
        " > /usr/share/pam-configs/closed; echo >> /usr/share/pam-configs/closed",
        "rule set lockout.after=5",
        "own-account",
    ),
}


@pytest.mark.parametrize("what", BRANCH)
def test_the_branch_one_sits_on(cable: Cable, machine: FarMachine, what: str) -> None:
    change, command, message = BRANCH[what]
    machine.shell(change)
    until(lambda: cable.answers(machine.address), "the server, which may read its settings again")
    before = machine.shell("cat /etc/passwd /etc/shadow; ls -R /etc/security /home")
    ended = cable.verrou(*command.split(), "--yes", *at("keeper"))
    assert ended.returncode == 3 and message in ended.stderr, ended.stdout + ended.stderr
    assert machine.shell("cat /etc/passwd /etc/shadow; ls -R /etc/security /home") == before


@pytest.mark.parametrize("what", ["arrives", "does not", "is overridden"])
def test_what_cannot_be_tried_must_prove_itself_afterwards(cable: Cable, machine: FarMachine, what: str) -> None:
    """The second connection, which is to be tried on the copy, fails here. The third is the proof, which is tried again
    unless it is denied."""
    denied = "" if what == "arrives" else "k@h: Permission denied (publickey)."
    cable.break_connections(2, 3, saying=denied)
    more = ("--override", "own-account") if what == "is overridden" else ()
    ended = cable.verrou("account", "add", "gull", "--password", "generate", "--yes", *more, *at("keeper"))
    shown = " ".join(ended.stdout.split())
    assert "could not be tried on the private copy" in shown
    assert ("a new connection must succeed within 60 seconds" in shown) is not bool(more)
    undone = what == "does not"
    assert ("gull:" in machine.shell("cat /etc/passwd")) is not undone
    if undone:
        assert ended.returncode == 4 and "so entry 1 was undone (entry 2)" in ended.stderr, ended.stderr
    else:
        assert ended.returncode == 0, ended.stderr


class Puppet:
    """A near end that a test plays itself, to the program that runs there."""

    def __init__(self, machine: FarMachine, *words: str, **told: object) -> None:
        serve = (
            f"import os,sys;sys.path.insert(0,'{STICK}');from verrou.far.there import serve;serve(os.dup(0),os.dup(1))"
        )
        command = [*machine.enter, "python3", "-I", "-c", serve]
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        order = {"task": "command", "address": "ssh://x", "words": [*words, "-m", "ssh://x"], "environment": [], **told}
        self.say(order)

    def say(self, frame: dict[str, object]) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(json.dumps(frame).encode() + b"\n")
        self.process.stdin.flush()

    def until_call(self, name: str) -> dict[str, object]:
        """Answer all that is asked until this, and return it."""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            frame = json.loads(line)
            if frame.get("call") == name:
                return dict(frame["parts"])
            if "call" in frame:
                self.say({"answer": None})
        raise AssertionError(f"{name} was never asked")

    def cut(self) -> None:
        assert self.process.stdin is not None and self.process.stdout is not None
        self.process.stdin.close()
        self.process.stdout.close()


@pytest.mark.parametrize("when", ["before", "after"])
def test_a_cut_before_the_handshake_changes_nothing_and_after_it_all(machine: FarMachine, when: str) -> None:
    """The run goes on without anybody who hears what it tells meanwhile, and without a session."""
    puppet = Puppet(machine, "account", "add", "gull", "--password", "generate", "--yes", "-v")
    assert str(puppet.until_call("hand_over")["passwords"]).startswith("{'gull'")
    puppet.say({"answer": None})
    assert puppet.until_call("before_applying") == {"entry": 1}
    if when == "after":
        machine.inside("pkill", "-HUP", "-f", "verrou.far.there")
        puppet.say({"answer": None})
    puppet.cut()
    puppet.process.wait(60)
    assert ("gull:" in machine.shell("cat /etc/passwd")) is (when == "after")
    asked = Puppet(machine, task="outcome", entry=1)
    assert asked.process.stdout is not None
    told = json.loads(asked.process.stdout.readline())["out"]
    expected = "was applied whole" if when == "after" else "nothing was changed"
    assert expected in told, told
    asked.process.wait(60)
    if when == "after":
        undoing = Puppet(machine, "undo", "--yes")
        assert undoing.until_call("before_applying") == {"entry": 2}
        undoing.cut()
        undoing.process.wait(60)
        assert "gull:" in machine.shell("cat /etc/passwd")


def test_a_run_that_is_killed_there_is_told_of_and_finished(cable: Cable, machine: FarMachine) -> None:
    """The program there is killed by its fourth rename, as it applies changes; the next connection says so."""
    words = cable.words("account", "add", "gull", "--password", "generate", "--yes", *at("keeper"))
    renames = "rename,renameat,renameat2"
    killing = ("-e", f"trace={renames}", "-e", f"inject={renames}:signal=KILL:when=4")
    with subprocess.Popen(
        words, stderr=subprocess.PIPE, env=cable.environment, cwd=cable.folder, text=True, start_new_session=True
    ) as near:
        until(machine.program, "a program there")
        subprocess.run(["strace", "-qq", "-o", "/dev/null", *killing, "-p", str(machine.program()[0])], check=False)
        told = near.communicate()[1]
    assert near.returncode == 4 and "looking again" in told and "was interrupted. To finish: verrou resume" in told, (
        told
    )
    assert "was interrupted" in cable.verrou("survey", *at("keeper")).stderr
    assert "is finished" in plain(cable.verrou("resume", *at("keeper")).stdout)
    assert "gull:" in machine.shell("cat /etc/passwd; pwck -rq; grpck -r")


def test_every_example_of_the_chapter_is_so(cable: Cable, layer: tuple[Path, Path]) -> None:
    hosts = [a_host(cable, layer[0], number) for number in (4, 5, 6)]
    try:
        for number, machine in zip((4, 5, 6), [next(host) for host in hosts], strict=True):
            cable.name(f"hide-0{number}", machine.address, "keeper")
        machine.shell("rm /usr/bin/python3*")
        cable.name("hide-08", "127.0.0.8", "keeper")
        (table,) = re.findall(r"^```toml\n(.*?)^```$", (HANDBOOK / "lab.md").read_text(), re.DOTALL | re.MULTILINE)
        (cable.folder / "lab.toml").write_text(table)
        (cable.folder / "surveys").mkdir()
        for words, code, output in examples("lab"):
            ended = cable.verrou(*shlex.split(words))
            assert ended.returncode == code, f"{words}\n{ended.stdout}{ended.stderr}"
            for line in output:
                assert plain(line) in plain(ended.stdout + ended.stderr), f"{words}\n{ended.stdout}{ended.stderr}"
        assert [name for name in os.listdir(cable.folder / "surveys") if "sheet" in name] == ["hide-04-sheet.html"]
    finally:
        for host in hosts:
            host.close()


def test_a_round_over_hosts_of_which_some_fail(cable: Cable, layer: tuple[Path, Path]) -> None:
    hosts = [a_host(cable, layer[0], number) for number in (4, 5, 6)]
    fine, second, bare = (next(host) for host in hosts)
    try:
        bare.shell("rm /usr/bin/python3*")
        second.shell(f"echo {'5' * 32} > /etc/machine-id")
        cable.name("hide-08", "127.0.0.8", "keeper")
        table = {name: f"ssh://{name}-keeper" for name in ("hide-04", "hide-05", "hide-06")} | {
            "hide-08": "ssh://hide-08"
        }
        lines = [f'{name} = {{ at = "{place}", baseline = "hut.toml" }}' for name, place in table.items()]
        (cable.folder / "lab.toml").write_text("\n".join(["[machines]", *lines]))
        (cable.folder / "out").mkdir()
        ended = cable.verrou("round", "lab.toml", "--format", "json", "--into", "out")
        assert ended.returncode == 1, ended.stderr
        for reason in ("hide-06: hide-06-keeper: Python 3.11 or newer", "hide-08: nothing answers at that port"):
            assert f"skipped: {reason}" in ended.stderr, ended.stderr
        assert [row["machine"] for row in json.loads(ended.stdout)["machines"]] == ["hide-04", "hide-05"]
        assert sorted(os.listdir(cable.folder / "out")) == ["hide-04.survey.json", "hide-05.survey.json"]
        asking = '[baseline]\ntitle = "Asks"\n[accounts.gull]\nrole = "standard"\npassword = "ask"\n'
        (cable.folder / "asks.toml").write_text(asking)
        ended = cable.verrou("round", "lab.toml", "-b", "asks.toml", "--harden", "--yes")
        assert ended.returncode == 2 and "asks for the password of gull" in ended.stderr
        assert "gull" not in fine.shell("cat /etc/passwd")
    finally:
        for host in hosts:
            host.close()
