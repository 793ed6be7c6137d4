"""Accounts and groups of a Linux system, from its account files, sudoers, tallies and lastlog."""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import date, datetime, timedelta
from functools import cached_property, lru_cache
from typing import Any

from attrs import define, field

from verrou.core.made_often import made_often
from verrou.core.model import (
    Account,
    AccountName,
    Builtin,
    Grant,
    Group,
    GroupName,
    Naming,
    Origin,
    PasswordState,
    Source,
)
from verrou.core.model.routes import EntryPoint
from verrou.machines.linux.accounts.background_jobs import acting, with_acts
from verrou.machines.linux.entry.routes import Inside, entry_points, fresh_homes, sessions
from verrou.machines.linux.entry.shells import Shells
from verrou.machines.linux.files.access_file import confined_groups
from verrou.machines.linux.files.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    AccountFile,
    AccountLine,
    GroupField,
    PasswdField,
    ShadowField,
    is_shadowed,
    members_of,
    number,
)
from verrou.machines.linux.files.authorized_keys import Keys, Owner
from verrou.machines.linux.files.closed_accounts import ends_kept
from verrou.machines.linux.files.doas import Doas, either
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.files.settings_files import settings
from verrou.machines.linux.files.sign_ins import SignIns, sign_ins
from verrou.machines.linux.files.sshd import by_origin
from verrou.machines.linux.files.sudoers import NO_NUMBER, Elevation, PasswordOwner, Person, Sudoers
from verrou.machines.linux.root import Root

LOGIN_DEFS, VENDORS_LOGIN_DEFS = "/etc/login.defs", "/usr/etc/login.defs"
EPOCH = date(1970, 1, 1)
NEVER_DAYS = 99999
NAMING = Naming(
    pattern=r"[a-z_][a-z0-9_-]*",
    longest=32,
    words="1 to 32 of a-z, 0-9, - and _, not beginning with a digit or -",
)
FULL_NAME, NOTE = 0, 4
"""Positions of the full name, and of what chfn(1) calls "other", in the comment field of passwd(5)."""


@made_often
class Ageing:
    """The ageing fields of one shadow line, in days; None where a field is empty or means never.

    ``fixed``: the owner can never change the password, since its minimum age is above its maximum. ``facts`` are those
    of an account that follow from these alone."""

    changed: int | None
    minimum: int | None
    maximum: int | None
    warning: int | None
    inactive: int | None
    expires: int | None
    fixed: bool
    facts: Mapping[str, Any]


@define(repr=False)
class AccountFiles:
    """The four account files of a system, parsed once."""

    passwd: AccountFile
    shadow: AccountFile | None
    group: AccountFile
    gshadow: AccountFile | None

    @classmethod
    def load(cls, root: Root) -> "AccountFiles":
        def parsed(name: str) -> AccountFile | None:
            text = root.text(name)
            return None if text is None else AccountFile.parse(name, text)

        passwd = parsed(PASSWD) or AccountFile.parse(PASSWD, "")
        group = parsed(GROUP) or AccountFile.parse(GROUP, "")
        return cls(passwd, parsed(SHADOW), group, parsed(GSHADOW))

    def warnings(self) -> list[str]:
        """Return every line that the system ignores, one message each."""
        files = [file for file in (self.passwd, self.shadow, self.group, self.gshadow) if file]
        return [str(broken) for file in files for broken in file.broken()]


def ageing(fields: tuple[str, ...]) -> Ageing:
    """Return the fields of a shadow(5) line; 99999 days and more, and negative numbers, mean never."""
    return _ageing(fields[ShadowField.CHANGED : ShadowField.FLAG])


@lru_cache(maxsize=16384)
def _ageing(fields: tuple[str, ...]) -> Ageing:
    """On a large system many accounts have the same fields."""
    changed, least, *_ = fields
    minimum, maximum, warning, inactive, expires = map(limit_in_days, fields[1:])
    never = minimum is None and (number(least) or 0) >= NEVER_DAYS
    fixed = never or (minimum is not None and maximum is not None and minimum > maximum)
    set_on = number(changed)
    facts = {
        "password_changed": None if set_on == 0 else day(set_on),
        # pam_unix(8): day 0 requires a new password first.
        "change_due": set_on == 0,
        "min_age": minimum,
        "max_age": maximum,
        "warn_before": warning,
        "grace": inactive,
        "until": _last_day(expires),
    }
    return Ageing(set_on, minimum, maximum, warning, inactive, expires, fixed, facts)


@lru_cache(maxsize=4096)
def limit_in_days(text: str) -> int | None:
    """Return one ageing field; None where it is empty or means never."""
    days = number(text)
    return None if days is None or days < 0 or days >= NEVER_DAYS else days


def login_defs_file(root: Root) -> str:
    """Return the path of login.defs(5): the vendor's file where nothing overrides it."""
    return LOGIN_DEFS if root.exists(LOGIN_DEFS) or not root.exists(VENDORS_LOGIN_DEFS) else VENDORS_LOGIN_DEFS


def login_defs(root: Root) -> Mapping[str, tuple[str, Source]]:
    """Return the settings of login.defs(5): the last line of a key decides."""
    file = login_defs_file(root)
    return {
        s.key: (s.value, Source(file, s.line, f"{s.key} {s.value}"))
        for s in settings(file, root.lines(file), comments_anywhere=False)
    }


def defined_number(defs: Mapping[str, tuple[str, Source]], key: str, default: int) -> int:
    """Return a number of login.defs, or the tools' default."""
    found = number(defs[key][0]) if key in defs else None
    return default if found is None else found


def numbers_of_people(defs: Mapping[str, tuple[str, Source]]) -> range:
    """Return the user IDs that login.defs(5) reserves for people."""
    return range(defined_number(defs, "UID_MIN", 1000), defined_number(defs, "UID_MAX", 60000) + 1)


@define(repr=False)
class Population:
    """All accounts and groups, and what is broken about them.

    ``nameless`` are the numbers of main groups that have no name, by account. ``granting`` are the numbers of the
    groups that anything about elevation can go by; None where it is given to everyone."""

    accounts: tuple[Account, ...]
    groups: tuple[Group, ...]
    warnings: list[str]
    entry_points: tuple[EntryPoint, ...]
    seen: SignIns
    sudoers: Sudoers
    doas: Doas
    nameless: Mapping[str, int]
    granting: frozenset[int] | None


def _last_day(expires: int | None) -> date | None:
    """Return the last day on which an account can be used: shadow(5) has the first on which it cannot."""
    return day(None if expires is None else expires - 1)


@lru_cache(maxsize=4096)
def day(days: int | None) -> date | None:
    """Return days since 1970-01-01 as a date; None beyond the calendar."""
    try:
        return None if days is None else EPOCH + timedelta(days=days)
    except OverflowError:
        return None


def population(
    root: Root, files: AccountFiles, now: datetime, lockouts: Mapping[str, tuple[int, datetime | None]]
) -> Population:
    """Return all accounts and groups.

    ``lockouts`` gives, by name, counted failed attempts and until when the account is locked."""
    beside = _Beside.load(root, files, now, lockouts)
    sudoers = beside.sudoers
    warnings = [*files.warnings(), *_from_elsewhere(root, files)]
    warnings += [f"{each.where}: {each.text}" for each in (*sudoers.passed_over, *beside.doas.passed_over)]
    warnings += [
        f"{each.where}: {each.text}; which accounts it makes administrators is not known"
        for each in (*sudoers.unknown, *beside.doas.unknown)
    ]
    accounts: list[Account] = []
    closed: set[str] = set()
    for record in files.passwd.records():
        shadow = files.shadow.find(record.name) if files.shadow else None
        age = ageing(shadow.fields) if shadow and is_shadowed(record) else None
        if age is not None and (end := day(age.expires)) is not None and end <= now.date():
            closed.add(record.name)
        first_root = int(record.fields[PasswdField.UID]) == 0 and not any(int(a.identity) == 0 for a in accounts)
        accounts.append(_account(record, shadow, age, beside, built_in=first_root))
    warnings += [
        f"{where}: allows everything as root except {', '.join(but)}: that restricts no one, since any other "
        "program run as root can run these"
        for where, but in beside.excepting.items()
    ]
    warnings += beside.keys.passed_over
    counted = Counter(account.name for account in accounts)
    warnings += [
        f"{PASSWD}: two accounts are called {name}; the system uses the first" for name, n in counted.items() if n > 1
    ]
    found = acting(root, sudoers, beside.members.numbers)
    people, left_behind = with_acts(root, accounts, found, beside.keys, closed)
    groups = _groups(root, files, beside)
    routes = entry_points(root, beside.members.numbers, [(account.name, account.groups) for account in people])
    warnings += [f"{line}: counts only for sign-ins from there" for line in by_origin(root)]
    warnings += left_behind
    nameless = beside.members.nameless(files.passwd.records())
    return Population(people, groups, warnings, routes, beside.seen, sudoers, beside.doas, nameless, beside.granting)


NSSWITCH = "/etc/nsswitch.conf"
NOT_INSIDE = Inside()


def _from_elsewhere(root: Root, files: AccountFiles) -> list[str]:
    """Return the meaning of lines that begin with + or -, which apply only where nsswitch.conf(5) says compat."""
    asked: dict[str, list[str]] = {}
    for line in root.lines(NSSWITCH):
        database, colon, services = line.split("#", 1)[0].partition(":")
        if colon:
            asked.setdefault(database.strip(), services.split())
    lines = []
    for file in (files.passwd, files.shadow, files.group):
        name = file.name if file else ""
        database = "passwd" if name == SHADOW and "shadow" not in asked else name.rpartition("/")[2]
        for at, line in file.from_elsewhere() if file else ():
            if "compat" not in asked.get(database, ["files"]):
                meaning = f"means nothing here ({NSSWITCH} does not say compat). Remove it"
            elif line.startswith("+"):
                meaning = "adds accounts or groups of another computer; no file here lists them"
            else:
                meaning = "excludes accounts or groups that another line adds; no file here lists them"
            lines.append(f"{name}:{at}: {line.partition(':')[0]!r} {meaning}")
    return lines


@define(repr=False)
class _Members:
    """Group members.

    ``numbers`` are the IDs of groups by name; ``by_number`` is the name that the system finds for an ID, the first of
    several."""

    numbers: Mapping[str, int]
    main: Mapping[str, str]
    by_number: Mapping[int, str]
    listed: Mapping[str, Sequence[str]]
    passwd: AccountFile

    @classmethod
    def load(cls, files: AccountFiles) -> "_Members":
        records = files.group.records()
        listed: dict[str, list[str]] = {}
        main: dict[str, str] = {}
        for record in records:
            main.setdefault(record.fields[GroupField.GID], record.name)
            for member in members_of(record.fields[GroupField.MEMBERS]):
                listed.setdefault(member, []).append(record.name)
        numbers = {record.name: int(record.fields[GroupField.GID]) for record in reversed(records)}
        by_number = {int(record.fields[GroupField.GID]): record.name for record in reversed(records)}
        return cls(numbers, main, by_number, listed, files.passwd)

    def of_number(self, gid: int) -> Collection[str]:
        """Return who is in the groups of a number, and whose main group it is."""
        return self._by_gid.get(gid, ())

    @cached_property
    def _by_gid(self) -> Mapping[int, set[str]]:
        found: dict[int, set[str]] = {}
        for record in self.passwd.records():
            found.setdefault(int(record.fields[PasswdField.GID]), set()).add(record.name)
        for member, groups in self.listed.items():
            for group in groups:
                found.setdefault(self.numbers[group], set()).add(member)
        return found

    def groups_of(self, record: AccountLine) -> tuple[tuple[str, ...], tuple[int, ...]]:
        """Return the groups of an account by name and by number, its main one first; that may have no name."""
        gid, listed = record.fields[PasswdField.GID], self.listed.get(record.name, ())
        main = self.main.get(gid)
        names = (main, *listed) if main else tuple(listed)
        gids = int(gid), *map(self.numbers.__getitem__, listed)
        if listed and (len(set(names)) != len(names) or len(set(gids)) != len(gids)):
            return tuple(dict.fromkeys(names)), tuple(dict.fromkeys(gids))
        return names, gids

    def nameless(self, records: Sequence[AccountLine]) -> dict[str, int]:
        """Return the main groups that have no name, by account."""
        main = ((record.name, record.fields[PasswdField.GID]) for record in reversed(records))
        return {name: int(gid) for name, gid in main if gid not in self.main}


def members_by_account(files: AccountFiles) -> dict[str, tuple[str, ...]]:
    """Return every account by name, with its groups."""
    members = _Members.load(files)
    return {record.name: members.groups_of(record)[0] for record in files.passwd.records()}


@define(repr=False)
class _Beside:
    """Facts about accounts besides their own lines. ``by_group`` are the groups that make administrators, with the
    lines."""

    now: datetime
    sudoers: Sudoers
    doas: Doas
    members: _Members
    by_group: Mapping[str, tuple[Source, ...]]
    people: range
    lockouts: Mapping[str, tuple[int, datetime | None]]
    seen: SignIns
    ends: Mapping[str, str]
    inside: Mapping[str, Inside]
    keys: Keys
    fresh: Callable[[str, str], bool]
    first_group: int
    passwords_known: bool
    shells: Shells
    by_uid: Mapping[int, str]
    main_by_uid: Mapping[int, int]
    """The number of the main group of the account that the system finds for an ID, where some account shares its ID."""
    granting: frozenset[int] | None
    excepting: dict[str, tuple[str, ...]] = field(factory=dict, init=False)
    """Commands excluded, by the line that grants everything else."""

    def may_elevate(self, name: str, uid: int, gids: tuple[int, ...]) -> bool:
        """Return whether anything about elevation can go by an account's name or number, or by one of its groups."""
        return uid == 0 or self.granting is None or not self.granting.isdisjoint(gids) or self.sudoers.names(name, uid)

    def person(self, name: str, uid: int, gids: tuple[int, ...]) -> Person:
        """Return an account with the groups that the system finds for these numbers."""
        return Person(name, uid, tuple(self.members.by_number.get(gid, "") for gid in gids), gids)

    @classmethod
    def load(
        cls, root: Root, files: AccountFiles, now: datetime, lockouts: Mapping[str, tuple[int, datetime | None]]
    ) -> "_Beside":
        sudoers, members, defs = Sudoers.load(root), _Members.load(files), login_defs(root)
        doas = Doas.load(root)
        # sudo(8) looks up the IDs of an account's groups, and uses the name that it finds for each.
        making = {
            name: sudoers.makes_administrators(members.by_number[gid], gid, now)
            or doas.by_group(members.by_number[gid], gid)
            for name, gid in members.numbers.items()
        }
        records = files.passwd.records()
        by_uid = {int(record.fields[PasswdField.UID]): record.name for record in reversed(records)}
        numbers = ((int(r.fields[PasswdField.UID]), int(r.fields[PasswdField.GID])) for r in reversed(records))
        main_by_uid = dict(numbers) if len(by_uid) < len(records) else {}
        by_group = {name: lines for name, lines in making.items() if lines}
        granting = None
        if not doas.rules and not sudoers.elevation(Person("", NO_NUMBER), now).sources:
            granting = sudoers.counted_groups(members.by_number) | {members.numbers[name] for name in by_group}
        return cls(
            now,
            sudoers,
            doas,
            members,
            by_group,
            numbers_of_people(defs),
            lockouts,
            sign_ins(root),
            ends_kept(root),
            sessions(root, by_uid),
            Keys(root, now, members.of_number),
            fresh_homes(root),
            defined_number(defs, "GID_MIN", 1000),
            SHADOW not in root.denied,
            Shells(root),
            by_uid,
            main_by_uid,
            granting,
        )


def _groups(root: Root, files: AccountFiles, beside: _Beside) -> tuple[Group, ...]:
    """Return every group, with the accounts whose main group it is among its members."""
    confined = confined_groups(root, beside.members.numbers)
    in_main: dict[str, dict[str, None]] = {}
    for record in files.passwd.records():
        if main := beside.members.main.get(record.fields[PasswdField.GID]):
            in_main.setdefault(main, {})[record.name] = None
    groups = []
    for record in files.group.records():
        lines = beside.by_group.get(record.name, ())
        members = in_main.get(record.name, {})
        if listed := record.fields[GroupField.MEMBERS]:
            members = dict.fromkeys((*members, *members_of(listed)))
        grants = (Grant.ADMINISTRATION,) if lines else ()
        if record.name in confined:
            grants, lines = (*grants, Grant.GUEST_USE), (*lines, confined[record.name])
        gid = record.fields[GroupField.GID]
        source = Source(GROUP, record.line)
        built_in = int(gid) < beside.first_group
        names = tuple(map(AccountName, members))
        groups.append(Group(GroupName(record.name), gid, names, grants, source, lines, built_in=built_in))
    return tuple(groups)


def _account(
    record: AccountLine, shadow: AccountLine | None, age: Ageing | None, beside: _Beside, *, built_in: bool
) -> Account:
    name, home = record.name, record.fields[PasswdField.HOME]
    uid = int(record.fields[PasswdField.UID])
    words = record.fields[PasswdField.COMMENT].split(",")
    attempts, locked = beside.lockouts.get(name, (0, None))
    groups, gids = beside.members.groups_of(record)
    inside = beside.inside.get(name, NOT_INSIDE)
    shell_fault = beside.shells.fault(record.fields[PasswdField.SHELL], uid, gids)
    keys = beside.keys.accepted(Owner(name, home, uid, gids, groups, not shell_fault))
    return Account(
        name=AccountName(name),
        identity=record.fields[PasswdField.UID],
        origin=_origin(uid, beside.people, built_in=built_in),
        builtin=Builtin.ADMIN if built_in else None,
        full_name=words[FULL_NAME],
        note=words[NOTE] if len(words) > NOTE else "",
        groups=tuple(map(GroupName, groups)),
        may_sign_in=not shell_fault,
        locked_until=locked,
        failed_attempts=attempts,
        last_sign_in=beside.seen.last(name, uid),
        home=home,
        shell=record.fields[PasswdField.SHELL],
        shell_fault=shell_fault,
        source=Source(PASSWD, record.line),
        keys=len(keys) if not shell_fault else 0,
        sessions=inside.sessions,
        inside_by=inside.routes,
        home_kept=not beside.fresh(name, home),
        **_password_facts(record, shadow, age, beside, built_in=built_in),
        **_given(record, uid, groups, gids, beside),
    )


def _origin(uid: int, people: range, *, built_in: bool) -> Origin:
    if built_in:
        return Origin.BUILT_IN
    if uid == 0 or uid in people:
        return Origin.ADDED
    return Origin.SYSTEM if uid < 100 or uid == 65534 else Origin.SERVICE


def _password_facts(
    record: AccountLine, shadow: AccountLine | None, age: Ageing | None, beside: _Beside, *, built_in: bool
) -> dict[str, Any]:
    """Return the facts of the password field and the shadow line."""
    hashed = record.fields[PasswdField.PASSWORD]
    if is_shadowed(record):
        if not beside.passwords_known:
            return {"password": PasswordState.UNKNOWN}
        hashed = shadow.fields[ShadowField.PASSWORD] if shadow else "*"
    scheme = scheme_of(hashed)
    locked_away = hashed.startswith("!") and bool(scheme)
    state = PasswordState.BLANK if hashed == "" else PasswordState.SET if scheme else PasswordState.NONE
    # A built-in administrator without a usable password is what people call disabled.
    shut = locked_away or (built_in and state is PasswordState.NONE)
    facts = {"password": state, "password_scheme": scheme, "enabled": not shut}
    if age is None:
        return facts
    facts |= age.facts
    if age.expires in CLOSED_FOR_GOOD:
        facts |= {"enabled": False, "until": _last_day(number(beside.ends.get(record.name, "")))}
    if age.fixed and record.fields[PasswdField.UID] != "0":
        facts["cannot_change"] = True
    return facts


CLOSED_FOR_GOOD = (0, 1)
"""The days of expiry that stand for a disabled account."""


def _given(
    record: AccountLine, uid: int, groups: tuple[str, ...], gids: tuple[int, ...], beside: _Beside
) -> dict[str, Any]:
    """Return what sudoers grant the account, by itself and through its groups."""
    # By its number, for sudo(8) looks that up: of two accounts with one number it finds the first, and counts the main
    # group of that one, too.
    name, main = beside.by_uid[uid], beside.main_by_uid.get(uid)
    of_first = () if main is None or main in gids else (main,)
    if not beside.may_elevate(name, uid, (*gids, *of_first)):
        return {}
    person, as_seen = beside.person(name, uid, gids), beside.person(name, uid, (*gids, *of_first))
    elevation = _elevation(person, as_seen, beside)
    by_a_group = any(group in beside.by_group for group in groups)
    if elevation.everything and elevation.but:
        beside.excepting[str(elevation.sources[0].where)] = elevation.but
    if not elevation.sources and not by_a_group and uid:
        return {}
    alone = _elevation(beside.person(name, uid, ()), beside.person(name, uid, of_first), beside)
    # What it would be given without its groups is its own, and stays when it leaves them.
    by_itself = elevation.everything and (alone.everything or not by_a_group)
    whose = name if elevation.password is PasswordOwner.OWN else elevation.whose
    whose = beside.by_uid.get(0, whose) if elevation.password is PasswordOwner.ROOT else whose
    return {
        "grants": (Grant.ADMINISTRATION,) if by_itself or uid == 0 else (),
        "granted_by": alone.sources if alone.everything else elevation.sources if not by_a_group else (),
        "denied_grants": (Grant.ADMINISTRATION,) if by_a_group and not elevation.everything and uid else (),
        "may_run": elevation.commands if uid else (),
        "elevation_asks": elevation.password if elevation.sources and uid else "",
        "elevates_with": whose if elevation.sources and uid and whose != record.name else "",
        "elevates_until": beside.sudoers.until(as_seen, beside.now) if elevation.everything and uid else None,
    }


def _elevation(person: Person, seen_by_sudo: Person, beside: _Beside) -> Elevation:
    """Return what an account can do as root, by any program."""
    found = beside.sudoers.elevation(seen_by_sudo, beside.now)
    return either(found, beside.doas.elevation(person)) if beside.doas.rules else found


def people_with_passwords(accounts: Iterable[Account]) -> list[Account]:
    """Return accounts with a typed password, without root, as which programs run: those that ageing applies to."""
    return [
        a
        for a in accounts
        if a.enabled and a.password is PasswordState.SET and a.origin is Origin.ADDED and a.identity != "0"
    ]


def free_name(taken: Iterable[str], *names: str) -> str:
    """Return the first of ``names`` that is not in use, or None."""
    used = set(taken)
    return next((name for name in names if name not in used), "")
