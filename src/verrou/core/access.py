"""What an account amounts to, and who can still administer: derived from where accounts stand, never from names."""

from datetime import date

from verrou.core.model import Account, Builtin, Grant, Origin, PasswordState, Posture, Role


def grants_of(account: Account, posture: Posture) -> frozenset[Grant]:
    """What the account is given, by itself and by its groups."""
    given = frozenset(account.grants)
    for group in account.groups:
        given |= posture.granting.get(group, frozenset())
    return given


def role_of(account: Account, posture: Posture) -> Role:
    """Administration outweighs everything; then who made the account; then whether it is only a guest."""
    given = grants_of(account, posture)
    if Grant.ADMINISTRATION in given:
        return Role.ADMINISTRATOR
    if account.builtin is Builtin.GUEST or (Grant.GUEST_USE in given and Grant.ORDINARY_USE not in given):
        return Role.GUEST
    if account.origin is Origin.SERVICE:
        return Role.SERVICE
    if account.origin is Origin.SYSTEM or account.builtin is Builtin.OTHER:
        return Role.SYSTEM
    return Role.STANDARD


def is_person(account: Account) -> bool:
    """Whether somebody is meant to sign in as it: made by a person, or a built-in administrator or guest."""
    return account.origin is Origin.ADDED or account.builtin in (Builtin.ADMIN, Builtin.GUEST)


def expired(account: Account, today: date) -> bool:
    """An account is good until the day before its end date, as shadow(5) counts it."""
    return account.expires is not None and account.expires <= today


def can_sign_in(account: Account, today: date) -> bool:
    """Enabled, unexpired, with a password (a blank one counts) and a shell; a lock passes by itself and does not."""
    return (
        account.enabled
        and account.may_sign_in
        and account.password is not PasswordState.NONE
        and not expired(account, today)
    )


def usable_administrators(posture: Posture) -> list[Account]:
    """Administrators who could sit down at the console now: able to sign in, not locked, with a real password."""
    now = posture.machine.now
    return [
        account
        for account in posture.accounts
        if can_sign_in(account, now.date())
        and account.password is PasswordState.SET
        and not (account.locked_until is not None and account.locked_until > now)
        and role_of(account, posture) is Role.ADMINISTRATOR
    ]


def states_of(account: Account, posture: Posture) -> list[str]:
    """What is out of the ordinary about an account, the gravest first, in words for a table."""
    now = posture.machine.now
    states = []
    twin = next((other for other in posture.by_identity[account.identity] if other is not account), None)
    if twin is not None:
        states.append(f"same identity as {twin.name}")
    if account.password is PasswordState.BLANK and account.enabled:
        states.append("blank password")
    if not is_person(account) and can_sign_in(account, now.date()):
        states.append("can sign in")
    if not account.enabled:
        states.append("disabled")
    elif account.password is PasswordState.NONE and is_person(account):
        states.append("no password")
    if expired(account, now.date()):
        states.append("expired")
    if account.locked_until is not None and account.locked_until > now:
        until = account.locked_until
        states.append("locked until unlocked" if until.year == 9999 else f"locked until {until:%H:%M}")
    if account.must_change:
        states.append("must change password")
    if not account.password_ages and account.enabled and account.password is PasswordState.SET:
        states.append("password never ends")
    if account.wrong_tries:
        states.append(f"{account.wrong_tries} wrong tries")
    return states


def needs_a_look(account: Account, posture: Posture) -> bool:
    """Whether a list that folds plumbing away must still show the account: a person's, or one that can get in."""
    return is_person(account) or (
        can_sign_in(account, posture.machine.now.date()) or role_of(account, posture) is Role.ADMINISTRATOR
    )
