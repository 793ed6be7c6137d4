"""The baseline file: the whole grammar, every error at once, and what contradicts itself."""

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Verrou, titled
from verrou.core.baselines.baseline import Baseline, BaselineRefused, read_baseline
from verrou.core.errors import BadInput
from verrou.core.rules import CATALOGUE
from verrou.core.values import Count, Span, Unacceptable
from verrou.machines.bench import rules as bench_rules
from verrou.machines.linux import rules as linux_rules

FILES = {
    "below.toml": '[password]\nmin_length = 8\nclasses = 3\n[accounts.tern]\nrole = "standard"\n',
    "round.toml": '[baseline]\nbuilds_on = ["round.toml"]\n',
}


def fetch(name: str, _: str) -> tuple[str, str]:
    if name not in FILES:
        raise BadInput(f"no baseline {name}")
    return titled(FILES[name]), name


def read(text: str) -> Baseline:
    return read_baseline(titled(text), "site.toml", fetch)


def errors(text: str) -> list[str]:
    with pytest.raises(BaselineRefused) as refused:
        read(text)
    return refused.value.problems


@pytest.mark.parametrize(
    ("rule", "asked", "message", "met", "not_met"),
    [
        ("lockout.after", "5", "at most 5 failed attempts", [1, 5], [6, "never"]),
        ("lockout.after", '"never"', "at most never", [5, "never"], []),
        ("lockout.lasts", '"1 hour"', "at least 1 hour", ["60 minutes", "until-unlocked"], ["59 minutes"]),
        ("lockout.lasts", '{ exactly = "until-unlocked" }', "exactly until-unlocked", ["until-unlocked"], ["9 days"]),
        ("password.max_age", '"90 days"', "at most 90 days", ["1 day", "90 days"], ["91 days", "never"]),
        ("password.remember", "{ from = 3, to = 6 }", "3 to 6 passwords", [3, 6], [2, 7]),
        ("password.min_length", "{ any_of = [9, 12] }", "9 characters or 12 characters", [9, 12], [10, 13]),
        ("password.dictionary", '"checked"', "checked", ["checked"], ["unchecked"]),
        ("password.may_contain_name", '{ value = false, reason = "x" }', "no", [False], [True]),
        ("password.storage", '["yescrypt", "sha512"]', "only sha512, yescrypt", [["yescrypt"]], [["sha256", "sha512"]]),
        ("builtin.admin_name", '"Beacon"', "Beacon", ["beacon"], ["keeper"]),
        ("population.blank_passwords", '"guests"', "guests", ["guests", "nobody"], ["anyone"]),
    ],
)
def test_what_is_asked_and_what_meets_it(
    rule: str, asked: str, message: str, met: list[object], not_met: list[object]
) -> None:
    family, _, key = rule.partition(".")
    requirement = read(f"[{family}]\n{key} = {asked}\n").requirements[rule]
    parse = requirement.rule.kind.parse
    assert requirement.desired.format(requirement.rule) == message
    assert all(requirement.desired.satisfied_by(requirement.rule, parse(value)) for value in met)
    assert not any(requirement.desired.satisfied_by(requirement.rule, parse(value)) for value in not_met)


def test_building_on_another_keeps_what_is_not_said_again() -> None:
    baseline = read('[baseline]\nbuilds_on = ["below.toml"]\n[password]\nmin_length = 14\n')
    asked = {d.rule.id: (d.desired.format(d.rule), str(d.mark)) for d in baseline.requirements.values()}
    assert asked["password.min_length"] == ("at least 14 characters", "site.toml:5")
    assert asked["password.classes"][1] == "below.toml:3"
    assert list(baseline.accounts) == ["tern"]


def test_five_errors_are_reported_at_once_each_with_its_line(verrou: Verrou, tmp_path: Path) -> None:
    (tmp_path / "five.toml").write_text(
        '[baseline]\nbuilds_on = ["esential"]\ntitle = "hut"\n[password]\nmin_lenght = 12\nmax_age = 90\n\n'
        '[lockout]\nafter = 0\n\n[accounts.daypass]\nrole = "gest"\n'
    )
    output = verrou("audit", "-b", "five.toml", "-m", "nowhere.bench.json", code=2).stderr
    assert "nowhere.bench.json" in output
    output = verrou("baseline", "check", "five.toml", code=2).stderr.splitlines()
    expected = (
        ("five.toml:2", "Did you mean essential?"),
        ("five.toml:5", "Did you mean 'min_length'?"),
        ("five.toml:6", "Did you mean '90 days'?"),
        ("five.toml:9", 'expected a whole number from 1 to 1000, or "never"'),
        ("five.toml:12", "Did you mean 'guest'?"),
    )
    assert len(output) == len(expected)
    for line, (place, words) in zip(output, expected, strict=True):
        assert place in line and words in line


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (
            '[lockout]\nlasts = "10 minutes"\nforget_after = "20 minutes"\n',
            "must not be shorter than lockout.forget_after",
        ),
        ('[password]\nmax_age = "30 days"\nmin_age = "30 days"\n', "must be longer than password.min_age"),
        (
            '[population]\nblank_passwords = "nobody"\n[accounts.day]\nrole = "guest"\npassword = "blank"\n',
            "blank password",
        ),
        ('[baseline]\nbuilds_on = ["round.toml"]\n', "builds on this file again"),
        ('[baseline]\ntitle = " "\n', "title is missing"),
        (
            '[[waiver]]\nrule = "lockout.aftr"\nreason = "r"\nby = "b"\nuntil = 2027-01-01\n',
            "Did you mean 'lockout.after'?",
        ),
        ("[lockout]\nlasts = { from = 3 }\n", "{ from = …, to = … }"),
        ("[password]\nremember = { from = 6, to = 3 }\n", "a from that is not above its to"),
        ("[accounts.tern]\nuntil = 2027-01-01T10:00:00\n", "a day such as 2027-03-31"),
        ("[lockout\nafter = 5\n", "not valid TOML"),
        ("a = " + "[" * 5000, "not valid TOML"),
        ("lockout = 5\n", "expected a table of keys"),
        ('[accounts.ana]\nenabled = "no"\n', "invalid value 'no'; expected true or false"),
        ("[accounts.ana]\nfull_name = 3\n", "expected a text in quotes"),
        ('[groups.x]\nmembers = "ana"\n', 'expected a list in square brackets. Did you mean ["ana"]?'),
        ('[accounts.ana]\nroutes = "console"\n', "expected a list in square brackets"),
        ('[password]\nmin_length = "12"\n', "expected a whole number"),
        ('[password]\nmay_contain_name = "no"\n', "expected true or false"),
        ('[rights]\nshut_down = "ana"\n', 'Did you mean ["ana"]?'),
        ('[password]\nstorage = "yescrypt"\n', "expected a list of"),
        ('[screen]\nnotice = { titel = "x" }\n', "Did you mean 'title'?"),
        ("[password]\nmin_length = { any_of = [] }\n", "at least one value in any_of"),
        ('[accounts.ana]\nuntil = "31/03/2027"\n', "a day such as 2027-03-31 or 31 March 2027"),
        ('[[waiver]]\nrule = "lockout.after"\nreason = " "\nby = "b"\nuntil = 2027-01-01\n', "waiver.0.reason"),
        ('[[waiver]]\nrule = "lockout.after"\nreason = "r"\nby = ""\nuntil = 2027-01-01\n', "waiver.0.by"),
        ('[lockout]\nafter = "never"\nlasts = "30 minutes"\n', "means nothing where lockout.after is"),
        ('[builtin]\nadmin_name = "x"\nguest_name = "X"\n', "is the name of both built-in accounts"),
        ("[accounts.ana]\n[accounts.Ana]\n", "are one name on many machines"),
        ('[groups.users]\nmembers = ["day"]\n[accounts.day]\nrole = "guest"\n', "makes more than a guest of day"),
        (
            '[population]\nadministrators = 1\n[accounts.a]\nrole = "administrator"\n'
            '[accounts.b]\nrole = "administrator"\n',
            "is less than the accounts that this baseline makes administrators: a and b",
        ),
        (
            '[population]\nadministrators = { only = ["a"] }\n[accounts.b]\nrole = "administrator"\n',
            "does not contain b, which this baseline makes administrators",
        ),
        ('[groups.x]\nmembers = ["ana"]\nonly = ["bors"]\n', "who are not in its list only"),
        ('[logon]\nconsole.allowed = "nobody"\n', "no one could sign in at the console"),
        ('[logon]\nconsole.denied = "everyone"\n', "no one could sign in at the console"),
        (
            '[password]\nblank_accepted = "none"\n[accounts.day]\nrole = "guest"\npassword = "blank"\n',
            "accepts it on none of its routes",
        ),
        (
            '[logon]\nnetwork.denied = ["ana"]\n[accounts.ana]\nroutes = ["console", "network"]\n',
            "should be able to sign in by network, but logon.network.denied denies it",
        ),
        (
            '[logon]\nremote-screen.allowed = ["bors"]\n[accounts.ana]\nroutes = ["remote-screen"]\n',
            "but logon.remote-screen.allowed denies it",
        ),
        (
            '[logon]\nnetwork.allowed = ["group:administrators"]\n[accounts.ana]\nrole = "standard"\n'
            'routes = ["network"]\n',
            "but logon.network.allowed denies it",
        ),
    ],
)
def test_what_is_refused(text: str, words: str) -> None:
    (output,) = errors(text)
    assert words in output and output.startswith(("site.toml", "round.toml"))


def test_a_plan_that_only_seems_to_contradict_is_taken() -> None:
    read('[lockout]\nlasts = { any_of = ["10 minutes", "1 hour"] }\nforget_after = "20 minutes"\n')


RAW = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=12) | st.dates(),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3),
    max_leaves=5,
)


@given(st.sampled_from(sorted(CATALOGUE)), RAW)
def test_any_value_is_taken_or_refused_in_words(rule_id: str, raw: object) -> None:
    kind = CATALOGUE[rule_id].kind
    try:
        value = kind.parse(raw)
    except Unacceptable as unacceptable:
        assert str(unacceptable).isprintable()
    else:
        assert kind.load(kind.dump(value)) == value, "what is saved reads back as the same"


@given(st.text(max_size=200))
def test_any_text_is_a_baseline_or_refused(text: str) -> None:
    try:
        read(text)
    except BaselineRefused as refused:
        assert all(problem.startswith("site.toml") for problem in refused.problems)


@given(st.sampled_from([r for r in CATALOGUE.values() if isinstance(r.kind, Count | Span)]), st.data())
def test_a_stricter_value_meets_whatever_a_looser_one_meets(rule, data) -> None:  # type: ignore[no-untyped-def]
    numbers = st.integers(rule.kind.low, rule.kind.high)
    raws = [data.draw(numbers | st.sampled_from(list(rule.kind.words) or [rule.kind.low])) for _ in range(2)]
    unit = f" {rule.kind.unit}s" if isinstance(rule.kind, Span) else ""
    one, other = (rule.kind.parse(raw if isinstance(raw, str) or not unit else f"{raw}{unit}") for raw in raws)
    stricter, looser = sorted((one, other), key=rule.kind.rank, reverse=True)
    assert rule.kind.rank(stricter) >= rule.kind.rank(looser)
    more = rule.kind.amount(stricter) >= rule.kind.amount(looser)
    assert more is rule.kind.more_is_stricter or rule.kind.amount(one) == rule.kind.amount(other)


@pytest.mark.parametrize("kind", [linux_rules, bench_rules])
def test_every_rule_is_kept_derived_or_absent_with_a_reason(kind: Any) -> None:
    derived = {rule.id for rule in CATALOGUE.values() if rule.derived is not None}
    parts = [derived, set(kind.ADAPTERS), set(kind.ABSENT)]
    assert sorted(rule_id for part in parts for rule_id in part) == sorted(CATALOGUE), "each in one of the three"
    assert set(kind.DERIVED) <= derived
    assert all(kind.ABSENT.values()) and all(adapter.where for adapter in kind.ADAPTERS.values())


def test_every_rule_is_fully_declared() -> None:
    for rule in CATALOGUE.values():
        assert rule.protects and rule.costs and rule.why_severe and rule.controls, rule.id
