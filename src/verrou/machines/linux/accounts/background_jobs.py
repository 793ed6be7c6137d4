"""Background jobs of accounts: cron, services, keys that other accounts accept, lines that name them; and orphans."""

import os
import re
from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from attrs import define, evolve, field

from verrou.core.model import Account, Act, ActKind, Source, counted
from verrou.machines.linux.files.access_file import access_rules
from verrou.machines.linux.files.authorized_keys import Keys
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.files.sshd import named_users
from verrou.machines.linux.files.sudoers import OURS, Sudoers
from verrou.machines.linux.pam.modules import unheeded
from verrou.machines.linux.pam.services import UNIX
from verrou.machines.linux.pam.stack import load_stack
from verrou.machines.linux.root import Root

CRONTABS = ("/var/spool/cron/crontabs", "/var/spool/cron")
"""Where crontab(1) keeps the jobs of accounts, by name: Debian's place, and that of others."""
AT_JOBS = ("/var/spool/cron/atjobs", "/var/spool/at")
LINGERING = "/var/lib/systemd/linger"
SYSTEM_CRON = ("/etc/crontab", "/etc/cron.d")
UNITS = "/etc/systemd/system"
OWN_UNITS = ".config/systemd/user"
MOST_READ = 1_000_000
MOST_NAMES = 20_000
_AT_JOB = re.compile(r"[a-zA-Z=][0-9a-f]{13}")
_ASSIGNMENT = re.compile(r"""\s*("[^"]*"|'[^']*'|[^\s=]+)\s*=""")
_DEBIAN_CRON_FILE = re.compile(r"[A-Za-z0-9_-]+")


@define(repr=False)
class Acting:
    """All background jobs, by the name or ID of their account."""

    by_name: dict[str, list[Act]] = field(factory=lambda: defaultdict(list))
    by_uid: dict[int, list[Act]] = field(factory=lambda: defaultdict(list))
    processes: Mapping[int, int] = field(factory=dict)
    closing_stops: Mapping[ActKind, bool] = field(factory=dict)
    """Whether what runs such a job asks first whether the account is open."""

    def add(self, who: str | int, kind: ActKind, place: str, line: int | None = None, text: str = "") -> None:
        """Add one job."""
        act = Act(kind, Source(place, line, text), kind not in (ActKind.LINE, ActKind.UNIT))
        if isinstance(who, str):
            self.by_name[who].append(act)
        else:
            self.by_uid[who].append(act)


STACKS = {ActKind.CRONTAB: "cron", ActKind.CRON_LINE: "cron", ActKind.AT_JOB: "atd", ActKind.LINGERING: "systemd-user"}
"""The PAM service that a job's runner asks before it runs anything."""
OTHER_NAMES = {"cron": "crond"}


def acting(root: Root, sudoers: Sudoers, group_names: Collection[str]) -> Acting:
    """Read all background jobs but keys, which are found account by account."""
    found = Acting(processes=processes_by_number(root))
    found.closing_stops = {kind: _asks_whether_open(root, service) for kind, service in STACKS.items()}
    _crontabs(root, found)
    for place, uid in at_jobs(root):
        found.add(uid, ActKind.AT_JOB, place, text=_due(place))
    for name in root.names_in(LINGERING)[:MOST_NAMES] if root.exists(LINGERING) else ():
        found.add(name, ActKind.LINGERING, f"{LINGERING}/{name}")
    for file in system_cron_files(root):
        for number, user, job in _cron_lines(root, file):
            found.add(user, ActKind.CRON_LINE, file, number, job)
    _units(root, found)
    for name, source in _lines_by_name(root, sudoers, group_names):
        found.add(name, ActKind.LINE, source.place, source.line, source.text)
    return found


def with_acts(
    root: Root, accounts: Sequence[Account], found: Acting, keys: Keys, closed: Collection[str]
) -> tuple[tuple[Account, ...], list[str]]:
    """Return the accounts with their background jobs, and a line for each job of an account that does not exist.

    ``closed`` are the names that PAM rejects as expired."""
    opens = _keys_that_open_others(keys, accounts)
    orphans = []
    busy_names = found.by_name.keys() | opens.keys()
    busy_numbers = {str(number) for number in (*found.by_uid, *found.processes)}
    for account in accounts:
        if account.name not in busy_names and account.identity not in busy_numbers:
            orphans.append(account)
            continue
        uid = int(account.identity)
        acts = [*found.by_name.get(account.name, ()), *found.by_uid.get(uid, ())]
        shut = account.name in closed
        acts = [
            evolve(act, runs_when_disabled=act.runs_when_disabled and not (shut and found.closing_stops.get(act.kind)))
            for act in acts
        ]
        acts = [_with_own_units(root, act, account) for act in acts] + opens.get(account.name, [])
        # What runs as root is the system itself; its lines are everywhere.
        processes = found.processes.get(uid, 0) if uid else 0
        if uid == 0:
            acts = [act for act in acts if act.kind not in (ActKind.CRON_LINE, ActKind.UNIT, ActKind.LINE)]
        orphans.append(evolve(account, processes=processes, acts=tuple(acts)) if acts or processes else account)
    names, numbers = {a.name for a in accounts}, {int(a.identity) for a in accounts}
    left = [(name, act) for name, acts in found.by_name.items() if name not in names for act in acts]
    left += [(f"number {uid}", act) for uid, acts in found.by_uid.items() if uid not in numbers for act in acts]
    return tuple(orphans), [_left_behind(who, act) for who, act in left if act.kind in LEFT_BEHIND]


LEFT_BEHIND = {
    ActKind.CRONTAB: "this crontab is of {}",
    ActKind.AT_JOB: "this at job is of {}",
    ActKind.LINGERING: "this starts services with the machine for {}",
    ActKind.CRON_LINE: "this line has cron work as {}",
    ActKind.LINE: "this line names {}",
}
"""Description of a job whose account does not exist. A service may create its own account when it starts."""


def _left_behind(who: str, act: Act) -> str:
    message = LEFT_BEHIND[act.kind].format(who)
    return (
        f"{act.source.where}: {message}, an account that does not exist; "
        "a new account with that name or ID would get it"
    )


def _asks_whether_open(root: Root, service: str) -> bool:
    """Return whether the account stack of a service has pam_unix(8) check the expiry."""
    stack = load_stack(root, service, "account")
    other = load_stack(root, OTHER_NAMES[service], "account") if service in OTHER_NAMES and not stack.lines else stack
    return not other.broken and any(unheeded(other, line) is None for line in other.having(UNIX))


def processes_by_number(root: Root) -> Mapping[int, int]:
    """Return the number of processes by user ID; none of a system that is not running."""
    count: Counter[int] = Counter()
    for process in Path("/proc").iterdir() if root.live else ():
        try:
            if process.name.isdigit():
                count[process.stat().st_uid] += 1
        except OSError:
            continue
    return count


def _crontabs(root: Root, found: Acting) -> None:
    for folder in CRONTABS:
        for name in root.names_in(folder)[:MOST_NAMES]:
            place = f"{folder}/{name}"
            if name.startswith((".", "tmp.")) or not root.place(place).is_file():
                continue
            lines = root.content(place, MOST_READ).decode("utf-8", "backslashreplace").split("\n")
            jobs = sum(1 for line in lines if _is_job(line))
            found.add(name, ActKind.CRONTAB, place, text=counted(jobs, "job"))


def _is_job(line: str) -> bool:
    return bool(line.strip()) and not line.lstrip().startswith("#") and not _ASSIGNMENT.match(line)


def at_jobs(root: Root) -> Iterator[tuple[str, int]]:
    """Yield each job of at(1), and the number of the account that it is for."""
    for folder in AT_JOBS:
        for name in root.names_in(folder)[:MOST_NAMES]:
            place = root.place(f"{folder}/{name}")
            if _AT_JOB.fullmatch(name) and place.is_file():
                yield f"{folder}/{name}", os.lstat(place).st_uid


def _due(place: str) -> str:
    """Return when a job of at(1) is due, in minutes since 1970, from its name."""
    try:
        return f"due {datetime.fromtimestamp(int(place[-8:], 16) * 60):%Y-%m-%d %H:%M}"
    except (ValueError, OverflowError, OSError):
        return ""


def system_cron_files(root: Root) -> Iterator[str]:
    """Yield the system's own crontabs.

    Debian's cron(8) accepts names of letters, digits, - and _ alone; others skip backups and hidden files."""
    debian = root.exists("/etc/debian_version")
    table, folder = SYSTEM_CRON
    if root.exists(table):
        yield table
    for name in root.names_in(folder)[:MOST_NAMES]:
        taken = _DEBIAN_CRON_FILE.fullmatch(name) if debian else not name.startswith((".", "#")) and name[-1] != "~"
        if taken and root.place(f"{folder}/{name}").is_file():
            yield f"{folder}/{name}"


def _cron_lines(root: Root, file: str) -> Iterator[tuple[int, str, str]]:
    """Yield the jobs of a table of the system, crontab(5): line, account, command."""
    lines = root.content(file, MOST_READ).decode("utf-8", "backslashreplace").split("\n")
    for number, line in enumerate(lines, start=1):
        if _is_job(line):
            when = 1 if line.lstrip().startswith("@") else 5
            words = line.split(None, when + 1)
            if len(words) == when + 2:
                yield number, words[when], words[when + 1]


def _units(root: Root, found: Acting) -> None:
    """Find the services that the system's administrator runs as an account, systemd.exec(5): User=."""
    for unit in root.names_in(UNITS)[:MOST_NAMES]:
        folder = f"{UNITS}/{unit}"
        drop_ins = [f"{folder}/{name}" for name in root.names_in(folder)] if unit.endswith(".service.d") else []
        for file in drop_ins or ([folder] if unit.endswith(".service") else []):
            if not root.place(file).is_file():
                continue
            for number, line in enumerate(root.content(file, MOST_READ).decode(errors="replace").split("\n"), start=1):
                key, equals, user = (part.strip() for part in line.partition("="))
                if key == "User" and equals and user not in ("", "root", "0"):
                    uid = digits(user)
                    found.add(user if uid is None else uid, ActKind.UNIT, file, number)


def _with_own_units(root: Root, act: Act, account: Account) -> Act:
    """Return lingering, with the number of the account's own services started by it."""
    if act.kind is not ActKind.LINGERING:
        return act
    folder = f"{account.home}/{OWN_UNITS}"
    wants = [name for name in root.names_in(folder) if name.endswith(".wants")] if root.exists(folder) else []
    units = {unit for name in wants for unit in root.names_in(f"{folder}/{name}")}
    text = f"with {counted(len(units), 'service')} or timers of its own" if units else ""
    return evolve(act, source=evolve(act.source, text=text))


def _lines_by_name(root: Root, sudoers: Sudoers, group_names: Collection[str]) -> Iterator[tuple[str, Source]]:
    """Yield lines of sudoers, the remote shell server and the access file that name an account."""
    yield from ((name, source) for name, source in sudoers.lines_by_name() if source.place != OURS)
    yield from named_users(root)
    seen = set()
    for service in ("login", "sshd"):
        for rule in access_rules(root, service):
            for name in set(rule.who) - {"ALL", "EXCEPT"} - set(group_names):
                if not name.startswith(("(", "@")) and (name, rule.source.where) not in seen:
                    seen.add((name, rule.source.where))
                    yield name, rule.source


def _keys_that_open_others(keys: Keys, accounts: Iterable[Account]) -> dict[str, list[Act]]:
    """Return by account the keys that also sign in to another one."""
    opened: dict[str, dict[str, Source]] = defaultdict(dict)
    owners: dict[str, dict[str, None]] = defaultdict(dict)
    for account in accounts:
        if not keys.any_used or not (account.keys or keys.has_ssh(account.home)):
            continue
        for key in keys.found(account.name, account.home):
            owners[key.text][account.name] = None
            if account.keys:
                opened[key.text][account.name] = key.source
        for key in keys.own(account.home):
            owners[key.text][account.name] = None
    found: dict[str, list[Act]] = defaultdict(list)
    for text, others in opened.items():
        for owner in owners[text]:
            found[owner] += [
                Act(ActKind.KEY, where, runs_when_disabled=True, opens=o) for o, where in others.items() if o != owner
            ]
    return found
