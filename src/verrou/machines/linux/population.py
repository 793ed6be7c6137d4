"""The accounts and groups of a Linux system, from its account files, sudoers, tallies and lastlog."""

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime, timedelta
from functools import lru_cache

from attrs import define, frozen

from verrou.core.model import Account, Builtin, Grant, Group, Naming, Origin, PasswordState, Source
from verrou.core.model.ways import Gate
from verrou.machines.linux.files.access_file import confined_groups
from verrou.machines.linux.files.account_files import (
    GROUP,
    GSHADOW,
    PASSWD,
    SHADOW,
    AccountFile,
    GroupField,
    PasswdField,
    Record,
    ShadowField,
    members_of,
    number,
)
from verrou.machines.linux.files.closed_accounts import ends_kept
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.files.settings_files import settings
from verrou.machines.linux.files.sign_ins import SignIns, sign_ins
from verrou.machines.linux.files.sudoers import Elevation, Person, Sudoers
from verrou.machines.linux.root import Root
from verrou.machines.linux.ways import fresh_homes, gates, key_counter, sessions

LOGIN_DEFS, VENDORS_LOGIN_DEFS = "/etc/login.defs", "/usr/etc/login.defs"
EPOCH = date(1970, 1, 1)
NEVER_DAYS = 99999
NAMING = Naming(
    pattern=r"[a-z_][a-z0-9_-]*",
    longest=32,
    words="1 to 32 of a-z, 0-9, - and _, not beginning with a digit or -",
)
FULL_NAME, NOTE = 0, 4
"""Where in the comment field of passwd(5) the full name stands, and what chfn(1) calls "other"."""
NO_SHELLS = ("nologin", "false", "sync", "shutdown", "halt")


@frozen
class Ageing:
    """The ageing fields of one shadow line, in days; None where a field is empty or counts as never. ``fixed``: the
    owner can never change the password, since it would have to be older than it can become."""

    changed: int | None
    minimum: int | None
    maximum: int | None
    warning: int | None
    inactive: int | None
    expires: int | None
    fixed: bool


@define
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

    def troubles(self) -> list[str]:
        """Every line that the system passes over, one message each."""
        files = [file for file in (self.passwd, self.shadow, self.group, self.gshadow) if file]
        return [str(broken) for file in files for broken in file.broken()]


def ageing(fields: tuple[str, ...]) -> Ageing:
    """The fields of a shadow(5) line; 99999 days and more, and negative numbers, mean never."""
    return _ageing(fields[2:8])


@lru_cache(maxsize=4096)
def _ageing(fields: tuple[str, ...]) -> Ageing:
    # Most accounts of a system share their ageing, so that a large system is read in a few different lines.
    minimum, maximum, warning, inactive, expires = map(limit_in_days, fields[1:])
    never = (number(fields[1]) or 0) >= NEVER_DAYS
    fixed = never or (minimum is not None and maximum is not None and minimum > maximum)
    return Ageing(number(fields[0]), minimum, maximum, warning, inactive, expires, fixed)


def limit_in_days(text: str) -> int | None:
    """One ageing field; None where it is empty or means never."""
    days = number(text)
    return None if days is None or days < 0 or days >= NEVER_DAYS else days


def login_defs_file(root: Root) -> str:
    """Where login.defs(5) stands: the vendor's counts where nothing overrides it."""
    return LOGIN_DEFS if root.exists(LOGIN_DEFS) or not root.exists(VENDORS_LOGIN_DEFS) else VENDORS_LOGIN_DEFS


def login_defs(root: Root) -> Mapping[str, tuple[str, Source]]:
    """login.defs(5): the last line of a key counts."""
    file = login_defs_file(root)
    return {
        s.key: (s.value, Source(file, s.line, f"{s.key} {s.value}"))
        for s in settings(file, root.lines(file), comments_anywhere=False)
    }


def defined_number(defs: Mapping[str, tuple[str, Source]], key: str, default: int) -> int:
    """A number of login.defs, or what the tools take without it."""
    found = number(defs[key][0]) if key in defs else None
    return default if found is None else found


def numbers_of_people(defs: Mapping[str, tuple[str, Source]]) -> range:
    """The user numbers that login.defs(5) sets aside for accounts that somebody makes."""
    return range(defined_number(defs, "UID_MIN", 1000), defined_number(defs, "UID_MAX", 60000) + 1)


@define
class Population:
    """All accounts and groups, and what is broken about them."""

    accounts: tuple[Account, ...]
    groups: tuple[Group, ...]
    troubles: list[str]
    gates: tuple[Gate, ...]
    seen: SignIns


def day(days: int | None) -> date | None:
    """Days since 1970-01-01 as a date; None beyond the calendar."""
    try:
        return None if days is None else EPOCH + timedelta(days=days)
    except OverflowError:
        return None


def population(
    root: Root, files: AccountFiles, now: datetime, locks: Mapping[str, tuple[int, datetime | None]]
) -> Population:
    """Everybody. ``locks`` gives, by name, counted wrong tries and until when the account is locked."""
    troubles = files.troubles()
    sudoers = Sudoers.load(root)
    group_names = {record.name for record in files.group.records()}
    confined = confined_groups(root, group_names)
    inside = sessions(root)
    keys_of = key_counter(root)
    fresh = fresh_homes(root)
    ends = ends_kept(root)
    troubles += [f"{source.where}: {source.text}" for source in sudoers.passed_over]
    troubles += [
        f"{source.where}: {source.text}; who administers by that line is not known" for source in sudoers.unknown
    ]
    by_group = {
        record.name: lines
        for record in files.group.records()
        if (lines := sudoers.makes_administrators(record.name, int(record.fields[GroupField.GID]), now))
    }
    defs = login_defs(root)
    people = numbers_of_people(defs)
    memberships: dict[str, list[str]] = {}
    primary: dict[str, str] = {}
    group_records = files.group.records()
    for record in group_records:
        primary.setdefault(record.fields[GroupField.GID], record.name)
        for member in members_of(record.fields[GroupField.MEMBERS]):
            memberships.setdefault(member, []).append(record.name)
    numbers = {record.name: int(record.fields[GroupField.GID]) for record in reversed(group_records)}
    in_primary: dict[str, list[str]] = {}
    seen = sign_ins(root)
    accounts: list[Account] = []
    root_seen = False
    for record in files.passwd.records():
        main_group = primary.get(record.fields[PasswdField.GID])
        if main_group:
            in_primary.setdefault(main_group, []).append(record.name)
        groups = dict.fromkeys(([main_group] if main_group else []) + memberships.get(record.name, []))
        uid = int(record.fields[PasswdField.UID])
        gids = tuple(dict.fromkeys((int(record.fields[PasswdField.GID]), *(numbers[group] for group in groups))))
        elevation = sudoers.elevation(Person(record.name, uid, tuple(groups), gids), now)
        tries, locked = locks.get(record.name, (0, None))
        shadow = files.shadow.find(record.name) if files.shadow else None
        shipped = uid == 0 and not root_seen
        root_seen = root_seen or shipped
        accounts.append(
            _account(
                record,
                shadow,
                uid,
                people,
                tuple(groups),
                elevation=elevation,
                alone=sudoers.elevation(Person(record.name, uid), now),
                by_a_group=any(group in by_group for group in groups),
                shipped=shipped,
                tries=tries,
                locked=locked,
                last_seen=seen.last(record.name, uid),
                end_kept=day(number(ends.get(record.name, ""))),
                inside=inside.get(record.name, ()),
                keys_of=keys_of,
                fresh=fresh(record.name, record.fields[PasswdField.HOME]),
            )
        )
    counted = Counter(account.name for account in accounts)
    troubles += [
        f"{PASSWD}: two accounts are called {name}; the system uses the first" for name, n in counted.items() if n > 1
    ]
    groups_out = []
    first_made = defined_number(defs, "GID_MIN", 1000)
    for record in group_records:
        lines = by_group.get(record.name, ())
        members = dict.fromkeys([*in_primary.get(record.name, []), *members_of(record.fields[GroupField.MEMBERS])])
        grants = (Grant.ADMINISTRATION,) if lines else ()
        if record.name in confined:
            grants, lines = (*grants, Grant.GUEST_USE), (*lines, confined[record.name])
        source = Source(GROUP, record.line)
        shipped = int(record.fields[GroupField.GID]) < first_made
        groups_out.append(
            Group(record.name, record.fields[GroupField.GID], tuple(members), grants, source, lines, shipped=shipped)
        )
    return Population(tuple(accounts), tuple(groups_out), troubles, gates(root, group_names), seen)


def _account(
    record: Record,
    shadow: Record | None,
    uid: int,
    people: range,
    groups: tuple[str, ...],
    *,
    elevation: Elevation,
    alone: Elevation,
    by_a_group: bool,
    shipped: bool,
    tries: int,
    locked: datetime | None,
    last_seen: datetime | None,
    end_kept: date | None,
    inside: tuple[str, ...],
    keys_of: Callable[[str, str], int],
    fresh: bool,
) -> Account:
    hashed = record.fields[PasswdField.PASSWORD]
    age = None
    if hashed == "x":
        hashed = shadow.fields[ShadowField.PASSWORD] if shadow else "*"
        age = ageing(shadow.fields) if shadow else None
    scheme = scheme_of(hashed)
    locked_away = hashed.startswith("!") and bool(scheme)
    state = PasswordState.BLANK if hashed == "" else PasswordState.SET if scheme else PasswordState.NONE
    changed = day(age.changed) if age else None
    closed_for_good = age is not None and age.expires in (0, 1)
    ends = end_kept if closed_for_good else day(age.expires) if age else None
    if shipped:
        origin = Origin.BUILT_IN
    elif uid == 0 or uid in people:
        origin = Origin.ADDED
    else:
        origin = Origin.SYSTEM if uid < 100 or uid == 65534 else Origin.SERVICE
    words = record.fields[PasswdField.COMMENT].split(",")
    may_sign_in = record.fields[PasswdField.SHELL].rpartition("/")[2] not in NO_SHELLS
    # A built-in administrator whom no password lets in is what people call a disabled one.
    shut = locked_away or (shipped and state is PasswordState.NONE)
    # What it would be given without its groups is its own, and stays when it leaves them.
    by_itself = elevation.everything and (alone.everything or not by_a_group)
    return Account(
        name=record.name,
        identity=record.fields[PasswdField.UID],
        origin=origin,
        builtin=Builtin.ADMIN if shipped else None,
        full_name=words[FULL_NAME],
        note=words[NOTE] if len(words) > NOTE else "",
        groups=groups,
        grants=(Grant.ADMINISTRATION,) if by_itself or uid == 0 else (),
        given_by=alone.sources if alone.everything else elevation.sources if not by_a_group else (),
        withheld=(Grant.ADMINISTRATION,) if by_a_group and not elevation.everything and uid != 0 else (),
        may_run=elevation.commands if uid != 0 else (),
        elevation_asks=elevation.password if elevation.sources and uid != 0 else "",
        enabled=not shut and not closed_for_good,
        may_sign_in=may_sign_in,
        password=state,
        password_scheme=scheme,
        password_changed=None if age is None or age.changed == 0 else changed,
        # pam_unix(8): day 0 asks for a new password before all else.
        password_due=age is not None and age.changed == 0,
        min_age=age.minimum if age else None,
        max_age=age.maximum if age else None,
        warn_before=age.warning if age else None,
        grace=age.inactive if age else None,
        ends=ends,
        locked_until=locked,
        wrong_tries=tries,
        last_sign_in=last_seen,
        home=record.fields[PasswdField.HOME],
        shell=record.fields[PasswdField.SHELL],
        source=Source(PASSWD, record.line),
        cannot_change=age is not None and age.fixed and uid != 0,
        keys=keys_of(record.name, record.fields[PasswdField.HOME]) if may_sign_in else 0,
        sessions=inside,
        home_kept=not fresh,
    )


def people_with_passwords(accounts: Iterable[Account]) -> list[Account]:
    """Accounts whose password somebody types, but for root, as which programs run: the ones that ageing is about."""
    return [
        a
        for a in accounts
        if a.origin is Origin.ADDED and a.identity != "0" and a.password is PasswordState.SET and a.enabled
    ]


def free_name(taken: Iterable[str], *names: str) -> str:
    """The first of ``names`` that is not taken, or none."""
    used = set(taken)
    return next((name for name in names if name not in used), "")
