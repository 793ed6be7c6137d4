"""What is told of a PAM stack is what libpam does with it: generated stacks, each asked of PAM itself."""

import faulthandler
import json
import os
import shutil
import socket
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, admitted_at_the_console, examples
from debian_root import PrivateRoot
from verrou.core.model import AccountName, PasswordState, Snapshot
from verrou.core.model.access import Credential, admitted, doubts
from verrou.core.model.known import Known, all_of, any_of
from verrou.core.model.routes import Route
from verrou.machines.linux.pam.client import Session
from verrou.machines.linux.pam.control import NEW_PASSWORD, RESULTS, SUCCESS
from verrou.machines.linux.pam.interpreter import Verdict, interpret
from verrou.machines.linux.pam.modules import Attempt, Modules, PamUser, Proof
from verrou.machines.linux.pam.stack import PamLine, load_stack
from verrou.machines.linux.root import Root
from verrou.machines.registry import open_machine

AFAR = "203.0.113.1"
MOST_BYTES = 1 << 20
SHUT = "auth required pam_deny.so\naccount required pam_deny.so\n"


def inside(root: PrivateRoot, ask: Callable[[], object]) -> Any:
    """What ``ask`` finds in the root; None where it ends without an answer, as libpam does over some files."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        faulthandler.disable()  # libpam breaks down over some files: that is an answer
        try:
            os.chroot(root.path)
            os.chdir("/")
            os.write(writing, json.dumps(ask()).encode())
        finally:
            os._exit(0)
    os.close(writing)
    with os.fdopen(reading, "rb") as answer:
        output = answer.read(MOST_BYTES)
    os.waitpid(child, 0)
    return json.loads(output) if output else None


returned = st.sampled_from(
    ("success", "perm_denied", "auth_err", "ignore", "new_authtok_reqd", "user_unknown", "system_err", "acct_expired")
)
actions = st.sampled_from(("ok", "done", "bad", "die", "ignore", "reset", "1", "2", "3", "0", "9", "okay", "99999999"))
pairs = st.tuples(returned | st.just("default"), st.sampled_from(("=", "=", " = ")), actions).map("".join)
controls = st.sampled_from(("required", "requisite", "sufficient", "optional", "Required", "requird", "[required]")) | (
    st.tuples(st.lists(pairs, min_size=1, max_size=4), st.sampled_from((" ", "  ", ""))).map(
        lambda made: f"[{made[1].join(made[0])}]"
    )
)
ends = st.sampled_from(("",) * 6 + (" # c", " \\\n", "\r", "\t", " \\\n\n"))


@st.composite
def debug_lines(draw: st.DrawFn, kind: str) -> str:
    return f"{kind} {draw(controls)} pam_debug.so auth={draw(returned)} acct={draw(returned)}{draw(ends)}"


kinds = st.sampled_from(("auth", "account", "auth", "account", "-auth", "AUTH", "session", "sesion"))
odd = st.sampled_from(
    (
        *("@include one", "@include two", "@include gone", "@include", "auth", "account required", "auth sufficient"),
        *("auth include", "-auth optional pam_none.so", "account required pam_none.so", "auth [success=ok", "# c"),
    )
)
includes = st.tuples(
    kinds, st.sampled_from(("include", "substack", "Include")), st.sampled_from(("one", "two", "gone"))
)
lines = st.one_of(*[kinds.flatmap(debug_lines)] * 8, includes.map(" ".join), odd)
files = st.tuples(st.lists(lines, max_size=6).map("\n".join), st.sampled_from(("\n", ""))).map("".join)


def told_by_debug(facility: str) -> Callable[[PamLine, bool], frozenset[str]]:
    key = {"auth": "auth=", "account": "acct="}[facility]

    def answers(line: PamLine, asked: bool) -> frozenset[str]:
        if line.module != "pam_debug.so":
            return frozenset(("auth_err" if line.module == "pam_deny.so" else "module_unknown",))
        found = [word.removeprefix(key) for word in line.arguments if word.startswith(key)]
        return frozenset((found[0] if found and found[0] in RESULTS else SUCCESS,))

    return answers


OVER_A_SUBSTACK = (
    "auth [success=1 default=ignore] pam_debug.so auth=success\nauth substack one\n"
    "auth required pam_debug.so auth=success\naccount required pam_debug.so acct=success\n"
)


@pytest.mark.real_root
def test_libpam_has_the_same_result_over_any_lines(root: PrivateRoot) -> None:
    """Controls, jumps, substacks, includes, broken lines and files: the very result, and whether it starts at all."""
    root.write("/etc/pam.d/other", SHUT)

    @examples(60)
    @example((OVER_A_SUBSTACK, "auth required pam_debug.so auth=auth_err\n" * 2, ""))
    @given(st.tuples(files, files, files))
    def holds(texts: Sequence[str]) -> None:
        for name, text in zip(("hide", "one", "two"), texts, strict=True):
            root.write(f"/etc/pam.d/{name}", text)
        asked = inside(root, Session("hide", "root", lambda _: "").results)
        stacks = [load_stack(Root(root.path), "hide", facility) for facility in ("auth", "account")]
        if any(stack.fatal for stack in stacks):
            assert asked is None
            return
        output = [
            interpret(s.chain, told_by_debug(f), lambda _: False)
            for f, s in zip(("auth", "account"), stacks, strict=True)
        ]
        assert asked is not None and [RESULTS[code] for code in asked] == [each.result for each in output]

    holds()


PEOPLE = ("ana", "root", "bors", "blank", "kin", "old", "due", "gone", "shut", "lost")


def somebodies(root: PrivateRoot) -> Iterator[PamUser]:
    """The accounts that the stacks are asked about, as their files have them."""
    groups = [line.split(":") for line in root.read("/etc/group").split("\n") if line]
    states = {"blank": PasswordState.BLANK, "shut": PasswordState.NONE, "lost": PasswordState.NONE}
    for line in root.read("/etc/passwd").split("\n"):
        name, _, uid, gid, _, home, shell = line.split(":") if line else ["", "", "0", "0", "", "", ""]
        if name in PEOPLE:
            mine = tuple(each[0] for each in groups if each[2] == gid or name in each[3].split(","))
            yield PamUser(
                *(name, int(uid), int(gid), mine, shell, home, states.get(name, PasswordState.SET)),
                ended=name == "gone",
                aged_out=name == "old",
                due=name == "due",
                lacks_shadow_line=name == "lost",
            )


words_about_people = st.sampled_from(
    (
        *("ana", "bors", "root", "ALL", "(staff)", "staff", "Ana", "ana,bors", "ALL EXCEPT root", "@ng", "except"),
        *(f"ana@{socket.gethostname()}", "bors@nowhere", "(staff) EXCEPT bors", "ALL EXCEPT root EXCEPT root"),
    )
)
places = st.sampled_from(
    (
        *("ALL", "LOCAL", "local", "tty1", "TTY1", AFAR, "203.0.113.", "203.0.113.0/24", "10.0.0.0/8"),
        *(".fauvel", "ssh"),
        *("ALL EXCEPT LOCAL", "tty2 tty1", "0.0.0.0/0", "203.0.113.0/255.255.255.0", "hide-01", f"ALL EXCEPT {AFAR}"),
    )
)
access_line = st.tuples(
    *(st.sampled_from(("+", "-", "+ ", " +", "#-")), st.sampled_from((":", " : "))),
    *(words_about_people, st.sampled_from((":", " : ")), places, st.sampled_from(("", " ", " # x", ":x"))),
).map("".join)
access = st.tuples(
    st.lists(access_line, max_size=4).map("\n".join), st.sampled_from(("\n", "", "\n-:ALL:ALL\n", "\n- : ALL : ALL"))
).map("".join)
conditions = st.sampled_from(
    (
        *("user = ana", "user ingroup staff", "uid >= 1000", "uid < 1000", "user != root", "user in ana:bors", "quiet"),
        *("shell = /bin/bash", "tty = tty1", f"rhost = {AFAR}", "service = hide", "gid eq 0", "user =~ *o*", "uid = x"),
        *("user notin root", "user blah x", "home = /root", "user !~ a?a", "user innetgr x", "user notingroup staff"),
    )
)
modules = st.one_of(
    st.sampled_from(
        ("", "nullok", "try_first_pass", "use_first_pass", "no_pass_expiry", "broken_shadow"),
    ).map("pam_unix.so {}".format),
    st.lists(conditions, max_size=2).map(lambda message: f"pam_succeed_if.so {' '.join(message)}"),
    st.sampled_from(("", " nodefgroup", " listsep=,", " fieldsep=|")).map(
        "pam_access.so accessfile=/etc/hide.access{}".format
    ),
    st.tuples(
        st.sampled_from(("user", "group", "tty", "rhost", "shell")),
        st.sampled_from(("allow", "deny")),
        st.sampled_from(("list", "none")),
        st.sampled_from(("", " onerr=succeed")),
    ).map(lambda made: "pam_listfile.so item={} sense={} file=/etc/hide.{}{}".format(*made)),
    st.sampled_from(
        (
            *("pam_permit.so", "pam_deny.so", "pam_nologin.so", "pam_nologin.so successok", "pam_access.so"),
            *("pam_localuser.so", "pam_localuser.so file=/etc/hide.list", "pam_usertype.so issystem", "pam_shells.so"),
            *("pam_usertype.so isregular", "pam_securetty.so noconsole", "pam_rootok.so", "pam_env.so", "pam_group.so"),
            *("pam_faildelay.so delay=1", "pam_limits.so", "pam_warn.so", "pam_faillock.so preauth", "pam_time.so"),
            *("pam_faillock.so preauth conf=/etc/none", "pam_tty_audit.so", "pam_systemd.so", "pam_setquota.so"),
            *("pam_faillock.so authfail", "pam_none.so", "pam_exec.so /bin/true", "pam_wheel.so", "/opt/pam_permit.so"),
            *("pam_sepermit.so", "pam_keyinit.so", "pam_mail.so", "pam_umask.so", "pam_motd.so", "pam_stress.so"),
        )
    ),
)
heeded = st.sampled_from(
    (
        *("required", "requisite", "sufficient", "optional", "[success=1 default=ignore]", "[success=ok default=bad]"),
        *("[success=2 new_authtok_reqd=done default=die]", "[default=1 success=ok ignore=ignore]", "[default=die]"),
        *("[success=done default=ignore]", "[success=1 user_unknown=ignore default=bad]"),
    )
)
stacks = st.lists(
    st.tuples(st.sampled_from(("auth", "account")), heeded, modules).map(" ".join), min_size=2, max_size=8
)


PERMIT = "auth required pam_permit.so"
LISTED = "account required pam_access.so accessfile=/etc/hide.access"


def with_people(root: PrivateRoot) -> list[PamUser]:
    """Accounts of each kind, made by the system's own tools."""
    root.inside("groupadd", "-f", "staff")
    root.inside("ln", "-s", "bash", "/bin/zsh")
    for name, how in (
        ("kin", "-rmGstaff"),
        ("bors", "-mGstaff"),
        *((n, "-m") for n in PEOPLE if n not in ("kin", "bors", "root")),
    ):
        root.inside("useradd", how, "-s", "/bin/bash" if name == "ana" else "/bin/zsh", name)
    root.inside("chpasswd", typed="".join(f"{name}:{GOOD_PASSWORD}\n" for name in PEOPLE))
    for command in (
        *("passwd -d blank", "usermod -L shut", "chage -E 1 gone", "chage -d 0 due", "chage -d 10 -M 5 -I 3 old"),
        *("sed -i /^lost:/d /etc/shadow", "sed -i s/^bors:x:/bors:##bors:/ /etc/passwd"),
    ):
        root.inside(*command.split())
    root.write("/etc/pam.d/other", SHUT)
    root.write("/etc/hostname", f"{socket.gethostname()}\n")
    people = list(somebodies(root))
    assert len(people) == len(PEOPLE)
    return people


@pytest.mark.real_root
def test_no_answer_is_wrong_about_anybody_from_anywhere(root: PrivateRoot) -> None:
    """Yes and no are what PAM says; what is not known is said to be so, and seldom."""
    people = with_people(root)
    counted = {Known.YES: 0, Known.NO: 0, Known.UNKNOWN: 0}

    def asked(who: str, proof: Proof, host: str) -> tuple[int, int] | None:
        typed = GOOD_PASSWORD if proof is Proof.RIGHT else "wrong"
        found = Session("hide", who, lambda _: typed, host, "ssh" if host else "tty1").results()
        shutil.rmtree("/run/faillock", ignore_errors=True)
        return found

    attempts = [
        Attempt("hide", who, "ssh" if host else "tty1", host, proof)
        for who in people
        for proof in (Proof.RIGHT, Proof.WRONG)
        for host in ("", AFAR)
    ]

    @examples(4)
    @example([PERMIT, LISTED], "+:ALL:0.0.0.0/0\n-:ALL:ALL\n", "", [], False)
    @given(
        stacks,
        access,
        access,
        st.lists(st.sampled_from(("ana", "bors", "staff", "tty1", AFAR, "/bin/bash"))),
        st.booleans(),
    )
    def holds(stack: list[str], mine: str, common: str, listed: list[str], closed: bool) -> None:
        root.write("/etc/pam.d/hide", "\n".join(stack) + "\n")
        root.write("/etc/hide.access", mine)
        root.write("/etc/security/access.conf", common)
        root.write("/etc/hide.list", "".join(f"{name}\n" for name in listed))
        (root.path / "etc/nologin").unlink(missing_ok=True)
        if closed:
            root.write("/etc/nologin", "")
        answers = inside(root, lambda: [asked(each.user.name, each.proof, each.host) for each in attempts])
        known = Modules(Root(root.path))
        for attempt, answer in zip(attempts, answers, strict=True):
            for facility, code in zip(("auth", "account"), answer, strict=True):
                output = told_of(known, facility, attempt)
                counted[output.answer] += 1
                if output.answer is not Known.UNKNOWN:
                    message = Known.of(RESULTS[code] in (SUCCESS, NEW_PASSWORD))
                    assert output.answer is message, (facility, attempt, RESULTS[code], output.result)

    holds()
    assert counted[Known.UNKNOWN] < 0.25 * sum(counted.values()), counted


def told_of(known: Modules, facility: str, attempt: Attempt) -> Verdict:
    return known.verdict(facility, load_stack(known.root, attempt.service, facility), attempt)


WITHOUT_SHADOW = [
    *("auth [authinfo_unavail=ignore success=ok default=bad] pam_unix.so", "auth required pam_permit.so"),
    "account required pam_unix.so broken_shadow",
]
"""A stack that admits an account whose line in the shadow file is missing."""


@pytest.mark.real_root
def test_what_is_reported_of_access_is_what_pam_decides(root: PrivateRoot) -> None:
    """For every account at the console and from another computer: by password, by key, by a name alone; by reading
    its files, and by asking it."""
    people = with_people(root)
    for name in ("ana", "shut", "gone", "lost"):
        root.write(f"/home/{name}/.ssh/authorized_keys", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYLVDhmzhi3YUgdXk0 x\n")
        root.inside("chown", "-R", f"{name}:{name}", f"/home/{name}/.ssh")
    shells = {"login": ("", Route.CONSOLE), "sshd": (AFAR, Route.REMOTE_SHELL)}
    counted = {how: {Known.YES: 0, Known.NO: 0, Known.UNKNOWN: 0} for how in (False, True)}

    def asked(who: PamUser, service: str, host: str) -> list[tuple[int, int] | None]:
        terminal = "ssh" if host else "tty1"
        found = [
            Session(service, who.name, lambda _, t=typed: t, host, terminal).results()
            for typed in ("wrong", GOOD_PASSWORD)
        ]
        shutil.rmtree("/run/faillock", ignore_errors=True)
        return found

    @examples(4)
    @example(WITHOUT_SHADOW, WITHOUT_SHADOW, "")
    @given(stacks, stacks, access)
    def holds(here: list[str], afar: list[str], mine: str) -> None:
        for service, stack in (("login", here), ("sshd", afar)):
            root.write(f"/etc/pam.d/{service}", "\n".join(stack) + "\n")
        root.write("/etc/hide.access", mine)
        snapshots = {how: open_machine(str(root.path)).observe(asked=how) for how in counted}
        for service, (host, _) in shells.items():
            answers = inside(root, lambda s=service, h=host: [asked(each, s, h) for each in people])
            for how, snapshot in snapshots.items():
                compare(snapshot, counted[how], service, answers)

    def compare(snapshot: Snapshot, counted: dict[Known, int], service: str, answers: Any) -> None:
        host, route = shells[service]
        for who, tried in zip(people, answers, strict=True):
            account = snapshot.by_name[AccountName(who.name)]
            output = [
                admitted(account, g, snapshot)
                for g in snapshot.entry_points
                if g.route is route and service in g.services
            ]
            (wrong, _), (right, let_in) = (
                [RESULTS[code] in (SUCCESS, NEW_PASSWORD) for code in each] for each in tried
            )
            if not account.may_sign_in or (route is Route.REMOTE_SHELL and who.uid == 0):
                continue
            really = Credential.KEY if let_in and account.keys and host else None
            with_password = right and (not host or who.password is not PasswordState.BLANK)
            really = Credential.PASSWORD if let_in and with_password else really
            if really is Credential.PASSWORD and wrong:
                really = Credential.NAME
            if who.password is PasswordState.BLANK and really in (Credential.NAME, Credential.PASSWORD):
                really = Credential.BLANK
            known = [each for each in output if each is not Credential.UNKNOWN]
            counted[Known.UNKNOWN if len(known) < len(output) else Known.of(really is not None)] += 1
            if doubts(account, route, snapshot):
                assert really or not known, (service, who, tried, output)  # less may be enough
                continue
            assert all(each is really for each in known), (service, who, tried, output, really)

    holds()
    for how, most in ((False, 0.25), (True, 0.05)):
        assert counted[how][Known.UNKNOWN] <= most * sum(counted[how].values()), counted


values = st.sampled_from(list(Known))


@given(st.lists(values), st.lists(st.booleans(), min_size=20))
def test_who_knows_more_turns_nothing_round(answers: list[Known], learned: list[bool]) -> None:
    """What was yes or no stays so, whatever the unknown turns out to be."""
    known = [Known.of(more) if each is Known.UNKNOWN else each for each, more in zip(answers, learned, strict=False)]
    for combine in (all_of, any_of, lambda found: ~all_of(found), lambda found: any_of(found) & all_of(found)):
        before = combine(answers[: len(known)])
        assert before is Known.UNKNOWN or combine(known) is before


def test_substacks_within_each_other_are_taken_as_deep_as_libpam_takes_them(root: PrivateRoot) -> None:
    root.write("/etc/pam.d/other", SHUT)
    for depth in range(25):
        root.write(f"/etc/pam.d/deep{depth}", f"auth substack deep{depth + 1}\nauth optional pam_permit.so\n")
    root.write("/etc/pam.d/deep25", "auth required pam_permit.so\n")
    for depth in range(5, 12):
        code, _ = inside(root, Session(f"deep{depth}", "root", lambda _: "").results)
        output = told_of(Modules(Root(root.path)), "auth", Attempt(f"deep{depth}", PamUser("root", 0, 0), "tty1"))
        assert output.result == RESULTS[code]


@pytest.mark.real_root
def test_a_stack_can_deny_whoever_has_to_change_the_password(root: PrivateRoot, verrou: Verrou) -> None:
    for name in ("tern", "gull"):
        root.inside("useradd", "-m", "-s", "/bin/bash", name)
        root.inside("chpasswd", typed=f"{name}:{GOOD_PASSWORD}\n")
    root.inside("chage", "-d", "0", "tern")
    lines = "[success=1 default=ignore] pam_unix.so", "required pam_deny.so", "required pam_permit.so"
    account = "".join(f"account {line}\n" for line in lines)
    root.write("/etc/pam.d/login", f"@include common-auth\n{account}@include common-session\n")
    assert admitted_at_the_console(root, verrou, "tern", "gull") == ["gull"]
