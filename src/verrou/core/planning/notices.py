"""Notices before steps are done: what keeps running for an account that is disabled, renamed or removed."""

from collections.abc import Iterator, Sequence
from typing import assert_never

from verrou.core.judging.group_text import gives
from verrou.core.model import Account, AccountName, ActKind, PasswordState, Role, Snapshot, joined
from verrou.core.model.access import role_of
from verrou.core.model.background_jobs import act_text, keeps_running, own_jobs
from verrou.core.steps.step import (
    Adjustment,
    CreateAccount,
    GroupStep,
    Membership,
    Remove,
    RemoveGroup,
    Rename,
    SetEnabled,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    account_of,
    takes_access,
)


def notices(before: Snapshot, after: Snapshot, steps: Sequence[Step]) -> list[str]:
    """Return a line for each thing that the steps leave as it is, although one might expect otherwise."""
    lines: dict[str, None] = {}
    stopped = {step.account for step in steps if isinstance(step, StopJobs)}
    for step in steps:
        if isinstance(step, RemoveGroup) and (group := before.group(step.group)) is not None:
            if (what := gives(group, before)) and group.members:
                lines[f"{joined(group.members)} lose what group {group.name} grants: {'; '.join(what)}."] = None
            continue
        if isinstance(step, SetRules):
            lines |= dict.fromkeys(_never_covered(step, before))
            continue
        account = before.by_name.get(account_of(step) or AccountName(""))
        if account is None:
            continue
        if account.sessions and (takes_access(step) or isinstance(step, Membership)):
            where = ", ".join(account.sessions)
            lines[f"{account.name} is signed in ({where}) and keeps its present rights until it signs out."] = None
        match step:
            case SetEnabled(enabled=True):
                lines |= dict.fromkeys(_of_opened(after.by_name.get(account.name, account)))
            case SetEnabled():
                lines |= dict.fromkeys(_of_closed(account, after, account.name in stopped))
            case Remove():
                lines |= dict.fromkeys(_of_removed(account))
            case Rename():
                lines |= dict.fromkeys(_of_renamed(account, step.new_name))
            case _ if not isinstance(step, CreateAccount | StopJobs | TrySignIn | Membership | Adjustment | GroupStep):
                assert_never(step)  # and of these nothing stays that one might not expect
    return list(lines)


def _of_opened(account: Account) -> Iterator[str]:
    if account.password is PasswordState.NONE and not account.keys:
        yield f"{account.name} has no password, so no one can sign in to it until it has one."


def _never_covered(step: SetRules, before: Snapshot) -> Iterator[str]:
    """Yield the administrators among those whom the limits of a shared computer are set for."""
    named = step.values.get("sharing.applies_to")
    if not isinstance(named, frozenset):
        return
    for account in before.accounts:
        if account.name in named and role_of(account, before) is Role.ADMINISTRATOR:
            yield f"{account.name} is an administrator; the limits for shared use do not bind administrators."


def _of_closed(account: Account, after: Snapshot, stopped: bool) -> Iterator[str]:
    now = after.by_name.get(account.name, account)
    yield from (f"{account.name} still runs jobs after it is disabled: {what}." for what in keeps_running(now))
    waiting = [act for act in own_jobs(now) if not act.runs_when_disabled]
    if waiting and not stopped:
        jobs = "; ".join(map(act_text, waiting))
        yield f"{account.name} has jobs that will run again when it is enabled: {jobs}. To remove them: --stop-jobs"


def _of_removed(account: Account) -> Iterator[str]:
    for act in account.acts:
        if act.kind is ActKind.KEY:
            yield f"{account.name} will be removed, but {act_text(act)}. Remove that line yourself."
        elif act.kind not in (kept.kind for kept in own_jobs(account)):
            yield (
                f"{account.name} will be removed, but {act.source.where} still names it, "
                "and would apply to a later account of that name. Change that yourself."
            )


def _of_renamed(account: Account, new_name: str) -> Iterator[str]:
    if account.sessions:
        where = ", ".join(account.sessions)
        yield f"{account.name} is signed in ({where}): that session continues under the old name."
    for act in account.acts:
        if act.kind in (ActKind.CRON_LINE, ActKind.UNIT, ActKind.LINE):
            yield f"{act.source.where} names {account.name} and not {new_name}. Change that yourself."
