"""What the sign-in screens, the text console and the remote shell of a Linux system show before somebody signs in, and
when an idle session ends."""

import re
from collections.abc import Callable, Iterator, Mapping
from datetime import timedelta

from attrs import evolve

from verrou.core.model import Account, Grant, Origin, Reading, Source, absent, shipped_default, unreadable
from verrou.core.rules.screen import RULES
from verrou.core.values import EVERYBODY, GROUP, Notice, Value
from verrou.machines.linux.display_managers import (
    GDM_CONF,
    GREETD_CONF,
    LXDM_CONF,
    SDDM_CONF,
    SEATS,
    TRUE,
    Unasked,
    in_use,
    lightdm_files,
    of_seat,
    sddm_files,
    whom_unasked,
)
from verrou.machines.linux.files import dconf
from verrou.machines.linux.files.keyfile import all_entries, drop_ins, entries, last_of, with_entry
from verrou.machines.linux.files.sshd import SSHD_CONFIG, say, sshd_installed, sshd_setting
from verrou.machines.linux.population import AccountFiles
from verrou.machines.linux.refused import Refused
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.keeper import Keeper, System, weakest

KINDS = {str(rule.id): rule.kind for rule in RULES}
LIGHTDM_OWN = "/etc/lightdm/lightdm.conf.d/90-verrou.conf"
GREETER_CONF = "/etc/lightdm/lightdm-gtk-greeter.conf"
GDM_SCREEN = ("/etc/gdm3/greeter.dconf-defaults", "/etc/gdm/greeter.dconf-defaults")
GDM_SECTION = "org/gnome/login-screen"
SDDM_OWN = "/etc/sddm.conf.d/zz-verrou.conf"
ACCOUNTS_SERVICE = "/var/lib/AccountsService/users"
USERS_CONF = "/etc/lightdm/users.conf"
ACCOUNTS_DAEMON = ("/usr/libexec/accounts-daemon", "/usr/lib/accountsservice/accounts-daemon")
ISSUE, ISSUE_FOLDER, ISSUE_NET = "/etc/issue", "/etc/issue.d", "/etc/issue.net"
PROFILE, PROFILE_FOLDER = "/etc/profile", "/etc/profile.d"
IDLE_SCRIPT = f"{PROFILE_FOLDER}/verrou-idle.sh"
LOGIND_CONF = "/etc/systemd/logind.conf"
LOGIND_FOLDERS = ("/usr/lib/systemd/logind.conf.d", "/etc/systemd/logind.conf.d")
LOGIND_OWN = "/etc/systemd/logind.conf.d/50-verrou.conf"
NO_SCREEN = "no sign-in screen is installed; the text console asks for a name and shows nobody's"


def _by_screen(rule_id: str, readers: Mapping[str, Callable[[System], Reading]]) -> Callable[[System], Reading]:
    """What holds for each sign-in screen that may stand at the console: the weakest."""

    def read(system: System) -> Reading:
        there = in_use(system.root)
        if not there:
            return absent(NO_SCREEN)
        none = unreadable("which key of its files decides that is not known")
        found = [(name, readers[name](system) if name in readers else none) for name in there]
        return weakest(KINDS[rule_id], found)

    return read


# Automatic sign-in


def _is_guest(account: Account, system: System) -> bool:
    confined = {group.name for group in system.groups if Grant.GUEST_USE in group.grants}
    administering = {group.name for group in system.groups if Grant.ADMINISTRATION in group.grants}
    mine = set(account.groups)
    return bool(confined & mine) and not administering & mine and Grant.ADMINISTRATION not in account.grants


def _read_automatic(system: System) -> Reading:
    found = whom_unasked(system.root)
    if not found:
        return Reading("nobody", source=shipped_default("no file asks for it"))
    by_name = {str(account.name): account for account in system.accounts}

    def kind(each: Unasked) -> str:
        if not each.account:
            return "guests"
        account = by_name.get(each.account)
        return "guests" if account is not None and _is_guest(account, system) else "anybody"

    worst = next((each for each in found if kind(each) == "anybody"), found[0])
    others = tuple(each.source for each in found if each is not worst)
    who = worst.account or "whoever is there"
    return Reading(kind(worst), source=worst.source, overruled=others, reason=f"{who}: {worst.says}")


def _put_automatic(root: Root, value: Value) -> str:
    """Every place that signs somebody in is emptied; a vendor's is overruled."""
    guests = _guest_names(root)
    said = []
    for each in whom_unasked(root):
        spared = value == "guests" and (not each.account or each.account in guests)
        if not spared:
            said.append(_switch_off(root, each))
    left = [e for e in whom_unasked(root) if not (value == "guests" and (not e.account or e.account in guests))]
    if left:
        raise Refused(f"{left[0].source} still signs somebody in; take it away by hand")
    return "; ".join(dict.fromkeys(filter(None, said)))


def _guest_names(root: Root) -> set[str]:
    from verrou.machines.linux.files.access_file import confined_groups
    from verrou.machines.linux.population import members_by_account

    people = members_by_account(AccountFiles.load(root))
    confined = set(confined_groups(root, {group for groups in people.values() for group in groups}))
    return {name for name, groups in people.items() if confined & set(groups)}


def _switch_off(root: Root, each: Unasked) -> str:
    place = each.source.place
    if place.startswith("/etc/lightdm/") or "lightdm" in place:
        keys = {"autologin-user": ""} if each.account else {"autologin-guest": "false", "allow-guest": "false"}
        for key, value in keys.items():
            _set_lightdm(root, key, value)
        return "holds when lightdm is started again"
    if place in GDM_CONF:
        for kind in ("AutomaticLogin", "TimedLogin"):
            _edit(root, place, "daemon", f"{kind}Enable", "false")
        return "holds when gdm3 is started again"
    if "sddm" in place:
        for file in sddm_files(root):
            _edit(root, file, "Autologin", "User", "", only_there=file != SDDM_CONF)
        return "holds when sddm is started again"
    if place == LXDM_CONF:
        _edit(root, place, "base", "autologin", None)
        return "holds when lxdm is started again"
    if place == GREETD_CONF:
        raise Refused(f"{each.source}: take [initial_session] away by hand")
    raise Refused(f"{each.source}: take --autologin away by hand (systemctl edit)")


def _edit(root: Root, file: str, section: str, key: str, value: str | None, *, only_there: bool = True) -> None:
    """Set a key in a file of the administrator's; with ``only_there`` where it stands already."""
    text = root.text(file) if root.exists(file) else None
    there = text is not None and any(e.section == section and e.key == key for e in entries(file, root.lines(file)))
    if file.startswith("/etc/") and (there or not only_there):
        root.write(file, with_entry(text or "", section, key, value))


def _set_lightdm(root: Root, key: str, value: str) -> None:
    """Where somebody set the key in /etc, there; and in a file of our own over those of the vendors."""
    for file in lightdm_files(root):
        for section in SEATS:
            _edit(root, file, section, key, value)
    now = of_seat(root).get(key)
    if now is None or now.value != value:
        _edit(root, LIGHTDM_OWN, SEATS[0], key, value, only_there=False)


# Who is listed


def _people(root: Root) -> list[str]:
    from verrou.machines.linux.population import login_defs, numbers_of_people

    numbers = numbers_of_people(login_defs(root))
    return [r.name for r in AccountFiles.load(root).passwd.records() if int(r.fields[2]) in numbers]


def _read_hidden_lightdm(system: System) -> Reading:
    root = system.root
    entry = of_seat(root).get("greeter-hide-users")
    if entry is not None and entry.value.lower() in TRUE:
        return Reading(frozenset({EVERYBODY}), source=entry.source)
    found = _hidden_by_service(root) if _has_service(root) else _hidden_by_lightdm(root)
    people = {str(account.name) for account in system.accounts if account.origin is Origin.ADDED}
    listed = {name: source for name, source in found.items() if name in people}
    first = next(iter(listed.values()), entry.source if entry is not None else shipped_default())
    return Reading(frozenset(listed), source=first)


def _has_service(root: Root) -> bool:
    return any(root.exists(daemon) for daemon in ACCOUNTS_DAEMON)


def _hidden_by_service(root: Root) -> dict[str, Source]:
    found = {}
    for name in root.names_in(ACCOUNTS_SERVICE):
        file = f"{ACCOUNTS_SERVICE}/{name}"
        entry = last_of(all_entries(root, [file]), "User", "SystemAccount")
        if entry is not None and entry.value.lower() == "true":
            found[name] = entry.source
    return found


def _hidden_by_lightdm(root: Root) -> dict[str, Source]:
    entry = last_of(all_entries(root, [USERS_CONF]), "UserList", "hidden-users")
    return dict.fromkeys(entry.value.split(), entry.source) if entry is not None else {}


def _read_hidden_gdm(system: System) -> Reading:
    entry = _gdm(system.root, "disable-user-list")
    if entry is not None and entry[0] == "true":
        return Reading(frozenset({EVERYBODY}), source=entry[1])
    hidden = _hidden_by_service(system.root)
    people = {str(account.name) for account in system.accounts if account.origin is Origin.ADDED}
    first = next((s for n, s in hidden.items() if n in people), entry[1] if entry else shipped_default())
    return Reading(frozenset(hidden.keys() & people), source=first)


def _gdm(root: Root, key: str) -> tuple[str, Source] | None:
    for file in GDM_SCREEN:
        entry = last_of(all_entries(root, [file]), GDM_SECTION, key)
        if entry is not None:
            return entry.value.strip("'\""), entry.source
    return None


def _read_hidden_sddm(system: System) -> Reading:
    entry = last_of(all_entries(system.root, sddm_files(system.root)), "Users", "HideUsers")
    names = frozenset(name.strip() for name in entry.value.split(",") if name.strip()) if entry else frozenset[str]()
    return Reading(names, source=entry.source if entry else shipped_default())


def _put_hidden(root: Root, value: Value) -> str:
    assert isinstance(value, frozenset)
    if group := next((name for name in sorted(value) if name.startswith(GROUP)), ""):
        raise Refused(f"a sign-in screen hides accounts by their names, and not {group.removeprefix(GROUP)} as a group")
    every, there = EVERYBODY in value, in_use(root)
    people = _people(root)
    if strange := sorted(value - set(people) - {EVERYBODY}):
        raise Refused(f"there is no account of a person called {strange[0]} here")
    if "lightdm" in there:
        _set_lightdm(root, "greeter-hide-users", "true" if every else "false")
    if "gdm3" in there:
        _put_gdm(root, "disable-user-list", "true" if every else "false")
    if not every and {"lightdm", "gdm3"} & set(there):
        # Which of the two decides hangs on whether a service runs: both are written.
        _edit(root, USERS_CONF, "UserList", "hidden-users", " ".join(sorted(value)), only_there=False)
        for name in people:
            file = f"{ACCOUNTS_SERVICE}/{name}"
            if _has_service(root) and (name in value or root.exists(file)):
                text = root.text(file) or ""
                root.write(file, with_entry(text, "User", "SystemAccount", "true" if name in value else "false"), 0o600)
    if "sddm" in there:
        names = people if every else sorted(value)
        for file in sddm_files(root):
            _edit(root, file, "Users", "HideUsers", ",".join(names))
        _edit(root, SDDM_OWN, "Users", "HideUsers", ",".join(names), only_there=False)
    return "holds when the sign-in screen is started again"


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Keep an account that is hidden on the sign-in screen hidden under its new name; one that is gone leaves
    nothing."""
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
            _edit(root, place, section, key, separator.join(left))


def _put_gdm(root: Root, key: str, value: str) -> None:
    file = next((each for each in GDM_SCREEN if root.exists(each)), GDM_SCREEN[0])
    text = root.text(file) or ""
    if root.place(file) != root.path / file.removeprefix("/"):
        root.remove(file)  # a link to the vendor's own, which is not ours to write
    root.write(file, with_entry(text, GDM_SECTION, key, value))


def _cannot_without_screen(system: System) -> str:
    return "" if in_use(system.root) else NO_SCREEN


# The last account, the shut-down button


def _read_last_sddm(system: System) -> Reading:
    entry = last_of(all_entries(system.root, sddm_files(system.root)), "Users", "RememberLastUser")
    shows = entry is None or entry.value.lower() in TRUE
    return Reading(shows, source=entry.source if entry else shipped_default("RememberLastUser=true"))


def _read_last_lightdm(system: System) -> Reading:
    return unreadable("lightdm leaves that to its greeter, which keeps no setting for it")


def _put_last(root: Root, value: Value) -> str:
    if "sddm" not in in_use(root):
        raise Refused("the sign-in screen here keeps no setting for that")
    for file in sddm_files(root):
        _edit(root, file, "Users", "RememberLastUser", "true" if value else "false")
    _edit(root, SDDM_OWN, "Users", "RememberLastUser", "true" if value else "false", only_there=False)
    return "holds when sddm is started again"


def _cannot_last(system: System) -> str:
    return "" if "sddm" in in_use(system.root) else "the sign-in screen here keeps no setting for that"


POWER = "~power"
INDICATORS = "~host;~spacer;~clock;~spacer;~layout;~session;~a11y;~power"


def _read_button_lightdm(system: System) -> Reading:
    """lightdm-gtk-greeter shows what its list of indicators names."""
    if not system.root.exists("/usr/sbin/lightdm-gtk-greeter"):
        return unreadable("what that greeter of lightdm offers stands in files of its own that are not known here")
    folders = ("/usr/share/lightdm/lightdm-gtk-greeter.conf.d", "/etc/lightdm/lightdm-gtk-greeter.conf.d")
    files = [*drop_ins(system.root, folders), GREETER_CONF]
    entry = last_of(all_entries(system.root, files), "greeter", "indicators")
    if entry is None:
        return Reading(True, source=shipped_default("its indicators have ~power"))
    return Reading(POWER in entry.value, source=entry.source)


def _read_button_gdm(system: System) -> Reading:
    entry = _gdm(system.root, "disable-restart-buttons")
    return Reading(not (entry is not None and entry[0] == "true"), source=entry[1] if entry else shipped_default())


def _put_button(root: Root, value: Value) -> str:
    there = in_use(root)
    if "gdm3" in there:
        _put_gdm(root, "disable-restart-buttons", "false" if value else "true")
    if "lightdm" in there:
        entry = last_of(all_entries(root, [GREETER_CONF]), "greeter", "indicators")
        names = [name for name in (entry.value if entry else INDICATORS).split(";") if name and name != POWER]
        names += [POWER] if value else []
        _edit(root, GREETER_CONF, "greeter", "indicators", ";".join(names), only_there=False)
    return "holds when the sign-in screen is started again"


# The notice


def _issue(root: Root) -> tuple[str, Source]:
    """What agetty(8) shows: the issue file, and the files of its folder after it."""
    files = [f"{ISSUE_FOLDER}/{name}" for name in root.names_in(ISSUE_FOLDER) if name.endswith(".issue")]
    text = "\n".join(root.text(file) or "" for file in [ISSUE, *files] if root.exists(file))
    return text, Source(ISSUE, 1)


def _notices(root: Root) -> Iterator[tuple[str, Reading]]:
    text, source = _issue(root)
    yield "console", Reading(_as_notice(text), source=source)
    if sshd_installed(root):
        banner, where = _banner(root)
        said = (root.text(banner) or "") if banner and root.exists(banner) else ""
        yield "remote-shell", Reading(_as_notice(said), source=where or shipped_default("Banner none"))
    if "gdm3" in in_use(root):
        enabled, message = _gdm(root, "banner-message-enable"), _gdm(root, "banner-message-text")
        shown = enabled is not None and enabled[0] == "true" and message is not None
        told = message[0].replace("\\n", "\n") if shown and message is not None else ""
        yield "gdm3", Reading(_as_notice(told), source=message[1] if message else shipped_default())


def _banner(root: Root) -> tuple[str, Source | None]:
    """The file whose text the remote shell server shows; its name keeps its case."""
    lowered, where = sshd_setting(root, "banner", "none")
    if lowered == "none" or where is None:
        return "", where
    return where.text.split(None, 1)[-1].strip("\"'"), where


def _as_notice(text: str) -> Notice:
    """A title is a first line with a blank one after it."""
    first, _, rest = text.strip().partition("\n\n")
    clean = "".join(c for c in text if c.isprintable() or c == "\n").strip()
    if rest and "\n" not in first:
        title, _, below = clean.partition("\n\n")
        return Notice(title.strip(), below.strip())
    return Notice("", clean)


def _read_notice(system: System) -> Reading:
    found = list(_notices(system.root))
    first = found[0][1]
    kind = KINDS["screen.notice"]
    different = [(by, each) for by, each in found[1:] if not kind.same(each.value or Notice(), first.value or Notice())]
    if not different:
        return first
    by, other = different[0]
    assert isinstance(other.value, Notice)
    said = f"by {by} {kind.say(other.value)} is shown instead" if other.value.words else f"by {by} nothing is shown"
    overruled = (first.source,) if first.source is not None else ()
    return evolve(other, reason=f"{said}; at the console {kind.say(first.value or Notice())}", overruled=overruled)


def _put_notice(root: Root, value: Value) -> str:
    assert isinstance(value, Notice)
    text = "\n\n".join(filter(None, (value.title, value.text)))
    text = f"{text}\n" if text else ""
    # agetty(8) takes a backslash and a letter for something to fill in.
    root.write(ISSUE, text.replace("\\", "\\\\"))
    said = [ISSUE]
    if others := [name for name in root.names_in(ISSUE_FOLDER) if name.endswith(".issue")]:
        raise Refused(f"{ISSUE_FOLDER}/{others[0]} is shown after it; take that file away first")
    if sshd_installed(root):
        banner, _ = _banner(root)
        file = banner if banner.startswith("/etc/") else ISSUE_NET
        root.write(file, text)
        if banner != file:
            say(root, "Banner", file)
        said.append(file)
    if "gdm3" in in_use(root):
        _put_gdm(root, "banner-message-enable", "true" if text else "false")
        _put_gdm(root, "banner-message-text", f"'{text.strip()}'".replace("\n", "\\n"))
    return f"written to {' and '.join(said)}"


# Idle sessions

_TMOUT = re.compile(r"(?:(?:export|readonly|declare -[xr]+|typeset -[xr]+)\s+)*TMOUT=(\d{1,7})\b(.*)")


def _read_shell_idle(root: Root) -> Reading:
    """TMOUT of bash(1), as the files say that every sign-in shell goes through. They are programs: a line that hangs on
    a condition is not known to count."""
    files = [PROFILE, *(f"{PROFILE_FOLDER}/{name}" for name in root.names_in(PROFILE_FOLDER) if name.endswith(".sh"))]
    found: Reading | None = None
    for file in files:
        for number, line in enumerate(root.lines(file), start=1):
            if "TMOUT" not in line.split("#", 1)[0]:
                continue
            source = Source(file, number, line.strip())
            match = _TMOUT.match(line)
            if match is not None:
                seconds = int(match[1])
                found = Reading(timedelta(seconds=seconds) if seconds else "never", source=source)
            elif not re.match(r"(export|readonly)(\s+-\w+)*\s+TMOUT\s*;?\s*$", line):
                return unreadable(f"{source}: whether this line counts, only the shell can tell", source=source)
    return found or Reading("never", source=shipped_default("no TMOUT"))


def _read_desktop_idle(root: Root) -> Reading:
    """What systemd-logind does when everybody is idle: logind.conf(5)."""
    found = all_entries(root, [LOGIND_CONF, *drop_ins(root, LOGIND_FOLDERS)])
    action, after = last_of(found, "Login", "IdleAction"), last_of(found, "Login", "IdleActionSec")
    if action is None or action.value in ("", "ignore"):
        return Reading("never", source=action.source if action else shipped_default("IdleAction=ignore"))
    span = _span(after.value) if after is not None else timedelta(minutes=30)
    source = after.source if after is not None else action.source
    if span is None:
        return unreadable(f"{source}: that is no time", source=source)
    return Reading(span or "never", source=source)


_SPAN = re.compile(r"(\d{1,9})\s*(us|ms|seconds?|sec|s|minutes?|min|m|hours?|hr|h|days?|d|)\s*")
_SECONDS = {"": 1.0, "u": 1e-6, "ms": 1e-3, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}


def _span(text: str) -> timedelta | None:
    """A time as systemd.time(7) has it: ``30min``, ``1h 30min``, a bare number of seconds."""
    parts = list(_SPAN.finditer(text.strip()))
    if not parts or "".join(part[0] for part in parts).strip() != text.strip():
        return None
    seconds = 0.0
    for part in parts:
        unit = part[2]
        seconds += int(part[1]) * (_SECONDS["ms"] if unit == "ms" else _SECONDS[unit[:1]])
    return timedelta(seconds=round(seconds))


IDLE = dconf.Key("org/gnome/desktop/session", "idle-delay")
LOCKS = dconf.Key("org/gnome/desktop/screensaver", "lock-enabled")
DELAY = dconf.Key("org/gnome/desktop/screensaver", "lock-delay")


def _read_locker(root: Root) -> Reading:
    """The screen locker of desktops that go by dconf: a person's own setting counts unless the machine locks it."""
    idle, locks, delay = (dconf.kept(root, key) for key in (IDLE, LOCKS, DELAY))
    open_ones = [key for key, each in ((IDLE, idle), (LOCKS, locks), (DELAY, delay)) if each is None or not each.lock]
    if open_ones or idle is None or locks is None or delay is None:
        said = f"{open_ones[0]} is not locked, so that a person's own setting decides, which may be never"
        source = next((each.source for each in (idle, locks, delay) if each is not None), None)
        return Reading("never", source=source or Source(dconf.PROFILE), reason=said)
    seconds = [re.fullmatch(r"(?:uint32 )?(\d{1,9})", each.value) for each in (idle, delay)]
    if seconds[0] is None or seconds[1] is None:
        return unreadable(f"{idle.source}: that is no number of seconds", source=idle.source)
    whole = timedelta(seconds=int(seconds[0][1]) + int(seconds[1][1]))
    never = int(seconds[0][1]) == 0 or locks.value != "true"
    return Reading("never" if never else whole, source=idle.source)


def _read_idle(system: System) -> Reading:
    found = [("the shell", _read_shell_idle(system.root))]
    if dconf.present(system.root):
        found.append(("the screen locker", _read_locker(system.root)))
    if in_use(system.root):
        found.append(("the desktop", _read_desktop_idle(system.root)))
    return weakest(KINDS["screen.locks_after"], found)


def _put_idle(root: Root, value: Value) -> str:
    seconds = int(value.total_seconds()) if isinstance(value, timedelta) else 0
    for file in (PROFILE, *(f"{PROFILE_FOLDER}/{name}" for name in root.names_in(PROFILE_FOLDER))):
        lines = root.lines(file)
        left = [line for line in lines if file == IDLE_SCRIPT or not re.match(r"[^#]*\bTMOUT\b", line)]
        if left != lines:
            root.write(file, "\n".join(left) + "\n")
    if seconds:
        root.write(
            IDLE_SCRIPT,
            "# An idle shell ends. Written by Verrou; verrou rule set changes it.\n"
            f"TMOUT={seconds}\nreadonly TMOUT\nexport TMOUT\n",
        )
    else:
        root.remove(IDLE_SCRIPT)
    if in_use(root):
        for key, text in (("IdleAction", "lock" if seconds else "ignore"), ("IdleActionSec", f"{seconds or 1800}s")):
            for file in (LOGIND_CONF, *drop_ins(root, LOGIND_FOLDERS)):
                _edit(root, file, "Login", key, text)
            _edit(root, LOGIND_OWN, "Login", key, text, only_there=False)
    if dconf.present(root):
        dconf.keep(root, {IDLE: f"uint32 {seconds}", LOCKS: "true" if seconds else "false", DELAY: "uint32 0"})
    return f"written to {IDLE_SCRIPT}" + (f" and {LOGIND_OWN}" if in_use(root) else "")


KEEPERS: Mapping[str, Keeper] = {
    "screen.automatic_signin": Keeper(
        "autologin and timed sign-in in the files of lightdm, gdm3, sddm, lxdm and greetd, lightdm's guest sessions, "
        "and agetty's --autologin in units of systemd",
        _read_automatic,
        _put_automatic,
    ),
    "screen.hidden_accounts": Keeper(
        f"greeter-hide-users of lightdm, and SystemAccount of each account in {ACCOUNTS_SERVICE}; disable-user-list of "
        "gdm3; HideUsers of sddm",
        _by_screen(
            "screen.hidden_accounts",
            {"lightdm": _read_hidden_lightdm, "gdm3": _read_hidden_gdm, "sddm": _read_hidden_sddm},
        ),
        _put_hidden,
        cannot=_cannot_without_screen,
    ),
    "screen.shows_last_account": Keeper(
        "RememberLastUser of sddm; the other sign-in screens keep no setting for it",
        _by_screen("screen.shows_last_account", {"sddm": _read_last_sddm, "lightdm": _read_last_lightdm}),
        _put_last,
        cannot=_cannot_last,
    ),
    "screen.shut_down_button": Keeper(
        f"disable-restart-buttons of gdm3; the indicators in {GREETER_CONF} of lightdm's own greeter",
        _by_screen("screen.shut_down_button", {"lightdm": _read_button_lightdm, "gdm3": _read_button_gdm}),
        _put_button,
        cannot=_cannot_without_screen,
    ),
    "screen.locks_after": Keeper(
        f"TMOUT for the shell, in {PROFILE} and {PROFILE_FOLDER}; where there is a sign-in screen, IdleAction in "
        f"{LOGIND_CONF} and its folders too; where desktops go by dconf, idle-delay and the screen locker's keys, and "
        "whether they are locked",
        _read_idle,
        _put_idle,
    ),
    "screen.notice": Keeper(
        f"{ISSUE} and {ISSUE_FOLDER} at the console, the file that Banner names in {SSHD_CONFIG} by the remote shell, "
        "banner-message of gdm3",
        _read_notice,
        _put_notice,
    ),
}
ABSENT: Mapping[str, str] = {
    "screen.locked_shows": "each screen locker decides that by itself, and none keeps a setting for all",
    "screen.attention_key": "no sign-in screen waits for a key sequence that no program could fake",
}
