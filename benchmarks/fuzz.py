"""Mutated inputs for every reader of a foreign file: bytes changed, doubled, cut, and grown. Prints how many were tried
and every one that got anything but an answer, or took longer than a second.

``fuzz.py 100000`` tries as many of each (promised: no find); words behind it choose readers.
"""

import random
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from verrou.core.baselines.baseline import BaselineRefused, read_baseline
from verrou.core.errors import BadInput
from verrou.core.surveys.data import snapshot_from
from verrou.machines.bench.authority import Authority, Damaged
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.linux.accounts.outside import outside_sources
from verrou.machines.linux.accounts.population import AccountFiles, login_defs, population
from verrou.machines.linux.elevation.polkit import Ours, defaults, rendered, rules_of, with_implying
from verrou.machines.linux.elevation.polkit_actions import ACTIONS, ALL
from verrou.machines.linux.entry.display_managers import automatic_accounts
from verrou.machines.linux.entry.routes import sessions
from verrou.machines.linux.files.access_file import access_list, access_rules
from verrou.machines.linux.files.account_files import GROUP, PASSWD, SHADOW, AccountFile, members_of
from verrou.machines.linux.files.authorized_keys import Keys, Owner
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.files.sign_ins import sign_ins
from verrou.machines.linux.files.sshd import REMOTE, by_origin, shells, sshd_setting
from verrou.machines.linux.files.sudoers import Person, Sudoers
from verrou.machines.linux.pam.faillock import load_faillock, lockouts, moved_back
from verrou.machines.linux.pam.quality import quality_settings
from verrou.machines.linux.pam.services import doors_without_proof
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules import idle, notice, screen
from verrou.machines.linux.rules.adapter import System
from verrou.machines.linux.rules.rights import ours

SLOW = 1.0
NOW = datetime(2026, 9, 14, 8, 30)


def keys_of_tern(root: Root) -> object:
    return Keys(root, NOW, lambda gid: ()).accepted(Owner("tern", "/home/tern", 1000))


REFUSED = (BadInput, Damaged, BaselineRefused)
SAMPLE = Path(__file__).parent.parent / "src/verrou"
WORDS = [
    b"ALL",
    b"!",
    b"(",
    b")",
    b":",
    b",",
    b"=",
    b"#",
    b"\\\n",
    b'"',
    b"\0",
    b"9" * 30,
    b"9" * 5000,
    "²".encode(),
    "٣".encode(),
    b"$y$",
    b"-1",
    b"\xff",
    b"%",
]
WORDS += [
    b"@include x\n",
    b"auth include login\n",
    b"User_Alias A = A, A\n",
    b"[",
    b"]",
    b"{",
    b"}",
    b"null",
    b"1e999",
    b".",
]


def mutated(seed: bytes, rng: random.Random) -> bytes:
    """One to six changes: a byte, a word put in, a part doubled, moved, cut or repeated many times."""
    content = bytearray(seed)
    for _ in range(rng.randint(1, 6)):
        at = rng.randrange(len(content) + 1)
        end = min(len(content), at + rng.randint(1, 40))
        match rng.randrange(6):
            case 0 if content:
                content[at - 1] = rng.randrange(256)
            case 1:
                content[at:at] = rng.choice(WORDS)
            case 2:
                content[at:at] = content[at:end]
            case 3:
                del content[at:end]
            case 4:
                content[at:at] = content[at:end] * rng.randint(2, 200)
            case _:
                other = rng.randrange(len(content) + 1)
                content[other:other] = content[at:end]
    return bytes(content[:200_000])


def on_file(name: str, read: Callable[[Root], object]) -> Callable[[bytes, Path], object]:
    """A reader of one file of a root."""

    def tried(content: bytes, folder: Path) -> object:
        place = folder / name.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
        return read(Root(folder))

    return tried


def sudoers(root: Root) -> object:
    found = Sudoers.load(root)
    return [found.elevation(Person(n, 1000, (n, "sudo"), (1000,)), NOW) for n in ("tern", "warden")]


def accounts(root: Root) -> object:
    return population(root, AccountFiles.load(root), NOW, lockouts(root, load_faillock(root), NOW))


def in_account_file(name: str) -> Callable[[bytes, Path], object]:
    def tried(content: bytes, folder: Path) -> object:
        file = AccountFile.parse(name, content.decode("utf-8", "surrogateescape"))
        assert file.text().encode("utf-8", "surrogateescape") == content
        return [(members_of(r.fields[3]), scheme_of(r.fields[1])) for r in file.records()], file.broken()

    return tried


def screens(root: Root) -> object:
    system = System(root, AccountFiles.load(root), (), ())
    return [adapter.read(system) for family in (screen, notice, idle) for adapter in family.ADAPTERS.values()]


def open_sessions(root: Root) -> object:
    return sessions(root, {1003: "tern"})


POLKIT = rendered(Ours({"rights.shut_down": ("group:sudo", "tern")}, ("removable",), ("gull",)), ACTIONS, ["sudo"])


def bench(content: bytes, _: Path) -> object:
    return snapshot_of(Authority(content.decode("utf-8", "replace")), "x")


def survey(content: bytes, _: Path) -> object:
    import json

    try:
        return snapshot_from(json.loads(content))
    except (ValueError, RecursionError) as error:
        raise BadInput(str(error)) from None


def baseline(content: bytes, _: Path) -> object:
    def none(name: str, _: str) -> tuple[str, str]:
        raise BadInput(f"no baseline {name}")

    return read_baseline(content.decode("utf-8", "replace"), "x.toml", none)


def seeds() -> dict[str, tuple[bytes, Callable[[bytes, Path], object]]]:
    """By name: an input that is right, and what reads it."""
    import json

    from verrou.core.surveys.data import survey_data

    def sample(name: str) -> bytes:
        return (SAMPLE / "demo/files/warden-03" / name).read_bytes()

    machine = Authority.fresh("hide-01", NOW)
    machine.add("tern", "Tara", "kittiwake", must_change=False)
    stack = b"auth\trequisite pam_faillock.so preauth deny=4\nauth [success=1 default=ignore] pam_unix.so nullok\n"
    stack += b"@include common-auth\nauth requisite pam_deny.so\n-session optional pam_x.so a=b [c d]\n"
    lines = (
        b"# x\nDefaults:%sudo !authenticate, runas_default=root\nUser_Alias A = tern, !warden : B = A\nA, %sudo ALL = "
    )
    lines += b"(ALL:ALL) NOPASSWD: /usr/bin/id -u, !/bin/sh : hide-01 = ALL\n@includedir /etc/sudoers.d\n"
    lines += b"#1000 ALL=ALL \\\n # y\n"
    tally = bytes(range(64)) * 3
    return {
        "sudoers": (lines, on_file("/etc/sudoers", sudoers)),
        "pam": (
            stack,
            on_file("/etc/pam.d/login", lambda root: (load_faillock(root), doors_without_proof(root))),
        ),
        "faillock": (
            b"deny = 4\nunlock_time=never\neven_deny_root\n",
            on_file("/etc/security/faillock.conf", load_faillock),
        ),
        "tally": (tally, on_file("/run/faillock/tern", lambda root: lockouts(root, load_faillock(root), NOW))),
        "moved tally": (tally, lambda content, _: moved_back(content, NOW - NOW)),
        "pwquality": (
            b"minlen = 9\ndcredit=-1\n",
            on_file("/etc/security/pwquality.conf", lambda root: quality_settings(root, None)),
        ),
        "access": (
            b"-:(guests):ALL EXCEPT LOCAL\n+:tern EXCEPT warden:tty1 10.\n",
            on_file(
                "/etc/security/access.conf", lambda root: access_list(access_rules(root, "login"), REMOTE, ["guests"])
            ),
        ),
        "sshd": (
            b"PermitRootLogin no\nInclude /etc/ssh/x.d/*\nMatch User tern\n",
            on_file("/etc/ssh/sshd_config", lambda r: sshd_setting(r, "permitrootlogin", "")),
        ),
        "sshd blocks": (
            b'AllowUsers tern\nMatch User t*,!tern Address 10.0.0.0/8\nDenyGroups "a b"\nMatch all\nBanner /etc/x\n',
            on_file("/etc/ssh/sshd_config", lambda r: (shells(r, [("tern", ["guests"])]), list(by_origin(r)))),
        ),
        "lightdm": (
            b"[Seat:*]\nautologin-user=tern\nautologin-user-timeout=3\nguest-account-script=guest -x\n[LightDM]\na=b\n",
            on_file("/etc/lightdm/lightdm.conf", automatic_accounts),
        ),
        "greetd": (
            b'[initial_session]\nuser = "tern"\n[x]\ny = [1, 2]\n',
            on_file("/etc/greetd/config.toml", automatic_accounts),
        ),
        "getty": (
            b"[Service]\nExecStart=\nExecStart=-/sbin/agetty --autologin tern - $TERM\n",
            on_file("/etc/systemd/system/getty@tty1.service.d/x.conf", automatic_accounts),
        ),
        "polkit rules": (
            POLKIT.encode(),
            on_file("/etc/polkit-1/rules.d/10-verrou.rules", lambda r: (ours(r), rules_of(r))),
        ),
        "polkit actions": (
            b'<?xml version="1.0"?><policyconfig><action id="org.freedesktop.login1.reboot"><defaults><allow_active>yes'
            b'</allow_active></defaults><annotate key="org.freedesktop.policykit.imply">a</annotate>'
            b"</action></policyconfig>",
            on_file("/usr/share/polkit-1/actions/x.policy", lambda r: (defaults(r, ALL), with_implying(r, ALL))),
        ),
        "idle": (b"export TMOUT=60\nreadonly TMOUT\n", on_file("/etc/profile.d/x.sh", screens)),
        "logind": (b"[Login]\nIdleAction=lock\nIdleActionSec=1h 30min\n", on_file("/etc/systemd/logind.conf", screens)),
        "issue": (b"Cap Fauvel\n\nQuiet, please. \\n \\l\n", on_file("/etc/issue", screens)),
        "nsswitch": (
            b"passwd: files sss [NOTFOUND=return] ldap\n",
            on_file("/etc/nsswitch.conf", lambda r: list(outside_sources(r))),
        ),
        "login.defs": (b"UID_MIN 1000\nPASS_MAX_DAYS\t90\n", on_file("/etc/login.defs", login_defs)),
        "passwd": (sample("etc/passwd"), in_account_file(PASSWD)),
        "shadow": (sample("etc/shadow"), in_account_file(SHADOW)),
        "group": (sample("etc/group"), in_account_file(GROUP)),
        "accounts": (sample("etc/passwd"), on_file("/etc/passwd", accounts)),
        "ages": (sample("etc/shadow"), on_file("/etc/shadow", accounts)),
        "crontab": (b"SHELL=/bin/sh\n@daily x\n5 4 * * * y\n", on_file("/var/spool/cron/crontabs/tern", accounts)),
        "cron.d": (b"# x\n17 * * * * tern /bin/true\n@reboot warden x\n", on_file("/etc/cron.d/x", accounts)),
        "unit": (b"[Service]\nUser=tern\nExecStart=/bin/true\n", on_file("/etc/systemd/system/x.service", accounts)),
        "session": (
            b"UID=1003\nUSER=tern\nCLASS=user\nREALTIME=17\n",
            on_file("/run/systemd/sessions/3", open_sessions),
        ),
        "keys": (
            b'command="x \\" y",no-pty ssh-ed25519 AAAA tern@hide\n# x\necdsa-sha2-nistp256 BBBB\n',
            on_file("/home/tern/.ssh/authorized_keys", keys_of_tern),
        ),
        "lastlog": (bytes(292) * 3, on_file("/var/log/lastlog", sign_ins)),
        "wtmp": (bytes([7, 0]) + bytes(382) + bytes([2]) * 384, on_file("/var/log/wtmp", sign_ins)),
        "lastlog2": (b"SQLite format 3\0" + bytes(600), on_file("/var/lib/lastlog/lastlog2.db", sign_ins)),
        "utmp": (bytes([7, 0]) + b"x" * 382, on_file("/run/utmp", open_sessions)),
        "bench": (machine.text().encode(), bench),
        "survey": (json.dumps(survey_data(snapshot_of(machine, "x"))).encode(), survey),
        "baseline": ((SAMPLE / "baselines/shared-desk.toml").read_bytes(), baseline),
    }


PROGRAMS = ("usr/sbin/sshd", "usr/sbin/lightdm", "usr/sbin/greetd", "usr/sbin/guest")


def main() -> None:
    most = int(sys.argv[1]) if len(sys.argv) > 1 else 2_000
    chosen = sys.argv[2:]
    finds = 0
    for name, (seed, read) in seeds().items():
        if chosen and name not in chosen:
            continue
        rng = random.Random(name)
        found: dict[str, bytes] = {}
        slowest = 0.0
        with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
            root = Path(folder)
            for sudo in ("usr/bin/sudo", "usr/lib/security/pam_faillock.so", *PROGRAMS):
                (root / sudo).parent.mkdir(parents=True, exist_ok=True)
                (root / sudo).touch()
            (root / "etc/pam.d").mkdir(parents=True)
            (root / "etc/ssh").mkdir()
            (root / "etc/ssh/sshd_config").touch()
            (root / "etc/pam.d/login").write_text("account required pam_access.so\nauth required pam_unix.so\n")
            for _ in range(most):
                content = mutated(seed, rng)
                started = time.perf_counter()
                try:
                    read(content, root)
                except REFUSED:
                    pass
                except Exception as error:
                    found.setdefault(f"{type(error).__name__}: {error}"[:80], content)
                took = time.perf_counter() - started
                slowest = max(slowest, took)
                if took > SLOW:
                    found.setdefault("slow", content)
        finds += len(found)
        print(f"{name:12} {most} inputs, slowest {slowest:.3f} s, {len(found)} finds", flush=True)
        for what, content in found.items():
            print(f"    {what}\n    {content[:300]!r}")
    print(f"{finds} finds (promised: none)")
    raise SystemExit(1 if finds else 0)


if __name__ == "__main__":
    main()
