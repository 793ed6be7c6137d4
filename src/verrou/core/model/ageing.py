"""Password ageing and expiry, derived from the days that a machine stores. Derived nowhere else."""

from datetime import date, timedelta

from verrou.core.model import Account, Builtin, PasswordState, Snapshot

BEFORE_ALL = date(1969, 12, 31)
"""The value of an unknown day of change where passwords age: pam_unix(8) takes an empty field for the day -1."""


def exempt_from_ageing(account: Account, snapshot: Snapshot) -> bool:
    """Return whether the machine exempts the account from ageing as its built-in administrator, under any name."""
    if not snapshot.machine.admin_ageing_exempt:
        return False
    admin = snapshot.builtin(Builtin.ADMIN)
    return admin is not None and admin.identity == account.identity


def longest_age(account: Account, snapshot: Snapshot) -> int | None:
    """Return after how many days the password must be changed; None for never."""
    if account.ageing_exempt:
        return None
    if snapshot.machine.ages_by_account:
        return account.max_age
    reading = snapshot.readings.get("password.max_age")
    value = reading.value if reading is not None else None
    return value.days if isinstance(value, timedelta) else None


def password_ages(account: Account, snapshot: Snapshot) -> bool:
    """Return whether the password must be changed when it is too old."""
    return longest_age(account, snapshot) is not None


def _last_good_day(account: Account, snapshot: Snapshot) -> date | None:
    """Return the last day on which the password can be used unchanged.

    None where it does not age, or a change is due anyway."""
    longest = longest_age(account, snapshot)
    if longest is None or account.change_due:
        return None
    return _later(account.password_changed or BEFORE_ALL, longest)


def _later(day: date, days: int) -> date:
    try:
        return day + timedelta(days=days)
    except OverflowError:
        return date.max


def must_change(account: Account, snapshot: Snapshot, on: date) -> bool:
    """Return whether the account must change its password at sign-in on that day."""
    if account.password is PasswordState.NONE:
        return False
    if account.change_due:
        return True
    last = _last_good_day(account, snapshot)
    return last is not None and last < on


def usable_until(account: Account, snapshot: Snapshot) -> date | None:
    """Return the last day on which the account can be used: by its expiry date, or by the days of grace that an aged
    password has. shadow(5): the days of grace begin when the longest age has passed."""
    last = None if account.grace is None else _last_good_day(account, snapshot)
    if last is None or account.grace is None:
        return account.until
    end = _later(last, account.grace)
    return end if account.until is None else min(end, account.until)


def expired(account: Account, snapshot: Snapshot, on: date) -> bool:
    """Return whether the account has expired on that day, by its own date or by the age of its password."""
    until = usable_until(account, snapshot)
    return until is not None and until < on


def barred_by_age(account: Account, snapshot: Snapshot, on: date) -> bool:
    """Return whether a password change is due that the account is not allowed to make."""
    return account.cannot_change and must_change(account, snapshot, on)
