"""Access by origin: the rules of access.conf(5), as pam_access(8) evaluates them. The first match decides."""

from collections.abc import Callable, Collection, Sequence

from attrs import frozen

from verrou.core.model import Account, AccountName, GroupName, Source
from verrou.core.model.routes import EVERYONE, AccessListEntry, Principals
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.pam.stack import FOLDERS, PamLine, load_stack
from verrou.machines.linux.root import Root

ACCESS = "pam_access.so"
ACCESS_CONF = "/etc/security/access.conf"
ACCESS_FOLDER = "/etc/security/access.d"
OUR_LISTS = "/etc/security/verrou-"
"""Name prefix of the files with Verrou's list of a route."""
CONSOLE, DISPLAY = "tty1", ":0"


@frozen(repr=False)
class AccessRule:
    """One line: allow or deny, users, and origins. ``in_brackets``: a name without brackets is never a group
    (``nodefgroup``)."""

    allows: bool
    who: tuple[str, ...]
    origins: tuple[str, ...]
    source: Source
    in_brackets: bool = False


def access_lists(root: Root, service: str) -> list[list[AccessRule]]:
    """Return the rules of a service: one list for each line of the module in its account stack, each of which has to
    allow."""
    return [_rules_of(root, line) for line in load_stack(root, service, "account").having(ACCESS)]


def access_rules(root: Root, service: str) -> list[AccessRule]:
    """Return the rules of all these lists."""
    return [rule for rules in access_lists(root, service) for rule in rules]


def _rules_of(root: Root, line: PamLine) -> list[AccessRule]:
    rules: list[AccessRule] = []
    for file in files_read(root, line):
        separator = line.argument("fieldsep") or ":"
        for number, text in enumerate(root.lines(file), start=1):
            parts = [part.strip() for part in text.split(separator, 2)]
            if text.lstrip().startswith("#") or len(parts) < 3 or parts[0] not in ("+", "-"):
                continue
            who, origins = (tuple(part.replace(",", " ").split()) for part in parts[1:])
            source, bare = Source(file, number, text.strip()), line.argument("nodefgroup") is not None
            rules.append(AccessRule(parts[0] == "+", who, origins, source, bare))
    return rules


def files_read(root: Root, line: PamLine) -> list[str]:
    """Return the files that a line of the module reads, in order."""
    if named := line.argument("accessfile"):
        return [named]
    return [ACCESS_CONF, *root.files_matching(f"{ACCESS_FOLDER}/*.conf")]


def every_list(root: Root) -> list[tuple[str, str]]:
    """Return the first file of each list of the access module that is there, and what separates its fields."""
    found: list[tuple[str, str]] = []
    for service in sorted({name for folder in FOLDERS for name in root.files_in(folder)}):
        for line in load_stack(root, service, "account").having(ACCESS):
            first = next((file for file in files_read(root, line) if root.text(file) is not None), None)
            if first is not None:
                found.append((first, line.argument("fieldsep") or ":"))
    return list(dict.fromkeys(found))


def admit(root: Root, account: str, lists: Sequence[tuple[str, str]]) -> None:
    """Allow an account in such lists, for tests on a copy. The first matching line decides."""
    for file, separator in lists:
        root.write(file, f"+{separator}{account}{separator}ALL\n{root.text(file) or ''}")


def access_list(rules: Sequence[AccessRule], origin: str, group_names: Collection[str]) -> tuple[AccessListEntry, ...]:
    """Return the rules as entries for an ``origin``: a terminal, a service, or another computer's address
    (:data:`REMOTE`)."""

    def is_there(token: str) -> bool:
        return token in (origin, "ALL") or (token.upper() == "LOCAL" and origin != REMOTE)

    return tuple(
        AccessListEntry(
            rule.allows,
            tuple(_principals(part, () if rule.in_brackets else group_names) for part in _parts(rule.who)),
            rule.source,
            settable=rule.source.place.startswith(OUR_LISTS),
        )
        for rule in rules
        if _matches(rule.origins, is_there)
    )


def _parts(tokens: Sequence[str]) -> list[list[str]]:
    """Split a list of tokens at each EXCEPT."""
    parts: list[list[str]] = [[]]
    for token in tokens:
        if token.upper() == "EXCEPT":
            parts.append([])
        else:
            parts[-1].append(token)
    return parts


def _principals(tokens: Sequence[str], group_names: Collection[str]) -> Principals:
    if "ALL" in tokens:
        return EVERYONE
    groups = [token.strip("()") for token in tokens if token.startswith("(") or token in group_names]
    return Principals(tuple(token for token in tokens if not token.startswith("(")), tuple(groups))


def _matches(tokens: Sequence[str], matches: Callable[[str], bool]) -> bool:
    """Return whether a list of tokens matches: what follows EXCEPT is excluded."""
    met = False
    for part in reversed(_parts(tokens)):
        met = any(map(matches, part)) and not met
    return met


def confined_groups(root: Root, group_names: Collection[str]) -> dict[str, Source]:
    """Return the groups whose members can sign in at the console only, with the line that denies the rest."""
    services = [name for name in ("login", "sshd") if root.exists(f"/etc/pam.d/{name}")]
    lists = {service: access_lists(root, service) for service in services}
    found: dict[str, Source] = {}
    for mine, rule in ((each, rule) for each in lists.get("login", ()) for rule in each):
        for group in {token.strip("()") for token in rule.who} - found.keys():
            if rule.allows or group not in group_names:
                continue
            member = Account(AccountName(""), "", groups=(GroupName(group),))
            # By the list that denies it elsewhere: one that also denies the console does not change that it is a guest.
            here = _let_in([mine], CONSOLE, group_names, member)
            afar = any(_let_in(each, REMOTE, group_names, member) for each in lists.values())
            if here and not afar:
                found[group] = rule.source
    return found


def _let_in(lists: Sequence[Sequence[AccessRule]], origin: str, group_names: Collection[str], who: Account) -> bool:
    routes = [access_list(rules, origin, group_names) for rules in lists]
    return all(next((each.allows for each in route if each.is_about(who)), True) for route in routes)
