"""What a Linux system asks of passwords: pam_pwquality, pam_pwhistory, pam_unix, ageing, and blank ones."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import timedelta

from attrs import define, evolve, field

from verrou.core.model import Account, Reading, Source, absent, shipped_default, unreadable
from verrou.core.rules import CATALOGUE
from verrou.core.values import Value
from verrou.machines.linux.files.account_files import SHADOW, AccountFile, Record
from verrou.machines.linux.files.settings_files import settings
from verrou.machines.linux.files.sshd import SSHD_CONFIG, sshd_setting
from verrou.machines.linux.lockout import Decided, module_installed
from verrou.machines.linux.pam.stack import PamLine, load_stack
from verrou.machines.linux.population import (
    NEVER_DAYS,
    limit_in_days,
    login_defs,
    number,
    people_with_passwords,
)
from verrou.machines.linux.root import Root

PWQUALITY_CONF = "/etc/security/pwquality.conf"
PWQUALITY_FOLDER = "/etc/security/pwquality.conf.d"
DICTIONARY = "/var/cache/cracklib/cracklib_dict.pwd"
PWQUALITY, PWHISTORY, UNIX = "pam_pwquality.so", "pam_pwhistory.so", "pam_unix.so"
NUMBER_KEYS = (
    "difok",
    "minlen",
    "dcredit",
    "ucredit",
    "lcredit",
    "ocredit",
    "minclass",
    "maxrepeat",
    "maxclassrepeat",
    "maxsequence",
    "gecoscheck",
    "dictcheck",
    "usercheck",
    "usersubstr",
    "enforcing",
    "retry",
)
TEXT_KEYS = ("badwords", "dictpath")
FLAG_KEYS = ("enforce_for_root", "local_users_only")
CREDITS = ("dcredit", "ucredit", "lcredit", "ocredit")
SHIPPED = {"minlen": 8, "minclass": 0, "usercheck": 1, "dictcheck": 1, "enforcing": 1, **dict.fromkeys(CREDITS, 0)}
UNIX_SCHEMES = ("yescrypt", "gost_yescrypt", "blowfish", "sha512", "sha256", "md5", "bigcrypt")
UNIX_WORDS = {"gost_yescrypt": "gost-yescrypt", "blowfish": "bcrypt"}
REMEMBER_DEFAULT = 10
REMOTE_SCREENS = ("xrdp-sesman",)


@define
class Quality:
    """The settings that libpwquality ends up with, and the line at which it stopped reading, if it did."""

    decided: dict[str, Decided] = field(factory=dict)
    stopped_at: Source | None = None

    def number(self, key: str) -> int:
        """The number in force: minlen is never below 6 nor minclass above 4."""
        value = number(self.decided[key].value) if key in self.decided else SHIPPED[key]
        value = SHIPPED[key] if value is None else value
        return max(6, value) if key == "minlen" else min(4, value) if key == "minclass" else value


def quality_settings(root: Root, line: PamLine | None) -> Quality:
    """pwquality.conf(5) as the library reads it: drop-ins in order of their names, then the main file, and nothing
    after a line it does not understand; then the module's arguments."""
    quality = Quality()
    files = [f"{PWQUALITY_FOLDER}/{n}" for n in root.names_in(PWQUALITY_FOLDER) if n.endswith(".conf")]
    for file in [*files, PWQUALITY_CONF]:
        for setting in settings(file, root.lines(file)):
            key = setting.key.lower()
            source = Source(file, setting.line, f"{setting.key} = {setting.value}".removesuffix(" = "))
            if not _understood(key, setting.value):
                quality.stopped_at = source
                return _with_arguments(quality, line)
            _decide(quality, key, setting.value, source)
    return _with_arguments(quality, line)


def _with_arguments(quality: Quality, line: PamLine | None) -> Quality:
    for argument in line.arguments if line else ():
        key, _, value = argument.partition("=")
        if line and key in (*NUMBER_KEYS, *FLAG_KEYS) and _understood(key, value):
            _decide(quality, key, value, line.source)
            quality.decided[key] = evolve(quality.decided[key], by_argument=True)
    return quality


def _decide(quality: Quality, key: str, value: str, source: Source) -> None:
    earlier = quality.decided.get(key)
    overruled = (*earlier.overruled, earlier.source) if earlier else ()
    quality.decided[key] = Decided(value, source, overruled)


def _understood(key: str, value: str) -> bool:
    if key in NUMBER_KEYS:
        return number(value) is not None
    return key in TEXT_KEYS or key in FLAG_KEYS


def quality_readings(root: Root) -> Iterator[tuple[str, Reading]]:
    """Length, classes, name and dictionary."""
    rules = ("password.min_length", "password.classes", "password.may_contain_name", "password.dictionary")
    stack = load_stack(root, "passwd", "password")
    if not module_installed(root, PWQUALITY):
        for rule_id in rules:
            yield rule_id, absent(f"{PWQUALITY} is not installed", "install the package libpam-pwquality")
        return
    if stack.broken:
        where = stack.broken[0]
        for rule_id in rules:
            yield rule_id, unreadable(f"{where}: libpam cannot use this line", f"mend {where}", where)
        return
    lines = stack.having(PWQUALITY)
    quality = quality_settings(root, lines[0] if lines else None)
    gap = "" if lines else f"{PWQUALITY} is not in the password stack"
    if lines and (skipped := stack.skipped_by(lines[0])):
        gap = f"{skipped.file}:{skipped.first} takes the password before {PWQUALITY} is asked"
    elif lines and lines[0].control in ("optional", "sufficient"):
        gap = f"{lines[0].file}:{lines[0].first} asks {PWQUALITY} but does not heed it ({lines[0].control})"
    elif quality.number("enforcing") == 0:
        gap = f"enforcing = 0 ({quality.decided['enforcing'].source}): weak passwords get a warning only"
    values: Mapping[str, tuple[str, Value]] = {
        "password.min_length": ("minlen", quality.number("minlen") - sum(_credits(quality, positive=True))),
        "password.classes": ("minclass", max(quality.number("minclass"), len(_credits(quality, positive=False)))),
        "password.may_contain_name": ("usercheck", quality.number("usercheck") == 0),
        "password.dictionary": ("dictcheck", "checked" if quality.number("dictcheck") else "unchecked"),
    }
    for rule_id, (key, value) in values.items():
        decided = quality.decided.get(key)
        stop = quality.stopped_at
        stopped = f"{stop}: not understood, so the system reads no further" if stop else ""
        yield (
            rule_id,
            Reading(
                value,
                source=decided.source if decided else shipped_default(f"{key} = {SHIPPED[key]}"),
                overruled=decided.overruled if decided else (),
                in_force=not gap,
                reason=gap or stopped,
                remedy=f"mend or remove {quality.stopped_at.place}:{quality.stopped_at.line}"
                if quality.stopped_at
                else "",
            ),
        )


def _credits(quality: Quality, positive: bool) -> list[int]:
    """Positive credits make the real minimum shorter; each negative one demands a kind of character."""
    credits = [quality.number(key) for key in CREDITS]
    return [credit for credit in credits if (credit > 0) is positive and credit]


def dictionary_missing(root: Root) -> bool:
    """Whether the module is there without its dictionary, so that it refuses every password."""
    return module_installed(root, PWQUALITY) and not root.exists(DICTIONARY)


def history_reading(root: Root) -> Reading:
    """pam_pwhistory(8): the argument alone decides."""
    if not module_installed(root, PWHISTORY):
        return absent(f"{PWHISTORY} is not installed", "install the package libpam-modules")
    stack = load_stack(root, "passwd", "password")
    if stack.broken:
        return unreadable(f"{stack.broken[0]}: libpam cannot use this line", f"mend {stack.broken[0]}", stack.broken[0])
    lines = stack.having(PWHISTORY)
    if not lines:
        gap = f"{PWHISTORY} is not in the password stack"
        return Reading(0, source=Source("PAM stack", text=gap), reason=gap)
    given = number(lines[0].argument("remember") or "")
    if skipped := stack.skipped_by(lines[0]):
        gap = f"{skipped.file}:{skipped.first} takes the password before {PWHISTORY} is asked"
        return Reading(given or REMEMBER_DEFAULT, source=lines[0].source, in_force=False, reason=gap)
    return Reading(REMEMBER_DEFAULT if given is None else given, source=lines[0].source)


def storage_reading(root: Root, accounts: Sequence[Account]) -> Reading:
    """The scheme of new passwords and those of the stored ones."""
    lines = load_stack(root, "passwd", "password").having(UNIX)
    defs = login_defs(root)
    overruled: tuple[Source, ...] = ()
    named = next((a for line in lines for a in line.arguments if a in UNIX_SCHEMES), None)
    if named:
        scheme, source = UNIX_WORDS.get(named, named), lines[0].source
        overruled = (defs["ENCRYPT_METHOD"][1],) if "ENCRYPT_METHOD" in defs else ()
    elif "ENCRYPT_METHOD" in defs:
        scheme, source = defs["ENCRYPT_METHOD"][0].lower(), defs["ENCRYPT_METHOD"][1]
    else:
        scheme, source = "des", shipped_default()
    stored = {a.password_scheme: a for a in reversed(accounts) if a.password_scheme}
    old = {name: account for name, account in stored.items() if name != scheme}
    reason = "; ".join(f"{account.name} has a {name} password" for name, account in old.items())
    coming = frozenset({scheme})
    return Reading(
        coming | frozenset(stored),
        source=source,
        overruled=overruled,
        reason=reason,
        pending=coming if old else None,
    )


AGEING: Mapping[str, tuple[str, int, Callable[[int | None], Value]]] = {
    "password.max_age": ("PASS_MAX_DAYS", 4, lambda days: "never" if days is None else timedelta(days=days)),
    "password.min_age": ("PASS_MIN_DAYS", 3, lambda days: timedelta(days=days or 0)),
    "password.warn_before": ("PASS_WARN_AGE", 5, lambda days: timedelta(days=days or 0)),
}
"""By rule: the key of login.defs(5), the field of shadow(5) from 0, and how days become a value."""
SHIPPED_AGES = {"password.max_age": NEVER_DAYS, "password.min_age": 0, "password.warn_before": 7}
"""What new accounts are given where login.defs says nothing."""


def ages_of_new_accounts(root: Root) -> tuple[tuple[str, int | None], ...]:
    """The days that login.defs(5) gives a new account, by rule; None for never."""
    defs = login_defs(root)
    found = []
    for rule_id, (key, _, _) in AGEING.items():
        days = number(defs[key][0]) if key in defs else SHIPPED_AGES[rule_id]
        found.append((rule_id, None if days is None or days < 0 or days >= NEVER_DAYS else days))
    return tuple(found)


def ageing_readings(
    root: Root, shadow: AccountFile | None, accounts: Sequence[Account]
) -> Iterator[tuple[str, Reading]]:
    """The loosest of what new accounts will get and what each account has."""
    defs = login_defs(root)
    records = [shadow.find(a.name) for a in people_with_passwords(accounts)] if shadow else []
    fixed = {a.name for a in accounts if a.cannot_change}
    for rule_id, (key, position, to_value) in AGEING.items():
        kind = CATALOGUE[rule_id].kind
        days = number(defs[key][0]) if key in defs else None
        source = defs[key][1] if key in defs else shipped_default(f"{key} not set")
        loosest = future = to_value(None if days is None or days < 0 or days >= NEVER_DAYS else days)
        deciding = source
        having: dict[str, list[Record]] = {}
        for record in records:
            # Who can never change a password is as strict as can be about the least age.
            if record is not None and not (rule_id == "password.min_age" and record.name in fixed):
                having.setdefault(record.fields[position], []).append(record)
        looser = 0
        for text, holders in having.items():
            value = to_value(limit_in_days(text))
            looser += len(holders) if kind.rank(value) < kind.rank(future) else 0
            if kind.rank(value) < kind.rank(loosest):
                said = f"{holders[0].name}: {kind.say(value)}"
                loosest, deciding = value, Source(SHADOW, holders[0].line, said)
        overruled = (source,) if deciding is not source else ()
        reason = f"{looser} accounts are looser than {source.place} says" if looser > 1 else ""
        yield rule_id, Reading(loosest, source=deciding, overruled=overruled, reason=reason)


def blank_console_only_reading(root: Root) -> Reading:
    """Whether a blank password opens anything but the console: the remote shell server, a remote screen's service."""
    for service in REMOTE_SCREENS:
        if not root.exists(f"/etc/pam.d/{service}"):
            continue
        for line in load_stack(root, service, "auth").having(UNIX):
            if "nullok" in line.arguments:
                return Reading(False, source=line.source, reason=f"the service {service} lets blank passwords in")
    if not root.exists(SSHD_CONFIG):
        return Reading(True, source=Source("no remote way is installed"))
    value, source = sshd_setting(root, "permitemptypasswords", "no")
    return Reading(value == "no", source=source or shipped_default("PermitEmptyPasswords no"))
