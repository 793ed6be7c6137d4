"""Setting rules on a Linux system: values in the modules' own files, modules by the system's own profiles."""

from collections.abc import Callable, Mapping
from datetime import datetime, timedelta

from verrou.core.plan.steps import SetRules
from verrou.core.rules import CATALOGUE
from verrou.core.values import Value
from verrou.machines.linux.files.account_files import SHADOW, AccountFile
from verrou.machines.linux.files.settings_files import settings, with_setting
from verrou.machines.linux.files.sshd import SSHD_CONFIG
from verrou.machines.linux.lockout import FAILLOCK_CONF, MODULE, Faillock, load_faillock
from verrou.machines.linux.pam.profiles import EDITED_BY_HAND, Refused, add_profiles, update_stack
from verrou.machines.linux.pam.stack import PamLine, load_stack, with_argument
from verrou.machines.linux.password_rules import (
    AGEING,
    PWHISTORY,
    PWQUALITY,
    PWQUALITY_FOLDER,
    UNIX,
    UNIX_SCHEMES,
    UNIX_WORDS,
    ageing_readings,
    blank_console_only_reading,
    quality_settings,
)
from verrou.machines.linux.population import (
    LOGIN_DEFS,
    NEVER_DAYS,
    AccountFiles,
    limit_in_days,
    login_defs,
    people_with_passwords,
    population,
)
from verrou.machines.linux.root import Root

DROP_IN = f"{PWQUALITY_FOLDER}/50-verrou.conf"
SSHD_DROP_IN = "/etc/ssh/sshd_config.d/00-verrou.conf"
LOCKOUT_PROFILES = {
    # Before the password is checked: refuse who is locked. Above pam_unix, whose profile has priority 256.
    "verrou-lockout-before": """\
Name: Verrou: refuse accounts locked after wrong passwords
Default: yes
Priority: 1024
Auth-Type: Primary
Auth:
	requisite	pam_faillock.so preauth
""",
    # After every module that can accept the password: count the wrong one and stop there.
    "verrou-lockout-failed": """\
Name: Verrou: count wrong passwords
Default: yes
Priority: 0
Auth-Type: Primary
Auth:
	[default=die]	pam_faillock.so authfail
""",
    "verrou-lockout-passed": """\
Name: Verrou: forget wrong passwords after the right one
Default: yes
Priority: 0
Auth-Type: Additional
Auth:
	required	pam_faillock.so authsucc
""",
}
HISTORY_PROFILE = "verrou-history"
HISTORY_TEXT = """\
Name: Verrou: refuse earlier passwords
Default: yes
Priority: 768
Password-Type: Primary
Password:
	requisite	pam_pwhistory.so remember={remember} use_authtok
Password-Initial:
	requisite	pam_pwhistory.so remember={remember}
"""
BEST_FIRST = ("yescrypt", "gost-yescrypt", "bcrypt", "sha512", "sha256")


def set_rules(root: Root, step: SetRules) -> str:
    """Set the rules of one step; answers with what is worth saying. Raises Refused."""
    said = []
    for rule_id, value in step.values:
        writer = WRITERS.get(rule_id)
        if writer is None:
            raise Refused(f"a Linux machine does not keep {rule_id}")
        said.append(writer(root, value))
    if any(rule_id.startswith("lockout.") for rule_id, _ in step.values):
        said.append(_lockout_in_stack(root))
    return "; ".join(dict.fromkeys(text for text in said if text))


def _faillock(key: str, to_text: Callable[[Value], str | None]) -> "Writer":
    def write(root: Root, value: Value) -> str:
        faillock = load_faillock(root)
        _refuse_broken(faillock)
        text = to_text(value)
        decided = faillock.settings.get(key)
        if decided and decided.by_argument:
            # On every line of the module: each one that checks the tally goes by its own arguments.
            for line in faillock.lines:
                _edit_argument(root, line, key, text)
        if text is None:
            root.write(FAILLOCK_CONF, _without(root, key))
        elif not (decided and decided.by_argument):
            number = decided.source.line if decided else None
            now = root.text(FAILLOCK_CONF) or ""
            root.write(FAILLOCK_CONF, with_setting(now, key, text, line=number))
        return f"set where it is decided, {decided.source.place}" if decided and decided.by_argument else ""

    return write


def _without(root: Root, key: str) -> str:
    """faillock.conf without any line that sets ``key``."""
    text = root.text(FAILLOCK_CONF) or ""
    for setting in reversed(list(settings(FAILLOCK_CONF, root.lines(FAILLOCK_CONF)))):
        if setting.key == key:
            text = with_setting(text, key, None, line=setting.line)
    return text


def _covers_admin(root: Root, value: Value) -> str:
    if not value and "root_unlock_time" in load_faillock(root).settings:
        _faillock("root_unlock_time", lambda _: None)(root, value)
    return _faillock("even_deny_root", lambda wanted: "" if wanted else None)(root, value)


def _refuse_broken(faillock: Faillock) -> None:
    if faillock.broken:
        raise Refused(f"{faillock.broken[0]}: libpam cannot use this line; mend it first")


def _seconds(value: Value) -> str:
    return "0" if not isinstance(value, timedelta) else str(int(value.total_seconds()))


def _lockout_in_stack(root: Root) -> str:
    """Put pam_faillock into the stack where it is missing altogether."""
    faillock = load_faillock(root)
    if not faillock.gap:
        return ""
    if faillock.lines:
        raise Refused(f"{faillock.gap}; mend {faillock.lines[0].file} by hand, what is there was not made by Verrou")
    add_profiles(root, LOCKOUT_PROFILES)
    if gap := load_faillock(root).gap:
        raise Refused(f"{gap}, although its profiles were enabled; {EDITED_BY_HAND}")
    return f"{MODULE} put into the PAM stack"


def _edit_argument(root: Root, line: PamLine, key: str, value: str | None) -> None:
    text = root.text(line.file)
    assert text is not None, "the line was read from this file"
    root.write(line.file, with_argument(text, line, key, value))


def _quality(key: str, to_number: Callable[[Value], int]) -> "Writer":
    def write(root: Root, value: Value) -> str:
        said = ""
        stack = load_stack(root, "passwd", "password")
        if stack.broken:
            raise Refused(f"{stack.broken[0]}: libpam cannot use this line; mend it first")
        if not stack.having(PWQUALITY):
            update_stack(root, "--enable", "pwquality")
            stack = load_stack(root, "passwd", "password")
            if not stack.having(PWQUALITY):
                raise Refused(f"{PWQUALITY} did not come into the password stack; {EDITED_BY_HAND}")
            said = f"{PWQUALITY} put into the PAM stack"
        line = stack.having(PWQUALITY)[0]
        quality = quality_settings(root, line)
        if quality.stopped_at:
            raise Refused(f"{quality.stopped_at} is not understood, so nothing after it counts; mend it first")
        number = to_number(value)
        if key == "minlen":
            number += sum(c for c in (quality.number(k) for k in ("dcredit", "ucredit", "lcredit", "ocredit")) if c > 0)
        decided = quality.decided.get(key)
        if decided and decided.by_argument:
            _edit_argument(root, line, key, str(number))
            return f"set where it is decided, {decided.source.place}"
        file = decided.source.place if decided else DROP_IN
        at = decided.source.line if decided else None
        root.write(file, with_setting(root.text(file) or "", key, str(number), line=at))
        return said

    return write


def _remember(root: Root, value: Value) -> str:
    lines = load_stack(root, "passwd", "password").having(PWHISTORY)
    if lines:
        _edit_argument(root, lines[0], "remember", str(value))
        return ""
    add_profiles(root, {HISTORY_PROFILE: HISTORY_TEXT.format(remember=value)})
    if not load_stack(root, "passwd", "password").having(PWHISTORY):
        raise Refused(f"{PWHISTORY} did not come into the password stack; {EDITED_BY_HAND}")
    return f"{PWHISTORY} put into the PAM stack"


def _storage(root: Root, value: Value) -> str:
    assert isinstance(value, frozenset)
    lines = load_stack(root, "passwd", "password").having(UNIX)
    if not lines:
        raise Refused(f"{UNIX} is not in the password stack")
    named = next((a for a in lines[0].arguments if a in UNIX_SCHEMES), None)
    if named and UNIX_WORDS.get(named, named) in value:
        return "new passwords are stored well already; accounts with an old form need a new password"
    best = next((scheme for scheme in BEST_FIRST if scheme in value), None)
    if best is None:
        raise Refused(f"{UNIX} writes none of {', '.join(sorted(value))}")
    word = {said: word for word, said in UNIX_WORDS.items()}.get(best, best)
    if named:
        _edit_argument(root, lines[0], named, None)
        lines = load_stack(root, "passwd", "password").having(UNIX)
    _edit_argument(root, lines[0], word, "")
    return ""


def _ageing(rule_id: str) -> "Writer":
    key, position, to_value = AGEING[rule_id]
    rank = CATALOGUE[rule_id].kind.rank

    def write(root: Root, value: Value) -> str:
        days = value.days if isinstance(value, timedelta) else NEVER_DAYS
        root.forget()
        files = AccountFiles.load(root)
        accounts = population(root, files, datetime.now(), {}).accounts
        now = dict(ageing_readings(root, files.shadow, accounts))[rule_id].value
        tightening = now is not None and rank(value) > rank(now)
        defs = login_defs(root)
        line = defs[key][1].line if key in defs else None
        root.write(LOGIN_DEFS, with_setting(root.text(LOGIN_DEFS) or "", key, str(days), separator="\t", line=line))
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
            shadow.change(account.name, **{f"f{position}": str(days)})
            changed += 1
        if changed:
            root.write(SHADOW, shadow.text())
        return f"new accounts and {changed} that are there" if changed else ""

    return write


def _blank_console_only(root: Root, value: Value) -> str:
    now = blank_console_only_reading(root)
    if now.value == value:
        return ""
    if not value:
        raise Refused("Verrou does not open remote ways to blank passwords")
    assert now.source is not None
    if not root.exists(SSHD_CONFIG) or not now.source.text.lower().startswith("permitemptypasswords"):
        raise Refused(f"{now.source}: take nullok out of that line by hand, it may serve the console as well")
    root.write(SSHD_DROP_IN, "PermitEmptyPasswords no\n")
    if blank_console_only_reading(root).value is not True:
        text = root.text(now.source.place) or ""
        changed = with_setting(text, "PermitEmptyPasswords", "no", separator=" ", line=now.source.line)
        root.write(now.source.place, changed)
    return "holds when the remote shell server is started again"


Writer = Callable[[Root, Value], str]
WRITERS: Mapping[str, Writer] = {
    "lockout.after": _faillock("deny", lambda value: "0" if value == "never" else str(value)),
    "lockout.lasts": _faillock("unlock_time", _seconds),
    "lockout.forget_after": _faillock("fail_interval", _seconds),
    "lockout.covers_admin": _covers_admin,
    "password.min_length": _quality("minlen", lambda value: int(str(value))),
    "password.classes": _quality("minclass", lambda value: int(str(value))),
    "password.may_contain_name": _quality("usercheck", lambda value: int(not value)),
    "password.dictionary": _quality("dictcheck", lambda value: int(value == "checked")),
    "password.remember": _remember,
    "password.storage": _storage,
    "password.max_age": _ageing("password.max_age"),
    "password.min_age": _ageing("password.min_age"),
    "password.warn_before": _ageing("password.warn_before"),
    "password.blank_console_only": _blank_console_only,
}
