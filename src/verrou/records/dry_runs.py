"""Dry runs: a plan done on a private copy of the machine, observed and tested; or predicted where there is no copy."""

from collections.abc import Collection, Iterator, Sequence
from random import SystemRandom

from attrs import evolve, field, frozen

from verrou.core.judging import review
from verrou.core.model import AccountName, Role, Snapshot, Status
from verrou.core.model.access import role_of, usable_administrators
from verrou.core.model.background_jobs import own_jobs
from verrou.core.model.verdicts import TrialResult
from verrou.core.prediction.predict import predict
from verrou.core.rules import CATALOGUE, reading_of
from verrou.core.steps.step import (
    GIVES_PASSWORD,
    CreateAccount,
    Remove,
    Rename,
    SetEnabled,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    takes_access,
)
from verrou.core.testing.passwords import make_password, policy_of
from verrou.core.testing.trials import run_trials
from verrou.log import Log
from verrou.machines.changes import (
    ChangeSet,
    Outcome,
    RestoreResult,
    Secrets,
    Stamps,
    StepResult,
)
from verrou.machines.protocol import CannotLook, Copy, DryRunUnavailable, Lacks, Machine

LOG = Log(__name__)


@frozen(repr=False)
class Mismatch:
    """A result that differs from the request."""

    subject: str
    asked: str
    came_out: str


@frozen(repr=False)
class DryRun:
    """The dry run of a plan: the result of each step, the machine afterwards, and the change set.

    ``trials`` are the tests on the copy. Where no copy could be made, ``prediction_reason`` says why, and ``after`` is
    predicted. ``entry`` is the journal's, once the changes are applied."""

    before: Snapshot
    after: Snapshot
    steps: tuple[tuple[Step, StepResult], ...]
    candidate: review.Candidate
    changes: ChangeSet = ()
    stamps: Stamps = field(factory=dict)
    notices: tuple[str, ...] = ()
    blockers: tuple[str, ...] = ()
    trials: tuple[TrialResult, ...] = ()
    put_back: tuple[RestoreResult, ...] = ()
    prediction_reason: str = ""
    entry: int | None = None

    @property
    def rejected(self) -> list[tuple[Step, StepResult]]:
        """The steps that the machine would reject."""
        return [(step, result) for step, result in self.steps if result.outcome is Outcome.REJECTED]

    @property
    def mismatches(self) -> list[Mismatch]:
        """The results that would differ from the request."""
        return list(_surprises(self.steps, self.after))


def do_dry_run(
    machine: Machine, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool = False
) -> DryRun:
    """Do ``steps`` on a private copy of the machine, observe it, and with ``test`` test its rules there.

    Passwords that are not in ``secrets`` get stand-ins, and accounts that would need one for a test are not tested yet.
    Raises: NotEnoughRights, MachineRefused, BadInput: nothing can be changed here at all."""
    steps = with_files(machine, snapshot, steps)
    changeable = machine.changeable
    if isinstance(changeable, Lacks):
        return predicted_run(snapshot, steps, changeable.reason)
    try:
        with changeable.dry_run() as copy:
            return _dry_run_on(copy, snapshot, steps, secrets, test)
    except DryRunUnavailable as reason:
        LOG.info("no dry run, so the result is predicted: %s", reason)
        return predicted_run(snapshot, steps, str(reason))


def predicted_run(snapshot: Snapshot, steps: Sequence[Step], why: str) -> DryRun:
    """Return a prediction of the steps' effect on the machine, from facts."""
    candidate = review.candidate_of(snapshot, steps)
    results = tuple((step, StepResult(Outcome.DONE)) for step in steps)
    return DryRun(snapshot, candidate.after, results, candidate, prediction_reason=why)


def _dry_run_on(copy: Copy, snapshot: Snapshot, steps: Sequence[Step], secrets: Secrets, test: bool) -> DryRun:
    effects = review.effects(snapshot, steps)
    giving = review.steps_before_loss(effects)
    given = _with_stand_ins(steps, secrets, snapshot)
    results = copy.do(steps[:giving], given)
    if giving < len(steps):
        copy.mark()
        results += copy.do(steps[giving:], given)
    after = copy.observe()
    results = _tried_again(copy, steps, results, given, after)
    changes, gap = copy.changes(snapshot, after)
    arrival = None if only_tries(steps) else copy.arrival(changes)
    refused = frozenset(n for n, result in enumerate(results, start=1) if result.outcome is Outcome.REJECTED)
    return DryRun(
        snapshot,
        after,
        tuple(zip(steps, results, strict=True)),
        review.Candidate(
            *(snapshot, after, effects, refused, gap, _failed_trials(steps, results)),
            dry_run_made=True,
            arrival=arrival,
        ),
        changes,
        copy.stamps(),
        tuple(copy.notices(changes)),
        (*copy.obstacles(changes), *new_twins(snapshot, after)),
        _trials(copy, after) if test else (),
    )


def _tried_again(
    copy: Copy, steps: Sequence[Step], results: list[StepResult], given: Secrets, after: Snapshot
) -> list[StepResult]:
    """Return the results with each test sign-in repeated on the finished copy.

    A step after the test may have changed what the account depends on. An account that is no administrator by then
    keeps its result."""
    if only_tries(steps):
        return results
    found = list(results)
    left = {account.name for account in usable_administrators(after)}
    for number, step in enumerate(steps):
        if not isinstance(step, TrySignIn) or found[number].outcome is not Outcome.DONE:
            continue
        name = _later_name(step.account, steps[number + 1 :])
        if step.role is Role.ADMINISTRATOR and name in left:
            password = Secrets({name: given[step.account]} if step.account in given else {})
            (found[number],) = copy.do([evolve(step, account=name)], password)
    return found


def _later_name(name: AccountName, steps: Sequence[Step]) -> AccountName:
    for step in steps:
        if isinstance(step, Rename) and step.account == name:
            name = step.new_name
    return name


def new_twins(before: Snapshot, after: Snapshot) -> Iterator[str]:
    """Yield new accounts that would share an ID: a number that was free may have been used since."""
    for identity, twins in after.by_identity.items():
        if len(twins) > 1 and len(before.by_identity.get(identity, ())) < len(twins):
            names = " and ".join(account.name for account in twins)
            yield f"{names} would share ID {identity}. Change one of them first."


def _failed_trials(steps: Sequence[Step], results: Sequence[StepResult]) -> dict[str, str]:
    """Return the accounts whose test sign-in failed, with the machine's message."""
    pairs = zip(steps, results, strict=True)
    return {s.account: r.message for s, r in pairs if isinstance(s, TrySignIn) and r.outcome is Outcome.REJECTED}


def _trials(copy: Copy, after: Snapshot) -> tuple[TrialResult, ...]:
    return tuple(run_trials(copy.attempt, after, SystemRandom()))


def _with_stand_ins(steps: Sequence[Step], secrets: Secrets, snapshot: Snapshot) -> Secrets:
    """Return the secrets, with a random stand-in for each password that is not known yet."""
    missing = [s.account for s in steps if isinstance(s, GIVES_PASSWORD) and s.password != "blank"]
    missing = [name for name in missing if name not in secrets]
    if not missing:
        return secrets
    policy, now = policy_of(snapshot), snapshot
    for step in steps:
        if isinstance(step, SetRules):
            now = predict(step, now)
            policy = policy.together(policy_of(now))
    stand_in = make_password(policy, "", SystemRandom())
    given = Secrets(secrets)
    for name in missing:
        given[name] = (
            stand_in if name.casefold() not in stand_in.casefold() else make_password(policy, name, SystemRandom())
        )
    return given


def _surprises(results: Sequence[tuple[Step, StepResult]], after: Snapshot) -> Iterator[Mismatch]:
    """Yield the values that differ from the request."""
    for step, result in results:
        if result.outcome is Outcome.REJECTED:
            continue
        account = after.by_name.get(step.account) if isinstance(step, CreateAccount) else None
        if isinstance(step, CreateAccount) and account is not None and role_of(account, after) is not step.role:
            lines = f" ({', '.join(map(str, account.granted_by))})" if account.granted_by else ""
            yield Mismatch(f"account {step.account}", str(step.role), f"{role_of(account, after)}{lines}")
        if not isinstance(step, SetRules):
            continue
        for setting in step.settings:
            kind, value, reading = setting.kind, setting.value, reading_of(CATALOGUE[setting.rule_id], after)
            stands = reading.pending if reading.pending is not None else reading.value
            as_asked = stands is not None and kind.accepts_result(stands, value, after.members)
            if as_asked and reading.status is Status.READ and reading.enforced:
                continue
            shown = "unset" if stands is None else kind.format(stands)
            shown += "" if reading.enforced else " (not enforced)"
            why = reading.reason or (str(reading.source) if reading.source else "")
            yield Mismatch(setting.rule_id, kind.format(value), f"{shown} ({why})" if why else shown)


def with_files(machine: Machine, snapshot: Snapshot, steps: Sequence[Step]) -> list[Step]:
    """Return the steps; those that disable or remove an account get its files, as far as they can be listed."""
    stopped = {step.account for step in steps if isinstance(step, StopJobs)}
    closing = sum(takes_access(step) for step in steps)
    return [_with_files(machine, snapshot, step, stopped, alone=closing == 1) for step in steps]


def _with_files(machine: Machine, snapshot: Snapshot, step: Step, stopped: Collection[str], *, alone: bool) -> Step:
    """Add the account's files to a step.

    ``alone``: no other account is disabled with it, so that there is time to search everywhere."""
    if not isinstance(step, SetEnabled | Remove) or not takes_access(step) or step.files is not None:
        return step
    account = snapshot.by_name.get(step.account)
    try:
        found = None if account is None else machine.files_of(account, everywhere=alone or isinstance(step, Remove))
    except CannotLook:
        found = None
    if found is not None and account is not None and account.name in stopped:
        found = found.without(act.source.place for act in own_jobs(account))
    return evolve(step, files=found)


def only_tries(steps: Sequence[Step]) -> bool:
    """Return whether a plan contains nothing but tests, so that it changes nothing."""
    return all(isinstance(step, TrySignIn) for step in steps)
