"""All PAM service files: known with a route, known without one, part of others, or unknown."""

from collections.abc import Iterator, Sequence

from attrs import frozen

from verrou.machines.linux.pam.services import SERVICES
from verrou.machines.linux.pam.stack import FOLDERS, service_file
from verrou.machines.linux.root import Root

NO_WAY_IN = frozenset(
    (
        *("other", "config-util", "postlogin"),
        # A signed-in user becomes another account, or changes their own data.
        *("newrole", "run_init", "schroot", "control-center", "frr"),
        *("su-l", "sudo-i", "runuser", "runuser-l", "doas", "polkit-1", "passwd", "chfn", "chsh", "chage"),
        # Root's own tools.
        *("chpasswd", "newusers", "useradd", "userdel", "usermod", "groupadd", "groupdel", "groupmod", "groupmems"),
        "sssd-shadowutils",
        # Batch work, and the manager of a session that began by another service.
        *("cron", "crond", "atd", "systemd-user", "elogind-user", "gridengine-exec"),
        # A session that is there already is unlocked.
        *("i3lock", "swaylock", "xlock", "xscreensaver", "xsecurelock", "light-locker", "gnome-screensaver"),
        *("mate-screensaver", "cinnamon-screensaver", "xfce4-screensaver", "kde", "kde-fingerprint", "kde-smartcard"),
        *("kscreensaver", "vlock", "physlock", "screen", "slock", "away", "ukui-screensaver-qt", "gnome-flashback"),
        # The sign-in screen's own session, and automatic sign-in, which is read where it is set.
        *("lightdm-greeter", "sddm-greeter", "greetd-greeter", "gdm-launch-environment", "lightdm-autologin"),
        *("gdm-autologin", "sddm-autologin", "nodm"),
        # By a finger or a card: no password opens these.
        *("gdm-fingerprint", "gdm-smartcard", "gdm-smartcard-pkcs11-exclusive", "gdm-smartcard-sssd-exclusive"),
        "gdm-smartcard-sssd-or-password",
    )
)
"""Services that no one signs in by who was not signed in before."""
PARTS = ("common-", "system-", "password-auth", "fingerprint-auth", "smartcard-auth", "base-", "postlogin-")
"""How the names of files begin that others take in, where they do."""
STOCK_PARTS = frozenset(
    (
        *("common-auth", "common-account", "common-password", "common-session", "common-session-noninteractive"),
        *("system-auth", "password-auth", "fingerprint-auth", "smartcard-auth"),
        *("system-login", "system-local-login", "system-remote-login", "system-services"),
        *("base-auth", "base-account", "base-password", "base-session", "base-session-noninteractive"),
    )
)
"""Parts that distributions provide for others to include, whether any does yet or not."""
LEFT_OVER = ("~", ".dpkg-old", ".dpkg-new", ".dpkg-dist", ".rpmsave", ".rpmnew", ".rpmorig", ".pam-old", ".bak")
PACKAGE_LISTS = "/var/lib/dpkg/info"


@frozen(repr=False)
class UnknownService:
    """A service that asks PAM by an unknown route."""

    name: str
    file: str
    package: str = ""

    def __str__(self) -> str:
        owner = f" (package {self.package})" if self.package else ""
        return f"{self.file}{owner} asks PAM; by which route is not known"


def unknown_services(root: Root) -> Sequence[UnknownService]:
    """Return the service files that are not accounted for."""
    known = {service.name for service in SERVICES} | NO_WAY_IN | STOCK_PARTS
    names = {name for folder in FOLDERS for name in root.files_in(folder) if not name.endswith(LEFT_OVER)}
    files = {name: service_file(root, name) for name in sorted(names - known) if name == name.lower()}
    taken_in = set(_taken_in(root, [service_file(root, name) for name in names]))
    left = {name: file for name, file in files.items() if not (name in taken_in and name.startswith(PARTS))}
    owners = _owners(root, set(left.values())) if left else {}
    return [UnknownService(name, file, owners.get(file, "")) for name, file in left.items()]


def _taken_in(root: Root, files: Sequence[str]) -> Iterator[str]:
    """Yield the names of files that others include."""
    for file in files:
        for line in root.lines(file):
            words = line.split("#", 1)[0].split()
            if words[:1] == ["@include"] and len(words) > 1:
                yield words[1].rpartition("/")[2]
            elif len(words) > 2 and words[1].lower() in ("include", "substack"):
                yield words[2].rpartition("/")[2]


def _owners(root: Root, files: set[str]) -> dict[str, str]:
    """Return the packages that own files, from the database of dpkg(1); empty on other systems."""
    found: dict[str, str] = {}
    for name in root.names_in(PACKAGE_LISTS):
        if name.endswith(".list"):
            for file in files.intersection(root.lines(f"{PACKAGE_LISTS}/{name}")):
                found.setdefault(file, name.removesuffix(".list").partition(":")[0])
    return found
