"""The services by which somebody gets in, or becomes somebody else: each has a PAM stack of its own."""

from collections.abc import Sequence

from attrs import evolve, frozen

from verrou.core.model import PasswordState
from verrou.core.model.known import Known
from verrou.core.model.ways import Route
from verrou.machines.linux.files.sshd import BY_PASSWORD, REMOTE, ever_set, sshd_installed, sshd_setting
from verrou.machines.linux.pam.interpreter import Verdict
from verrou.machines.linux.pam.modules import AUTH, Attempt, Modules, PamUser, Proof
from verrou.machines.linux.pam.stack import OTHER, PamLine, load_stack, service_file
from verrou.machines.linux.root import Root

UNIX = "pam_unix.so"


@frozen
class Service:
    """One service. ``way`` is the way in that it stands behind; None where it makes somebody of who is in already.
    ``programs`` are what asks it: without any of them it is not installed; one ``by_file`` is asked by programs of
    several packages, and counts where its file stands. With ``own_passwords`` it keeps passwords of its own, and asks
    PAM about the account alone."""

    name: str
    way: Route | None
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


def behind(root: Root, way: Route) -> list[Service]:
    """The services of a way in that are installed."""
    return [each for each in SERVICES if each.way is way and installed(root, each)]


def installed(root: Root, service: Service) -> bool:
    """Whether the service is there: its program, or where that may stand anywhere a file of its own."""
    if service.name == "sshd":
        return sshd_installed(root)
    if service.by_file:
        return bool(service_file(root, service.name))
    if any(root.exists(program) for program in service.programs):
        return True
    return not service.programs or (service.way is Route.REMOTE_SCREEN and bool(service_file(root, service.name)))


def asking_passwords(root: Root) -> list[Service]:
    """The services that ask PAM about a password, each with a stack of its own: none that keeps passwords of its own,
    and not a remote shell that takes keys alone."""
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
    """Whether the remote shell server lets anybody in by a password."""
    return any(value.lower() == "yes" for key in BY_PASSWORD for value in ever_set(root, key, "yes"))


def sshd_asks_pam(root: Root) -> bool:
    """Whether the remote shell server goes through PAM at all; Debian's own file says so, the program by itself does
    not."""
    return sshd_setting(root, "usepam", "no")[0] == "yes"


def nullok_line(root: Root, service: Service) -> PamLine | None:
    """The line that lets a blank password be good for a service."""
    lines = load_stack(root, service.name, AUTH).having(UNIX)
    return next((line for line in lines if {"nullok", "nullok_secure"} & set(line.arguments)), None)


def takes_blank(root: Root, service: Service) -> PamLine | None:
    """The line by which a blank password is good for a service, or may be; None where it is not."""
    verdict = _of_anybody(root, service, PasswordState.BLANK, Proof.RIGHT)
    if verdict.answer is Known.NO:
        return None
    return nullok_line(root, service) or verdict.decided_by or next(iter(verdict.unclear), None)


def open_without_proof(root: Root, service: Service) -> PamLine | None:
    """The line that lets somebody in by a service who has proved nothing; None where none is known to."""
    verdict = _of_anybody(root, service, PasswordState.SET, Proof.WRONG)
    return verdict.decided_by if verdict.answer is Known.YES else None


def _of_anybody(root: Root, service: Service, password: PasswordState, proof: Proof) -> Verdict:
    """What the stack of a service says of an account that no line of it is about."""
    terminal, host = ("", REMOTE) if service.way not in (None, Route.CONSOLE) else (TERMINAL, "")
    attempt = Attempt(service.name, PamUser("", *PERSON, password=password), terminal, host, proof)
    attempt = evolve(attempt, as_root=service.way is not None)
    return Modules(root).verdict(AUTH, load_stack(root, service.name, AUTH), attempt)


PERSON = (1000, 1000)
"""The numbers of somebody in particular, and of the main group."""
TERMINAL = "tty1"


def doors_without_proof(root: Root) -> Sequence[tuple[Service, PamLine]]:
    """The services that somebody passes who proves nothing, each with the line that lets them."""
    found = []
    for service in SERVICES:
        if service.own_passwords or not installed(root, service):
            continue
        line = open_without_proof(root, service)
        if line is not None:
            found.append((service, line))
    return found
