"""Possible answers of each PAM module about an account, by its arguments and files: the modules' manual pages.

An unknown module, or an argument that changes more than is known here, may answer anything."""

import re
from collections.abc import Callable, Mapping
from enum import StrEnum

from attrs import define, field, frozen

from verrou.core.made_often import made_often
from verrou.core.model import PasswordState
from verrou.core.model.known import Known
from verrou.machines.linux.files.digits import digits
from verrou.machines.linux.pam.access_module import Comer, allows
from verrou.machines.linux.pam.control import DENIED, IGNORE, MODULE_UNKNOWN, NEW_PASSWORD, SUCCESS
from verrou.machines.linux.pam.interpreter import ANY, LETS_IN, Verdict, interpret
from verrou.machines.linux.pam.stack import PamLine, Stack
from verrou.machines.linux.root import Root

AUTH_ERR, SERVICE_ERR = "auth_err", "service_err"
AUTH, ACCOUNT = "auth", "account"
Results = frozenset[str]


def _only(*results: str) -> Results:
    return frozenset(results)


YES, FAILS, NOTHING, NOT_THERE = _only(SUCCESS), _only(AUTH_ERR), _only(IGNORE), _only(MODULE_UNKNOWN)
REFUSED = _only(DENIED)
NO_INFORMATION = _only("authinfo_unavail")


class Proof(StrEnum):
    """Credential shown: the account's own password, a wrong one, or a key that the program itself checks."""

    RIGHT = "right"
    WRONG = "wrong"
    KEY = "key"


@made_often
class PamUser:
    """An account as PAM sees it.

    ``password`` is NONE where no password can match, a locked one included. ``ended``: after its last day;
    ``aged_out``: after the days of grace of its password; ``due``: a new password is required first;
    ``lacks_shadow_line``: its password is said to be in the shadow file, which has no valid line of it."""

    name: str
    uid: int
    gid: int
    groups: tuple[str, ...] = ()
    shell: str = ""
    home: str = ""
    password: PasswordState = PasswordState.SET
    ended: bool = False
    aged_out: bool = False
    due: bool = False
    lacks_shadow_line: bool = False

    @property
    def state(self) -> tuple[object, ...]:
        """All that decides about an account besides its name, groups and shell."""
        return self.password, self.ended, self.aged_out, self.due, self.lacks_shadow_line, self.uid == 0


@made_often
class Attempt:
    """A user of a service.

    ``terminal`` and ``host`` are what the service tells PAM about the origin; a ``host`` is an address. ``as_root``:
    the program that asks runs as root, as every sign-in program does."""

    service: str
    user: PamUser
    terminal: str
    host: str = ""
    proof: Proof = Proof.RIGHT
    as_root: bool = True


@define(repr=False)
class Modules:
    """The modules of one system."""

    root: Root
    _folder: str | None = field(default=None, init=False)
    _limits: tuple[int, int] | None = field(default=None, init=False)

    def verdict(self, facility: str, stack: Stack, attempt: Attempt) -> Verdict:
        """Return the verdict of one facility of a service about an attempt."""
        if stack.fatal is not None:
            return Verdict(Known.NO)
        if stack.unclear is not None:
            return Verdict(Known.UNKNOWN)
        return interpret(
            stack.chain,
            lambda line, asked: self.answers(facility, line, attempt, asked),
            lambda line: line.module_name in ASKS_A_PASSWORD,
        )

    def answers(self, facility: str, line: PamLine, attempt: Attempt, asked: bool) -> Results:
        """Return what a line's module may return; ``asked``: an earlier line asked for the password."""
        there = self._is_there(line.module)
        if there is not Known.YES:
            return NOT_THERE if there is Known.NO else ANY
        found = TABLE.get(line.module_name)
        if found is None:
            proves = line.module_name in WANT_PROOF and attempt.proof is Proof.WRONG
            return ANY - frozenset(LETS_IN) if proves else ANY
        answer = found.get(facility, NOT_THERE)
        return answer if isinstance(answer, frozenset) else answer(ModuleCall(self, facility, line, attempt, asked))

    def _is_there(self, module: str) -> Known:
        """Return whether libpam finds the module, and it is the known one: in the folder of the system's modules."""
        if not self.folder or "$" in module:
            return Known.UNKNOWN
        place = module if module.startswith("/") else f"{self.folder}/{module}"
        if not self.root.exists(place):
            return Known.NO
        return Known.of(place.rpartition("/")[0].removeprefix("/usr") == self.folder.removeprefix("/usr") or None)

    @property
    def limits(self) -> tuple[int, int]:
        """The first ID of people and the last of the system's accounts, by login.defs(5)."""
        if self._limits is None:
            found = {"UID_MIN": "1000", "SYS_UID_MAX": ""}
            for line in self.root.lines("/etc/login.defs"):
                words = line.split("#", 1)[0].split()
                if len(words) > 1 and words[0] in found and digits(words[1]) is not None:
                    found[words[0]] = words[1]
            first = int(found["UID_MIN"])
            self._limits = first, int(found["SYS_UID_MAX"] or first - 1)
        return self._limits

    @property
    def folder(self) -> str:
        """The folder of the system's modules; empty where it is not found."""
        if self._folder is None:
            names = ("/usr/lib", "/lib")
            by_kind = [
                f"{top}/{name}/security" for top in names for name in self.root.names_in(top) if "-linux-" in name
            ]
            places = (*by_kind, *(f"{top}{bits}/security" for top in names for bits in ("64", "")))
            self._folder = next((place for place in places if self.root.exists(f"{place}/pam_unix.so")), "")
        return self._folder


@frozen(repr=False)
class ModuleCall:
    """The input of a module: its line, and the attempt."""

    modules: Modules
    facility: str
    line: PamLine
    attempt: Attempt
    already: bool

    @property
    def root(self) -> Root:
        return self.modules.root

    @property
    def user(self) -> PamUser:
        return self.attempt.user

    def has(self, *switches: str) -> bool:
        """Return whether the line has one of these bare arguments."""
        return any(switch in self.line.arguments for switch in switches)

    def only_has(self, *known: str) -> bool:
        """Return whether every argument, without its value, is one of these."""
        return all(argument.partition("=")[0] in known for argument in self.line.arguments)


def _unix(asked: ModuleCall) -> Results:
    if asked.has("nis"):
        return ANY
    if asked.already is False and asked.has("use_first_pass"):
        return FAILS
    who = asked.user
    if who.lacks_shadow_line:
        return NO_INFORMATION
    if who.password is PasswordState.BLANK:
        return YES if asked.has("nullok", "nullok_secure") else FAILS
    return FAILS if who.password is PasswordState.NONE or asked.attempt.proof is not Proof.RIGHT else YES


def _unix_account(asked: ModuleCall) -> Results:
    if asked.has("nis"):
        return ANY
    who = asked.user
    if who.lacks_shadow_line:
        return YES if asked.has("broken_shadow") else NO_INFORMATION
    if who.ended:
        return _only("acct_expired")
    # Without a password of this module's there is nothing to be too old: pam_unix(8), no_pass_expiry.
    found = _only("authtok_expired") if who.aged_out else _only(NEW_PASSWORD) if who.due else YES
    if asked.has("no_pass_expiry"):
        return YES if asked.attempt.proof is Proof.KEY else found | YES
    return found


def _faillock(asked: ModuleCall) -> Results:
    # Locked accounts are distinguished by the tallies: this is about all others.
    return NOTHING if asked.has("authfail") else _faillock_account(asked)


def _faillock_account(asked: ModuleCall) -> Results:
    settings = asked.line.argument("conf")
    return _only(SERVICE_ERR) if settings and not asked.root.exists(settings) else YES


def _nologin(asked: ModuleCall) -> Results:
    named = asked.line.argument("file")
    places = (named,) if named else ("/run/nologin", "/etc/nologin")
    calm = YES if asked.has("successok") else NOTHING
    # What a mounted disk has in /run is gone at its next start.
    count = [place for place in places if asked.root.live or not place.startswith(("/run/", "/var/run/"))]
    if not any(asked.root.exists(place) for place in count):
        return calm
    return calm if asked.user.uid == 0 else FAILS


def _rootok(asked: ModuleCall) -> Results:
    return YES if asked.attempt.as_root else FAILS


def _access(asked: ModuleCall) -> Results:
    attempt, who = asked.attempt, asked.user
    place = attempt.host or attempt.terminal.removeprefix("/dev/")
    comer = Comer(who.name, who.groups, place, bool(attempt.host))
    answer = allows(asked.root, asked.line, comer)
    return {Known.YES: YES, Known.NO: REFUSED}.get(answer, YES | REFUSED)


def _localuser(asked: ModuleCall) -> Results:
    named = asked.line.argument("file")
    if named is None:
        return YES  # every account asked about is in /etc/passwd
    text = asked.root.text(named)
    if text is None or not asked.only_has("file", "debug"):
        return ANY
    return YES if any(line.startswith(f"{asked.user.name}:") for line in text.split("\n")) else REFUSED


def _usertype(asked: ModuleCall) -> Results:
    if not asked.only_has("issystem", "isregular", "audit", "use_uid") or asked.has("use_uid"):
        return ANY
    uid, (first, last) = asked.user.uid, asked.modules.limits
    system = True if uid == NOBODY or uid <= min(last, first - 1) else False if uid >= first else None
    required = asked.has("issystem"), asked.has("isregular")
    if system is None or required[0] is required[1]:
        return ANY
    return YES if system is required[0] else FAILS


def _shells(asked: ModuleCall) -> Results:
    if asked.line.arguments or not asked.root.exists("/etc/shells"):
        return ANY
    shell = asked.user.shell or "/bin/sh"
    return YES if shell in asked.root.lines("/etc/shells") else FAILS


def _securetty(asked: ModuleCall) -> Results:
    if asked.user.uid != 0 or not asked.root.exists("/etc/securetty"):
        return YES
    if not asked.has("noconsole"):
        return YES if _on_a_list(asked) else FAILS | YES  # the kernel's own consoles are good as well
    return YES if _on_a_list(asked) else FAILS


def _on_a_list(asked: ModuleCall) -> bool:
    return asked.attempt.terminal.removeprefix("/dev/") in asked.root.lines("/etc/securetty")


def _succeed_if(asked: ModuleCall) -> Results:
    words = [word.strip("[]") for word in asked.line.arguments if word not in SWITCHES]
    if "use_uid" in words or len(words) % 3:
        return ANY
    answers = [_condition(asked, *words[at : at + 3]) for at in range(0, len(words), 3)]
    for answer in answers:
        if answer is None:
            return ANY
        if not answer:
            return FAILS
    return YES


SWITCHES = ("debug", "quiet", "quiet_fail", "quiet_success", "audit")


def _condition(asked: ModuleCall, field: str, operator: str, value: str) -> bool | None:
    """Return one condition of pam_succeed_if(8); None where its result is not known."""
    attempt, who = asked.attempt, asked.user
    if field == "user" and operator in ("ingroup", "notingroup"):
        return any(group in who.groups for group in value.split(":")) is (operator == "ingroup")
    numbers, texts = {"uid": who.uid, "gid": who.gid}, {"user": who.name, "service": attempt.service}
    texts |= {"shell": who.shell, "home": who.home, "rhost": attempt.host, "tty": attempt.terminal}
    if field in numbers and (number := digits(value)) is not None and operator in COMPARISONS:
        return COMPARISONS[operator](numbers[field], number)
    left = texts.get(field)
    if left is None or (field in ("tty", "rhost") and not left):
        return None
    if operator in ("=", "!="):
        return (left == value) is (operator == "=")
    if operator in ("in", "notin"):
        return (left in value.split(":")) is (operator == "in")
    if operator in ("=~", "!~"):
        matches = _by_pattern(left, value)
        return None if matches is None else matches is (operator == "=~")
    return None


COMPARISONS: Mapping[str, Callable[[int, int], bool]] = {
    "eq": lambda left, right: left == right,
    "=": lambda left, right: left == right,
    "ne": lambda left, right: left != right,
    "!=": lambda left, right: left != right,
    "<": lambda left, right: left < right,
    "lt": lambda left, right: left < right,
    "<=": lambda left, right: left <= right,
    "le": lambda left, right: left <= right,
    ">": lambda left, right: left > right,
    "gt": lambda left, right: left > right,
    ">=": lambda left, right: left >= right,
    "ge": lambda left, right: left >= right,
}


def _by_pattern(text: str, pattern: str) -> bool | None:
    """Return a pattern of fnmatch(3), where it has nothing but ``*`` and ``?``."""
    if set(pattern) & set("[]\\"):
        return None
    signs = {"*": ".*", "?": "."}
    return re.fullmatch("".join(signs.get(sign, re.escape(sign)) for sign in pattern), text, re.DOTALL) is not None


def _listfile(asked: ModuleCall) -> Results:
    line, attempt, who = asked.line, asked.attempt, asked.user
    item, sense, file = (line.argument(key) or "" for key in ("item", "sense", "file"))
    if not asked.only_has("item", "sense", "file", "onerr", "quiet") or sense not in ("allow", "deny"):
        return ANY
    found = {
        "user": (who.name,),
        "group": who.groups,
        "shell": (who.shell,),
        "tty": (attempt.terminal.removeprefix("/dev/"),) if attempt.terminal else None,
        "rhost": (attempt.host,) if attempt.host else None,
    }.get(item)
    if found is None or not file.startswith("/"):
        return ANY
    if not asked.root.exists(file):
        return YES if line.argument("onerr") == "succeed" else _only(SERVICE_ERR)
    listed = asked.root.lines(file)
    return YES if bool(set(found) & set(listed)) is (sense == "allow") else FAILS


def _time(asked: ModuleCall) -> Results:
    """Return the answer of pam_time(8), true of this hour only, where it has any line."""
    file = asked.line.argument("conffile") or "/etc/security/time.conf"
    lines = [line.split("#", 1)[0].strip() for line in asked.root.lines(file)]
    return YES | REFUSED if any(lines) else YES


def _sepermit(asked: ModuleCall) -> Results:
    """Return the answer of pam_sepermit(8): ignore for accounts without a line."""
    file = asked.line.argument("conf") or "/etc/security/sepermit.conf"
    lines = [line.split("#", 1)[0].strip() for line in asked.root.lines(file)]
    return ANY if any(lines) else NOTHING


NOBODY = 65534
"""The overflow ID for IDs that cannot be shown: a system account to pam_usertype(8)."""
Answer = Results | Callable[[ModuleCall], Results]
TABLE: Mapping[str, Mapping[str, Answer]] = {
    "pam_access.so": {AUTH: _access, ACCOUNT: _access},
    "pam_deny.so": {AUTH: FAILS, ACCOUNT: FAILS},
    "pam_env.so": {AUTH: NOTHING, ACCOUNT: _only(SERVICE_ERR)},
    "pam_faildelay.so": {AUTH: NOTHING},
    "pam_faillock.so": {AUTH: _faillock, ACCOUNT: _faillock_account},
    "pam_group.so": {AUTH: NOTHING},
    "pam_keyinit.so": {AUTH: NOTHING},
    "pam_limits.so": {},
    "pam_listfile.so": {AUTH: _listfile, ACCOUNT: _listfile},
    "pam_localuser.so": {AUTH: _localuser, ACCOUNT: _localuser},
    "pam_loginuid.so": {ACCOUNT: ANY},
    "pam_mail.so": {AUTH: NOTHING},
    "pam_mkhomedir.so": {},
    "pam_motd.so": {},
    "pam_namespace.so": {},
    "pam_nologin.so": {AUTH: _nologin, ACCOUNT: _nologin},
    "pam_permit.so": {AUTH: YES, ACCOUNT: YES},
    "pam_pwhistory.so": {},
    "pam_pwquality.so": {},
    "pam_rootok.so": {AUTH: _rootok, ACCOUNT: _rootok},
    "pam_securetty.so": {AUTH: _securetty, ACCOUNT: _securetty},
    "pam_sepermit.so": {AUTH: _sepermit, ACCOUNT: _sepermit},
    "pam_setquota.so": {},
    "pam_shells.so": {AUTH: _shells, ACCOUNT: _shells},
    "pam_succeed_if.so": {AUTH: _succeed_if, ACCOUNT: _succeed_if},
    "pam_systemd.so": {},
    "pam_time.so": {ACCOUNT: _time},
    "pam_tty_audit.so": {},
    "pam_umask.so": {},
    "pam_unix.so": {AUTH: _unix, ACCOUNT: _unix_account},
    "pam_usertype.so": {AUTH: _usertype, ACCOUNT: _usertype},
    "pam_warn.so": {AUTH: NOTHING, ACCOUNT: NOTHING},
    "pam_xauth.so": {},
}
"""By facility what each module answers, or works it out. One that has nothing for a facility is missing there: libpam
then finds no module."""


def unheeded(stack: Stack, line: PamLine) -> PamLine | None:
    """Return the line that admits a user although the module of ``line`` denies, or may; None where a denial always
    counts.

    All other known modules are taken to succeed."""

    def answers(other: PamLine, asked: bool) -> Results:
        if other == line:
            return FAILS
        name = other.module_name
        if name in ("pam_deny.so", "pam_rootok.so"):
            return FAILS
        return YES | FAILS if name in BY_NAME else YES if name in TABLE or name in OF_PASSWORDS else ANY

    verdict = interpret(stack.chain, answers, lambda _: False)
    if verdict.answer is Known.NO:
        return None
    return next((each for each in verdict.unclear if each != line), verdict.decided_by or line)


OF_PASSWORDS = frozenset(("pam_cracklib.so", "pam_passwdqc.so", "pam_gnome_keyring.so", "pam_kwallet5.so"))
"""Modules that see to new passwords and keep none."""
BY_NAME = frozenset(
    ("pam_access.so", "pam_listfile.so", "pam_succeed_if.so", "pam_localuser.so", "pam_usertype.so", "pam_time.so")
)
"""Modules that depend on more than the password's state and whether it is root."""
WANT_PROOF = frozenset(
    (
        *("pam_sss.so", "pam_ldap.so", "pam_krb5.so", "pam_winbind.so", "pam_fprintd.so", "pam_u2f.so"),
        *("pam_pkcs11.so", "pam_systemd_home.so", "pam_google_authenticator.so", "pam_timestamp.so"),
    )
)
"""Unknown modules that nobody without a credential passes."""
ASKS_A_PASSWORD = frozenset(("pam_unix.so",))
"""The modules of the table that ask for a password where none was given before."""
