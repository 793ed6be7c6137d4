"""What is written about ways in, elevation and screens stands beside what others wrote, is refused where it cannot act,
and is judged by the system's own programs."""

import json
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from conftest import GOOD_PASSWORD, TYPED, Verrou, with_files
from debian_root import PrivateRoot
from test_seat_linux import admits
from verrou.core.rules.elevation import GIVES
from verrou.machines.bench import session as seat
from verrou.machines.bench.authority import Authority, Damaged, No
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import ADAPTERS, elevation

ROUTE_FILE = "/etc/security/verrou-{}.conf"


def value(verrou: Verrou, root: PrivateRoot, rule_id: str) -> Any:
    shown = verrou.json("rule", "show", rule_id, "-m", root.path)[rule_id]
    return shown["value"] and next(iter(shown["value"].values()))


def joins(root: PrivateRoot, verrou: Verrou, name: str) -> None:
    """A standard user who comes after the rules were set."""
    add = ("account", "add", name, "--keep-password", "-m", root.path)
    verrou(*add, *TYPED, typed=GOOD_PASSWORD + "\n")


@pytest.mark.real_root
def test_turning_one_away_closes_nothing_to_who_comes_later(desktop: PrivateRoot, verrou: Verrou) -> None:
    """Also where the server's own lines are more than two lists can tell: ours says what was asked and no more."""
    desktop.write("/etc/ssh/sshd_config.d/10-site.conf", "Match User gull\nPermitEmptyPasswords no\nDenyGroups none\n")
    verrou("rule", "set", "logon.remote-shell.denied=tern", "-m", desktop.path, "--yes")
    joins(desktop, verrou, "puffin")
    assert [name for name in ("tern", "gull", "puffin", "warden") if admits(desktop, "sshd", name)] == [
        *("gull", "puffin", "warden")
    ]
    rows = verrou.json("access", "tern", "puffin", "-m", desktop.path)
    assert [row["routes"]["remote-shell"] for row in rows] == [None, "password"]


@pytest.mark.real_root
def test_no_one_and_everybody_are_set_and_undone(desktop: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", desktop.path, "--yes")
    for rule in ("logon.remote-shell.allowed=nobody", "logon.remote-shell.denied=everyone"):
        verrou("rule", "set", rule, *m)
        assert not any(admits(desktop, "sshd", name) for name in ("warden", "tern"))
        assert value(verrou, desktop, "logon.remote-shell.allowed") == []
        assert value(verrou, desktop, "logon.remote-shell.denied") == ["everyone"]
        back = ("rule", "set", "logon.remote-shell.allowed=everyone")
        output = verrou(*back, "logon.remote-shell.denied=nobody", *m, code=4).stderr
        assert "requested nobody, but the machine would set group guests" in " ".join(output.split()), (
            "it is not, so it is said"
        )
        verrou(*back, "logon.remote-shell.denied=group:guests", *m)
        assert admits(desktop, "sshd", "tern") and not admits(desktop, "sshd", "daypass"), "a guest stays confined"
    assert desktop.read(ROUTE_FILE.format("remote-shell")).splitlines()[1:] == ["-:(guests):ALL"]


@pytest.mark.real_root
def test_no_other_service_is_bound_by_the_list_of_a_way(desktop: PrivateRoot, verrou: Verrou) -> None:
    """Jobs, elevation and what a person does inside go on: only ways in are closed."""
    rules = ("logon.console.denied=tern", "logon.remote-shell.allowed=nobody")
    verrou("rule", "set", *rules, "-m", desktop.path, "--yes")
    for service in ("cron", "sudo", "su", "passwd"):
        assert desktop.inside("pamtester", service, "tern", "acct_mgmt").returncode == 0, service
    assert desktop.inside("pam-auth-update", "--package").returncode == 0
    assert not admits(desktop, "login", "tern"), "the system's own updater leaves the line alone"


@pytest.mark.real_root
def test_a_list_is_refused_where_it_could_not_act(desktop: PrivateRoot, verrou: Verrou) -> None:
    for change, undone, message in (
        (("/etc/ssh/sshd_config.d/10-site.conf", "UsePAM no\n"), "", "does not ask PAM"),
        (("/etc/pam.d/sshd", "# This file is auto-generated.\n@include common-auth\n"), None, "a program generates it"),
    ):
        file, text = change
        kept = desktop.read(file) if (desktop.path / file.lstrip("/")).exists() else undone
        desktop.write(file, text)
        before = desktop.tree()
        output = verrou("rule", "set", "logon.remote-shell.denied=tern", "-m", desktop.path, "--yes", code=2).stderr
        assert message in output and desktop.tree() == before, file
        desktop.write(file, kept or "")
    output = verrou("rule", "set", "logon.console.denied=group:nobody-here", "-m", desktop.path, "--yes", code=4).stderr
    assert "there is no group nobody-here here" in output


@pytest.mark.parametrize("name", ["a b", "@tern", "-tern", "+tern", "te,rn", "ALL", "all", "except", "(tern)", "te:rn"])
def test_a_name_that_the_access_file_cannot_hold_is_never_written(tmp_path: Path, name: str) -> None:
    from verrou.machines.linux.refused import StepRejected
    from verrou.machines.linux.rules.logon import _who

    with pytest.raises(StepRejected, match="cannot be written"):
        _who(frozenset({name}))
    with pytest.raises(StepRejected, match="cannot be written"):
        _who(frozenset({f"group:{name}"}))


@pytest.mark.real_root
def test_nopasswd_goes_where_it_stands_and_only_there(desktop: PrivateRoot, verrou: Verrou) -> None:
    asks = ("sudo", "-k", "-n", "true")
    set_it = ("rule", "set", "elevation.administrator=password", "-m", desktop.path, "--yes")
    desktop.write("/etc/sudoers.d/site", "warden ALL=(ALL) NOPASSWD: ALL # until August\n# the end\n")
    (desktop.path / "etc/sudoers.d/site").chmod(0o440)
    assert desktop.inside(*asks, user="warden").returncode == 0
    output = verrou.line(*set_it)
    assert "NOPASSWD is gone from /etc/sudoers.d/site:1" in output and "visudo has checked" in output
    left = desktop.read("/etc/sudoers.d/site").split()
    assert left == ["warden", "ALL=(ALL)", "ALL", "#", "until", "August", "#", "the", "end"]
    assert desktop.inside(*asks, user="warden").returncode != 0 and desktop.inside("visudo", "-c").returncode == 0
    assert value(verrou, desktop, "elevation.administrator") == dict.fromkeys(GIVES.rows, "password")

    desktop.write("/etc/sudoers.d/site", "warden ALL=(ALL) NOPASSWD : \\\n  ALL\n")
    before = desktop.tree()
    assert "Repair it manually" in verrou(*set_it, code=4).stderr and desktop.tree() == before


def test_our_lines_for_sudo_have_one_heading_whatever_it_said_before(tmp_path: Path) -> None:
    with_files(
        tmp_path,
        {
            "usr/bin/sudo": "",
            "etc/sudoers": "@includedir /etc/sudoers.d\n",
            elevation.DROP_IN[1:]: "# The question. Written by Verrou.\nDefaults passwd_timeout=2\n",
        },
    )
    (tmp_path / "usr/bin/sudo").chmod(0o4755)
    write = elevation.ADAPTERS["elevation.remembered_for"].write
    assert write is not None
    write(Root(tmp_path), timedelta(minutes=3))
    text = (tmp_path / elevation.DROP_IN[1:]).read_text()
    assert text.startswith(elevation.HEADING) and text.count(elevation.WRITTEN) == 1
    assert "passwd_timeout=2" in text and "timestamp_timeout=3" in text


@pytest.mark.real_root
def test_a_file_that_sudo_reads_after_ours_is_named(desktop: PrivateRoot, verrou: Verrou) -> None:
    desktop.write("/etc/sudoers.d/zzz-site", "Defaults timestamp_timeout=60\n")
    before = desktop.tree()
    output = verrou("rule", "set", "elevation.remembered_for=never", "-m", desktop.path, "--yes", code=4).stderr
    assert "/etc/sudoers.d/zzz-site:1" in output and "overrides it" in output and desktop.tree() == before


@pytest.mark.real_root
def test_su_is_for_administrators_alone_until_it_is_opened_again(desktop: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", desktop.path, "--yes")
    desktop.inside("chpasswd", typed="root:razorbill-Skerry-17\n")
    assert value(verrou, desktop, "elevation.standard") == dict.fromkeys(GIVES.rows, "admin-password")
    vouched = verrou.json("access", "tern", *m[:2])[0]["elevation"]["signed"]
    assert vouched == "admin-password"
    start = desktop.read("/etc/pam.d/su")
    verrou("rule", "set", "elevation.standard=denied", *m)
    wheel = next(line for line in desktop.read("/etc/pam.d/su").splitlines() if line.startswith("auth\trequired"))
    assert wheel.endswith("pam_wheel.so group=sudo")
    assert value(verrou, desktop, "elevation.standard") == dict.fromkeys(GIVES.rows, "denied")
    verrou("rule", "set", "elevation.standard=admin-password", *m)
    assert desktop.read("/etc/pam.d/su") == start
    assert value(verrou, desktop, "elevation.standard") == dict.fromkeys(GIVES.rows, "admin-password")


def test_what_another_program_wrote_among_our_rules_of_polkit_is_left_alone(tmp_path: Path) -> None:
    from verrou.machines.linux.elevation.polkit import OURS
    from verrou.machines.linux.refused import StepRejected

    with_files(tmp_path, {"etc/passwd": "tern:x:1000:1000::/home/tern:/bin/sh\n", "etc/group": "", "etc/shadow": ""})
    root = Root(tmp_path)
    ADAPTERS["rights.shut_down"].write(root, frozenset({"tern"}))
    ADAPTERS["sharing.applies_to"].write(root, frozenset({"tern"}))
    written = (tmp_path / OURS.lstrip("/")).read_text()
    assert written.count("addRule") == 2 and '"covered": ["tern"]' in written
    (tmp_path / OURS.lstrip("/")).write_text(written + "polkit.addRule(function() {});\n")
    with pytest.raises(StepRejected, match="another program wrote"):
        ADAPTERS["rights.shut_down"].write(Root(tmp_path), frozenset())
    assert (tmp_path / OURS.lstrip("/")).read_text().endswith("polkit.addRule(function() {});\n")


@pytest.mark.real_root
def test_undoing_keeps_what_someone_wrote_into_our_files_since(desktop: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", desktop.path, "--yes")
    verrou("rule", "set", "elevation.remembered_for=never", "screen.notice=Cap Fauvel | Quiet.", *m)
    ours = "/etc/sudoers.d/zz-verrou"
    desktop.write(ours, desktop.read(ours) + "Defaults insults\n")
    stands = desktop.read(ours)
    output = verrou.line("undo", *m, code=4)
    assert f"rejected {ours} another program wrote to it since; left as it is" in output
    assert desktop.read(ours) == stands and desktop.inside("visudo", "-c").returncode == 0
    assert "Cap Fauvel" not in desktop.read("/etc/issue")


def fresh(**policy: Any) -> Authority:
    machine = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
    machine.reset_password("keeper", GOOD_PASSWORD)
    machine.add("tern", "", GOOD_PASSWORD, must_change=False)
    machine.add_group("ringers", "")
    machine.join("tern", "ringers")
    for key, number in policy.items():
        machine.set_policy(key.replace("_screen", "-screen"), number)
    return machine


def test_a_list_that_names_no_one_any_more_allows_no_one() -> None:
    ringers = next(group["id"] for group in fresh().groups() if group["name"] == "ringers")
    machine = fresh(in_network=[ringers], hidden=[ringers], opens_as=100, covered=[100])
    assert machine.sign_in("tern", GOOD_PASSWORD, "network")
    machine.restart()
    for session in list(range(1, 9)):
        try:
            machine.sign_out(session)
        except No:
            continue
    machine.remove_group("ringers")
    assert machine.policy()["in_network"] == [] and machine.policy()["hidden"] == []
    for name in ("tern", "keeper"):
        with pytest.raises(No, match="is denied sign-in"):
            machine.sign_in(name, GOOD_PASSWORD, "network")
    machine.remove("tern", "delete")
    assert (machine.policy()["opens_as"], machine.policy()["covered"]) == (0, []), "nobody inherits an identity"


BAD: dict[str, Any] = {
    **dict.fromkeys(seat.GIVES_LIMITS, dict.fromkeys(seat.PROGRAMS, 5)),
    **dict.fromkeys(seat.SEAT_LIMITS, 99999),
    **dict.fromkeys(seat.SEAT_SWITCHES, "on"),
    **{key: [7_777] for key in seat.LISTS},
    "commands": [[7_777, "/bin/true"]],
    "drives_hidden": ["cellar"],
    "greeting": {"title": 3, "text": ""},
    "opens_as": 7_777,
}


@pytest.mark.parametrize("key", list(seat.SHIPPED_SEAT))
def test_a_value_that_none_can_have_meant_is_refused_and_damages(key: str) -> None:
    machine = fresh()
    for bad in (BAD[key], {"a": 1}, True if key in seat.SEAT_LIMITS else "x"):
        with pytest.raises(No):
            machine.set_policy(key, bad)
        data = json.loads(machine.text())
        for place in ("policy", "waiting"):
            broken = {**data, place: {**data[place], key: bad}}
            with pytest.raises(Damaged):
                Authority(json.dumps(broken))
    assert json.loads(machine.text())["policy"] == json.loads(fresh().text())["policy"]


def test_a_route_by_which_an_administrator_is_at_work_is_not_shut(bench: Path, verrou: Verrou) -> None:
    denied = ("rule", "set", "logon.network.denied=group:administrators", "-m", bench, "--yes")
    verrou(*denied, "--preview")
    machine = Authority(bench.read_text())
    machine.sign_in("warden", GOOD_PASSWORD, "network")
    machine.save(bench)
    output = verrou(*denied, code=3).stderr
    assert "administrators-denied" in output and "over the network" in output


def test_an_older_machine_has_what_it_had_by_default(bench: Path, verrou: Verrou) -> None:
    """A file from before the authority knew of all this."""
    document = json.loads(bench.read_text())
    for key in seat.SHIPPED_SEAT:
        del document["policy"][key]
    del document["waiting"]
    for account in document["accounts"]:
        del account["own_idle"]
    bench.write_text(json.dumps(document))
    assert Authority(bench.read_text()).policy()["in_network"] == [seat.ADMINISTRATORS, seat.USERS]
    verrou("rule", "set", "rights.shut_down=warden", "-m", bench, "--yes")
    verrou("undo", "-m", bench, "--yes")
    assert json.loads(bench.read_text()) == document, "what nobody changed is as it was"
