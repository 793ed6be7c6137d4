"""What a dry run costs on a real root: seconds, and as a ratio to one survey of the same root in the same run.

Run as root. Promised: less than a second, the mounts included.
"""

import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from debian_root import PrivateRoot, base_root
from verrou.cli.baseline_files import load_baseline
from verrou.core.judging.audit import audit
from verrou.core.model import Role
from verrou.core.planning.change_plan import plan_changes
from verrou.core.steps.step import CreateAccount
from verrou.machines.changes import Secrets
from verrou.machines.linux.copy.sandbox import CLONE_NEWNS, private_mounts, unshare
from verrou.machines.registry import open_machine
from verrou.records.dry_runs import do_dry_run

ROUNDS = 7


def seconds(work: Callable[[], object]) -> float:
    times = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def main() -> None:
    unshare(CLONE_NEWNS)
    private_mounts()
    with tempfile.TemporaryDirectory() as folder, PrivateRoot.over(base_root(), Path(folder, "root")) as root:
        machine = open_machine(str(root.path))
        snapshot = machine.observe()
        baseline = load_baseline("shared-desk")
        hardening = plan_changes(snapshot, baseline, audit(snapshot, baseline)).steps
        survey = seconds(machine.observe)

        def dry_run_made(*steps: object, prove: bool = False) -> Callable[[], object]:
            def work() -> object:
                done = do_dry_run(machine, snapshot, list(steps), Secrets(), prove)  # type: ignore[arg-type]
                assert not done.prediction_reason
                return done

            return work

        print(f"a survey: {survey * 1000:.0f} ms")
        for what, work in {
            "nothing, the copy alone": dry_run_made(),
            "an account added": dry_run_made(CreateAccount("tern", Role.STANDARD)),
            f"harden, {len(hardening)} steps, modules put into the PAM stack": dry_run_made(*hardening),
            "the same, and proved by trials": dry_run_made(*hardening, prove=True),
        }.items():
            took = seconds(work)
            print(f"dry run of {what}: {took:.2f} s, {took / survey:.1f} times a survey")


if __name__ == "__main__":
    main()
