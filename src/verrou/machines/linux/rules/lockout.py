"""The lock after failed attempts on a Linux system: pam_faillock(8), in its file and in the PAM stack."""

from collections.abc import Callable, Mapping
from datetime import timedelta

from verrou.core.model import Reading, Source, absent, program_default, unreadable
from verrou.core.rules import CATALOGUE
from verrou.core.values import AcceptedValues, Value
from verrou.machines.linux.files.settings_files import settings, with_setting
from verrou.machines.linux.packages import without_module
from verrou.machines.linux.pam.faillock import DEFAULTS, FAILLOCK_CONF, LONGEST, MODULE, Faillock, load_faillock
from verrou.machines.linux.pam.profiles import EDITED_BY_HAND, add_profiles, no_updater
from verrou.machines.linux.pam.services import asking_passwords
from verrou.machines.linux.pam.stack import edit_argument, put_together
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, weakest

PLACE = f"{FAILLOCK_CONF}, or an argument of {MODULE} in the PAM stack, which takes precedence"
LOCKOUT_PROFILES = {
    # Before the password is checked: refuse who is locked. Above pam_unix, whose profile has priority 256.
    "verrou-lockout-before": """\
Name: Verrou: reject accounts locked after failed attempts
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


def _read(rule_id: str, key: str) -> Callable[[System], Reading]:
    kind = CATALOGUE[rule_id].kind

    def read(system: System) -> Reading:
        return weakest(
            kind, [(faillock.service, _read_one(system.root, key, faillock)) for faillock in system.faillocks]
        )

    return read


def _read_one(root: Root, key: str, faillock: Faillock) -> Reading:
    if not faillock.installed:
        return absent(*without_module(root, MODULE))
    if faillock.broken:
        where = faillock.broken[0]
        return unreadable(f"{where}: libpam cannot use this line, and allows no one by it", f"repair {where}", where)
    if faillock.unclear and not faillock.gap:
        reason, remedy, line = faillock.unclear
        return unreadable(f"{reason}, so when an account locks is not known", remedy, line)
    decided = faillock.settings.get(key)
    if key == "even_deny_root":
        if decided is None and (group := faillock.settings.get("admin_group")):
            what = f"members of group {group.value} are never locked either"
            return unreadable(what, f"remove admin_group in {group.source.where}", group.source)
        value: Value = "nobody" if decided else "built-in"
    else:
        value = faillock.value(key)
    source = decided.source if decided else program_default(f"{key} = {DEFAULTS.get(key, 'no')}")
    if faillock.gap and key == "deny":
        configured = (source,) if decided else ()
        return Reading(
            "never", source=Source("PAM stack", text=faillock.gap), overrides=configured, reason=faillock.gap
        )
    overrides = decided.overrides if decided else ()
    return Reading(value, source=source, overrides=overrides, enforced=not faillock.gap, reason=faillock.gap)


def _cannot(system: System) -> str:
    """Return why no rule of the family can be set here; empty where it can."""
    faillock = system.faillock
    if not faillock.gap:
        by_argument = any(setting.by_argument for setting in faillock.settings.values())
        reasons = (put_together(system.root, line.file) for line in faillock.lines) if by_argument else ()
        return next(filter(None, reasons), "")
    if faillock.lines:
        return f"{faillock.gap}. Repair {faillock.lines[0].file} manually; Verrou did not write its present content"
    return no_updater(system.root, MODULE)


def _put(key: str, to_text: Callable[[Value], str | None]) -> Callable[[Root, Value], str]:
    def write(root: Root, value: Value) -> str:
        faillock = load_faillock(root)
        _refuse_broken(faillock)
        text = to_text(value)
        decided = faillock.settings.get(key)
        if decided and decided.by_argument:
            # On every line of the module: each one that checks the tally uses its own arguments.
            for line in faillock.lines:
                edit_argument(root, line, key, text)
        if text is None:
            root.write(FAILLOCK_CONF, _without(root, key))
        elif not (decided and decided.by_argument):
            number = decided.source.line if decided else None
            now = root.text(FAILLOCK_CONF) or ""
            root.write(FAILLOCK_CONF, with_setting(now, key, text, line=number))
        return f"set where it is decided, {decided.source.place}" if decided and decided.by_argument else ""

    return write


def _without(root: Root, key: str) -> str:
    """Return faillock.conf without any line that sets ``key``."""
    text = root.text(FAILLOCK_CONF) or ""
    for setting in reversed(list(settings(FAILLOCK_CONF, root.lines(FAILLOCK_CONF)))):
        if setting.key == key:
            text = with_setting(text, key, None, line=setting.line)
    return text


def _exempts(root: Root, value: Value) -> str:
    # root_unlock_time implies even_deny_root in pam_faillock(8), but not in the module (measured, Linux-PAM 1.5, 1.7).
    if value == "built-in" and "root_unlock_time" in load_faillock(root).settings:
        _put("root_unlock_time", lambda _: None)(root, value)
    return _put("even_deny_root", lambda required: "" if required == "nobody" else None)(root, value)


def _refuse_broken(faillock: Faillock) -> None:
    if faillock.broken:
        raise StepRejected(f"{faillock.broken[0]}: libpam cannot use this line. Repair it first.")


def _seconds(value: Value) -> str:
    return "0" if not isinstance(value, timedelta) else str(int(value.total_seconds()))


def in_stack(root: Root) -> str:
    """Add the module to the stack where it is missing, and return what was done. Raises: StepRejected."""
    faillock = load_faillock(root)
    if not faillock.gap:
        return ""
    if faillock.lines:
        raise StepRejected(
            f"{faillock.gap}. Repair {faillock.lines[0].file} manually; Verrou did not write its present content"
        )
    add_profiles(root, LOCKOUT_PROFILES)
    if gap := load_faillock(root).gap:
        raise StepRejected(f"{gap}, although its profiles were enabled; {EDITED_BY_HAND}")
    left = [each.name for each in asking_passwords(root) if load_faillock(root, each.name).gap]
    manual = f"; {', '.join(left)} has a stack of its own: change it manually" if left else ""
    return f"{MODULE} put into the PAM stack{manual}"


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "lockout.after": LinuxRuleAdapter(
        f"deny in {PLACE}; the module must be in the auth stack before and after the password is checked",
        _read("lockout.after", "deny"),
        _put("deny", lambda value: "0" if value == "never" else str(value)),
        cannot=_cannot,
    ),
    "lockout.lasts": LinuxRuleAdapter(
        f"unlock_time, in seconds, in {PLACE}; 0 and never both mean until-unlocked",
        _read("lockout.lasts", "unlock_time"),
        _put("unlock_time", _seconds),
        AcceptedValues(most=LONGEST),
        cannot=_cannot,
    ),
    "lockout.forget_after": LinuxRuleAdapter(
        f"fail_interval, in seconds, in {PLACE}",
        _read("lockout.forget_after", "fail_interval"),
        _put("fail_interval", _seconds),
        AcceptedValues(most=LONGEST),
        cannot=_cannot,
    ),
    "lockout.exempts": LinuxRuleAdapter(
        f"even_deny_root in {PLACE}", _read("lockout.exempts", "even_deny_root"), _exempts, cannot=_cannot
    ),
}
