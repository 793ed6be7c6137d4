"""Tests of who signs in by which route."""

from collections.abc import Iterator

from verrou.core.model import Account, AccountName, GroupName, Snapshot
from verrou.core.model.access import accepted_credential
from verrou.core.model.verdicts import TrialResult
from verrou.core.testing.attempts import CannotTry, TrialAccount, in_force, is_listed, judge, not_run


def access_trial(subject: TrialAccount, let_in: TrialAccount, snapshot: Snapshot, who: str) -> Iterator[TrialResult]:
    """Sign in by each route and each of its services with the right password.

    The snapshot says which should be admitted. A denial shows that a list denies an account only where a similar
    account, which no list denies, is admitted."""
    groups = tuple(map(GroupName, subject.groups))
    account = Account(AccountName(subject.account), f"trial:{subject.account}", groups=groups)
    for entry_point in snapshot.entry_points:
        if entry_point.automatic:
            continue
        expected = accepted_credential(account, entry_point, snapshot) is not None
        kept_out = not entry_point.admits(account)
        for service in entry_point.services or ("",):
            by = f" ({service})" if service else ""
            message = f"{who} signs in {entry_point.route.phrase}{by}"
            denied = in_force(f"logon.{entry_point.route}.denied", snapshot)
            barred = denied is not None and is_listed(subject, denied.value)
            rule = f"logon.{entry_point.route}.{'denied' if barred else 'allowed'}"
            try:
                answer = subject.come_by(entry_point.route, service, subject.password)
                control = let_in.come_by(entry_point.route, service, let_in.password) if kept_out else answer
            except CannotTry as reason:
                yield not_run(rule, message, reason)
                continue
            if kept_out and not answer.accepted and not control.accepted:
                why = f"an account that no list denies is denied too: {control.message}"
                yield not_run(rule, message, why)
                continue
            yield judge(rule, message, answer, expected)
