"""Names are compared as the machine compares them, and are names everywhere; what is not known is not harmless."""

from datetime import datetime
from pathlib import Path

from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, TYPED, Verrou, examples, titled
from test_seat_bench import machines
from verrou.cli.baseline_files import fetch_baseline, load_baseline
from verrou.core.baselines.baseline import Baseline, read_baseline
from verrou.core.baselines.capture import captured
from verrou.core.baselines.desired import in_words_of
from verrou.core.judging.audit import audit
from verrou.core.model import Account, Grant, Group, MachineFacts, Naming, PasswordState, Snapshot, Status
from verrou.core.model.routes import Pattern, Principals
from verrou.core.model.verdicts import Verdict
from verrou.core.rules import CATALOGUE, reading_of
from verrou.machines.bench.authority import Authority
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.linux.entry.routes import _principals


def otherwise(baseline: Baseline) -> Baseline:
    """The same baseline with every name in letters of the other case."""

    def swapped(name: str) -> str:
        return name if name in ("everyone", "nobody") or name.startswith("group:") else name.swapcase()

    requirements = {
        rule_id: evolve(requirement, desired=in_words_of(requirement.desired, requirement.rule, swapped))
        for rule_id, requirement in baseline.requirements.items()
    }
    accounts = [evolve(required, name=swapped(required.name)) for required in baseline.accounts.values()]
    groups = {
        name: evolve(group, members=tuple(map(swapped, group.members))) for name, group in baseline.groups.items()
    }
    return evolve(baseline, requirements=requirements, accounts={each.name: each for each in accounts}, groups=groups)


@examples(100)
@given(machines())
def test_a_baseline_in_letters_of_the_other_case_asks_for_the_same(machine: Authority) -> None:
    snapshot = snapshot_of(machine, "")
    baseline = read_baseline(captured(snapshot, "as it stands", {}, "", True), "c.toml", fetch_baseline)
    unlisted = read_baseline(titled('[population]\nunlisted = "disable"\n'), "u.toml", fetch_baseline)
    baseline = evolve(baseline, requirements={**baseline.requirements, **unlisted.requirements})
    for asked in (baseline, otherwise(baseline)):
        found = {finding.subject.casefold(): finding.verdict for finding in audit(snapshot, asked).findings}
        left = {subject for subject, verdict in found.items() if verdict is not Verdict.MET}
        listed = {each.name.casefold() for each in asked.accounts.values()}
        strangers = [a for a in snapshot.accounts if a.enabled and not a.builtin and a.name.casefold() not in listed]
        assert left <= ({"population.unlisted"} if strangers else set()), left


def test_names_in_another_case_on_the_command_line(bench: Path, verrou: Verrou, tmp_path: Path) -> None:
    m = ("-m", bench, "--yes")
    verrou("account", "add", "anna", "--password", "stdin", *m, typed=f"{GOOD_PASSWORD}\n")
    verrou("rule", "set", "rights.shut_down=ANNA,Group:users".replace("Group", "group"), *m)
    output = verrou.json("rule", "show", "rights.shut_down", "-m", bench)
    assert output["rights.shut_down"]["value"] == {"names": ["anna", "group:users"]}
    site = tmp_path / "site.toml"
    site.write_text(
        titled(
            '[accounts.ANNA]\npassword = "keep"\n[accounts.Warden]\nrole = "administrator"\npassword = "keep"\n'
            '[population]\nunlisted = "disable"\nadministrators = { only = ["WARDEN", "Keeper"] }\n'
            '[[waiver]]\nrule = "rights.shut_down"\nmachine = "HIDE-01"\nreason = "r"\nby = "b"\nuntil = 2027-01-01\n'
            '[rights]\nshut_down = "nobody"\n'
        )
    )
    less = tmp_path / "less.toml"
    less.write_text(
        titled(
            '[rights]\nshut_down = "nobody"\nset_clock = { exactly = ["ANNA", "group:administrators"] }\n[[waiver]]\n'
            'rule = "rights.shut_down"\nmachine = "HIDE-01"\nreason = "r"\nby = "b"\nuntil = 2027-01-01\n'
        )
    )
    verrou("rule", "set", "rights.set_clock=anna", *m)
    findings = verrou.json("audit", "-b", less, "-m", bench, code=1)["findings"]
    assert {each["subject"]: each["verdict"] for each in findings} == {
        "rights.set_clock": "not-met",
        "rights.shut_down": "waived",
    }
    before = bench.read_text()
    audited = verrou.json("audit", "-b", site, "-m", bench)
    assert {finding["verdict"] for finding in audited["findings"]} == {"met", "waived"}
    assert "no step can improve the result" in verrou("harden", "-b", site, *m).stdout and bench.read_text() == before
    verrou("group", "join", "Administrators", "Anna", *m)
    verrou("account", "swap", "WARDEN", "ANNA", "-m", bench, *TYPED, typed=f"{GOOD_PASSWORD}\n")
    machine = Authority(bench.read_text())
    assert machine.can_administer("anna") and not machine.can_administer("warden")


@given(st.text("ab*?[]!^", max_size=5), st.text("ab*?[]!^", max_size=5))
def test_a_name_is_no_pattern_and_a_pattern_knows_two_signs(name: str, other: str) -> None:
    account = Account(other, "1", groups=(other,))
    assert Principals((name,)).contains(account) is (name == other) is Principals(groups=(name,)).contains(account)

    def fits(pattern: str, text: str) -> bool:
        """sshd's own way of matching, step by step."""
        if not pattern:
            return not text
        if pattern[0] == "*":
            return any(fits(pattern[1:], text[at:]) for at in range(len(text) + 1))
        return bool(text) and pattern[0] in ("?", text[0]) and fits(pattern[1:], text[1:])

    assert Pattern(name).matches(other) is fits(name, other)
    assert _principals("users", [name]).contains(account) is fits(name, other)


FACTS = MachineFacts("hide-01", "survey", "x", "x", datetime(2026, 9, 14), Naming("[a-z]+", 20, ""))


def test_a_number_finds_the_first_group_that_has_it() -> None:
    groups = tuple(
        Group(name, identity) for name, identity in (("ringers", "7"), ("auks", "8"), ("7", "9"), ("x", "8"))
    )
    found = Snapshot(FACTS, (), groups)
    assert [each and each.name for each in map(found.group, ("8", "7", "10"))] == ["auks", "7", None]


def test_a_password_that_could_not_be_read_is_not_known_to_be_one() -> None:
    def snapshot(*passwords: PasswordState) -> Snapshot:
        accounts = tuple(
            Account(f"tern{n}", str(n), password=password, groups=("guests",) if n else ())
            for n, password in enumerate(passwords)
        )
        return Snapshot(FACTS, accounts, (Group("guests", "g", (), (Grant.GUEST_USE,)),))

    rule = CATALOGUE["population.blank_passwords"]
    known, unknown, blank = PasswordState.SET, PasswordState.UNKNOWN, PasswordState.BLANK
    assert reading_of(rule, snapshot(known, known)).value == "nobody"
    assert reading_of(rule, snapshot(unknown, known)).status is Status.UNKNOWN
    assert reading_of(rule, snapshot(known, unknown)).status is Status.UNKNOWN
    assert reading_of(rule, snapshot(blank, unknown)).value == "anyone", "it can be no worse"
    assert reading_of(rule, snapshot(known, blank)).value == "guests"
    found = audit(snapshot(unknown), load_baseline("essential"))
    verdicts = {finding.subject: finding.verdict for finding in found.findings}
    assert verdicts["population.blank_passwords"] is Verdict.UNKNOWN


def test_who_is_in_no_group_of_a_role_is_listed_only_where_that_can_be(bench: Path) -> None:
    """A list denies a group that the account would be added to."""
    machine = Authority(bench.read_text())
    machine.add("skua", "", GOOD_PASSWORD, must_change=False)
    machine.leave("skua", "users")
    machine.join("skua", "remote users")
    machine.set_policy("out_remote-screen", [12])
    text = captured(snapshot_of(machine, ""), "hide", {}, "", True)
    assert "# skua is standard and not in group users: no baseline lists it so" in text
    assert "skua" not in {each.name for each in read_baseline(text, "c.toml", fetch_baseline).accounts.values()}
