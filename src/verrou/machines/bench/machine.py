"""A bench machine seen from Verrou: the authority's numbers as readings, steps as calls to the authority."""

import json
import re
import secrets as random_source
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

from attrs import define, frozen

from verrou.core.errors import BadInput, MachineRefused, NotEnoughRights
from verrou.core.model import (
    Account,
    Builtin,
    Grant,
    Group,
    MachineFacts,
    Naming,
    Origin,
    PasswordState,
    Posture,
    Reading,
    Role,
    Source,
    absent,
)
from verrou.core.passwords import make_password, policy_of
from verrou.core.steps import CreateAccount, Join, Leave, Rename, SetEnabled, SetPassword, SetRules, Step
from verrou.core.trials import Answer, Rehearsal
from verrou.core.values import Value
from verrou.machines import BENCH_SUFFIX, Memento, Outcome, PutBack, Secrets, StepResult
from verrou.machines.bench import authority as other_side
from verrou.machines.bench.authority import Authority, Damaged, No
from verrou.machines.local_files import item_at, put_back


@frozen
class Kept:
    """Where the authority keeps a rule: its key, and how its numbers are turned into values and back."""

    key: str
    read: Callable[[Any], Value]
    write: Callable[[Value], Any]


def _trap(unit: str, word: str | None) -> tuple[Callable[[Any], Value], Callable[[Value], Any]]:
    """Durations in whole ``unit`` where 0 means ``word``."""
    one = timedelta(**{unit: 1})
    return (
        lambda number: word if number == 0 and word else one * number,
        lambda value: 0 if value == word else value // one if isinstance(value, timedelta) else value,
    )


def _plain(number: Any) -> Any:
    return number


KEPT: Mapping[str, Kept] = {
    "lockout.after": Kept(
        "try_limit", lambda n: "never" if n == 0 else n, lambda value: 0 if value == "never" else value
    ),
    "lockout.lasts": Kept("lock_minutes", *_trap("minutes", "until-unlocked")),
    "lockout.forget_after": Kept("window_minutes", *_trap("minutes", None)),
    "lockout.covers_admin": Kept("lock_keeper", _plain, _plain),
    "password.min_length": Kept("length", _plain, _plain),
    "password.classes": Kept("classes", _plain, _plain),
    "password.remember": Kept("history", _plain, _plain),
    "password.max_age": Kept("age_max_days", *_trap("days", "never")),
    "password.min_age": Kept("age_min_days", *_trap("days", None)),
    "password.warn_before": Kept("warn_days", *_trap("days", None)),
    "password.may_contain_name": Kept("name_inside", _plain, _plain),
    "password.blank_console_only": Kept("blank_console_only", _plain, _plain),
}
GRANTS = {
    other_side.ADMINISTRATORS: Grant.ADMINISTRATION,
    other_side.USERS: Grant.ORDINARY_USE,
    other_side.GUESTS: Grant.GUEST_USE,
    other_side.REMOTE_USERS: Grant.REMOTE_SCREEN,
}
BUILTINS = {
    other_side.KEEPER: Builtin.ADMIN,
    other_side.VISITOR: Builtin.GUEST,
    other_side.PATTERN: Builtin.OTHER,
}


class BenchMachine:
    """A bench machine in its file."""

    kind = "bench"

    def __init__(self, path: Path) -> None:
        self.path = path
        self.address = str(path)
        self.name = path.name.removesuffix(BENCH_SUFFIX)

    def _load(self) -> Authority:
        try:
            return Authority(self.path.read_text(encoding="utf-8"))
        except PermissionError:
            raise NotEnoughRights(f"{self.path}: not readable for this account; run as one that may") from None
        except (OSError, UnicodeDecodeError, Damaged) as damage:
            raise BadInput(f"{self.path}: this is no bench machine ({damage}); put back a copy of it") from None

    def observe(self) -> Posture:
        return posture_of(self._load(), self.address)

    def foresee(self, memento: Memento) -> Posture:
        content = memento[self.path.name].content
        if content is None:
            raise BadInput(f"{self.path}: nothing stood there before")
        return posture_of(Authority(content.decode()), self.address)

    def perform(self, steps: Sequence[Step], secrets: Secrets) -> Iterator[StepResult]:
        for step in steps:
            authority = self._load()
            before = authority.text()
            try:
                said = _do(authority, step, secrets)
            except No as no:
                yield StepResult(Outcome.REFUSED, str(no))
                continue
            if authority.text() == before:
                yield StepResult(Outcome.ALREADY, said)
                continue
            try:
                authority.save(self.path)
            except OSError as error:
                raise MachineRefused(f"{self.path}: {error.strerror}; nothing was changed") from None
            yield StepResult(Outcome.DONE, said)

    @contextmanager
    def rehearse(self) -> Iterator[Rehearsal]:
        """On a copy of the authority that is never saved."""
        authority = self._load()
        policy = policy_of(posture_of(authority, self.address))
        name = f"trial-{random_source.token_hex(4)}"
        password = make_password(policy, name, random_source.SystemRandom())
        authority.add(name, "", password, must_change=False)
        yield _BenchRehearsal(authority, name, password)

    def remember(self, steps: Sequence[Step]) -> Memento:
        return {self.path.name: item_at(self.path)}

    def put_back(self, before: Memento, after: Memento | None) -> Iterator[PutBack]:
        return put_back(lambda name: self.path.with_name(name), before, after, lambda _: merge_bench)

    def records_folder(self) -> Path:
        return self.path.with_name(f"{self.name}.verrou")


@define
class _BenchRehearsal:
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


def posture_of(authority: Authority, address: str) -> Posture:
    """What the authority says of its machine, in Verrou's words."""
    policy = authority.policy()
    locks = policy["try_limit"] != 0
    readings: dict[str, Reading] = {}
    for rule_id, kept in KEPT.items():
        number = policy[kept.key]
        moot = rule_id.startswith("lockout.") and rule_id != "lockout.after" and not locks
        readings[rule_id] = Reading(
            None if number is None else kept.read(number),
            source=Source("authority", text=f"{kept.key} = {json.dumps(number)}"),
            in_force=not moot,
            reason="accounts never lock on this machine" if moot else "",
        )
    schemes = frozenset({"pbkdf2"} | {a["scheme"] for a in authority.accounts() if a["scheme"]})
    readings["password.storage"] = Reading(schemes, source=Source("authority"))
    readings["password.dictionary"] = absent("the authority of a bench machine knows no dictionary")
    facts = MachineFacts(
        name=authority.name,
        kind="bench",
        system=f"bench machine, {authority.edition} edition",
        address=address,
        now=authority.clock,
        naming=Naming(
            pattern="[^" + re.escape(other_side.FORBIDDEN) + r"\x00-\x1f\x7f]+",
            longest=other_side.LONGEST_NAME,
            words=f"1 to {other_side.LONGEST_NAME} characters, none of {other_side.FORBIDDEN}",
        ),
    )
    accounts = tuple(_account(a) for a in authority.accounts())
    groups = tuple(
        Group(
            g["name"],
            str(g["id"]),
            tuple(g["members"]),
            (GRANTS[g["id"]],) if g["id"] in GRANTS else (),
            Source("authority", text=f"group {g['id']}"),
        )
        for g in authority.groups()
    )
    return Posture(facts, accounts, groups, readings)


def _account(kept: dict[str, Any]) -> Account:
    builtin = BUILTINS.get(kept["id"])
    until = kept["locked_until"]
    return Account(
        name=kept["name"],
        identity=str(kept["id"]),
        origin=Origin.BUILT_IN if builtin else Origin.ADDED,
        builtin=builtin,
        shipped_name=kept["shipped_name"],
        full_name=kept["full_name"],
        groups=tuple(kept["groups"]),
        enabled=kept["open"],
        password=PasswordState(kept["password"]),
        password_scheme=kept["scheme"],
        password_changed=_day(kept["password_set"]),
        password_ages=not kept["never_ends"],
        must_change=kept["must_change"],
        expires=_day(kept["ends"]),
        locked_until=datetime.max if until == "unlocked" else datetime.fromisoformat(until) if until else None,
        wrong_tries=kept["recent_tries"],
        last_sign_in=datetime.fromisoformat(kept["last_sign_in"]) if kept["last_sign_in"] else None,
        source=Source("authority", text=f"account {kept['id']}"),
    )


def _day(moment: str | None) -> date | None:
    return datetime.fromisoformat(moment).date() if moment else None


def _do(authority: Authority, step: Step, secrets: Secrets) -> str:
    """Do one step; raises No. Answers with what is worth saying about it."""
    match step:
        case SetRules():
            return _set_rules(authority, step)
        case CreateAccount():
            authority.add(step.account, step.full_name, secrets.get(step.account, ""), step.must_change)
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
        case SetPassword():
            authority.reset_password(step.account, secrets.get(step.account, ""), step.must_change)
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


def merge_bench(before: bytes, after: bytes, now: bytes) -> tuple[bytes, list[str]]:
    """Undo our change in a file that somebody else changed too: each account, group and policy number by itself."""
    was, ours, theirs = (_items(json.loads(text)) for text in (before, after, now))
    kept = []
    merged = dict(theirs)
    for name in was.keys() | ours.keys():
        if was.get(name) == ours.get(name):
            continue
        if theirs.get(name) != ours.get(name):
            kept.append(" ".join(map(str, name)))
        elif name in was:
            merged[name] = was[name]
        else:
            del merged[name]
    document = json.loads(now)
    for table in ("accounts", "groups"):
        document[table] = [value for (kind, _), value in merged.items() if kind == table]
    document["policy"] = {key: value for (kind, key), value in merged.items() if kind == "policy"}
    return (json.dumps(document, indent=1, ensure_ascii=False) + "\n").encode(), sorted(kept)


def _items(document: dict[str, Any]) -> dict[tuple[str, object], Any]:
    items: dict[tuple[str, object], Any] = {}
    for table in ("accounts", "groups"):
        items |= {(table, thing["id"]): thing for thing in document[table]}
    return items | {("policy", key): value for key, value in document["policy"].items()}
