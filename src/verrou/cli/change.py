"""verrou harden, and the one procedure by which every command changes a machine."""

import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import click
from attrs import evolve

from verrou.cli import completing
from verrou.cli.keeping import Keeping, keeping
from verrou.cli.options import (
    F,
    OneOf,
    agreed,
    baseline_option,
    collect_passwords,
    hand_over,
    load_baseline,
    looked_at,
    machine_option,
    reserve,
    typed_command,
)
from verrou.core import guards
from verrou.core.errors import BadInput, BrokeOff, MachineRefused, NotEnoughRights
from verrou.core.model import Snapshot, counted
from verrou.core.plan.steps import GIVES_PASSWORD, Step, TrySignIn, account_of
from verrou.machines import Machine, Outcome, Secrets

if TYPE_CHECKING:
    from verrou.core.audit import Audit
    from verrou.core.baseline import Baseline
    from verrou.records.carry_out import DryRun, RunInfo


def override_option(names: Sequence[str]) -> Callable[[F], F]:
    """Add ``--override GUARD`` with the guards that can be overridden."""
    return click.option(
        "--override",
        "accepted",
        multiple=True,
        type=OneOf(names),
        help="Override this guard. The journal records it.",
    )


def change_options(*passwords: str, changes: bool = True) -> Callable[[F], F]:
    """Add the options of commands that change a machine.

    They are ``-m``, ``--yes``, ``--preview``, ``--test``, ``--no-dry-run``, ``--override``, and where passwords come
    from. All but the machine reach the command as ``how``, for :func:`change`. With ``passwords``, the ways to supply a
    new password (see :data:`verrou.core.plan.steps.HOW_A_PASSWORD_COMES`), the command gets the one chosen as
    ``password``. A command that only tests, and ``changes`` nothing, has the machine and the password alone."""

    def decorate(command: F) -> F:
        @wraps(command)
        def gathered(
            *args: Any,
            password: str,
            yes: bool = False,
            preview: bool = False,
            test: bool = False,
            no_dry_run: bool = False,
            accepted: tuple[str, ...] = (),
            password_file: Path | None = None,
            **kwargs: Any,
        ) -> Any:
            how = {"yes": yes, "preview": preview, "test": test, "no_dry_run": no_dry_run, "accepted": accepted}
            how |= {"typed": password != "stdin", "password_file": password_file}
            if passwords:
                kwargs["password"] = "ask" if password == "stdin" else password
            return command(*args, how=how, **kwargs)

        of_changes = [
            override_option(guards.ACCEPTABLE),
            click.option("--no-dry-run", is_flag=True, help="Skip the dry run: show the predicted result and stop."),
            click.option("--test", is_flag=True, help="Run the tests on the private copy before anything is changed."),
            click.option("--preview", is_flag=True, help="Do a dry run on a private copy, show the result, and stop."),
            click.option("--yes", is_flag=True, help="Skip the confirmation prompt."),
        ]
        options = [
            *(of_changes if changes else ()),
            machine_option,
        ]
        if "generate" in passwords:
            options.append(
                click.option(
                    "--password-file", type=click.Path(path_type=Path), help="New file for generated passwords."
                )
            )
        options.append(
            click.option(
                "--password",
                type=OneOf(passwords or ("ask", "stdin")),
                default="ask",
                show_default=True,
                help=_password_help(passwords),
            )
        )
        for option in options:
            gathered = option(gathered)
        return cast(F, gathered)

    return decorate


def _password_help(passwords: Sequence[str]) -> str:
    if not passwords:
        return "How to supply the current password of an account that is tested: hidden prompt or standard input."
    more = (", or made" if "generate" in passwords else "") + (", or none at all" if "blank" in passwords else "")
    return f"Typed at a hidden prompt, or a line of standard input{more}."


def change(
    machine: Machine,
    snapshot: Snapshot,
    steps: Sequence[Step],
    *,
    yes: bool,
    preview: bool,
    test: bool = False,
    no_dry_run: bool = False,
    typed: bool = True,
    password_file: Path | None = None,
    baseline: "Baseline | None" = None,
    accepted: Sequence[str] = (),
) -> "DryRun":
    """Do a dry run of the plan, show it, ask, apply it, and print the result of each step.

    Exits with the code of a refusal. With a baseline, steps that the machine would reject are left out; otherwise
    nothing is done."""
    from verrou.core.entries import RunState
    from verrou.records import carry_out
    from verrou.records.carry_out import RunInfo
    from verrou.reports.sheets import console, shown

    looking = preview or no_dry_run
    if machine.only_read and not looking:
        raise MachineRefused(f"{machine.name}: {machine.only_read}")
    if snapshot.machine.unread:
        raise NotEnoughRights(f"{machine.name}: this account can read but not change it. Run as root.")
    out = console()
    info = RunInfo(typed_command(), baseline.title if baseline else "", tuple(accepted))
    attempts = carry_out.only_tries(steps)
    prompts = typed and any(_asks(step, steps) for step in steps)
    secrets, generated = Secrets(), Secrets()
    if not looking:
        carry_out.check_whole(machine)
    if no_dry_run:
        dry_run = carry_out.predicted_run(snapshot, carry_out.with_files(machine, snapshot, steps), "of --no-dry-run")
    else:
        if not (preview or prompts):
            if not (yes or typed or attempts) and any(map(_needs_secret, steps)):
                raise BadInput("standard input carries passwords, so it cannot confirm. Add --yes.")
            secrets, generated = collect_passwords(steps, snapshot, typed)
        dry_run = _dry_run(machine, snapshot, steps, secrets, test and (preview or not prompts))
    if dry_run.prediction_reason and not looking:
        raise MachineRefused(f"nothing was changed: {dry_run.prediction_reason}; to see a prediction: --preview")
    if not attempts or preview:
        with nullcontext() if looking else _read_by_somebody():
            _show(dry_run, baseline)
            sys.stdout.flush()
    _refuse(machine, dry_run, info, whole=baseline is None, kept=not looking)
    if looking:
        out.print("This is a preview; nothing was changed.")
        return dry_run
    if not (yes or attempts):
        asked = "this step" if len(steps) == 1 else f"these {len(steps)} steps"
        agreed(f"Apply {asked} to {shown(machine.name)}?")
    if prompts:
        secrets, generated = collect_passwords(steps, snapshot, typed)
        dry_run = _dry_run(machine, snapshot, steps, secrets, test)
        _print_trials(dry_run)
        _refuse(machine, dry_run, info, whole=baseline is None, kept=True)
    if attempts or not dry_run.changes:
        state = RunState.TESTED if attempts else RunState.UNCHANGED
        carry_out.note(machine, dry_run, state, info)
        _print_results(dry_run)
        out.print("Nothing was changed." if attempts else "No changes were needed.")
        return dry_run
    number, dry_run = _applied(machine, dry_run, secrets, generated, info, password_file)
    _print_results(dry_run)
    out.print(f"Recorded as journal entry {number}. To revert: verrou undo")
    return evolve(dry_run, entry=number)


@contextmanager
def _read_by_somebody() -> Iterator[None]:
    try:
        yield
    except BrokenPipeError:
        raise MachineRefused("nothing was changed: the output could not be written") from None


def _applied(
    machine: Machine,
    dry_run: "DryRun",
    secrets: Secrets,
    generated: Secrets,
    info: "RunInfo",
    password_file: Path | None,
) -> tuple[int, "DryRun"]:
    """Apply a dry run. Generated passwords are handed over first, so that losing them loses nothing."""
    from verrou.records import carry_out
    from verrou.reports.sheets import complain

    handed = False

    def give(landing: "DryRun") -> None:
        nonlocal handed
        with _read_by_somebody():
            sys.stdout.flush()
        given = Secrets({name: password for name, password in generated.items() if _gets(landing, name)})
        if generated:
            hand_over(given, password_file)
            handed = bool(given)

    if generated and password_file is not None:
        reserve(password_file)
    try:
        return carry_out.commit(machine, dry_run, secrets, info, give)
    except BrokeOff:
        raise  # a part, or all, was applied: the passwords are needed to finish it
    except BaseException:
        if password_file is not None and generated:
            password_file.unlink(missing_ok=True)
        elif handed:
            complain("the generated passwords were not set")
        raise


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


def _gets(dry_run: "DryRun", name: str) -> bool:
    return any(account_of(s) == name and r.outcome is Outcome.DONE for s, r in dry_run.steps)


def _dry_run(machine: Machine, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool) -> "DryRun":
    from verrou.records.carry_out import do_dry_run
    from verrou.reports.sheets import console

    with console(stderr=True).status("Dry run on a private copy"):
        return do_dry_run(machine, snapshot, steps, secrets, test)


def _show(dry_run: "DryRun", baseline: "Baseline | None") -> None:
    """Print the plan with the result of the dry run, notices, and what would be met afterwards."""
    from verrou.core.plan.notices import notices
    from verrou.reports.findings import audit_table
    from verrou.reports.sheets import BAD, DOUBTFUL, console, print_table, shown
    from verrou.reports.worksheets import plan_table

    out = console()
    print_table(out, plan_table(dry_run.steps, dry_run.before, dry_run_made=not dry_run.prediction_reason))
    if dry_run.prediction_reason:
        out.print(f"Predicted only; no dry run: {shown(dry_run.prediction_reason)}.", style=DOUBTFUL)
    steps = [step for step, _ in dry_run.steps]
    left_alone = notices(dry_run.before, dry_run.after, steps)
    for remark in (*guards.warnings(dry_run.candidate), *left_alone, *dry_run.notices):
        out.print(shown(remark), style=DOUBTFUL)
    for surprise in dry_run.mismatches:
        out.print(shown(mismatch_text(surprise)), style=BAD)
    if baseline is not None:
        after = _held_against(dry_run.after, baseline)
        out.print(f"Afterwards {after.summary}.", style="bold")
        left = audit_table(after.applicable_only(), every=False)
        if left.rows:
            print_table(out, left)
    _print_trials(dry_run)
    out.print()


def mismatch_text(surprise: Any) -> str:
    return f"{surprise.subject}: requested {surprise.asked}, but the machine would set {surprise.came_out}"


def _held_against(snapshot: Snapshot, baseline: "Baseline") -> "Audit":
    from verrou.core.audit import audit

    return audit(snapshot, baseline)


def _print_trials(dry_run: "DryRun") -> None:
    from verrou.reports.findings import trials_table
    from verrou.reports.sheets import console, print_table

    if dry_run.trials:
        out = console()
        out.print()
        out.print("Tests on the private copy (nothing is changed yet):")
        print_table(out, trials_table(dry_run.trials))


def _print_results(dry_run: "DryRun") -> None:
    """Print the results: each test, and the number of other steps, which the plan has listed."""
    from verrou.records.carry_out import only_tries
    from verrou.reports.sheets import console, print_table
    from verrou.reports.worksheets import results_table

    if only_tries([step for step, _ in dry_run.steps]):
        print_table(console(), results_table(dry_run.steps))
        return
    counts = [(outcome, sum(r.outcome is outcome for _, r in dry_run.steps)) for outcome in Outcome]
    words = {Outcome.DONE: "done", Outcome.UNCHANGED: "already in place", Outcome.REJECTED: "rejected by the machine"}
    text = ", ".join(f"{counted(n, 'step')} {words[outcome]}" for outcome, n in counts if n)
    console().print(f"{text[:1].upper()}{text[1:]}.")


def _refuse(machine: Machine, dry_run: "DryRun", info: "RunInfo", *, whole: bool, kept: bool) -> None:
    """Stop where a guard or the machine refuses, before anything is changed. With ``kept`` the journal records it.

    Raises: GuardRefused, MachineRefused: with the reason."""
    from verrou.core.entries import RunState
    from verrou.core.errors import GuardRefused
    from verrou.core.trials import Result
    from verrou.records.carry_out import note

    try:
        failed = dry_run.candidate.failed_trials
        refusals = guards.refusals_on(dry_run.candidate, info.overridden)
        if failed and (whole or any(refusal.guard == guards.UNTRIED for refusal in refusals)):
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
    except (GuardRefused, MachineRefused) as refused:
        if kept:
            note(machine, dry_run, RunState.REJECTED, info, str(refused))
        raise


def single(machine: Machine, make: Callable[[Snapshot], Sequence[Step]], how: dict[str, Any]) -> None:
    """Observe the machine, make the steps, and change it by :func:`change`."""
    from verrou.core.guards import with_trials
    from verrou.core.plan.making import NoWay

    snapshot = looked_at(machine, changing=not (how["preview"] or how["no_dry_run"]), asked=not how["no_dry_run"])
    try:
        steps = with_trials(snapshot, make(snapshot))
    except NoWay as reason:
        raise BadInput(str(reason)) from None
    change(machine, snapshot, steps, **how)


def _print_not_met(after: "Audit") -> None:
    """Print the findings that are still not met, for the end of a run."""
    from verrou.core.audit import Verdict
    from verrou.reports.sheets import console

    not_met = [f.subject for f in after.findings if f.verdict in (Verdict.NOT_MET, Verdict.UNKNOWN)]
    if not_met:
        console().print(f"Still not met: {', '.join(not_met)}.")


@click.command()
@baseline_option
@click.option(
    "--only",
    "families",
    multiple=True,
    metavar="FAMILY",
    shell_complete=completing.families,
    help="Only this family of rules; can be repeated.",
)
@click.option("--password-file", type=click.Path(path_type=Path), help="New file for generated passwords.")
@keeping
@change_options()
def harden(
    machine: Machine,
    baseline_name: str,
    families: tuple[str, ...],
    kept: Keeping,
    how: dict[str, Any],
) -> None:
    """Bring a machine up to a baseline: dry run, preview, confirmation, change."""
    from verrou.core.logbook import Run
    from verrou.core.plan.change_plan import plan_changes
    from verrou.core.rules import CATALOGUE
    from verrou.reports.sheets import console, print_table, shown
    from verrou.reports.worksheets import manual_table

    known = sorted({rule.family for rule in CATALOGUE.values()} | {"accounts", "groups"})
    for family in families:
        if family not in known:
            raise click.BadParameter(
                f"invalid value {family!r}; expected one of {', '.join(known)}", param_hint="--only"
            )
    baseline = load_baseline(baseline_name)
    looking = bool(how["preview"] or how["no_dry_run"])
    snapshot = looked_at(machine, changing=not looking, asked=not how["no_dry_run"])
    found = _held_against(snapshot, baseline)
    plan = plan_changes(snapshot, baseline, found, frozenset(families))
    out = console()
    if (manual := manual_table(plan)).rows:
        print_table(out, manual)
        out.print()
    after, all_done = found, True
    if plan.steps:
        done = change(machine, snapshot, plan.steps, baseline=baseline, **how)
        after, all_done = _held_against(done.after, baseline), not (done.rejected or done.mismatches)
        snapshot, trials, entry = done.after, done.trials, done.entry
    else:
        out.print(f"{shown(machine.name)}: no step can improve the result.")
        trials, entry = (), None
    if (later := manual_table(plan, waits=True)).rows:
        out.print()
        print_table(out, later)
        out.print()
    if not looking:
        kept.record(Run.HARDEN, snapshot, after, baseline, trials=trials, entry=entry)
        out.print(f"{after.summary}. To test it: verrou verify", style="bold")
    _print_not_met(after)
    if not all_done:
        raise MachineRefused(
            "some steps would not give the requested result (see above)"
            if looking
            else "some steps did not give the requested result (see above); the others were applied. "
            "To revert: verrou undo"
        )
    click.get_current_context().exit(0 if after.all_met else 1)
