"""Steps as calls to a bench machine's authority, and tests on a copy of it."""

from datetime import date, datetime, time
from random import SystemRandom
from typing import Any, assert_never

from verrou.core.model import Detail, Flag, Role
from verrou.core.steps.step import (
    CreateAccount,
    CreateGroup,
    Join,
    Leave,
    Remove,
    RemoveGroup,
    Rename,
    SetDetails,
    SetEnabled,
    SetEnd,
    SetFlags,
    SetGroupNote,
    SetPassword,
    SetRules,
    Step,
    StopJobs,
    TrySignIn,
    Unlock,
)
from verrou.core.testing.passwords import make_password, policy_of
from verrou.machines.bench import session as seat
from verrou.machines.bench.authority import Authority, NewPasswordFirst, No
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.bench.rules import ADAPTERS
from verrou.machines.changes import Secrets


def do_step(authority: Authority, step: Step, secrets: Secrets) -> str:
    """Do one step, or raise No. Return what is worth reporting."""
    match step:
        case SetRules():
            return _set_rules(authority, step)
        case CreateAccount():
            _create(authority, step, secrets)
        case SetEnabled():
            authority.set_open(step.account, step.enabled)
        case Rename():
            authority.rename(step.account, step.new_name)
        case Join():
            if not _is_in(authority, step.account, step.group):
                authority.join(step.account, step.group)
        case Leave():
            authority.leave(step.account, step.group)
        case SetEnd():
            authority.set_end(step.account, _moment(step.until))
        case Remove():
            return authority.remove(step.account, step.choice, step.to)
        case StopJobs():
            return "no job runs automatically as an account here"
        case TrySignIn():
            return _try(authority, step, secrets)
        case SetFlags():
            # Flags to clear come first: they may exclude the others.
            for flag, on in sorted(step.flags.items(), key=lambda pair: pair[1]):
                authority.mark(step.account, MARKS[flag], on)
        case SetDetails():
            for detail, text in step.details:
                if detail is Detail.RECOVERY_QUESTIONS:
                    authority.set_recovery(step.account, {})
                else:
                    authority.describe(step.account, detail.value, text)
        case CreateGroup():
            authority.add_group(step.group, step.note)
        case RemoveGroup():
            authority.remove_group(step.group)
        case SetGroupNote():
            authority.note_group(step.group, step.note)
        case Unlock():
            authority.unlock(step.account)
        case SetPassword():
            authority.reset_password(step.account, secrets.given(step), step.must_change)
        case _:
            assert_never(step)
    return ""


MARKS = {Flag.CHANGE_DUE: "must_change", Flag.CANNOT_CHANGE: "cannot_change", Flag.AGEING_EXEMPT: "never_ends"}


def _create(authority: Authority, step: CreateAccount, secrets: Secrets) -> None:
    name = step.account
    if step.must_change and step.cannot_change:
        raise No(f"{name} cannot change a password that it must change")
    authority.add(name, step.full_name, secrets.given(step), step.must_change)
    if step.role is Role.ADMINISTRATOR:
        authority.join(name, _group_name(authority, seat.ADMINISTRATORS))
    elif step.role is Role.GUEST:
        authority.leave(name, _group_name(authority, seat.USERS))
        authority.join(name, _group_name(authority, seat.GUESTS))
    if step.note:
        authority.describe(name, "note", step.note)
    if step.cannot_change:
        authority.mark(name, MARKS[Flag.CANNOT_CHANGE], True)
    if not step.home_kept:
        authority.empty_home(name, True)
    if step.until is not None:
        authority.set_end(name, _moment(step.until))


def _moment(day: date | None) -> datetime | None:
    """Return the end of a day."""
    return datetime.combine(day, time.max) if day else None


def _try(authority: Authority, step: TrySignIn, secrets: Secrets) -> str:
    """Test on a copy that is never saved; an account that must change its password first does so there."""
    copy = Authority(authority.compact())
    password = secrets[step.account]
    message = "signed in at the console"
    try:
        token = copy.sign_in(step.account, password)
    except NewPasswordFirst:
        other = make_password(policy_of(snapshot_of(copy, "")), step.account, SystemRandom())
        copy.change_password(step.account, password, other)
        token = copy.sign_in(step.account, other)
        message += "; a new password is required first"
    may = copy.can_administer(token)
    if step.role is Role.ADMINISTRATOR and not may:
        raise No("it signs in, but that session could not administer")
    if step.role is not Role.ADMINISTRATOR and may:
        raise No("it signs in, and that session could administer")
    if step.role is Role.GUEST:
        return f"{message}; {_refused_elsewhere(copy, step.account, password)}"
    return f"{message}, and {'can' if may else 'cannot'} elevate"


def _refused_elsewhere(copy: Authority, account: str, password: str) -> str:
    """Check that every route but the console denies the account; raises No for the first that does not."""
    others = [route for route in copy.logon_lists() if route != "console"]
    for route in others:
        try:
            copy.sign_in(account, password, route)
        except No:
            continue
        raise No(f"it signs in at the console, and by {route} too")
    return f"rejected by {', '.join(others)}"


def _is_in(authority: Authority, account: str, group: str) -> bool:
    return any(account in each["members"] for each in authority.groups() if each["name"] == group)


def _group_name(authority: Authority, identity: int) -> str:
    return str(next(group["name"] for group in authority.groups() if group["id"] == identity))


def _set_rules(authority: Authority, step: SetRules) -> str:
    """Set the rules, and set again what the authority changed along with them, without reporting it."""
    asked: dict[str, Any] = {}
    for rule_id, value in step.values.items():
        adapter = ADAPTERS.get(rule_id)
        if adapter is None or adapter.write is None:
            raise No(f"this machine has no rule {rule_id}")
        key, number = adapter.write(authority, value)
        if authority.lacks(key):
            raise No(f"the {authority.edition} edition has no rule {rule_id}")
        asked[key] = number
    refused: No | None = None
    for _ in asked:
        now = authority.policy()
        wrong = {key: value for key, value in asked.items() if now[key] != value}
        if not wrong:
            return ""
        refused = None
        for key, value in wrong.items():
            try:
                authority.set_policy(key, value)
            except No as no:
                refused = no
    if refused is not None:
        raise refused
    return ""
