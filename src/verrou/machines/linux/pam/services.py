"""Services by which people sign in, or become another account: each has a PAM stack of its own."""

from collections.abc import Sequence

from attrs import evolve, frozen

from verrou.core.model import PasswordState
from verrou.core.model.known import Known
from verrou.core.model.routes import Route
from verrou.machines.linux.files.sshd import BY_PASSWORD, REMOTE, ever_set, sshd_installed, sshd_setting
from verrou.machines.linux.pam.interpreter import Verdict
from verrou.machines.linux.pam.modules import AUTH, Attempt, Modules, PamUser, Proof
from verrou.machines.linux.pam.stack import OTHER, PamLine, load_stack, service_file
from verrou.machines.linux.root import Root

UNIX = "pam_unix.so"


@frozen(repr=False)
class Service:
    """One service.

    ``route`` is the one it belongs to; None where it makes a signed-in user another account. ``programs`` use it:
    without any of them it is not installed; one ``by_file`` is used by programs of several packages, and counts where
    its file exists. With ``own_passwords`` it has passwords of its own, and asks PAM about the account alone."""

    name: str
    route: Route | None
    programs: tuple[str, ...] = ()
    own_passwords: bool = False
    by_file: bool = False


OVER_THE_NETWORK = (
    # Mail, news, calendars and the passwords for them.
    *("imap", "pop", "pop3", "popa3d", "solid-pop3d", "perdition", "smtp", "esmtp", "lmtp", "mupdate", "nntp", "sieve"),
    *("calendar", "webmail", "poppassd"),
    # Web consoles and what asks on behalf of a web server.
    *("pcsd", "monit", "pwauth"),
    # Files, networks and commands from elsewhere.
    *("ftp", "uucp", "ocserv", "pluto", "radiusd", "rexec", "rlogin", "rsh"),
)
"""Services of many packages' programs, which people reach over the network."""
SERVICES = (
    Service("login", Route.CONSOLE),
    Service("gdm-password", Route.CONSOLE, ("/usr/sbin/gdm3", "/usr/sbin/gdm", "/usr/bin/gdm")),
    Service("lightdm", Route.CONSOLE, ("/usr/sbin/lightdm", "/usr/bin/lightdm")),
    Service("sddm", Route.CONSOLE, ("/usr/bin/sddm",)),
    Service("lxdm", Route.CONSOLE, ("/usr/sbin/lxdm", "/usr/bin/lxdm")),
    Service("xdm", Route.CONSOLE, ("/usr/bin/xdm",)),
    Service("greetd", Route.CONSOLE, ("/usr/sbin/greetd", "/usr/bin/greetd")),
    Service("slim", Route.CONSOLE, ("/usr/bin/slim",)),
    Service("wdm", Route.CONSOLE, ("/usr/bin/wdm", "/usr/sbin/wdm")),
    Service("samba", Route.NETWORK, ("/usr/sbin/smbd",), own_passwords=True),
    Service("vsftpd", Route.NETWORK, ("/usr/sbin/vsftpd",)),
    Service("proftpd", Route.NETWORK, ("/usr/sbin/proftpd",)),
    Service("pure-ftpd", Route.NETWORK, ("/usr/sbin/pure-ftpd",)),
    Service("dovecot", Route.NETWORK, ("/usr/sbin/dovecot",)),
    Service("cups", Route.NETWORK, ("/usr/sbin/cupsd",)),
    Service("ppp", Route.NETWORK, ("/usr/sbin/pppd",)),
    *(Service(name, Route.NETWORK, by_file=True) for name in OVER_THE_NETWORK),
    *(Service(name, Route.REMOTE_SCREEN, by_file=True) for name in ("tigervnc", "xpra", "x2gobroker")),
    Service("xrdp-sesman", Route.REMOTE_SCREEN, ("/usr/sbin/xrdp-sesman",)),
    Service("sshd", Route.REMOTE_SHELL, ("/usr/sbin/sshd",)),
    Service("sudo", None, ("/usr/bin/sudo",)),
    Service("su", None, ("/usr/bin/su", "/bin/su")),
)


def behind(root: Root, route: Route) -> list[Service]:
    """Return the installed services of a route."""
    return [each for each in SERVICES if each.route is route and installed(root, each)]


def installed(root: Root, service: Service) -> bool:
    """Return whether the service is installed: its program exists, or its file where programs may be anywhere."""
    if service.name == "sshd":
        return sshd_installed(root)
    if service.by_file:
        return bool(service_file(root, service.name))
    if any(root.exists(program) for program in service.programs):
        return True
    return not service.programs or (service.route is Route.REMOTE_SCREEN and bool(service_file(root, service.name)))


def asking_passwords(root: Root) -> list[Service]:
    """Return the services that ask PAM about a password, each with a stack of its own.

    Those with passwords of their own are excluded, and a remote shell that accepts keys alone."""
    found: list[Service] = []
    for service in SERVICES:
        if service.own_passwords or not installed(root, service):
            continue
        if service.name == "sshd" and not sshd_takes_passwords(root):
            continue
        if found and not service_file(root, service.name) and not service_file(root, OTHER):
            continue  # libpam allows no one by it
        found.append(service)
    return found


def sshd_takes_passwords(root: Root) -> bool:
    """Return whether the remote shell server accepts any password."""
    return any(value.lower() == "yes" for key in BY_PASSWORD for value in ever_set(root, key, "yes"))


def sshd_asks_pam(root: Root) -> bool:
    """Return whether the remote shell server uses PAM at all; Debian's own file says so, the program's default does
    not."""
    return sshd_setting(root, "usepam", "no")[0] == "yes"


def nullok_line(root: Root, service: Service) -> PamLine | None:
    """Return the line by which a service accepts a blank password."""
    lines = load_stack(root, service.name, AUTH).having(UNIX)
    return next((line for line in lines if {"nullok", "nullok_secure"} & set(line.arguments)), None)


def takes_blank(root: Root, service: Service) -> PamLine | None:
    """Return the line by which a service accepts, or may accept, a blank password; None where it does not."""
    verdict = _of_anybody(root, service, PasswordState.BLANK, Proof.RIGHT)
    if verdict.answer is Known.NO:
        return None
    return nullok_line(root, service) or verdict.decided_by or next(iter(verdict.unclear), None)


def open_without_proof(root: Root, service: Service) -> PamLine | None:
    """Return the line that admits users without proof to a service; None where none is known to."""
    verdict = _of_anybody(root, service, PasswordState.SET, Proof.WRONG)
    return verdict.decided_by if verdict.answer is Known.YES else None


def _of_anybody(root: Root, service: Service, password: PasswordState, proof: Proof) -> Verdict:
    """Return the verdict of a service about an account that no line names."""
    terminal, host = ("", REMOTE) if service.route not in (None, Route.CONSOLE) else (TERMINAL, "")
    attempt = Attempt(service.name, PamUser("", *PERSON, password=password), terminal, host, proof)
    attempt = evolve(attempt, as_root=service.route is not None)
    return Modules(root).verdict(AUTH, load_stack(root, service.name, AUTH), attempt)


PERSON = (1000, 1000)
"""IDs of no particular account and group."""
TERMINAL = "tty1"


def doors_without_proof(root: Root) -> Sequence[tuple[Service, PamLine]]:
    """Return the services that admit users without proof, each with its line."""
    found = []
    for service in SERVICES:
        if service.own_passwords or not installed(root, service):
            continue
        line = open_without_proof(root, service)
        if line is not None:
            found.append((service, line))
    return found
