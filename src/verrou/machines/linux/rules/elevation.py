"""Elevation rules by sudo(8): the entries and Defaults of sudoers(5), written as one drop-in read last.

A desktop's own prompt is polkit's and belongs to the rules about rights."""

import math
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta

from attrs import evolve

from verrou.core.model import (
    Account,
    PasswordState,
    Reading,
    Source,
    absent,
    joined,
    program_default,
    unreadable,
)
from verrou.core.rules.elevation import GIVES, RULES
from verrou.core.values import AcceptedValues, Kind, Value
from verrou.machines.linux.elevation import polkit
from verrou.machines.linux.elevation.polkit_actions import EXEC, STANDARD
from verrou.machines.linux.files.doas import DOAS_CONF, Doas, Rule
from verrou.machines.linux.files.sudoers import NO_NUMBER, OURS, SUDOERS, PasswordOwner, Person, Sudoers
from verrou.machines.linux.packages import to_install
from verrou.machines.linux.pam.stack import load_stack, put_together
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, weakest
from verrou.machines.linux.rules.named import administering_groups
from verrou.machines.linux.rules.rights import asked, asked_of_anybody, cannot_tell, write_ours

DROP_IN = OURS
WRITTEN = "Written by Verrou"
"""In the heading of our own file, whichever version wrote it."""
HEADING = f"# The prompt for elevation. {WRITTEN}; verrou rule set changes it.\n"
MODE = 0o440
CHECKER = "/usr/sbin/visudo"
KINDS = {str(rule.id): rule.kind for rule in RULES}
SHIPPED_MINUTES = {"timestamp_timeout": 15.0, "passwd_timeout": 5.0}
"""sudo(8)'s default without a line, by sudoers(5); Debian's own is in no file."""
ONE_RIGHT = "sudo, su and polkit give a right, whatever the program"
NOTHING, PASSWORD, ADMIN_PASSWORD, DENIED = map(GIVES.uniform, ("nothing", "password", "admin-password", "denied"))
MINUTE = timedelta(minutes=1)
NOBODY_IN_PARTICULAR = Person("", NO_NUMBER)


def _setting(sudoers: Sudoers, name: str) -> tuple[str | bool | None, Source | None]:
    """Return the effective value of a setting for a user whom no line is about."""
    return sudoers.setting_of(NOBODY_IN_PARTICULAR, name, datetime.min)


ByDoas = Callable[[System, Sequence[Rule]], Reading]
"""Value of a rule by the lines of doas that are about administrators."""


def _installed(kind: Kind, read: Callable[[System, Sudoers], Reading], by_doas: ByDoas) -> Callable[[System], Reading]:
    """Return *not applicable* without sudo and doas, *unknown* where one could not be read, otherwise the weaker
    value."""

    def whole(system: System) -> Reading:
        sudoers, doas = system.sudoers, system.doas
        if sudoers.unknown or doas.unknown:
            return _not_whole(sudoers, doas)
        people = [Person(str(a.name), int(a.identity), a.groups) for a in _asked_people(system)]
        given = [doas.elevation(person) for person in people]
        sources = {source for each in given if each.everything for source in each.sources}
        lines = [rule for rule in doas.rules if rule.source in sources]
        found = [("sudo", read(system, sudoers))] if sudoers.installed else []
        found += [("doas", by_doas(system, lines))] if lines else []
        if not found:
            message = "no one can elevate with sudo or doas; administrators sign in as root"
            return absent(message, to_install(system.root, "sudo"))
        return weakest(kind, found)

    return whole


def _not_whole(sudoers: Sudoers, doas: Doas) -> Reading:
    first = (*sudoers.unknown, *doas.unknown)[0]
    return unreadable(f"{first.where}: {first.text}", source=first)


def _asked_people(system: System) -> list[Account]:
    """Return the administrators whom sudo could prompt: not root, which gets no prompt."""
    return [account for account in system.administrators if account.identity != "0"]


def _read_gives(system: System, sudoers: Sudoers) -> Reading:
    """Return the weakest prompt of the administrators; where there are none, the prompt of one."""
    people = _asked_people(system)
    free = [account for account in people if account.elevation_asks == PasswordOwner.NONE]
    if people:
        source = next((line for account in free or people for line in _lines_of(account, system)), None)
        message = f"nothing is asked of {joined([account.name for account in free])}" if free else ""
        return Reading(NOTHING if free else PASSWORD, source=source, reason=message)
    authenticate, source = _setting(sudoers, "authenticate")
    value = NOTHING if authenticate is False else PASSWORD
    return Reading(value, source=source or program_default("sudo asks for a password"))


def _lines_of(account: Account, system: System) -> list[Source]:
    found = list(account.granted_by)
    found += [line for group in system.groups if group.name in account.groups for line in group.granted_by]
    return found


def _read_standard(system: System) -> Reading:
    """Return the outcome of sudo, su and polkit for a standard user: denied by all, or with an administrator's
    password."""
    sudoers = system.sudoers
    if sudoers.unknown or system.doas.unknown:
        return _not_whole(sudoers, system.doas)
    nobody = sudoers.elevation(NOBODY_IN_PARTICULAR, system.now)
    if nobody.everything and nobody.password not in (PasswordOwner.ROOT, PasswordOwner.TARGET):
        message = f"{nobody.sources[0].where}: this line lets anyone become root, so there is no standard user"
        return unreadable(message, source=nobody.sources[0])
    if nobody.everything:
        message = "anyone who knows root's password can become root"
        return Reading(ADMIN_PASSWORD, source=nobody.sources[0], reason=message)
    if (by_su := _su_lets(system)) is not None:
        return Reading(ADMIN_PASSWORD, source=by_su, reason="su elevates anyone who knows root's password")
    elevating = _elevating(system)
    answers = asked_of_anybody(system, sorted(elevating))
    if answers is None:
        return cannot_tell(asked(system, (EXEC,)))
    if free := [
        action for action, message in answers.items() if message == polkit.YES and action in polkit.ROOT_ITSELF
    ]:
        message = f"polkit allows everyone {free[0]}, so there is no standard user"
        return unreadable(message, source=elevating[free[0]].source)
    if opened := [action for action, message in answers.items() if message == polkit.ADMINISTRATOR]:
        first = next((action for action in polkit.ROOT_ITSELF if action in opened), opened[0])
        more = f" and {len(opened) - 1} more actions" if len(opened) > 1 else ""
        message = f"polkit asks for an administrator's password for {first}{more}"
        return Reading(ADMIN_PASSWORD, source=elevating[first].source, reason=message)
    return Reading(DENIED, source=program_default("no line of sudo, no su and no rule of polkit allows them"))


def _elevating(system: System) -> Mapping[str, polkit.ImplicitAuthorization]:
    """Return the polkit actions by which an administrator's password does things as root."""
    return system.polkit_elevating if polkit.installed(system.root) else {}


SU_FILE, WHEEL = "/etc/pam.d/su", "pam_wheel.so"


def _su_lets(system: System) -> Source | None:
    """Return what lets a user who knows root's password become root by su(1); None where nothing does."""
    root = next((account for account in system.accounts if account.identity == "0"), None)
    if root is None or root.password is not PasswordState.SET or not root.enabled:
        return None
    if not any(system.root.exists(su) for su in ("/usr/bin/su", "/bin/su")) or _wheel(system.root):
        return None
    return root.source


def _takes_standard(system: System) -> AcceptedValues:
    """Return the accepted values: no administrator's password can be required where no program asks for one."""
    root = next((account for account in system.accounts if account.identity == "0"), None)
    by_su = root is not None and root.password is PasswordState.SET and root.enabled
    if _elevating(system) or by_su or system.sudoers.elevation(NOBODY_IN_PARTICULAR, system.now).everything:
        return AcceptedValues(words=("admin-password", "denied"), uniform=ONE_RIGHT)
    why = "no action of polkit asks for an administrator, and root has no password that su could ask for"
    return AcceptedValues(words=("denied",), uniform=ONE_RIGHT, why=why)


def _wheel(root: Root) -> bool:
    """Return whether su checks the user first: pam_wheel(8) before the password."""
    lines = load_stack(root, "su", "auth").having(WHEEL)
    return any(line.control in ("required", "requisite") and "deny" not in line.arguments for line in lines)


def _put_standard(root: Root, value: Value) -> str:
    """Return the effect of all elevation rules of polkit together with su's own stack."""
    parts = []
    if polkit.installed(root):
        kept = STANDARD if value == DENIED else ""
        parts.append(write_ours(lambda _, mine, __: evolve(mine, refused=(kept,) if kept else ()))(root, value))
    text = root.text(SU_FILE) or ""
    ours = [line for line in text.split("\n") if WHEEL in line and not line.lstrip().startswith("#")]
    if value == DENIED and text and not _wheel(root):
        if reason := put_together(root, SU_FILE):
            raise StepRejected(reason)
        group = next(iter(administering_groups(root)), "")
        if not group:
            raise StepRejected(
                "no group grants administrator rights, so su could not distinguish administrators. Create one first"
            )
        lines = text.split("\n")
        after = next((n for n, line in enumerate(lines, start=1) if "pam_rootok.so" in line and line[:1] != "#"), 0)
        lines.insert(after, f"auth\trequired\t{WHEEL} group={group}")
        root.write(SU_FILE, "\n".join(lines))
        parts.append(f"su first checks membership of {group}: {SU_FILE}")
    elif value == ADMIN_PASSWORD and ours:
        root.write(SU_FILE, "\n".join(line for line in text.split("\n") if line not in ours))
        parts.append(f"su asks for root's password alone: {SU_FILE}")
    return "; ".join(parts)


def _minutes(name: str, rule_id: str, never: Callable[[float], bool]) -> Callable[[System, Sudoers], Reading]:
    """Return a number of minutes, which may have a fraction."""
    kind = KINDS[rule_id]

    def one(value: str | bool | None, source: Source | None) -> Reading:
        try:
            number = SHIPPED_MINUTES[name] if value in (None, True) else float(str(value or 0))
        except ValueError:
            number = math.inf
        if not math.isfinite(number) or abs(number) > 10**9:
            return unreadable(f"{source}: not a number of minutes", source=source)
        span = timedelta(days=3650) if number < 0 else timedelta(seconds=round(number * 60))
        found: Value = "never" if never(number) else span
        return Reading(found, source=source or program_default(f"{name} = {SHIPPED_MINUTES[name]:g}"))

    def read(system: System, sudoers: Sudoers) -> Reading:
        people = [Person(a.name, int(a.identity), a.groups) for a in _asked_people(system)]
        asked = [sudoers.setting_of(person, name, system.now) for person in (*people, NOBODY_IN_PARTICULAR)]
        each = {str(source): one(value, source) for value, source in asked}
        unread = next((reading for reading in each.values() if reading.value is None), None)
        return unread or min(each.values(), key=lambda reading: kind.rank(reading.value or "never"))

    return read


def _put(name: str) -> Callable[[Root, Value], str]:
    """Write one line of the drop-in. Afterwards the system's own checker has to accept it, and sudo to follow it."""

    def write(root: Root, value: Value) -> str:
        if name == "authenticate":
            text = "!authenticate" if value == NOTHING else "authenticate"
        else:
            minutes = value / MINUTE if isinstance(value, timedelta) else 0.0
            text = f"{name}={minutes:.4g}" if minutes < 1000 else f"{name}={minutes:.0f}"
        lines = [line for line in root.lines(DROP_IN) if line and WRITTEN not in line]
        kept = [line for line in lines if not (line.startswith("Defaults ") and name in line)]
        root.write(DROP_IN, HEADING + "".join(f"{line}\n" for line in (f"Defaults {text}", *kept)), MODE)
        _, source = _setting(Sudoers.load(root), name)
        if source is None:
            raise StepRejected(f"sudo does not read {DROP_IN}. Add to {SUDOERS}: @includedir {SUDOERS}.d")
        if source.place != DROP_IN:
            raise StepRejected(f"{source} overrides it. Change it there")
        return checked(root, DROP_IN)

    return write


def checked(root: Root, file: str) -> str:
    """Check a file with the system's own checker, before it is swapped in. Raises: StepRejected."""
    if root.runner is None or not root.exists(CHECKER):
        return f"written to {file}"
    code, message = root.runner([CHECKER, "-c", "-s", "-f", file])
    if code != 0:
        words = message.strip().splitlines()
        raise StepRejected(f"{CHECKER} rejects {file}: {words[-1] if words else 'it gave no reason'}")
    return f"written to {file}, which {CHECKER} has checked"


def _put_gives(root: Root, value: Value) -> str:
    """Prompt everyone again: by a line of its own, and by removing NOPASSWD from the lines that have it."""
    parts = [_put("authenticate")(root, value)]
    if value == NOTHING:
        return parts[0]
    free = [
        source
        for entry, source in Sudoers.load(root).entries
        if any(allowance.asks_password is False for p in entry.privileges for allowance in p.allowances)
    ]
    for source in free:
        lines = (root.text(source.place) or "").split("\n")
        at = (source.line or 1) - 1
        asking = lines[at].replace("NOPASSWD:", "")
        if asking == lines[at]:
            raise StepRejected(f"{source.where} asks for no password. Repair it manually")
        lines[at] = asking
        root.write(source.place, "\n".join(lines), MODE)
        parts.append(f"NOPASSWD is gone from {source.where}; {checked(root, source.place)}")
    return "; ".join(parts)


def cannot_without_sudo(system: System) -> str:
    """Return why nothing can be set without sudo; empty where it is there."""
    return "" if system.sudoers.installed else f"sudo is not installed; {to_install(system.root, 'sudo')} first"


def _gives_to_doas(_: System, lines: Sequence[Rule]) -> Reading:
    free = [line for line in lines if not line.asks]
    return Reading(NOTHING if free else PASSWORD, source=(free or lines)[0].source)


REMEMBERED_BY_DOAS = timedelta(minutes=5)
"""How long ``persist`` of doas.conf(5) counts; it is compiled in."""


def _remembered_by_doas(_: System, lines: Sequence[Rule]) -> Reading:
    kept = [line for line in lines if line.remembers]
    return Reading(REMEMBERED_BY_DOAS if kept else "never", source=(kept or lines)[0].source)


def _awaited_by_doas(_: System, lines: Sequence[Rule]) -> Reading:
    return Reading("never", source=lines[0].source, reason="doas waits without limit for an answer")


def _sudo(
    rule_id: str,
    name: str,
    where: str,
    read: Callable[[System, Sudoers], Reading],
    by_doas: ByDoas,
    accepted_values: AcceptedValues,
) -> LinuxRuleAdapter:
    write = _put_gives if name == "authenticate" else _put(name)
    return LinuxRuleAdapter(
        where, _installed(KINDS[rule_id], read, by_doas), write, accepted_values, cannot_without_sudo
    )


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "elevation.administrator": _sudo(
        "elevation.administrator",
        "authenticate",
        f"NOPASSWD and authenticate in {SUDOERS} and its folder, nopass in {DOAS_CONF}; written to {DROP_IN}. Neither "
        "can ask for a confirmation alone",
        _read_gives,
        _gives_to_doas,
        AcceptedValues(words=("nothing", "password"), uniform=ONE_RIGHT),
    ),
    "elevation.standard": LinuxRuleAdapter(
        f"the lines of {SUDOERS} about everyone, {WHEEL} in {SU_FILE}, and every action of polkit that an "
        "administrator's password opens; written to these two",
        _read_standard,
        _put_standard,
        _takes_standard,
    ),
    "elevation.remembered_for": _sudo(
        "elevation.remembered_for",
        "timestamp_timeout",
        f"timestamp_timeout, in minutes, in {SUDOERS} and its folder; 0 remembers nothing, a number below 0 for "
        f"as long as the machine runs; written to {DROP_IN}",
        _minutes("timestamp_timeout", "elevation.remembered_for", lambda number: number == 0),
        _remembered_by_doas,
        AcceptedValues(words=("never",)),
    ),
    "elevation.unanswered_after": _sudo(
        "elevation.unanswered_after",
        "passwd_timeout",
        f"passwd_timeout, in minutes, in {SUDOERS} and its folder; 0 and less wait without limit; written to {DROP_IN}",
        _minutes("passwd_timeout", "elevation.unanswered_after", lambda number: number <= 0),
        _awaited_by_doas,
        AcceptedValues(words=("never",)),
    ),
}
ABSENT: Mapping[str, str] = {
    "elevation.builtin": "root is asked nothing: it is the system itself; builtin.admin_enabled closes it",
    "elevation.guest": "guests are standard users to sudo, su and polkit: elevation.standard is about them too",
    "elevation.prompt_apart": "sudo asks at the terminal it is called from",
    "elevation.helpers_reach_prompt": "sudo asks at the terminal it is called from",
}
