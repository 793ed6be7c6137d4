"""Accounts from other sources than local files: nsswitch.conf(5) and the PAM stacks."""

import pwd
from collections.abc import Collection, Iterator

from verrou.core.model import Account, AccountName, Origin, PasswordState, Source
from verrou.machines.linux.pam.services import SERVICES, installed
from verrou.machines.linux.pam.stack import load_stack
from verrou.machines.linux.root import Root

NSSWITCH = "/etc/nsswitch.conf"
OWN_SOURCES = ("files", "compat", "systemd", "db", "extrausers", "altfiles", "mymachines", "myhostname")
"""What keeps accounts on the system itself, or makes them up for services of its own."""
DIRECTORY_MODULES = (
    *("pam_sss.so", "pam_ldap.so", "pam_krb5.so", "pam_winbind.so", "pam_radius_auth.so", "pam_tacplus.so"),
    *("pam_nss_ldap.so", "pam_aad.so", "pam_oslogin_login.so", "pam_oslogin_admin.so", "pam_slurm.so"),
)
"""Modules that ask another computer about an account."""
MOST_LISTED = 1000


def outside_sources(root: Root) -> Iterator[tuple[str, Source]]:
    """Yield each source of accounts besides the system's own files, with its line."""
    for number, line in enumerate(root.lines(NSSWITCH), start=1):
        database, colon, services = line.split("#", 1)[0].partition(":")
        if colon and database.strip() == "passwd":
            for name in services.split():
                if not name.startswith("[") and not name.endswith("]") and name not in OWN_SOURCES:
                    yield name, Source(NSSWITCH, number, line.strip())
    seen = set()
    for service in SERVICES:
        for asked in load_stack(root, service.name, "auth").lines if installed(root, service) else ():
            module = asked.module.rpartition("/")[2]
            if module in DIRECTORY_MODULES and (module, asked.file) not in seen:
                seen.add((module, asked.file))
                yield module, asked.source


def outside_accounts(root: Root, known: Collection[str]) -> Iterator[Account]:
    """Yield the accounts of such sources, where the running system lists them; many sources list no one."""
    first = next(outside_sources(root), None)
    if not root.live or first is None:
        return
    for number, entry in enumerate(each for each in pwd.getpwall() if each.pw_name not in known):
        if number >= MOST_LISTED:
            return
        yield Account(
            AccountName(entry.pw_name),
            str(entry.pw_uid),
            Origin.ADDED,
            full_name=entry.pw_gecos.split(",")[0],
            password=PasswordState.UNKNOWN,
            home=entry.pw_dir,
            shell=entry.pw_shell,
            source=first[1],
            linked_identity=first[0],
        )
