"""Sudoers files are read as sudo reads them: asked of sudo itself, in a throwaway root."""

import json
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import Verrou, with_files, with_programs
from debian_root import PrivateRoot
from sudoers_files import HOST, LINES, PEOPLE, SAMPLES, manned, put, sudo_says, we_say
from verrou.core.model import Grant, Snapshot
from verrou.core.model.access import administers
from verrou.machines.linux.files.sudoers import PasswordOwner, Person, Sudoers
from verrou.machines.linux.files.sudoers_grammar import logical_lines, parsed
from verrou.machines.linux.machine import LinuxMachine
from verrou.machines.linux.root import Root

WARDEN = Person("warden", 2001, ("warden", "ringers"), (2001, 2100))


@pytest.fixture
def sudo_root(root: PrivateRoot) -> Iterator[PrivateRoot]:
    manned(root)
    yield root


def differing(root: PrivateRoot, text: str) -> dict[tuple[str, str], tuple[bool | None, bool]]:
    put(root, text)
    ours, theirs = we_say(root), sudo_says(root)
    return {pair: (ours[pair], theirs[pair]) for pair in theirs if ours[pair] not in (None, theirs[pair])}


@pytest.mark.real_root
@given(LINES)
def test_made_up_files(sudo_root: PrivateRoot, lines: list[str]) -> None:
    assert not differing(sudo_root, "\n".join(lines) + "\n")


@pytest.mark.real_root
def test_files_with_one_thing_each(sudo_root: PrivateRoot) -> None:
    wrong = {text: found for text in SAMPLES if (found := differing(sudo_root, f"{text}\n"))}
    assert not wrong


FOR_ONE, FOR_MORE = ("warden", "tern"), ("ALL", "!tern, ALL", "warden, tern", "WARDEN", "#2001")
SAYS = ("ALL=(ALL) ALL", "ALL=(ALL) !ALL", "ALL=(ALL) /usr/bin/id", "ALL=(ALL) !/usr/bin/id")


@pytest.mark.real_root
@example([("warden", SAYS[0]), ("ALL", SAYS[1]), ("tern", SAYS[0])])
@example([("ALL", SAYS[0]), ("warden", SAYS[3])])
@example([("warden", SAYS[0]), ("tern", SAYS[0]), ("#2001", SAYS[1])])
@example([("Warden", SAYS[0]), ("tern", SAYS[0]), ("Defaults", "!case_insensitive_user")])
@example([("warden", SAYS[0]), ("tern", SAYS[0]), ("WARDEN", SAYS[1])])
@example([("warden", SAYS[0]), ("tern", SAYS[0]), ("Defaults:warden", "!authenticate")])
@given(st.lists(st.tuples(st.sampled_from(FOR_ONE * 2 + FOR_MORE), st.sampled_from(SAYS)), min_size=2, max_size=5))
def test_those_told_to_be_treated_alike_are_so_by_sudo(sudo_root: PrivateRoot, lines: list[tuple[str, str]]) -> None:
    put(sudo_root, "".join(f"{who} {what}\n" for who, what in lines))
    sudoers, told, ours = Sudoers.load(Root(sudo_root.path)), sudo_says(sudo_root), we_say(sudo_root)
    assert not [pair for pair in told if ours[pair] not in (None, told[pair])]
    people = {name: Person(name, PEOPLE[name][0]) for name in FOR_ONE}
    keys = {name: sudoers.treated_alike(person) for name, person in people.items()}
    by_sudo = {name: [told[pair] for pair in told if pair[0] == name] for name in FOR_ONE}
    asks = {name: sudoers.elevation(person, datetime.now()).password for name, person in people.items()}
    same = (by_sudo["warden"], asks["warden"]) == (by_sudo["tern"], asks["tern"])
    assert same or keys["warden"] != keys["tern"]
    mine = {name: [what for who, what in lines if who == name] for name in FOR_ONE}
    if mine["warden"] == mine["tern"] and {who for who, _ in lines} == set(FOR_ONE):
        assert keys["warden"] == keys["tern"]


ENDS = (
    *("tern ALL=ALL\r\nwarden ALL=NOPASSWD: ALL\r\n", "Defaults !authenticate\r\n# x\r\n\r\ntern ALL=ALL # y\r\n"),
    *(
        "tern ALL=(ALL) \\\r\n NOPASSWD: ALL\r\n",
        "tern ALL=ALL",
        "tern ALL=ALL\\",
        "warden ALL=ALL\ntern ALL=ALL, \\\n",
    ),
    *("tern ALL=ALL \\\n\n", 'tern ALL=ALL "x\nwarden ALL=ALL\n', "# ends \\\n", "tern ALL=ALL\r\r\nwarden ALL=ALL\n"),
    *("tern ALL=ALL\0\nwarden ALL=ALL\n", "tern ALL=ALL\\\r\n", "tern ALL=/usr/bin/id x\\\r\n"),
    *(f"tern ALL=sha224:{digest} /usr/bin/id, ALL\n" for digest in ("0" * 56, "0" * 55, "A" * 38 + "==", "A" * 40)),
    *(f"tern ALL=sha224:{'0' * 56} {word}\n" for word in ("ALL", "TOOLS", "!/usr/bin/id, ALL", "/usr/bin/id")),
    f"tern ALL=ALL, !sha224:{'0' * 56} /usr/bin/id\n",
)
"""Ends of lines and of files, and digests; with what sudo refuses everybody over."""


@pytest.mark.real_root
def test_the_ends_of_files_and_digests(sudo_root: PrivateRoot) -> None:
    wrong = {}
    for text in ENDS:
        above = "Cmnd_Alias TOOLS = /usr/bin/id\n%ringers ALL=(ALL) ALL\n@includedir /etc/sudoers.d\n"
        put(sudo_root, above)
        night = sudo_root.path / "etc/sudoers.d/night"
        night.write_bytes(text.encode())
        night.chmod(0o440)
        ours, theirs = we_say(sudo_root), sudo_says(sudo_root)
        if not Sudoers.load(Root(sudo_root.path)).unknown and any(
            ours[pair] not in (None, theirs[pair]) for pair in theirs
        ):
            wrong[text] = {pair: (ours[pair], theirs[pair]) for pair in theirs if ours[pair] is not theirs[pair]}
    assert not wrong


@pytest.mark.real_root
def test_the_files_that_the_package_ships(sudo_root: PrivateRoot) -> None:
    shipped = [p for p in (sudo_root.path / "usr/share/doc/sudo/examples").iterdir() if p.suffix not in (".gz", ".sh")]
    texts = [p.read_text() for p in shipped if p.is_file()]
    assert any("Cmnd_Alias" in text for text in texts), "the package's own sudoers is among them"
    for text in (sudo_root.read("/etc/sudoers"), *texts):
        assert not differing(sudo_root, text), text


@pytest.mark.real_root
def test_included_files(sudo_root: PrivateRoot) -> None:
    for name, who in (("season", "tern"), ("season.old", "warden"), ("open", "warden"), (HOST, "warden")):
        sudo_root.write(f"/etc/more.d/{name}", f"{who} ALL=(ALL) ALL\n")
        (sudo_root.path / "etc/more.d" / name).chmod(0o666 if name == "open" else 0o440)
    for text in (
        *("@includedir /etc/more.d", "@include /etc/more.d/%h", "@include more.d/season"),
        *('@include "/etc/more.d/season" # why', "#include /etc/more.d/open", "@include /etc/sudoers\ntern ALL=ALL"),
    ):
        found = differing(sudo_root, f"{text}\n") if "etc/sudoers" not in text else {}
        assert not found, text
    put(sudo_root, "@include /etc/sudoers\n" * 2 + "tern ALL=ALL\n")
    assert Sudoers.load(Root(sudo_root.path)).unknown, "a file that includes itself twice is not read for ever"


@pytest.mark.parametrize(
    ("text", "asked", "commands"),
    [
        ("warden ALL=ALL", PasswordOwner.OWN, ()),
        ("warden ALL=NOPASSWD:ALL", PasswordOwner.NONE, ()),
        ("Defaults !authenticate\nwarden ALL=ALL", PasswordOwner.NONE, ()),
        ("Defaults !authenticate\nwarden ALL=PASSWD:ALL", PasswordOwner.OWN, ()),
        ("Defaults:warden rootpw\nwarden ALL=ALL", PasswordOwner.ROOT, ()),
        ("Defaults targetpw\nwarden ALL=ALL", PasswordOwner.ROOT, ()),
        ("Defaults exempt_group=ringers\nwarden ALL=ALL", PasswordOwner.NONE, ()),
        ("warden ALL=/usr/bin/apt, NOPASSWD: /sbin/halt", PasswordOwner.NONE, ("/sbin/halt", "/usr/bin/apt")),
    ],
)
def test_with_which_password(tmp_path: Path, text: str, asked: PasswordOwner, commands: tuple[str, ...]) -> None:
    with_programs(tmp_path)
    (tmp_path / "etc").mkdir()
    (tmp_path / "etc/sudoers").write_text(f"{text}\n")
    message = Sudoers.load(Root(tmp_path)).elevation(WARDEN, datetime.now())
    assert (message.password, message.commands, message.everything) == (asked, commands, not commands)


@pytest.mark.parametrize(
    ("file", "text", "tern", "ana"),
    [
        ("sudoers", "%ringers ALL=(root) /sbin/halt", "own", ""),
        ("sudoers", "%#905 ALL=(root) /sbin/halt", "own", ""),
        ("sudoers", "%#901 ALL=(root) /sbin/halt", "", "own"),
        ("sudoers", "#2001 ALL=(root) NOPASSWD: /sbin/halt", "", "none"),
        ("sudoers", "TERN ALL=(root) /sbin/halt", "own", ""),
        ("sudoers", "ALL ALL=(root) /sbin/halt", "own", "own"),
        ("sudoers", "Defaults exempt_group=ringers\nALL ALL=(root) /sbin/halt", "none", "own"),
        ("doas.conf", "permit :ringers cmd /sbin/halt", "own", ""),
    ],
)
def test_who_is_given_a_command_among_many(tmp_path: Path, file: str, text: str, tern: str, ana: str) -> None:
    """By a name, a group or a number, of a main group without a name too; and nobody else of many."""
    accounts = among_many(tmp_path, file, text).accounts
    given = {account.name: account.elevation_asks for account in accounts if account.may_run == ("/sbin/halt",)}
    everyone = {f"gull{n}": "own" for n in MANY} if text.split("\n")[-1].startswith("ALL") else {}
    assert given == {name: asks for name, asks in (("tern", tern), ("ana", ana)) if asks} | everyone


@pytest.mark.parametrize("group", ("%night", "%#905"))
def test_a_group_makes_administrators_by_name_or_number(tmp_path: Path, group: str) -> None:
    snapshot = among_many(tmp_path, "sudoers", f"{group} ALL=(ALL) ALL")
    assert [str(each.name) for each in snapshot.groups if Grant.ADMINISTRATION in each.grants] == ["night"]
    assert [str(account.name) for account in snapshot.accounts if administers(account, snapshot)] == ["root", "tern"]


MANY = range(3000, 3010)


def among_many(root: Path, file: str, text: str) -> Snapshot:
    """A system with a dozen people, of whom tern is in two groups, and the main group of ana has no name."""
    with_files(
        with_programs(root),
        {
            "etc/passwd": "root:x:0:0::/root:/bin/sh\ntern:x:2000:900::/:/bin/sh\nana:x:2001:901::/:/bin/sh\n"
            + "".join(f"gull{n}:x:{n}:{n}::/:/bin/sh\n" for n in MANY),
            "etc/shadow": "root:*:1::::::\n",
            "etc/group": "ringers:x:900:\nnight:x:905:tern\n" + "".join(f"gull{n}:x:{n}:\n" for n in MANY),
            f"etc/{file}": f"{text}\n",
        },
    )
    (root / "usr/bin/doas").touch()
    (root / "usr/bin/doas").chmod(0o4755)
    return LinuxMachine(root, "").observe()


def test_a_second_root_does_not_answer_for_everybody(tmp_path: Path) -> None:
    with_programs(tmp_path)
    (tmp_path / "etc").mkdir()
    (tmp_path / "etc/sudoers").write_text("ALL ALL = () ALL\n")
    sudoers = Sudoers.load(Root(tmp_path))
    asked = [
        sudoers.elevation(Person(name, uid), datetime.now()).everything for name, uid in (("skua", 0), ("gull", 9))
    ]
    assert asked == [True, False]


@pytest.mark.real_root
def test_who_may_only_become_itself_is_no_administrator(sudo_root: PrivateRoot) -> None:
    """Asked by a trial as the person itself: a listing by root takes some of these for whoever lists."""
    tern = "Defaults:warden runas_default=tern\nwarden ALL = NOPASSWD: ALL\n"
    for text in (tern, *(f"warden ALL = {runas} NOPASSWD: ALL\n" for runas in ("()", "(:)", "(: ringers)", "(#2001)"))):
        put(sudo_root, text)
        tried = sudo_root.inside("sudo", "-n", "-u", "root", "true", user="2001")
        assert (tried.returncode == 0) is we_say(sudo_root)["warden", "/usr/bin/env"] is False


def test_lines_that_matter_are_reported(sudo_root: PrivateRoot, verrou: Verrou) -> None:
    lines = ("%ringers ALL=(ALL) ALL", "warden ALL=(ALL) !ALL", "tern ALL=/usr/bin/id", "broken", "+night 10.0.0.1=ALL")
    put(sudo_root, "\n".join((*lines[:-1], "")))
    output = verrou("account", "list", "--all", "-m", sudo_root.path, "--format", "json").stdout
    listed = {account["name"]: account for account in json.loads(output)}
    assert listed["warden"]["role"] == "standard", "what a group gives, a later line takes"
    assert listed["tern"]["may_run"] == ["/usr/bin/id"] and listed["tern"]["role"] == "standard"
    put(sudo_root, "\n".join((*lines, "")))
    output = verrou("account", "show", "warden", "-m", sudo_root.path, "--format", "json").stdout
    assert json.loads(output)["role"] == "unknown", (
        "a line that nobody understands may make an administrator of anybody"
    )
    sheet = sudo_root.path / "root/sheet.toml"
    sheet.write_text('[baseline]\ntitle = "x"\n[accounts.tern]\nrole = "standard"\n')
    sudo_root.inside("chpasswd", typed="tern:kittiwake-Cliff-42\n")
    audit = verrou.json("audit", "-b", sheet, "-m", sudo_root.path, code=1)
    assert [each["verdict"] for each in audit["findings"]] == ["unknown"], audit
    why = verrou.json("why", "tern", "elevate", "-m", sudo_root.path)
    assert why["answer"] == "unknown" and "--ask-system" in why["chain"][0]["change"]
    captured = verrou("baseline", "capture", "--accounts", "-m", sudo_root.path).stdout
    assert "# tern: whether it has administrator rights could not be read" in captured
    with open(sudo_root.path / "etc/sudoers", "a") as sudoers:
        sudoers.write("tern ALL=(ALL) ALL, !/bin/sh\n")
    message = verrou("survey", "-m", sudo_root.path).stderr
    assert "/etc/sudoers:6: allows everything as root except /bin/sh: that restricts no one" in message
    assert "/etc/sudoers:4: sudo skips" in message
    assert "+night cannot be looked up" in message and "10.0.0.1 cannot be looked up" in message


@given(st.text(st.sampled_from(' \t!,:=()"\\#%+ALtern/0_@'), max_size=60))
def test_any_text_is_parsed(text: str) -> None:
    for _, line in logical_lines(text.split("\n")):
        list(parsed(line))
