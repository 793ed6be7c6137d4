"""Differences between two snapshots of one machine, fact by fact, as the journal records them. No secret is among
them."""

from collections.abc import Iterator

from verrou.core.history.entries import Difference
from verrou.core.model import Account, Reading, Snapshot
from verrou.core.model.access import role_of
from verrou.core.rules import CATALOGUE, value_now

FACTS = {
    "name": "name",
    "full_name": "full name",
    "note": "note",
    "groups": "groups",
    "enabled": "enabled",
    "password": "password",
    "change_due": "password change due",
    "password_changed": "password set on",
    "cannot_change": "password fixed",
    "ageing_exempt": "exempt from password ageing",
    "min_age": "minimum password age in days",
    "max_age": "maximum password age in days",
    "warn_before": "days of warning",
    "until": "until",
    "locked_until": "locked until",
    "home": "home",
    "home_kept": "permanent home",
    "shell": "shell",
    "hint": "hint",
    "recovery_questions": "recovery questions",
    "linked_identity": "linked online identity",
}
"""Facts of an account that the journal records, with their names."""


def differences(before: Snapshot, after: Snapshot) -> list[Difference]:
    """Return the facts of every account, group and rule that changed."""
    return [*_of_accounts(before, after), *_of_groups(before, after), *_of_rules(before, after)]


def paired(
    before: Snapshot, after: Snapshot, *, same_machine: bool = True
) -> Iterator[tuple[Account | None, Account | None]]:
    """Pair each account before with the same account afterwards; None where there is none.

    Accounts of one machine match by name, then by ID; of two machines only built-in accounts match by ID."""

    def identity(account: Account) -> str | None:
        return account.identity if same_machine else account.builtin

    found: dict[int, Account] = {}
    was_left, now_left = list(before.accounts), list(after.accounts)
    for key in (lambda account: account.name, identity):
        waiting: dict[str, list[Account]] = {}
        for account in reversed(now_left):
            if (mark := key(account)) is not None:
                waiting.setdefault(mark, []).append(account)
        for account in was_left:
            mark = key(account)
            if mark is not None and waiting.get(mark):
                found[id(account)] = waiting[mark].pop()
        gone = {id(account) for account in found.values()}
        was_left = [account for account in was_left if id(account) not in found]
        now_left = [account for account in now_left if id(account) not in gone]
    yield from ((account, found.get(id(account))) for account in before.accounts)
    yield from ((None, account) for account in now_left)


def _of_accounts(before: Snapshot, after: Snapshot) -> Iterator[Difference]:
    for was, now in paired(before, after):
        if was is None:
            assert now is not None
            yield Difference(f"account {now.name}", "", "", f"new, {role_of(now, after)}")
        elif now is None:
            yield Difference(f"account {was.name}", "", str(role_of(was, before)), "removed")
        elif was is not now and was != now:
            subject = f"account {was.name}"
            if (old := role_of(was, before)) is not (new := role_of(now, after)):
                yield Difference(subject, "role", str(old), str(new))
            for fact, words in FACTS.items():
                old_value, new_value = fact_text(was, fact), fact_text(now, fact)
                if old_value != new_value:
                    yield Difference(subject, words, old_value, new_value)


GIVES_AWAY = ("hint", "recovery_questions")
"""Facts that reveal a password: their presence is recorded, not their content."""


def fact_text(account: Account, fact: str) -> str:
    """Return a fact of an account in words."""
    value = getattr(account, fact)
    if fact in GIVES_AWAY:
        return "present" if value else ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return ", ".join(value)
    return "" if value is None else str(value)


def _of_groups(before: Snapshot, after: Snapshot) -> Iterator[Difference]:
    was = {group.name: group for group in before.groups}
    now = {group.name: group for group in after.groups}
    for name in [*was, *(name for name in now if name not in was)]:
        if name not in now:
            yield Difference(f"group {name}", "", "present", "removed")
        elif name not in was:
            yield Difference(f"group {name}", "", "", "new")
        elif was[name].note != now[name].note:
            yield Difference(f"group {name}", "note", was[name].note, now[name].note)


def _of_rules(before: Snapshot, after: Snapshot) -> Iterator[Difference]:
    for rule_id, now in after.readings.items():
        was = before.readings.get(rule_id)
        if was is None or rule_id not in CATALOGUE or _value(was) == _value(now):
            continue
        rule = CATALOGUE[rule_id]
        yield Difference(f"rule {rule_id}", "", value_now(rule, was), value_now(rule, now))


def _value(reading: Reading) -> tuple[object, ...]:
    return reading.value, reading.status, reading.enforced, reading.pending
