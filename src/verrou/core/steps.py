"""What a worksheet can hold: each step says what it does, and what the machine is afterwards."""

from collections.abc import Callable, Mapping
from datetime import date
from enum import StrEnum
from typing import Any, TypeAlias

from attrs import evolve, field, frozen

from verrou.core.gates import Circle, Gate, Pass, Way
from verrou.core.model import Account, Detail, Effect, Files, Flag, Grant, Group, PasswordState, Posture, Role
from verrou.core.rules import CATALOGUE, Rule
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
        readings = dict(posture.readings)
        for rule_id, value in self.values:
            if rule_id in readings:
                readings[rule_id] = evolve(readings[rule_id], value=value, in_force=True, pending=None)
        accounts = posture.accounts
        if dict(self.values).get("password.max_age", "never") != "never":
            accounts = tuple(evolve(account, password_ages=not account.ages_exempt) for account in accounts)
        return evolve(posture, readings=readings, accounts=accounts)


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
        made = Account(
            name=self.account,
            identity=f"new:{self.account}",
            full_name=self.full_name,
            note=self.note,
            password=state,
            password_changed=posture.machine.now.date(),
            must_change=self.must_change,
            cannot_change=self.cannot_change,
            expires=self.expires,
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
        return _changed(posture, self.account, lambda account: evolve(account, enabled=self.enabled))


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
        return _changed(posture, self.account, lambda a: evolve(a, password=state, must_change=self.must_change))


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
        return _changed(posture, self.account, lambda a: evolve(a, expires=self.day))


@frozen
class SetFlags(_Step):
    """Put marks about its password on an account, or take them off."""

    account: str
    flags: tuple[tuple[Flag, bool], ...]

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
        return f"account {self.account} " + ", ".join(words[flag] for flag in self.flags)

    def foresee(self, posture: Posture) -> Posture:
        values: dict[str, Any] = {flag.value: wanted for flag, wanted in self.flags}
        exempt = values.get(Flag.AGES_EXEMPT)
        if exempt is not None:
            reading = posture.readings.get("password.max_age")
            values["password_ages"] = not exempt and not (reading is not None and reading.value == "never")
        return _changed(posture, self.account, lambda a: evolve(a, **values))


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
