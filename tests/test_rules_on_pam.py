"""Every rule that Verrou sets on a real system, judged by PAM, passwd, sshd and chage."""

import json
from itertools import takewhile
from pathlib import Path

import pytest

from conftest import GOOD_PASSWORD, Verrou, bare
from debian_root import PrivateRoot

pytestmark = pytest.mark.real_root
LOCKING_STACK = """\
auth\trequisite\tpam_faillock.so preauth deny=9 nodelay
auth\t[success=1 default=ignore]\tpam_unix.so nodelay
auth\t[default=die]\tpam_faillock.so authfail deny=9 nodelay
auth\trequired\tpam_permit.so
auth\trequired\tpam_faillock.so authsucc
"""


def sets(verrou: Verrou, root: PrivateRoot, *rules: str, code: int = 0) -> str:
    return verrou("rule", "set", *rules, "-m", root.path, "--yes", code=code).stdout


def reading(verrou: Verrou, root: PrivateRoot, rule: str) -> dict[str, object]:
    shown = verrou("rule", "show", rule, "-m", root.path, "--format", "json").stdout
    output: dict[str, object] = json.loads(shown)[rule]
    return output


def locks_after(root: PrivateRoot, attempts: int, account: str = "warden", password: str = GOOD_PASSWORD) -> bool:
    for _ in range(attempts):
        assert not root.signs_in(account, "wrong")
    return not root.signs_in(account, password)


@pytest.fixture
def quick_root(manned_root: PrivateRoot) -> PrivateRoot:
    """With a lock-out whose limit stands as an argument, and no delay after a wrong password."""
    manned_root.write("/etc/pam.d/common-auth", LOCKING_STACK)
    return manned_root


def test_an_argument_that_decides_is_what_gets_changed(quick_root: PrivateRoot, verrou: Verrou) -> None:
    quick_root.write("/etc/security/faillock.conf", "deny = 2\n")
    before = reading(verrou, quick_root, "lockout.after")
    assert bare(before["value"]) == 2, "the line after the password checks too, and it has no argument of its own"
    assert locks_after(quick_root, 2)
    quick_root.inside("faillock", "--user", "warden", "--reset")
    sets(verrou, quick_root, "lockout.after=3")
    assert quick_root.read("/etc/pam.d/common-auth").count("deny=3") == 3
    assert quick_root.read("/etc/security/faillock.conf") == "deny = 2\n"
    after = reading(verrou, quick_root, "lockout.after")
    assert after["overrides"][0]["place"] == "/etc/security/faillock.conf"  # type: ignore[index]
    assert not locks_after(quick_root, 2)
    assert locks_after(quick_root, 3)


@pytest.mark.parametrize(
    ("conf", "after"),
    [
        ("deny = 2\ndeny = x\n", 2),
        ("deny = 2\ndeny =\n", 2),
        ("deny = +2.9\n", 2),
        ("deny = 65538\n", 2),
        ("deny = -1\n", 65535),
        ("deny = 2\nunlock_time = 604801\nfail_interval = -1\n", 2),
    ],
)
def test_numbers_are_read_as_the_module_reads_them(
    quick_root: PrivateRoot, verrou: Verrou, conf: str, after: int
) -> None:
    quick_root.write("/etc/pam.d/common-auth", LOCKING_STACK.replace("deny=9", "deny=y"))
    quick_root.write("/etc/security/faillock.conf", conf)
    found = {key: bare(reading(verrou, quick_root, f"lockout.{key}")["value"]) for key in ("after", "lasts")}
    assert found == {"after": after, "lasts": "PT10M"}
    assert locks_after(quick_root, 2) is (after == 2)
    assert (
        "accepts 7 days or less"
        in verrou(*("rule", "set", "lockout.lasts=8 days", "-m", quick_root.path, "--yes"), code=2).stderr
    )


@pytest.mark.parametrize(
    ("denies", "counts", "attempts"), [("deny=3", "deny=2", 5), ("deny=2", "deny=2 dir=/run/other", 4)]
)
def test_lines_that_count_differently_lock_nobody_and_are_not_known_to(
    quick_root: PrivateRoot, verrou: Verrou, denies: str, counts: str, attempts: int
) -> None:
    first, second, third, *rest = LOCKING_STACK.splitlines()
    lines = [first.replace("deny=9", denies), second, third.replace("deny=9", counts), rest[0]]
    quick_root.write("/etc/pam.d/common-auth", "\n".join(lines) + "\n")
    found = reading(verrou, quick_root, "lockout.after")
    assert found["status"] == "unknown" and "pam_faillock.so authfail" in str(found["source"])
    assert not locks_after(quick_root, attempts)


def test_settings_in_another_file_are_not_known(quick_root: PrivateRoot, verrou: Verrou) -> None:
    quick_root.write("/etc/pam.d/common-auth", LOCKING_STACK.replace("deny=9", "conf=/etc/lock.conf"))
    quick_root.write("/etc/lock.conf", "deny = 4\n")
    found = reading(verrou, quick_root, "lockout.after")
    assert found["status"] == "unknown" and "/etc/lock.conf, which is not read" in str(found["reason"])
    assert "move them to /etc/security/faillock.conf" in str(found["remedy"])


def test_members_of_a_group_that_is_never_locked_are_told(quick_root: PrivateRoot, verrou: Verrou) -> None:
    quick_root.write("/etc/security/faillock.conf", "deny = 2\nadmin_group = sudo\n")
    assert not locks_after(quick_root, 3), "warden is in that group"
    found = reading(verrou, quick_root, "lockout.exempts")
    assert found["status"] == "unknown" and "members of group sudo" in str(found["reason"])
    quick_root.write("/etc/security/faillock.conf", "deny = 2\nadmin_group = sudo\neven_deny_root\n")
    assert bare(reading(verrou, quick_root, "lockout.exempts")["value"]) == "nobody" and locks_after(quick_root, 2)


@pytest.mark.parametrize(
    ("exempts", "conf"),
    [("nobody", "root_unlock_time = 60\n"), ("built-in", "even_deny_root\nroot_unlock_time = 90\n")],
)
def test_the_built_in_administrator_locks_when_told(
    quick_root: PrivateRoot, verrou: Verrou, exempts: str, conf: str
) -> None:
    quick_root.inside("usermod", "-p", quick_root.read("/etc/shadow").splitlines()[-1].split(":")[1], "root")
    quick_root.write("/etc/security/faillock.conf", f"deny = 2\n{conf}")
    assert bare(reading(verrou, quick_root, "lockout.exempts")["value"]) != exempts
    assert locks_after(quick_root, 2, "root") is (exempts == "built-in")
    quick_root.inside("faillock", "--user", "root", "--reset")
    sets(verrou, quick_root, "lockout.after=2", f"lockout.exempts={exempts}")
    assert locks_after(quick_root, 2, "root") is (exempts == "nobody")


def test_an_account_that_is_looser_than_new_ones_fails_no_test(
    manned_root: PrivateRoot, verrou: Verrou, tmp_path: Path
) -> None:
    manned_root.write("/etc/login.defs", manned_root.read("/etc/login.defs") + "PASS_MAX_DAYS 60\n")
    manned_root.inside("chage", "-M", "90", "warden")
    (tmp_path / "age.toml").write_text('[baseline]\ntitle = "Ages"\n[password]\nmax_age = "90 days"\n')
    found = verrou.json("verify", "-m", manned_root.path, "-b", "age.toml")
    (test,) = [each for each in found["tests"] if each["rule"] == "password.max_age"]
    assert test["result"] == "not-run" and "/etc/shadow" in test["seen"]


def test_a_lock_until_unlocked_stays(quick_root: PrivateRoot, verrou: Verrou) -> None:
    rules = ("lockout.after=2", "lockout.lasts=until-unlocked", "lockout.forget_after=15 minutes")
    assert "expiring-administrator" in verrou("rule", "set", *rules, "-m", quick_root.path, "--yes", code=3).stderr
    sets(verrou, quick_root, *rules, "--override", "expiring-administrator")
    assert locks_after(quick_root, 2)
    listed = verrou.json("account", "list", "-m", quick_root.path)
    warden = next(account for account in listed if account["name"] == "warden")
    assert (warden["locked_until"], warden["failed_attempts"]) == ("until-unlocked", 2)
    assert "locked" in warden["states"]
    shown = verrou("account", "show", "warden", "-m", quick_root.path).stdout
    assert "group sudo: administration (/etc/sudoers:" in " ".join(shown.split())
    tally = quick_root.inside("faillock", "--user", "warden").stdout.splitlines()
    assert len([line for line in tally if line.endswith(" V")]) == warden["failed_attempts"]
    verrou("account", "unlock", "warden", "-m", quick_root.path, "--yes")
    assert quick_root.signs_in("warden", GOOD_PASSWORD)


def accepts(root: PrivateRoot, new: str, old: str = GOOD_PASSWORD) -> bool:
    """passwd(1) as warden; when it takes the new password, the old one is put back behind its back."""
    line = next(x for x in root.read("/etc/shadow").splitlines() if x.startswith("warden:"))
    root.inside("chage", "-d", "2026-01-01", "warden")
    taken = root.inside("passwd", user="warden", typed=f"{old}\n{new}\n{new}\n").returncode == 0
    if taken:
        root.inside("usermod", "-p", line.split(":")[1], "warden")
    return taken


@pytest.mark.parametrize(
    ("argument", "kept"),
    [("remember=3", 3), ("Remember=2x", 2), ("remember=x", 0), ("remember=-5", 0), ("remember=3 remember=1", 1)],
)
def test_what_is_remembered_is_what_the_module_remembers(
    manned_root: PrivateRoot, verrou: Verrou, argument: str, kept: int
) -> None:
    lines = f"pam_pwhistory.so {argument} enforce_for_root", "pam_unix.so try_first_pass"
    manned_root.write("/etc/pam.d/common-password", "".join(f"password required {line}\n" for line in lines))
    assert bare(reading(verrou, manned_root, "password.remember")["value"]) == kept
    used = [f"kittiwake-Cliff-{number}x" for number in range(4)]

    def accepted(new: str) -> bool:
        changing = manned_root.inside("pamtester", "passwd", "warden", "chauthtok", typed=f"{new}\n{new}\n")
        return changing.returncode == 0

    assert all(map(accepted, used))
    denied = list(takewhile(lambda new: not accepted(new), reversed(used[:-1])))
    assert len(denied) == max(kept - 1, 0)


def test_the_main_file_wins_over_a_drop_in_and_is_what_gets_changed(manned_root: PrivateRoot, verrou: Verrou) -> None:
    manned_root.write("/etc/security/pwquality.conf", "# ours\nminlen = 9 # short\n")
    manned_root.write("/etc/security/pwquality.conf.d/00-site.conf", "minlen = 20\n")
    assert bare(reading(verrou, manned_root, "password.min_length")["value"]) == 9
    assert accepts(manned_root, "gnt7Kwo-9")
    sets(verrou, manned_root, "password.min_length=11")
    assert manned_root.read("/etc/security/pwquality.conf") == "# ours\nminlen = 11 # short\n"
    assert not accepts(manned_root, "gnt7Kwo-9x") and accepts(manned_root, "gnt7Kwo-9xq")


def test_credits_make_the_real_minimum_shorter_and_are_made_up_for(manned_root: PrivateRoot, verrou: Verrou) -> None:
    manned_root.write("/etc/security/pwquality.conf", "minlen = 12\ndcredit = 2\nocredit = 1\n")
    assert bare(reading(verrou, manned_root, "password.min_length")["value"]) == 9
    assert accepts(manned_root, "gntKwo-97"), "two digits and a symbol count as three characters more"
    sets(verrou, manned_root, "password.min_length=12")
    assert bare(reading(verrou, manned_root, "password.min_length")["value"]) == 12
    assert not accepts(manned_root, "gntKwo-97xq") and accepts(manned_root, "gntKwo-97xqm")


@pytest.mark.parametrize(
    ("rule", "strict", "loose", "candidate"),
    [
        ("password.classes", "3", "1", "gntkwoqmxzvb"),
        ("password.may_contain_name", "no", "yes", "wardenGnt7-Kwo"),
        ("password.dictionary", "checked", "unchecked", "Observatory-7"),
    ],
)
def test_a_rule_refuses_when_strict_and_lets_through_when_loose(
    manned_root: PrivateRoot, verrou: Verrou, rule: str, strict: str, loose: str, candidate: str
) -> None:
    sets(verrou, manned_root, f"{rule}={strict}")
    assert not accepts(manned_root, candidate)
    sets(verrou, manned_root, f"{rule}={loose}")
    assert accepts(manned_root, candidate)


def test_a_warning_only_is_not_in_force(manned_root: PrivateRoot, verrou: Verrou) -> None:
    manned_root.write("/etc/security/pwquality.conf", "minlen = 14\nenforcing = 0\n")
    assert reading(verrou, manned_root, "password.min_length")["enforced"] is False
    assert accepts(manned_root, "gnt7Kwo-9")


def test_remember_counts_the_password_in_use(manned_root: PrivateRoot, verrou: Verrou) -> None:
    sets(verrou, manned_root, "password.remember=2")
    first, second, third = GOOD_PASSWORD, "razorbill-Skerry-17", "shearwater-Sound-99"

    def changes(old: str, new: str) -> bool:
        return manned_root.inside("passwd", user="warden", typed=f"{old}\n{new}\n{new}\n").returncode == 0

    assert changes(first, second)
    assert not changes(second, first), "of two that are remembered, the one in use is the second"
    assert changes(second, third)
    assert changes(third, first), "the third last is forgotten"
    sets(verrou, manned_root, "password.remember=3")
    assert bare(reading(verrou, manned_root, "password.remember")["value"]) == 3
    assert manned_root.read("/etc/pam.d/common-password").count("pam_pwhistory.so") == 1


@pytest.mark.parametrize(("scheme", "prefix"), [("sha512", "$6$"), ("yescrypt", "$y$"), ("gost-yescrypt", "$gy$")])
def test_new_passwords_are_stored_as_set(manned_root: PrivateRoot, verrou: Verrou, scheme: str, prefix: str) -> None:
    name = "/etc/pam.d/common-password"
    manned_root.write(name, manned_root.read(name).replace(" yescrypt", " md5"))
    assert "md5" in str(bare(reading(verrou, manned_root, "password.storage")["value"]))
    sets(verrou, manned_root, f"password.storage={scheme}")
    new = "razorbill-Skerry-17"
    manned_root.inside("passwd", user="warden", typed=f"{GOOD_PASSWORD}\n{new}\n{new}\n")
    line = next(x for x in manned_root.read("/etc/shadow").splitlines() if x.startswith("warden:"))
    assert line.split(":")[1].startswith(prefix)
    assert bare(reading(verrou, manned_root, "password.storage")["value"]) == [scheme]


def test_ages_bind_who_is_looser_and_leave_who_is_stricter(manned_root: PrivateRoot, verrou: Verrou) -> None:
    for name, most in (("ana", "30"), ("bors", "400")):
        manned_root.inside("useradd", name)
        manned_root.inside("usermod", "-p", "$6$x$" + "h" * 86, name)
        manned_root.inside("chage", "-M", most, name)
    before = reading(verrou, manned_root, "password.max_age")
    assert (bare(before["value"]), before["source"]["place"]) == ("never", "/etc/login.defs")  # type: ignore[index]
    sets(verrou, manned_root, "password.max_age=90 days", "password.min_age=2 days", "password.warn_before=10 days")

    def limits(name: str) -> list[str]:
        return manned_root.inside("passwd", "-S", name).stdout.split()[3:6]

    assert limits("ana") == ["2", "30", "10"]
    assert limits("bors") == limits("warden") == ["2", "90", "10"]
    manned_root.inside("useradd", "gull")
    assert limits("gull") == ["2", "90", "10"], "accounts still to be made get it too"
    sets(verrou, manned_root, "password.max_age=never", "password.warn_before=10 days", "password.min_age=2 days")
    assert limits("ana") == ["2", "99999", "10"], "loosening a rule is meant for everyone"


@pytest.mark.parametrize(
    ("main", "drop_in", "allowed"),
    [
        ("", "", False),
        ("PermitEmptyPasswords yes\n", "", True),
        ("PermitEmptyPasswords yes\n", "PermitEmptyPasswords no\n", False),
        ("", "permitemptypasswords=yes\n", True),
        ("Match User tern\n  PermitEmptyPasswords yes\n", "", False),
    ],
)
def test_blank_passwords_at_the_remote_shell_as_sshd_says(
    manned_root: PrivateRoot, verrou: Verrou, main: str, drop_in: str, allowed: bool
) -> None:
    manned_root.write("/etc/ssh/sshd_config", "Include /etc/ssh/sshd_config.d/*.conf\n" + main)
    manned_root.write("/etc/ssh/sshd_config.d/site.conf", drop_in)
    manned_root.inside("ssh-keygen", "-A")
    (manned_root.path / "run/sshd").mkdir()

    def sshd_allows() -> bool:
        output = manned_root.inside("sshd", "-T")
        assert output.returncode == 0, output.stderr
        return "permitemptypasswords yes" in output.stdout

    assert sshd_allows() is allowed
    assert ("remote-shell" in str(bare(reading(verrou, manned_root, "password.blank_accepted")["value"]))) is allowed
    sets(verrou, manned_root, "password.blank_accepted=console")
    assert not sshd_allows()


def test_a_missing_dictionary_is_reported_because_it_refuses_everything(
    manned_root: PrivateRoot, verrou: Verrou
) -> None:
    for path in (manned_root.path / "var/cache/cracklib").glob("cracklib_dict*"):
        path.unlink()
    assert "every new password is rejected" in verrou("survey", "-m", manned_root.path).stderr
    assert not accepts(manned_root, "gnt7Kwo-9xq-Lmv")
    output = verrou("verify", "-b", "essential", "-m", manned_root.path, "--format", "json", code=None).stdout
    tried = [trial for trial in json.loads(output)["tests"] if "password that" in trial["test"]]
    assert {trial["result"] for trial in tried} == {"not-run"}, "refusals prove nothing then"


@pytest.mark.real_root
@pytest.mark.parametrize("heading", ["", "# Generated by the station's own setup; do not edit\n"])
def test_what_another_program_puts_together_is_never_edited(
    root: PrivateRoot, verrou: Verrou, heading: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "300")
    stack = "password requisite pam_pwquality.so minlen=6\npassword required pam_unix.so use_authtok md5\n"
    kept = "/etc/pam.d/common-password"
    if not heading:
        kept = "/etc/station/password"
        (root.path / "etc/pam.d/common-password").unlink()
        (root.path / "etc/pam.d/common-password").symlink_to(kept)
    root.write(kept, heading + stack)
    for rule in ("password.min_length=12", "password.storage=yescrypt"):
        output = verrou("rule", "set", rule, "-m", root.path, "--yes", code=2).stderr
        assert "change it with that program" in output and "/etc/pam.d/common-password" in output
    output = verrou("harden", "-b", "essential", "-m", root.path, "--preview", code=4).stdout
    assert "change it with that program" in " ".join(output.split())
    assert root.read(kept) == heading + stack
