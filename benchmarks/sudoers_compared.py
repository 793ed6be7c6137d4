"""Sudoers files that nobody wrote, read by Verrou and by sudo itself in a throwaway root. Prints how many files and
answers were compared, and each that differs.

Run as root; ``sudoers_compared.py 500`` compares 500 files. Promised: no difference.
"""

import random
import sys
import tempfile
import warnings
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from debian_root import PrivateRoot, base_root
from sudoers_files import LINES, manned, put, sudo_says, we_say
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare


def main() -> None:
    most = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    unshare(CLONE_NEWNS)
    private_mounts()
    warnings.simplefilter("ignore")
    random.seed(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
    compared = answers = different = 0
    with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(base_root(), Path(folder, "root")) as root:
        manned(root)
        for _ in range(most):
            text = "\n".join(LINES.example()) + "\n"
            put(root, text)
            compared += 1
            theirs, mine = sudo_says(root), we_say(root)
            wrong = {pair: (mine[pair], theirs[pair]) for pair in theirs if mine[pair] not in (None, theirs[pair])}
            answers += sum(answer is not None for answer in mine.values())
            if wrong:
                different += 1
                print(f"--- {text}    ours, sudo: {wrong}", flush=True)
    print(f"{compared} files, {answers} answers compared, {different} files differ (promised: none)")
    raise SystemExit(1 if different else 0)


if __name__ == "__main__":
    main()
