"""The services by which somebody gets in, or becomes somebody else: each has a PAM stack of its own."""

from collections.abc import Sequence

from attrs import frozen

from verrou.core.model.ways import Way
from verrou.machines.linux.files.sshd import BY_PASSWORD, ever_set, sshd_installed, sshd_setting
from verrou.machines.linux.pam.stack import FOR_ROOT_ALONE, OTHER, PamLine, Stack, load_stack, service_file
from verrou.machines.linux.root import Root

UNIX = "pam_unix.so"
ASKS_FOR_PROOF = (
    *(UNIX, "pam_sss.so", "pam_ldap.so", "pam_krb5.so", "pam_winbind.so", "pam_fprintd.so", "pam_u2f.so"),
    *("pam_pkcs11.so", "pam_systemd_home.so", "pam_faillock.so", "pam_deny.so", "pam_timestamp.so"),
)
"""Modules that may end a stack with success only when whoever stands there has proved something."""


@frozen
class Service:
    """One service. ``way`` is the way in that it stands behind; None where it makes somebody of who is in already.
    ``programs`` are what asks it: without any of them it is not installed."""

    name: str
    way: Way | None
    programs: tuple[str, ...] = ()


SERVICES = (
    Service("login", Way.CONSOLE),
    Service("gdm-password", Way.CONSOLE, ("/usr/sbin/gdm3", "/usr/sbin/gdm", "/usr/bin/gdm")),
    Service("lightdm", Way.CONSOLE, ("/usr/sbin/lightdm", "/usr/bin/lightdm")),
    Service("sddm", Way.CONSOLE, ("/usr/bin/sddm",)),
    Service("lxdm", Way.CONSOLE, ("/usr/sbin/lxdm", "/usr/bin/lxdm")),
    Service("xdm", Way.CONSOLE, ("/usr/bin/xdm",)),
    Service("greetd", Way.CONSOLE, ("/usr/sbin/greetd", "/usr/bin/greetd")),
    Service("samba", Way.NETWORK, ("/usr/sbin/smbd",)),
    Service("xrdp-sesman", Way.REMOTE_SCREEN, ("/usr/sbin/xrdp-sesman",)),
    Service("sshd", Way.REMOTE_SHELL, ("/usr/sbin/sshd",)),
    Service("sudo", None, ("/usr/bin/sudo",)),
    Service("su", None, ("/usr/bin/su", "/bin/su")),
)


def behind(root: Root, way: Way) -> list[Service]:
    """The services of a way in that are installed."""
    return [each for each in SERVICES if each.way is way and installed(root, each)]


def installed(root: Root, service: Service) -> bool:
    """Whether the service is there: its program, or where that may stand anywhere a file of its own."""
    if service.name == "sshd":
        return sshd_installed(root)
    if any(root.exists(program) for program in service.programs):
        return True
    return not service.programs or (service.way is Way.REMOTE_SCREEN and bool(service_file(root, service.name)))


def asking_passwords(root: Root) -> list[Service]:
    """The services that ask PAM about a password, each with a stack of its own: not the network's shares, which keep
    passwords of their own, and not a remote shell that takes keys alone."""
    found: list[Service] = []
    for service in SERVICES:
        if service.way is Way.NETWORK or not installed(root, service):
            continue
        if service.name == "sshd" and not sshd_takes_passwords(root):
            continue
        if found and not service_file(root, service.name) and not service_file(root, OTHER):
            continue  # libpam lets nobody in by it
        found.append(service)
    return found


def sshd_takes_passwords(root: Root) -> bool:
    """Whether the remote shell server lets anybody in by a password."""
    return any(value.lower() == "yes" for key in BY_PASSWORD for value in ever_set(root, key, "yes"))


def sshd_asks_pam(root: Root) -> bool:
    """Whether the remote shell server goes through PAM at all; Debian's own file says so, the program by itself does
    not."""
    return sshd_setting(root, "usepam", "no")[0] == "yes"


def takes_blank(root: Root, service: Service) -> PamLine | None:
    """The line by which a blank password is good for a service; None where it is not."""
    lines = load_stack(root, service.name, "auth").having(UNIX)
    return next((line for line in lines if {"nullok", "nullok_secure"} & set(line.arguments)), None)


def open_without_proof(stack: Stack) -> PamLine | None:
    """The first line that can let somebody in who has proved nothing: a module that is satisfied with less than a
    password, a key or a token, and ends the stack; None where there is none."""
    for line in stack.lines:
        module = line.module.rpartition("/")[2]
        if module in FOR_ROOT_ALONE or module in ASKS_FOR_PROOF:
            continue
        if line.actions.get("success", line.actions.get("default", "")) == "done":
            return line
    if stack.lines and not any(line.module.rpartition("/")[2] in ASKS_FOR_PROOF for line in stack.lines):
        return next((line for line in stack.lines if line.module.endswith("pam_permit.so")), None)
    return None


def doors_without_proof(root: Root) -> Sequence[tuple[Service, PamLine]]:
    """The services that somebody passes who proves nothing, each with the line that lets them."""
    found = []
    for service in SERVICES:
        if service.way is Way.NETWORK or not installed(root, service):
            continue
        line = open_without_proof(load_stack(root, service.name, "auth"))
        if line is not None:
            found.append((service, line))
    return found
