"""The one procedure by which every command changes a machine, stage by stage."""

import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext

from attrs import define, evolve, field

from verrou.cli.arrival import keep_arrival
from verrou.cli.change_options import ChangeSettings
from verrou.cli.observing import looked_at
from verrou.cli.output import agreed, typed_command
from verrou.cli.passwords import collect_passwords
from verrou.cli.user import user
from verrou.core.baselines.baseline import Baseline
from verrou.core.errors import BadInput, BrokeOff, GuardRefused, MachineRefused, NotEnoughRights
from verrou.core.history.entries import RunState
from verrou.core.judging import administrator_guards, guards
from verrou.core.judging.audit import audit
from verrou.core.model import Snapshot, counted
from verrou.core.model.verdicts import Result
from verrou.core.planning.notices import notices
from verrou.core.prediction.account_creation import NoWay
from verrou.core.steps.step import GIVES_PASSWORD, Step, TrySignIn, account_of
from verrou.machines.changes import Outcome, Secrets
from verrou.machines.protocol import Machine, to_change
from verrou.records.dry_runs import DryRun, Mismatch, do_dry_run, only_tries, predicted_run, with_files
from verrou.records.transactions import RunInfo, check_whole, commit, note
from verrou.reports.findings import audit_table, trials_table
from verrou.reports.plan_tables import plan_table, results_table
from verrou.reports.tables import BAD, DOUBTFUL, complain, console, print_table, shown


@define(repr=False)
class ChangeRun:
    """A change of a machine: dry run, preview, guards, question, passwords, commit.

    With a baseline, steps that the machine would reject are left out; otherwise nothing is done then."""

    machine: Machine
    snapshot: Snapshot
    steps: Sequence[Step]
    settings: ChangeSettings
    baseline: Baseline | None = None
    info: RunInfo = field(init=False)
    _secrets: Secrets = field(factory=Secrets, init=False)
    _generated: Secrets = field(factory=Secrets, init=False)

    def run(self) -> DryRun:
        """Go through all stages and return the dry run that was shown or applied.

        Raises: VerrouError: it was refused, by a guard, the machine or the user."""
        self._check_possible()
        dry_run = self._first_dry_run()
        if dry_run.prediction_reason and not self.settings.looking:
            raise MachineRefused(f"nothing was changed: {dry_run.prediction_reason}; to see a prediction: --preview")
        if not self._only_tests or self.settings.preview:
            with nullcontext() if self.settings.looking else _read_by_somebody():
                show_plan(dry_run, self.baseline, self.settings.overridden)
                sys.stdout.flush()
        self._refuse(dry_run)
        if self.settings.looking:
            console().print("This is a preview; nothing was changed.")
            return dry_run
        self._ask()
        if self._prompts:
            dry_run = self._dry_run(with_passwords=True)
            _print_trials(dry_run)
            self._refuse(dry_run)
        return self._apply(dry_run) if dry_run.changes and not self._only_tests else self._record(dry_run)

    @property
    def _only_tests(self) -> bool:
        return only_tries(self.steps)

    @property
    def _prompts(self) -> bool:
        """Whether the user is asked for a password, which is only done after the confirmation."""
        return self.settings.typed and any(_asks(step, self.steps) for step in self.steps)

    def _check_possible(self) -> None:
        """Check what can be known before a dry run. Raises: MachineRefused, NotEnoughRights, BadInput."""
        settings = self.settings
        self.info = RunInfo(typed_command(), self.baseline.title if self.baseline else "", settings.overridden)
        changeable = None if settings.looking else to_change(self.machine)
        if self.snapshot.machine.unread:
            one = self.snapshot.machine.full_rights
            raise NotEnoughRights(f"{self.machine.name}: this account can read but not change it. Run as {one}.")
        if changeable is not None:
            check_whole(changeable)
        unconfirmed = not (settings.looking or settings.yes or settings.typed or self._only_tests)
        if unconfirmed and any(map(_needs_secret, self.steps)):
            raise BadInput("standard input carries passwords, so it cannot confirm. Add --yes.")

    def _first_dry_run(self) -> DryRun:
        if self.settings.no_dry_run:
            steps = with_files(self.machine, self.snapshot, self.steps)
            return predicted_run(self.snapshot, steps, "of --no-dry-run")
        return self._dry_run(with_passwords=not (self.settings.preview or self._prompts))

    def _dry_run(self, *, with_passwords: bool) -> DryRun:
        """Do a dry run: with the passwords, or else with stand-ins, and with tests where no later one has them."""
        if with_passwords:
            self._secrets, self._generated = collect_passwords(self.steps, self.snapshot, self.settings.typed)
        test = self.settings.test and (with_passwords or self.settings.preview)
        with console(stderr=True).status("Dry run on a private copy"):
            return do_dry_run(self.machine, self.snapshot, self.steps, self._secrets, test)

    def _refuse(self, dry_run: DryRun) -> None:
        """Stop where a guard or the machine refuses, before anything is changed; the journal records a refused change.

        Raises: GuardRefused, MachineRefused: with the reason."""
        try:
            self._check(dry_run)
        except (GuardRefused, MachineRefused) as refused:
            if not self.settings.looking:
                note(self.machine, dry_run, RunState.REJECTED, self.info, str(refused))
            raise

    def _check(self, dry_run: DryRun) -> None:
        whole, failed = self.baseline is None, dry_run.candidate.failed_trials
        refusals = guards.refusals_on(dry_run.candidate, self.info.overridden)
        if failed and (whole or any(refusal.guard == administrator_guards.UNTRIED for refusal in refusals)):
            words = "\n".join(f"test sign-in of {name} failed: {message}" for name, message in failed.items())
            raise MachineRefused(f"{words}\nnothing was changed")
        guards.refuse(refusals)
        if dry_run.blockers:
            raise MachineRefused("nothing was changed: " + "\n".join(dry_run.blockers))
        if whole and dry_run.rejected:
            message = "\n".join(f"step rejected: {step.what}: {r.message}" for step, r in dry_run.rejected)
            raise MachineRefused(f"{message}\nnothing was changed")
        if whole and dry_run.mismatches:
            raise MachineRefused("\n".join(map(mismatch_text, dry_run.mismatches)) + "\nnothing was changed")
        if disproved := [trial for trial in dry_run.trials if trial.result is Result.FAILED]:
            rules = ", ".join(dict.fromkeys(trial.rule for trial in disproved))
            raise MachineRefused(f"nothing was changed: tests failed on the private copy for {rules}")

    def _ask(self) -> None:
        if not (self.settings.yes or self._only_tests):
            asked = "this step" if len(self.steps) == 1 else f"these {len(self.steps)} steps"
            agreed(f"Apply {asked} to {shown(self.machine.name)}?")

    def _record(self, dry_run: DryRun) -> DryRun:
        """Record a run that changes nothing."""
        state = RunState.TESTED if self._only_tests else RunState.UNCHANGED
        note(self.machine, dry_run, state, self.info)
        _print_results(dry_run)
        console().print("Nothing was changed." if self._only_tests else "No changes were needed.")
        return dry_run

    def _apply(self, dry_run: DryRun) -> DryRun:
        number, applied = self._commit(dry_run)
        keep_arrival(self.machine, applied, number, self.info)
        _print_results(applied)
        console().print(f"Recorded as journal entry {number}. To revert: verrou undo")
        return evolve(applied, entry=number)

    def _commit(self, dry_run: DryRun) -> tuple[int, DryRun]:
        """Commit a dry run. Generated passwords are handed over first, so that losing them loses nothing."""
        file, generated, handed = self.settings.password_file, self._generated, False

        def give(applying: DryRun, entry: int) -> None:
            nonlocal handed
            given = Secrets({name: password for name, password in generated.items() if _gets(applying, name)})
            if generated:
                user().hand_over(given, file)
                handed = bool(given)
            user().before_applying(entry)

        if generated and file is not None:
            user().reserve(file)
        try:
            return commit(to_change(self.machine), dry_run, self._secrets, self.info, give)
        except BrokeOff:
            raise  # a part, or all, was applied: the passwords are needed to finish it
        except BaseException:
            if file is not None and generated:
                user().discard(file)
            elif handed:
                complain("the generated passwords were not set")
            raise


def single(machine: Machine, make: Callable[[Snapshot], Sequence[Step]], settings: ChangeSettings) -> None:
    """Observe the machine, make the steps, and change it."""
    snapshot = look_before(machine, settings)
    try:
        steps = guards.with_trials(snapshot, make(snapshot))
    except NoWay as reason:
        raise BadInput(str(reason)) from None
    ChangeRun(machine, snapshot, steps, settings).run()


def look_before(machine: Machine, settings: ChangeSettings) -> Snapshot:
    """Observe a machine that is to be changed as the settings say."""
    return looked_at(machine, changing=not settings.looking, asked=not settings.no_dry_run)


@contextmanager
def _read_by_somebody() -> Iterator[None]:
    try:
        yield
    except BrokenPipeError:
        raise MachineRefused("nothing was changed: the output could not be written") from None


def _needs_secret(step: Step) -> bool:
    if isinstance(step, TrySignIn):
        return not step.blank
    return isinstance(step, GIVES_PASSWORD) and step.password == "ask"


def _asks(step: Step, steps: Sequence[Step]) -> bool:
    """Return whether the user has to be asked for the password of a step; the plan may set it itself."""
    if isinstance(step, TrySignIn):
        given = any(isinstance(other, GIVES_PASSWORD) and other.account == step.account for other in steps)
        return not step.blank and not given
    return _needs_secret(step)


def _gets(dry_run: DryRun, name: str) -> bool:
    return any(account_of(s) == name and r.outcome is Outcome.DONE for s, r in dry_run.steps)


def show_plan(dry_run: DryRun, baseline: Baseline | None, overridden: Sequence[str] = ()) -> None:
    """Print the plan with the result of the dry run, notices, and what would be met afterwards."""
    out = console()
    print_table(out, plan_table(dry_run.steps, dry_run.before, dry_run_made=not dry_run.prediction_reason))
    if dry_run.prediction_reason:
        out.print(f"Predicted only; no dry run: {shown(dry_run.prediction_reason)}.", style=DOUBTFUL)
    steps = [step for step, _ in dry_run.steps]
    left_alone = notices(dry_run.before, dry_run.after, steps)
    arrival = guards.arrival_warnings(dry_run.candidate, overridden)
    for remark in (*arrival, *guards.warnings(dry_run.candidate), *left_alone, *dry_run.notices):
        out.print(shown(remark), style=DOUBTFUL)
    for mismatch in dry_run.mismatches:
        out.print(shown(mismatch_text(mismatch)), style=BAD)
    if baseline is not None:
        after = audit(dry_run.after, baseline)
        out.print(f"Afterwards {after.tally}.", style="bold")
        left = audit_table(after.applicable_only(), every=False)
        if left.rows:
            print_table(out, left)
    _print_trials(dry_run)
    out.print()


def mismatch_text(mismatch: Mismatch) -> str:
    """Return the text about a result that differs from the request."""
    return f"{mismatch.subject}: requested {mismatch.asked}, but the machine would set {mismatch.came_out}"


def _print_trials(dry_run: DryRun) -> None:
    if dry_run.trials:
        out = console()
        out.print()
        out.print("Tests on the private copy (nothing is changed yet):")
        print_table(out, trials_table(dry_run.trials))


def _print_results(dry_run: DryRun) -> None:
    """Print the results: each test, and the number of other steps, which the plan has listed."""
    if only_tries([step for step, _ in dry_run.steps]):
        print_table(console(), results_table(dry_run.steps))
        return
    counts = [(outcome, sum(r.outcome is outcome for _, r in dry_run.steps)) for outcome in Outcome]
    words = {Outcome.DONE: "done", Outcome.UNCHANGED: "already in place", Outcome.REJECTED: "rejected by the machine"}
    text = ", ".join(f"{counted(n, 'step')} {words[outcome]}" for outcome, n in counts if n)
    console().print(f"{text[:1].upper()}{text[1:]}.")
