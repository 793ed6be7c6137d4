"""Computers across a cable: Debian roots with SSH servers, in a network of their own, and the client at this end."""

import contextlib
import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from attrs import define, field, frozen

from booted import until
from debian_root import mount

PASSWORD = "kittiwake-Cliff-42"
BESIDE = ("opendoas", "procps", "python3")
FIRST = """
set -eu
cd "$root"
mount --make-rprivate /
mount --bind . . ; cd "$root"
mount -t proc proc proc
mount -t tmpfs -o mode=755 tmpfs dev; mkdir dev/pts dev/shm
for name in null zero full random urandom tty; do touch dev/$name; mount --bind /dev/$name dev/$name; done
mount -t devpts -o newinstance,ptmxmode=0666,mode=620,gid=5 devpts dev/pts; ln -s pts/ptmx dev/ptmx
ln -s /proc/self/fd dev/fd; ln -s fd/0 dev/stdin; ln -s fd/1 dev/stdout; ln -s fd/2 dev/stderr
mount -t tmpfs tmpfs run
mkdir -p run/sshd .old; pivot_root . .old; umount -l .old; rmdir .old
hostname "$named"
exec env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin /usr/sbin/sshd -D -e -o ListenAddress="$address" -o LogLevel=ERROR $more
"""
ENTER = ("nsenter", "--mount", "--pid", "--uts", "--net", "--root", "--wdns=/", "-t")


@define
class Cable:
    """A network that holds no other address, and the client at this end: its folder, key and configuration."""

    folder: Path
    holder: "subprocess.Popen[bytes]"
    hosts: list[str] = field(factory=list)

    @classmethod
    @contextlib.contextmanager
    def laid(cls, folder: Path, key: Path | None = None) -> Iterator["Cable"]:
        """Lay a cable whose client keeps its files in ``folder``, with a key of its own or a given one."""
        with subprocess.Popen(["unshare", "--net", "sleep", "infinity"]) as holder:
            cable = cls(folder, holder)
            own = os.readlink("/proc/self/ns/net")
            until(lambda: os.readlink(f"/proc/{holder.pid}/ns/net") != own, "a network of its own")
            cable.plug(True)
            (folder / "bin").mkdir()
            if key is None:
                subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / "key")], check=True)
            else:
                for name in ("key", "key.pub"):
                    shutil.copy(key.with_name(name), folder / name)
            cable.break_connections()
            try:
                yield cable
            finally:
                holder.kill()

    @property
    def inside(self) -> tuple[str, ...]:
        """What a command line begins with that runs in this network."""
        return ("nsenter", f"--net=/proc/{self.holder.pid}/ns/net")

    def plug(self, there: bool) -> None:
        """Put the cable in, or pull it out."""
        subprocess.run([*self.inside, "ip", "link", "set", "lo", "up" if there else "down"], check=True)

    def name(self, host: str, address: str, account: str) -> None:
        """Have the client know a host by a name."""
        self.hosts.append(
            f"Host {host}\n HostName {address}\n User {account}\n IdentityFile {self.folder}/key\n"
            f" UserKnownHostsFile {self.folder}/known\n GlobalKnownHostsFile /dev/null\n"
            " StrictHostKeyChecking no\n ForwardAgent yes\n RequestTTY force\n RemoteCommand sleep 100\n"
        )
        (self.folder / "config").write_text("\n".join(self.hosts))

    def break_connections(self, *numbers: int, saying: str = "") -> None:
        """Have the client fail at some of its connections from now on, counted from 1, with a word of its own."""
        told = shlex.quote(saying)
        client, count = self.folder / "bin/ssh", shlex.quote(str(self.folder / "count"))
        broken = f"case $n in {'|'.join(map(str, numbers))}) echo {told} >&2; exit 255;; esac\n" if numbers else ""
        text = f"#!/bin/sh\nn=$(($(cat {count}) + 1)); echo $n > {count}\n{broken}"
        client.write_text(f'{text}exec /usr/bin/ssh -F {shlex.quote(str(self.folder / "config"))} "$@"\n')
        client.chmod(0o755)
        (self.folder / "count").write_text("0")

    def answers(self, address: str) -> bool:
        """Whether an SSH server answers at an address."""
        probe = "import socket,sys;s=socket.create_connection((sys.argv[1],22),2);sys.exit(s.recv(4)!=b'SSH-')"
        ended = subprocess.run([*self.inside, sys.executable, "-c", probe, address], capture_output=True, check=False)
        return ended.returncode == 0

    def trust(self, machine: "FarMachine") -> None:
        """Have the client know the host key of a computer."""
        key = machine.shell("cut -d' ' -f1,2 /etc/ssh/ssh_host_ed25519_key.pub").strip()
        with open(self.folder / "known", "a") as known:
            known.write(f"{machine.address} {key}\n")

    @property
    def environment(self) -> dict[str, str]:
        hidden = ("VERROU_MACHINE", "SSH_AUTH_SOCK")
        kept = {name: text for name, text in os.environ.items() if name not in hidden}
        return {**kept, "PATH": f"{self.folder}/bin:{os.environ['PATH']}"}

    def words(self, *words: object) -> list[str]:
        """The command line by which the program runs here."""
        return [*self.inside, sys.executable, "-m", "verrou", *map(str, words)]

    def verrou(self, *words: object, typed: str = "", **more: str) -> "subprocess.CompletedProcess[str]":
        """Run the program at this end, without a terminal."""
        return subprocess.run(
            self.words(*words),
            input=typed,
            capture_output=True,
            text=True,
            env={**self.environment, **more},
            cwd=self.folder,
            start_new_session=True,
            check=False,
        )


@frozen
class FarMachine:
    """One computer across the cable."""

    name: str
    address: str
    root: Path
    first: int

    @classmethod
    @contextlib.contextmanager
    def up(
        cls, cable: Cable, name: str, base: Path, folder: Path, number: int, *changed: Path, more: str = ""
    ) -> Iterator["FarMachine"]:
        """Start a computer over a base root; it is gone with all that was written at the end."""
        root, layers, address = folder / name, folder / f"{name}-layers", f"127.0.0.{number}"
        layers.mkdir()
        root.mkdir()
        mount("tmpfs", layers, "-t", "tmpfs")
        (layers / "upper").mkdir()
        (layers / "work").mkdir()
        below = ":".join(map(str, (*reversed(changed), base)))
        mount("overlay", root, "-t", "overlay", "-o", f"lowerdir={below},upperdir={layers}/upper,workdir={layers}/work")
        given = {**os.environ, "root": str(root), "named": name, "address": address, "more": more}
        start = [*cable.inside, "unshare", "--mount", "--pid", "--uts", "--ipc", "--fork", "--kill-child", "sh", "-c"]
        try:
            with subprocess.Popen([*start, FIRST], env=given, stderr=subprocess.DEVNULL) as process:
                try:
                    until(lambda: cable.answers(address), f"a server at {address}")
                    (child,) = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
                    yield cls(name, address, root, int(child))
                finally:
                    process.kill()
        finally:
            for place in (root, layers):
                subprocess.run(["umount", "-l", str(place)], check=True)

    def keep(self, folder: Path) -> Path:
        """A copy of what was changed so far, as a layer for another one."""
        upper = self.root.with_name(f"{self.root.name}-layers") / "upper"
        subprocess.run(["cp", "-a", str(upper), str(folder)], check=True)
        return folder

    @property
    def enter(self) -> tuple[str, ...]:
        """What a command line begins with that runs there."""
        return (*ENTER, str(self.first), "env", "-i", *(f"{name}={text}" for name, text in CLEAN.items()))

    def inside(self, *command: str, typed: str = "") -> "subprocess.CompletedProcess[str]":
        """Run a program there as root."""
        return subprocess.run([*self.enter, *command], input=typed, capture_output=True, text=True, check=False)

    def program(self) -> list[int]:
        """The process of the program that runs there, as this computer numbers it; none before it does."""
        found, own = [], os.readlink(f"/proc/{self.first}/ns/pid")
        for process in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                words = (process / "cmdline").read_bytes()
                if b"\0-c\0import sys,socket,struct;s=" in words and os.readlink(process / "ns/pid") == own:
                    found.append(int(process.name))
        return found

    def shell(self, text: str) -> str:
        """Run a text of sh there as root, and return its output."""
        ended = self.inside("sh", "-ec", text)
        assert ended.returncode == 0, ended.stderr
        return ended.stdout


CLEAN = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C"}


def people(machine: FarMachine, key: str) -> None:
    """Give a computer its people, each with a key: a warden with sudo's password, a keeper without one, tern without
    rights; root signs in by key as well."""
    quoted = shlex.quote(key.strip())
    machine.shell(
        "for name in warden keeper tern; do useradd -m -s /bin/bash $name;"
        f" echo $name:{PASSWORD} | chpasswd; done; usermod -aG sudo warden;"
        " echo 'keeper ALL=(ALL:ALL) NOPASSWD: ALL' > /etc/sudoers.d/keeper; chmod 440 /etc/sudoers.d/keeper;"
        f" for home in /root /home/*; do mkdir -p -m 700 $home/.ssh; echo {quoted} > $home/.ssh/authorized_keys;"
        " chown -R --reference=$home $home/.ssh; done"
    )
