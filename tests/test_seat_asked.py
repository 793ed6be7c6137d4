"""Generated settings of a real Debian with a sign-in screen, read by us and asked of what decides: PAM for each
account, service and origin, sudo, the shell, and polkit."""

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import FACTOR, GOOD_PASSWORD, Verrou, do, examples, with_files
from debian_root import PrivateRoot
from test_not_known import KEY
from test_seat_linux import ORIGINS, PEOPLE, WAYS, admits, polkit_says
from verrou.cli.baseline_files import INCLUDED_BASELINES
from verrou.core.model import AccountName
from verrou.core.model.access import accepted_credential, routes_now
from verrou.core.model.elevation import PromptOutcome, elevation_outcome
from verrou.core.model.reasons import why, why_administrator
from verrou.core.model.routes import Route
from verrou.core.planning.change_plan import rule_steps
from verrou.core.rules import CATALOGUE
from verrou.core.rules.elevation import GIVES
from verrou.core.values import Value
from verrou.machines.changes import Outcome
from verrou.machines.linux.copy.private_copy import private_copy
from verrou.machines.linux.copy.requests import AskPolkit, Person
from verrou.machines.linux.elevation import polkit, polkit_query
from verrou.machines.linux.elevation.polkit import implied_by, rules_of
from verrou.machines.linux.elevation.polkit_actions import EXEC
from verrou.machines.linux.elevation.polkit_rules import Rule, Subject, answer
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable
from verrou.machines.registry import open_machine

NAMES = st.frozensets(
    st.sampled_from(["tern", "gull", "daypass", "warden", "group:sudo", "group:guests", "group:gull"]), max_size=3
)
LISTS = NAMES | st.just(frozenset({"everyone"}))


@pytest.mark.real_root
def test_pam_admits_per_service_and_origin_whom_the_lists_say(desktop: PrivateRoot) -> None:
    """Any lists for the console and the remote shell: each cell of accounts by services is asked of PAM."""
    machine = open_machine(str(desktop.path))

    @examples(3)
    @given(LISTS, NAMES, LISTS, NAMES)
    def check(inside: Value, outside: Value, allowed: Value, denied: Value) -> None:
        required = {
            "logon.console.allowed": inside,
            "logon.console.denied": outside,
            "logon.remote-shell.allowed": allowed,
            "logon.remote-shell.denied": denied,
        }
        results = do(machine, *rule_steps(machine.observe(), dict(required)))
        assert {result.outcome for result in results} <= {Outcome.DONE, Outcome.UNCHANGED}, results
        snapshot = machine.observe()
        for rule_id, value in required.items():
            stands = snapshot.readings[rule_id].value
            assert stands is not None and CATALOGUE[rule_id].kind.at_least(stands, value), rule_id
        for name in PEOPLE:
            account = next(a for a in snapshot.accounts if a.name == name)
            for service in ORIGINS:
                through = [
                    accepted_credential(account, entry_point, snapshot) is not None
                    for entry_point in snapshot.entry_points
                    if service in entry_point.services
                ]
                assert admits(desktop, service, name) is any(through), (service, name, required)
            for route in Route:
                output = why(account, route, snapshot)
                assert output.yes is (route in routes_now(account, snapshot))
                assert all(reason.source is not None or not output.yes for reason in output.chain)

    check()


SUDO_LINES = st.lists(
    st.sampled_from(
        [
            *("Defaults timestamp_timeout=0", "Defaults timestamp_timeout=2.5", "Defaults:warden timestamp_timeout=30"),
            *("Defaults !timestamp_timeout", "Defaults passwd_timeout=1", "Defaults:%sudo passwd_timeout=0"),
            *("Defaults:tern timestamp_timeout=99", "Defaults !authenticate", "Defaults authenticate"),
            *("warden ALL=(ALL) NOPASSWD: ALL", "%sudo ALL=(ALL:ALL) PASSWD: ALL", "Defaults:warden !authenticate"),
        ]
    ),
    max_size=5,
)


@pytest.mark.real_root
def test_sudo_s_times_and_whether_it_asks_are_read_as_sudo_has_them(desktop: PrivateRoot) -> None:
    machine = open_machine(str(desktop.path))

    @examples(15)
    @given(SUDO_LINES)
    def check(lines: list[str]) -> None:
        desktop.write("/etc/sudoers.d/site", "\n".join([*lines, ""]))
        snapshot = machine.observe()
        output = desktop.inside("sudo", "-l", "-U", "warden").stdout
        message = re.findall(r"!?timestamp_timeout(?:=([\d.]+))?", " ".join(output.split()))
        minutes = float(message[-1] or 0) if message else 15.0
        value = snapshot.readings["elevation.remembered_for"].value
        general = [line for line in lines if line.startswith("Defaults ") and "timestamp_timeout" in line]
        others = 15.0 if not general else float((re.findall(r"[\d.]+$", general[-1]) or ["0"])[0])
        longest = max(minutes, others)
        seconds = 0.0 if value == "never" else value.total_seconds()  # type: ignore[union-attr]
        assert seconds == longest * 60, (lines, output)
        asks_nothing = desktop.inside("sudo", "-k", "-n", "true", user="warden").returncode == 0
        warden = next(account for account in snapshot.accounts if account.name == "warden")
        assert (elevation_outcome(warden, snapshot) is PromptOutcome.NO_PROMPT) is asks_nothing, lines
        assert (snapshot.readings["elevation.administrator"].value == GIVES.uniform("nothing")) is asks_nothing
        assert why_administrator(warden, snapshot).yes

    check()


SHELL_LINES = st.lists(
    st.sampled_from(
        [
            *("TMOUT=60", "export TMOUT=300", "TMOUT=0", "readonly TMOUT", "export TMOUT", "# TMOUT=1", "umask 022"),
            "TMOUT=45 # x",
        ]
    ),
    max_size=4,
).filter(
    lambda lines: "readonly TMOUT" not in lines or not any("=" in x for x in lines[lines.index("readonly TMOUT") :])
)


@pytest.mark.real_root
def test_the_idle_time_of_a_shell_is_what_the_shell_says(root: PrivateRoot) -> None:
    machine = open_machine(str(root.path))

    @examples(15)
    @given(SHELL_LINES)
    def check(lines: list[str]) -> None:
        root.write("/etc/profile.d/site.sh", "\n".join([*lines, ""]))
        theirs = root.inside("bash", "-lc", "echo ${TMOUT:-0}").stdout.strip()
        value = machine.observe().readings["screen.locks_after"].value
        mine = "0" if value == "never" else str(int(value.total_seconds()))  # type: ignore[union-attr]
        assert mine == theirs, lines

    check()


LOGIN = "org.freedesktop.login1"
ACTIONS = (f"{LOGIN}.reboot", "org.freedesktop.timedate1.set-time", "org.freedesktop.systemd1.manage-units")
CONDITIONS = st.recursive(
    st.sampled_from(
        [
            *(f'action.id == "{action}"' for action in ACTIONS),
            *("subject.user === 'tern'", 'subject.isInGroup("sudo")', "true", "false", "action.id == 'a\tb'"),
            *('action.id.indexOf("org.freedesktop.login1") == 0', f'["{ACTIONS[1]}"].indexOf(action.id) >= 0'),
            *('subject.user.indexOf("ul") >= 0', 'action.id.startsWith("org.freedesktop.t")', "action.id !== 'x'"),
        ]
    ),
    lambda inner: (
        st.builds("({} && {})".format, inner, inner)
        | st.builds("({} || {})".format, inner, inner)
        | st.builds("!({})".format, inner)
    ),
    max_leaves=4,
)
ANSWER = st.sampled_from(["polkit.Result.YES", '"no"', "polkit.Result.AUTH_ADMIN", "polkit.Result.AUTH_ADMIN_KEEP"])
STATEMENTS = (
    st.builds("if ({}) {{ return {}; }}".format, CONDITIONS, ANSWER)
    | st.builds("if ({}) return {}; else {{ if ({}) return {} }}".format, CONDITIONS, ANSWER, CONDITIONS, ANSWER)
    | st.builds("if ({}) return {} ? {} : {};".format, CONDITIONS, CONDITIONS, ANSWER, ANSWER)
)
RULES = st.lists(
    st.lists(STATEMENTS, min_size=1, max_size=2).map(
        lambda lines: "polkit.addRule(function(action, subject) {\n" + "\n".join(lines) + " // why\n});\n"
    ),
    min_size=1,
    max_size=3,
)


@pytest.mark.real_root
def test_plain_rules_of_polkit_are_read_as_polkit_reads_them(desktop: PrivateRoot) -> None:
    implied = implied_by(Root(desktop.path))

    def output(rules: list[Rule], action: str, who: Subject) -> str:
        """Without an answer each asks who sits nowhere for an administrator, as it is shipped."""
        if any(output(rules, each, who) == "yes" for each in implied.get(action, ())):
            return "yes"
        return answer(rules, action, who) or "auth_admin"

    @examples(4)
    @example(
        [
            "polkit.addRule(function(a, s) { if (a.id == 'org.freedesktop.systemd1.manage-unit-files') "
            "return 'yes'; if (a.id == 'org.freedesktop.systemd1.manage-units') return 'no'; });"
        ]
    )
    @given(RULES)
    def check(rules: list[str]) -> None:
        desktop.write("/etc/polkit-1/rules.d/05-local.rules", "".join(rules))
        found, strange = rules_of(Root(desktop.path))
        assert not strange, "each of these is plain"
        people = {account.name: account.groups for account in open_machine(str(desktop.path)).observe().accounts}
        for name in ("tern", "gull", "warden"):
            codes = polkit_says(desktop, name, *ACTIONS)
            who = Subject(name, people[AccountName(name)])
            message = [output(found, action, who) for action in ACTIONS]
            assert [{"yes": 0, "no": 1}.get(each, 2) for each in message] == codes, (name, message)

    check()


EVERY_KIND = {
    "blank": ("passwd", "-d", "blank"),
    "locked": ("usermod", "-L", "locked"),
    "ended": ("chage", "-E", "2020-01-01", "ended"),
    "shellless": ("usermod", "-s", "/usr/sbin/nologin", "shellless"),
    "due": ("chage", "-d", "0", "due"),
}
"""Accounts beside the usual ones, each with a password and a key, and what was done to it."""


def opened_by(root: PrivateRoot, service: str, name: str, shell: Mapping[str, str]) -> str | None:
    """What opens a service to an account, as PAM, the settings of the remote shell server and the shell decide."""
    if re.search(f"^{name}:.*nologin$", root.read("/etc/passwd"), re.M):
        return None
    blank = f"{name}::" in root.read("/etc/shadow")
    words = ("pamtester", "-I", "=".join(ORIGINS[service]), service, name)
    typed = "\n" if blank else f"{GOOD_PASSWORD}\n"
    if service != "sshd" or shell["permitemptypasswords" if blank else "passwordauthentication"] == "yes":
        done = root.inside(*words, "authenticate", "acct_mgmt", typed=typed)
        if done.returncode == 0 or "new one required" in done.stdout + done.stderr:
            return "blank" if blank else "password"
    has_key = (root.path / f"home/{name}/.ssh/authorized_keys").exists()
    return "key" if service == "sshd" and has_key and root.inside(*words, "acct_mgmt").returncode == 0 else None


@pytest.mark.real_root
def test_each_included_baseline_closes_what_it_asks_for_and_is_undone(desktop: PrivateRoot, verrou: Verrou) -> None:
    """Before it, with it and after going back: who gets in by what, and who administers, in every cell. What is not met
    is told, and was known beforehand. Two of them every day, and all where it is searched longer."""
    m = ("-m", desktop.path)
    for name, command in EVERY_KIND.items():
        desktop.inside("useradd", "-m", "-s", "/bin/bash", name)
        desktop.inside("chpasswd", typed=f"{name}:{GOOD_PASSWORD}\n")
        desktop.write(f"/home/{name}/.ssh/authorized_keys", KEY)
        desktop.inside("chown", "-R", f"{name}:", f"/home/{name}/.ssh")
        assert desktop.inside(*command).returncode == 0
    desktop.inside("mkdir", "-p", "/run/sshd")
    (desktop.path / "var/log/lastlog").touch()
    desktop.write("/usr/bin/gnome-screensaver", "")  # what locks an idle screen

    def table() -> list[dict[str, Any]]:
        rows = verrou.json("access", "--all", "--ask-system", *m)
        shell = dict(line.split(" ", 1) for line in desktop.inside("/usr/sbin/sshd", "-T").stdout.splitlines())
        for row in rows:
            name = row["account"]
            if name in {*PEOPLE, *EVERY_KIND}:
                output = {service: row["routes"][route] for service, route in WAYS.items()}
                assert output == {service: opened_by(desktop, service, name, shell) for service in WAYS}, name
                everything = "ALL) ALL" in desktop.inside("sudo", "-l", "-U", name).stdout
                assert everything is (row["role"] == "administrator"), name
        return list(rows)

    table()
    before = desktop.tree()
    for baseline in INCLUDED_BASELINES[-2 * FACTOR :]:
        strictest = baseline == "public-terminal"
        as_if = ("access", "--all", *m, "--as", baseline, "--format", "json")
        predicted = verrou.json(*as_if) if strictest else []
        verrou("harden", "-b", baseline, *m, "--yes", code=1)
        audit = verrou.json("audit", "-b", baseline, *m, code=1)
        left = {f["subject"]: f["verdict"] for f in audit["findings"] if f["verdict"] in ("not-met", "unknown")}
        assert left.pop("screen.shows_last_account", "unknown") == "unknown", "lightdm keeps no setting for it"
        assert set(left) <= {"population.unused_for", "population.blank_passwords"}, (baseline, left)
        hardened = table()
        assert hardened == predicted or not strictest, "as the dry run showed"
        verrou("undo", *m, "--yes")
        after = desktop.tree()
        assert after == before | {"var/log/lastlog": after["var/log/lastlog"]}, baseline


@pytest.mark.real_root
def test_the_private_copy_asks_polkit_and_leaves_nothing(desktop: PrivateRoot, verrou: Verrou) -> None:
    """A rule that never ends is given up; nothing of it runs on, and the reading tells what is shipped."""
    endless = "polkit.addRule(function(action, subject) { while (true) {} });\n"
    desktop.write("/etc/polkit-1/rules.d/05-local.rules", endless)
    before = desktop.tree()
    show = ("rule", "show", "rights.shut_down", "-m", desktop.path, "--ask-system", "--format", "json")
    reading = verrou.json(*show)["rights.shut_down"]
    assert reading["status"] == "unknown" and "by default yes" in reading["reason"]
    assert "polkit did not answer within" in reading["reason"]
    assert desktop.tree() == before and list((desktop.path / "run").iterdir()) == []


A_BUS = """\
#!/usr/bin/perl
use Socket;
mkdir "/run/dbus"; socket(S, PF_UNIX, SOCK_STREAM, 0);
bind(S, sockaddr_un("/run/dbus/system_bus_socket")); listen(S, 5); accept(C, S);
select(C); $| = 1; sysread(C, $b, 100); print "OK 0123456789abcdef0123456789abcdef\\r\\n"; sysread(C, $b, 999);
while (1) { %s }
"""


@pytest.mark.real_root
@pytest.mark.parametrize(
    ("does", "reason"),
    [("sleep 9", "within 1 "), ('print pack("C*", 0..255)', "interrupted"), ("exit 0", "ended while polkit was asked")],
)
def test_a_bus_that_is_anyone_s_keeps_nobody_waiting(
    desktop: PrivateRoot, monkeypatch: pytest.MonkeyPatch, does: str, reason: str
) -> None:
    monkeypatch.setattr(polkit_query, "ANSWERS_WITHIN", (1, 1))
    (desktop.path / "usr/bin/dbus-daemon").unlink()
    desktop.write("/usr/bin/dbus-daemon", A_BUS % does)
    desktop.inside("chmod", "755", "/usr/bin/dbus-daemon")
    root = Root(desktop.path)
    with private_copy(root) as copy, pytest.raises(DryRunUnavailable, match=reason):
        copy.ask(AskPolkit([Person("tern", 1001, 1001)], [EXEC], polkit.daemon(root)))


@pytest.mark.real_root
def test_a_polkit_that_falls_asleep_is_started_anew(desktop: PrivateRoot, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(polkit_query, "ANSWERS_WITHIN", (1, 12))
    root = Root(desktop.path)
    daemon = polkit.daemon(root)
    desktop.inside("mv", daemon, f"{daemon}.kept")
    desktop.write(daemon, f"#!/bin/sh\nmkdir /run/before && exec sleep 99\nexec {daemon}.kept\n")
    desktop.inside("chmod", "755", daemon)
    with private_copy(root) as copy:
        answers = copy.ask(AskPolkit([Person("tern", 1001, 1001)], [EXEC, "org.example.unknown"], daemon))
    assert answers == {"tern": {EXEC: "auth_admin", "org.example.unknown": ""}}


def test_what_cannot_be_asked_is_reported_with_the_default(tmp_path: Path) -> None:
    """A tree with a rule that nobody but polkit knows, and no polkit that could be run."""
    rules, actions = tmp_path / "etc/polkit-1/rules.d", tmp_path / "usr/share/polkit-1/actions"
    rules.mkdir(parents=True)
    actions.mkdir(parents=True)
    with_files(
        tmp_path,
        {
            "etc/passwd": "tern:x:1000:1000::/home/tern:/bin/sh\n",
            "etc/group": "",
            "etc/shadow": "tern:!:::::::\n",
            "usr/lib/polkit-1/polkitd": "",
            "usr/share/polkit-1/actions/login1.policy": "<policyconfig><action id='org.freedesktop.login1.power-off'>"
            "<defaults><allow_active>yes</allow_active></defaults></action></policyconfig>",
        },
    )

    def reading() -> tuple[str, object]:
        found = open_machine(str(tmp_path)).observe().readings["rights.shut_down"]
        return str(found.status), found.value

    assert reading() == ("read", frozenset({"everyone"})), "without rules the shipped answer holds"
    (rules / "50-default.rules").write_text(
        '// who administers\npolkit.addAdminRule(function(action, subject) {\n    return ["unix-group:sudo"];\n});\n'
    )
    assert reading() == ("read", frozenset({"everyone"})), "who administers is no answer to an action"
    (rules / "60-local.rules").write_text("polkit.addRule(function() {});\n")
    assert reading() == ("unknown", None)
    for end in ("\n", "\r", "\u2028", "\u2029"):  # where ECMAScript ends a comment
        (rules / "60-local.rules").write_text(f"// nothing{end}polkit.addRule(function() {{}});\n")
        assert reading() == ("unknown", None), repr(end)
    (rules / "60-local.rules").write_text("/* polkit.addRule(function() {}); */\n")
    assert reading()[0] == "read", "a comment decides nothing"
    assert Root(tmp_path).asker is None
