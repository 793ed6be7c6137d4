"""Who may come from where: the rules of access.conf(5), as pam_access(8) goes through them. The first match decides."""

from collections.abc import Callable, Collection, Sequence

from attrs import frozen

from verrou.core.model import Circle, Source
from verrou.machines.linux.pam_stack import PamLine, load_stack
from verrou.machines.linux.root import Root

ACCESS = "pam_access.so"
ACCESS_CONF = "/etc/security/access.conf"
ACCESS_FOLDER = "/etc/security/access.d"
CONSOLE = "tty1"
REMOTE = "203.0.113.1"
"""An address set aside for documentation (RFC 5737): stands for any other computer."""


@frozen
class AccessRule:
    """One line: whether it lets in, whom it is about, and from where."""

    lets_in: bool
    who: tuple[str, ...]
    origins: tuple[str, ...]
    source: Source


def access_rules(root: Root, service: str) -> list[AccessRule]:
    """The rules that a service goes through; none where the module is not in its account stack."""
    rules: list[AccessRule] = []
    for line in load_stack(root, service, "account").having(ACCESS):
        for file in _files(root, line):
            separator = line.argument("fieldsep") or ":"
            for number, text in enumerate(root.lines(file), start=1):
                parts = [part.strip() for part in text.split(separator, 2)]
                if text.lstrip().startswith("#") or len(parts) < 3 or parts[0] not in ("+", "-"):
                    continue
                who, origins = (tuple(part.replace(",", " ").split()) for part in parts[1:])
                rules.append(AccessRule(parts[0] == "+", who, origins, Source(file, number, text.strip())))
    return rules


def _files(root: Root, line: PamLine) -> list[str]:
    if named := line.argument("accessfile"):
        return [named]
    return [ACCESS_CONF, *(f"{ACCESS_FOLDER}/{n}" for n in root.names_in(ACCESS_FOLDER) if n.endswith(".conf"))]


def lets_in(rules: Sequence[AccessRule], account: str, groups: Collection[str], origin: str) -> bool:
    """Whether the rules let an account in from ``origin``: a terminal, a service, or another computer's address."""

    def is_one_of(token: str) -> bool:
        return token in (account, "ALL") or token.strip("()") in groups

    def is_there(token: str) -> bool:
        return token in (origin, "ALL") or (token.upper() == "LOCAL" and origin != REMOTE)

    for rule in rules:
        if _matches(rule.who, is_one_of) and _matches(rule.origins, is_there):
            return rule.lets_in
    return True


def _matches(tokens: Sequence[str], matches: Callable[[str], bool]) -> bool:
    """A list of tokens, of which those after EXCEPT take away."""
    position = next((i for i, token in enumerate(tokens) if token.upper() == "EXCEPT"), len(tokens))
    if not any(matches(token) for token in tokens[:position]):
        return False
    return not _matches(tokens[position + 1 :], matches)


def circles(rules: Sequence[AccessRule], origin: str, group_names: Collection[str]) -> tuple[Circle | None, Circle]:
    """Whom the rules let in from ``origin``, as who is allowed (None for everybody) and who is denied."""
    named = {token for rule in rules for token in rule.who} - {"ALL", "EXCEPT"}
    groups = sorted({t.strip("()") for t in named if t.startswith("(") or t in group_names})
    accounts = sorted(token for token in named if not token.startswith("(") and token not in group_names)
    inside = Circle(
        tuple(name for name in accounts if lets_in(rules, name, (), origin)),
        tuple(group for group in groups if lets_in(rules, "", (group,), origin)),
    )
    if not lets_in(rules, "", (), origin):
        return inside, Circle()
    outside = Circle(
        tuple(name for name in accounts if name not in inside.accounts),
        tuple(group for group in groups if group not in inside.groups),
    )
    return None, outside


def confined_groups(root: Root, group_names: Collection[str]) -> dict[str, Source]:
    """The groups whose members get in at the console and from nowhere else, with the line that keeps them out."""
    services = [name for name in ("login", "sshd") if root.exists(f"/etc/pam.d/{name}")]
    rules = {service: access_rules(root, service) for service in services}
    found: dict[str, Source] = {}
    if "login" not in rules:
        return found
    for rule in rules["login"]:
        for token in rule.who:
            group = token.strip("()")
            if rule.lets_in or group not in group_names or group in found:
                continue
            here = lets_in(rules["login"], "", (group,), CONSOLE)
            afar = any(lets_in(each, "", (group,), REMOTE) for each in rules.values())
            if here and not afar:
                found[group] = rule.source
    return found
