"""Ways in, rights, elevation, screens and shared use on bench machines: what is derived is what the authority does."""

import json
from datetime import datetime, timedelta
from itertools import pairwise, product
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import GOOD_PASSWORD, Verrou, examples, titled
from verrou.cli.baseline_files import fetch_baseline
from verrou.core.baselines.baseline import read_baseline
from verrou.core.model.access import routes_now
from verrou.core.model.elevation import PromptOutcome, elevation_outcome, rule_outcome
from verrou.core.model.programs import ElevationSubject, Program
from verrou.core.model.reasons import why, why_administrator
from verrou.core.model.routes import Route
from verrou.core.model.screens import screens_of
from verrou.core.rules import CATALOGUE, PRESETS
from verrou.core.rules.elevation import GIVES
from verrou.machines.bench import session as seat
from verrou.machines.bench.authority import Authority, NewPasswordFirst, No
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.bench.rules import ADAPTERS, readings

ANSWERS = {
    "runs": PromptOutcome.NO_PROMPT,
    "approve": PromptOutcome.CONFIRM,
    "own password": PromptOutcome.OWN_PASSWORD,
    "administrator's password": PromptOutcome.ADMIN_PASSWORD,
    "refused": PromptOutcome.DENIED,
}
KINDS = {
    "administrator": ElevationSubject.ADMINISTRATOR,
    "keeper": ElevationSubject.BUILT_IN,
    "user": ElevationSubject.STANDARD,
    "guest": ElevationSubject.GUEST,
}
PROGRAMS = dict(zip(seat.PROGRAMS, Program, strict=True))


def authority(path: Path) -> Authority:
    return Authority(path.read_text())


def test_every_cell_of_elevation_has_one_answer_and_stricter_never_lets_more_through() -> None:
    machine = Authority.fresh("hide-01", datetime(2026, 9, 14))
    order = list(PromptOutcome)
    for kind, who in KINDS.items():
        rule_id = f"elevation.{who}"
        for (own, program), others in product(PROGRAMS.items(), ("admin-password", "denied")):
            former: dict[tuple[bool, bool], PromptOutcome] = {}
            for word in GIVES.options:
                required = GIVES.parse({"all": others, program: word})
                key, numbers = ADAPTERS[rule_id].write(machine, required)  # type: ignore[misc]
                for apart, reach in product((False, True), repeat=2):
                    policy = {**seat.SHIPPED_SEAT, key: numbers, "apart": apart, "helpers_reach": reach}
                    met = ANSWERS[seat.elevation(policy, kind, own)]
                    switches = {"elevation.prompt_apart": apart, "elevation.helpers_reach_prompt": reach}
                    assert met is rule_outcome(who, program, {rule_id: required, **switches}), (kind, program, word)
                    assert order.index(met) >= order.index(former.get((apart, reach), order[0])), (kind, program, word)
                    former[apart, reach] = met


NAMES = ("keeper", "passerby", "o*", "Ána?", "[b]ors")
"""Names, whatever they would be as patterns."""
GROUP_IDS = (seat.ADMINISTRATORS, seat.USERS, seat.GUESTS, seat.REMOTE_USERS)
LISTS = st.none() | st.lists(st.sampled_from([1, 2, *GROUP_IDS, 100, 101, 102]), max_size=3, unique=True)


@st.composite
def machines(draw: st.DrawFn) -> Authority:
    """A machine with any lists, memberships, and states of its accounts."""
    machine = Authority.fresh("hide-01", datetime(2026, 9, 14, 8, 30))
    for name in NAMES[2:]:
        machine.add(name, "", draw(st.sampled_from(["", GOOD_PASSWORD])), must_change=False)
    machine.reset_password("keeper", GOOD_PASSWORD)
    for name in NAMES[1:]:
        for group in (g["name"] for g in machine.groups()):
            inside = name in next(g["members"] for g in machine.groups() if g["name"] == group)
            if draw(st.booleans()) is not inside:
                (machine.leave if inside else machine.join)(name, group)
        machine.set_open(name, draw(st.booleans()))
    machine.set_open("pattern", draw(st.booleans()))
    for route in seat.WAYS:
        machine.set_policy(f"in_{route}", draw(LISTS))
        machine.set_policy(f"out_{route}", draw(LISTS))
    machine.set_policy("blank_by", draw(st.lists(st.sampled_from(seat.WAYS), unique=True)))
    machine.set_policy("hidden", draw(LISTS))
    machine.set_policy("opens_as", draw(st.sampled_from([0, 1, 2, 100, 101])))
    machine.set_policy("opens_for", draw(st.integers(0, 2)))
    machine.set_policy("installer_for", draw(st.integers(0, 2)))
    for duty in seat.DUTIES:
        machine.set_policy(f"duty_{duty}", draw(LISTS))
    for key, (least, most) in seat.GIVES_LIMITS.items():
        machine.set_policy(key, {each: draw(st.integers(least, most)) for each in seat.PROGRAMS})
    return Authority(machine.compact())


@examples(70)
@given(machines())
def test_who_can_sign_in_and_why_is_what_the_authority_does(machine: Authority) -> None:
    snapshot = snapshot_of(machine, "")
    automatic = machine.opens_as()
    for account in snapshot.accounts:
        for route in (Route.CONSOLE, Route.NETWORK, Route.REMOTE_SCREEN):
            admitted = any(_signs_in(machine, account.name, password, route) for password in ("", GOOD_PASSWORD))
            admitted = admitted or (route is Route.CONSOLE and account.name == automatic)
            output = why(account, route, snapshot)
            assert (route in routes_now(account, snapshot)) is output.yes is admitted, (
                account.name,
                route,
                output.chain,
            )
            assert output.chain and (output.keeps if output.yes else any(not r.helps for r in output.chain))
            assert output.yes or all(r.change for r in output.chain), "a no says what would have to change"
        for name, program in PROGRAMS.items():
            assert elevation_outcome(account, snapshot, program) is ANSWERS[machine.elevate(account.name, name)]
        assert why_administrator(account, snapshot).yes is machine.can_administer(account.name)


def _signs_in(machine: Authority, name: str, password: str, route: Route) -> bool:
    try:
        Authority(machine.compact()).sign_in(name, password, str(route))
    except NewPasswordFirst:
        return True
    except No:
        return False
    return True


@examples(60)
@given(machines())
def test_the_screens_show_what_the_authority_shows(machine: Authority) -> None:
    shown, found = machine.first_screen(), screens_of(snapshot_of(machine, ""))
    if found.listed is not None:
        assert list(found.listed) == shown["accounts"]
    else:
        assert machine.policy()["hidden"] is None
    assert found.last == shown["last"]
    assert [each.account for each in found.automatic] == ([machine.opens_as()] if machine.opens_as() else [])


@examples(60)
@given(machines(), st.data())
def test_each_line_that_keeps_a_yes_does_so_alone(machine: Authority, data: st.DataObject) -> None:
    """Take all memberships and names away that are told to keep a yes, and it is none any more."""
    snapshot = snapshot_of(machine, "")
    asked = [
        (a, route)
        for a in snapshot.accounts
        for route in (Route.NETWORK, Route.REMOTE_SCREEN)
        if why(a, route, snapshot).yes
    ]
    if not asked:
        return
    account, route = data.draw(st.sampled_from(asked))
    allowed = machine.policy()[f"in_{route}"]
    output = why(account, route, snapshot)
    if allowed is None:
        assert any(f"everyone is allowed to sign in {route.phrase}" in reason.statement for reason in output.keeps)
        return
    named = {g["id"]: g["name"] for g in machine.groups() if g["id"] in allowed and account.name in g["members"]}
    by_name = int(account.identity) in allowed
    assert len(output.keeps) == len(named) + by_name
    machine.set_policy(f"in_{route}", [i for i in allowed if i not in named and i != int(account.identity)])
    assert not why(account, route, snapshot_of(machine, "")).yes


def test_lists_are_set_enforced_and_undone(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    machine.add("tern", "", GOOD_PASSWORD, must_change=False)
    machine.save(bench)
    start = bench.read_bytes()
    rules = ("logon.network.allowed=group:administrators", "logon.console.denied=tern", "rights.shut_down=warden")
    verrou("rule", "set", *rules, "-m", bench, "--yes")
    machine = authority(bench)
    for route in ("console", "network"):
        with pytest.raises(No, match="is denied sign-in"):
            machine.sign_in("tern", GOOD_PASSWORD, route)
    assert machine.sign_in("warden", GOOD_PASSWORD, "network")
    assert machine.may("warden", "off") and not machine.may("tern", "off")
    output = verrou.line("why", "tern", "console", "-m", bench)
    assert "No: tern cannot sign in at the console" in output and "out_console = [101]" in output
    assert "logon.console.denied" in output
    verrou("undo", "-m", bench, "--yes")
    assert bench.read_bytes() == start
    output = verrou("rule", "set", "logon.console.denied=group:nobody-here", "-m", bench, "--yes", code=4).stderr
    assert "there is no group nobody-here" in output


def test_no_door_is_shut_on_every_administrator(bench: Path, verrou: Verrou) -> None:
    before = bench.read_bytes()
    output = verrou("rule", "set", "logon.console.denied=group:administrators", "-m", bench, "--yes", code=3).stderr
    assert "administrators-denied" in output and "keeper and warden" in output
    output = verrou("rule", "set", "logon.console.allowed=group:users", "-m", bench, "--yes", "--preview", code=None)
    assert "administrators-denied" not in output.stderr, "warden is among the users"
    verrou("rule", "set", "logon.network.denied=group:administrators", "-m", bench, "--yes", "--preview")
    output = verrou(
        *("rule", "set", "logon.network.allowed=warden", "logon.network.denied=warden", "-m", bench, "--yes"), code=3
    ).stderr
    assert "conflict" in output and bench.read_bytes() == before


def test_what_waits_for_a_restart_is_reported_apart_from_what_acts(
    bench: Path, tmp_path: Path, verrou: Verrou, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", "200")
    baseline = tmp_path / "b.toml"
    baseline.write_text(titled("[elevation]\nprompt_apart = true\n[sharing]\nsettings_closed = true\n"))
    output = verrou.line("harden", "-b", baseline, "-m", bench, "--yes", code=1)
    assert "Still not met: elevation.prompt_apart, sharing.settings_closed" in output
    reading = readings(authority(bench))["elevation.prompt_apart"]
    assert (reading.value, reading.pending) == (False, True)
    output = verrou.line("audit", "-b", baseline, "-m", bench, code=1)
    assert "(changes after a restart)" in output and "(changes at the next sign-in)" in output
    output = verrou.line("harden", "-b", baseline, "-m", bench, "--yes", code=1)
    assert "takes effect later" in output and "after a restart" in output
    verrou("machine", "restart", "-m", bench)
    assert readings(authority(bench))["elevation.prompt_apart"].value is True
    verrou("audit", "-b", baseline, "-m", bench)
    verrou("machine", "restart", "-m", tmp_path / "nothing", code=2)


def test_a_person_s_own_idle_time_counts_until_the_machine_s_is_pinned(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    machine.set_policy("idle_minutes", 10)
    machine.set_idle("warden", 0)
    machine.save(bench)
    shown = verrou.line("rule", "show", "screen.locks_after", "-m", bench)
    assert "never" in shown and "warden has an idle time of its own" in shown and "own_idle = 0" in shown
    machine.set_open("warden", False)
    assert snapshot_of(machine, "").readings["screen.locks_after"].value != "never", "no one can sign in as it"
    verrou("rule", "set", "screen.locks_after=10 minutes", "-m", bench, "--yes")
    assert authority(bench).idle_minutes("warden") == 10


def test_no_one_is_signed_in_automatically_whom_the_rule_leaves_out(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    machine.set_policy("opens_as", 100)
    machine.save(bench)
    rows = verrou.json("access", "warden", "-m", bench)
    assert rows[0]["routes"]["console"] == "automatic"
    audit = verrou.json("audit", "-b", "essential", "-m", bench, code=1)
    found = next(f for f in audit["findings"] if f["subject"] == "screen.automatic_signin")
    assert (found["severity"], found["verdict"]) == ("high", "not-met")
    verrou("rule", "set", "screen.automatic_signin=guests", "-m", bench, "--yes")
    verrou("machine", "restart", "-m", bench)
    assert authority(bench).opens_as() == ""
    output = verrou.line("signin", "-m", bench)
    assert "automatic sign-in" not in output


@pytest.mark.parametrize("name", list(PRESETS["elevation"]))
def test_a_preset_is_set_whole_and_may_stand_in_a_baseline(
    bench: Path, tmp_path: Path, verrou: Verrou, name: str
) -> None:
    verrou("rule", "set", "--preset", name, "-m", bench, "--yes")
    verrou("machine", "restart", "-m", bench)
    baseline = tmp_path / "b.toml"
    baseline.write_text(titled(f'[elevation]\npreset = "{name}"\n'))
    verrou("audit", "-b", baseline, "-m", bench)
    baseline.write_text(titled(f'[elevation]\nbuiltin = {{ installer = "denied" }}\npreset = "{name}"\n'))
    shown = verrou.json("baseline", "show", baseline)
    asked = {rule["rule"]: rule["asked"] for rule in shown["rules"]} if "rules" in shown else shown
    assert "denied for installers" in json.dumps(asked), "what is said by itself decides"


def test_the_presets_go_from_most_to_least() -> None:
    choices = list(PRESETS["elevation"].values())
    assert len(choices) == 4
    for more, less in pairwise(choices):
        assert more.values.keys() == less.values.keys()
        for rule_id in more.values:
            kind = CATALOGUE[rule_id].kind
            assert kind.at_least(kind.parse(more.values[rule_id]), kind.parse(less.values[rule_id])), rule_id


def test_the_basic_edition_says_what_it_lacks(tmp_path: Path, verrou: Verrou) -> None:
    path = tmp_path / "desk.bench.json"
    Authority.fresh("desk", datetime(2026, 9, 14), edition="basic").save(path)
    shown = verrou.json("rule", "show", "logon", "elevation", "-m", path)
    assert shown["logon.console.denied"]["status"] == "not-applicable"
    assert "basic edition" in shown["elevation.prompt_apart"]["reason"]
    assert shown["elevation.administrator"]["status"] == "read"
    refused = verrou("rule", "set", "logon.console.denied=nobody", "-m", path, "--yes", code=4).stderr
    assert "the basic edition has no rule logon.console.denied" in refused, "not even to what it would be"
    one_word = verrou("rule", "set", "elevation.administrator=password,unsigned=denied", "-m", path, code=2).stderr
    assert "one value for all of them, since the basic edition" in one_word
    with pytest.raises(No, match="one number for all"):
        authority(path).set_policy("gives_administrator", {**dict.fromkeys(seat.PROGRAMS, 2), "unsigned": 4})
    with pytest.raises(No, match="basic edition"):
        authority(path).set_policy("out_console", [1])


def test_limits_of_shared_use_never_bind_an_administrator(bench: Path, verrou: Verrou) -> None:
    verrou("account", "add", "daypass", "--role", "guest", "--password", "blank", "-m", bench, "--yes")
    rules = ("sharing.hidden_drives=removable,other", "sharing.settings_closed=yes", "sharing.applies_to=everyone")
    verrou("rule", "set", *rules, "sharing.installer=administrators", "-m", bench, "--yes")
    verrou("machine", "restart", "-m", bench)
    machine = authority(bench)
    assert not machine.browses("daypass", "stick") and machine.browses("daypass", "system")
    assert not machine.opens_settings("daypass") and not machine.installs("daypass")
    assert machine.browses("warden", "stick") and machine.opens_settings("warden") and machine.installs("warden")
    output = verrou.line("rule", "set", "sharing.applies_to=warden,daypass", "-m", bench, "--preview")
    assert output.count("is an administrator; the limits for shared use do not bind") == 1 and "warden is an" in output
    assert "pattern has no password" in verrou.line("account", "enable", "pattern", "-m", bench, "--preview")
    for rule_id in ("sharing.hidden_drives", "sharing.settings_closed", "sharing.applies_to"):
        output = verrou.line("rule", "explain", rule_id)
        assert "do not bind administrators" in output


def test_a_baseline_means_groups_by_what_they_are_and_knows_who_is_in_them(tmp_path: Path, verrou: Verrou) -> None:
    path = tmp_path / "ringing-02.bench.json"
    machine = Authority.fresh("ringing-02", datetime(2026, 9, 14), language="fr")
    machine.add("ana", "", GOOD_PASSWORD, must_change=False)
    machine.join("ana", "gestionnaires")
    machine.set_policy("in_network", [100])
    machine.save(path)
    baseline = tmp_path / "b.toml"
    baseline.write_text(titled('[logon.network]\nallowed = ["group:administrators"]\n'))
    verrou("audit", "-b", baseline, "-m", path)
    machine.leave("ana", "gestionnaires")
    machine.save(path)
    verrou("audit", "-b", baseline, "-m", path, code=1)
    verrou("harden", "-b", baseline, "-m", path, "--yes")
    assert authority(path).policy()["in_network"] == [seat.ADMINISTRATORS]


def test_access_shows_the_machine_as_a_baseline_would_leave_it(bench: Path, tmp_path: Path, verrou: Verrou) -> None:
    before = bench.read_bytes()
    baseline = tmp_path / "b.toml"
    shut = '[logon.network]\nallowed = "nobody"\n[screen]\nnotice = { title = "Cap Fauvel", text = "Quiet." }\n'
    baseline.write_text(f'{shut}[baseline]\ntitle = "shut"\n')
    for command in (("access",), ("signin",), ("why", "warden", "network")):
        output = verrou(*command, "--as", baseline, "-m", bench, "--format", "json").stdout
        assert output != verrou(*command, "-m", bench, "--format", "json").stdout
    assert (
        '"answer": "no"' in verrou("why", "warden", "network", "--as", baseline, "-m", bench, "--format", "json").stdout
    )
    assert bench.read_bytes() == before
    wide = verrou("access", "-m", bench).stdout
    assert max(map(len, wide.splitlines())) <= 80


def test_verify_signs_accounts_of_each_kind_in_by_each_way(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    machine.set_policy("out_network", [seat.GUESTS])
    machine.set_policy("gives_administrator", dict.fromkeys(seat.PROGRAMS, 2))
    machine.set_policy("gives_user", dict.fromkeys(seat.PROGRAMS, 3))
    machine.save(bench)
    output = verrou.json("verify", "-b", "essential", "-m", bench, code=1)
    tried = {trial["test"]: (trial["result"], trial["seen"]) for trial in output["tests"]}
    assert tried["a temporary guest account signs in over the network"][0] == "passed"
    assert tried["a temporary administrator account elevates a program with its own password"] == ("passed", "accepted")
    helped = tried["a temporary standard account elevates a program with an administrator's password"]
    assert helped == ("passed", "accepted")
    assert {proof for proof, _ in tried.values()} <= {"passed", "not-run"}


@pytest.mark.parametrize("name", ["hide-01.bench.json", "ringing-02.bench.json", "warden-03"])
def test_a_saved_survey_shows_the_same_of_who_can_sign_in(
    verrou: Verrou, tmp_path: Path, name: str, station: Path
) -> None:
    machine, kept = tmp_path / "station" / name, tmp_path / "kept.survey.json"
    verrou("survey", "-m", machine, "--save", kept)
    for command in (("access",), ("signin",), ("why", "ringer", "console"), ("why", "ringer", "elevate")):
        words = ("tern" if word == "ringer" and "hide" in name else word for word in command)
        asked = (*words, "--format", "json")
        assert verrou(*asked, "-m", machine).stdout == verrou(*asked, "-m", kept).stdout, command


@pytest.mark.parametrize("baseline", ["essential", "shared-desk", "public-terminal", "office"])
def test_each_value_of_a_included_baseline_has_its_reason(baseline: str) -> None:
    requirements = read_baseline(*fetch_baseline(baseline), fetch_baseline).requirements.values()
    assert not [requirement.rule.id for requirement in requirements if not requirement.reason]
    families = {requirement.rule.family for requirement in requirements}
    assert {"elevation", "screen", "rights"} <= families


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("[logon]\nconsol.allowed = []", "b.toml:2: logon.consol: unknown key 'consol'"),
        (
            "[logon.console]\nalowed = []",
            "b.toml:2: logon.console.alowed: unknown key 'alowed'. Did you mean 'allowed'?",
        ),
        ("[logon]\nconsole = 3", "b.toml:2: logon.console: invalid value 3; expected a table of keys"),
        ('[logon.console]\nallowed = ["a,b"]', "invalid value 'a,b'; expected a list of accounts, and groups"),
        ('[elevation]\npreset = "confirm-onlys"', "Did you mean 'confirm-only'?"),
        ('[elevation]\npresat = "confirm-only"', "Did you mean 'preset'?"),
        ('[screen]\nnotice = { titel = "x" }', "expected"),
        ('[screen]\nnotice = { title = "x\\u001b[31m", text = "y" }', "without control characters"),
        ('[logon.network]\nallowed = ["ana"]\ndenied = ["ana", "bors"]', "must not list anyone who is also in"),
        ("[screen]\nlocks_after = 5", "Did you mean '5 minutes'?"),
    ],
)
def test_a_mistake_in_a_baseline_is_reported_with_its_line(
    tmp_path: Path, verrou: Verrou, text: str, message: str
) -> None:
    (tmp_path / "b.toml").write_text(titled(text))
    assert message in verrou("baseline", "check", "b.toml", code=2).stderr


def test_a_list_of_who_may_is_met_by_a_shorter_one_and_of_who_may_not_by_a_longer_one() -> None:
    may, may_not = CATALOGUE["logon.network.allowed"].kind, CATALOGUE["logon.network.denied"].kind
    everyone, two, one, none = (may.parse(raw) for raw in ("everyone", ["ana", "group:users"], ["ana"], "nobody"))
    order = [everyone, two, one, none]
    for at, loose in enumerate(order):
        for strict in order[at:]:
            assert may.at_least(strict, loose) and may_not.at_least(loose, strict)
            if strict != loose:
                assert not may.at_least(loose, strict) and not may_not.at_least(strict, loose)
    assert may.at_least_expanded(may.parse(["bors"]), two, {"users": ("bors",)}) and not may.at_least(
        may.parse(["bors"]), two
    )
    assert may_not.target(may_not.parse(["bors"]), two) == {"ana", "bors", "group:users"}, "whoever is out stays out"


def test_an_answer_is_remembered_and_a_question_ends_as_the_rules_say(bench: Path, verrou: Verrou) -> None:
    rules = ("elevation.administrator=password", "elevation.remembered_for=5 minutes")
    verrou("rule", "set", *rules, "elevation.unanswered_after=1 minute", "-m", bench, "--yes")
    machine = authority(bench)
    token = machine.sign_in("warden", GOOD_PASSWORD)
    assert machine.request(token, "vouched") == "own password"
    with pytest.raises(No, match="the password is wrong"):
        machine.respond(token, "yes")
    assert machine.request(token, "vouched") == "own password"
    machine.clock += timedelta(seconds=61)
    with pytest.raises(No, match="in time"):
        machine.respond(token, GOOD_PASSWORD)
    assert machine.request(token, "vouched") == "own password"
    machine.respond(token, GOOD_PASSWORD)
    machine.clock += timedelta(minutes=4)
    assert machine.request(token, "unsigned") == "runs"
    machine.clock += timedelta(minutes=2)
    assert machine.request(token, "vouched") == "own password"

    output = verrou.json("verify", "-b", "essential", "-m", bench, code=1)
    tried = [(t["rule"], t["result"], t["seen"]) for t in output["tests"] if t["rule"].startswith("elevation.")]
    assert {proof for _, proof, _ in tried} == {"passed", "not-run"}
    assert [seen for rule, _, seen in tried if rule == "elevation.remembered_for"] == [
        *("accepted: nothing is asked again", "denied: asked again")
    ]
    late = [seen for rule, _, seen in tried if rule == "elevation.unanswered_after"]
    assert late == ["accepted", "denied: no answer in time"]


def test_a_standard_user_gives_an_administrator_s_password_where_the_rule_lets_it(bench: Path, verrou: Verrou) -> None:
    machine = authority(bench)
    machine.add("tern", "", GOOD_PASSWORD, must_change=False)
    machine.save(bench)
    verrou("rule", "set", "elevation.standard=admin-password", "-m", bench, "--yes")
    machine = authority(bench)
    token = machine.sign_in("tern", GOOD_PASSWORD)
    assert machine.request(token, "vouched") == "administrator's password"
    with pytest.raises(No, match="tern has no administrator rights"):
        machine.respond(token, GOOD_PASSWORD, by="tern")
    assert machine.request(token, "vouched") == "administrator's password"
    machine.respond(token, GOOD_PASSWORD, by="warden")
    assert machine.request(token, "vouched") == "runs"
    row = verrou.json("access", "tern", "-m", bench)[0]
    assert row["elevation"]["signed"] == "admin-password" and row["role"] == "standard"


WRITTEN = st.sampled_from(GIVES.options) | st.dictionaries(
    st.sampled_from([*GIVES.rows, "all"]), st.sampled_from(GIVES.options), min_size=1
)


@given(WRITTEN, WRITTEN, st.sampled_from(GIVES.options))
def test_a_table_is_compared_row_by_row(machine_has: object, required: object, base: str) -> None:
    value, wanted = GIVES.parse({"all": base} | GIVES.parse(machine_has).words), GIVES.parse(required)
    strictness = GIVES.options.index
    rows = [(value.words[row], word) for row, word in wanted.words.items()]
    assert GIVES.at_least(value, wanted) is all(strictness(has) >= strictness(asked) for has, asked in rows)
    target = GIVES.target(value, wanted)
    assert GIVES.at_least(target, wanted) and GIVES.at_least(target, value)
    assert GIVES.rank(target) > GIVES.rank(value) or target == value, "nothing is made stricter than it has to be"
    assert GIVES.same(GIVES.resulting(value, wanted), wanted)
    assert GIVES.load(json.loads(json.dumps(GIVES.dump(value)))) == value
    assert all(GIVES.parse(GIVES.written(each)) == each for each in (value, wanted))
    if isinstance(required, dict):
        assert GIVES.parse_text(",".join(f"{row}={word}" for row, word in required.items())) == wanted


def test_elevation_is_never_denied_to_every_administrator(bench: Path, verrou: Verrou) -> None:
    denied = ("rule", "set", "elevation.builtin=denied", "elevation.administrator=system=denied", "-m", bench, "--yes")
    assert "guard last-administrator" in verrou(*denied, code=3).stderr
    verrou("rule", "set", "elevation.administrator=unsigned=denied,installer=denied", "-m", bench, "--yes")
    shown = verrou.json("rule", "show", "elevation.administrator", "-m", bench)["elevation.administrator"]["value"]
    assert {row for row, word in shown["cells"].items() if word == "denied"} == {"unsigned", "installer"}
