"""Steps that create an account of a role, change a role, and transfer administrator rights."""

import re
from datetime import date

from verrou.core.errors import BadInput
from verrou.core.model import AccountName, Builtin, Effect, Grant, GroupName, Role, Snapshot
from verrou.core.model.access import role_of
from verrou.core.model.roles import ROLE_GRANTS, ROLES_COME_FROM
from verrou.core.prediction.predict import predict
from verrou.core.steps.step import (
    CreateAccount,
    CreateGroup,
    Join,
    Leave,
    SetEnabled,
    Step,
    TrySignIn,
)


class NoWay(Exception):
    """This machine has no steps for the request; the message says why."""


def new_account(
    snapshot: Snapshot,
    name: AccountName,
    role: Role,
    *,
    password: str = "ask",
    must_change: bool | None = None,
    cannot_change: bool | None = None,
    home_kept: bool | None = None,
    full_name: str = "",
    note: str = "",
    home: str = "",
    shell: str = "",
    until: date | None = None,
) -> list[Step]:
    """Return the steps that create an account of ``role``. None stands for the role's default.

    A standard user must change the first password; a guest cannot change it and has a temporary home, where the machine
    can do that. Raises: NoWay: nothing on this machine gives an account ``role``."""
    before = _guest_group_first(snapshot) if role is Role.GUEST else []
    if role is Role.ADMINISTRATOR and snapshot.group_with(Grant.ADMINISTRATION) is None:
        raise NoWay(f"no group here makes an administrator of {name}; install the package sudo")
    guest = role is Role.GUEST
    fixed = guest if cannot_change is None else cannot_change
    made = CreateAccount(
        name,
        role,
        full_name,
        password,
        must_change=(password != "blank" and not fixed and not guest) if must_change is None else must_change,
        note=note,
        home=home,
        shell=shell,
        cannot_change=fixed,
        home_kept=not (guest and snapshot.machine.temporary_homes) if home_kept is None else home_kept,
        until=until,
    )
    return [*before, made]


def _guest_group_first(snapshot: Snapshot) -> list[Step]:
    """Return the step that creates a group for guests, where the machine has none and can have one."""
    if snapshot.group_with(Grant.GUEST_USE) is not None:
        return []
    if not snapshot.machine.guest_group:
        raise NoWay("this machine has no group for guests, and none can be created")
    return [CreateGroup(GroupName(snapshot.machine.guest_group), confined=True)]


def role_steps(snapshot: Snapshot, name: AccountName, role: Role) -> list[Step]:
    """Return the steps that join the groups granting ``role`` and leave those granting more or other rights.

    Raises: NoWay: the account has its rights by itself, or no group grants the role."""
    account = snapshot.by_name[name]
    now = role_of(account, snapshot)
    if now is role:
        return []
    steps = _guest_group_first(snapshot) if role is Role.GUEST else []
    for step in steps:
        snapshot = predict(step, snapshot)
    needed = ROLE_GRANTS[role]
    if set(account.grants) - set(needed):
        lines = f" ({', '.join(map(str, account.granted_by))})" if account.granted_by else ""
        raise NoWay(f"{name} is {now} by itself{lines} and not by a group; no group here can make it {role}")
    giving = {grant: snapshot.group_with(grant) for grant in needed}
    if giving[needed[-1]] is None and role is not Role.STANDARD:
        raise NoWay(f"{name} is {now} and should be {role}; no group here makes one")
    for group in giving.values():
        if group is not None and group.name not in account.groups:
            steps.append(Join(name, group.name))
    for group_name in account.groups:
        group = snapshot.group(group_name)
        if group and set(group.grants) & ROLES_COME_FROM and not set(group.grants) & set(needed):
            steps.append(Leave(name, group_name))
    return steps


def swap_steps(
    snapshot: Snapshot, old: AccountName, new: AccountName, password: str, full_name: str = ""
) -> list[Step]:
    """Return the steps that transfer administrator rights from ``old`` to ``new``.

    The new one is created or promoted and tested before the other is demoted. A built-in administrator is disabled, any
    other becomes a standard user. Raises: NoWay: one of the two cannot get its new role."""
    leaving = snapshot.by_name[old]
    if role_of(leaving, snapshot) is not Role.ADMINISTRATOR:
        raise NoWay(f"{old} is not an administrator, so it has no administrator rights to transfer")
    if old == new:
        raise NoWay(f"{old} cannot be both OLD and NEW")
    coming = snapshot.by_name.get(new)
    steps: list[Step]
    if coming is None:
        steps = new_account(
            snapshot, new, Role.ADMINISTRATOR, password=password, full_name=full_name, must_change=False
        )
    else:
        steps = role_steps(snapshot, new, Role.ADMINISTRATOR)
        if not coming.enabled:
            steps.append(SetEnabled(new, True))
    steps.append(TrySignIn(new, why=f"{old} is changed only if this works"))
    if leaving.builtin is Builtin.ADMIN:
        steps.append(SetEnabled(old, False, effect=Effect.NEXT_SIGN_IN))
    else:
        steps += role_steps(snapshot, old, Role.STANDARD)
    return steps


def check_name(snapshot: Snapshot, name: str, *, group: bool = False) -> None:
    """Check that the machine accepts ``name`` for a new account or group.

    Raises: BadInput: with what is accepted, or what already has the name."""
    naming = snapshot.machine.naming
    what = "group" if group else "account"
    fits = len(name) <= naming.longest and re.fullmatch(naming.pattern, name)
    if not fits or not name.isprintable() or not name.strip():
        shown = name if len(name) <= 40 else f"{name[:37]}..."
        raise BadInput(f"{shown!r} is not a valid {what} name on this machine; expected {naming.words}")
    key = name.casefold() if naming.without_case else name
    taken: dict[str, str] = {}
    for others, kind in ((snapshot.groups, "a group"), (snapshot.accounts, "an account")):
        taken |= {(o.name.casefold() if naming.without_case else o.name): f"{kind} {o.name}" for o in others}
    if naming.without_case:
        taken.setdefault(snapshot.machine.name.casefold(), "the name of the machine")
    if key in taken:
        raise BadInput(f"{snapshot.machine.name} already has {taken[key]}. Choose another name.")
