"""What a worksheet can hold: each step says what it does, and what the machine is afterwards."""

from collections.abc import Callable, Mapping
from datetime import date
from typing import TypeAlias

from attrs import evolve, field, frozen

from verrou.core.model import Account, Effect, Grant, PasswordState, Posture, Role
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
    """Make an account that a person signs in with. ``password``: how the first one comes about."""

    account: str
    role: Role
    full_name: str = ""
    password: str = "ask"
    must_change: bool = True

    @property
    def what(self) -> str:
        change = ", to be changed at the first sign-in" if self.must_change else ""
        how = HOW_A_PASSWORD_COMES[self.password]
        return f"create {self.role} account {self.account} with {how}{change}"

    def foresee(self, posture: Posture) -> Posture:
        if self.account in posture.by_name:
            return posture
        state = PasswordState.BLANK if self.password == "blank" else PasswordState.SET
        made = Account(
            name=self.account,
            identity=f"new:{self.account}",
            full_name=self.full_name,
            password=state,
            must_change=self.must_change,
        )
        posture = evolve(posture, accounts=(*posture.accounts, made))
        for grant in ROLE_GRANTS[self.role]:
            if group := posture.group_with(grant):
                posture = Join(account=self.account, group=group.name).foresee(posture)
        return posture


@frozen
class SetEnabled(_Step):
    """Open or close an account; its files and groups stay."""

    account: str
    enabled: bool

    @property
    def what(self) -> str:
        return f"{'enable' if self.enabled else 'disable'} account {self.account}"

    def foresee(self, posture: Posture) -> Posture:
        return _changed(posture, self.account, lambda account: evolve(account, enabled=self.enabled))


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


Step: TypeAlias = SetRules | CreateAccount | SetEnabled | Rename | Join | Leave | SetPassword | Unlock | SetEnd
NEEDS_PASSWORD = (CreateAccount, SetPassword)


def account_of(step: Step) -> str | None:
    """The account a step is about, by its name before the step."""
    return None if isinstance(step, SetRules) else step.account


def _changed(posture: Posture, name: str, change: Callable[[Account], Account]) -> Posture:
    return evolve(posture, accounts=tuple(change(a) if a.name == name else a for a in posture.accounts))


def _member(posture: Posture, account: str, group: str, *, joins: bool) -> Posture:
    def without(names: tuple[str, ...], name: str) -> tuple[str, ...]:
        return tuple(other for other in names if other != name)

    if account not in posture.by_name:
        return posture
    posture = _changed(
        posture,
        account,
        lambda a: evolve(a, groups=without(a.groups, group) + ((group,) if joins else ())),
    )
    groups = tuple(
        evolve(g, members=without(g.members, account) + ((account,) if joins else ())) if g.name == group else g
        for g in posture.groups
    )
    return evolve(posture, groups=groups)
