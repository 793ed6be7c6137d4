"""Sign-in screens of a Linux system: automatic sign-in, listed accounts, and the shut-down button."""

from collections.abc import Callable, Mapping

from verrou.core.model import Grant, Origin, Reading, Source, absent, program_default, unreadable
from verrou.core.rules.screen import RULES
from verrou.core.values import EVERYONE, GROUP, Value
from verrou.machines.linux.accounts.population import AccountFiles, login_defs, members_by_account, numbers_of_people
from verrou.machines.linux.elevation import polkit
from verrou.machines.linux.entry.automatic import Automatic
from verrou.machines.linux.entry.display_managers import (
    GDM_CONF,
    LXDM_CONF,
    SDDM_CONF,
    SEATS,
    TRUE,
    automatic_accounts,
    gdm_screen,
    in_use,
    lightdm_files,
    of_seat,
    put_on_gdm_screen,
    sddm_files,
)
from verrou.machines.linux.files.access_file import confined_groups
from verrou.machines.linux.files.account_files import PasswdField
from verrou.machines.linux.files.keyfile import all_entries, drop_ins, last_of, set_key, with_entry
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, weakest
from verrou.machines.linux.rules.rights import POWER_OFF, asked_of_screen

KINDS = {str(rule.id): rule.kind for rule in RULES}
LIGHTDM_OWN = "/etc/lightdm/lightdm.conf.d/90-verrou.conf"
GREETER_CONF = "/etc/lightdm/lightdm-gtk-greeter.conf"
SDDM_OWN = "/etc/sddm.conf.d/zz-verrou.conf"
ACCOUNTS_SERVICE = "/var/lib/AccountsService/users"
USERS_CONF = "/etc/lightdm/users.conf"
ACCOUNTS_DAEMON = ("/usr/libexec/accounts-daemon", "/usr/lib/accountsservice/accounts-daemon")
NO_SCREEN = "no sign-in screen is installed; the text console asks for a name and lists none"


def _by_screen(rule_id: str, readers: Mapping[str, Callable[[System], Reading]]) -> Callable[[System], Reading]:
    """Return the weakest value of the sign-in screens that may be in use."""

    def read(system: System) -> Reading:
        there = in_use(system.root)
        if not there:
            return absent(NO_SCREEN)
        none = unreadable("which key of its files decides that is not known")
        found = [(name, readers[name](system) if name in readers else none) for name in there]
        return weakest(KINDS[rule_id], found)

    return read


# Automatic sign-in


def _is_for_a_guest(each: Automatic, guests: set[str]) -> bool:
    """Return whether only a guest is signed in so: a guest account, or a session without an account."""
    return not each.anybody and (not each.account or each.account in guests)


def _guests(groups: Mapping[str, tuple[str, ...]], confined: set[str], administrators: set[str]) -> set[str]:
    return {name for name, mine in groups.items() if confined & set(mine)} - administrators


def _read_automatic(system: System) -> Reading:
    found = automatic_accounts(system.root)
    if not found:
        return Reading("nobody", source=program_default("no file asks for it"))
    groups = {str(account.name): tuple(map(str, account.groups)) for account in system.accounts}
    confined = {str(group.name) for group in system.groups if Grant.GUEST_USE in group.grants}
    guests = _guests(groups, confined, {str(account.name) for account in system.administrators})
    found.sort(key=lambda each: (_is_for_a_guest(each, guests) and each.known, not each.known))
    worst = found[0]
    others = tuple(each.source for each in found if each is not worst)
    if not worst.known:
        return unreadable(worst.statement, source=worst.source)
    value = "guests" if _is_for_a_guest(worst, guests) else "anyone"
    reason = f"{worst.account or 'anyone'}: {worst.statement}"
    return Reading(value, source=worst.source, overrides=others, reason=reason)


def _put_automatic(root: Root, value: Value) -> str:
    """Clear every place that sets automatic sign-in; a vendor's is overridden."""
    people = members_by_account(AccountFiles.load(root))
    confined = set(confined_groups(root, {group for groups in people.values() for group in groups}))
    spared = _guests(people, confined, set()) if value == "guests" else None

    def unwanted() -> list[Automatic]:
        return [each for each in automatic_accounts(root) if spared is None or not _is_for_a_guest(each, spared)]

    message = [_switch_off(root, each) for each in unwanted()]
    if left := unwanted():
        raise StepRejected(f"{left[0].source} still signs someone in automatically. Remove it manually")
    return "; ".join(dict.fromkeys(message))


def _switch_off(root: Root, each: Automatic) -> str:
    """Remove one automatic sign-in wherever it is set."""
    if not each.known:
        raise StepRejected(f"{each.source}: {each.statement}. Check it manually")
    match each.service:
        case "lightdm-autologin":
            keys = {"autologin-user": ""} if each.account else {"autologin-guest": "false", "allow-guest": "false"}
            for key, value in keys.items():
                _set_lightdm(root, key, value)
        case "gdm-autologin":
            for file in GDM_CONF:
                for kind in ("AutomaticLogin", "TimedLogin"):
                    set_key(root, file, "daemon", f"{kind}Enable", "false")
        case "sddm-autologin":
            for file in sddm_files(root):
                set_key(root, file, "Autologin", "User", "", only_there=file != SDDM_CONF)
        case "lxdm":
            set_key(root, LXDM_CONF, "base", "autologin", None)
        case "greetd":
            raise StepRejected(f"{each.source}: remove [initial_session] manually")
        case _:
            raise StepRejected(f"{each.source}: {each.statement}. Remove that line manually")
    return f"takes effect after {each.service.removesuffix('-autologin')} restarts"


def _set_lightdm(root: Root, key: str, value: str) -> None:
    """Set a key of lightdm: where it is set in /etc, and in a file of our own over the vendors'."""
    for file in lightdm_files(root):
        for section in SEATS:
            set_key(root, file, section, key, value)
    now = of_seat(root).get(key)
    if now is None or now.value != value:
        set_key(root, LIGHTDM_OWN, SEATS[0], key, value, only_there=False)


# Who is listed


def _people(root: Root) -> list[str]:
    numbers = numbers_of_people(login_defs(root))
    return [r.name for r in AccountFiles.load(root).passwd.records() if int(r.fields[PasswdField.UID]) in numbers]


def _read_hidden_lightdm(system: System) -> Reading:
    root = system.root
    entry = of_seat(root).get("greeter-hide-users")
    if entry is not None and entry.value.lower() in TRUE:
        return Reading(frozenset({EVERYONE}), source=entry.source)
    found = _hidden_by_service(root) if _has_service(root) else _hidden_by_lightdm(root)
    people = {str(account.name) for account in system.accounts if account.origin is Origin.ADDED}
    listed = {name: source for name, source in found.items() if name in people}
    first = next(iter(listed.values()), entry.source if entry is not None else program_default())
    return Reading(frozenset(listed), source=first)


def _has_service(root: Root) -> bool:
    return any(root.exists(daemon) for daemon in ACCOUNTS_DAEMON)


def _hidden_by_service(root: Root) -> dict[str, Source]:
    found = {}
    for name in root.files_in(ACCOUNTS_SERVICE):
        file = f"{ACCOUNTS_SERVICE}/{name}"
        entry = last_of(all_entries(root, [file]), "User", "SystemAccount")
        if entry is not None and entry.value.lower() == "true":
            found[name] = entry.source
    return found


def _hidden_by_lightdm(root: Root) -> dict[str, Source]:
    entry = last_of(all_entries(root, [USERS_CONF]), "UserList", "hidden-users")
    return dict.fromkeys(entry.value.split(), entry.source) if entry is not None else {}


def _read_hidden_gdm(system: System) -> Reading:
    entry = gdm_screen(system.root, "disable-user-list")
    if entry is not None and entry[0] == "true":
        return Reading(frozenset({EVERYONE}), source=entry[1])
    hidden = _hidden_by_service(system.root)
    people = {str(account.name) for account in system.accounts if account.origin is Origin.ADDED}
    first = next((s for n, s in hidden.items() if n in people), entry[1] if entry else program_default())
    return Reading(frozenset(hidden.keys() & people), source=first)


def _read_hidden_sddm(system: System) -> Reading:
    entry = last_of(all_entries(system.root, sddm_files(system.root)), "Users", "HideUsers")
    names = frozenset(name.strip() for name in entry.value.split(",") if name.strip()) if entry else frozenset[str]()
    return Reading(names, source=entry.source if entry else program_default())


def _put_hidden(root: Root, value: Value) -> str:
    assert isinstance(value, frozenset)
    if group := next((name for name in sorted(value) if name.startswith(GROUP)), ""):
        raise StepRejected(
            f"a sign-in screen hides accounts by their names, and not {group.removeprefix(GROUP)} as a group"
        )
    every, there = EVERYONE in value, in_use(root)
    people = _people(root)
    if strange := sorted(value - set(people) - {EVERYONE}):
        raise StepRejected(f"no person's account is called {strange[0]} here")
    if "lightdm" in there:
        _set_lightdm(root, "greeter-hide-users", "true" if every else "false")
    if "gdm3" in there:
        put_on_gdm_screen(root, "disable-user-list", "true" if every else "false")
    if not every and {"lightdm", "gdm3"} & set(there):
        # Which of the two decides hangs on whether a service runs: both are written.
        set_key(root, USERS_CONF, "UserList", "hidden-users", " ".join(sorted(value)), only_there=False)
        for name in people:
            file = f"{ACCOUNTS_SERVICE}/{name}"
            if _has_service(root) and (name in value or root.exists(file)):
                text = root.text(file) or ""
                root.write(file, with_entry(text, "User", "SystemAccount", "true" if name in value else "false"), 0o600)
    if "sddm" in there:
        names = people if every else sorted(value)
        for file in sddm_files(root):
            set_key(root, file, "Users", "HideUsers", ",".join(names))
        set_key(root, SDDM_OWN, "Users", "HideUsers", ",".join(names), only_there=False)
    return "takes effect after the sign-in screen restarts"


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Keep an account hidden on the sign-in screen under its new name; a removed one leaves no entry."""
    file = f"{ACCOUNTS_SERVICE}/{name}"
    if root.exists(file):
        if new_name:
            root.rename(file, f"{ACCOUNTS_SERVICE}/{new_name}")
        else:
            root.remove(file)
    for place, section, key, separator in (
        (USERS_CONF, "UserList", "hidden-users", " "),
        (SDDM_OWN, "Users", "HideUsers", ","),
    ):
        entry = last_of(all_entries(root, [place]), section, key)
        names = entry.value.split(separator) if entry is not None else []
        if name in names:
            left = filter(None, (new_name if each == name else each for each in names))
            set_key(root, place, section, key, separator.join(left))


def _cannot_without_screen(system: System) -> str:
    return "" if in_use(system.root) else NO_SCREEN


# The last account, the shut-down button


def _read_last_sddm(system: System) -> Reading:
    entry = last_of(all_entries(system.root, sddm_files(system.root)), "Users", "RememberLastUser")
    shows = entry is None or entry.value.lower() in TRUE
    return Reading(shows, source=entry.source if entry else program_default("RememberLastUser=true"))


def _read_last_lightdm(system: System) -> Reading:
    return unreadable("lightdm leaves that to its greeter, which has no setting for it")


def _put_last(root: Root, value: Value) -> str:
    if "sddm" not in in_use(root):
        raise StepRejected("the sign-in screen here has no setting for that")
    for file in sddm_files(root):
        set_key(root, file, "Users", "RememberLastUser", "true" if value else "false")
    set_key(root, SDDM_OWN, "Users", "RememberLastUser", "true" if value else "false", only_there=False)
    return "takes effect after sddm restarts"


def _cannot_last(system: System) -> str:
    return "" if "sddm" in in_use(system.root) else "the sign-in screen here has no setting for that"


POWER = "~power"
INDICATORS = "~host;~spacer;~clock;~spacer;~layout;~session;~a11y;~power"


def _read_button_lightdm(system: System) -> Reading:
    """Return whether there is a button by lightdm-gtk-greeter's list of indicators, as a reading."""
    if not system.root.exists("/usr/sbin/lightdm-gtk-greeter"):
        return unreadable("what that greeter of lightdm offers is set in files that Verrou does not know")
    folders = ("/usr/share/lightdm/lightdm-gtk-greeter.conf.d", "/etc/lightdm/lightdm-gtk-greeter.conf.d")
    files = [*drop_ins(system.root, folders), GREETER_CONF]
    entry = last_of(all_entries(system.root, files), "greeter", "indicators")
    found = Reading(True, source=program_default("its indicators have ~power"))
    found = Reading(POWER in entry.value, source=entry.source) if entry is not None else found
    return _where_polkit_lets(system, LIGHTDM_USER, found) if found.value else found


LIGHTDM_USER = "lightdm"
"""The account that the sign-in screen of lightdm runs as."""


def _where_polkit_lets(system: System, screen: str, found: Reading) -> Reading:
    """Return the reading of a button, by what polkit allows the sign-in screen's own account."""
    account = next((each for each in system.accounts if each.name == screen), None)
    if account is None or not polkit.installed(system.root):
        return found
    answers = asked_of_screen(system, screen, account.groups, POWER_OFF)
    if answers is None:
        return unreadable(f"there is a button, and polkit's answer to {screen} is not known", source=found.source)
    if not answers or polkit.YES in answers:
        return found
    return Reading(False, source=found.source, reason=f"there is a button, and polkit denies {screen} to shut down")


def _read_button_gdm(system: System) -> Reading:
    entry = gdm_screen(system.root, "disable-restart-buttons")
    return Reading(not (entry is not None and entry[0] == "true"), source=entry[1] if entry else program_default())


def _put_button(root: Root, value: Value) -> str:
    there = in_use(root)
    if "gdm3" in there:
        put_on_gdm_screen(root, "disable-restart-buttons", "false" if value else "true")
    if "lightdm" in there:
        entry = last_of(all_entries(root, [GREETER_CONF]), "greeter", "indicators")
        names = [name for name in (entry.value if entry else INDICATORS).split(";") if name and name != POWER]
        names += [POWER] if value else []
        set_key(root, GREETER_CONF, "greeter", "indicators", ";".join(names), only_there=False)
    return "takes effect after the sign-in screen restarts"


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "screen.automatic_signin": LinuxRuleAdapter(
        "autologin and timed sign-in in the files of lightdm, gdm3, sddm, lxdm and greetd, lightdm's guest sessions, "
        "and agetty's --autologin in units of systemd",
        _read_automatic,
        _put_automatic,
    ),
    "screen.hidden_accounts": LinuxRuleAdapter(
        f"greeter-hide-users of lightdm, and SystemAccount of each account in {ACCOUNTS_SERVICE}; disable-user-list of "
        "gdm3; HideUsers of sddm",
        _by_screen(
            "screen.hidden_accounts",
            {"lightdm": _read_hidden_lightdm, "gdm3": _read_hidden_gdm, "sddm": _read_hidden_sddm},
        ),
        _put_hidden,
        cannot=_cannot_without_screen,
    ),
    "screen.shows_last_account": LinuxRuleAdapter(
        "RememberLastUser of sddm; the other sign-in screens have no setting for it",
        _by_screen("screen.shows_last_account", {"sddm": _read_last_sddm, "lightdm": _read_last_lightdm}),
        _put_last,
        cannot=_cannot_last,
    ),
    "screen.shut_down_button": LinuxRuleAdapter(
        f"disable-restart-buttons of gdm3; the indicators in {GREETER_CONF} of lightdm's own greeter",
        _by_screen("screen.shut_down_button", {"lightdm": _read_button_lightdm, "gdm3": _read_button_gdm}),
        _put_button,
        cannot=_cannot_without_screen,
    ),
}
ABSENT: Mapping[str, str] = {
    "screen.locked_shows": "each screen locker decides that, and none has a setting for all users",
    "screen.attention_key": "no sign-in screen waits for a key sequence that no program could fake",
}
