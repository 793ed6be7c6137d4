"""Takes the pictures in docs/screenshots/ anew: each main command on the demo data, in a terminal window under Xvfb,
and its pages in a browser.

Needs Debian's xvfb, xterm, imagemagick, chromium, fonts-dejavu-core and mmdebstrap, verrou with its extras beside this
Python, and root.
"""

import os
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from pathlib import Path
from types import MappingProxyType

SIZE = "1280x800"
PICTURES = Path(__file__).parent.parent / "docs/screenshots"
WITH_A_STRANGER = (
    "echo account required pam_tides.so >> warden-03/etc/pam.d/sshd; "
    "touch warden-03/usr/lib/x86_64-linux-gnu/security/pam_tides.so; "
)
"""A module that nobody knows, so that not all can be known."""
APART = "mkdir -p {0}; cp *.bench.json *.toml sit-*.txt {0}; cd {0}; "
BEFORE = {
    "sit": APART.format("sitting")
    + "verrou rule set lockout.after=3 lockout.lasts='45 minutes' lockout.forget_after='20 minutes' "
    "elevation.prompt_apart=yes elevation.standard=admin-password -m hide-01.bench.json --yes >/dev/null; ",
    "visit": APART.format("visiting"),
}
"""What is done in silence before: these two have machines of their own."""
SHOTS = {
    "survey": "verrou survey -m warden-03 | head -n 45",
    "account-list": "verrou account list -m warden-03; echo; verrou account list -m ringing-02.bench.json",
    "access": f"{WITH_A_STRANGER}verrou access -m hide-01.bench.json; "
    "verrou why guillemot console -m hide-01.bench.json; verrou access -m warden-03 2>/dev/null; "
    "verrou why warden remote-shell -m warden-03 2>/dev/null",
    "signin": "verrou signin -m hide-01.bench.json; echo; verrou rule show elevation -m hide-01.bench.json",
    "sit": "verrou sit sit-lockout.txt -m hide-01.bench.json --explain | tail -n 21; "
    "printf 'restart\\nstart signed\\nanswer nothing\\n' | verrou sit -m hide-01.bench.json --explain",
    "audit": "verrou audit -m hide-01.bench.json -b hide-01.toml | head -n 45",
    "harden": "verrou harden -m hide-01.bench.json -b hide-01.toml --preview | head -n 43",
    "compare": "verrou compare surveys/hide-01-2025-09.survey.json surveys/hide-01-2026-09.survey.json | head -n 42",
    "capture": "verrou baseline check with-errors.toml; "
    "verrou baseline new hut --used-by shifts --watched never --shared-by 3-10; "
    "verrou baseline capture -m ringing-02.bench.json | head -n 32",
    "refused": "verrou account disable keeper -m hide-01.bench.json --yes; echo; "
    "verrou account swap ringer warden -m ringing-02.bench.json --preview",
    "verify": "verrou harden -m hide-01.bench.json -b hide-01.toml --yes >/dev/null; "
    "verrou machine restart -m hide-01.bench.json; "
    "verrou verify -m hide-01.bench.json -b hide-01.toml --all | head -n 43",
    "undo": "verrou journal list -m hide-01.bench.json; echo; "
    "verrou undo -m hide-01.bench.json --override remote-blank-password --preview | head -n 37",
    "rule-explain": "verrou rule explain lockout.lasts password.min_length; echo; "
    "verrou rule show lockout -m warden-03",
}
TYPED = {"visit": ("verrou visit -m hide-01.bench.json", ("on", "hide-01.toml", "on", "leave", "stop"))}
"""What asks at a terminal, and what is typed."""
BETWEEN_LINES = 2
"""Seconds before each typed line, in which the question appears."""
ON_A_DISK = {
    "asked": "verrou access -m disk; verrou access -m disk --ask-system; "
    "verrou why tern console -m disk; verrou why tern console -m disk --ask-system",
}
"""What needs a Debian system whose own programs are asked. One of its modules is not what it is called."""
ACROSS = {
    "round": "verrou round lab.toml; echo; "
    "verrou rule set logon.remote-shell.denied=keeper -m ssh://keeper@hide-04 --yes; echo; "
    "verrou harden -m ssh://keeper@hide-04 -b essential --preview",
}
"""What needs computers across a cable: five, of which one is off and one has no Python."""
PAGES = {
    "report": "verrou harden -m hide-01.bench.json -b hide-01.toml --yes; "
    "verrou machine restart -m hide-01.bench.json; "
    "verrou report -m hide-01.bench.json -b hide-01.toml --save report.html",
    "round-page": "verrou round surveys --baselines which.toml --html round-page.html",
    "trend-picture": "verrou trend --on 2026-09-14 --save trend-picture.html",
}
"""Pages, and what writes each."""
PATIENCE = 40
"""Seconds that a command may take."""


def in_colour(command: str) -> str:
    """A pipe shows no colour; a terminal of its own in front of the pipe does."""
    before, bar, after = command.partition(" | ")
    if not bar:
        return command
    return f"script -qec {shlex.quote('stty cols 118; ' + before)} /dev/null | {after}"


def typed_into(command: str, lines: Iterable[str]) -> str:
    """A command at a terminal of its own, at which these lines are typed."""
    typing = f"for line in {shlex.join(lines)}; do sleep {BETWEEN_LINES}; printf '%s\\n' \"$line\"; done"
    return f"({typing}; sleep 1) | script -qec {shlex.quote('stty cols 118; ' + command)} /dev/null"


def take(
    name: str,
    command: str,
    folder: Path,
    display: str,
    lines: Iterable[str] = (),
    there: Mapping[str, str] = MappingProxyType({}),
) -> None:
    """A command in a terminal window; ``there`` is how computers across a cable are reached, by :func:`lab`."""
    path = ":".join(filter(None, (there.get("PATH"), str(Path(sys.executable).parent), os.environ["PATH"])))
    environment = {**os.environ, "DISPLAY": display, "PATH": path}
    run = typed_into(command, lines) if lines else in_colour(command)
    heading = f"printf '%s\\n\\n' {shlex.quote('$ ' + command)}"
    shown = f"{BEFORE.get(name, '')}{heading}; {run}; touch {folder}/{name}.done; sleep 60"
    window = subprocess.Popen(
        [
            *("xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x46+0+0", "-bg", "#101418"),
            *(
                "-fg",
                "#d8dee6",
                "-xrm",
                "xterm*scrollBar: false",
                "-e",
                *there.get("NET", "").split(),
                "bash",
                "-c",
                shown,
            ),
        ],
        cwd=folder,
        env=environment,
    )
    try:
        done = folder / f"{name}.done"
        until = time.monotonic() + PATIENCE
        while not done.exists() and time.monotonic() < until:
            time.sleep(0.1)
        time.sleep(0.4)
        target = PICTURES / f"{name}.png"
        subprocess.run(["import", "-window", "root", str(target)], env=environment, check=True)
    finally:
        window.terminate()
        window.wait()


def take_page(name: str, command: str, folder: Path) -> None:
    """A page in a browser without a screen."""
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    subprocess.run(command, shell=True, cwd=folder, env=environment, check=False, capture_output=True)
    subprocess.run(
        [
            *("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"),
            *("--disable-background-networking", f"--window-size={SIZE.replace('x', ',')}"),
            *(f"--screenshot={PICTURES / name}.png", (folder / f"{name}.html").as_uri()),
        ],
        check=True,
        capture_output=True,
    )


@contextmanager
def debian_disk(folder: Path, verrou: str) -> Iterator[None]:
    """A Debian root in ``folder/disk``, in which pam_localuser.so is another module by that name."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from debian_root import PrivateRoot, base_root

    with PrivateRoot.over(base_root(), folder / "disk") as disk:
        for name, role in (("warden", "administrator"), ("tern", "standard")):
            words = [verrou, "account", "add", name, "--role", role, "--keep-password", "--password", "stdin", "--yes"]
            subprocess.run(
                [*words, "-m", str(disk.path)], input=b"kittiwake-Cliff-42\n", capture_output=True, check=True
            )
        modules = next((disk.path / "usr/lib").glob("*/security"))
        (modules / "pam_localuser.so").write_bytes((modules / "pam_deny.so").read_bytes())
        disk.write("/etc/hostname", "warden-03\n")
        disk.write("/etc/pam.d/login", "account required pam_localuser.so\n" + disk.read("/etc/pam.d/login"))
        yield


@contextmanager
def lab(folder: Path) -> Iterator[dict[str, str]]:
    """The computers of ``lab.toml`` in ``folder``; yields the environment in which ssh finds them."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from debian_root import SUITE, base_root
    from far_machine import BESIDE, Cable, FarMachine, people

    far, base = folder / "far", base_root(SUITE, BESIDE)
    far.mkdir()
    names = ["hide-04", "hide-05", "ringing-06", "ringing-07", "hide-08"]
    lines = [f'{name} = {{ at = "ssh://keeper@{name}", baseline = "essential" }}' for name in names]
    (folder / "lab.toml").write_text("\n".join(["[machines]", *lines]))
    with Cable.laid(far) as cable, ExitStack() as until_taken:
        for number, name in enumerate(names, start=4):
            if name == "hide-08":
                cable.name(name, f"127.0.0.{number}", "keeper")
                continue
            machine = until_taken.enter_context(FarMachine.up(cable, name, base, far, number))
            people(machine, (far / "key.pub").read_text())
            machine.shell(f"echo {number:032x} > /etc/machine-id")
            if name == "ringing-06":
                machine.shell("rm /usr/bin/python3*")
            cable.name(name, machine.address, "keeper")
            cable.trust(machine)
        yield {"PATH": f"{far}/bin", "NET": " ".join(cable.inside)}


def main() -> None:
    PICTURES.mkdir(parents=True, exist_ok=True)
    required = sys.argv[1:] or [*SHOTS, *TYPED, *ON_A_DISK, *ACROSS, *PAGES]
    display = f":{90 + os.getpid() % 9}"
    server = subprocess.Popen(["Xvfb", display, "-screen", "0", f"{SIZE}x24"], stderr=subprocess.DEVNULL)
    try:
        until = time.monotonic() + 30
        while not Path(f"/tmp/.X11-unix/X{display[1:]}").exists() and time.monotonic() < until:
            time.sleep(0.1)
        time.sleep(1)
        with tempfile.TemporaryDirectory() as folder:
            here = Path(folder, "demo")
            verrou = str(Path(sys.executable).with_name("verrou"))
            subprocess.run([verrou, "demo", str(here), "--quiet"], stdout=subprocess.DEVNULL, check=True)
            for name, (command, lines) in TYPED.items():
                if name in required:
                    take(name, command, here, display, lines)
            for name, command in SHOTS.items():
                if name in required or name == "verify":
                    take(name, command, here, display)
            for name, command in ON_A_DISK.items():
                if name in required:
                    with debian_disk(here, verrou):
                        take(name, command, here, display)
            for name, command in ACROSS.items():
                if name in required:
                    with lab(here) as there:
                        take(name, command, here, display, there=there)
            for name, command in PAGES.items():
                if name in required:
                    take_page(name, command, Path(folder, "demo"))
    finally:
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
