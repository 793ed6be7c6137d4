"""What the remote shell server accepts of an account before PAM decides, in three values: sshd_config(5)."""

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from ipaddress import ip_address

from attrs import define, field, frozen

from verrou.core.model import Account, PasswordState, Source
from verrou.core.model.known import Known, any_of
from verrou.core.model.routes import Pattern
from verrou.machines.linux.entry.shell_asked import ShellAsked, through_lists
from verrou.machines.linux.files.sshd import (
    REMOTE,
    SSHD,
    Criteria,
    Line,
    Settings,
    Shell,
    config_lines,
    shell_of,
    sshd_config,
    sshd_installed,
)
from verrou.machines.linux.root import Root

_IN_BLOCKS = """
acceptenv allowagentforwarding allowgroups allowstreamlocalforwarding allowtcpforwarding allowusers
authenticationmethods authorizedkeyscommand authorizedkeyscommanduser authorizedkeysfile
authorizedprincipalscommand authorizedprincipalscommanduser authorizedprincipalsfile banner
casignaturealgorithms challengeresponseauthentication channeltimeout chrootdirectory clientalivecountmax
clientaliveinterval denygroups denyusers disableforwarding exposeauthinfo forcecommand gatewayports
gssapiauthentication hostbasedacceptedalgorithms hostbasedacceptedkeytypes hostbasedauthentication
hostbasedusesnamefrompacketonly ignorerhosts include ipqos kbdinteractiveauthentication kerberosauthentication
loglevel match maxauthtries maxsessions passwordauthentication permitemptypasswords permitlisten permitopen
permitrootlogin permittty permittunnel permituserrc pubkeyacceptedalgorithms pubkeyacceptedkeytypes
pubkeyauthentication pubkeyauthoptions rdomain refuseconnection rekeylimit revokedkeys setenv skeyauthentication
streamlocalbindmask streamlocalbindunlink trustedusercakeys unusedconnectiontimeout x11displayoffset
x11forwarding x11uselocalhost
"""
_FOR_ALL = """
addressfamily ciphers compression debianbanner dsaauthentication fingerprinthash gssapicleanupcredentials
gssapikeyexchange gssapistorecredentialsonrekey gssapistrictacceptorcheck hostcertificate hostkey hostkeyagent
hostkeyalgorithms ignoreuserknownhosts kerberosgetafstoken kerberosorlocalpasswd kerberosticketcleanup
kexalgorithms keyregenerationinterval listenaddress logingracetime logverbose macs maxstartups modulifile
permituserenvironment persourcemaxstartups persourcenetblocksize persourcepenalties persourcepenaltyexemptlist
pidfile port printlastlog printmotd protocol requiredrsasize rhostsrsaauthentication rsaauthentication
securitykeyprovider serverkeybits sshdauthpath sshdsessionpath strictmodes subsystem syslogfacility tcpkeepalive
usedns uselogin usepam useprivilegeseparation versionaddendum xauthlocation
"""
IN_BLOCKS = frozenset(_IN_BLOCKS.split())
"""What the server accepts under a Match line."""
KEYWORDS = IN_BLOCKS | frozenset(_FOR_ALL.split())
"""What the server knows; over anything else it does not start."""
SWITCHES: Mapping[str, Sequence[str]] = {
    "passwordauthentication": ("yes", "no"),
    "kbdinteractiveauthentication": ("yes", "no"),
    "challengeresponseauthentication": ("yes", "no"),
    "pubkeyauthentication": ("yes", "no"),
    "usepam": ("yes", "no"),
    "permitemptypasswords": ("yes", "no"),
    "permitrootlogin": ("yes", "no", "prohibit-password", "without-password", "forced-commands-only"),
}
"""The settings that decide here, with their accepted values."""
UNDERSTOOD = frozenset(("all", "user", "group", "host", "address", "canonical", "final"))
"""The criteria of a Match line that are understood."""
ASKED_TOO = frozenset(("localport", "invalid-user", "version", "sessiontype", "command"))
"""Those that the server answers for, asked about a connection to the port that it listens at."""
COMMANDS = ("authorizedkeyscommand", "authorizedprincipalscommand")
"""What the server does not start with unless it is told as whom to run it (measured, 9.2)."""
MOST_OF_PROGRAM = 20_000_000
"""How many bytes of the server's program are read."""
KEY_LIMITS = ("revokedkeys", "pubkeyacceptedalgorithms", "pubkeyacceptedkeytypes")
"""Settings by which the server may reject a key of an account's own file."""
LISTS = ("allowusers", "denyusers", "allowgroups", "denygroups")
PASSWORDS, KEYS = frozenset(("password", "keyboard-interactive")), frozenset(("publickey",))


@frozen(repr=False)
class ServerAcceptance:
    """Whether the server accepts a password and a key of an account; with ``both`` it requires the two together.

    ``statement`` says what was not understood, or what denies the account although lists do not."""

    password: Known
    key: Known
    both: bool = False
    statement: str = ""
    source: Source | None = None


@define(repr=False)
class RemoteShell:
    """The server of a system: asked itself where possible, otherwise read from its files.

    ``accounts`` are those it is asked about. ``numbers_shared``: some groups share an ID. ``by_name``: some line
    depends on names or groups."""

    root: Root
    accounts: Sequence[Account] = ()
    numbers_shared: bool = False
    lines: list[Line] = field(init=False)
    by_name: bool = field(init=False)
    _known: dict[object, ServerAcceptance] = field(factory=dict, init=False)
    _asked: ShellAsked | None = field(default=None, init=False)

    def __attrs_post_init__(self) -> None:
        self.lines = list(config_lines(self.root)) if sshd_installed(self.root) else []
        self.by_name = any(under or key in LISTS for key, _, _, under in self.lines)
        if self.lines and self.root.asker is not None:
            self._asked = ShellAsked(self.root, self.lines, self.numbers_shared)
            self._asked.ask([account for account in self.accounts if account.may_sign_in])

    @property
    def not_asked_reason(self) -> str:
        """Why the server was not asked, although it should have been."""
        return self._asked.trouble if self._asked is not None else ""

    def admits(self, account: Account) -> bool | None:
        """Return whether the server's lists admit an account, as it combines them itself; None where it was not
        asked."""
        shell = self._asked.shell(account) if self._asked is not None else None
        return None if shell is None else through_lists(shell, account.name, account.groups)

    def acceptance_of(self, account: Account) -> ServerAcceptance:
        """Return what it accepts of an account from another computer, computed once for all accounts that it treats
        the same."""
        who = (account.name, account.groups) if self.by_name else ()
        key = account.identity == "0", account.keys > 0, account.password is PasswordState.BLANK, who
        if key not in self._known:
            self._known[key] = self._acceptance_of(account)
        return self._known[key]

    def _acceptance_of(self, account: Account) -> ServerAcceptance:
        asked = self._asked.shell(account) if self._asked is not None else None
        if self._asked is not None and (fault := self._asked.fault):
            message = f"sshd: it does not start with its settings: {fault}"
            return ServerAcceptance(
                *self._where_it_does_not_start, statement=message, source=Source(sshd_config(self.root))
            )
        doubts = self._doubts if asked is None else ()
        for message, where in (*doubts, *self._about(account, asked is not None)):
            return ServerAcceptance(Known.UNKNOWN, Known.UNKNOWN, statement=f"sshd: {message}", source=where)
        if source := self._listens_nowhere():
            return ServerAcceptance(
                Known.NO, Known.NO, statement="sshd: it listens to this computer alone", source=source
            )
        shell = asked or shell_of(self.lines, account.name, account.groups)
        password, key = self._by_kind(account, shell)
        limit = self._key_limit(account) if key is Known.YES else None
        key = Known.UNKNOWN if limit else key
        methods, source = shell.setting("authenticationmethods", "any")
        if methods == "any":
            if limit and password is not Known.YES:
                statement = f"sshd: it is not known whether {limit[0]} excludes its key"
                return ServerAcceptance(password, key, statement=statement, source=limit[1])
            return ServerAcceptance(password, key)
        lists, switched_on = methods.split(), self._switched_on(shell)
        by_password = password & any_of(_satisfied(each, switched_on & PASSWORDS) for each in lists)
        by_key = key & any_of(_satisfied(each, switched_on & KEYS) for each in lists)
        together = password & key & any_of(_satisfied(each, switched_on) for each in lists)
        if by_password is by_key is Known.NO and together is not Known.NO:
            return ServerAcceptance(Known.NO, together, True, "sshd: it wants a key and a password together", source)
        statement = "" if (by_password, by_key) == (password, key) else f"sshd: it wants {methods}"
        return ServerAcceptance(by_password, by_key, statement=statement, source=source)

    @cached_property
    def _doubts(self) -> Sequence[tuple[str, Source]]:
        return tuple(self._not_understood())

    def _not_understood(self) -> Iterator[tuple[str, Source]]:
        """Yield lines over which it may not start, so that nothing is known about anyone."""
        for key, values, source, under in self.lines:
            if key == "include":
                yield f"{values[0]} cannot be read or is included too deeply, so it may not start", source
            elif key not in KEYWORDS:
                yield f"{key} is not a setting that is known here", source
            elif not self._is_of_this_version(key):
                yield f"{key} is not a setting of this version, so it may not start", source
            elif not values:
                yield f"{key} has no value, so it may not start", source
            elif under and key not in IN_BLOCKS:
                yield f"{key} is not accepted under Match, so it may not start", source
            elif key in SWITCHES and " ".join(values).lower() not in SWITCHES[key]:
                yield f"{key} does not accept {' '.join(values)!r}", source
        general = Shell((), [line for line in self.lines if not line[3]])
        for command in COMMANDS:
            value, set_at = general.setting(command, "none")
            if set_at and value != "none" and not general.names(f"{command}user"):
                yield f"{command} has no {command}user, so it may not start", set_at
        methods, wanted_at = general.setting("authenticationmethods", "any")
        lists = [] if methods == "any" else methods.split()
        if wanted_at and lists and all(_satisfied(each, self._switched_on(general)) is not Known.YES for each in lists):
            yield "none of the required methods is known to be enabled, so it may not start", wanted_at

    def _is_of_this_version(self, keyword: str) -> bool:
        """Return whether the server's own program has a keyword; where that cannot be read it is taken to."""
        return not self._program or f"{keyword}\0".encode() in self._program

    @cached_property
    def _program(self) -> bytes:
        """The server's own program; empty where it does not name its keywords."""
        program = self.root.content(SSHD, MOST_OF_PROGRAM)
        return program if b"permitrootlogin\0" in program else b""

    @property
    def _where_it_does_not_start(self) -> tuple[Known, Known]:
        """The answer of a server that does not start: one that is running keeps the settings it started with."""
        runs = self.root.live and self.root.exists("/run/sshd.pid")
        return (Known.UNKNOWN, Known.UNKNOWN) if runs else (Known.NO, Known.NO)

    def _about(self, account: Account, asked: bool) -> Iterator[tuple[str, Source]]:
        """Yield lines about the account with an unknown result.

        Of a server that was ``asked`` itself, these are only lines that depend on the origin of a connection."""
        understood = UNDERSTOOD | ASKED_TOO if asked else UNDERSTOOD
        for key, values, source, under in self.lines:
            odd = [each for each in under if {key for key, _ in each.asked} - understood]
            if odd and all(_may_be_about(each, account) for each in under):
                yield f"it is not known which accounts {odd[0].source.text} is about", odd[0].source
            if not all(each.about(account.name, account.groups) for each in under):
                continue
            # One that is denied from some computers comes from others; no list knows a negation (measured, 9.2).
            if key == "allowusers" and any(_by_place(word, account.name) for word in values):
                yield "allowusers names it with the computers that it may sign in from", source

    def _key_limit(self, account: Account) -> tuple[str, Source] | None:
        """Return a setting by which the server may reject a key of the account, and its line."""
        mine = (line for line in self.lines if all(each.about(account.name, account.groups) for each in line[3]))
        limits = (
            (key, source) for key, values, source, _ in mine if key in KEY_LIMITS and " ".join(values).lower() != "none"
        )
        return next(limits, None)

    def _listens_nowhere(self) -> Source | None:
        """Return its first listen line, where it listens to its own computer alone."""
        found = [(values[0], source) for key, values, source, _ in self.lines if key == "listenaddress" and values]
        return found[0][1] if found and all(_is_own(value) for value, _ in found) else None

    def _by_kind(self, account: Account, shell: Settings) -> tuple[Known, Known]:
        """Return, for a password and for a key, whether it would be accepted if no methods were required in
        particular."""
        switched_on = self._switched_on(shell)
        key = Known.of(bool(switched_on & KEYS)) & self._has_key(account, shell)
        password = Known.of(bool(switched_on & PASSWORDS))
        if account.password is PasswordState.BLANK:
            password &= Known.of(shell.setting("permitemptypasswords", "no")[0] == "yes")
        if account.identity == "0":
            root_may = shell.setting("permitrootlogin", "prohibit-password")[0]
            password &= Known.of(root_may == "yes")
            key &= Known.of(None if root_may == "forced-commands-only" else root_may != "no")
        return password, key

    def _switched_on(self, shell: Settings) -> frozenset[str]:
        """Return the methods that are enabled. Without PAM nothing asks for keyboard-interactive answers."""
        asks_pam = Shell((), [line for line in self.lines if not line[3]]).setting("usepam", "no")[0] == "yes"
        manual = shell.setting("challengeresponseauthentication", "yes")[0]
        found = {
            "password": shell.setting("passwordauthentication", "yes")[0] == "yes",
            "keyboard-interactive": asks_pam and shell.setting("kbdinteractiveauthentication", manual)[0] == "yes",
            "publickey": shell.setting("pubkeyauthentication", "yes")[0] == "yes",
        }
        return frozenset(method for method, there in found.items() if there)

    @staticmethod
    def _has_key(account: Account, shell: Settings) -> Known:
        """Return whether it has a host key, or may have one elsewhere."""
        if account.keys:
            return Known.YES
        elsewhere = ("authorizedkeyscommand", "trustedusercakeys")
        return Known.of(None if any(shell.setting(each, "none")[0] != "none" for each in elsewhere) else False)


def _may_be_about(criteria: Criteria, account: Account) -> bool:
    """Return whether the understood part of a Match line matches."""
    known = tuple((key, patterns) for key, patterns in criteria.asked if key in UNDERSTOOD)
    return not known or Criteria(known, criteria.source).about(account.name, account.groups)


def _by_place(word: str, name: str) -> bool:
    """Return whether a word matches an account from some computers alone."""
    user, at, place = word.partition("@")
    return bool(at) and place not in ("*", REMOTE) and Pattern(user).matches(name)


def _is_own(value: str) -> bool:
    """Return whether an address to listen at is this computer's own loop."""
    host = value.rpartition("]")[0].lstrip("[") if value.startswith("[") else value
    host = host.partition(":")[0] if host.count(":") == 1 else host
    if host.lower() == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def _satisfied(methods: str, kinds: frozenset[str]) -> Known:
    """Return whether a list of required methods is satisfied by these."""
    required = {each.partition(":")[0] for each in methods.split(",")}
    if required <= kinds:
        return Known.YES
    return Known.NO if required & (PASSWORDS | KEYS) or required <= {"none"} else Known.UNKNOWN
