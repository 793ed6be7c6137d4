"""Sign-in rights by route: the access file, the remote shell server and the PAM stack of each service; writing lists.

The list of a route is in a file of Verrou's own, which pam_access(8) reads in the account stack of each service of that
route: a line about a terminal would not apply to another computer, and one about another computer would not tell the
remote shell from the network."""

from collections.abc import Callable, Mapping, Sequence

from attrs import evolve, frozen

from verrou.core.model import Account, AccountName, GroupName, Reading, Source, absent, joined
from verrou.core.model.routes import EVERYONE as ANYBODY
from verrou.core.model.routes import AccessListEntry, EntryPoint, Principals, Route
from verrou.core.rules.logon import RULES
from verrou.core.values import EVERYONE, GROUP, Value
from verrou.machines.linux.accounts.population import AccountFiles, members_by_account
from verrou.machines.linux.entry.display_managers import UNASKED_SERVICES
from verrou.machines.linux.entry.routes import entry_points
from verrou.machines.linux.files.access_file import ACCESS
from verrou.machines.linux.packages import without_module
from verrou.machines.linux.pam.faillock import module_installed
from verrou.machines.linux.pam.services import behind, sshd_asks_pam
from verrou.machines.linux.pam.stack import load_stack, put_together, service_file
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System
from verrou.machines.linux.rules.named import checked_names

FOLDER = "/etc/security"
HEADING = "# Who can sign in by this route. The first line that matches decides. Written by Verrou.\n"


def route_file(route: Route) -> str:
    """Return the file of a route's list."""
    return f"{FOLDER}/verrou-{route}.conf"


@frozen(repr=False)
class Lists:
    """The allowed and the denied of a route.

    ``by_account``: the lines are more than two lists can express, so these are the accounts allowed and denied
    today."""

    allowed: frozenset[str]
    denied: frozenset[str]
    sources: tuple[Source, ...] = ()
    by_account: bool = False


OPEN = Lists(frozenset({EVERYONE}), frozenset())


def _names(principals: Principals) -> frozenset[str]:
    if principals == ANYBODY:
        return frozenset({EVERYONE})
    return frozenset((*principals.accounts, *(f"{GROUP}{group}" for group in principals.groups)))


def _lists(entry_point: EntryPoint, accounts: Sequence[Account]) -> Lists:
    """Return the lines of an entry point as two lists: no one is admitted whom one of its own lists denies."""
    whole = OPEN
    for entries in entry_point.lists:
        found = _one_list(entries, accounts)
        if found is None:
            return _by_account(entry_point, accounts)
        smaller = _smaller(whole.allowed, found.allowed)
        if smaller is None:
            return _by_account(entry_point, accounts)
        denied = whole.denied | found.denied
        denied = OPEN.allowed if EVERYONE in denied else denied
        whole = Lists(smaller, denied, (*whole.sources, *found.sources))
    return whole


def _smaller(one: frozenset[str], other: frozenset[str]) -> frozenset[str] | None:
    """Return the one of two lists that is contained in the other; None where neither is."""
    for small, large in ((one, other), (other, one)):
        if EVERYONE in large or small <= large:
            return small
    return None


def _one_list(entries: Sequence[AccessListEntry], accounts: Sequence[Account]) -> Lists | None:
    """Return first-match entries as one list; None where two lists cannot express them."""
    denied: frozenset[str] = frozenset()
    accepted: frozenset[str] = frozenset()
    taken: list[Principals] = []
    allowed: frozenset[str] | None = None
    used: list[Source] = []
    for each in entries:
        everyone = each.who[0] == ANYBODY
        if any(principals.account_patterns or principals.group_patterns for principals in each.who):
            return None
        if len(each.who) > 2 or (len(each.who) == 2 and (each.allows or not everyone)):
            return None
        used += [each.source] if each.source is not None else []
        if everyone and each.allows:
            break
        if everyone:
            within = accepted | (_names(each.who[1]) if len(each.who) == 2 else frozenset())
            smaller = _smaller(within, frozenset({EVERYONE}) if allowed is None else allowed)
            if smaller is None:
                return None
            allowed = smaller
            if len(each.who) == 1:
                break
        elif each.allows:
            accepted |= _names(each.who[0])
            taken.append(each.who[0])
        elif any(each.who[0].contains(a) and any(c.contains(a) for c in taken) for a in accounts):
            if not _names(each.who[0]) <= accepted:
                return None
        else:
            denied |= _names(each.who[0]) - accepted
    if allowed is None:
        return Lists(OPEN.allowed, denied, tuple(used))
    # An account that no list allows is denied by every list: both questions find it.
    return Lists(allowed, denied if allowed else OPEN.allowed, tuple(used))


def _by_account(entry_point: EntryPoint, accounts: Sequence[Account]) -> Lists:
    sources = tuple(each.source for entries in entry_point.lists for each in entries if each.source is not None)
    return _parted(entry_point.admits, accounts, sources)


def _parted(allows: Callable[[Account], bool], accounts: Sequence[Account], sources: tuple[Source, ...]) -> Lists:
    """Return two lists with each account by name."""
    every = frozenset(str(account.name) for account in accounts)
    names = frozenset(str(account.name) for account in accounts if allows(account))
    return Lists(names, every - names, sources, by_account=True)


def lists_of(route: Route, every: Sequence[EntryPoint], accounts: Sequence[Account]) -> Lists | None:
    """Return the two lists of a route; None where no one can sign in by it. One admitting entry point is enough."""
    mine = [entry_point for entry_point in every if entry_point.route is route and not entry_point.automatic]
    if not mine:
        return None
    found = [_lists(entry_point, accounts) for entry_point in mine]
    if len(found) == 1:
        return found[0]
    if route is Route.REMOTE_SHELL:  # each entry point is for some accounts alone
        return _parted(lambda one: any(entry_point.admits(one) for entry_point in mine), accounts, found[0].sources)
    allowed: frozenset[str] = frozenset().union(*(each.allowed for each in found))
    denied = frozenset.intersection(*(each.denied for each in found))
    whole = frozenset({EVERYONE}) if EVERYONE in allowed else allowed
    return Lists(whole, denied, found[0].sources, any(each.by_account for each in found))


def _read(route: Route, key: str) -> Callable[[System], Reading]:
    def read(system: System) -> Reading:
        mine = [
            entry_point
            for entry_point in system.entry_points
            if entry_point.route is route and not entry_point.automatic
        ]
        found = lists_of(route, system.entry_points, system.accounts)
        if found is None:
            return absent(f"no service of this system offers {route}")
        value = found.allowed if key == "allowed" else found.denied
        by = joined(list(dict.fromkeys(service for entry_point in mine for service in entry_point.services)))
        message = f"by {by}" if by else ""
        if found.by_account:
            meet = "get through them" if key == "allowed" else "are denied"
            message += f"; the lines are more than one list: these accounts {meet} today"
        fallback = mine[0].source
        return Reading(value, source=(found.sources or (fallback,))[0], overrides=found.sources[1:], reason=message)

    return read


def _write(route: Route, key: str) -> Callable[[Root, Value], str]:
    """Change our own list of the route; what others wrote still decides as well, and is reported."""

    def write(root: Root, value: Value) -> str:
        names = frozenset(checked_names(root, value))
        people = members_by_account(AccountFiles.load(root))
        own = _own(root, route)
        _put(root, route, evolve(own, allowed=names) if key == "allowed" else evolve(own, denied=names))
        accounts = [Account(AccountName(n), "", groups=tuple(map(GroupName, g))) for n, g in people.items()]
        every = entry_points(root, {group for groups in people.values() for group in groups}, list(people.items()))
        after = lists_of(route, every, accounts) or OPEN
        came: frozenset[str] = getattr(after, key)
        message = f"{route_file(route)}, in the account stack of {joined([s.name for s in behind(root, route)])}"
        if came == names or (after.by_account and _same_people(came, names, accounts, key)):
            return message
        goes_on = f"{_deciding(after, route)} decides too: {KIND[key].format(came)}"
        if not KIND[key].at_least(came, names):
            raise StepRejected(f"{goes_on}; change it there")
        return f"{message}; {goes_on}"

    return write


KIND = {rule.key.rpartition(".")[2]: rule.kind for rule in RULES}


def _deciding(after: Lists, route: Route) -> str:
    """Return the first deciding line that is not one of ours."""
    others = [str(source) for source in after.sources if source.place != route_file(route)]
    return next(iter(others), "the PAM stack")


def _same_people(came: frozenset[str], value: frozenset[str], accounts: Sequence[Account], key: str) -> bool:
    """Return whether a list of accounts equals a list with groups, or is less than it."""
    groups = tuple(name.removeprefix(GROUP) for name in value if name.startswith(GROUP))
    principals = (
        ANYBODY if EVERYONE in value else Principals(tuple(n for n in value if not n.startswith(GROUP)), groups)
    )
    meant = {str(account.name) for account in accounts if principals.contains(account)}
    return came <= meant if key == "allowed" else meant <= came


def _put(root: Root, route: Route, required: Lists) -> None:
    """Write the list of a route, and have each of its services read it."""
    if not module_installed(root, ACCESS):
        raise StepRejected("; ".join(filter(None, without_module(root, ACCESS))))
    file = route_file(route)
    _write_own(root, route, required)
    names = [service.name for service in behind(root, route)]
    if route is Route.CONSOLE:
        names += [name for name in UNASKED_SERVICES if root.exists(f"/etc/pam.d/{name}")]
    for name in names:
        mine = load_stack(root, name, "account").having(ACCESS)
        if any(line.argument("accessfile") == file for line in mine):
            continue
        if name == "sshd" and not sshd_asks_pam(root):
            raise StepRejected("the remote shell server does not ask PAM (UsePAM no); set UsePAM yes first")
        _into_service(root, name, file)


def _into_service(root: Root, service: str, file: str) -> None:
    """Add a line before all others of its account stack: nothing before it could end that with success."""
    stands = service_file(root, service)
    text = root.text(stands) if stands else None
    if text is None:
        raise StepRejected(f"{service} has no file of its own in /etc/pam.d, so its stack cannot be changed separately")
    place = f"/etc/pam.d/{service}"
    if stands == place and (reason := put_together(root, place)):
        raise StepRejected(reason)
    lines = text.split("\n")
    at = 1 if lines and lines[0].startswith("#%PAM") else 0
    lines[at:at] = [f"account\trequired\t{ACCESS} nodefgroup accessfile={file}"]
    root.write(place, "\n".join(lines))


def _own(root: Root, route: Route) -> Lists:
    """Return our own file's list of a route; without one everyone is allowed."""
    lines = [line.split(":") for line in root.lines(route_file(route)) if line[:2] in ("-:", "+:")]
    named = {sign: frozenset(map(_name, who.split())) for sign, who, _ in lines if who != "ALL"}
    allowed = OPEN.allowed if ["-", "ALL", "ALL"] not in lines else named.get("+", frozenset())
    return Lists(allowed, named.get("-", frozenset()))


def _write_own(root: Root, route: Route, required: Lists) -> None:
    lines = [f"-:{_who(required.denied)}:ALL"] if required.denied else []
    if EVERYONE not in required.allowed:
        lines += [f"+:{_who(required.allowed)}:ALL"] if required.allowed else []
        lines.append("-:ALL:ALL")
    root.write(route_file(route), HEADING + "".join(f"{line}\n" for line in lines))


def _who(names: frozenset[str]) -> str:
    """Return names as access.conf(5) writes them: a group in brackets."""
    if EVERYONE in names:
        return "ALL"
    for name in names:
        plain = name.removeprefix(GROUP)
        if set(plain) & set(" \t:,()") or plain[0] in "@+-" or plain.upper() in ("ALL", "EXCEPT", "LOCAL"):
            raise StepRejected(f"{plain} cannot be written in {FOLDER}/access.conf(5). Use a group without it")
    return " ".join(sorted(f"({n.removeprefix(GROUP)})" if n.startswith(GROUP) else n for n in names))


def _name(word: str) -> str:
    """Return the inverse, for one name."""
    return f"{GROUP}{word.strip('()')}" if word.startswith("(") else word


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Rename someone in our own lists, or remove the name where the new one is empty.

    An account created under the old name later is not meant. A list of those allowed without a name left allows no
    one."""
    for route in Route:
        own = _own(root, route)
        if name in own.allowed | own.denied:
            _write_own(root, route, Lists(_renamed(own.allowed, name, new_name), _renamed(own.denied, name, new_name)))


def _renamed(names: frozenset[str], name: str, new_name: str) -> frozenset[str]:
    return frozenset(filter(None, (new_name if each == name else each for each in names)))


def _cannot(route: Route) -> Callable[[System], str]:
    def cannot(system: System) -> str:
        root = system.root
        services = behind(root, route)
        if not services:
            return f"no service of this system offers {route}"
        if not module_installed(root, ACCESS):
            return "; ".join(filter(None, without_module(root, ACCESS)))
        for service in services:
            stands = service_file(root, service.name)
            if not stands:
                return f"{service.name} has no file of its own in /etc/pam.d"
            if reason := put_together(root, stands):
                return reason
        if route is Route.REMOTE_SHELL and not sshd_asks_pam(root):
            return "the remote shell server does not ask PAM (UsePAM no); set UsePAM yes first"
        return ""

    return cannot


def _adapter(route: Route, key: str) -> LinuxRuleAdapter:
    what = "comes" if key == "allowed" else "is denied"
    also = ", and what sshd_config says" if route is Route.REMOTE_SHELL else ""
    return LinuxRuleAdapter(
        f"who {what}: the lines of pam_access in the account stack of each service of that route{also}; written to "
        f"{route_file(route)}",
        _read(route, key),
        _write(route, key),
        cannot=_cannot(route),
    )


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    f"logon.{route}.{key}": _adapter(route, key) for route in Route for key in ("allowed", "denied")
}
