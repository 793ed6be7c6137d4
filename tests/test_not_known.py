"""What is not known of a machine is told as not known, counts as not met, and is never taken for harmless."""

import itertools
import json
import re
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from pathlib import Path

import pytest
from attrs import evolve
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, examples, manned, titled, with_accounts, with_files, with_programs
from debian_root import PrivateRoot
from verrou.core.baselines.baseline import read_baseline
from verrou.core.baselines.capture import captured
from verrou.core.judging.audit import audit
from verrou.core.judging.comparison import compare
from verrou.core.judging.guards import refusals_on
from verrou.core.judging.review import Candidate
from verrou.core.model import (
    Account,
    AccountName,
    MachineFacts,
    Naming,
    Origin,
    PasswordState,
    Snapshot,
    Status,
    Unread,
)
from verrou.core.model.access import Credential, admitted, doubts
from verrou.core.model.known import Known
from verrou.core.model.routes import Admission, EntryPoint, Route
from verrou.core.model.verdicts import Severity, Verdict
from verrou.core.rules.elevation import GIVES
from verrou.machines.linux.entry.service_files import unknown_services
from verrou.machines.linux.root import Root
from verrou.machines.registry import open_machine
from verrou.reports.access import access_data, access_table

FOREIGN = "auth required pam_fieldglass.so\n"
"""A module that nobody here knows: it may answer anything."""
AFAR = "203.0.113.1"
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYLVDhmzhi3YUgdXk0 tern\n"


def with_foreign_module(root: PrivateRoot, service: str) -> None:
    (root.path / "usr/lib/x86_64-linux-gnu/security/pam_fieldglass.so").write_bytes(b"foreign")
    file = f"/etc/pam.d/{service}"
    root.write(file, FOREIGN + root.read(file))


@pytest.fixture(scope="session")
def warden_and_tern(debian: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The accounts of :func:`two`, made once."""
    return with_accounts(debian, tmp_path_factory.mktemp("two"), {"warden": "administrator", "tern": "standard"})


@pytest.fixture
def two(debian: Path, warden_and_tern: Path, tmp_path: Path) -> Iterator[PrivateRoot]:
    with manned(debian, warden_and_tern, tmp_path) as root:
        yield root


def test_a_module_that_no_one_knows_makes_a_route_not_known(two: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", two.path)
    with_foreign_module(two, "login")
    output = verrou("access", *m).stdout
    rows = {line.split()[0]: line.split() for line in output.split("\n") if line.split()}
    assert rows["tern"][2] == "?" and "what pam_fieldglass.so answers is not known" in output
    (data,) = (each for each in verrou.json("access", "tern", *m))
    assert data["routes"]["console"] == "unknown" and "pam_fieldglass.so" in data["unknown"][0]
    output = verrou.line("why", "tern", "console", *m)
    assert output.count("Not known: whether tern can sign in at the console.") == 1
    assert "/etc/pam.d/login:1" in output and "to find out: look at /etc/pam.d/login:1" in output
    assert verrou.json("why", "tern", "console", *m)["answer"] == "unknown"
    assert "console?" in verrou("account", "list", *m).stdout


def test_a_server_whose_program_names_no_keywords_is_read_all_the_same(two: PrivateRoot, verrou: Verrou) -> None:
    """Built otherwise, or a wrapper: which keywords it has cannot be seen, and those of every version are taken."""
    ask = ("access", "warden", "-m", two.path, "--files-only")
    (before,) = verrou.json(*ask)
    assert before["routes"]["remote-shell"] == "password"
    two.write("/usr/sbin/sshd", "#!/bin/sh\nexec /usr/lib/sshd/server\n")
    (after,) = verrou.json(*ask)
    assert after["routes"] == before["routes"] and after["unknown"] == before["unknown"]


def test_a_possible_administrator_is_not_given_away_for_none(two: PrivateRoot, verrou: Verrou) -> None:
    """Before a change who may administer counts, after it only who is known to."""
    with_foreign_module(two, "login")
    m = ("-m", two.path, "--files-only", "--yes")
    output = verrou("account", "disable", "warden", *m, code=3).stderr
    assert "last-administrator" in output
    output = verrou("account", "disable", "tern", *m)
    assert "It is not known whether warden can elevate" in " ".join((output.stdout + output.stderr).split())


def test_a_blank_password_that_may_be_good_remotely_is_refused(two: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", two.path, "--files-only")
    with_foreign_module(two, "sshd")
    config = two.read("/etc/ssh/sshd_config")
    two.write("/etc/ssh/sshd_config", f"PermitEmptyPasswords yes\n{config}")
    output = verrou("account", "add", "gull", "--password", "blank", *m, "--yes", code=3).stderr
    assert "remote-blank-password" in output and "remote-shell" in output
    two.write("/etc/ssh/sshd_config", config)
    verrou("account", "add", "gull", "--password", "blank", *m, "--yes")


def test_the_route_by_which_one_came_stays_as_open_as_it_was() -> None:
    """A list may stand as it was, and what else decides keep out whoever is at work."""
    facts = MachineFacts(
        "hide-01", "linux", "x", "this", datetime(2026, 9, 14), Naming("[a-z]+", 20, ""), "ana", "network"
    )
    ana = Account(AccountName("ana"), "1000")

    def machine(answer: Known) -> Snapshot:
        entry_point = EntryPoint(
            Route.NETWORK, admissions={"ana": Admission(answer, Known.NO, Known.NO, "kiosk decides so")}
        )
        return Snapshot(facts, (ana,), (), entry_points=(entry_point, EntryPoint(Route.CONSOLE)))

    for before, after in itertools.product(Known, Known):
        found = refusals_on(Candidate(machine(before), machine(after), ()))
        worse = (before, after) in ((Known.YES, Known.NO), (Known.YES, Known.UNKNOWN), (Known.UNKNOWN, Known.NO))
        assert ("own-account" in {each.guard for each in found}) is worse, (before, after)


def test_a_locked_password_leaves_a_key_good(two: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", two.path)
    two.write("/home/tern/.ssh/authorized_keys", KEY)
    two.inside("chown", "-R", "tern:tern", "/home/tern/.ssh")
    two.inside("usermod", "-L", "tern")
    (data,) = verrou.json("access", "tern", *m)
    assert data["routes"]["remote-shell"] == "key" and data["routes"]["console"] is None
    assert "disabled, but can still sign in" in verrou.line("account", "show", "tern", *m)
    assert "its key is good" in verrou.line("why", "tern", "remote-shell", *m)
    two.users("gull", password=GOOD_PASSWORD)
    two.write("/home/gull/.ssh/authorized_keys", KEY)
    two.inside("chown", "-R", "gull:gull", "/home/gull/.ssh")
    verrou("account", "disable", "tern", *m, "--yes")
    two.inside("usermod", "-L", "gull")
    output = verrou.json("access", "gull", "tern", *m)
    assert {each["account"]: each["routes"]["remote-shell"] for each in output} == {"tern": None, "gull": "key"}
    two.inside("chage", "-E", "1", "gull")
    (data,) = verrou.json("access", "gull", *m)
    assert data["routes"]["remote-shell"] is None, "an end closes keys, too"


def test_a_good_key_says_nothing_about_a_password_that_is_not_known(two: PrivateRoot, verrou: Verrou) -> None:
    two.write("/home/tern/.ssh/authorized_keys", KEY)
    two.inside("chown", "-R", "tern:tern", "/home/tern/.ssh")
    two.write("/etc/pam.d/sshd", "auth [success=1 default=ignore] pam_stress.so\n" + two.read("/etc/pam.d/sshd"))
    shown = verrou.line("why", "tern", "remote-shell", "-m", two.path, "--files-only")
    assert "what pam_stress.so answers is not known; its key is good" in shown and "although no password" not in shown


def test_a_list_that_something_overrides_is_not_known_to_hold(two: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", two.path)
    verrou("rule", "set", "logon.console.denied=tern", *m, "--yes")
    show = ("rule", "show", "logon.console.denied", *m, "--format", "json")
    assert verrou.json(*show)["logon.console.denied"]["value"] == {"names": ["tern"]}
    two.write("/etc/pam.d/login", "account sufficient pam_permit.so\n" + two.read("/etc/pam.d/login"))
    output = verrou.json(*show)["logon.console.denied"]
    assert output["status"] == "unknown" and "a list denies tern, who can sign in all the same" in output["reason"]
    assert two.signs_in("tern", GOOD_PASSWORD, "login")


def test_every_service_file_is_accounted_for(two: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", two.path)
    assert not unknown_services(Root(two.path))
    two.write("/etc/pam.d/kiosk", "@include common-auth\n@include common-account\n")
    two.write("/etc/pam.d/shut", "auth required pam_deny.so\naccount required pam_deny.so\n")
    two.write("/var/lib/dpkg/info/fieldkiosk.list", "/etc/pam.d\n/etc/pam.d/kiosk\n")
    output = verrou("access", *m).stderr
    assert "/etc/pam.d/kiosk (package fieldkiosk) asks PAM; by which route is not known" in output
    assert "pam.d/shut" not in output, "nobody comes in by what does not allow sign-in"
    show = ("rule", "show", "password.blank_accepted", "logon.console.denied", *m, "--format", "json")
    output = verrou.json(*show)
    assert output["password.blank_accepted"]["status"] == "unknown"
    assert output["logon.console.denied"]["value"] == {"names": []}, (
        "nobody is kept out, so nobody comes in by it instead"
    )
    two.write("/etc/security/access.conf", "-:tern:tty1\n")
    two.write("/etc/pam.d/login", two.read("/etc/pam.d/login") + "account required pam_access.so\n")
    output = verrou.json(*show)["logon.console.denied"]
    assert output["status"] == "unknown" and "it admits tern" in output["reason"]


def test_a_network_service_has_its_route_and_its_lists(two: PrivateRoot, verrou: Verrou) -> None:
    routes = ("access", "tern", "-m", two.path, "--format", "json")
    assert verrou.json(*routes)[0]["routes"]["network"] is None
    listed = "auth required pam_listfile.so item=user sense=deny file=/etc/ftpusers onerr=succeed\n"
    two.write("/etc/pam.d/vsftpd", f"{listed}@include common-auth\n@include common-account\n")
    (two.path / "usr/sbin/vsftpd").touch()
    assert verrou.json(*routes)[0]["routes"]["network"] == "password"
    two.write("/etc/ftpusers", "tern\n")
    assert verrou.json(*routes)[0]["routes"]["network"] is None
    assert not two.signs_in("tern", GOOD_PASSWORD, "vsftpd")


def test_parts_and_left_over_files_are_no_services(tmp_path: Path) -> None:
    for name, text in {
        "login": "@include system-auth\n@include kioskbase\n",
        "kioskbase": "auth required pam_unix.so\n",
        "system-auth": "auth required pam_unix.so\n",
        "system-unused": "auth required pam_unix.so\n",
        "common-session-noninteractive": "auth required pam_unix.so\n",
        "kiosk.dpkg-old": "auth required pam_unix.so\n",
        "kiosk~": "auth required pam_unix.so\n",
    }.items():
        (tmp_path / "etc/pam.d").mkdir(parents=True, exist_ok=True)
        (tmp_path / "etc/pam.d" / name).write_text(text)
    assert [each.name for each in unknown_services(Root(tmp_path))] == ["kioskbase", "system-unused"]


DEBIAN = {
    "common-auth": "auth [success=1 default=ignore] pam_unix.so nullok\nauth requisite pam_deny.so\n"
    "auth required pam_permit.so\nauth optional pam_cap.so\n",
    "common-account": "account [success=1 new_authtok_reqd=done default=ignore] pam_unix.so\n"
    "account requisite pam_deny.so\naccount required pam_permit.so\n",
    "login": "auth optional pam_faildelay.so delay=3000000\nauth requisite pam_nologin.so\n@include common-auth\n"
    "auth optional pam_group.so\n@include common-account\n",
    "sshd": "@include common-auth\naccount required pam_nologin.so\n@include common-account\n",
    "lightdm": "auth requisite pam_nologin.so\nauth sufficient pam_succeed_if.so user ingroup nopasswdlogin\n"
    "@include common-auth\n-auth optional pam_gnome_keyring.so\n@include common-account\n",
    "gdm-password": "auth requisite pam_nologin.so\nauth required pam_succeed_if.so user != root quiet_success\n"
    "@include common-auth\nauth optional pam_gnome_keyring.so\n@include common-account\n",
    "sddm": "auth requisite pam_nologin.so\nauth required pam_succeed_if.so user != root quiet_success\n"
    "@include common-auth\n-auth optional pam_gnome_keyring.so\n-auth optional pam_kwallet5.so\n"
    "@include common-account\n",
}
FEDORA = {
    "system-auth": "auth required pam_env.so\nauth required pam_faildelay.so delay=2000000\n"
    "auth required pam_faillock.so preauth silent\nauth sufficient pam_unix.so nullok\n"
    "auth required pam_faillock.so authfail\nauth required pam_deny.so\n"
    "account required pam_faillock.so\naccount required pam_unix.so\n",
    "postlogin": "",
    "login": "auth substack system-auth\nauth include postlogin\naccount required pam_nologin.so\n"
    "account include system-auth\n",
    "sshd": "auth substack system-auth\nauth include postlogin\naccount required pam_sepermit.so\n"
    "account required pam_nologin.so\naccount include system-auth\n",
}


@pytest.mark.parametrize("stacks", [DEBIAN, FEDORA], ids=["debian", "fedora"])
def test_nothing_is_not_known_on_a_system_as_installed(tmp_path: Path, stacks: dict[str, str]) -> None:
    """Modules that nobody here knows are there, where they decide nothing."""
    root = with_programs(tmp_path)
    modules = set(re.findall(r"pam_\w+\.so", "".join(stacks.values())))
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/bash\nana:x:1000:1000::/home/ana:/bin/bash\n",
        "etc/shadow": f"root:*:20000::::::\nana:$5$salt${'x' * 43}:20000::::::\n",
        "etc/group": "root:x:0:\nana:x:1000:\n",
        "etc/ssh/sshd_config": "UsePAM yes\nKbdInteractiveAuthentication no\n",
        "etc/security/sepermit.conf": "# nobody\n",
        **{f"etc/pam.d/{name}": text for name, text in stacks.items()},
        **{f"usr/lib64/security/{name}": "" for name in modules},
        "usr/sbin/sshd": "",
        **({f"usr/{name}": "" for name in ("sbin/lightdm", "sbin/gdm3", "bin/sddm")} if "sddm" in stacks else {}),
    }
    snapshot = open_machine(str(with_files(root, files))).observe()
    ana = snapshot.by_name[AccountName("ana")]
    output = {(entry_point.route, admitted(ana, entry_point, snapshot)) for entry_point in snapshot.entry_points}
    assert output == {(Route.CONSOLE, Credential.PASSWORD), (Route.REMOTE_SHELL, Credential.PASSWORD)}
    assert not any("by which route" in each for each in snapshot.warnings)
    assert all(not doubts(account, route, snapshot) for account in snapshot.accounts for route in Route)


SETTINGS = st.sampled_from(
    (
        *("PasswordAuthentication yes", "PasswordAuthentication no", "PasswordAuthentication maybe", "Foo bar"),
        *("PubkeyAuthentication yes", "PubkeyAuthentication no", "KbdInteractiveAuthentication no", "UsePAM no"),
        *("PermitRootLogin yes", "PermitRootLogin no", "PermitRootLogin forced-commands-only"),
        "PermitEmptyPasswords yes",
        *("AllowUsers !ana *", "AllowUsers ana bors root", "AllowUsers ana@10.0.0.1", "DenyUsers b*"),
        "DenyUsers ana@10.*",
        *("AllowGroups staff root", "AllowGroups !staff *", "DenyGroups staff", "AuthenticationMethods publickey"),
        *("AuthenticationMethods publickey,password", "AuthenticationMethods password publickey", "Banner none"),
        *("AuthenticationMethods publickey,keyboard-interactive", "AuthenticationMethods hostbased"),
        "X11Forwarding yes",
        *("TrustedUserCAKeys /etc/ssh/ca", "ListenAddress 127.0.0.1", "ListenAddress 0.0.0.0"),
        "ListenAddress [::1]:22",
        *("AuthorizedKeysCommand /bin/true\nAuthorizedKeysCommandUser nobody", "AuthorizedKeysCommand /bin/true"),
        *("AllowUsers", "RefuseConnection no"),
    )
)
CRITERIA = st.sampled_from(
    (
        *("User ana", "User !ana,*", "Group staff", "Address 203.0.113.0/24", "Address 10.0.0.0/8", "all"),
        "LocalPort 22",
        *("User root Address *", "LocalAddress 10.*"),
    )
)
blocks = st.tuples(CRITERIA, st.lists(SETTINGS, min_size=1, max_size=3)).map(
    lambda made: f"Match {made[0]}\n" + "\n".join(made[1]) + "\n"
)
configurations = st.tuples(
    st.lists(SETTINGS, max_size=4).map("\n".join), st.lists(blocks, max_size=2).map("".join)
).map(lambda made: f"UsePAM yes\n{made[0]}\n{made[1]}")


def by_sshd(root: PrivateRoot, who: str, groups: Sequence[str], keys: int, text: str) -> set[Credential | None]:
    """What opens the remote shell to an account, by the server's own word for the settings; more than one where a
    command or an authority could have a key for it."""
    if root.inside("/usr/sbin/sshd", "-t").returncode:
        return {None}
    asked = f"user={who},host={AFAR},addr={AFAR},laddr=192.0.2.1,lport=22"
    message: dict[str, list[str]] = {}
    for line in root.inside("/usr/sbin/sshd", "-T", "-C", asked).stdout.split("\n"):
        key, _, value = line.partition(" ")
        message.setdefault(key, []).append(value)

    def on(key: str) -> bool:
        return message[key][0] == "yes"

    def named(key: str, names: Sequence[str]) -> bool:
        words = [word.partition("@") for value in message.get(key, []) for word in value.split()]
        return any(
            not user.startswith("!") and fnmatchcase(name, user) and (not place or fnmatchcase(AFAR, place))
            for user, _, place in words
            for name in names
        )

    denied = named("denyusers", [who]) or named("denygroups", groups)
    listens = [line.split()[1] for line in text.split("\n") if line.startswith("ListenAddress")]
    if denied or ("allowusers" in message and not named("allowusers", [who])) or (listens and "0.0.0.0" not in listens):
        return {None}
    if "allowgroups" in message and not named("allowgroups", groups):
        return {None}
    may = message["permitrootlogin"][0] if who == "root" else "yes"
    empty = who == "blank" and not on("permitemptypasswords")
    methods = {"password"} if on("passwordauthentication") and may == "yes" and not empty else set()
    manual = on("usepam") and on("kbdinteractiveauthentication") and may == "yes" and not empty
    methods |= {"keyboard-interactive"} if manual else set()
    takes_keys = on("pubkeyauthentication") and may not in ("no", "forced-commands-only")
    elsewhere = {"none"} != {message.get(key, ["none"])[0] for key in ("authorizedkeyscommand", "trustedusercakeys")}
    found: set[Credential | None] = set()
    for has_key in {keys > 0, keys > 0 or elsewhere}:
        mine = methods | ({"publickey"} if has_key and takes_keys else set())
        lists = [set(each.split(",")) for each in message.get("authenticationmethods", ["any"])[0].split()]
        lists = [{each} for each in mine] if lists == [{"any"}] else [each for each in lists if each <= mine]
        password = Credential.BLANK if who == "blank" else Credential.PASSWORD
        by_password = any("publickey" not in each for each in lists)
        found.add(password if by_password else Credential.KEY if lists else None)
    return found


@pytest.mark.real_root
def test_what_is_reported_of_the_remote_shell_is_what_its_server_does(root: PrivateRoot) -> None:
    """For each account from another computer, by reading its files and by asking it; what may be and is not known is
    never told as a yes or a no."""
    root.inside("groupadd", "-f", "staff")
    groups = {"ana": "users", "bors": "staff", "blank": "users"}
    for name, group in groups.items():
        root.inside("useradd", "-m", "-s", "/bin/bash", "-G", group, name)
    root.inside("chpasswd", typed="".join(f"{name}:{GOOD_PASSWORD}\n" for name in (*groups, "root")))
    root.inside("passwd", "-d", "blank")
    for name, home in (("ana", "/home/ana"), ("root", "/root")):
        root.write(f"{home}/.ssh/authorized_keys", KEY)
        root.inside("chown", "-R", f"{name}:{name}", f"{home}/.ssh")
    root.write("/etc/ssh/ca", "")
    root.inside("mkdir", "-p", "/run/sshd")
    root.inside("ssh-keygen", "-A")

    counted = {(how, known): 0 for how in (False, True) for known in (False, True)}

    @examples(7)
    @example("UsePAM yes\nAuthenticationMethods hostbased\nMatch User ana\nAuthenticationMethods publickey\n")
    @example("UsePAM yes\nPasswordAuthentication no\nAuthenticationMethods publickey password\n")
    @example("UsePAM yes\nAllowUsers bors\n")
    @example("UsePAM yes\nAllowUsers\n")
    @example("UsePAM yes\nAuthorizedKeysCommand /bin/true\n")
    @example("UsePAM yes\nRefuseConnection no\n")
    @example("UsePAM yes\nMatch User bors\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n")
    @example("UsePAM no\nPubkeyAuthentication no\nAuthenticationMethods publickey,password password\n")
    @given(configurations)
    def holds(text: str) -> None:
        root.write("/etc/ssh/sshd_config", text)
        snapshots = {how: open_machine(str(root.path)).observe(asked=how) for how in (False, True)}
        for name, how in itertools.product(("ana", "bors", "blank", "root"), snapshots):
            snapshot = snapshots[how]
            account = snapshot.by_name[AccountName(name)]
            really = by_sshd(root, name, account.groups, account.keys, text)
            output = {
                admitted(account, entry_point, snapshot)
                for entry_point in snapshot.entry_points
                if entry_point.route is Route.REMOTE_SHELL
            }
            known = output - {None}
            assert known <= {Credential.UNKNOWN} or (known & really and len(really) == 1), (name, output, really)
            assert known or really == {None}, (name, output, really)
            counted[how, Credential.UNKNOWN not in output or len(really) > 1] += 1

    holds()
    assert counted[True, False] < counted[False, False] and counted[True, False] < 0.15 * counted[True, True], counted


DOAS = {
    "permit :staff\n": (True, "own"),
    "permit nopass ana\n": (True, "none"),
    "permit ana as bors\n": (False, "own"),
    "permit ana cmd /bin/true\n": (False, "own"),
    "deny ana\npermit :staff\n": (True, "own"),
    "permit :staff\ndeny ana\n": (False, "own"),
    "permit persist keepenv setenv { A=b C } ana as root\n": (True, "own"),
    "permit 1000\n": (True, "own"),
    "permit ana\\\n as root\n": (True, "own"),
    'permit "ana" # x\n': (True, "own"),
    "permit nopass ana\ndeny ana cmd /bin/true\n": (True, "none"),
    "permit :100\n": (False, "own"),
    "permit ana": (False, "own"),
    "foo\npermit ana\n": (False, "own"),
}
"""By rules: whether ana, of number 1000 and in staff, administers by them, and whose password is asked for; each held
against doas(1) itself."""


@pytest.mark.parametrize("rules", list(DOAS))
def test_doas_makes_administrators(tmp_path: Path, verrou: Verrou, rules: str) -> None:
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/bash\nana:x:1000:1000::/home/ana:/bin/bash\n",
        "etc/shadow": "root:*:20000::::::\nana:$5$a$b:20000::::::\n",
        "etc/group": "root:x:0:\nana:x:1000:\nstaff:x:50:ana\n",
        "etc/doas.conf": rules,
    }
    root = with_programs(with_files(tmp_path / "station", files))
    (root / "usr/bin/doas").touch()
    (root / "usr/bin/doas").chmod(0o4755)
    shown = verrou("account", "show", "ana", "-m", root, "--format", "json")
    data = json.loads(shown.stdout)
    whole, password = DOAS[rules]
    assert (data["role"] == "administrator") is whole
    if whole:
        assert data["elevation_asks"] == password
    assert ("not understood" in shown.stderr) is rules.startswith("foo")
    (root / "usr/bin/doas").chmod(0o755)
    data = verrou.json("account", "show", "ana", "-m", root)
    assert data["role"] == "standard", "without its set-user-ID bit it makes root of nobody"


def test_a_system_without_pam_is_read_by_what_its_programs_do(tmp_path: Path) -> None:
    """login takes a blank password, and doas is the only means of elevation."""
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/sh\nwarden:x:1000:1000::/:/bin/sh\ntern:x:1001:1001::/:/bin/sh\n",
        "etc/shadow": "root:*:20000::::::\nwarden:$5$a$" + "x" * 43 + ":20000::::::\ntern::20000::::::\n",
        "etc/group": "wheel:x:10:warden\nwarden:x:1000:\ntern:x:1001:\n",
        "etc/doas.conf": "permit persist :wheel\npermit nopass tern cmd /bin/true\n",
        "bin/sh": "",
        "usr/bin/doas": "",
    }
    root = with_files(tmp_path, files)
    (root / "bin/sh").chmod(0o755)
    (root / "usr/bin/doas").chmod(0o4755)

    def observed() -> Snapshot:
        return open_machine(str(root)).observe()

    snapshot = observed()
    opens = {
        str(a.name): admitted(a, entry_point, snapshot)
        for a in snapshot.accounts
        for entry_point in snapshot.entry_points
    }
    assert opens == {"root": None, "warden": Credential.PASSWORD, "tern": Credential.BLANK}
    output = {rule_id: each.value for rule_id, each in snapshot.readings.items() if each.status is Status.READ}
    assert output["password.blank_accepted"] == frozenset({"console"})
    assert output["elevation.administrator"] == GIVES.uniform("password")
    assert output["elevation.remembered_for"] == timedelta(minutes=5)
    assert output["elevation.unanswered_after"] == "never"
    assert snapshot.readings["password.storage"].status is Status.UNKNOWN
    assert "no program here uses PAM" in snapshot.readings["lockout.after"].reason
    (root / "etc/doas.conf").write_text("permit nopass :wheel\n")
    readings = observed().readings
    assert (readings["elevation.administrator"].value, readings["elevation.remembered_for"].value) == (
        GIVES.uniform("nothing"),
        "never",
    )


def test_what_asks_least_of_sudo_and_doas_holds(tmp_path: Path) -> None:
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/bash\nana:x:1000:1000::/:/bin/bash\n",
        "etc/shadow": "root:*:20000::::::\nana:$5$a$b:20000::::::\n",
        "etc/group": "sudo:x:27:ana\n",
        "etc/sudoers": "Defaults timestamp_timeout=1\n%sudo ALL=(ALL) ALL\n",
        "etc/doas.conf": "permit persist ana\n",
        "usr/bin/doas": "",
    }
    root = with_programs(with_files(tmp_path, files))
    (root / "usr/bin/doas").chmod(0o4755)
    readings = open_machine(str(root)).observe().readings
    assert readings["elevation.remembered_for"].value == timedelta(minutes=5), "sudo forgets after a minute"
    (root / "etc/doas.conf").write_text("permit nopass ana\n")
    snapshot = open_machine(str(root)).observe()
    assert snapshot.readings["elevation.administrator"].value == GIVES.uniform("nothing")
    assert snapshot.by_name[AccountName("ana")].elevation_asks == "none"


@pytest.mark.parametrize(
    ("release", "packages"),
    [
        ("ID=debian", ("libpam-pwquality", "libpam-modules")),
        ('ID="rocky"\nID_LIKE="rhel centos fedora"', ("libpwquality", "pam")),
        ('ID="opensuse-leap"', ("pam_pwquality", "pam")),
        ("ID=alpine", ("libpwquality", "linux-pam")),
        ("ID=own", ("that brings pam_pwquality.so", "that brings the modules of PAM")),
    ],
)
def test_packages_are_named_as_the_distribution_names_them(
    tmp_path: Path, release: str, packages: tuple[str, str]
) -> None:
    files = {
        "etc/os-release": f"{release}\n",
        "etc/passwd": "",
        "etc/shadow": "",
        "etc/group": "",
        "etc/pam.d/login": "",
    }
    readings = open_machine(str(with_files(tmp_path, files))).observe().readings
    remedies = tuple(readings[rule_id].remedy for rule_id in ("password.min_length", "lockout.after"))
    assert remedies == tuple(f"install the package {each}" for each in packages)


def test_what_is_not_known_of_a_listed_account_keeps_it_from_being_as_listed() -> None:
    facts = MachineFacts("hide-01", "linux", "x", "this", datetime(2026, 9, 14), Naming("[a-z]+", 20, ""))
    text = '[accounts.tern]\nrole = "standard"\nroutes = ["console"]\n'
    baseline = read_baseline(titled(text), "b.toml", lambda name, _: (name, ""))

    def machine(route: Known, password: PasswordState) -> Snapshot:
        tern = Account(AccountName("tern"), "1000", origin=Origin.ADDED, password=password)
        perhaps = Admission(route, Known.NO, Known.NO, "kiosk decides so")
        return Snapshot(
            facts,
            (tern,),
            (),
            entry_points=(EntryPoint(Route.CONSOLE), EntryPoint(Route.NETWORK, admissions={"tern": perhaps})),
        )

    def verdict(snapshot: Snapshot) -> tuple[Verdict, str]:
        (found,) = audit(snapshot, baseline).findings
        return found.verdict, found.reading.reason if found.reading is not None else ""

    known = machine(Known.NO, PasswordState.SET)
    assert verdict(known) == (Verdict.MET, "")
    assert verdict(machine(Known.NO, PasswordState.UNKNOWN)) == (
        *(Verdict.UNKNOWN, "the password of tern could not be read"),
    )
    unread = evolve(known, machine=evolve(facts, unread=(Unread.ADMINISTRATION,)))
    assert verdict(unread) == (Verdict.UNKNOWN, "whether tern has administrator rights could not be read")
    assert audit(unread, baseline).findings[0].severity is Severity.HIGH, "it may be an administrator"
    doubtful = machine(Known.UNKNOWN, PasswordState.SET)
    message = "whether it can sign in over the network is not known: kiosk decides so"
    assert verdict(doubtful) == (Verdict.UNKNOWN, message)
    assert "tern: whether it can sign in by network is not known" in captured(doubtful, "x", {}, "", people=True)
    turned = [each.other for each in compare(known, doubtful).differing if each.fact == "routes"]
    assert turned == ["console, network?"]


def test_what_less_may_be_enough_for_has_a_question_mark() -> None:
    facts = MachineFacts("hide-01", "linux", "x", "this", datetime(2026, 9, 14), Naming("[a-z]+", 20, ""))
    decided = Admission(Known.YES, Known.NO, Known.UNKNOWN, "kiosk decides so")
    tern = Account(AccountName("tern"), "1000", origin=Origin.ADDED)
    snapshot = Snapshot(facts, (tern,), (), entry_points=(EntryPoint(Route.CONSOLE, admissions={"tern": decided}),))
    (row,) = access_table(access_data([tern], snapshot), snapshot).rows
    assert row["console"] == "password?"
