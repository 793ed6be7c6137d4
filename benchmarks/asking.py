"""What it costs to ask the system itself: ``verrou access`` with --ask-system as a ratio to --files-only, in turn.

Run as root. The people have homes, and each fourth one a key or a locked password.

Promised: at most 1.3 times, on a plain root and on a desktop's with 200 accounts.
"""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from debian_root import DESKTOP, PACKAGES, SUITE, PrivateRoot, base_root
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare

ROUNDS = 9
PROMISED = 1.3
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYLVDhmzhi3YUgdXk0 x\n"


def people(root: PrivateRoot, count: int) -> None:
    """The first two administer."""
    names = [f"ringer{number}" for number in range(count)]
    lines = "".join(f"{name}:x:{2000 + at}:{2000 + at}::/home/{name}:/bin/bash\n" for at, name in enumerate(names))
    root.inside("newusers", typed=lines)
    root.inside("chpasswd", "-c", "SHA256", typed="".join(f"{name}:kittiwake-Cliff-42\n" for name in names))
    for name in names[:2]:
        root.inside("usermod", "-aG", "sudo", name)
    for name in names[2::8]:
        root.write(f"/home/{name}/.ssh/authorized_keys", KEY)
        root.inside("chown", "-R", f"{name}:{name}", f"/home/{name}/.ssh")
    for name in names[6::8]:
        root.inside("usermod", "-L", name)


def seconds(*words: str) -> float:
    start = time.perf_counter()
    verrou = str(Path(sys.executable).with_name("verrou"))
    subprocess.run([verrou, "access", *words], capture_output=True, check=True)
    return time.perf_counter() - start


def main() -> None:
    unshare(CLONE_NEWNS)
    private_mounts()
    for name, beside, count in (("a plain root", (), 12), ("a desktop's", DESKTOP, 200)):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder, "warden-03")
            with PrivateRoot.over(base_root(SUITE, beside, PACKAGES), place) as root:
                people(root, count)
                times: dict[str, list[float]] = {"--files-only": [], "--ask-system": []}
                for _ in range(ROUNDS):
                    for how, taken in times.items():
                        taken.append(seconds("-m", str(place), how))
        read, asked = (statistics.median(taken) for taken in times.values())
        ratio = f"{asked / read:.2f} times, promised {PROMISED}"
        print(f"{name} with {count} accounts: read {read * 1000:.0f} ms, asked {asked * 1000:.0f} ms: {ratio}")


if __name__ == "__main__":
    main()
