"""Create a baseline from the current state of a machine, which meets every requirement of it."""

import re
from collections.abc import Iterator, Mapping, Sequence

from verrou.core.baselines.baseline import ACCOUNT_ROLES, BaselineRefused, read_baseline
from verrou.core.baselines.toml_text import comment, key, value
from verrou.core.errors import BadInput
from verrou.core.model import Account, AccountName, PasswordState, Reading, Role, Snapshot, Status, joined
from verrou.core.model.access import grants_of, is_person, known_role, role_of, routes_of, routes_unknown
from verrou.core.model.known import Known
from verrou.core.model.roles import ROLE_GRANTS
from verrou.core.rules import CATALOGUE, Rule, disagreements, reading_of, value_now
from verrou.core.values import GROUP, Unacceptable, Value


def captured(snapshot: Snapshot, title: str, weak: Mapping[Rule, Sequence[str]], measure: str, people: bool) -> str:
    """Return the text of a baseline that requires the enforced values.

    ``weak`` are the rules weaker than the baseline ``measure`` requires, with the accounts they are about; they are
    marked. With ``people`` the accounts and groups are included. What no baseline can require is a comment with the
    reason."""
    values, left_out = _values(snapshot)
    machine = snapshot.machine
    text = comment(f"{machine.name} in its state of {machine.now:%Y-%m-%d %H:%M}, as far as it could be read.")
    text += f"\n[baseline]\ntitle = {value(title)}\n"
    families = dict.fromkeys(rule.family for rule in CATALOGUE.values())
    for family in families:
        rules = [rule for rule in CATALOGUE.values() if rule.family == family]
        lines = "".join(_line(rule, values, left_out, weak, measure) for rule in rules)
        text += f"\n[{family}]\n{lines}"
    if people:
        text += "".join(_account(account, snapshot) for account in snapshot.accounts if _counts(account, snapshot))
        text += "".join(_groups(snapshot))
    return _without_contradictions(text)


def _without_contradictions(text: str) -> str:
    """Return the text with each contradicting requirement turned into a comment.

    A machine may be set up so that no baseline could require all of it."""
    for _ in range(MOST_CONTRADICTIONS):
        try:
            read_baseline(text, "", _builds_on_nothing)
        except BaselineRefused as refused:
            found = re.match(r":(\d+): (.*)", refused.problems[0])
            if found is None:
                return text
            text = _told_only(text.split("\n"), int(found[1]) - 1, found[2])
        else:
            return text
    return text


MOST_CONTRADICTIONS = 500


def _builds_on_nothing(name: str, _: str) -> tuple[str, str]:
    raise BadInput(name)


def _told_only(lines: list[str], at: int, reason: str) -> str:
    """Return the lines with that one as a comment; for a heading, with all lines below it."""
    end = at + 1
    while lines[at].startswith("[") and end < len(lines) and lines[end] and not lines[end].startswith("["):
        end += 1
    text = [line if line.startswith("#") else f"# {line}" for line in lines[at:end]]
    return "\n".join([*lines[:at], *comment(reason).rstrip("\n").split("\n"), *text, *lines[end:]])


def _values(snapshot: Snapshot) -> tuple[dict[Rule, Value], dict[Rule, str]]:
    """Collect the value required of each rule, and the reason for each rule without one."""
    values: dict[Rule, Value] = {}
    left_out: dict[Rule, str] = {}
    for rule in CATALOGUE.values():
        reading = reading_of(rule, snapshot)
        if reason := _not_to_ask(rule, reading, snapshot):
            left_out[rule] = reason
        elif reading.value is not None:
            values[rule] = rule.kind.with_group_names(reading.value, snapshot.common_spelling)
    for rule, agreement, other, _, _ in list(disagreements(values.get)):
        if values.pop(other, None) is not None:
            left_out[other] = f"{rule.id} {agreement.words} it, and does not here"
    return values, left_out


def _not_to_ask(rule: Rule, reading: Reading, snapshot: Snapshot) -> str:
    if rule.derived is not None and rule.derived.compares:
        return "it is about what a baseline lists"
    if reading.status is not Status.READ:
        return f"{reading.status}: {reading.reason}"
    if reading.value is None:
        return "not set"
    if not reading.enforced:
        return f"{value_now(rule, reading)}"
    required = rule.kind.with_group_names(reading.value, snapshot.common_spelling)
    try:
        parsed = rule.kind.parse(rule.kind.written(required))
    except Unacceptable as unacceptable:
        return f"{rule.kind.format(reading.value)}: a baseline accepts {unacceptable.accepted}"
    own = rule.kind.with_group_names(parsed, snapshot.own_spelling)
    if not rule.kind.at_least_expanded(reading.value, own, snapshot.members):
        return f"{rule.kind.format(reading.value)}: no baseline can require that"
    return ""


def _line(
    rule: Rule,
    values: Mapping[Rule, Value],
    left_out: Mapping[Rule, str],
    weak: Mapping[Rule, Sequence[str]],
    measure: str,
) -> str:
    if rule not in values:
        return comment(f"{rule.key}: {left_out[rule]}")
    written = rule.kind.written(values[rule])
    if isinstance(written, list) and rule.kind.has_scale:
        written = {"only": written}
    mark = ""
    if rule in weak:
        who = f" ({joined(list(weak[rule]))})" if weak[rule] else ""
        mark = comment(f"weak, measured by {measure}{who}:")
    return f"{mark}{key(*rule.key.split('.'))} = {value(written)}\n"


def _counts(account: Account, snapshot: Snapshot) -> bool:
    """Return whether an account is one that a baseline could list."""
    return is_person(account) and role_of(account, snapshot) in ACCOUNT_ROLES and account.name.isprintable()


def _denied_group_it_lacks(account: Account, role: Role, snapshot: Snapshot) -> str:
    """Return the group that makes the role, where the account has the role without it and a list denies the group."""
    denied = [reading.value for rule_id, reading in snapshot.readings.items() if rule_id.endswith(".denied")]
    for grant in ROLE_GRANTS.get(role, ()):
        group = snapshot.group_with(grant)
        if group is None or grant in grants_of(account, snapshot):
            continue
        if any(isinstance(names, frozenset) and f"{GROUP}{group.name}" in names for names in denied):
            return str(group.name)
    return ""


def _account(account: Account, snapshot: Snapshot) -> str:
    blank = account.password is PasswordState.BLANK and account.enabled
    ended = account.until is not None and account.until < snapshot.machine.now.date()
    routes = routes_of(account, snapshot)
    if doubtful := routes_unknown(account, snapshot):
        by = joined([str(route) for route in doubtful])
        return "\n" + comment(f"{account.name}: whether it can sign in by {by} is not known, so no baseline lists it")
    if account.enabled and snapshot.entry_points and not routes:
        why = f"expired after {account.until}" if ended else "it cannot sign in by any route"
        return "\n" + comment(f"{account.name} is enabled, and {why}: no baseline lists it so")
    role = known_role(account, snapshot)
    if role is Known.UNKNOWN:
        return "\n" + comment(
            f"{account.name}: whether it has administrator rights could not be read, so no baseline lists it"
        )
    if group := _denied_group_it_lacks(account, role, snapshot):
        # Making the role would add it to the group, and deny it what it can do now.
        return "\n" + comment(f"{account.name} is {role} and not in group {group}: no baseline lists it so")
    lines: list[tuple[str, object]] = [
        ("role", str(role)),
        ("password", "blank" if blank else "keep"),
        ("enabled", account.enabled),
    ]
    if routes:
        lines.append(("routes", [str(route) for route in routes]))
    if account.cannot_change:
        lines.append(("cannot_change", True))
    text = f"\n[{key('accounts', account.name)}]\n" + "".join(f"{name} = {value(raw)}\n" for name, raw in lines)
    if account.until is not None:
        text += comment(f"expired after {account.until}") if ended else f"until = {value(account.until)}\n"
    return text


def _groups(snapshot: Snapshot) -> Iterator[str]:
    listed = {account.name for account in snapshot.accounts if _counts(account, snapshot)}
    for group in snapshot.groups:
        members = [name for name in group.members if name in listed]
        if members and members != [AccountName(group.name)] and group.name.isprintable():
            yield f"\n[{key('groups', snapshot.common_name_of(group.name))}]\nmembers = {value(members)}\n"
