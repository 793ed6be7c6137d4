"""The keys that a remote shell accepts: what is read is what the system's own server does."""

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import manned
from debian_root import PrivateRoot
from verrou.core.model.access import routes_of, routes_unknown
from verrou.core.model.routes import Route
from verrou.machines.linux.machine import LinuxMachine

USUAL = "/home/ana/.ssh/authorized_keys"
CASES = {
    "usual": ("", USUAL, ""),
    "no files": ("AuthorizedKeysFile NONE", USUAL, "cp $file /home/ana/NONE"),
    "no file, and one": ("AuthorizedKeysFile none .ssh/authorized_keys", USUAL, ""),
    "by number": ("AuthorizedKeysFile /etc/keys/%U", "/etc/keys/$(id -u ana)", ""),
    "a percent sign": ("AuthorizedKeysFile /etc/keys/%%h", "/etc/keys/%h", ""),
    "an unknown token": ("AuthorizedKeysFile /etc/keys/%x .ssh/authorized_keys", USUAL, ""),
    "only the first line": ("AuthorizedKeysFile none\nAuthorizedKeysFile .ssh/authorized_keys", USUAL, ""),
    "given to one": ("AuthorizedKeysFile none\nMatch User ana\nAuthorizedKeysFile /etc/keys/%u", "/etc/keys/ana", ""),
    "taken from one": ("Match User ana\nAuthorizedKeysFile none", USUAL, ""),
    "taken from another": ("Match User bors\nAuthorizedKeysFile none", USUAL, ""),
    "keys for one": ("PubkeyAuthentication no\nMatch User ana\nPubkeyAuthentication yes", USUAL, ""),
    "a home that all can write": ("", USUAL, "chmod o+w /home/ana"),
    "a home that its own group can write": ("", USUAL, "chmod g+w /home/ana"),
    "a home that a group of nobody can write": ("", USUAL, "chgrp games /home/ana; chmod g+w /home/ana"),
    "a home that two can write": ("", USUAL, "usermod -aG ana bors; chmod g+w /home/ana"),
    "a folder that all can write": ("", USUAL, "chmod o+w /home/ana/.ssh"),
    "a file that all can write": ("", USUAL, "chmod o+w $file"),
    "a file of another": ("", USUAL, "chown bors $file; chmod 644 $file"),
    "a file of root": ("", USUAL, "chown root $file; chmod 644 $file"),
    "a file that only root can read": ("", USUAL, "chown root $file; chmod 600 $file"),
    "a folder that only root can search": ("", USUAL, "chown root /home/ana/.ssh; chmod 700 /home/ana/.ssh"),
    "a file that its owner may only write": ("", USUAL, "chmod 200 $file"),
    "a folder above that nobody may search": ("", USUAL, "chmod 700 /home"),
    "a link to below what nobody may search": (
        "StrictModes no",
        USUAL,
        "mkdir -m 755 /srv/keys; mv $file /srv/keys/a; ln -s /srv/keys/a $file; chmod 700 /srv",
    ),
    "a home of another": ("", USUAL, "chown bors /home/ana"),
    "above the home all can write": ("", USUAL, "chmod o+w /home"),
    "who can write does not count": ("StrictModes no", USUAL, "chmod o+w /home/ana; chown bors $file; chmod 644 $file"),
    "a link to what all can write": ("", USUAL, "mv $file /srv/keys; chmod o+w /srv; ln -s /srv/keys $file"),
    "a link": ("", USUAL, "mv $file /srv/keys; ln -s /srv/keys $file"),
    "elsewhere, and all can write": ("AuthorizedKeysFile /etc/keys/%u", "/etc/keys/ana", "chmod o+w /etc/keys"),
    "without a home": ("AuthorizedKeysFile /etc/keys/%u", "/etc/keys/ana", "mv /home/ana /home/gone"),
    "over": ("", USUAL, "sed -i 's/^/restrict,expiry-time=\"20200101\" /' $file"),
    "not over": ("", USUAL, 'sed -i \'s/^/Restrict,expiry-time="29990101",command="exec true" /\' $file'),
    "an option that nobody knows": ("", USUAL, "sed -i 's/^/frobnicate /' $file"),
    "no time": ("", USUAL, "sed -i 's/^/expiry-time=\"soon\" /' $file"),
}


@pytest.fixture(scope="module")
def root(debian: Path, administrator: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[PrivateRoot]:
    with manned(debian, administrator, tmp_path_factory.mktemp("keys")) as private:
        private.users("ana", "bors")
        private.inside("sh", "-c", "mkdir -p /run/sshd; ssh-keygen -A; cp -a /home/ana /home/kept")
        private.write("/etc/ssh/sshd_config.d/.empty", "")
        yield private


def laid(root: PrivateRoot, folder: Path, config: str, file: str, change: str) -> bool:
    """Whether ana signs in by her key, laid in a file and changed afterwards."""
    key = folder / "key"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(key)], check=True)
    ended = root.inside(
        *("sh", "-ec"),
        "rm -rf /home/ana /home/gone /etc/keys /srv/keys; chmod 755 /srv /home; gpasswd -d bors ana || true; "
        "cp -a /home/kept /home/ana; mkdir /etc/keys; install -d -m 700 -o ana -g ana /home/ana/.ssh; "
        f"file={file}; cat > $file; chown ana:ana $file; chmod 600 $file; {change}",
        typed=key.with_name("key.pub").read_text(),
    )
    assert ended.returncode == 0, ended.stderr
    root.write("/etc/ssh/sshd_config", f"UsePAM yes\n{config}\n")
    server = f"chroot {root.path} /usr/sbin/sshd -i"
    own = ("-F", "/dev/null", "-o", f"UserKnownHostsFile={folder}/known", "-o", "StrictHostKeyChecking=no")
    ask = ["ssh", *own, "-o", "BatchMode=yes", "-o", f"ProxyCommand={server}", "-i", str(key), "ana@here", "true"]
    return subprocess.run(ask, capture_output=True, check=False).returncode == 0


@pytest.mark.parametrize("what", CASES)
def test_a_key_is_one_where_the_server_takes_it(root: PrivateRoot, tmp_path: Path, what: str) -> None:
    signs_in = laid(root, tmp_path, *CASES[what])
    snapshot = LinuxMachine(root.path, "").observe()
    (ana,) = (account for account in snapshot.accounts if account.name == "ana")
    assert (ana.keys > 0) is signs_in
    told = [line for line in snapshot.warnings if "does not accept these keys" in line]
    assert bool(told) is (not ana.keys and what.startswith(("a home", "a fol", "a file", "a link to", "elsewhere")))


LIMITS = {
    "RevokedKeys /etc/keys/revoked": ("cp $file /etc/keys/revoked", False),
    "RevokedKeys /etc/keys/of-another": ("echo > /etc/keys/of-another", True),
    "PubkeyAcceptedAlgorithms ssh-rsa": ("", False),
    "Match User ana\nPubkeyAcceptedKeyTypes ssh-ed25519": ("", True),
    "Match User bors\nPubkeyAcceptedKeyTypes ssh-rsa": ("", True),
    "RevokedKeys none": ("", True),
}


@pytest.mark.parametrize("limit", LIMITS)
def test_a_key_that_a_setting_may_exclude_is_not_known_to_sign_in(
    root: PrivateRoot, tmp_path: Path, limit: str
) -> None:
    change, expected = LIMITS[limit]
    config = f"PasswordAuthentication no\nKbdInteractiveAuthentication no\n{limit}"
    assert laid(root, tmp_path, config, USUAL, change) is expected
    snapshot = LinuxMachine(root.path, "").observe()
    (ana,) = (account for account in snapshot.accounts if account.name == "ana")
    applies = "none" not in limit and "bors" not in limit
    assert (Route.REMOTE_SHELL in routes_unknown(ana, snapshot)) is applies
    assert (Route.REMOTE_SHELL in routes_of(ana, snapshot)) is not applies
