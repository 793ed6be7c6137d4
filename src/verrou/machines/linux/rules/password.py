"""Password rules of a Linux system: pam_pwquality(8), pam_pwhistory(8), pam_unix(8), ageing, and blank passwords."""

# Imports within functions: routes are read by rules, which this module is one of.

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta

from verrou.core.model import Reading, Source, absent, program_default, unreadable
from verrou.core.model.routes import Route
from verrou.core.rules import CATALOGUE
from verrou.core.values import AcceptedValues, Value
from verrou.machines.linux.accounts.population import (
    LOGIN_DEFS,
    NEVER_DAYS,
    AccountFiles,
    limit_in_days,
    login_defs,
    login_defs_file,
    people_with_passwords,
    population,
)
from verrou.machines.linux.files.account_files import SHADOW, AccountFile, AccountLine, ShadowField, number
from verrou.machines.linux.files.digits import leading_number
from verrou.machines.linux.files.settings_files import settings, with_setting
from verrou.machines.linux.files.sshd import set_keyword
from verrou.machines.linux.packages import without_module
from verrou.machines.linux.pam.faillock import module_content, module_installed
from verrou.machines.linux.pam.modules import unheeded
from verrou.machines.linux.pam.profiles import EDITED_BY_HAND, add_profiles, no_updater, update_stack
from verrou.machines.linux.pam.quality import CREDITS, PWQUALITY, PWQUALITY_FOLDER, SHIPPED, Quality, quality_settings
from verrou.machines.linux.pam.services import UNIX, behind, nullok_line, takes_blank
from verrou.machines.linux.pam.stack import PamLine, Stack, edit_argument, load_stack, put_together
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, weakest, when_sshd_is_told

PWHISTORY = "pam_pwhistory.so"
DROP_IN = f"{PWQUALITY_FOLDER}/50-verrou.conf"
HISTORY_PROFILE = "verrou-history"
HISTORY_TEXT = """\
Name: Verrou: reject earlier passwords
Default: yes
Priority: 768
Password-Type: Primary
Password:
	requisite	pam_pwhistory.so remember={remember} use_authtok
Password-Initial:
	requisite	pam_pwhistory.so remember={remember}
"""
UNIX_SCHEMES = ("yescrypt", "gost_yescrypt", "blowfish", "sha512", "sha256", "md5", "bigcrypt")
UNIX_WORDS = {"gost_yescrypt": "gost-yescrypt", "blowfish": "bcrypt"}
BEST_FIRST = ("yescrypt", "gost-yescrypt", "bcrypt", "sha512", "sha256")
REMEMBER_DEFAULT, MOST_REMEMBERED = 10, 400
PWHISTORY_CONF = "/etc/security/pwhistory.conf"

# Length, kinds of character, name, dictionary


def _quality_value(rule_id: str, quality: Quality) -> Value:
    """Return the value of a libpwquality number."""
    match rule_id:
        case "password.min_length":
            return quality.number("minlen") - sum(_credits(quality, positive=True))
        case "password.classes":
            return max(quality.number("minclass"), len(_credits(quality, positive=False)))
        case "password.may_contain_name":
            return quality.number("usercheck") == 0
        case "password.dictionary":
            return "checked" if quality.number("dictcheck") else "unchecked"
        case _:
            raise KeyError(f"{rule_id} is not a number of libpwquality")


def _read_quality(rule_id: str, key: str) -> Callable[[System], Reading]:
    kind = CATALOGUE[rule_id].kind

    def read(system: System) -> Reading:
        if not module_installed(system.root, PWQUALITY):
            return absent(*without_module(system.root, PWQUALITY))
        return weakest(kind, [(s.service, _quality_of(rule_id, key, system.root, s)) for s in system.password_stacks])

    return read


def _quality_of(rule_id: str, key: str, root: Root, stack: Stack) -> Reading:
    """Return what one service for password changes requires."""
    if stack.broken:
        where = stack.broken[0]
        return unreadable(f"{where}: libpam cannot use this line", f"repair {where}", where)
    quality = quality_settings(root, next(iter(stack.having(PWQUALITY)), None))
    decided, stop = quality.decided.get(key), quality.stopped_at
    gap = _quality_gap(stack, quality)
    return Reading(
        _quality_value(rule_id, quality),
        source=decided.source if decided else program_default(f"{key} = {SHIPPED[key]}"),
        overrides=decided.overrides if decided else (),
        enforced=not gap,
        reason=gap or (f"{stop}: not understood, so the system reads no further" if stop else ""),
        remedy=f"repair or remove {stop.place}:{stop.line}" if stop else "",
    )


def _quality_gap(stack: Stack, quality: Quality) -> str:
    """Return why nothing that is configured is enforced; empty where it is."""
    lines = stack.having(PWQUALITY)
    if not lines:
        return f"{PWQUALITY} is not in the password stack of {stack.service}"
    if past := unheeded(stack, lines[0]):
        return _past(past, lines[0], PWQUALITY)
    if quality.number("enforcing") == 0:
        return f"enforcing = 0 ({quality.decided['enforcing'].source}): weak passwords get a warning only"
    return ""


def _credits(quality: Quality, positive: bool) -> list[int]:
    """Return the effect of credits: positive ones shorten the minimum; each negative one requires a character class."""
    credits = [quality.number(key) for key in CREDITS]
    return [credit for credit in credits if (credit > 0) is positive and credit]


def _quality_cannot(key: str) -> Callable[[System], str]:
    """Return why one of libpwquality's numbers cannot be set."""

    def cannot(system: System) -> str:
        line = next(iter(system.password_stack.having(PWQUALITY)), None)
        if line is None:
            return no_updater(system.root, PWQUALITY)
        decided = quality_settings(system.root, line).decided.get(key)
        return put_together(system.root, line.file) if decided and decided.by_argument else ""

    return cannot


def _history_cannot(system: System) -> str:
    line = next(iter(system.password_stack.having(PWHISTORY)), None)
    return put_together(system.root, line.file) if line else no_updater(system.root, PWHISTORY)


def _storage_cannot(system: System) -> str:
    line = next(iter(system.password_stack.having(UNIX)), None)
    return put_together(system.root, line.file) if line else f"{UNIX} is not in the password stack"


def _blank_cannot(system: System) -> str:
    routes = [
        entry_point.route
        for entry_point in system.entry_points
        if entry_point.blank and entry_point.route is not Route.REMOTE_SHELL
    ]
    lines = [takes_blank(system.root, service) for route in routes for service in behind(system.root, route)]
    return next(filter(None, (put_together(system.root, line.file) for line in lines if line)), "")


def _put_quality(key: str, to_number: Callable[[Value], int]) -> Callable[[Root, Value], str]:
    def write(root: Root, value: Value) -> str:
        message = ""
        stack = load_stack(root, "passwd", "password")
        if stack.broken:
            raise StepRejected(f"{stack.broken[0]}: libpam cannot use this line. Repair it first.")
        if not stack.having(PWQUALITY):
            update_stack(root, "--enable", "pwquality")
            stack = load_stack(root, "passwd", "password")
            if not stack.having(PWQUALITY):
                raise StepRejected(f"{PWQUALITY} was not added to the password stack; {EDITED_BY_HAND}")
            message = f"{PWQUALITY} put into the PAM stack"
        line = stack.having(PWQUALITY)[0]
        quality = quality_settings(root, line)
        if quality.stopped_at:
            raise StepRejected(f"{quality.stopped_at} is not understood, so nothing after it counts. Repair it first.")
        number = to_number(value)
        if key == "minlen":
            number += sum(c for c in (quality.number(k) for k in ("dcredit", "ucredit", "lcredit", "ocredit")) if c > 0)
        decided = quality.decided.get(key)
        if decided and decided.by_argument:
            edit_argument(root, line, key, str(number))
            return f"set where it is decided, {decided.source.place}"
        file = decided.source.place if decided else DROP_IN
        at = decided.source.line if decided else None
        root.write(file, with_setting(root.text(file) or "", key, str(number), line=at))
        return message

    return write


# Earlier passwords


def _read_history(system: System) -> Reading:
    """Return the reading of pam_pwhistory(8) over the services for password changes."""
    if not module_installed(system.root, PWHISTORY):
        return absent(*without_module(system.root, PWHISTORY))
    found = [(stack.service, _history_of(system.root, stack)) for stack in system.password_stacks]
    return weakest(CATALOGUE["password.remember"].kind, found)


def _history_of(root: Root, stack: Stack) -> Reading:
    if stack.broken:
        return unreadable(
            f"{stack.broken[0]}: libpam cannot use this line", f"repair {stack.broken[0]}", stack.broken[0]
        )
    lines = stack.having(PWHISTORY)
    if not lines:
        gap = f"{PWHISTORY} is not in the password stack of {stack.service}"
        return Reading(0, source=Source("PAM stack", text=gap), reason=gap)
    value, source = _remembered(root, lines[0])
    if past := unheeded(stack, lines[0]):
        return Reading(value, source=source, enforced=False, reason=_past(past, lines[0], PWHISTORY))
    return Reading(value, source=source)


def _past(past: PamLine, line: PamLine, module: str) -> str:
    """Return the line that accepts a password which a module rejects."""
    if past == line:
        return f"{line.file}:{line.first} asks {module} but does not heed it ({line.control})"
    return f"{past.file}:{past.first} accepts the password whatever {module} answers"


def _remembered(root: Root, line: PamLine) -> tuple[int, Source]:
    """Return how many passwords the module remembers, and what sets it.

    pwhistory.conf(5) applies where the module reads it and its arguments do not say. The number is what a text begins
    with; none is 0 as an argument, and a line of that file that is passed over (measured, Linux-PAM 1.5 and 1.7)."""
    given = [word.partition("=")[2] for word in line.arguments if word.lower().startswith("remember=")]
    if given:
        return _bounded(leading_number(given[-1]) or 0), line.source
    kept, source = REMEMBER_DEFAULT, line.source
    if PWHISTORY_CONF.encode() in module_content(root, PWHISTORY):
        for setting in settings(PWHISTORY_CONF, root.lines(PWHISTORY_CONF)):
            count = leading_number(setting.value) if setting.key == "remember" else None
            if count is not None:
                kept, source = _bounded(count), Source(PWHISTORY_CONF, setting.line, f"remember = {setting.value}")
    return kept, source


def _bounded(count: int) -> int:
    """Return a number of passwords as the module bounds it."""
    return max(0, min(count, MOST_REMEMBERED))


def _put_history(root: Root, value: Value) -> str:
    lines = load_stack(root, "passwd", "password").having(PWHISTORY)
    if lines:
        edit_argument(root, lines[0], "remember", str(value))
        return ""
    add_profiles(root, {HISTORY_PROFILE: HISTORY_TEXT.format(remember=value)})
    if not load_stack(root, "passwd", "password").having(PWHISTORY):
        raise StepRejected(f"{PWHISTORY} was not added to the password stack; {EDITED_BY_HAND}")
    return f"{PWHISTORY} put into the PAM stack"


# How passwords are stored


def _read_storage(system: System) -> Reading:
    """Return the scheme of new passwords, and those of stored ones."""
    lines = system.password_stack.having(UNIX)
    defs = login_defs(system.root)
    overrides: tuple[Source, ...] = ()
    named = next((a for line in lines for a in line.arguments if a in UNIX_SCHEMES), None)
    if named:
        scheme, source = UNIX_WORDS.get(named, named), lines[0].source
        overrides = (defs["ENCRYPT_METHOD"][1],) if "ENCRYPT_METHOD" in defs else ()
    elif "ENCRYPT_METHOD" in defs:
        scheme, source = defs["ENCRYPT_METHOD"][0].lower(), defs["ENCRYPT_METHOD"][1]
    elif lines:
        scheme, source = "des", program_default()
    else:
        return unreadable("which program makes the hash of a new password here, and how, is not known")
    stored = {a.password_scheme: a for a in reversed(system.accounts) if a.password_scheme}
    old = {name: account for name, account in stored.items() if name != scheme}
    reason = "; ".join(f"{account.name} has a {name} password" for name, account in old.items())
    coming = frozenset({scheme})
    return Reading(
        coming | frozenset(stored),
        source=source,
        overrides=overrides,
        reason=reason,
        pending=coming if old else None,
    )


def _put_storage(root: Root, value: Value) -> str:
    assert isinstance(value, frozenset)
    lines = load_stack(root, "passwd", "password").having(UNIX)
    if not lines:
        raise StepRejected(f"{UNIX} is not in the password stack")
    named = next((a for a in lines[0].arguments if a in UNIX_SCHEMES), None)
    if named and UNIX_WORDS.get(named, named) in value:
        return "new passwords already have the required form; accounts with an old hash need a new password"
    best = next((scheme for scheme in BEST_FIRST if scheme in value), None)
    if best is None:
        raise StepRejected(f"{UNIX} cannot store passwords as {' or '.join(sorted(value))}")
    word = {message: word for word, message in UNIX_WORDS.items()}.get(best, best)
    if named:
        edit_argument(root, lines[0], named, None)
        lines = load_stack(root, "passwd", "password").having(UNIX)
    edit_argument(root, lines[0], word, "")
    return ""


# Ages


AGEING: Mapping[str, tuple[str, int, Callable[[int | None], Value]]] = {
    "password.max_age": (
        "PASS_MAX_DAYS",
        ShadowField.LONGEST,
        lambda days: "never" if days is None else timedelta(days=days),
    ),
    "password.min_age": ("PASS_MIN_DAYS", ShadowField.LEAST, lambda days: timedelta(days=days or 0)),
    "password.warn_before": ("PASS_WARN_AGE", ShadowField.WARNING, lambda days: timedelta(days=days or 0)),
}
"""By rule: the key of login.defs(5), the field of shadow(5) from 0, and how days become a value."""
SHIPPED_AGES = {"password.max_age": NEVER_DAYS, "password.min_age": 0, "password.warn_before": 7}
"""Defaults for new accounts where login.defs sets nothing."""


def ages_of_new_accounts(root: Root) -> tuple[tuple[str, int | None], ...]:
    """Return the days that login.defs(5) gives a new account, by rule; None for never."""
    defs = login_defs(root)
    found = []
    for rule_id, (key, _, _) in AGEING.items():
        days = number(defs[key][0]) if key in defs else SHIPPED_AGES[rule_id]
        found.append((rule_id, None if days is None or days < 0 or days >= NEVER_DAYS else days))
    return tuple(found)


def _read_ageing(rule_id: str) -> Callable[[System], Reading]:
    """Return the loosest of what new accounts get and what each account has."""
    key, position, to_value = AGEING[rule_id]
    kind = CATALOGUE[rule_id].kind

    def read(system: System) -> Reading:
        defs = login_defs(system.root)
        days = number(defs[key][0]) if key in defs else None
        source = defs[key][1] if key in defs else program_default(f"{key} not set")
        loosest = future = to_value(None if days is None or days < 0 or days >= NEVER_DAYS else days)
        deciding = source
        looser = 0
        lines = _that_count(system, with_fixed=rule_id != "password.min_age")
        for text, holders in Counter(record.fields[position] for record in lines).items():
            value = to_value(limit_in_days(text))
            looser += holders if kind.rank(value) < kind.rank(future) else 0
            if kind.rank(value) < kind.rank(loosest):
                first = next(record for record in lines if record.fields[position] == text)
                loosest, deciding = value, Source(SHADOW, first.line, f"{first.name}: {kind.format(value)}")
        overrides = (source,) if deciding is not source else ()
        reason = f"{looser} accounts are looser than {source.place} says" if looser > 1 else ""
        return Reading(loosest, source=deciding, overrides=overrides, reason=reason)

    return read


def _that_count(system: System, *, with_fixed: bool) -> Sequence[AccountLine]:
    """Return the lines of shadow(5) of those that ageing applies to.

    An account that can never change its password is strictest about the minimum age: without ``with_fixed`` those are
    left out."""
    fixed = set() if with_fixed else {a.name for a in system.accounts if a.cannot_change}
    return [record for record in system.ageing_lines if record.name not in fixed] if fixed else system.ageing_lines


def _put_ageing(rule_id: str) -> Callable[[Root, Value], str]:
    key, position, to_value = AGEING[rule_id]
    rank = CATALOGUE[rule_id].kind.rank

    def write(root: Root, value: Value) -> str:
        days = value.days if isinstance(value, timedelta) else NEVER_DAYS
        root.forget()
        files = AccountFiles.load(root)
        accounts = population(root, files, datetime.now(), {}).accounts
        now = _read_ageing(rule_id)(System(root, files, accounts, ())).value
        tightening = now is not None and rank(value) > rank(now)
        defs = login_defs(root)
        line = defs[key][1].line if key in defs else None
        # A file of our own overrides the vendor's whole, so it includes all of that.
        text = root.text(login_defs_file(root)) or ""
        root.write(LOGIN_DEFS, with_setting(text, key, str(days), separator="\t", line=line))
        changed, shadow = 0, files.shadow or AccountFile.parse(SHADOW, "")
        for account in people_with_passwords(accounts):
            record = shadow.find(account.name)
            if record is None or record.fields[position] == str(days):
                continue
            if rule_id == "password.min_age" and account.cannot_change:
                continue
            # An account that is stricter already stays so, unless the rule itself is being loosened.
            if tightening and rank(to_value(limit_in_days(record.fields[position]))) >= rank(value):
                continue
            shadow.change(account.name, {position: str(days)})
            changed += 1
        if changed:
            root.write(SHADOW, shadow.text())
        return f"new accounts and {changed} that are there" if changed else ""

    return write


# Blank passwords


def _read_blank_routes(system: System) -> Reading:
    """Return the routes that accept a blank password, as far as their services decide."""
    opened = [
        entry_point
        for entry_point in system.entry_points
        if not entry_point.automatic and ((entry_point.blank and entry_point.passwords) or not entry_point.proof)
    ]
    source = opened[-1].source if opened else None
    return Reading(
        frozenset(str(entry_point.route) for entry_point in opened),
        source=source or Source("no route accepts a blank one"),
    )


def _put_blank_routes(root: Root, value: Value) -> str:
    from verrou.machines.linux.entry.routes import entry_points

    assert isinstance(value, frozenset)
    for entry_point in entry_points(root, (), ()):
        if not entry_point.blank or str(entry_point.route) in value:
            continue
        if entry_point.route is Route.REMOTE_SHELL:
            set_keyword(root, "PermitEmptyPasswords", "no")
            continue
        for service in behind(root, entry_point.route):
            while (line := nullok_line(root, service)) is not None:
                for argument in ("nullok", "nullok_secure"):
                    edit_argument(root, line, argument, None)
    left = [
        str(entry_point.route)
        for entry_point in entry_points(root, (), ())
        if entry_point.blank and str(entry_point.route) not in value
    ]
    if left:
        raise StepRejected(f"a blank password is still accepted by {', '.join(left)}. Close that manually")
    return ""


def _quality_adapter(
    rule_id: str, key: str, where: str, to_number: Callable[[Value], int], accepted_values: AcceptedValues
) -> LinuxRuleAdapter:
    place = (
        "/etc/security/pwquality.conf and, read before it, /etc/security/pwquality.conf.d/*.conf; an argument of "
        f"{PWQUALITY} in the PAM stack takes precedence over both"
    )
    read, write = _read_quality(rule_id, key), _put_quality(key, to_number)
    return LinuxRuleAdapter(f"{where} in {place}", read, write, accepted_values, _quality_cannot(key))


def _age_adapter(rule_id: str, accepted_values: AcceptedValues) -> LinuxRuleAdapter:
    place = (
        f"{AGEING[rule_id][0]} in /etc/login.defs for accounts still to be made, and in each account's line of "
        "/etc/shadow, root's excepted, since programs run as it and would be rejected"
    )
    return LinuxRuleAdapter(place, _read_ageing(rule_id), _put_ageing(rule_id), accepted_values, in_shadow=True)


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "password.min_length": _quality_adapter(
        "password.min_length",
        "minlen",
        "minlen (credits for kinds of character make the real minimum shorter)",
        lambda value: int(str(value)),
        AcceptedValues(least=6),
    ),
    "password.classes": _quality_adapter(
        "password.classes",
        "minclass",
        "minclass, and each negative credit,",
        lambda value: int(str(value)),
        AcceptedValues(),
    ),
    "password.may_contain_name": _quality_adapter(
        "password.may_contain_name", "usercheck", "usercheck", lambda value: int(not value), AcceptedValues()
    ),
    "password.dictionary": _quality_adapter(
        "password.dictionary",
        "dictcheck",
        "dictcheck (with the dictionary in /var/cache/cracklib)",
        lambda value: int(value == "checked"),
        AcceptedValues(),
    ),
    "password.remember": LinuxRuleAdapter(
        f"the remember argument of {PWHISTORY} in the PAM stack ({REMEMBER_DEFAULT} when it is not given)",
        _read_history,
        _put_history,
        AcceptedValues(most=400),
        _history_cannot,
    ),
    "password.storage": LinuxRuleAdapter(
        "the scheme named on the pam_unix.so password line (ENCRYPT_METHOD in /etc/login.defs does not decide), and "
        "the hashes in /etc/shadow",
        _read_storage,
        _put_storage,
        cannot=_storage_cannot,
        in_shadow=True,
    ),
    "password.max_age": _age_adapter("password.max_age", AcceptedValues()),
    "password.min_age": _age_adapter("password.min_age", AcceptedValues()),
    "password.warn_before": _age_adapter("password.warn_before", AcceptedValues()),
    "password.blank_accepted": LinuxRuleAdapter(
        "nullok on pam_unix.so in the stack of each service of a route; for the remote shell PermitEmptyPasswords "
        "of its server as well",
        _read_blank_routes,
        _put_blank_routes,
        cannot=_blank_cannot,
        counts=when_sshd_is_told,
    ),
}
