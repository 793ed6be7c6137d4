"""Throwaway Debian roots: a base built once by mmdebstrap and cached, and private overlays over it."""

import contextlib
import fcntl
import hashlib
import os
import secrets
import shutil
import stat
import subprocess
from collections.abc import Iterator
from pathlib import Path

from attrs import frozen

from verrou.machines.linux.accounts.hashing import hashed

SUITE, NEWEST = "bookworm", "trixie"
PACKAGES = (
    *("at", "cracklib-runtime", "cron", "libpam-modules", "libpam-pwquality", "libpam-runtime", "login"),
    *("openssh-server", "pamtester", "passwd", "sudo", "wamerican"),
)
DESKTOP = ("accountsservice", "dbus", "dconf-cli", "lightdm", "polkitd", "systemd-sysv", "udisks2")
"""What a machine has beside these that people sign in to by a screen."""
TO_BOOT = ("pkexec", "python3", "xdotool", "xvfb")
"""What a desktop has beside these that is booted: a screen and a keyboard that are none, a program that asks polkit for
all of root, and what Verrou runs on."""


NO_PAUSES = (
    "sed -i 's/pam_unix.so/pam_unix.so nodelay/' /usr/share/pam-configs/unix && pam-auth-update --package"
    " && sed -i '/pam_faildelay.so/d' /etc/pam.d/login"
)
"""Wrong passwords are told at once: who waits for nothing tests more."""


class Unavailable(Exception):
    """No real root can be had here; the message says why."""


def base_root(suite: str = SUITE, beside: tuple[str, ...] = (), usual: tuple[str, ...] = PACKAGES) -> Path:
    """The cached base of a release, with some packages beside the usual ones; built when it is not there."""
    if os.geteuid() != 0:
        raise Unavailable("only root can build and enter one")
    if shutil.which("mmdebstrap") is None:
        raise Unavailable("install the package mmdebstrap")
    packages = (*usual, *beside)
    recipe = hashlib.sha256(f"2 {suite} {packages} {NO_PAUSES}".encode()).hexdigest()[:12]
    cache = Path(os.environ.get("VERROU_TEST_CACHE", "/var/cache/verrou-tests"))
    base = cache / f"{suite}-{recipe}"
    if base.exists():
        return base
    cache.mkdir(parents=True, exist_ok=True)
    with open(cache / "lock", "w") as lock:
        fcntl.lockf(lock, fcntl.LOCK_EX)
        return base if base.exists() else _build(suite, packages, cache, base)


def _build(suite: str, packages: tuple[str, ...], cache: Path, base: Path) -> Path:
    building = cache / f"building-{os.getpid()}"
    command = ["mmdebstrap", "--variant=minbase", f"--include={','.join(packages)}"]
    if "login" in packages:
        command.append(f'--customize-hook=chroot "$1" sh -c "{NO_PAUSES}"')
    command += [suite, str(building)]
    built = subprocess.run(command, capture_output=True, text=True, check=False)
    if built.returncode:
        shutil.rmtree(building, ignore_errors=True)
        raise Unavailable(f"mmdebstrap: {built.stderr.strip().splitlines()[-1:]}")
    building.rename(base)
    return base


@frozen
class PrivateRoot:
    """A writable root that belongs to one test."""

    path: Path
    below: tuple[Path, ...] = ()
    """The layers that it is laid over, the topmost first."""

    @classmethod
    @contextlib.contextmanager
    def over(cls, base: Path, path: Path, *changed: Path) -> Iterator["PrivateRoot"]:
        """Overlay ``base``, as layers that were kept have ``changed`` it, at ``path``, with devices and processes, and
        take all of it down again."""
        layers = path.with_name(f"{path.name}-layers")
        layers.mkdir()
        path.mkdir()
        mount("tmpfs", layers, "-t", "tmpfs")
        for name in ("upper", "work"):
            (layers / name).mkdir()
        below = (*reversed(changed), base)
        options = f"lowerdir={':'.join(map(str, below))},upperdir={layers}/upper,workdir={layers}/work"
        mount("overlay", path, "-t", "overlay", "-o", options)
        if below not in _AT_FIRST:
            _AT_FIRST[below] = _at_first(path)
        mount("/dev", path / "dev", "--bind")
        mount("proc", path / "proc", "-t", "proc")
        mount("tmpfs", path / "run", "-t", "tmpfs")
        try:
            yield cls(path, below)
        finally:
            for place in ("run", "proc", "dev", "."):
                subprocess.run(["umount", "-l", str(path / place)], check=True)
            subprocess.run(["umount", "-l", str(layers)], check=True)

    def keep(self, folder: Path) -> Path:
        """A copy of what was changed so far, as a layer for :meth:`over`."""
        upper = self.path.with_name(f"{self.path.name}-layers") / "upper"
        subprocess.run(["cp", "-a", str(upper), str(folder)], check=True)
        return folder

    def inside(self, *command: str, user: str = "root", typed: str = "") -> subprocess.CompletedProcess[str]:
        """Run one of the system's own programs inside, as a user."""
        return subprocess.run(
            ["chroot", f"--userspec={user}", str(self.path), *command],
            input=typed,
            capture_output=True,
            text=True,
            env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C"},
            check=False,
        )

    def signs_in(self, account: str, password: str, service: str = "sshd") -> bool:
        """Ask PAM itself, by a client that is not ours. The service has no delay of its own on top of pam_unix."""
        ended = self.inside("pamtester", service, account, "authenticate", "acct_mgmt", typed=password + "\n")
        return ended.returncode == 0

    def write(self, name: str, text: str) -> None:
        """Put a text into a file of the root."""
        path = self.path / name.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)

    def read(self, name: str) -> str:
        """The text of a file of the root."""
        return (self.path / name.lstrip("/")).read_text()

    def users(self, *names: str, password: str = "") -> None:
        """Have the system's own useradd make standard users; without a password each has one that nobody knows."""
        hidden = hashed(password or secrets.token_hex(8))
        for name in names:
            ended = self.inside("useradd", "-m", "-s", "/bin/bash", "-p", hidden, name)
            assert ended.returncode == 0, ended.stderr

    def tree(self) -> dict[str, tuple[object, ...]]:
        """Everything in the root but Verrou's own records: kind, mode, owner, and the content where it is not that of
        the layers below. What the overlay wrote nothing about is as it was at first."""
        found, upper = dict(_AT_FIRST[self.below]), f"{self.path}-layers/upper"
        for name, now in _walked(upper):
            if stat.S_ISCHR(now.st_mode) or (stat.S_ISDIR(now.st_mode) and _is_opaque(f"{upper}/{name}")):
                for gone in [each for each in found if f"{each}/".startswith(f"{name}/")]:
                    del found[gone]
            if os.path.lexists(self.path / name):
                found[name] = self._told(name, (self.path / name).lstat())
        return found

    def _told(self, name: str, now: os.stat_result) -> tuple[object, ...]:
        content: object = None
        if stat.S_ISLNK(now.st_mode):
            content = os.readlink(self.path / name)
        elif stat.S_ISREG(now.st_mode):
            whole = (self.path / name).read_bytes()
            below = next((layer / name for layer in self.below if os.path.lexists(layer / name)), None)
            same = below is not None and below.is_file() and below.read_bytes() == whole
            content = "as below" if same else hashlib.sha256(whole).hexdigest()
        return now.st_mode, now.st_uid, now.st_gid, content


_AT_FIRST: dict[tuple[Path, ...], dict[str, tuple[object, ...]]] = {}
"""What a root of some layers has at first, see :meth:`PrivateRoot.tree`."""


def _walked(top: str) -> Iterator[tuple[str, os.stat_result]]:
    """All names below a folder, a folder before what it holds, without what decides nothing."""
    for folder, folders, names in os.walk(top):
        if folder == top:
            folders[:] = [name for name in folders if name not in ("dev", "proc", "run", "sys", "tmp")]
        folders[:] = [name for name in folders if f"{folder}/{name}" != f"{top}/var/lib/verrou"]
        for name in (*folders, *names):
            yield f"{folder}/{name}"[len(top) + 1 :], os.lstat(f"{folder}/{name}")


def _at_first(path: Path) -> dict[str, tuple[object, ...]]:
    found: dict[str, tuple[object, ...]] = {}
    for name, now in _walked(str(path)):
        links, holds = stat.S_ISLNK(now.st_mode), stat.S_ISREG(now.st_mode)
        content = os.readlink(path / name) if links else "as below" if holds else None
        found[name] = (now.st_mode, now.st_uid, now.st_gid, content)
    return found


def _is_opaque(folder: str) -> bool:
    """Whether nothing below a folder of an overlay shows through."""
    try:
        return os.getxattr(folder, "trusted.overlay.opaque") == b"y"
    except OSError:
        return False


def mount(source: str, target: Path, *options: str) -> None:
    """mount(8), or a failure that says why."""
    subprocess.run(["mount", *options, source, str(target)], check=True)
