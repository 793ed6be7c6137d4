"""Takes the pictures in docs/screenshots/ anew: each main command on the demo data, in a terminal window under Xvfb.

Needs Debian's xvfb, xterm, imagemagick and fonts-dejavu-core, and verrou in the same environment as this Python.
"""

import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SIZE = "1280x800"
PICTURES = Path(__file__).parent.parent / "docs/screenshots"
SHOTS = {
    "demo": "verrou demo elsewhere | tail -n 44",
    "survey": "verrou survey -m warden-03 | head -n 45",
    "account-list": "verrou account list -m warden-03; echo; verrou account list -m ringing-02.bench.json",
    "account-show": "verrou account show warden -m warden-03 2>/dev/null; echo; "
    "verrou account show bors -m ringing-02.bench.json",
    "access": "verrou access -m hide-01.bench.json; echo; verrou why guillemot console -m hide-01.bench.json; echo; "
    "verrou why tern remote-screen -m hide-01.bench.json; echo; verrou access -m warden-03 2>/dev/null",
    "signin": "verrou signin -m hide-01.bench.json; echo; verrou rule show elevation -m hide-01.bench.json",
    "swap": "verrou account swap ringer warden -m ringing-02.bench.json --preview; echo; "
    "verrou account show petrel -m ringing-02.bench.json",
    "leaving": "verrou group list -m ringing-02.bench.json; echo; "
    "verrou account remove guillemot --files archive -m hide-01.bench.json",
    "password": "verrou account password ana -m ringing-02.bench.json --password stdin --yes <<< ana7; echo; "
    "verrou account password ana -m ringing-02.bench.json --password generate --yes",
    "audit": "verrou audit -m hide-01.bench.json -b hide-01.toml | head -n 45",
    "harden": "verrou harden -m hide-01.bench.json -b hide-01.toml --preview | head -n 47",
    "would-be-refused": "verrou harden -m warden-03 -b shared-desk --preview 2>/dev/null | head -n 47",
    "prove": "verrou rule set lockout.after=4 'lockout.lasts=1 hour' password.min_length=14 -m ringing-02.bench.json "
    "--preview --prove",
    "refused": "verrou account disable keeper -m hide-01.bench.json --yes; echo; "
    "verrou baseline check with-errors.toml",
    "verify": "verrou harden -m hide-01.bench.json -b hide-01.toml --yes >/dev/null; "
    "verrou machine restart -m hide-01.bench.json; "
    "verrou verify -m hide-01.bench.json -b hide-01.toml",
    "journal": "verrou journal list -m hide-01.bench.json; verrou journal show 3 -m hide-01.bench.json | head -n 38",
    "undo": "verrou undo -m hide-01.bench.json --accept open-guest",
    "rule-explain": "verrou rule explain lockout.lasts password.min_length; echo; "
    "verrou rule show lockout -m warden-03",
}
WAITS_FOR_AN_ANSWER = "--accept open-guest"


def in_colour(command: str) -> str:
    """A pipe shows no colour; a terminal of its own in front of the pipe does."""
    before, bar, after = command.partition(" | ")
    if not bar:
        return command
    return f"script -qec {shlex.quote('stty cols 118; ' + before)} /dev/null | {after}"


def take(name: str, command: str, folder: Path, display: str) -> None:
    environment = {**os.environ, "DISPLAY": display, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    shown = (
        f"printf '%s\\n\\n' {shlex.quote('$ ' + command)}; {in_colour(command)}; touch {folder}/{name}.done; sleep 60"
    )
    window = subprocess.Popen(
        [
            *("xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x46+0+0", "-bg", "#101418"),
            *("-fg", "#d8dee6", "-xrm", "xterm*scrollBar: false", "-e", "bash", "-c", shown),
        ],
        cwd=folder,
        env=environment,
    )
    try:
        patience = 5.0 if command.endswith(WAITS_FOR_AN_ANSWER) else 20.0
        done = folder / f"{name}.done"
        until = time.monotonic() + patience
        while not done.exists() and time.monotonic() < until:
            time.sleep(0.1)
        time.sleep(0.4)
        target = PICTURES / f"{name}.png"
        subprocess.run(["import", "-window", "root", str(target)], env=environment, check=True)
    finally:
        window.terminate()
        window.wait()


def main() -> None:
    PICTURES.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or list(SHOTS)
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
            for name, command in SHOTS.items():
                if name in wanted or name == "verify":
                    take(name, command, here, display)
    finally:
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
