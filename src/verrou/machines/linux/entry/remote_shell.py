"""What the remote shell server takes of an account before PAM has a say, in three values: sshd_config(5)."""

from collections.abc import Iterator, Mapping, Sequence
from ipaddress import ip_address

from attrs import define, field, frozen

from verrou.core.model import Account, PasswordState, Source
from verrou.core.model.known import Known, any_of
from verrou.machines.linux.entry.shell_asked import ShellAsked, through_lists
from verrou.machines.linux.files.sshd import (
    REMOTE,
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
"""What the server takes under a Match line."""
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
"""The settings that decide here, and what each takes."""
UNDERSTOOD = frozenset(("all", "user", "group", "host", "address", "canonical", "final"))
"""The criteria of a Match line that are understood."""
ASKED_TOO = frozenset(("localport", "invalid-user", "version", "sessiontype", "command"))
"""Those that the server answers for, asked about a connection to the port that it listens at."""
LISTS = ("allowusers", "denyusers", "allowgroups", "denygroups")
PASSWORDS, KEYS = frozenset(("password", "keyboard-interactive")), frozenset(("publickey",))


@frozen
class ServerAcceptance:
    """Whether the server takes a password and a key of an account; with ``both`` it wants the two together. ``says``
    tells what was not understood, or what turns the account away although lists do not."""

    password: Known
    key: Known
    both: bool = False
    says: str = ""
    source: Source | None = None


@define
class RemoteShell:
    """The server of a system and the accounts about which it is looked at: it is asked itself where that can be, and
    its files are read otherwise. ``by_name``: whether any line of it looks at names or groups."""

    root: Root
    accounts: Sequence[Account] = ()
    lines: list[Line] = field(init=False)
    by_name: bool = field(init=False)
    _known: dict[object, ServerAcceptance] = field(factory=dict, init=False)
    _asked: ShellAsked | None = field(default=None, init=False)

    def __attrs_post_init__(self) -> None:
        self.lines = list(config_lines(self.root)) if sshd_installed(self.root) else []
        self.by_name = any(under or key in LISTS for key, _, _, under in self.lines)
        if self.lines and self.root.asker is not None:
            self._asked = ShellAsked(self.root, self.lines)
            self._asked.ask([account for account in self.accounts if account.may_sign_in])

    @property
    def not_asked_reason(self) -> str:
        """Why the server was not asked, although it should have been."""
        return self._asked.trouble if self._asked is not None else ""

    def admits(self, account: Account) -> bool | None:
        """Whether the lists of the server let an account through, as it puts them together itself; None where it was
        not asked."""
        shell = self._asked.shell(account) if self._asked is not None else None
        return None if shell is None else through_lists(shell, account.name, account.groups)

    def acceptance_of(self, account: Account) -> ServerAcceptance:
        """What it takes of an account that comes from another computer; worked out once for all who are alike to it."""
        who = (account.name, account.groups) if self.by_name else ()
        key = account.identity == "0", account.keys > 0, account.password is PasswordState.BLANK, who
        if key not in self._known:
            self._known[key] = self._acceptance_of(account)
        return self._known[key]

    def _acceptance_of(self, account: Account) -> ServerAcceptance:
        asked = self._asked.shell(account) if self._asked is not None else None
        if self._asked is not None and (fault := self._asked.fault):
            said = f"sshd: it does not start with its settings: {fault}"
            return ServerAcceptance(*self._where_it_does_not_start, says=said, source=Source(sshd_config(self.root)))
        doubts = self._not_understood() if asked is None else ()
        for said, where in (*doubts, *self._about(account, asked is not None)):
            return ServerAcceptance(Known.UNKNOWN, Known.UNKNOWN, says=f"sshd: {said}", source=where)
        if source := self._listens_nowhere():
            return ServerAcceptance(Known.NO, Known.NO, says="sshd: it listens to this computer alone", source=source)
        shell = asked or shell_of(self.lines, account.name, account.groups)
        password, key = self._by_kind(account, shell)
        methods, source = shell.setting("authenticationmethods", "any")
        if methods == "any":
            return ServerAcceptance(password, key)
        lists, switched_on = methods.split(), self._switched_on(shell)
        by_password = password & any_of(_satisfied(each, switched_on & PASSWORDS) for each in lists)
        by_key = key & any_of(_satisfied(each, switched_on & KEYS) for each in lists)
        together = password & key & any_of(_satisfied(each, switched_on) for each in lists)
        if by_password is by_key is Known.NO and together is not Known.NO:
            return ServerAcceptance(Known.NO, together, True, "sshd: it wants a key and a password together", source)
        says = "" if (by_password, by_key) == (password, key) else f"sshd: it wants {methods}"
        return ServerAcceptance(by_password, by_key, says=says, source=source)

    def _not_understood(self) -> Iterator[tuple[str, Source]]:
        """Lines over which it may not start, so that nothing is known of anybody."""
        for key, values, source, under in self.lines:
            if key == "include":
                yield f"{values[0]} cannot be read or is included too deeply, and it may not start over that", source
            elif key not in KEYWORDS:
                yield f"{key} is not a setting that is known here", source
            elif under and key not in IN_BLOCKS:
                yield f"{key} is not taken under Match, and it may not start over that", source
            elif key in SWITCHES and " ".join(values).lower() not in SWITCHES[key]:
                yield f"{key} takes no {' '.join(values)!r}", source
        general = Shell((), [line for line in self.lines if not line[3]])
        methods, wanted_at = general.setting("authenticationmethods", "any")
        lists = [] if methods == "any" else methods.split()
        if wanted_at and lists and all(_satisfied(each, self._switched_on(general)) is Known.NO for each in lists):
            yield "no method that it wants is switched on, and it may not start over that", wanted_at

    @property
    def _where_it_does_not_start(self) -> tuple[Known, Known]:
        """One that runs on this computer keeps the settings with which it started."""
        runs = self.root.live and self.root.exists("/run/sshd.pid")
        return (Known.UNKNOWN, Known.UNKNOWN) if runs else (Known.NO, Known.NO)

    def _about(self, account: Account, asked: bool) -> Iterator[tuple[str, Source]]:
        """Lines about the account of which it is not known what they come to: of a server that was ``asked`` itself
        those alone that hang on where a connection comes in."""
        understood = UNDERSTOOD | ASKED_TOO if asked else UNDERSTOOD
        for key, values, source, under in self.lines:
            odd = [each for each in under if {key for key, _ in each.asked} - understood]
            if odd and all(_may_be_about(each, account) for each in under):
                yield f"whom {odd[0].source.text} is about is not known", odd[0].source
            if not all(each.about(account.name, account.groups) for each in under):
                continue
            # One that is denied from some computers comes from others; no list knows a negation (measured, 9.2).
            if key == "allowusers" and any(_by_place(word, account.name) for word in values):
                yield "allowusers names it with the computers that it may sign in from", source

    def _listens_nowhere(self) -> Source | None:
        """The first line that has it listen, where it listens to its own computer alone."""
        found = [(values[0], source) for key, values, source, _ in self.lines if key == "listenaddress" and values]
        return found[0][1] if found and all(_is_own(value) for value, _ in found) else None

    def _by_kind(self, account: Account, shell: Settings) -> tuple[Known, Known]:
        """Whether it would take a password, and a key, if no methods were wanted in particular."""
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
        """The methods that are switched on. Without PAM there is nobody who would ask questions by hand."""
        asks_pam = Shell((), [line for line in self.lines if not line[3]]).setting("usepam", "no")[0] == "yes"
        by_hand = shell.setting("challengeresponseauthentication", "yes")[0]
        found = {
            "password": shell.setting("passwordauthentication", "yes")[0] == "yes",
            "keyboard-interactive": asks_pam and shell.setting("kbdinteractiveauthentication", by_hand)[0] == "yes",
            "publickey": shell.setting("pubkeyauthentication", "yes")[0] == "yes",
        }
        return frozenset(method for method, there in found.items() if there)

    @staticmethod
    def _has_key(account: Account, shell: Settings) -> Known:
        """Whether it has a key of its own, or may have one that stands elsewhere."""
        if account.keys:
            return Known.YES
        elsewhere = ("authorizedkeyscommand", "trustedusercakeys")
        return Known.of(None if any(shell.setting(each, "none")[0] != "none" for each in elsewhere) else False)


def _may_be_about(criteria: Criteria, account: Account) -> bool:
    """Whether what is understood of a Match line is met."""
    known = tuple((key, patterns) for key, patterns in criteria.asked if key in UNDERSTOOD)
    return not known or Criteria(known, criteria.source).about(account.name, account.groups)


def _by_place(word: str, name: str) -> bool:
    """Whether a word is about an account from some computers alone."""
    from verrou.core.model.ways import Pattern

    user, at, place = word.partition("@")
    return bool(at) and place not in ("*", REMOTE) and Pattern(user).matches(name)


def _is_own(value: str) -> bool:
    """Whether an address to listen at is this computer's own loop."""
    host = value.rpartition("]")[0].lstrip("[") if value.startswith("[") else value
    host = host.partition(":")[0] if host.count(":") == 1 else host
    if host.lower() == "localhost":
        return True
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


def _satisfied(methods: str, kinds: frozenset[str]) -> Known:
    """Whether a list of methods, all of which are wanted, is met by these."""
    wanted = {each.partition(":")[0] for each in methods.split(",")}
    if wanted <= kinds:
        return Known.YES
    return Known.NO if wanted & (PASSWORDS | KEYS) or wanted <= {"none"} else Known.UNKNOWN
