"""Steps as calls to a bench machine's authority, and trials on a copy of it."""

from collections.abc import Callable
from datetime import datetime, time, timedelta

from attrs import define

from verrou.core.model import Role
from verrou.core.steps import (
    CreateAccount,
    Join,
    Leave,
    Rename,
    SetEnabled,
    SetEnd,
    SetPassword,
    SetRules,
    Step,
    Unlock,
)
from verrou.core.trials import Answer
from verrou.machines import Secrets
from verrou.machines.bench import authority as other_side
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.readings import KEPT


def do_step(authority: Authority, step: Step, secrets: Secrets) -> str:
    """Do one step; raises No. Answers with what is worth saying about it."""
    match step:
        case SetRules():
            return _set_rules(authority, step)
        case CreateAccount():
            authority.add(step.account, step.full_name, secrets.given(step), step.must_change)
            if step.role is Role.ADMINISTRATOR:
                authority.join(step.account, _group_name(authority, other_side.ADMINISTRATORS))
            elif step.role is Role.GUEST:
                authority.leave(step.account, _group_name(authority, other_side.USERS))
                authority.join(step.account, _group_name(authority, other_side.GUESTS))
        case SetEnabled():
            authority.set_open(step.account, step.enabled)
        case Rename():
            authority.rename(step.account, step.new_name)
        case Join():
            authority.join(step.account, step.group)
        case Leave():
            authority.leave(step.account, step.group)
        case SetEnd():
            authority.set_end(step.account, datetime.combine(step.day, time()) if step.day else None)
        case Unlock():
            authority.unlock(step.account)
        case SetPassword():
            authority.reset_password(step.account, secrets.given(step), step.must_change)
    return ""


def _group_name(authority: Authority, identity: int) -> str:
    return str(next(group["name"] for group in authority.groups() if group["id"] == identity))


def _set_rules(authority: Authority, step: SetRules) -> str:
    """Set the rules, and set again what the authority changed beside them: it pulls some along without a word."""
    for rule_id, _ in step.values:
        if rule_id not in KEPT:
            raise No(f"this machine does not keep {rule_id}")
    asked = {KEPT[rule_id].key: KEPT[rule_id].write(value) for rule_id, value in step.values}
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


@define
class BenchRehearsal:
    """A throwaway account on a copy of the authority that is never saved."""

    authority: Authority
    account: str
    password: str

    def sign_in(self, password: str) -> Answer:
        return _answer(lambda: self.authority.sign_in(self.account, password))

    def change_password(self, old: str, new: str) -> Answer:
        return _answer(lambda: self.authority.change_password(self.account, old, new))

    def reset_password(self, new: str) -> None:
        self.authority.reset_password(self.account, new)

    def age_password(self) -> None:
        self.pass_time(timedelta(days=self.authority.policy()["age_min_days"]))

    def pass_time(self, span: timedelta) -> None:
        self.authority.clock += span

    def unlock(self) -> None:
        self.authority.unlock(self.account)


def _answer(attempt: Callable[[], None]) -> Answer:
    try:
        attempt()
    except No as no:
        return Answer(False, str(no))
    return Answer(True)
