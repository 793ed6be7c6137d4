"""The access file and the homes that nothing stays in, read by us and asked of PAM itself over generated rules."""

import os

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Verrou, admitted_at_the_console, do, examples
from debian_root import PrivateRoot
from verrou.core.model import Account, Role
from verrou.core.model.routes import EntryPoint, Route
from verrou.core.prediction.account_creation import new_account
from verrou.core.testing.attempts import CannotTry
from verrou.core.testing.passwords import policy_of
from verrou.machines.changes import Secrets
from verrou.machines.linux.files.access_file import CONSOLE, access_list, access_rules
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.root import Root
from verrou.machines.registry import open_machine

PEOPLE = {"tern": ("ringers",), "gull": ("guests",), "skua": ()}
GROUPS = ("ringers", "guests")
WHO = st.lists(
    st.sampled_from(["ALL", "tern", "gull", "(ringers)", "(guests)", "guests", "EXCEPT", "nobody"]),
    min_size=1,
    max_size=4,
)
ORIGINS = st.lists(st.sampled_from(["ALL", "LOCAL", CONSOLE, "tty2", ":0", REMOTE, "EXCEPT"]), min_size=1, max_size=3)
LINES = st.lists(
    st.builds("{}:{}:{}".format, st.sampled_from("+-"), WHO.map(" ".join), ORIGINS.map(" ".join))
    | st.sampled_from(["# a note", "", "+:tern", "x:ALL:ALL", "- : tern gull : ALL"]),
    max_size=5,
)


@pytest.fixture
def probe(root: PrivateRoot) -> PrivateRoot:
    """A root with a few accounts and a service that asks the access file alone."""
    for group in GROUPS:
        root.inside("groupadd", group)
    for name, groups in PEOPLE.items():
        root.inside("useradd", "-G", ",".join(groups), name)
    root.write("/etc/pam.d/probe", "account required pam_access.so accessfile=/etc/probe.conf\n")
    return root


@pytest.mark.real_root
@examples(60)
@given(lines=LINES)
def test_the_access_file_is_read_as_pam_reads_it(probe: PrivateRoot, lines: list[str]) -> None:
    probe.write("/etc/probe.conf", "".join(f"{line}\n" for line in lines))
    rules = access_rules(Root(probe.path), "probe")
    for name, groups in PEOPLE.items():
        mine = (name, *groups)
        for origin, items in ((CONSOLE, ("-I", f"tty={CONSOLE}")), (REMOTE, ("-I", f"rhost={REMOTE}"))):
            asked = probe.inside("pamtester", *items, "probe", name, "acct_mgmt").returncode == 0
            entry_point = EntryPoint(Route.CONSOLE, access_list(rules, origin, GROUPS))
            assert entry_point.admits(Account(name, "1000", groups=mine)) is asked, (name, origin)


@pytest.mark.real_root
def test_what_was_done_to_a_copy_counts_in_its_next_attempt(manned_root: PrivateRoot) -> None:
    machine = open_machine(str(manned_root.path))
    snapshot = machine.observe()
    steps = new_account(snapshot, "daypass", Role.GUEST, password="blank")
    with machine.dry_run() as copy:
        with pytest.raises(CannotTry, match="no group that makes an account a guest"):
            copy.attempt(policy_of(snapshot), Role.GUEST, False).__enter__()
        copy.do(steps, Secrets())
        with copy.attempt(policy_of(snapshot), Role.GUEST, False) as somebody:
            assert "guests" in somebody.groups


@pytest.mark.real_root
def test_dormant_rules_are_not_called_to_life(manned_root: PrivateRoot) -> None:
    """What stands in access.conf unused stays unused when a guest group comes."""
    root = manned_root
    root.write("/etc/security/access.conf", "-:ALL:ALL\n")
    machine = open_machine(str(root.path))
    steps = new_account(machine.observe(), "daypass", Role.GUEST, password="blank")
    assert {result.outcome for result in do(machine, *steps)} == {"done"}
    asked = root.inside("pamtester", "-I", "tty=tty1", "login", "warden", "acct_mgmt")
    assert asked.returncode == 0
    assert Route.CONSOLE in {entry_point.route for entry_point in machine.observe().entry_points}
    assert os.listdir(root.path / "etc/security/access.d") == ["50-verrou.conf"]


@pytest.mark.real_root
@pytest.mark.parametrize("denied", ["ringers", "auks"])
def test_a_group_counts_by_its_id_under_each_of_its_names(root: PrivateRoot, verrou: Verrou, denied: str) -> None:
    for command in (
        ["groupadd", "-g", "2000", "ringers"],
        ["groupadd", "-o", "-g", "2000", "auks"],
        ["useradd", "-m", "-s", "/bin/bash", "-G", "ringers", "tern"],
        ["useradd", "-m", "-s", "/bin/bash", "gull"],
        ["passwd", "-d", "tern"],
        ["passwd", "-d", "gull"],
    ):
        assert root.inside(*command).returncode == 0, command
    root.write("/etc/pam.d/login", f"{root.read('/etc/pam.d/login')}\naccount required pam_access.so\n")
    root.write("/etc/security/access.conf", f"-:({denied}):ALL\n")
    assert admitted_at_the_console(root, verrou, "tern", "gull") == ["gull"]
