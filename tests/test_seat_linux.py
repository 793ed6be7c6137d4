"""Ways in, rights, elevation and screens of a real Debian with a sign-in screen: the system's own programs judge."""

import json
import pwd
import re
from datetime import timedelta
from pathlib import Path

import pytest
from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, TYPED, Verrou, examples, titled, with_files, with_programs
from debian_root import PrivateRoot
from verrou.core.model import Account, AccountName, Status
from verrou.core.model.access import routes_of, routes_unknown
from verrou.core.model.routes import EVERYONE, AccessListEntry, EntryPoint, Principals, Route
from verrou.core.model.screens import screens_of
from verrou.core.values import Notice, Value
from verrou.machines.linux.accounts.outside import outside_accounts
from verrou.machines.linux.elevation.polkit import FORMER_HEADING, HEADING, Ours, parsed, rendered
from verrou.machines.linux.elevation.polkit_actions import EXEC
from verrou.machines.linux.entry.display_managers import automatic_accounts, of_seat
from verrou.machines.linux.files.keyfile import entries, with_entry
from verrou.machines.linux.files.sshd import REMOTE, shells
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import ADAPTERS
from verrou.machines.linux.rules.logon import lists_of
from verrou.machines.registry import open_machine

IDLE = "/org/gnome/desktop/session/idle-delay"
PEOPLE = ("warden", "tern", "gull", "daypass")
SET = (
    *("logon.remote-shell.allowed=group:sudo", "logon.console.denied=gull", "rights.shut_down=group:sudo"),
    *("rights.set_clock=tern", "elevation.remembered_for=never", "elevation.unanswered_after=1 minute"),
    *("elevation.standard=denied", "screen.hidden_accounts=warden", "screen.locks_after=10 minutes"),
    *("screen.notice=Cap Fauvel | For staff \\ only.", "screen.shut_down_button=no", "sharing.hidden_drives=all"),
    *("sharing.applies_to=gull,group:sudo", "sharing.settings_closed=yes"),
)
ORIGINS = {"login": ("tty", "tty1"), "lightdm": ("tty", ":0"), "sshd": ("rhost", REMOTE)}
WAYS = {"login": "console", "lightdm": "console", "sshd": "remote-shell"}


def admits(root: PrivateRoot, service: str, account: str) -> bool:
    """PAM itself, by a client that is not ours, from where people come by that service."""
    origin = "=".join(ORIGINS[service])
    words = ("pamtester", "-I", origin, service, account, "authenticate", "acct_mgmt")
    return root.inside(*words, typed=GOOD_PASSWORD + "\n").returncode == 0


TOO_LATE = 124
"""What timeout(1) ends with. polkitd 122 sometimes waits 15 seconds for rules that have ended: it is started anew."""


def polkit_says(root: PrivateRoot, account: str, *actions: str) -> list[int]:
    """polkit itself, its daemon and its bus started inside: what its client ends with for each action."""
    checks = "\n".join(
        f"timeout 5 pkcheck --action-id {action} --process $someone >/dev/null 2>&1; echo code $?" for action in actions
    )
    script = f"""
        mkdir -p /run/dbus; dbus-daemon --system --nofork --nopidfile --nosyslog 2>/dev/null & bus=$!
        until test -S /run/dbus/system_bus_socket; do :; done
        /usr/lib/polkit-1/polkitd --no-debug >/dev/null 2>&1 & daemon=$!
        setpriv --reuid {account} --regid {account} --init-groups sh -c 'read x < /run/wait' & someone=$!
        until pkcheck --action-id org.freedesktop.policykit.exec --process $$ >/dev/null 2>&1; do :; done
        until test $(stat -c %U /proc/$someone) = {account}; do :; done  # until then it is root's
        {checks}
        kill -9 $someone $daemon $bus
    """
    for _ in range(10):
        root.inside("mkfifo", "/run/wait")
        output = root.inside("sh", "-c", script).stdout
        root.inside("rm", "-rf", "/run/wait", "/run/dbus")
        codes = [int(code) for code in re.findall(r"^code (\d+)", output, re.M)]
        if TOO_LATE not in codes:
            return codes
    raise AssertionError("polkit fell asleep each time")


@pytest.mark.real_root
def test_the_whole_table_is_what_the_system_decides(desktop: PrivateRoot, verrou: Verrou) -> None:
    desktop.write("/usr/bin/gnome-screensaver", "")  # what locks an idle screen
    before = desktop.tree()
    verrou("rule", "set", *SET, "-m", desktop.path, "--yes")

    rows = {row["account"]: row for row in verrou.json("access", "-m", desktop.path)}
    for service, route in WAYS.items():
        for name in PEOPLE:
            message = rows[name]["routes"][route] is not None
            assert admits(desktop, service, name) is message, (service, name)
    assert [name for name in PEOPLE if rows[name]["routes"]["remote-shell"]] == ["warden"]
    assert [name for name in PEOPLE if rows[name]["routes"]["console"]] == ["warden", "tern", "daypass"]

    for name in PEOPLE:
        everything = "ALL) ALL" in desktop.inside("sudo", "-l", "-U", name).stdout
        assert everything is (rows[name]["elevation"]["signed"] == "own-password"), name
    assert desktop.inside("visudo", "-c").returncode == 0
    asked = desktop.inside("sudo", "-V").stdout
    assert "Authentication timestamp timeout: 0.0 minutes" in asked and "Password prompt timeout: 1.0 minutes" in asked

    shown = desktop.inside("lightdm", "--show-config")
    assert "greeter-hide-users=false" in shown.stdout + shown.stderr

    power, clock = "org.freedesktop.login1.power-off", "org.freedesktop.timedate1.set-time"
    mount, settings = "org.freedesktop.udisks2.filesystem-mount", "org.freedesktop.hostname1.set-hostname"
    assert polkit_says(desktop, "warden", power, clock)[0] == 0
    assert polkit_says(desktop, "tern", power, clock, mount)[:2] == [2, 0]
    assert polkit_says(desktop, "gull", power, clock, mount, settings) == [2, 1, 1, 1], "no administrator's password"
    assert 1 not in polkit_says(desktop, "warden", mount, settings), "an administrator is never covered"

    assert desktop.inside("bash", "-lc", "echo $TMOUT").stdout.strip() == "600"
    home = "HOME=/tmp XDG_RUNTIME_DIR=/tmp dconf"
    idle = desktop.inside("sh", "-c", f"{home} read {IDLE}; {home} write {IDLE} 'uint32 0'", user="tern")
    assert idle.stdout == "uint32 600\n" and "non-writable" in idle.stderr, "nobody sets another for themselves"
    assert _sshd(desktop, "warden")["banner"] == ["/etc/issue.net"]
    assert desktop.read("/etc/issue") == "Cap Fauvel\n\nFor staff \\\\ only.\n"
    readings = verrou.json("rule", "show", "screen", "rights", "-m", desktop.path)
    assert readings["rights.shut_down"]["value"] == {"names": ["group:sudo"]}
    assert readings["screen.notice"]["value"] == {"title": "Cap Fauvel", "text": "For staff \\ only."}

    verrou("undo", "-m", desktop.path, "--yes")
    assert desktop.tree() == before


@pytest.mark.real_root
def test_verify_tries_each_kind_of_account_by_each_way(desktop: PrivateRoot, verrou: Verrou) -> None:
    rules = ("logon.console.denied=group:guests", "logon.remote-shell.allowed=group:sudo")
    verrou("rule", "set", *rules, "-m", desktop.path, "--yes")
    output = verrou.json("verify", "-b", "essential", "-m", desktop.path, code=None)
    about = ("logon.", "elevation.administrator", "elevation.standard")
    tried = {trial["test"]: trial for trial in output["tests"] if trial["rule"].startswith(about)}
    assert {trial["result"] for trial in tried.values()} == {"passed"}, [
        t for t in tried.values() if t["result"] != "passed"
    ]
    assert tried["a temporary guest account signs in at the console (lightdm)"]["seen"].startswith("denied")
    assert tried["a temporary standard account signs in through a remote shell (sshd)"]["seen"].startswith("denied")
    assert tried["a temporary administrator account elevates a program with its own password"]["seen"] == "accepted"


SHOWN = (
    *("password.max_age=90 days", "password.warn_before=7 days", "password.storage=yescrypt", "lockout.after=4"),
    *("screen.notice=Cap Fauvel | Quiet.", "sharing.applies_to=group:users", "sharing.hidden_drives=removable"),
    *("sharing.settings_closed=yes", "rights.shut_down=group:sudo", "rights.set_clock=nobody"),
    *("logon.remote-shell.denied=group:users", "elevation.standard=denied"),
)


@pytest.mark.real_root
def test_what_a_desktop_does_shows_its_rules(desktop: PrivateRoot, verrou: Verrou) -> None:
    for rule in SHOWN:
        verrou("rule", "set", rule, "-m", desktop.path, "--yes")
    tests = verrou.json("verify", "-b", "essential", "-m", desktop.path, code=None)["tests"]
    assert not [each for each in tests if each["result"] == "failed"]
    passed = {each["rule"] for each in tests if each["result"] == "passed"}
    more = {"lockout.lasts", "lockout.exempts", "password.blank_accepted", "sharing.applies_to"}
    assert passed >= {rule.partition("=")[0] for rule in SHOWN} | more


@pytest.mark.real_root
def test_what_a_user_may_do_is_what_polkit_and_sudo_say(desktop: PrivateRoot, verrou: Verrou) -> None:
    verrou("rule", "set", "rights.shut_down=group:sudo", "rights.set_clock=nobody", "-m", desktop.path, "--yes")
    asked = {"shut-down": "org.freedesktop.login1.power-off", "set-clock": "org.freedesktop.timedate1.set-time"}
    own, other = "it enters its own password", "it needs an administrator's password"
    for name in ("warden", "tern", "daypass"):
        elevates = desktop.inside("sudo", "-l", "-U", name, "/bin/true").returncode == 0
        codes = dict(zip((*asked, "pkexec"), polkit_says(desktop, name, *asked.values(), EXEC), strict=True))
        by_password = {act: own if elevates else other if code in (2, 3) else "" for act, code in codes.items()}
        for act in asked:
            answer = verrou.json("why", name, act, "-m", desktop.path)
            assert (answer["answer"] == "yes") is bool(codes[act] == 0 or by_password[act]), (name, act)
            assert answer["prompt"] == ("" if codes[act] == 0 else by_password[act]), (name, act)
            assert answer["chain"] and all(reason["statement"] for reason in answer["chain"])
        for act in ("run-signed", "run-unsigned", "install"):
            answer = verrou.json("why", name, act, "-m", desktop.path)
            assert (answer["answer"] == "yes", answer["prompt"]) == (True, by_password["pkexec"]), (name, act)
    assert verrou.json("why", "root", "set-clock", "-m", desktop.path)["prompt"] == "there is no prompt"


@pytest.mark.real_root
def test_single_commands_are_what_sudo_lets_them_run(desktop: PrivateRoot, verrou: Verrou) -> None:
    before, m = desktop.tree(), ("-m", desktop.path)
    desktop.inside("groupadd", "ringers")
    desktop.inside("usermod", "-aG", "ringers", "tern")
    start = desktop.tree()
    count, restart = "/usr/bin/id -u --x=1,2", "/usr/bin/sync"
    wanted = f"elevation.commands=group:ringers: {count}; gull: {restart}"
    verrou("rule", "set", wanted, *m, "--yes")
    assert desktop.inside("visudo", "-c").returncode == 0

    def may(name: str, command: str) -> bool:
        asked = desktop.inside("sudo", "-l", "-U", name, *command.split())
        return asked.returncode == 0

    assert may("tern", count) and not may("tern", "/usr/bin/id -u") and not may("tern", restart)
    assert may("gull", restart) and not may("gull", f"{restart} -f") and not may("gull", count)
    verrou("rule", "set", "elevation.unanswered_after=1 minute", *m, "--yes")
    assert may("tern", count), "another rule in the same file leaves it"
    shown = verrou.json("rule", "show", "elevation.commands", *m)["elevation.commands"]["value"]
    assert shown == {"commands": {"group:ringers": [count], "gull": [restart]}}
    baseline = desktop.path.parent / "b.toml"
    baseline.write_text(titled(f'[elevation]\ncommands = {{ "group:ringers" = ["{count}"] }}'))
    assert "gull: /usr/bin/sync" in verrou.line("audit", "-b", baseline, *m, code=1)
    tests = verrou.json("verify", "-b", "essential", *m, code=None)["tests"]
    ran = [(each["test"], each["result"]) for each in tests if each["rule"] == "elevation.commands"]
    assert (f"a temporary account in group ringers runs as an administrator: {count}", "passed") in ran
    assert {result for _, result in ran} == {"passed"} and len(ran) >= 4
    verrou("account", "rename", "gull", "kittiwake", *m, "--yes")
    assert may("kittiwake", restart)
    desktop.write("/etc/sudoers.d/site", "tern ALL=(root) /usr/bin/du *\n")
    (desktop.path / "etc/sudoers.d/site").chmod(0o440)
    refused = verrou("rule", "set", "elevation.commands=nobody", *m, "--yes", code=4).stderr
    assert "the machine would set tern: /usr/bin/du *" in refused
    (desktop.path / "etc/sudoers.d/site").unlink()
    for _ in range(3):
        verrou("undo", *m, "--yes")
    assert desktop.tree() == start != before


@pytest.mark.real_root
def test_a_shell_shows_when_it_ends(root: PrivateRoot, verrou: Verrou) -> None:
    verrou("rule", "set", "screen.locks_after=10 minutes", "-m", root.path, "--yes")
    verify = ("verify", "-b", "essential", "-m", root.path)
    tried = [each for each in verrou.json(*verify, code=None)["tests"] if each["rule"] == "screen.locks_after"]
    assert [each["result"] for each in tried] == ["passed", "passed"] and "600 seconds" in tried[1]["seen"]


@pytest.mark.real_root
def test_what_another_rule_of_polkit_decides_is_asked_of_polkit(desktop: PrivateRoot, verrou: Verrou) -> None:
    desktop.write(
        "/etc/polkit-1/rules.d/05-local.rules",
        "polkit.addRule(function(action, subject) {\n"
        "    if (/power-off|reboot|halt/.test(action.id) && subject.active && subject.user.length == 4)\n"
        '        return "no";\n'
        "});\n",
    )
    show = ("rule", "show", "rights.shut_down", "-m", desktop.path, "--format", "json")
    reading = verrou.json(*show)["rights.shut_down"]
    assert reading["status"] == "unknown", "a disk that is only looked at is not asked"
    reading = verrou.json(*show, "--ask-system")["rights.shut_down"]
    assert reading["value"] == {"names": ["daypass", "warden"]}, "tern and gull have four letters"
    output = verrou("rule", "set", "rights.shut_down=tern", "-m", desktop.path, "--yes", code=4).stderr
    assert "the machine would set" in output, "the rule before ours goes on deciding"


SSHD = st.lists(
    st.sampled_from(
        [
            *("PasswordAuthentication no", "PasswordAuthentication yes", "PermitRootLogin yes", "PermitRootLogin no"),
            *("AllowUsers tern warden", "DenyUsers gull", "AllowGroups sudo", "DenyGroups guests t*"),
            *("PermitEmptyPasswords yes", "PubkeyAuthentication no", "Match User tern,gull", "Match Group sudo"),
            *("Match Group *,!sudo", "Match User * Group guests", "Match all", f"Match Address {REMOTE}/32"),
            *("Match Address 10.0.0.0/8", "Match User t*,!tern", 'Match Group "sudo"', "Match LocalPort 22"),
        ]
    ),
    max_size=8,
)
LISTS = ("allowusers", "denyusers", "allowgroups", "denygroups")
ANSWERS = ("passwordauthentication", "permitrootlogin", "permitemptypasswords", "pubkeyauthentication")


def _sshd(root: PrivateRoot, account: str) -> dict[str, list[str]]:
    """What the server itself says of somebody who comes from another computer."""
    (root.path / "run/sshd").mkdir(exist_ok=True)
    who = f"user={account},host={REMOTE},addr={REMOTE},laddr=192.0.2.1,lport=2222"
    ended = root.inside("sshd", "-T", "-C", who)
    assert ended.returncode == 0, ended.stderr
    found: dict[str, list[str]] = {}
    for line in ended.stdout.splitlines():
        key, _, value = line.partition(" ")
        found.setdefault(key, []).append(value)
    return found


@pytest.mark.real_root
def test_the_remote_shell_server_is_read_as_it_reads_itself(desktop: PrivateRoot) -> None:
    people = {a.name: a.groups for a in open_machine(str(desktop.path)).observe().accounts if a.name in PEOPLE}

    @examples(40)
    @given(lines=SSHD, included=SSHD)
    def check(lines: list[str], included: list[str]) -> None:
        desktop.write("/etc/ssh/sshd_config", "Include /etc/ssh/sshd_config.d/*.conf\n" + "\n".join([*lines, ""]))
        desktop.write("/etc/ssh/sshd_config.d/50-site.conf", "\n".join([*included, ""]))
        general, special = shells(Root(desktop.path), list(people.items()))
        for name in people:
            mine = next((shell for shell, names in special if name in names), general)
            theirs = _sshd(desktop, name)
            for key in LISTS:
                assert sorted(w for w, _ in mine.names(key)) == sorted(theirs.get(key, [])), (name, key)
            for key in ANSWERS:
                message, _ = mine.setting(
                    key, {"permitrootlogin": "prohibit-password"}.get(key, "no" if "empty" in key else "yes")
                )
                same = {"without-password": "prohibit-password"}.get(theirs[key][0], theirs[key][0])
                assert message == same, (name, key)

    check()


SEAT_LINES = st.lists(
    st.sampled_from(
        [
            *("[Seat:*]", "[SeatDefaults]", "[Seat:seat0]", "[LightDM]", "autologin-user=tern", "autologin-user=gull"),
            *("autologin-user=", "#autologin-user=warden", " autologin-user = daypass ", "greeter-hide-users=false"),
            *("", "autologin-user-timeout=30"),
        ]
    ),
    max_size=7,
)


@pytest.mark.real_root
def test_the_sign_in_screen_s_files_are_merged_as_it_merges_them(desktop: PrivateRoot) -> None:
    @examples(30)
    @given(SEAT_LINES, SEAT_LINES, SEAT_LINES)
    def check(vendor: list[str], own: list[str], main: list[str]) -> None:
        files = {
            "/usr/share/lightdm/lightdm.conf.d/50-a.conf": vendor,
            "/etc/lightdm/lightdm.conf.d/10-b.conf": own,
            "/etc/lightdm/lightdm.conf": main,
        }
        for file, lines in files.items():
            desktop.write(file, "\n".join(["[Seat:*]", *lines, ""]))
        ended = desktop.inside("lightdm", "--show-config")
        section, theirs = "", {}
        for line in (ended.stdout + ended.stderr).splitlines():
            text = line[3:].strip()
            if text.startswith("["):
                section = text.strip("[]")
            elif "=" in text and section in ("Seat:*", "Seat:seat0", "SeatDefaults"):
                key, _, value = text.partition("=")
                theirs[section, key] = value
        mine = {key: entry.value for key, entry in of_seat(Root(desktop.path)).items()}
        for key in ("autologin-user", "greeter-hide-users"):
            sections = [s for s in ("Seat:*", "SeatDefaults", "Seat:seat0") if (s, key) in theirs]
            if len(sections) == 1:
                assert mine[key] == theirs[sections[0], key]
            assert (key in mine) is bool(sections)

    check()


@pytest.mark.real_root
def test_who_is_denied_is_not_signed_in_automatically_either(desktop: PrivateRoot, verrou: Verrou) -> None:
    desktop.write("/etc/lightdm/lightdm.conf", "[Seat:*]\nautologin-user=gull\n")
    why = ("why", "gull", "console", "-m", desktop.path, "--format", "json")
    asked = ("pamtester", "-I", "tty=:0", "lightdm-autologin", "gull", "acct_mgmt")
    assert verrou.json(*why)["answer"] == "yes" and desktop.inside(*asked).returncode == 0
    verrou("rule", "set", "logon.console.denied=gull", "-m", desktop.path, "--yes")
    output = verrou.json(*why)
    assert output["answer"] == "no" and desktop.inside(*asked).returncode != 0
    assert output["chain"][0]["source"]["place"] == "/etc/security/verrou-console.conf"
    verrou("undo", "-m", desktop.path, "--yes")
    whole = desktop.read("/etc/pam.d/lightdm-autologin")
    desktop.write("/etc/pam.d/lightdm-autologin", f"auth required pam_deny.so\n{whole}")
    assert desktop.inside(*asked[:-1], "authenticate").returncode != 0 and desktop.inside(*asked).returncode == 0
    rows = verrou.json("access", "gull", *why[3:])
    assert rows[0]["routes"]["console"] == "password", (
        "this screen goes through all of its stack, and nobody is in by it"
    )
    desktop.write("/etc/pam.d/lightdm-autologin", whole)
    found = verrou.json("rule", "show", "screen.automatic_signin", *why[3:])
    assert found["screen.automatic_signin"]["value"] == {"word": "anyone"}, "what is set there is still told"
    verrou("rule", "set", "screen.automatic_signin=nobody", "-m", desktop.path, "--yes")
    assert "autologin-user=gull" not in desktop.inside("lightdm", "--show-config").stderr


UNASKED = {
    "/etc/lightdm/lightdm.conf": ("[Seat:*]\nautologin-user=tern\n", "usr/sbin/lightdm"),
    "/etc/gdm3/daemon.conf": ("[daemon]\nAutomaticLoginEnable=true\nAutomaticLogin=tern\n", "usr/sbin/gdm3"),
    "/etc/sddm.conf": ("[Autologin]\nUser=tern\nSession=plasma\n", "usr/bin/sddm"),
    "/etc/lxdm/lxdm.conf": ("[base]\nautologin=tern\n", "usr/sbin/lxdm"),
    "/etc/greetd/config.toml": ('[initial_session]\nuser = "tern"\ncommand = "sway"\n', "usr/sbin/greetd"),
    "/etc/slim.conf": ("auto_login yes\ndefault_user tern\n", "usr/bin/slim"),
    "/etc/default/nodm": ("NODM_ENABLED=true\nNODM_USER=tern\n", "usr/sbin/nodm"),
    "/etc/systemd/system/getty@tty1.service.d/own.conf": (
        *("[Service]\nExecStart=\nExecStart=-/sbin/agetty --noclear -atern - $TERM\n", "sbin/agetty"),
    ),
    "/etc/inittab": ("1:2345:respawn:/sbin/agetty --autologin tern 38400 tty1\n", "sbin/agetty"),
}


@pytest.mark.parametrize("file", list(UNASKED))
def test_anyone_who_is_signed_in_automatically_is_found_with_its_line(tmp_path: Path, file: str) -> None:
    text, program = UNASKED[file]
    for name, content in ((file.lstrip("/"), text), (program, "")):
        place = tmp_path / name
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(content)
    found = automatic_accounts(Root(tmp_path))
    assert [(each.account, each.source.place) for each in found] == [("tern", file)]
    (tmp_path / file.lstrip("/")).write_text("\n".join(f"#{line}" for line in text.splitlines()))
    assert automatic_accounts(Root(tmp_path)) == []


AGETTY = {
    "--autologin tern": "tern",
    "--auto=tern --noclear": "tern",
    "-o '-p -- \\\\u' --autologin tern": None,  # agetty tells login no -f then: it asks
    "-o '-p -f -- \\\\u' --autologin tern": "tern",
    "-o '-p -f tern'": "tern",
    "-o '-p -f -- \\\\u'": "",
    "-o '-p -- \\\\u' --noclear": None,
    "-n -o '-f tern'": "tern",
    "--skip-login --login-options '-f tern'": "tern",
    "-n -l /bin/bash": "root",
    "-n": None,
}


@pytest.mark.parametrize("options", list(AGETTY))
def test_what_agetty_shows_login_decides_who_is_asked(tmp_path: Path, options: str) -> None:
    """Each held against agetty(8) and a login that shows what it is told."""
    own = tmp_path / "etc/systemd/system/getty@tty1.service.d/own.conf"
    own.parent.mkdir(parents=True)
    own.write_text(f"[Service]\nExecStart=\nExecStart=-/sbin/agetty {options} - $TERM\n")
    found = [each.account for each in automatic_accounts(Root(tmp_path))]
    assert found == ([] if AGETTY[options] is None else [AGETTY[options]])


UNITS = {
    "ExecStart=/bin/login -f tern\nStandardInput=tty\n": ["tern"],
    "ExecStart=/usr/bin/cage -- kiosk\nUser=tern\nPAMName=login\nTTYPath=/dev/tty7\n": ["tern"],
    "ExecStart=-/bin/bash\nUser=tern\nStandardInput=tty\n": ["tern"],
    "ExecStart=-/bin/sh -i\nStandardInput=tty-force\n": ["root"],
    "ExecStart=-/usr/sbin/sulogin\nEnvironment=SYSTEMD_SULOGIN_FORCE=1\n": ["root"],
    "ExecStart=/usr/bin/recorder\nUser=tern\n": [],
    "ExecStart=/usr/bin/cage kiosk\nUser=1000\nPAMName=login\nTTYPath=/dev/tty7\n": ["tern"],
    "ExecStart=/usr/bin/cage kiosk\nUser=%j\nPAMName=login\nTTYPath=/dev/tty7\n": ["?"],
    "ExecStart=/usr/bin/kiosk\nUser=tern\nStandardInput=tty\n": ["tern?"],
    "ExecStart=/sbin/sulogin -e\nStandardInput=tty\n": ["root"],
    "ExecStart=-/sbin/sulogin\nStandardInput=tty\n": [],
    "ExecStart=systemd-firstboot --prompt\nStandardInput=tty\n": [],
}
KERNELS = {
    ("proc/cmdline", "ro quiet systemd.debug-shell"): ["root"],
    ("proc/cmdline", "systemd.debug_shell=tty4 splash"): ["root"],
    ("proc/cmdline", "systemd.debug-shell=0"): [],
    ("boot/grub/grub.cfg", "menuentry 'x' {\n\tlinux /vmlinuz root=/dev/sda1 init=/bin/bash\n}"): ["root"],
    ("boot/grub/grub.cfg", "# linux /vmlinuz init=/bin/bash\nlinux /vmlinuz init=/lib/systemd/systemd"): [],
    ("boot/loader/entries/a.conf", "title x\noptions quiet init=/opt/kiosk"): ["root?"],
    ("etc/kernel/cmdline", "systemd.setenv=SYSTEMD_SULOGIN_FORCE=1"): ["root"],
    ("etc/kernel/cmdline", "quiet break=premount"): ["root"],
}


def who_unasked(root: Root) -> list[str]:
    return [each.account + ("" if each.known else "?") for each in automatic_accounts(root)]


@pytest.mark.parametrize(("file", "text"), list(KERNELS))
def test_what_the_kernel_is_reported_may_begin_a_shell_of_root(tmp_path: Path, file: str, text: str) -> None:
    with_files(tmp_path, {file: text + "\n"})
    assert who_unasked(Root(tmp_path, live=True)) == KERNELS[file, text]
    running = file.startswith("proc/")
    assert who_unasked(Root(tmp_path)) == ([] if running else KERNELS[file, text]), "of a disk nothing runs"


STARTS = {
    "etc/rc.local": ("#!/bin/sh\n# openvt -- bash\nopenvt -c 8 -- bash\nexit 0\n", ["root?"]),
    "etc/cron.d/kiosk": ("@reboot root startx\n* * * * * root echo > /dev/console\n", ["root?"]),
    "var/spool/cron/crontabs/root": ("@reboot setsid sh </dev/tty9\n@reboot touch /x\n", ["root?"]),
    "etc/cron.d/count": ("@reboot root /usr/bin/count --login-names\n", []),
}


@pytest.mark.parametrize("file", list(STARTS))
def test_a_command_of_each_start_that_names_a_terminal_is_reported(tmp_path: Path, file: str) -> None:
    text, found = STARTS[file]
    with_files(tmp_path, {file: text})
    assert who_unasked(Root(tmp_path)) == ([] if file == "etc/rc.local" else found), (
        "rc.local is not run without its mode"
    )
    (tmp_path / file).chmod(0o755)
    assert who_unasked(Root(tmp_path)) == found


def test_a_boot_partition_that_is_not_there_is_reported(tmp_path: Path) -> None:
    with_files(tmp_path, {"etc/fstab": "# /boot was on sda1\nUUID=1 / ext4 defaults 0 1\n"})
    assert who_unasked(Root(tmp_path)) == []
    with_files(tmp_path, {"etc/fstab": "UUID=1 / ext4 defaults 0 1\nUUID=2 /boot ext4 defaults 0 2\n"})
    assert who_unasked(Root(tmp_path)) == ["root?"]
    with_files(tmp_path, {"boot/vmlinuz": ""})
    assert who_unasked(Root(tmp_path)) == []


def test_a_screen_that_no_one_knows_and_a_shell_that_asks_no_one_are_reported(tmp_path: Path) -> None:
    with_files(
        tmp_path,
        {
            "etc/passwd": "root:x:0:0::/root:/bin/sh\ntern:x:1000:1000::/home/tern:/bin/sh\n",
            "etc/group": "",
            "etc/shadow": "root:*:::::::\ntern:!:::::::\n",
            "bin/sh": "",
            "lib/systemd/system/ly.service": "",
            "lib/systemd/system/debug-shell.service": "[Service]\nExecStart=/bin/sh\nStandardInput=tty\n",
            "etc/pam.d/login": "auth required pam_unix.so\naccount required pam_unix.so\n",
        },
    )
    (tmp_path / "bin/sh").chmod(0o755)
    units = tmp_path / "etc/systemd/system"
    (units / "sysinit.target.wants").mkdir(parents=True)
    (units / "display-manager.service").symlink_to("/lib/systemd/system/ly.service")
    snapshot = open_machine(str(tmp_path)).observe()
    reading = snapshot.readings["screen.automatic_signin"]
    assert reading.status is Status.UNKNOWN and "ly" in reading.reason
    tern = snapshot.by_name[AccountName("tern")]
    assert routes_unknown(tern, snapshot) == (Route.CONSOLE,) and routes_of(tern, snapshot) == ()
    assert [(each.account, each.known) for each in screens_of(snapshot).automatic] == [("", False)]
    (units / "display-manager.service").unlink()
    (units / "sysinit.target.wants/debug-shell.service").symlink_to("/lib/systemd/system/debug-shell.service")
    snapshot = open_machine(str(tmp_path)).observe()
    output = [(str(a.name), a.enabled, routes_of(a, snapshot)) for a in snapshot.accounts]
    assert output == [("root", False, (Route.CONSOLE,)), ("tern", True, ())], "a shell that asks nobody asks no account"


@pytest.mark.parametrize("text", list(UNITS))
def test_a_unit_that_is_started_signs_in_whom_it_names(tmp_path: Path, text: str) -> None:
    with_files(tmp_path, {"etc/passwd": "tern:x:1000:1000::/home/tern:/bin/sh\n"})
    folder = tmp_path / "etc/systemd/system"
    (folder / "multi-user.target.wants").mkdir(parents=True)
    (folder / "hide.service").write_text(f"[Service]\n{text}")
    assert automatic_accounts(Root(tmp_path)) == [], "nothing starts it"
    (folder / "multi-user.target.wants/hide.service").symlink_to("../hide.service")
    assert who_unasked(Root(tmp_path)) == UNITS[text]
    (tmp_path / "usr/lib/systemd/system").mkdir(parents=True)
    (folder / "hide.service").rename(tmp_path / "usr/lib/systemd/system/hide.service")
    assert who_unasked(Root(tmp_path)) == UNITS[text], "the vendor's"
    generated = tmp_path / "run/systemd/generator.early/hide.service"
    generated.parent.mkdir(parents=True)
    generated.symlink_to("/dev/null")
    assert automatic_accounts(Root(tmp_path, live=True)) == [], "what is generated comes before it"
    assert who_unasked(Root(tmp_path)) == UNITS[text], "and is gone on a disk"
    (folder / "hide.service").symlink_to("/dev/null")
    assert automatic_accounts(Root(tmp_path)) == [], "masked"


def test_of_a_screen_that_may_not_look_at_accounts_a_no_is_not_known(tmp_path: Path) -> None:
    files = {
        "etc/passwd": "root:x:0:0::/root:/bin/sh\ntern:x:1000:1000::/home/tern:/bin/sh\n",
        "etc/shadow": "root:*:20000::::::\ntern:$5$a$b:20000:::::20001:\n",
        "etc/group": "root:x:0:\ntern:x:1000:\n",
        "etc/slim.conf": "auto_login yes\ndefault_user tern\n",
        "etc/pam.d/slim": "auth required pam_unix.so\naccount required pam_unix.so\n",
        "usr/lib/x86_64-linux-gnu/security/pam_unix.so": "",
        "usr/bin/slim": "",
        "bin/sh": "",
    }
    snapshot = open_machine(str(with_programs(with_files(tmp_path, files)))).observe()
    assert routes_unknown(snapshot.by_name[AccountName("tern")], snapshot) == (Route.CONSOLE,), "it has ended"


def test_an_instance_of_a_unit_signs_in_whom_it_is_named_after(tmp_path: Path) -> None:
    unit = "[Service]\nExecStart=/usr/bin/cage kiosk\nUser=%i\nPAMName=login\nStandardInput=tty\n"
    with_files(tmp_path, {"etc/systemd/system/hide@.service": unit})
    wants = tmp_path / "etc/systemd/system/multi-user.target.wants"
    wants.mkdir()
    (wants / "hide@tern.service").symlink_to("../hide@.service")
    assert who_unasked(Root(tmp_path)) == ["tern"]


def test_anyone_who_types_a_name_is_signed_in_by_every_account(desktop: PrivateRoot, verrou: Verrou) -> None:
    own = "/etc/systemd/system/getty@tty1.service.d/own.conf"
    desktop.write(own, "[Service]\nExecStart=\nExecStart=-/sbin/agetty -o '-f -- \\\\u' - $TERM\n")
    output = verrou.json("access", "tern", "-m", desktop.path)
    assert output[0]["routes"]["console"] == "name"
    shown = verrou("rule", "show", "screen.automatic_signin", "-m", desktop.path, "--format", "json").stdout
    found = json.loads(shown)["screen.automatic_signin"]
    assert found["value"] == {"word": "anyone"} and found["source"]["place"] == own


def test_a_default_session_of_greetd_that_is_no_greeter_is_a_session(tmp_path: Path) -> None:
    conf = tmp_path / "etc/greetd/config.toml"
    conf.parent.mkdir(parents=True)
    (tmp_path / "usr/sbin").mkdir(parents=True)
    (tmp_path / "usr/sbin/greetd").touch()
    for command, found in (("agreety --cmd sway", []), ("cage -s -- gtkgreet", []), ("sway", ["tern"])):
        conf.write_text(f'[default_session]\ncommand = "{command}"\nuser = "tern"\n')
        assert [each.account for each in automatic_accounts(Root(tmp_path))] == found
    conf.write_text("[default_session\n")
    assert "is not known" in automatic_accounts(Root(tmp_path))[0].statement


def test_guest_sessions_of_a_display_manager_are_a_way_in_of_no_one_in_particular(tmp_path: Path) -> None:
    root = Root(tmp_path)
    for name in ("usr/sbin/lightdm", "usr/sbin/guest-account"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    conf = tmp_path / "etc/lightdm/lightdm.conf"
    conf.parent.mkdir(parents=True)
    conf.write_text("[Seat:*]\nguest-account-script=guest-account\n")
    assert [each.account for each in automatic_accounts(root)] == [""]
    conf.write_text("[Seat:*]\nguest-account-script=guest-account\nallow-guest=false\n")
    assert automatic_accounts(Root(tmp_path)) == []


KEYS = st.sampled_from(["User", "Session", "a b", "é"])
TEXTS = st.lists(
    st.sampled_from(["[A]", "[B]", "User=x", "User = y", "#User=z", "", "junk", " [A] ", ";x=1", "[", "=\t"])
)


@given(TEXTS, st.sampled_from(["A", "B", "C"]), KEYS, st.none() | st.sampled_from(["", "tern", "a=b"]))
def test_one_key_of_a_file_changes_and_no_other_line(
    lines: list[str], section: str, key: str, value: str | None
) -> None:
    text = "\n".join(lines)
    after = with_entry(text, section, key, value)
    found = [e.value for e in entries("", after.split("\n")) if (e.section, e.key) == (section, key)]
    assert set(found) == ({value} if value is not None else set())

    def others(whole: str) -> list[tuple[str, str, str]]:
        every = entries("", whole.split("\n"))
        return [(e.section, e.key, e.value) for e in every if (e.section, e.key) != (section, key)]

    assert others(after) == others(text)


NAMES = st.lists(st.sampled_from(["tern", "group:sudo", 'a"b', "x\\y", "group:a b", "everyone"]), unique=True)


@given(st.dictionaries(st.sampled_from(["rights.shut_down", "rights.set_clock"]), NAMES), NAMES, st.booleans())
def test_our_own_rules_of_polkit_are_read_only_as_we_would_write_them(
    grants: dict[str, list[str]], covered: list[str], limited: bool
) -> None:
    actions = {"rights.shut_down": ("a.b",), "rights.set_clock": ("c.d", "e.f"), "removable": ("g.h",)}
    mine = Ours({name: tuple(who) for name, who in grants.items()}, ("removable",) * limited, tuple(covered))
    text = rendered(mine, actions, ["sudo"])
    assert parsed(text) == mine
    former = rendered(evolve(mine, limits=("stick",) * limited), {**actions, "stick": ("g.h",)}, ["sudo"])
    former = former.replace(HEADING.strip(), FORMER_HEADING).replace('"everyone"', '"everybody"')
    assert parsed(former) == mine, "as version 0.1 wrote it"
    program = text.index("\n", text.index("\n") + 1)
    for at in (0, *range(program, len(text), 5)):
        assert parsed(text[:at] + "x" + text[at:]) is None, "one sign more is another program"


def test_a_screen_locker_that_people_set_themselves_is_not_known_to_lock(tmp_path: Path) -> None:
    with_files(
        tmp_path,
        {
            "etc/passwd": "",
            "etc/group": "",
            "etc/shadow": "",
            "usr/bin/dconf": "",
            "usr/sbin/gdm3": "",
            "etc/pam.d/gdm-password": "auth required pam_unix.so\n",
            "etc/profile.d/x.sh": "TMOUT=300\n",
            "etc/dconf/profile/user": "user-db:user\nsystem-db:site\n",
            "etc/dconf/db/site.d/10-idle": "[org/gnome/desktop/session]\nidle-delay=uint32 120\n"
            "[org/gnome/desktop/screensaver]\nlock-enabled=true\nlock-delay=uint32 30\n",
        },
    )

    def reading() -> tuple[str, Value | None]:
        found = open_machine(str(tmp_path)).observe().readings["screen.locks_after"]
        return str(found.status), found.value

    assert reading() == ("unknown", None), "which locker there is, nobody knows"
    (tmp_path / "usr/bin/gnome-shell").touch()
    assert reading() == ("read", "never"), "anybody may set another"
    locks = tmp_path / "etc/dconf/db/site.d/locks/10-idle"
    locks.parent.mkdir()
    locks.write_text(f"{IDLE}\n/org/gnome/desktop/screensaver/lock-enabled\n# x\n")
    assert reading() == ("read", "never"), "how long the locker waits is still anybody's own"
    locks.write_text(locks.read_text() + "/org/gnome/desktop/screensaver/lock-delay\n")
    assert reading() == ("read", timedelta(minutes=5)), "the weaker of shell and screen locker"
    (tmp_path / "etc/dconf/db/site.d/10-idle").write_text(
        "[org/gnome/desktop/session]\nidle-delay=uint32 0\n"
        "[org/gnome/desktop/screensaver]\nlock-enabled=true\nlock-delay=uint32 30\n"
    )
    assert reading() == ("read", "never")


def test_a_condition_around_an_idle_time_is_not_taken_for_one(tmp_path: Path, verrou: Verrou) -> None:
    files = {"etc/passwd": "", "etc/shadow": "", "etc/group": "", "etc/profile.d/x.sh": "if a; then TMOUT=60; fi\n"}
    with_files(tmp_path / "r", files)
    show = ("rule", "show", "screen.locks_after", "-m", tmp_path / "r", "--format", "json")
    assert verrou.json(*show)["screen.locks_after"]["status"] == "unknown"
    (tmp_path / "r/etc/profile.d/x.sh").write_text("export TMOUT=60\nreadonly TMOUT\n")
    assert verrou.json(*show)["screen.locks_after"]["value"] == {"duration": "PT1M"}


def test_accounts_that_another_program_keeps_are_reported_with_their_line(
    tmp_path: Path, verrou: Verrou, monkeypatch: pytest.MonkeyPatch
) -> None:
    etc = tmp_path / "r/etc"
    (etc / "pam.d").mkdir(parents=True)
    for name in ("passwd", "shadow", "group", "pam.d/login"):
        (etc / name).write_text("")
    show = ("rule", "show", "population.linked_identities", "-m", tmp_path / "r", "--format", "json")
    rule = "population.linked_identities"
    (etc / "nsswitch.conf").write_text("passwd: files systemd [NOTFOUND=return]\n")
    assert verrou.json(*show)[rule]["value"] == {"word": "forbidden"}
    (etc / "pam.d/login").write_text("auth sufficient pam_ldap.so\n")
    found = verrou.json(*show)[rule]
    assert (found["value"], found["source"]["place"]) == ({"word": "allowed"}, "/etc/pam.d/login")
    (etc / "nsswitch.conf").write_text("# sss\npasswd: files sss\n")
    found = verrou.json(*show)[rule]
    assert (found["source"]["line"], found["source"]["text"]) == (2, "passwd: files sss")
    assert "manually" in verrou("rule", "set", f"{rule}=forbidden", "-m", tmp_path / "r", "--yes", code=2).stderr

    entry = pwd.struct_passwd(("puffin", "x", 70001, 70001, "Petra Puffin,,", "/home/puffin", "/bin/sh"))
    monkeypatch.setattr(pwd, "getpwall", lambda: [pwd.getpwuid(0), entry])
    listed = list(outside_accounts(Root(tmp_path / "r", live=True), {"root"}))
    assert [(a.name, a.linked_identity, a.full_name) for a in listed] == [("puffin", "sss", "Petra Puffin")]
    assert list(outside_accounts(Root(tmp_path / "r", live=False), {"root"})) == [], "a disk lists nobody else's"


@pytest.mark.real_root
def test_what_is_written_about_an_account_follows_it_and_goes_with_it(desktop: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", desktop.path, "--yes")
    rules = ("logon.console.denied=gull,tern", "rights.set_clock=gull", "screen.hidden_accounts=gull")
    verrou("rule", "set", *rules, *m)
    verrou("account", "rename", "gull", "puffin", *m)
    assert not admits(desktop, "login", "puffin") and not admits(desktop, "lightdm", "tern")
    show = ("rule", "show", "rights.set_clock", "screen.hidden_accounts", "-m", desktop.path, "--format", "json")
    found = verrou.json(*show)
    assert {str(reading["value"]) for reading in found.values()} == {"{'names': ['puffin']}"}
    verrou("account", "remove", "puffin", "--files", "delete", *m)
    verrou("account", "add", "puffin", "--keep-password", *TYPED, *m[:2], typed=GOOD_PASSWORD + "\n")
    assert admits(desktop, "login", "puffin"), "who comes later under the name is somebody else"
    assert "puffin" not in desktop.read("/etc/polkit-1/rules.d/10-verrou.rules")


@pytest.mark.real_root
def test_the_routes_of_a_baseline_s_accounts_are_closed_for_real(
    desktop: PrivateRoot, tmp_path: Path, verrou: Verrou
) -> None:
    baseline = tmp_path / "b.toml"
    routes = '[accounts.{}]\nrole = "standard"\npassword = "keep"\nroutes = ["{}"]\n'
    baseline.write_text(titled(routes.format("tern", "console") + routes.format("gull", "remote-shell")))
    verrou("harden", "-b", baseline, "-m", desktop.path, "--yes")
    seen = {name: [s for s in WAYS if admits(desktop, s, name)] for name in ("tern", "gull", "warden")}
    assert seen == {"tern": ["login", "lightdm"], "gull": ["sshd"], "warden": ["login", "lightdm", "sshd"]}
    verrou("audit", "-b", baseline, "-m", desktop.path)


SCREENS = {
    "usr/sbin/gdm3": ("etc/gdm3/daemon.conf", "[daemon]\nAutomaticLoginEnable=true\nAutomaticLogin=tern\n"),
    "usr/bin/sddm": ("etc/sddm.conf", "[Autologin]\nUser=tern\n[Users]\nRememberLastUser=true\nHideUsers=gull\n"),
    "usr/sbin/lightdm": ("etc/lightdm/lightdm.conf", "[Seat:*]\nautologin-user=tern\ngreeter-hide-users=false\n"),
}


@pytest.mark.parametrize("program", list(SCREENS))
def test_each_sign_in_screen_is_set_where_it_is_decided(tmp_path: Path, program: str) -> None:
    """On a tree with a screen's files, its keepers write and read back; comments and other keys stay."""
    file, text = SCREENS[program]
    passwd = "root:x:0:0::/root:/bin/sh\n" + "".join(
        f"{name}:x:{uid}:{uid}::/home/{name}:/bin/sh\n" for uid, name in ((1000, "tern"), (1001, "gull"))
    )
    files = {
        program: "",
        file: f"# ours\n{text}",
        "etc/passwd": passwd,
        "etc/group": "",
        "etc/shadow": "tern:!::::::: \n",
    }
    with_files(tmp_path, files)

    def read(rule_id: str) -> object:
        return open_machine(str(tmp_path)).observe().readings[f"screen.{rule_id}"].value

    def write(rule_id: str, value: Value) -> None:
        ADAPTERS[f"screen.{rule_id}"].write(Root(tmp_path), value)

    assert read("automatic_signin") == "anyone"
    write("automatic_signin", "nobody")
    assert read("automatic_signin") == "nobody" and (tmp_path / file).read_text().startswith("# ours\n")
    if program != "usr/bin/sddm":
        write("hidden_accounts", frozenset({"everyone"}))
        assert read("hidden_accounts") == frozenset({"everyone"})
        write("hidden_accounts", frozenset())
    if program != "usr/sbin/gdm3":
        write("hidden_accounts", frozenset({"tern"}))
        assert read("hidden_accounts") == frozenset({"tern"})
    if program == "usr/bin/sddm":
        write("shows_last_account", False)
        assert read("shows_last_account") is False
    if program == "usr/sbin/gdm3":
        write("notice", Notice("Cap Fauvel", "Quiet."))
        write("shut_down_button", False)
        kept = (tmp_path / "etc/gdm3/greeter.dconf-defaults").read_text()
        assert "banner-message-enable=true" in kept and "disable-restart-buttons=true" in kept
        assert read("shut_down_button") is False and read("notice") == Notice("Cap Fauvel", "Quiet.")


CIRCLES = st.builds(
    Principals,
    st.lists(st.sampled_from(["tern", "gull", "skua"]), max_size=2).map(tuple),
    st.lists(st.sampled_from(["ringers", "guests"]), max_size=1).map(tuple),
) | st.just(EVERYONE)
PASSES = st.lists(
    st.builds(AccessListEntry, st.booleans(), st.lists(CIRCLES, min_size=1, max_size=3).map(tuple)), max_size=4
)
FOUR = [
    Account(name, str(number), groups=groups)
    for number, (name, groups) in enumerate(
        (("tern", ("ringers",)), ("gull", ("guests",)), ("skua", ()), ("puffin", ("ringers", "guests")))
    )
]


@examples(300)
@given(PASSES, PASSES)
def test_two_lists_show_what_an_entry_point_s_lines_result_in(
    entries: list[AccessListEntry], also: list[AccessListEntry]
) -> None:
    entry_point = EntryPoint(Route.CONSOLE, tuple(entries), also=(tuple(also),))
    found = lists_of(Route.CONSOLE, [entry_point], FOUR)
    assert found is not None

    def listed(account: Account, names: frozenset[str]) -> bool:
        return bool(names & {"everyone", account.name, *(f"group:{group}" for group in account.groups)})

    for account in FOUR:
        output = listed(account, found.allowed) and not listed(account, found.denied)
        assert output is entry_point.admits(account), (account.name, found)
