"""Entry points of a Linux system: console, remote shell, remote screen, shared folders; and open sessions."""

import os
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from verrou.core.model import Source
from verrou.core.model.known import Known
from verrou.core.model.routes import AccessListEntry, Admission, EntryPoint, Pattern, Principals, Route, allow_only
from verrou.machines.linux.entry.display_managers import automatic_accounts
from verrou.machines.linux.files.access_file import CONSOLE, DISPLAY, access_list, access_lists
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.files.sign_ins import SIGNED_IN, UTMP_RECORD, moment
from verrou.machines.linux.files.sshd import BY_PASSWORD, REMOTE, SSHD_CONFIG, Shell, shells, sshd_installed
from verrou.machines.linux.packages import asks_pam
from verrou.machines.linux.pam.services import Service, behind, open_without_proof, sshd_asks_pam, takes_blank
from verrou.machines.linux.pam.stack import FOLDERS, load_stack, service_file
from verrou.machines.linux.root import Root

NAMESPACE = "pam_namespace.so"
NAMESPACE_CONF, NAMESPACE_FOLDER = "/etc/security/namespace.conf", "/etc/security/namespace.d"
UTMP, LOGIND_SESSIONS = "/run/utmp", "/run/systemd/sessions"
MOST_SESSIONS, MOST_OF_A_SESSION = 1000, 8192


WILDCARDS = {"*", "?"}
"""What makes a pattern of a word of sshd_config(5)."""
People = Sequence[tuple[str, Sequence[str]]]
"""Accounts by name, each with its groups."""


def entry_points(root: Root, group_names: Collection[str], people: People) -> tuple[EntryPoint, ...]:
    """Return every installed entry point with its access lists."""
    found = _by_pam(root, Route.CONSOLE, CONSOLE, group_names)
    for route in (Route.NETWORK, Route.REMOTE_SCREEN):
        found += _by_pam(root, route, REMOTE, group_names)
    if sshd_installed(root):
        found += _remote_shell(root, group_names, people)
    return (*found, *_automatic(root, group_names, people))


def _automatic(root: Root, group_names: Collection[str], people: People) -> Iterator[EntryPoint]:
    """Yield an entry point for each account signed in automatically, and for guest sessions.

    The account stack of the service by which that happens may still deny it."""
    for each in automatic_accounts(root):
        if not each.known:
            perhaps = Admission(Known.NO, Known.NO, Known.UNKNOWN, each.statement, each.source)
            admissions = {name: perhaps for name, _ in people if each.account in ("", name)}
            entries = (allow_only(Principals((each.account,)), each.source),) if each.account else ()
            yield EntryPoint(
                Route.CONSOLE, entries, source=each.source, automatic=each.statement, admissions=admissions
            )
            continue
        if each.anybody:
            yield EntryPoint(Route.CONSOLE, proof=False, blank=False, source=each.source)
            continue
        principals = Principals((each.account,) if each.account else ())
        where = CONSOLE if each.service == "login" else DISPLAY
        lists = _lists(root, each.service, where, group_names) if each.account and each.service else ()
        yield EntryPoint(
            Route.CONSOLE,
            (allow_only(principals, each.source),),
            proof=False,
            blank=False,
            source=each.source,
            automatic=each.statement,
            services=(each.service,) if each.service else (),
            also=lists,
        )


def _by_pam(root: Root, route: Route, origin: str, group_names: Collection[str]) -> list[EntryPoint]:
    """Return an entry point for each set of services of a route that admit the same accounts.

    A display manager has an account stack of its own, and may not have the text console's denials."""
    through: dict[Lists, list[Service]] = {}
    for service in behind(root, route):
        where = DISPLAY if route is Route.CONSOLE and service.name != "login" else origin
        through.setdefault(_lists(root, service.name, where, group_names), []).append(service)
    return [_entry_point(root, route, let_in, services) for let_in, services in through.items()]


Lists = tuple[tuple[AccessListEntry, ...], ...]


def _lists(root: Root, service: str, origin: str, group_names: Collection[str]) -> Lists:
    """Return the access list of each line of the access module in a service's stack."""
    return tuple(access_list(rules, origin, group_names) for rules in access_lists(root, service))


def _entry_point(root: Root, route: Route, through: Lists, services: Sequence[Service]) -> EntryPoint:
    blank = next(filter(None, (takes_blank(root, each) for each in services)), None)
    unproved = next(filter(None, (open_without_proof(root, each) for each in services)), None)
    deciding, named = unproved or blank, services[0].name
    by_pam = asks_pam(root)
    stands = Source(service_file(root, named) or f"{FOLDERS[0]}/{named}")
    source = deciding.source if deciding else stands if by_pam else Source(named, text="no program here asks PAM")
    names = tuple(service.name for service in services)
    first, also = (through[0], through[1:]) if through else ((), ())
    # login(1) accepts a blank password where it checks the account by itself.
    blank_too, proof = blank is not None or (route is Route.CONSOLE and not by_pam), unproved is None
    return EntryPoint(route, first, blank=blank_too, proof=proof, source=source, services=names, also=also)


def _remote_shell(root: Root, group_names: Collection[str], people: People) -> list[EntryPoint]:
    """Return the entry points of the remote shell: what sshd_config(5) denies, then what its PAM service admits.

    There is one for accounts that no ``Match`` block is about, and one for each set with the same blocks."""
    general, special = shells(root, people)
    by_pam = _lists(root, "sshd", REMOTE, group_names) if sshd_asks_pam(root) else ()
    apart = tuple(name for _, names in special for name in names)
    found = [_shell_entry_point(general, (AccessListEntry(False, (Principals(apart),)),) if apart else (), by_pam)]
    return found + [
        _shell_entry_point(shell, (allow_only(Principals(tuple(names))),), by_pam) for shell, names in special
    ]


def _shell_entry_point(shell: Shell, whom: tuple[AccessListEntry, ...], by_pam: Lists) -> EntryPoint:
    refused = list(whom)
    for kind in ("users", "groups"):
        denied, allowed = shell.names(f"deny{kind}"), shell.names(f"allow{kind}")
        # From one computer only still is from elsewhere: an account admitted from there counts as admitted.
        refused += [
            AccessListEntry(False, (_principals(kind, [word]),), where)
            for word, where in denied
            if _from_anywhere(word)
        ]
        refused += [allow_only(_principals(kind, [word for word, _ in allowed]), allowed[0][1])] if allowed else []
    for_root, about_root = shell.setting("permitrootlogin", "prohibit-password")
    blank, about_blank = shell.setting("permitemptypasswords", "no")
    if for_root == "no":
        refused.append(AccessListEntry(False, (Principals(("root",)),), about_root))
    return EntryPoint(
        Route.REMOTE_SHELL,
        tuple(refused),
        passwords="yes" in (shell.setting(key, "yes")[0] for key in BY_PASSWORD),
        keys=shell.setting("pubkeyauthentication", "yes")[0] != "no",
        keys_only=Principals(("root",)) if for_root != "yes" else Principals(),
        blank=blank == "yes",
        source=(about_blank if blank == "yes" else None) or Source(SSHD_CONFIG),
        services=("sshd",),
        also=by_pam,
    )


def _from_anywhere(word: str) -> bool:
    return "@" not in word or word.endswith("@*")


def _principals(kind: str, words: Sequence[str]) -> Principals:
    meant = [word.partition("@")[0] for word in words]
    names = tuple(word for word in meant if not set(word) & WILDCARDS)
    patterns = tuple(Pattern(word) for word in meant if set(word) & WILDCARDS)
    users = kind == "users"
    return Principals(names, account_patterns=patterns) if users else Principals(groups=names, group_patterns=patterns)


class Inside(NamedTuple):
    """Open sessions of an account in words, and their routes, as far as known."""

    sessions: tuple[str, ...] = ()
    routes: tuple[str, ...] = ()


def sessions(root: Root, by_uid: Mapping[int, str]) -> Mapping[str, Inside]:
    """Return the open sessions by account name, from utmp(5) and systemd-logind's files.

    A session keeps its user ID whatever the account is called meanwhile: ``by_uid`` gives the names of today. A system
    that is not running has none."""
    found: dict[str, dict[str, str]] = {}
    routes: dict[str, dict[str, None]] = {}
    for name, where, host, since, service in (*_in_utmp(root, by_uid), *_in_logind(root, by_uid)):
        place = where + (f" from {host}" if host else "")
        found.setdefault(name, {}).setdefault(where, f"{place} since {since:%Y-%m-%d %H:%M}" if since else place)
        if route := _route_of(where, host, service):
            routes.setdefault(name, {})[route] = None
    return {name: Inside(tuple(places.values()), tuple(routes.get(name, ()))) for name, places in found.items()}


Session = tuple[str, str, str, datetime | None, str]
"""Who, where, from which computer, since when, by which service."""
BY_SERVICE = {"sshd": Route.REMOTE_SHELL, "dropbear": Route.REMOTE_SHELL, "xrdp-sesman": Route.REMOTE_SCREEN}


def _route_of(where: str, host: str, service: str) -> str:
    """Return the route of a session; empty where it is not known."""
    if service in BY_SERVICE:
        return BY_SERVICE[service]
    away = bool(host) and not host.startswith((":", "tmux(", "screen"))
    if where.startswith("pts/"):
        return Route.REMOTE_SHELL if away else ""
    return "" if away else Route.CONSOLE if where.startswith(("tty", ":")) else ""


def _in_utmp(root: Root, by_uid: Mapping[int, str]) -> Iterator[Session]:
    content = root.content(UTMP)
    for position in range(0, len(content) - UTMP_RECORD.size + 1, UTMP_RECORD.size):
        kind, pid, line, _, user, host, *_, seconds, _, _, _ = UTMP_RECORD.unpack_from(content, position)
        if kind == SIGNED_IN and _text(user) and not (root.live and not _lives(pid)):
            name = by_uid.get(_signed_in_number(pid), "") if root.live else ""
            yield name or _text(user), _text(line), _text(host), moment(seconds), ""


def _signed_in_number(pid: int) -> int:
    """Return the user ID that a process was signed in as, proc(5): loginuid; -1 where that is not recorded."""
    try:
        number = int(Path(f"/proc/{pid}/loginuid").read_text())
    except (OSError, ValueError):
        return -1
    return -1 if number == NOT_SIGNED_IN else number


NOT_SIGNED_IN = 2**32 - 1


def _in_logind(root: Root, by_uid: Mapping[int, str]) -> Iterator[Session]:
    """Read the sessions of systemd-logind: newer systems have no utmp.

    The files are its own; a field that it writes differently one day is skipped, never misread."""
    for name in root.names_in(LOGIND_SESSIONS)[:MOST_SESSIONS] if root.exists(LOGIND_SESSIONS) else ():
        text = root.content(f"{LOGIND_SESSIONS}/{name}", MOST_OF_A_SESSION).decode(errors="backslashreplace")
        facts = dict(line.split("=", 1) for line in text.split("\n") if "=" in line)
        leader, since = facts.get("LEADER", ""), facts.get("REALTIME", "")
        if not facts.get("USER") or not facts.get("CLASS", "").startswith("user") or facts.get("STATE") == "closing":
            continue
        if root.live and (process := digits(leader)) is not None and not _lives(process):
            continue
        where = facts.get("TTY") or facts.get("SERVICE") or "a session"
        began = moment(began_at / 1e6) if (began_at := digits(since, 19)) is not None else None
        uid = digits(facts.get("UID", ""))
        name = by_uid.get(uid, "") if uid is not None else ""
        yield name or facts["USER"], where, facts.get("REMOTE_HOST", ""), began, facts.get("SERVICE", "")


def _text(field: bytes) -> str:
    return field.split(b"\0", 1)[0].decode(errors="backslashreplace")


def _lives(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return pid > 0


def fresh_homes(root: Root) -> Callable[[str, str], bool]:
    """Return a function of an account's name and home: whether it gets a home in memory for each session.

    pam_namespace(8) in the session stack of the console, and a line of namespace.conf(5) about that home."""
    if not load_stack(root, "login", "session").having(NAMESPACE):
        return lambda name, home: False
    files = root.files_matching(f"{NAMESPACE_FOLDER}/*.conf")
    words = [line.split("#", 1)[0].split() for file in [NAMESPACE_CONF, *files] for line in root.lines(file)]
    rules = [(w[0], w[3] if len(w) > 3 else "") for w in words if len(w) > 2 and w[2].startswith("tmpfs")]

    def fresh(name: str, home: str) -> bool:
        for folder, who in rules:
            listed = name in who.lstrip("~").split(",")
            if folder in (home, "$HOME") and listed is who.startswith("~"):
                return True
        return False

    return fresh
