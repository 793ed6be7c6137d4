"""The ways into a Linux system: the console, the remote shell, a remote screen, shared folders; and who is inside."""

import os
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import datetime

from verrou.core.model import Source
from verrou.core.model.ways import Circle, Gate, Pass, Way, nobody_but
from verrou.machines.linux.files.access_file import CONSOLE, DISPLAY, REMOTE, access_rules, passes
from verrou.machines.linux.files.sign_ins import SIGNED_IN, UTMP_RECORD, moment
from verrou.machines.linux.files.sshd import SSHD_CONFIG, sshd_installed, sshd_setting, sshd_settings
from verrou.machines.linux.pam.services import Service, behind, open_without_proof, sshd_takes_passwords, takes_blank
from verrou.machines.linux.pam.stack import FOLDERS, load_stack, service_file
from verrou.machines.linux.root import Root

NAMESPACE = "pam_namespace.so"
NAMESPACE_CONF, NAMESPACE_FOLDER = "/etc/security/namespace.conf", "/etc/security/namespace.d"
UTMP, LOGIND_SESSIONS = "/run/utmp", "/run/systemd/sessions"
MOST_SESSIONS, MOST_OF_A_SESSION = 1000, 8192


def gates(root: Root, group_names: Collection[str]) -> tuple[Gate, ...]:
    """Every way in that is installed, and whom it lets through."""
    found = _by_pam(root, Way.CONSOLE, CONSOLE, group_names)
    for way in (Way.NETWORK, Way.REMOTE_SCREEN):
        found += _by_pam(root, way, REMOTE, group_names)
    if sshd_installed(root):
        found.append(_remote_shell(root, group_names))
    return tuple(found)


def _by_pam(root: Root, way: Way, origin: str, group_names: Collection[str]) -> list[Gate]:
    """One gate for all services of a way that let the same accounts through: a display manager has an account stack of
    its own, and may know nothing of what keeps somebody from the text console."""
    through: dict[tuple[Pass, ...], list[Service]] = {}
    for service in behind(root, way):
        where = DISPLAY if way is Way.CONSOLE and service.name != "login" else origin
        through.setdefault(passes(access_rules(root, service.name), where, group_names), []).append(service)
    return [_gate(root, way, let_in, services) for let_in, services in through.items()]


def _gate(root: Root, way: Way, through: tuple[Pass, ...], services: Sequence[Service]) -> Gate:
    blank = next(filter(None, (takes_blank(root, each) for each in services)), None)
    unproved = next(filter(None, (open_without_proof(load_stack(root, each.name, "auth")) for each in services)), None)
    deciding, first = unproved or blank, services[0].name
    source = deciding.source if deciding else Source(service_file(root, first) or f"{FOLDERS[0]}/{first}")
    return Gate(way, through, blank=blank is not None, proof=unproved is None, source=source)


def _remote_shell(root: Root, group_names: Collection[str]) -> Gate:
    """What sshd_config(5) refuses, and then what the PAM service of the server lets in."""
    refused = []
    for kind in ("users", "groups"):
        denied, allowed = _names(root, f"deny{kind}"), _names(root, f"allow{kind}")
        refused += [Pass(False, (_circle(kind, denied),))] if denied else []
        refused += [nobody_but(_circle(kind, allowed))] if allowed else []
    for_root, about_root = sshd_setting(root, "permitrootlogin", "prohibit-password")
    blank, about_blank = sshd_setting(root, "permitemptypasswords", "no")
    if for_root == "no":
        refused.append(Pass(False, (Circle(("root",)),)))
    return Gate(
        Way.REMOTE_SHELL,
        (*refused, *passes(access_rules(root, "sshd"), REMOTE, group_names)),
        passwords=sshd_takes_passwords(root),
        keys=sshd_setting(root, "pubkeyauthentication", "yes")[0] != "no",
        keys_only=Circle(("root",)) if for_root != "yes" else Circle(),
        blank=blank == "yes",
        source=(about_blank if blank == "yes" else about_root) or Source(SSHD_CONFIG),
    )


def _circle(kind: str, names: tuple[str, ...]) -> Circle:
    return Circle(names) if kind == "users" else Circle(groups=names)


def _names(root: Root, key: str) -> tuple[str, ...]:
    """Names and patterns of a list, without the computers they are good from."""
    return tuple(word.partition("@")[0] for value, _ in sshd_settings(root, key) for word in value.split())


def sessions(root: Root) -> Mapping[str, tuple[str, ...]]:
    """Who is signed in now, by account name, from utmp(5) and what systemd-logind keeps of sessions. A system that does
    not run has nobody."""
    found: dict[str, dict[str, str]] = {}
    for name, where, host, since in (*_in_utmp(root), *_in_logind(root)):
        place = where + (f" from {host}" if host else "")
        found.setdefault(name, {}).setdefault(where, f"{place} since {since:%Y-%m-%d %H:%M}" if since else place)
    return {name: tuple(places.values()) for name, places in found.items()}


Session = tuple[str, str, str, datetime | None]
"""Who, where, from which computer, since when."""


def _in_utmp(root: Root) -> Iterator[Session]:
    content = root.content(UTMP)
    for position in range(0, len(content) - UTMP_RECORD.size + 1, UTMP_RECORD.size):
        kind, pid, line, _, user, host, *_, seconds, _, _, _ = UTMP_RECORD.unpack_from(content, position)
        if kind == SIGNED_IN and _text(user) and not (root.live and not _lives(pid)):
            yield _text(user), _text(line), _text(host), moment(seconds)


def _in_logind(root: Root) -> Iterator[Session]:
    """Newer systems keep no utmp. The files are systemd-logind's own; a name that it writes otherwise one day is passed
    over, never misread."""
    for name in root.names_in(LOGIND_SESSIONS)[:MOST_SESSIONS] if root.exists(LOGIND_SESSIONS) else ():
        text = root.content(f"{LOGIND_SESSIONS}/{name}", MOST_OF_A_SESSION).decode(errors="backslashreplace")
        facts = dict(line.split("=", 1) for line in text.split("\n") if "=" in line)
        leader, since = facts.get("LEADER", ""), facts.get("REALTIME", "")
        if not facts.get("USER") or not facts.get("CLASS", "").startswith("user") or facts.get("STATE") == "closing":
            continue
        if root.live and leader.isascii() and leader.isdigit() and not _lives(int(leader[:18])):
            continue
        where = facts.get("TTY") or facts.get("SERVICE") or "a session"
        began = moment(int(since) / 1e6) if since.isascii() and since.isdigit() and len(since) < 20 else None
        yield facts["USER"], where, facts.get("REMOTE_HOST", ""), began


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
    """Whether an account, by its name and home, gets a home in memory for each session: pam_namespace(8) in the session
    stack of the console, and a line of namespace.conf(5) about that home."""
    if not load_stack(root, "login", "session").having(NAMESPACE):
        return lambda name, home: False
    files = [f"{NAMESPACE_FOLDER}/{n}" for n in root.names_in(NAMESPACE_FOLDER) if n.endswith(".conf")]
    words = [line.split("#", 1)[0].split() for file in [NAMESPACE_CONF, *files] for line in root.lines(file)]
    rules = [(w[0], w[3] if len(w) > 3 else "") for w in words if len(w) > 2 and w[2].startswith("tmpfs")]

    def fresh(name: str, home: str) -> bool:
        for folder, who in rules:
            listed = name in who.lstrip("~").split(",")
            if folder in (home, "$HOME") and listed is who.startswith("~"):
                return True
        return False

    return fresh
