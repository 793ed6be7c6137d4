"""Each service by which somebody gets in has a PAM stack of its own: a rule holds where it holds for all of them."""

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import GOOD_PASSWORD, Verrou, bare, with_programs
from debian_root import PrivateRoot
from verrou.core.model.routes import Route
from verrou.machines.linux.entry.service_files import NO_WAY_IN, unknown_services
from verrou.machines.linux.pam.services import SERVICES, behind
from verrou.machines.linux.pam.stack import load_stack
from verrou.machines.linux.root import Root

OWN_STACK = "auth required pam_unix.so\naccount required pam_unix.so\npassword required pam_unix.so\n"


def shown(verrou: Verrou, root: PrivateRoot, rule: str) -> dict[str, Any]:
    output = verrou("rule", "show", rule, "-m", root.path, "--format", "json").stdout
    return dict(json.loads(output)[rule])


@pytest.mark.real_root
def test_a_service_with_a_stack_of_its_own_decides(manned_root: PrivateRoot, verrou: Verrou) -> None:
    at = ("-m", manned_root.path)
    verrou("rule", "set", "lockout.after=3", *at, "--yes")
    assert bare(shown(verrou, manned_root, "lockout.after")["value"]) == 3
    whole = manned_root.read("/etc/pam.d/sshd")
    manned_root.write("/etc/pam.d/sshd", OWN_STACK)
    reading = shown(verrou, manned_root, "lockout.after")
    assert bare(reading["value"]) == "never" and "by sshd" in reading["reason"]
    for _ in range(5):
        assert not manned_root.signs_in("warden", "wrong")
    assert manned_root.signs_in("warden", GOOD_PASSWORD), "nothing locks there, as it was read"
    quality = shown(verrou, manned_root, "password.min_length")
    assert not quality["enforced"] and "by sshd" in quality["reason"]
    output = verrou("verify", "-b", "essential", *at, code=1).stdout
    assert "not-run" in output or "not met" in output
    manned_root.write("/etc/pam.d/sshd", whole)
    tried = verrou.json("verify", "-b", "essential", *at, code=None)["tests"]
    assert [t["result"] for t in tried if "by sshd" in t["test"]] == ["passed"]


@pytest.mark.real_root
def test_a_module_that_asks_for_nothing_is_reported(manned_root: PrivateRoot, verrou: Verrou) -> None:
    login = manned_root.read("/etc/pam.d/login")
    manned_root.inside("useradd", "-m", "tern")
    manned_root.write("/etc/pam.d/login", f"auth sufficient pam_permit.so\n{login}")
    assert "can sign in through login without a password" in verrou("survey", "-m", manned_root.path).stderr
    output = verrou("account", "list", "-m", manned_root.path, "--format", "json").stdout
    routes = {account["name"]: account["routes"] for account in json.loads(output)}
    assert routes["tern"] == ["console"], "although nobody gave it a password"
    assert manned_root.inside("pamtester", "login", "tern", "authenticate", typed="x\n").returncode == 0


def test_the_vendors_file_counts_where_there_is_no_other(tmp_path: Path) -> None:
    (tmp_path / "etc/pam.d").mkdir(parents=True)
    (tmp_path / "usr/lib/pam.d").mkdir(parents=True)
    (tmp_path / "usr/lib/pam.d/login").write_text("auth include shared\n")
    (tmp_path / "usr/lib/pam.d/shared").write_text("auth required pam_unix.so nullok\n")
    (tmp_path / "etc/pam.d/other").write_text("account required pam_deny.so\n")
    root = Root(tmp_path)
    (line,) = load_stack(root, "login", "auth").lines
    assert (line.file, line.arguments) == ("/usr/lib/pam.d/shared", ("nullok",))
    assert [x.module for x in load_stack(root, "login", "account").lines] == ["pam_deny.so"], (
        "other fills what is missing"
    )
    (tmp_path / "etc/pam.d/shared").write_text("auth required pam_deny.so\n")
    assert [x.module for x in load_stack(Root(tmp_path), "login", "auth").lines] == ["pam_deny.so"]


def test_a_guest_and_a_standard_user_are_tried_as_what_they_are(manned_root: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", manned_root.path)
    verrou("account", "add", "daypass", "--role", "guest", "--password", "blank", "--yes", *m)
    manned_root.users("tern", password=GOOD_PASSWORD)
    output = verrou("account", "test", "daypass", *m).stdout
    not_tested = "sshd was not tested: its own setting rejects a blank password"
    assert "without a password" in output and not_tested in " ".join(output.split())
    assert "rejected by" not in output, "nothing is claimed of what was not tried"
    own = (*m, "--password", "stdin")
    assert "could not elevate" in verrou("account", "test", "tern", *own, typed=f"{GOOD_PASSWORD}\n").stdout
    verrou("account", "password", "daypass", "--password", "stdin", "--yes", *m, typed=f"{GOOD_PASSWORD}\n")
    assert "rejected by sshd" in verrou("account", "test", "daypass", *own, typed=f"{GOOD_PASSWORD}\n").stdout
    kept = "/etc/security/access.d/50-verrou.conf"
    manned_root.write(kept, "+:daypass:ALL\n" + manned_root.read(kept))
    refused = verrou("account", "test", "daypass", *own, typed=f"{GOOD_PASSWORD}\n", code=4)
    assert "by sshd from another computer too" in refused.stderr


def test_a_display_manager_lets_in_whom_the_text_console_refuses(manned_root: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", manned_root.path)
    manned_root.users("tern", password=GOOD_PASSWORD)
    login = manned_root.read("/etc/pam.d/login")
    manned_root.write("/etc/pam.d/login", f"account required pam_access.so\n{login}")
    manned_root.write("/etc/security/access.conf", "-:tern:ALL\n")

    def console() -> bool:
        shown = verrou.json("account", "show", "tern", *m)
        return "console" in shown["routes"]

    assert not console() and not manned_root.signs_in("tern", GOOD_PASSWORD, "login")
    manned_root.write("/usr/sbin/lightdm", "")
    manned_root.write("/etc/pam.d/lightdm", "@include common-auth\n@include common-account\n")
    assert console() and manned_root.signs_in("tern", GOOD_PASSWORD, "lightdm")


def way_of(root: Root, service: str) -> Route | None:
    return next((route for route in Route if service in [each.name for each in behind(root, route)]), None)


NOT_FORESEEN = {"calife", "francine", "kermit", "partimaged", "please", "pleaseedit", "super", "vmtoolsd"}
"""Of all services of one Debian release those of which nobody here says by which route people come, or whether they
elevate by them: they are told."""


def test_each_service_of_a_release_is_accounted_for(tmp_path: Path) -> None:
    """The service files that the packages of Debian 12 ship, each alone on a system: it stands behind a way, is known
    as no way in, or is told."""
    rows = [line.split("\t") for line in (Path(__file__).parent / "debian_pam_services.txt").read_text().splitlines()]
    assert len({package for package, *_ in rows}) > 70
    output, behind_a_way = set(), {}
    for number, (_, name, lines) in enumerate(rows):
        root = with_programs(tmp_path / str(number))
        common = {f"common-{kind}": f"{kind} required pam_unix.so nullok\n" for kind in ("auth", "account")}
        for file, text in {**common, "other": "auth required pam_deny.so\n", name: lines.replace(" ; ", "\n")}.items():
            (root / "etc/pam.d").mkdir(parents=True, exist_ok=True)
            (root / "etc/pam.d" / file).write_text(f"{text}\n")
        (root / "etc/ssh").mkdir(exist_ok=True)
        (root / "etc/ssh/sshd_config").touch()
        for service in SERVICES:
            if service.name == name and service.programs:
                (root / service.programs[0].lstrip("/")).parent.mkdir(parents=True, exist_ok=True)
                (root / service.programs[0].lstrip("/")).touch()
        found = Root(root)
        behind_a_way |= dict.fromkeys((name,) if (route := way_of(found, name)) else (), route)
        output |= {each.name for each in unknown_services(found)}
    names = {name for _, name, _ in rows}
    assert output & names == NOT_FORESEEN & names | {name for name in names if name.startswith("lightdm-remote")}
    assert not output & (behind_a_way.keys() | NO_WAY_IN)
    inside = {"su", "sudo"}  # whoever is in already becomes somebody else
    assert names <= behind_a_way.keys() | output | NO_WAY_IN | inside
    assert {behind_a_way[name] for name in ("imap", "ftp", "ppp", "smtp")} == {Route.NETWORK}
