"""What a worksheet can hold: each step says what it does, and what the machine is afterwards."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date, timedelta
from enum import StrEnum
from typing import Any, TypeAlias

from attrs import evolve, field, frozen

from verrou.core.model import (
    Account,
    Detail,
    Effect,
    Files,
    Flag,
    Grant,
    Group,
    Origin,
    PasswordState,
    Posture,
    Role,
    unreadable,
)
from verrou.core.model.ageing import left_out
from verrou.core.model.ways import Circle, Gate, Pass, Way
from verrou.core.rules import CATALOGUE, Rule, agreements, set_together
from verrou.core.values import Value

ROLE_GRANTS: Mapping[Role, tuple[Grant, ...]] = {
    Role.STANDARD: (Grant.ORDINARY_USE,),
    Role.GUEST: (Grant.GUEST_USE,),
    Role.ADMINISTRATOR: (Grant.ORDINARY_USE, Grant.ADMINISTRATION),
}
"""What an account needs to be given to amount to a role, what makes the role last."""
ROLES_COME_FROM = {grant for grants in ROLE_GRANTS.values() for grant in grants}
HOW_A_PASSWORD_COMES = {
    "ask": "a password you type",
    "generate": "a generated password",
    "blank": "a blank password",
}


@frozen(kw_only=True)
class _Step:
    """``why`` names what the step closes; ``effect`` is when it holds."""

    why: str = ""
    effect: Effect = Effect.NOW

    @property
    def concerns(self) -> str:
        """What a person should know of what the step is about, such as files that it leaves."""
        return ""


@frozen
class SetRules(_Step):
    """Set the rules as one set, so that no side effect of the machine undoes one of them."""

    values: tuple[tuple[str, Value], ...]

    @property
    def rules(self) -> list[tuple[Rule, Value]]:
        return [(CATALOGUE[rule_id], value) for rule_id, value in self.values]

    @property
    def what(self) -> str:
        return "set " + ", ".join(f"{rule.id} to {rule.kind.say(value)}" for rule, value in self.rules)

    def foresee(self, posture: Posture) -> Posture:
        asked = dict(self.values)
        readings = dict(posture.readings)
        for rule_id, value in self.values:
            leader = next((rule for rule in CATALOGUE.values() if rule_id in rule.set_with), None)
            led = posture.readings.get(leader.id) if leader is not None and leader.id not in asked else None
            if rule_id in readings and led is not None and isinstance(led.value, str):
                readings[rule_id] = unreadable(f"whether it acts hangs on {leader.id if leader else ''}")
            elif rule_id in readings:
                readings[rule_id] = evolve(readings[rule_id], value=value, in_force=True, pending=None, overruled=())
        for rule_id in {tied for each in asked for tied in set_together(each)} - asked.keys():
            if rule_id in readings and _may_be_pulled(rule_id, asked):
                readings[rule_id] = unreadable("this machine may have set it along with the others")
        aged = [(rule_id, value) for rule_id, value in self.values if rule_id in AGES]
        accounts, machine = posture.accounts, posture.machine
        if aged and machine.ages_by_account:
            accounts = tuple(self._with_ages(account, posture, aged) for account in accounts)
            days = {rule_id: value.days if isinstance(value, timedelta) else None for rule_id, value in aged}
            machine = evolve(machine, ages_given=tuple((dict(machine.ages_given) | days).items()))
        return evolve(posture, machine=machine, readings=readings, accounts=accounts)

    @staticmethod
    def _with_ages(account: Account, posture: Posture, aged: Sequence[tuple[str, Value]]) -> Account:
        """The ages of an account that a person signs in with: those that are stricter already stay, unless the rule is
        loosened."""
        if not is_aged(account, posture):
            return account
        changes: dict[str, Any] = {}
        for rule_id, value in aged:
            if rule_id == "password.min_age" and account.cannot_change:
                continue
            fact = AGES[rule_id]
            kind, reading = CATALOGUE[rule_id].kind, posture.readings.get(rule_id)
            before = reading.value if reading is not None else None
            days = getattr(account, fact)
            has: Value = timedelta(days=days or 0) if days is not None or fact != "max_age" else "never"
            tightening = before is not None and kind.rank(value) > kind.rank(before)
            if not (tightening and kind.rank(has) >= kind.rank(value)):
                changes[fact] = value.days if isinstance(value, timedelta) else None
        return evolve(account, **changes) if changes else account


AGES: Mapping[str, str] = {
    "password.max_age": "max_age",
    "password.min_age": "min_age",
    "password.warn_before": "warn_before",
}
"""The rules that a machine may keep with each account, and the fact that holds them there."""


def is_aged(account: Account, posture: Posture) -> bool:
    """Whether the ages of passwords are about the account: one that somebody signs in to with a password."""
    person = account.origin in (Origin.ADDED, Origin.BUILT_IN) and not left_out(account, posture)
    return person and account.password is PasswordState.SET and account.enabled


def _may_be_pulled(rule_id: str, asked: Mapping[str, Value]) -> bool:
    """Whether a machine may change the rule by itself when ``asked`` is set beside it."""
    return any(rule_id in CATALOGUE[each].set_with for each in asked) or any(
        {rule.id, other.id} == {rule_id, each} for rule, _, other in agreements() for each in asked
    )


@frozen
class CreateAccount(_Step):
    """Make an account that a person signs in with, the whole of it. ``password``: how the first one comes about.
    ``home`` and ``shell`` are what the machine takes by itself where they are empty; without ``home_kept`` each
    session gets a fresh home and nothing of it stays."""

    account: str
    role: Role
    full_name: str = ""
    password: str = "ask"
    must_change: bool = True
    note: str = ""
    home: str = ""
    shell: str = ""
    cannot_change: bool = False
    home_kept: bool = True
    expires: date | None = None

    @property
    def what(self) -> str:
        parts = [f"create {self.role} account {self.account} with {HOW_A_PASSWORD_COMES[self.password]}"]
        parts += ["to be changed at the first sign-in"] if self.must_change else []
        parts += ["which it cannot change"] if self.cannot_change else []
        parts += [f"ending on {self.expires}"] if self.expires else []
        parts += ["with a fresh home for each session"] if not self.home_kept else []
        return ", ".join(parts)

    def foresee(self, posture: Posture) -> Posture:
        if self.account in posture.by_name:
            return posture
        state = PasswordState.BLANK if self.password == "blank" else PasswordState.SET
        ages = dict(posture.machine.ages_given)
        if ages and self.cannot_change:
            ages = dict.fromkeys(ages, None) | {"password.warn_before": ages["password.warn_before"]}
        made = Account(
            name=self.account,
            identity=f"new:{self.account}",
            full_name=self.full_name,
            note=self.note,
            password=state,
            password_changed=None if self.must_change and ages else posture.machine.now.date(),
            password_due=self.must_change,
            cannot_change=self.cannot_change,
            ends=self.expires,
            max_age=ages.get("password.max_age"),
            min_age=ages.get("password.min_age"),
            warn_before=ages.get("password.warn_before"),
            home_kept=self.home_kept,
            home=self.home,
        )
        posture = posture.with_account(made)
        for grant in ROLE_GRANTS[self.role]:
            if group := posture.group_with(grant):
                posture = Join(account=self.account, group=group.name).foresee(posture)
        return posture


@frozen
class SetEnabled(_Step):
    """Open or close an account; its files and groups stay. ``files``: what a closed account leaves where."""

    account: str
    enabled: bool
    files: Files | None = None

    @property
    def what(self) -> str:
        return f"{'enable' if self.enabled else 'disable'} account {self.account}"

    @property
    def concerns(self) -> str:
        some = self.files is not None and (self.files.count or self.files.elsewhere_count or self.files.remark)
        return f"out of its reach then: {self.files}" if some else ""

    def foresee(self, posture: Posture) -> Posture:
        def change(account: Account) -> Account:
            blank = account.password is PasswordState.BLANK
            gone = blank and posture.machine.closing_takes_blank and not self.enabled
            password = PasswordState.NONE if gone else account.password
            return evolve(account, enabled=self.enabled, password=password)

        return _changed(posture, self.account, change)


class FilesChoice(StrEnum):
    """What happens to the files of an account that is removed."""

    KEEP = "keep"
    ARCHIVE = "archive"
    DELETE = "delete"


@frozen
class Remove(_Step):
    """Take an account away for good. ``files`` are what it keeps where, ``choice`` what happens to its home."""

    account: str
    choice: FilesChoice
    files: Files | None = None

    @property
    def what(self) -> str:
        done = {
            FilesChoice.KEEP: "keep its files for the administrators",
            FilesChoice.ARCHIVE: "put its files into an archive",
            FilesChoice.DELETE: "delete its files for good",
        }[self.choice]
        return f"remove account {self.account} and {done}"

    @property
    def concerns(self) -> str:
        return f"it has {self.files}" if self.files else ""

    def foresee(self, posture: Posture) -> Posture:
        groups = tuple(evolve(g, members=_without(g.members, self.account)) for g in posture.groups)
        left = tuple(account for account in posture.accounts if account.name != self.account)
        return evolve(posture, accounts=left, groups=groups)


@frozen
class TrySignIn(_Step):
    """Sign in as an account at the console, and elevate, with its own password: a trial that nothing remains of."""

    account: str

    @property
    def what(self) -> str:
        return f"try account {self.account}: sign in at the console, and elevate"

    def foresee(self, posture: Posture) -> Posture:
        return posture


@frozen
class Rename(_Step):
    """Give an account another name; its identity, groups and files stay."""

    account: str
    new_name: str

    @property
    def what(self) -> str:
        return f"rename account {self.account} to {self.new_name}"

    def foresee(self, posture: Posture) -> Posture:
        renamed = _changed(posture, self.account, lambda account: evolve(account, name=self.new_name))
        groups = tuple(
            evolve(g, members=tuple(self.new_name if m == self.account else m for m in g.members))
            for g in renamed.groups
        )
        return evolve(renamed, groups=groups)


@frozen
class Join(_Step):
    """Make an account a member of a group."""

    account: str
    group: str
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"let account {self.account} join group {self.group}"

    def foresee(self, posture: Posture) -> Posture:
        return _member(posture, self.account, self.group, joins=True)


@frozen
class Leave(_Step):
    """Take an account out of a group."""

    account: str
    group: str
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"let account {self.account} leave group {self.group}"

    def foresee(self, posture: Posture) -> Posture:
        return _member(posture, self.account, self.group, joins=False)


@frozen
class SetPassword(_Step):
    """Give an account another password. ``password``: how it comes about."""

    account: str
    password: str = "ask"
    must_change: bool = True

    @property
    def what(self) -> str:
        change = ", to be changed at the next sign-in" if self.must_change else ""
        return f"give account {self.account} {HOW_A_PASSWORD_COMES[self.password]}{change}"

    def foresee(self, posture: Posture) -> Posture:
        state = PasswordState.BLANK if self.password == "blank" else PasswordState.SET
        today = posture.machine.now.date()

        def change(account: Account) -> Account:
            due = self.must_change and not left_out(account, posture)
            day = None if due and posture.machine.ages_by_account else today
            return evolve(account, password=state, password_due=due, password_changed=day)

        return _changed(posture, self.account, change)


@frozen
class Unlock(_Step):
    """Lift a lock after wrong passwords, and forget the tries."""

    account: str

    @property
    def what(self) -> str:
        return f"unlock account {self.account} and forget its wrong tries"

    def foresee(self, posture: Posture) -> Posture:
        return _changed(posture, self.account, lambda a: evolve(a, locked_until=None, wrong_tries=0))


@frozen
class SetEnd(_Step):
    """Give an account a day from which on it is closed, or lift it (None)."""

    account: str
    day: date | None
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"let account {self.account} " + (f"end on {self.day}" if self.day else "have no end")

    def foresee(self, posture: Posture) -> Posture:
        return _changed(posture, self.account, lambda a: evolve(a, ends=self.day))


@frozen
class SetFlags(_Step):
    """Put marks about its password on an account (True), or take them off (False); None leaves one as it is."""

    account: str
    password_due: bool | None = None
    cannot_change: bool | None = None
    ages_exempt: bool | None = None

    @property
    def flags(self) -> Mapping[Flag, bool]:
        """The marks that the step is about."""
        values = {flag: getattr(self, flag.value) for flag in Flag}
        return {flag: value for flag, value in values.items() if value is not None}

    @property
    def what(self) -> str:
        words = {
            (Flag.MUST_CHANGE, True): "has to change its password at the next sign-in",
            (Flag.MUST_CHANGE, False): "need not change its password",
            (Flag.CANNOT_CHANGE, True): "cannot change its password",
            (Flag.CANNOT_CHANGE, False): "may change its password",
            (Flag.AGES_EXEMPT, True): "is left out of the age of passwords",
            (Flag.AGES_EXEMPT, False): "is under the age of passwords like everybody",
        }
        return f"account {self.account} " + ", ".join(words[flag] for flag in self.flags.items())

    def foresee(self, posture: Posture) -> Posture:
        return _changed(posture, self.account, lambda account: self._marked(account, posture))

    def _marked(self, account: Account, posture: Posture) -> Account:
        flags = self.flags
        if not posture.machine.ages_by_account:
            marks: dict[str, Any] = {flag.value: on for flag, on in flags.items()}
            return evolve(account, **marks)
        # Where each account has ages of its own, a mark is nothing but what these say.
        fresh = dict(posture.machine.ages_given)
        due = flags.get(Flag.MUST_CHANGE)
        if due is not None:
            off = posture.machine.now.date() if account.password_due else account.password_changed
            account = evolve(account, password_due=due, password_changed=None if due else off)
        fixed = flags.get(Flag.CANNOT_CHANGE)
        if fixed is not None:
            account = evolve(account, min_age=None if fixed else fresh["password.min_age"], cannot_change=fixed)
        exempt = flags.get(Flag.AGES_EXEMPT)
        if exempt is not None:
            account = evolve(account, max_age=None if exempt else fresh["password.max_age"])
        return account


@frozen
class SetDetails(_Step):
    """Other words about an account: its full name, a note, its shell; or take away what gives its password away."""

    account: str
    details: tuple[tuple[Detail, str], ...]

    @property
    def what(self) -> str:
        said = [f"{detail.value.replace('_', ' ')} {text!r}" for detail, text in self.details if text]
        gone = [detail.value.replace("_", " ") for detail, text in self.details if not text]
        parts = [f"give account {self.account} the {' and the '.join(said)}"] if said else []
        parts += [f"take the {' and the '.join(gone)} from account {self.account}"] if gone else []
        return ", ".join(parts)

    def foresee(self, posture: Posture) -> Posture:
        values: dict[str, Any] = {detail.value: text for detail, text in self.details}
        if Detail.RECOVERY_QUESTIONS in values:
            values["recovery_questions"] = ()
        return _changed(posture, self.account, lambda a: evolve(a, **values))


@frozen
class CreateGroup(_Step):
    """Make a group. Members of one that is ``confined`` get in at the console only: that is what makes guests."""

    group: str
    note: str = ""
    confined: bool = False

    @property
    def what(self) -> str:
        return f"create group {self.group}" + (
            ", whose members get in at the console only and count as guests" if self.confined else ""
        )

    def foresee(self, posture: Posture) -> Posture:
        if posture.group(self.group):
            return posture
        grants = (Grant.GUEST_USE,) if self.confined else ()
        made = Group(self.group, f"new:{self.group}", grants=grants, note=self.note)
        posture = evolve(posture, groups=(*posture.groups, made))
        if not self.confined:
            return posture
        out = Pass(False, (Circle(groups=(self.group,)),))
        gates = tuple(g if g.way is Way.CONSOLE else evolve(g, passes=(out, *g.passes)) for g in posture.gates)
        return evolve(posture, gates=gates)


@frozen
class RemoveGroup(_Step):
    """Take a group away; its members stay."""

    group: str
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"remove group {self.group}"

    def foresee(self, posture: Posture) -> Posture:
        groups = tuple(group for group in posture.groups if group.name != self.group)
        accounts = tuple(
            evolve(a, groups=_without(a.groups, self.group)) if self.group in a.groups else a for a in posture.accounts
        )

        def without(circle: Circle) -> Circle:
            return evolve(circle, groups=_without(circle.groups, self.group))

        def passes(gate: Gate) -> tuple[Pass, ...]:
            return tuple(evolve(each, who=tuple(map(without, each.who))) for each in gate.passes)

        gates = tuple(evolve(gate, passes=passes(gate)) for gate in posture.gates)
        return evolve(posture, groups=groups, accounts=accounts, gates=gates)


@frozen
class SetGroupNote(_Step):
    """Say what a group is for."""

    group: str
    note: str

    @property
    def what(self) -> str:
        return f"note for group {self.group}: {self.note!r}"

    def foresee(self, posture: Posture) -> Posture:
        groups = tuple(evolve(g, note=self.note) if g.name == self.group else g for g in posture.groups)
        return evolve(posture, groups=groups)


GroupStep: TypeAlias = CreateGroup | RemoveGroup | SetGroupNote
Step: TypeAlias = (
    SetRules
    | CreateAccount
    | SetEnabled
    | Remove
    | TrySignIn
    | Rename
    | Join
    | Leave
    | SetPassword
    | Unlock
    | SetEnd
    | SetFlags
    | SetDetails
    | GroupStep
)
GIVES_PASSWORD = (CreateAccount, SetPassword)


def account_of(step: Step) -> str | None:
    """The account a step is about, by its name before the step."""
    return None if isinstance(step, SetRules | GroupStep) else step.account


def takes_access(step: Step) -> bool:
    """Whether the step closes an account or takes it away, so that its files are out of its reach."""
    return isinstance(step, Remove) or (isinstance(step, SetEnabled) and not step.enabled)


def _without(names: tuple[str, ...], name: str) -> tuple[str, ...]:
    return tuple(other for other in names if other != name)


def _changed(posture: Posture, name: str, change: Callable[[Account], Account]) -> Posture:
    return posture.with_accounts(tuple([change(a) if a.name == name else a for a in posture.accounts]))


def _member(posture: Posture, account: str, group: str, *, joins: bool) -> Posture:
    if account not in posture.by_name:
        return posture
    posture = _changed(
        posture,
        account,
        lambda a: evolve(a, groups=_without(a.groups, group) + ((group,) if joins else ())),
    )
    groups = tuple(
        evolve(g, members=_without(g.members, account) + ((account,) if joins else ())) if g.name == group else g
        for g in posture.groups
    )
    return evolve(posture, groups=groups)
