"""pam_faillock(8) on this system: its settings and their sources, its place in the stack, its tallies."""

import math
import struct
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from attrs import define, evolve, frozen

from verrou.core.model import Source, program_default
from verrou.core.values import Value
from verrou.machines.linux.files.digits import leading_number
from verrou.machines.linux.files.settings_files import settings
from verrou.machines.linux.files.sign_ins import moment
from verrou.machines.linux.pam.modules import unheeded
from verrou.machines.linux.pam.stack import PamLine, Stack, load_stack
from verrou.machines.linux.root import Root

FAILLOCK_CONF = "/etc/security/faillock.conf"
MODULE = "pam_faillock.so"
TALLIES = "/run/faillock"
TALLY = struct.Struct("<52sHHQ")
VALID = 1
DEFAULTS = {"deny": "3", "unlock_time": "600", "fail_interval": "900"}
LONGEST = timedelta(days=7)
"""The longest time that the module accepts; it passes over a longer one (measured, Linux-PAM 1.5 and 1.7)."""
MODULE_FOLDERS = (
    "/usr/lib/x86_64-linux-gnu/security",
    "/usr/lib/aarch64-linux-gnu/security",
    "/usr/lib64/security",
    "/usr/lib/security",
    "/lib/security",
)


MOST_OF_A_MODULE = 4_000_000


def module_place(root: Root, module: str) -> str:
    """Return the path of a PAM module; empty where it is not installed."""
    folders = [f"/usr/lib/{name}/security" for name in root.names_in("/usr/lib") if name.endswith("-gnu")]
    places = (f"{folder}/{module}" for folder in dict.fromkeys([*folders, *MODULE_FOLDERS]))
    return next((place for place in places if root.exists(place)), "")


def module_installed(root: Root, module: str) -> bool:
    """Return whether a PAM module is on the system."""
    return bool(module_place(root, module))


def module_content(root: Root, module: str) -> bytes:
    """Return the content of the module, which names the files it reads."""
    return root.content(module_place(root, module), MOST_OF_A_MODULE)


@frozen(repr=False)
class Decided:
    """A setting with its source; ``by_argument`` when arguments on PAM lines decide."""

    value: str
    source: Source
    overrides: tuple[Source, ...] = ()
    by_argument: bool = False


@define(repr=False)
class Faillock:
    """Lock-out settings of one service."""

    settings: Mapping[str, Decided]
    lines: tuple[PamLine, ...]
    gap: str
    """Why nothing locks although it may be configured; "" when the stack is in order."""
    unclear: "Unclear | None"
    """Why it is not known when an account locks."""
    broken: tuple[Source, ...]
    installed: bool
    service: str = "login"

    def value(self, key: str) -> Value:
        """Return the module's effective value of one of its numbers."""
        decided = self.settings.get(key)
        return value_of(key, decided.value if decided else DEFAULTS[key])

    @property
    def tallies(self) -> str:
        """The folder of the tallies."""
        return self.settings["dir"].value if "dir" in self.settings else TALLIES


def load_faillock(root: Root, service: str = "login") -> Faillock:
    """Return the lock-out settings of the console's service."""
    stack = load_stack(root, service, "auth")
    lines = tuple(stack.having(MODULE))
    conf: dict[str, Decided] = {}
    for setting in settings(FAILLOCK_CONF, root.lines(FAILLOCK_CONF)):
        source = Source(FAILLOCK_CONF, setting.line, f"{setting.key} = {setting.value}".removesuffix(" = "))
        if not _is_heeded(setting.key, setting.value):
            continue
        earlier = conf.get(setting.key)
        conf[setting.key] = Decided(setting.value, source, (*earlier.overrides, earlier.source) if earlier else ())
    decided = dict(conf)
    for key in (*DEFAULTS, "root_unlock_time", "even_deny_root", "admin_group", "dir"):
        given = any(_argument(line, key) is not None for line in lines)
        if given and (among := _among_lines(key, lines, conf.get(key))) is not None:
            decided[key] = among
    installed = module_installed(root, MODULE)
    return Faillock(decided, lines, _gap(stack), _unclear(stack, conf), stack.broken, installed, service)


class Unclear(NamedTuple):
    """What is not understood, what a person can do about it, and the line."""

    reason: str
    remedy: str
    source: Source


def _unclear(stack: Stack, conf: Mapping[str, Decided]) -> Unclear | None:
    """Return why the settings do not tell when an account locks.

    The line that counts stops at its own limit, and for as long as its own lock lasts (measured, Linux-PAM 1.5 and
    1.7): with a lower one than that of the line that denies, nobody is ever locked."""
    for line in stack.having(MODULE):
        if line.argument("conf") not in (None, FAILLOCK_CONF):
            reason = f"{MODULE} has its settings in {line.argument('conf')}, which is not read"
            return Unclear(reason, f"move them to {FAILLOCK_CONF}, and remove conf from the line", line.source)

    def value(line: PamLine, key: str) -> Value:
        below = conf.get(key)
        text = _argument(line, key) or (below.value if below else DEFAULTS[key])
        return value_of(key, text)

    for denies in stack.having(MODULE, "preauth"):
        for counts in stack.having(MODULE, "authfail"):
            different = [key for key in DEFAULTS if key != "deny" and value(denies, key) != value(counts, key)]
            different += ["dir"] * (denies.argument("dir") != counts.argument("dir"))
            limit, counted = value(denies, "deny"), value(counts, "deny")
            if isinstance(limit, int) and isinstance(counted, int) and counted < limit:
                different.insert(0, "deny")
            if different:
                reason = f"the lines of {MODULE} with preauth and authfail have different {', '.join(different)}"
                return Unclear(reason, f"give every line of {MODULE} the same arguments", counts.source)
    return None


def _among_lines(key: str, lines: Sequence[PamLine], below: Decided | None) -> Decided | None:
    """Return the strictest value: each line that checks the tally, before and after the password, can deny by its
    arguments. None where only a line that checks nothing has the argument."""
    checking = [line for line in lines if {"preauth", "authsucc"} & set(line.arguments)] or list(lines)
    default = Decided(DEFAULTS[key], program_default(f"{key} = {DEFAULTS[key]}")) if key in DEFAULTS else None
    candidates = []
    for line in checking:
        value = _argument(line, key)
        if value is not None:
            overrides = (below.source,) if below else ()
            candidates.append(Decided(value, line.source, overrides, by_argument=True))
        elif unargued := below or default:
            candidates.append(unargued)
    if not candidates:
        return None

    def amount(decided: Decided) -> float:
        value = value_of(key, decided.value) if key in DEFAULTS else 0
        return value.total_seconds() if isinstance(value, timedelta) else value if isinstance(value, int) else math.inf

    strictest = min(candidates, key=amount) if key == "deny" else max(candidates, key=amount)
    return evolve(strictest, by_argument=True)


def _gap(stack: Stack) -> str:
    before = stack.having(MODULE, "preauth")
    failed = stack.having(MODULE, "authfail")
    if not before and not failed:
        return f"{MODULE} is not in the auth stack of {stack.service}"
    if not failed:
        return f"{MODULE} counts nothing: the line with authfail is missing from the auth stack of {stack.service}"
    if not before:
        return f"{MODULE} rejects no one: the line with preauth is missing from the auth stack of {stack.service}"
    past = unheeded(stack, before[0])
    if past == before[0]:
        return f"{past.file}:{past.first} asks {MODULE} but does not heed it ({past.control})"
    return f"{past.file}:{past.first} admits users whatever {MODULE} answers" if past else ""


def value_of(key: str, text: str) -> Value:
    """Return a number as pam_faillock(8) parses it: the default for an invalid one, no limit for 0 or never."""
    if text == "never" and key == "unlock_time":
        return "until-unlocked"
    amount = number if (number := _number(key, text)) is not None else int(DEFAULTS[key])
    if key == "deny":
        return amount or "never"
    if key == "unlock_time" and amount == 0:
        return "until-unlocked"
    return timedelta(seconds=amount)


def _is_heeded(key: str, text: str) -> bool:
    """Return whether the module takes a text for the value of a key. It passes over any other, and what an earlier line
    says stays (measured, Linux-PAM 1.5)."""
    return key not in DEFAULTS or (text == "never" and key == "unlock_time") or _number(key, text) is not None


def _argument(line: PamLine, key: str) -> str | None:
    """Return the last value of an argument that the module heeds."""
    found = [value for value in line.values(key) if _is_heeded(key, value)]
    return found[-1] if found else None


def _number(key: str, text: str) -> int | None:
    """Return the number at the beginning of a text, as sscanf(3) stores it; None where the module passes over it."""
    number = leading_number(text)
    if number is None or key == "deny":
        return None if number is None else number % 2**16
    amount = number % 2**32
    return amount if amount <= LONGEST.total_seconds() else None


def lockouts(root: Root, faillock: Faillock, now: datetime) -> Mapping[str, tuple[int, datetime | None]]:
    """Return by name the failed attempts that still count, and until when the account is locked (datetime.max: no
    end)."""
    folder = faillock.tallies
    after, lasts, forget = (faillock.value(key) for key in ("deny", "unlock_time", "fail_interval"))
    if faillock.gap:
        after = "never"
    found: dict[str, tuple[int, datetime | None]] = {}
    for name in root.names_in(folder):
        tally = root.place(f"{folder}/{name}")
        times = valid_times(tally.read_bytes()) if tally.is_file() else []
        if not times or not isinstance(forget, timedelta):
            continue
        latest = moment(max(times))
        if latest is None:
            continue  # noise: no clock ever had that time
        counted = sum(max(times) - t < forget.total_seconds() for t in times)
        until = None
        if isinstance(after, int) and counted >= after:
            until = _after(latest, lasts) if isinstance(lasts, timedelta) else datetime.max
        found[name] = (counted, until if until and until > now else None)
    return found


def _after(start: datetime, span: timedelta) -> datetime:
    try:
        return start + span
    except OverflowError:
        return datetime.max


def valid_times(tally: bytes) -> list[int]:
    """Return the times (seconds since 1970) of the failed attempts that a tally file still counts."""
    whole = len(tally) - len(tally) % TALLY.size
    return [when for _, _, status, when in TALLY.iter_unpack(tally[:whole]) if status & VALID]


def moved_back(tally: bytes, span: timedelta) -> bytes:
    """Return the tally with every attempt ``span`` longer ago."""
    seconds = int(span.total_seconds())
    whole = len(tally) - len(tally) % TALLY.size
    moved = [
        TALLY.pack(a, b, status, max(0, when - seconds)) for a, b, status, when in TALLY.iter_unpack(tally[:whole])
    ]
    return b"".join(moved) + tally[whole:]
