"""Made-up sudoers files, and what sudo itself says of them in a throwaway root."""

import subprocess
from collections.abc import Mapping
from datetime import datetime

from hypothesis import strategies as st

from debian_root import PrivateRoot
from verrou.machines.linux.files.sudoers import Elevation, Person, Sudoers
from verrou.machines.linux.root import Root

HOST = "hide-01"
PEOPLE = {"warden": (2001, ("warden", "ringers")), "tern": (2002, ("tern", "afar")), "ana b": (2003, ("ringers",))}
GROUPS = {"warden": 2001, "ringers": 2100, "afar": 2200, "tern": 2002}
COMMANDS = ("/usr/bin/env", "/usr/bin/id", "/usr/bin/true")
NAMED = COMMANDS[1:]
"""The first command stands in no generated file: whoever may run it may run everything."""

_USERS = [
    *("warden", "tern", "WARDEN", '"ana b"', "ana\\ b", "#2001", "#2002", "#02001", "%ringers", "%RINGERS"),
    *("%#2200", "%afar", "ALL", "ALL", "STAFF", "LOOP", "TWICE", "NOSUCH", "root", '"%ringers"', "+net", "%:other"),
    "nobody-here",
]
_HOSTS = ["ALL", "ALL", "ALL", "hide-01", "HIDE-01", "hide-*", "ringing-02", "HERE", "10.0.0.1", "hide-01.example"]
_RUNAS = ["ALL", "root", "ROOT", "#0", "tern", "OPS", "%root", "#2002", "%#0", '"root"', "NOSUCH", "LOOP"]
_COMMANDS = ["ALL", "ALL", "ALL", *NAMED, "/usr/bin/id -u", "/usr/bin/", "sudoedit /etc/motd", "TOOLS", "EVERYTHING"]
_COMMANDS += ["NOSUCH", "LOOP", '/usr/bin/true ""', "/usr/bin/i\\,d", "/usr/bin/i?", "list", "/usr/bin/id *"]
_TAGS = ["", "", "", "NOPASSWD: ", "PASSWD:", "NOEXEC: ", "NOPASSWD: SETENV: ", "NOPASSWD :"]
_DATES = ["", "", "", "NOTBEFORE=20200101000000Z ", "NOTAFTER=20200101000000Z ", "NOTBEFORE=20990101000000Z "]
_DATES += ["CWD=/ "]
_DATES += ["TIMEOUT=5m ", "NOTAFTER=209901010000 ", "NOTBEFORE=2020010100+0100 ", "NOTAFTER=soon "]
_DEFAULTS = [
    *("runas_default=tern", "!authenticate", "env_reset", "targetpw", "rootpw", "!case_insensitive_user", "insults"),
    *("case_insensitive_group=false", "!case_insensitive_group", 'badpass_message="a, b # c"'),
    *("runas_default = root", "exempt_group=ringers", "nosuchthing", "authenticate", "timestamp_timeout=5"),
    "secure_path += /opt",
]
_SCOPES = [
    *("", "", ":warden ", ":%ringers", ":!tern ", "@hide-01 ", "@ALL", "@other", ">root ", ">ALL ", "!/usr/bin/id "),
]
_NOISE = [
    *("# a comment \\", "", "   ", "warden", "warden ALL", "warden ALL=", "= ALL", "tern ALL=(root ALL"),
    *("tern ALL=ALL #1", "warden ALL = id", "User_Alias lower = tern", "User_Alias STAFF", "tern ALL=ALL trailing"),
    *("Defaults", "\\", "tern ALL = ALL : ", "Host_Alias ALL = hide-01", "tern,, warden ALL=ALL", "tern ALL=!!ALL"),
    "User_Aliases A = b",
]
_ALIASES = [
    *("User_Alias STAFF = warden, %afar", "User_Alias STAFF = tern", "User_Alias STAFF = !tern, ALL"),
    *("User_Alias LOOP = LOOP2, tern : LOOP2 = LOOP, !warden", "User_Alias TWICE = STAFF, STAFF, !STAFF"),
    *("Runas_Alias OPS = root, #2002", "Runas_Alias OPS = ALL, !root", "Runas_Alias LOOP = LOOP"),
    *("Host_Alias HERE = hide-01, other", "Host_Alias HERE = ALL, !hide-01"),
    *("Cmnd_Alias TOOLS = /usr/bin/id, /usr/bin/true : EVERYTHING = ALL", "Cmnd_Alias TOOLS = ALL, !/usr/bin/id"),
    *("Cmd_Alias EVERYTHING = !ALL", "Cmnd_Alias LOOP = LOOP, /usr/bin/id"),
]


def _listed(words: list[str], most: int = 3) -> st.SearchStrategy[str]:
    one = st.builds(
        lambda negated, word: negated + word, st.sampled_from(["", "", "", "!", "! ", "!!"]), st.sampled_from(words)
    )
    return st.builds(str.join, st.sampled_from([",", ", ", " , "]), st.lists(one, min_size=1, max_size=most))


_RUNAS_PART = st.one_of(
    st.just(""),
    st.just(""),
    st.builds("({}) ".format, _listed(_RUNAS)),
    st.builds("({}:{})".format, _listed(_RUNAS, 2), _listed(["ALL", "root", "%ringers", "ringers"], 1)),
    st.sampled_from(["( root )", "(root : )", "(root:)"]),
)
_COMMAND = st.builds(
    lambda runas, date, tag, commands: f"{runas}{date}{tag}{commands}",
    _RUNAS_PART,
    st.sampled_from(_DATES),
    st.sampled_from(_TAGS),
    _listed(_COMMANDS, 2),
)
_PRIVILEGE = st.builds(
    lambda hosts, commands: f"{hosts} = {', '.join(commands)}",
    _listed(_HOSTS, 2),
    st.lists(_COMMAND, min_size=1, max_size=2),
)
_ENTRY = st.builds(
    lambda users, privileges, behind: f"{users} {' : '.join(privileges)}{behind}",
    _listed(_USERS),
    st.lists(_PRIVILEGE, min_size=1, max_size=2),
    st.sampled_from(["", "", "", " # why", " \\\n", " #why \\"]),
)
_DEFAULT = st.builds(
    lambda scope, settings: f"Defaults{scope} {', '.join(settings)}",
    st.sampled_from(_SCOPES),
    st.lists(st.sampled_from(_DEFAULTS), min_size=1, max_size=2),
).filter(lambda line: not (line.startswith("Defaults:") and ("runas_default" in line or "case_" in line)))
"""A listing by root takes a person's own settings for root's: what changes the answer there is tried as the person."""
LINES = st.lists(
    st.one_of(_ENTRY, _ENTRY, _ENTRY, st.sampled_from(_ALIASES), _DEFAULT, st.sampled_from(_NOISE)),
    min_size=1,
    max_size=6,
)


def manned(root: PrivateRoot) -> None:
    """The people of the files above, in a root; its host name is :data:`HOST`."""
    root.write("/etc/hostname", f"{HOST}\n")
    # Names of hosts are looked up in files alone: there is no network to ask.
    root.write("/etc/hosts", f"127.0.0.1 localhost\n127.0.1.1 {HOST}.example {HOST}\n")
    root.write("/etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nhosts: files\n")
    members = {name: ",".join(p for p, (_, has) in PEOPLE.items() if name in has) for name in GROUPS}
    groups = "".join(f"{name}:x:{gid}:{members[name]}\n" for name, gid in GROUPS.items())
    root.write("/etc/group", root.read("/etc/group") + groups)
    users = "".join(f"{n}:x:{uid}:{GROUPS[has[0]]}::/:/bin/sh\n" for n, (uid, has) in PEOPLE.items())
    root.write("/etc/passwd", root.read("/etc/passwd") + users)
    lines = "".join(f"{name}:*:20000:0:99999:7:::\n" for name in PEOPLE)
    root.write("/etc/shadow", root.read("/etc/shadow") + lines)


def put(root: PrivateRoot, text: str) -> None:
    """The text as the root's sudoers."""
    place = root.path / "etc/sudoers"
    place.unlink(missing_ok=True)
    place.write_text(text)
    place.chmod(0o440)


def sudo_says(root: PrivateRoot) -> Mapping[tuple[str, str], bool]:
    """By person and command: whether sudo would run it as root."""
    asked = [(person, command) for person in PEOPLE for command in COMMANDS]
    script = "".join(f"sudo -l -U '{p}' -u root {c} >/dev/null 2>&1; echo $?\n" for p, c in asked)
    ended = subprocess.run(
        ["unshare", "--uts", "sh", "-c", f"hostname {HOST} && exec chroot {root.path} sh"],
        input=script,
        capture_output=True,
        text=True,
        env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C"},
        check=True,
    )
    answers = ended.stdout.split()
    assert len(answers) == len(asked), ended
    return {pair: answer == "0" for pair, answer in zip(asked, answers, strict=True)}


def we_say(root: PrivateRoot) -> dict[tuple[str, str], bool | None]:
    """By person and command: whether we say that sudo would run it as root; None where we only name patterns."""
    sudoers = Sudoers.load(Root(root.path))
    groups = {line.split(":")[0]: int(line.split(":")[2]) for line in root.read("/etc/group").splitlines()}
    found: dict[tuple[str, str], bool | None] = {}
    for name, (uid, has) in PEOPLE.items():
        message = sudoers.elevation(Person(name, uid, has, tuple(groups[g] for g in has)), datetime.now())
        for command in COMMANDS:
            found[name, command] = _allowed(message, command)
    return found


def _allowed(message: Elevation, command: str) -> bool | None:
    if any(each != command and _may_be(each) for each in (*message.commands, *message.but)):
        return None
    if command not in NAMED:
        return message.everything
    return command not in message.but if message.everything else command in message.commands


def _may_be(pattern: str) -> bool:
    return any(sign in pattern for sign in "*?[\\ :^") or pattern.endswith("/")


SAMPLES = (
    *('"tern" ALL = "ALL"', 'tern "hide-01" = ALL', "te\\x72n ALL = ALL", "tern\\  ALL = ALL"),
    *("tern hide-0[0-9] = ALL", "tern ALL = sha224:0GomF8mNN3wlDt1HD9XldjJ3SNgpFdbjO1+NsQ== /usr/bin/id"),
    *("tern ALL = /usr/bin/id, \\\n   ALL", "tern ALL = ^/usr/sbin/.*$ , ALL"),
    *("Defaults:tern,warden !authenticate\ntern ALL=ALL", "tern\tALL=(ALL:ALL)\tALL"),
    *('  @includedir "/etc/sudoers.d" # why\ntern ALL=ALL', "#include /etc/sudoers.nix\ntern ALL=ALL"),
    *("%#2200 ALL=ALL # x", "ALL,!tern ALL=ALL", "!tern, ALL ALL=ALL", "tern ALL=(ALL) TIMEOUT=10 ALL"),
    *("tern ALL=ROLE=a_r TYPE=b_t ALL", 'tern ALL=CWD="/a b" ALL', "tern ALL=(ALL) NOPASSWD:ALL:NOEXEC:ALL"),
    *("tern ALL = NOPASSWD", "tern ALL = ALL#comment", "tern ALL = /usr/bin/id#comment"),
    *("tern ALL = /usr/bin/id -u #comment", 'Defaults badpass_message = "x # y"\ntern ALL=ALL'),
    *('Defaults passprompt = "a\\\nb", !authenticate\ntern ALL=ALL', "tern ALL=(tern) ALL, (root) /usr/bin/id"),
    *("tern ALL=(tern) ALL, /usr/bin/id", "tern ALL = ALL : ringing-02 = id"),
    *("tern ALL = ALL : ringing-02 id : hide-01 = !ALL", "User_Alias STAFF = tern : A =\nSTAFF ALL=ALL"),
    "User_Alias A = warden : b = warden : STAFF = tern\nSTAFF ALL=ALL",
    *("User_Alias \\\nSTAFF = tern\nSTAFF ALL=ALL", "tern ALL=ALL\n\n\n# end \\\nwarden ALL=ALL"),
    *("Defaults\truntime\ntern,\\\nwarden ALL=ALL", "DefaultsX\ntern ALL=ALL"),
    *("Host_Alias H = hide-01\ntern H, !ALL = ALL", "Host_Alias H = hide-01\ntern !H = ALL"),
    *("Host_Alias H = 10.0.0.0/8, hide-01\ntern H = ALL", "Cmnd_Alias C = ALL, !/usr/bin/id\ntern ALL = C"),
    *("Cmnd_Alias C = ALL, !/usr/bin/id\ntern ALL = ALL, !C", "Runas_Alias R = root\ntern ALL = (R) ALL"),
    *("Runas_Alias R = root\ntern ALL = (!R) ALL", "tern ALL = (ALL, !root) ALL", "tern ALL = (ALL, !#0) ALL"),
    *("tern ALL = (%root) ALL", "tern ALL = (#00) ALL", "tern ALL=/usr/bin/id\ntern ALL=!ALL"),
    *("tern ALL=!ALL\n%afar ALL=ALL", "%afar ALL=ALL\ntern ALL=!ALL", "ALL ALL=ALL\n#2002 ALL=!ALL"),
    *("#-1 ALL=ALL\ntern ALL=ALL", "tern ALL=(root) sudoedit /etc/motd", "tern ALL=sudoedit"),
    *('tern ALL=/usr/bin/id ""', "tern ALL=list\nwarden ALL = ALL, !sudoedit"),
    *("tern ALL = ALL, !!/usr/bin/id, !/usr/bin/true", "tern ALL = (ALL) NOTBEFORE=20990101000000Z ALL"),
    *("tern ALL = (ALL) ALL, NOTBEFORE=20990101000000Z !ALL", "Defaults runas_default=tern\nwarden ALL=ALL"),
    *("Defaults targetpw\ntern ALL=ALL", "Defaults !case_insensitive_user\nTERN ALL=ALL", "TERN ALL=ALL"),
    *("User_Alias TERN = warden\nTERN ALL=ALL", "%AFAR ALL=ALL", "Defaults !case_insensitive_group\n%AFAR ALL=ALL"),
    *("tern, ALL=ALL", "tern ALL=ALL,", "tern ALL=,ALL", "tern ALL==ALL", "tern ALL (root)=ALL"),
    *("tern ALL=(root ALL)", "tern ALL=NOPASSWD ALL", "tern ALL=FOO: ALL", "tern ALL = ALL /usr/bin/id"),
    *("tern ALL = /usr/bin/i\\:d", "tern ALL = /usr/bin/id:ALL", "tern ALL = /usr/bin/id=3"),
    *("tern ALL = /usr/bin/id\\=3, ALL", "+net ALL=ALL", "!+net ALL=ALL", "tern +net=ALL", "tern ::1 = ALL"),
    *("tern 127.0.0.1/255.0.0.0 = ALL", "tern@hide-01 ALL=ALL", "tern.x ALL=ALL\ntern ALL=ALL"),
    *("@include /etc/sudoers.d/none other\ntern ALL=ALL", "@include\ntern ALL=ALL", "@includex /etc\ntern ALL=ALL"),
    *("#includedir\ntern ALL=ALL", "# include /etc/x\ntern ALL=ALL", "tern ALL=(ALL) ALL # \\\nwarden ALL=ALL"),
    'Defaults env_keep += "A B"\nDefaults env_keep-=C\ntern ALL=ALL',
    "Defaults@hide-01,ringing-02 targetpw\ntern ALL=ALL",
    "Defaults!ALL targetpw\nDefaults>root,tern rootpw\ntern ALL=ALL",
    *("Defaults!/usr/bin/id !authenticate, targetpw\ntern ALL=ALL", "Defaults : tern targetpw\ntern ALL=ALL"),
    *("Defaults lecture\nDefaults:\ntern ALL=ALL", "Defaults a=b=c\ntern ALL=ALL"),
    "Defaults umask=0022 , insults\ntern ALL=ALL",
)
"""Files with one thing each that a reader can get wrong."""
