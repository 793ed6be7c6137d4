"""What is told of a rule is what is enforced: not what is written down, where nothing acts on it."""

from pathlib import Path

import pytest

from conftest import Verrou, with_files
from debian_root import PrivateRoot
from test_seat_linux import polkit_says
from verrou.core.model import Role
from verrou.core.model.programs import Program
from verrou.core.testing.passwords import policy_of
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.keyboard import keys_left
from verrou.machines.registry import open_machine

pytestmark = pytest.mark.real_root
UNITS = "org.freedesktop.systemd1.manage-units"


def is_helped(root: PrivateRoot) -> bool:
    """Whether a trial finds a program that an administrator's password opens to a standard user."""
    machine = open_machine(str(root.path))
    policy = policy_of(machine.observe())
    with machine.dry_run() as copy, copy.attempt(policy, Role.STANDARD, True) as subject:
        return subject.elevate(Program.SIGNED, "admin-password").accepted


def test_every_action_that_elevates_is_read_and_closed(desktop: PrivateRoot, verrou: Verrou) -> None:
    """systemd-run asks by an action of its own, which makes root of who knows an administrator's password."""
    show = ("rule", "show", "elevation.standard", "-m", desktop.path, "--format", "json")
    output = verrou.json(*show)["elevation.standard"]
    assert set(output["value"]["cells"].values()) == {"admin-password"} and UNITS in output["reason"]
    assert polkit_says(desktop, "tern", UNITS) == [2] and is_helped(desktop)
    verrou("rule", "set", "elevation.standard=denied", "-m", desktop.path, "--yes")
    assert polkit_says(desktop, "tern", UNITS) == [1] and polkit_says(desktop, "warden", UNITS) == [2]
    assert not is_helped(desktop)
    assert set(verrou.json(*show)["elevation.standard"]["value"]["cells"].values()) == {"denied"}
    action = "<action id='org.example.tides'><defaults><allow_active>auth_admin_keep</allow_active></defaults></action>"
    desktop.write("/usr/share/polkit-1/actions/tides.policy", f"<policyconfig>{action}</policyconfig>")
    output = verrou.json(*show)["elevation.standard"]
    assert set(output["value"]["cells"].values()) == {"admin-password"} and "org.example.tides" in output["reason"], (
        "brought later"
    )
    more = (
        "<action id='org.example.moon'><defaults><allow_any>yes</allow_any><allow_active>yes</allow_active></defaults>"
    )
    more += "<annotate key='org.freedesktop.policykit.imply'>org.example.tides</annotate></action>"
    desktop.write("/usr/share/polkit-1/actions/tides.policy", f"<policyconfig>{action}{more}</policyconfig>")
    assert polkit_says(desktop, "tern", "org.example.tides") == [0], "what implies it opens it, and no password does"
    assert set(verrou.json(*show)["elevation.standard"]["value"]["cells"].values()) == {"denied"}


def test_limits_for_no_one_are_not_in_force(desktop: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", desktop.path, "--yes")
    limits = ("sharing.hidden_drives=all", "sharing.settings_closed=yes")
    output = verrou("rule", "set", *limits, *m, code=4).stderr
    assert " ".join(output.split()).count("(not enforced)") == 2
    verrou("rule", "set", *limits, "sharing.applies_to=gull", *m)
    verrou("rule", "set", "sharing.applies_to=nobody", *m)
    readings = open_machine(str(desktop.path)).observe().readings
    for rule_id in ("sharing.hidden_drives", "sharing.settings_closed"):
        assert not readings[rule_id].enforced and "lists no account" in readings[rule_id].reason


def test_the_administrator_s_file_counts_before_the_vendor_s(tmp_path: Path) -> None:
    files = {
        "usr/lib/systemd/systemd-logind": "",
        "usr/lib/systemd/logind.conf": "[Login]\nHandlePowerKey=poweroff\n",
        "usr/lib/systemd/systemd": "",
        "etc/sysctl.conf": "kernel.sysrq=0\n",
    }
    assert "power key" in keys_left(Root(with_files(tmp_path, files)))
    with_files(tmp_path, {"etc/systemd/logind.conf": "[Login]\nHandlePowerKey=ignore\n"})
    assert "perhaps" in keys_left(Root(tmp_path)), "systemd reads no sysctl.conf but by a link"
    (tmp_path / "etc/sysctl.d").mkdir()
    (tmp_path / "etc/sysctl.d/99-sysctl.conf").symlink_to("../sysctl.conf")
    assert keys_left(Root(tmp_path)) == ""


def test_the_keys_and_the_button_are_reported(desktop: PrivateRoot, verrou: Verrou) -> None:
    m = ("-m", desktop.path)
    desktop.write("/usr/sbin/lightdm-gtk-greeter", "")
    button = open_machine(str(desktop.path)).observe().readings["screen.shut_down_button"]
    assert button.value is True, "polkit lets whoever sits there shut down, the screen's own account among them"
    verrou("rule", "set", "rights.shut_down=tern", *m, "--yes")
    readings = open_machine(str(desktop.path)).observe().readings
    assert readings["screen.shut_down_button"].value is False
    output = readings["rights.shut_down"].reason
    assert all(keys in output for keys in ("Ctrl-Alt-Del", "its power key", "perhaps restart it with Alt-SysRq-B")), (
        output
    )
    assert polkit_says(desktop, "lightdm", "org.freedesktop.login1.power-off") == [2]
    desktop.inside("ln", "-s", "/dev/null", "/etc/systemd/system/ctrl-alt-del.target")
    desktop.write("/etc/sysctl.d/50-keys.conf", "kernel.sysrq = 438\n")
    output = open_machine(str(desktop.path)).observe().readings["rights.shut_down"].reason
    assert "Ctrl-Alt-Del" not in output and "perhaps" not in output and "Alt-SysRq-B" in output
    desktop.write("/etc/sysctl.d/60-keys.conf", "kernel.sysrq = 16\n")
    desktop.write("/usr/lib/systemd/logind.conf.d/keys.conf", "[Login]\nHandlePowerKey=ignore\n")
    assert "anyone at the machine" not in open_machine(str(desktop.path)).observe().readings["rights.shut_down"].reason
