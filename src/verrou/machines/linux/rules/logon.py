"""Who may come in by which way on a Linux system: what the access file, the remote shell server and the PAM stack of
each way's services come to, and the list of each way that is written.

The list of a way stands in a file of Verrou's own, which pam_access(8) goes through in the account stack of each
service of that way: a line about a terminal would not bind somebody from another computer, and one about another
computer would not tell the remote shell from the network.
"""

from collections.abc import Callable, Mapping, Sequence

from attrs import evolve, frozen

from verrou.core.model import Account, AccountName, GroupName, Reading, Source, absent, joined
from verrou.core.model.ways import EVERYBODY as ANYBODY
from verrou.core.model.ways import AccessListEntry, EntryPoint, Principals, Route
from verrou.core.rules.logon import RULES
from verrou.core.values import EVERYBODY, GROUP, Value
from verrou.machines.linux.display_managers import UNASKED_SERVICES
from verrou.machines.linux.files.access_file import ACCESS
from verrou.machines.linux.packages import without_module
from verrou.machines.linux.pam.faillock import module_installed
from verrou.machines.linux.pam.services import behind, sshd_asks_pam
from verrou.machines.linux.pam.stack import load_stack, put_together, service_file
from verrou.machines.linux.population import AccountFiles, members_by_account
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.keeper import LinuxRuleAdapter, System
from verrou.machines.linux.rules.named import checked_names
from verrou.machines.linux.ways import entry_points

FOLDER = "/etc/security"
HEADING = "# Who can sign in by this route. The first line that matches decides. Written by Verrou.\n"


def way_file(way: Route) -> str:
    """The file of a way's list."""
    return f"{FOLDER}/verrou-{way}.conf"


@frozen
class Lists:
    """Whom a way takes and whom it turns away. ``by_account``: the lines are more than two lists can tell, so that the
    accounts stand here that they let in, and turn away, today."""

    allowed: frozenset[str]
    denied: frozenset[str]
    sources: tuple[Source, ...] = ()
    by_account: bool = False


OPEN = Lists(frozenset({EVERYBODY}), frozenset())


def _names(circle: Principals) -> frozenset[str]:
    if circle == ANYBODY:
        return frozenset({EVERYBODY})
    return frozenset((*circle.accounts, *(f"{GROUP}{group}" for group in circle.groups)))


def _lists(gate: EntryPoint, accounts: Sequence[Account]) -> Lists:
    """A gate's lines as two lists: nobody comes through it whom one of its own lists keeps out."""
    whole = OPEN
    for passes in gate.lists:
        found = _one_list(passes, accounts)
        if found is None:
            return _by_account(gate, accounts)
        smaller = _smaller(whole.allowed, found.allowed)
        if smaller is None:
            return _by_account(gate, accounts)
        denied = whole.denied | found.denied
        denied = OPEN.allowed if EVERYBODY in denied else denied
        whole = Lists(smaller, denied, (*whole.sources, *found.sources))
    return whole


def _smaller(one: frozenset[str], other: frozenset[str]) -> frozenset[str] | None:
    """The one of two lists that is within the other; None where neither is."""
    for small, large in ((one, other), (other, one)):
        if EVERYBODY in large or small <= large:
            return small
    return None


def _one_list(passes: Sequence[AccessListEntry], accounts: Sequence[Account]) -> Lists | None:
    """Lines of which the first that is about somebody decides; None where they are more than two lists can tell."""
    denied: frozenset[str] = frozenset()
    accepted: frozenset[str] = frozenset()
    taken: list[Principals] = []
    allowed: frozenset[str] | None = None
    used: list[Source] = []
    for each in passes:
        everybody = each.who[0] == ANYBODY
        if any(circle.account_patterns or circle.group_patterns for circle in each.who):
            return None
        if len(each.who) > 2 or (len(each.who) == 2 and (each.lets_in or not everybody)):
            return None
        used += [each.source] if each.source is not None else []
        if everybody and each.lets_in:
            break
        if everybody:
            within = accepted | (_names(each.who[1]) if len(each.who) == 2 else frozenset())
            smaller = _smaller(within, frozenset({EVERYBODY}) if allowed is None else allowed)
            if smaller is None:
                return None
            allowed = smaller
            if len(each.who) == 1:
                break
        elif each.lets_in:
            accepted |= _names(each.who[0])
            taken.append(each.who[0])
        elif any(each.who[0].contains(a) and any(c.contains(a) for c in taken) for a in accounts):
            if not _names(each.who[0]) <= accepted:
                return None
        else:
            denied |= _names(each.who[0]) - accepted
    if allowed is None:
        return Lists(OPEN.allowed, denied, tuple(used))
    # Whom no list takes, every list turns away: who asks for either finds it.
    return Lists(allowed, denied if allowed else OPEN.allowed, tuple(used))


def _by_account(gate: EntryPoint, accounts: Sequence[Account]) -> Lists:
    sources = tuple(each.source for passes in gate.lists for each in passes if each.source is not None)
    return _parted(gate.lets_through, accounts, sources)


def _parted(lets_in: Callable[[Account], bool], accounts: Sequence[Account], sources: tuple[Source, ...]) -> Lists:
    """Two lists that hold each account by its name."""
    every = frozenset(str(account.name) for account in accounts)
    names = frozenset(str(account.name) for account in accounts if lets_in(account))
    return Lists(names, every - names, sources, by_account=True)


def lists_of(way: Route, every: Sequence[EntryPoint], accounts: Sequence[Account]) -> Lists | None:
    """The two lists that a way comes to; None where nobody comes by it at all. Somebody is in who gets through any of
    its gates."""
    mine = [gate for gate in every if gate.way is way and not gate.unasked]
    if not mine:
        return None
    found = [_lists(gate, accounts) for gate in mine]
    if len(found) == 1:
        return found[0]
    if way is Route.REMOTE_SHELL:  # each gate is for some accounts alone
        return _parted(lambda one: any(gate.lets_through(one) for gate in mine), accounts, found[0].sources)
    allowed: frozenset[str] = frozenset().union(*(each.allowed for each in found))
    denied = frozenset.intersection(*(each.denied for each in found))
    whole = frozenset({EVERYBODY}) if EVERYBODY in allowed else allowed
    return Lists(whole, denied, found[0].sources, any(each.by_account for each in found))


def _read(way: Route, key: str) -> Callable[[System], Reading]:
    def read(system: System) -> Reading:
        mine = [gate for gate in system.entry_points if gate.way is way and not gate.unasked]
        found = lists_of(way, system.entry_points, system.accounts)
        if found is None:
            return absent(f"no service of this system offers {way}")
        value = found.allowed if key == "allowed" else found.denied
        by = joined(list(dict.fromkeys(service for gate in mine for service in gate.services)))
        said = f"by {by}" if by else ""
        if found.by_account:
            meet = "get through them" if key == "allowed" else "are denied"
            said += f"; the lines are more than one list: these accounts {meet} today"
        fallback = mine[0].source
        return Reading(value, source=(found.sources or (fallback,))[0], overrides=found.sources[1:], reason=said)

    return read


def _write(way: Route, key: str) -> Callable[[Root, Value], str]:
    """Change our own list of the way; what others wrote goes on deciding beside it, and is told."""

    def write(root: Root, value: Value) -> str:
        names = frozenset(checked_names(root, value))
        people = members_by_account(AccountFiles.load(root))
        own = _own(root, way)
        _put(root, way, evolve(own, allowed=names) if key == "allowed" else evolve(own, denied=names))
        accounts = [Account(AccountName(n), "", groups=tuple(map(GroupName, g))) for n, g in people.items()]
        every = entry_points(root, {group for groups in people.values() for group in groups}, list(people.items()))
        after = lists_of(way, every, accounts) or OPEN
        came: frozenset[str] = getattr(after, key)
        said = f"{way_file(way)}, in the account stack of {joined([s.name for s in behind(root, way)])}"
        if came == names or (after.by_account and _same_people(came, names, accounts, key)):
            return said
        goes_on = f"{_deciding(after, way)} decides too: {KIND[key].say(came)}"
        if not KIND[key].at_least(came, names):
            raise StepRejected(f"{goes_on}; change it there")
        return f"{said}; {goes_on}"

    return write


KIND = {rule.key.rpartition(".")[2]: rule.kind for rule in RULES}


def _deciding(after: Lists, way: Route) -> str:
    """The first line of those that count that is not one of ours."""
    others = [str(source) for source in after.sources if source.place != way_file(way)]
    return next(iter(others), "the PAM stack")


def _same_people(came: frozenset[str], value: frozenset[str], accounts: Sequence[Account], key: str) -> bool:
    """Whether a list of accounts comes to a list with groups, or to less than that."""
    groups = tuple(name.removeprefix(GROUP) for name in value if name.startswith(GROUP))
    circle = ANYBODY if EVERYBODY in value else Principals(tuple(n for n in value if not n.startswith(GROUP)), groups)
    meant = {str(account.name) for account in accounts if circle.contains(account)}
    return came <= meant if key == "allowed" else meant <= came


def _put(root: Root, way: Route, wanted: Lists) -> None:
    """Write the list of a way, and have each of its services go through it."""
    if not module_installed(root, ACCESS):
        raise StepRejected("; ".join(filter(None, without_module(root, ACCESS))))
    file = way_file(way)
    _write_own(root, way, wanted)
    names = [service.name for service in behind(root, way)]
    if way is Route.CONSOLE:
        names += [name for name in UNASKED_SERVICES if root.exists(f"/etc/pam.d/{name}")]
    for name in names:
        mine = load_stack(root, name, "account").having(ACCESS)
        if any(line.argument("accessfile") == file for line in mine):
            continue
        if name == "sshd" and not sshd_asks_pam(root):
            raise StepRejected("the remote shell server does not ask PAM (UsePAM no); set UsePAM yes first")
        _into_service(root, name, file)


def _into_service(root: Root, service: str, file: str) -> None:
    """A line before all others of its account stack: nothing that comes before it could end that with success."""
    stands = service_file(root, service)
    text = root.text(stands) if stands else None
    if text is None:
        raise StepRejected(
            f"{service} has no file of its own in /etc/pam.d, so nothing can be put into its stack alone"
        )
    place = f"/etc/pam.d/{service}"
    if stands == place and (reason := put_together(root, place)):
        raise StepRejected(reason)
    lines = text.split("\n")
    at = 1 if lines and lines[0].startswith("#%PAM") else 0
    lines[at:at] = [f"account\trequired\t{ACCESS} nodefgroup accessfile={file}"]
    root.write(place, "\n".join(lines))


def _own(root: Root, way: Route) -> Lists:
    """What our own file says of a way; without one it takes everybody."""
    lines = [line.split(":") for line in root.lines(way_file(way)) if line[:2] in ("-:", "+:")]
    named = {sign: frozenset(map(_name, who.split())) for sign, who, _ in lines if who != "ALL"}
    allowed = OPEN.allowed if ["-", "ALL", "ALL"] not in lines else named.get("+", frozenset())
    return Lists(allowed, named.get("-", frozenset()))


def _write_own(root: Root, way: Route, wanted: Lists) -> None:
    lines = [f"-:{_who(wanted.denied)}:ALL"] if wanted.denied else []
    if EVERYBODY not in wanted.allowed:
        lines += [f"+:{_who(wanted.allowed)}:ALL"] if wanted.allowed else []
        lines.append("-:ALL:ALL")
    root.write(way_file(way), HEADING + "".join(f"{line}\n" for line in lines))


def _who(names: frozenset[str]) -> str:
    """Names as access.conf(5) writes them: a group in brackets."""
    if EVERYBODY in names:
        return "ALL"
    for name in names:
        plain = name.removeprefix(GROUP)
        if set(plain) & set(" \t:,()") or plain[0] in "@+-" or plain.upper() in ("ALL", "EXCEPT", "LOCAL"):
            raise StepRejected(f"{plain} is a name that {FOLDER}/access.conf(5) cannot hold; name a group without it")
    return " ".join(sorted(f"({n.removeprefix(GROUP)})" if n.startswith(GROUP) else n for n in names))


def _name(word: str) -> str:
    """The inverse, for one name."""
    return f"{GROUP}{word.strip('()')}" if word.startswith("(") else word


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Have our own lists name somebody by another name, or by none where it is empty: whoever is made under the old one
    later is not meant. A list of who is allowed that names no one any more allows no one."""
    for way in Route:
        own = _own(root, way)
        if name in own.allowed | own.denied:
            _write_own(root, way, Lists(_renamed(own.allowed, name, new_name), _renamed(own.denied, name, new_name)))


def _renamed(names: frozenset[str], name: str, new_name: str) -> frozenset[str]:
    return frozenset(filter(None, (new_name if each == name else each for each in names)))


def _cannot(way: Route) -> Callable[[System], str]:
    def cannot(system: System) -> str:
        root = system.root
        services = behind(root, way)
        if not services:
            return f"no service of this system offers {way}"
        if not module_installed(root, ACCESS):
            return "; ".join(filter(None, without_module(root, ACCESS)))
        for service in services:
            stands = service_file(root, service.name)
            if not stands:
                return f"{service.name} has no file of its own in /etc/pam.d"
            if reason := put_together(root, stands):
                return reason
        if way is Route.REMOTE_SHELL and not sshd_asks_pam(root):
            return "the remote shell server does not ask PAM (UsePAM no); set UsePAM yes first"
        return ""

    return cannot


def _keeper(way: Route, key: str) -> LinuxRuleAdapter:
    what = "comes" if key == "allowed" else "is denied"
    also = ", and what sshd_config says" if way is Route.REMOTE_SHELL else ""
    return LinuxRuleAdapter(
        f"who {what}: the lines of pam_access in the account stack of each service of that route{also}; written to "
        f"{way_file(way)}",
        _read(way, key),
        _write(way, key),
        cannot=_cannot(way),
    )


KEEPERS: Mapping[str, LinuxRuleAdapter] = {
    f"logon.{way}.{key}": _keeper(way, key) for way in Route for key in ("allowed", "denied")
}
