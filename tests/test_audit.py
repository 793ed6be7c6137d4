"""Verdicts, waivers and the score, over readings of every status."""

from datetime import date, datetime, timedelta

import pytest
from attrs import evolve

from conftest import titled
from verrou.core.baselines.baseline import Baseline, read_baseline
from verrou.core.errors import BadInput
from verrou.core.judging.audit import Audit, audit
from verrou.core.model import (
    Account,
    AccountName,
    Act,
    ActKind,
    Builtin,
    Grant,
    Group,
    MachineFacts,
    Naming,
    Origin,
    PasswordState,
    Reading,
    Snapshot,
    Source,
    absent,
    unreadable,
)
from verrou.core.model.access import usable_administrators
from verrou.core.model.ageing import usable_until
from verrou.core.model.verdicts import Verdict
from verrou.core.planning.change_plan import plan_changes
from verrou.core.planning.notices import notices
from verrou.core.rules import CATALOGUE, sentence
from verrou.core.steps.step import FilesChoice, Remove, Rename, SetEnabled, SetRules, StopJobs
from verrou.core.values import AcceptedValues, Choice, YesNo
from verrou.reports.finding_text import finding_text

FACTS = MachineFacts("hide-01", "bench", "bench", "x", datetime(2026, 9, 14, 8, 30), Naming(".+", 20, ""))
GATES = (
    Group("administrators", "11", ("warden",), (Grant.ADMINISTRATION,)),
    Group("guests", "13", ("daypass",), (Grant.GUEST_USE,)),
)
RECENTLY = date(2026, 9, 1)
PEOPLE = (
    Account("keeper", "1", Origin.BUILT_IN, Builtin.ADMIN, "keeper", enabled=False),
    Account("warden", "1000", groups=("administrators",), password_changed=RECENTLY),
    Account("tern", "1001", password_changed=RECENTLY),
    Account("daypass", "1002", password_changed=RECENTLY, groups=("guests",), password=PasswordState.BLANK),
)


def no_more(name: str, _: str) -> tuple[str, str]:
    raise BadInput(name)


def asked(text: str) -> Baseline:
    return read_baseline(titled(text), "site.toml", no_more)


def snapshot(*accounts: Account, **readings: Reading) -> Snapshot:
    named = {key.replace("__", "."): reading for key, reading in readings.items()}
    return Snapshot(FACTS, accounts or PEOPLE, GATES, {"password.max_age": Reading(timedelta(days=90)), **named})


def verdicts(found: Audit) -> dict[str, Verdict]:
    return {finding.subject: finding.verdict for finding in found.findings}


def test_only_hashes_of_another_scheme_need_a_new_password() -> None:
    schemes = {"warden": "yescrypt", "tern": "md5", "daypass": ""}
    people = [evolve(account, password_scheme=schemes.get(account.name, "")) for account in PEOPLE]
    reading = Reading(frozenset({"yescrypt", "md5"}))
    (finding,) = audit(
        snapshot(*people, password__storage=reading), asked('[password]\nstorage = ["yescrypt"]')
    ).findings
    assert [(gap.who, gap.manual) for gap in finding.gaps if gap.who == "tern" or gap.manual] == [
        ("tern", "tern has a md5 password. To set a new one: verrou account password tern")
    ]


READINGS = {
    "lockout__after": Reading(5, source=Source("/etc/x", 3)),
    "lockout__lasts": Reading(timedelta(minutes=45), enforced=False, reason="nothing locks"),
    "lockout__forget_after": Reading(None),
    "password__min_length": unreadable("the disk is broken", "mend it"),
    "password__dictionary": absent("no dictionary here"),
    "password__remember": Reading(3),
}
BASELINE = """
[lockout]
after = 5
lasts = "30 minutes"
forget_after = "20 minutes"
[password]
min_length = 12
dictionary = "checked"
remember = 6
classes = 2
"""


def test_each_status_has_its_verdict_and_only_holding_counts_as_holding() -> None:
    found = audit(snapshot(**READINGS), asked(BASELINE))
    assert verdicts(found) == {
        "lockout.after": Verdict.MET,
        "lockout.lasts": Verdict.NOT_MET,
        "lockout.forget_after": Verdict.NOT_MET,
        "password.min_length": Verdict.UNKNOWN,
        "password.dictionary": Verdict.NOT_APPLICABLE,
        "password.remember": Verdict.NOT_MET,
        "password.classes": Verdict.NOT_APPLICABLE,
    }
    assert (
        str(found.tally)
        == "1 of 5 met; not met: 1 medium, 2 low; 1 not known, which count as not met; not assessed: 2 not applicable"
    )
    assert not found.all_met


@pytest.mark.parametrize(
    ("waiver", "verdict"),
    [
        ('machine = "hide-01"\nuntil = 2027-01-01', Verdict.WAIVED),
        ("until = 2026-09-14", Verdict.WAIVED),
        ("until = 2026-09-13", Verdict.NOT_MET),
        ('machine = "ringing-02"\nuntil = 2027-01-01', Verdict.NOT_MET),
    ],
)
def test_a_waiver_counts_for_its_machine_until_its_day(waiver: str, verdict: Verdict) -> None:
    text = f'[[waiver]]\nrule = "password.remember"\nreason = "r"\nby = "warden"\n{waiver}\n'
    found = audit(snapshot(**READINGS), asked(BASELINE + text))
    assert verdicts(found)["password.remember"] is verdict
    ended = next(f for f in found.findings if f.subject == "password.remember").reason
    assert ("expired 2026-09-13" in ended) is ("09-13" in waiver)


def test_a_waiver_never_covers_what_could_not_be_read() -> None:
    text = '[[waiver]]\nrule = "password.min_length"\nreason = "r"\nby = "w"\nuntil = 2027-01-01\n'
    assert verdicts(audit(snapshot(**READINGS), asked(BASELINE + text)))["password.min_length"] is Verdict.UNKNOWN


@pytest.mark.parametrize(
    ("text", "verdict", "found"),
    [
        ("[population]\nadministrators = { from = 1, to = 1 }", Verdict.MET, "warden"),
        ("[population]\nadministrators = { from = 2, to = 3 }", Verdict.NOT_MET, "warden"),
        ('[population]\nblank_passwords = "guests"', Verdict.MET, "only guests have"),
        ('[population]\nblank_passwords = "nobody"', Verdict.NOT_MET, "daypass has a blank password; required: none"),
        ('[population]\nunlisted = "report"', Verdict.NOT_MET, "warden, tern and daypass are enabled and not listed"),
        ('[population]\nunlisted = "allow"', Verdict.MET, "every enabled account is listed"),
        ('[population]\nageing_exempt = "nobody"', Verdict.MET, "no one is exempt from password ageing"),
        ('[population]\nduplicate_ids = "forbidden"', Verdict.MET, "every account has its own ID"),
        ("[builtin]\nadmin_enabled = false", Verdict.MET, "cannot be used"),
        ("[builtin]\nguest_enabled = false", Verdict.NOT_APPLICABLE, "not applicable on this machine"),
        ('[builtin]\nadmin_name = "changed"', Verdict.NOT_MET, "keeper (the original name)"),
        ('[accounts.tern]\nrole = "standard"', Verdict.MET, "matches the baseline"),
        (
            '[accounts.tern]\nrole = "administrator"',
            Verdict.NOT_MET,
            "tern is a standard user; required: an administrator",
        ),
        ("[accounts.tern]\nenabled = false", Verdict.NOT_MET, "tern is enabled; required: disabled"),
        ("[accounts.gull]", Verdict.NOT_MET, "there is no account gull; required: a standard user"),
        ("[accounts.gull]\nenabled = false", Verdict.MET, "matches the baseline"),
        ('[accounts.daypass]\nrole = "guest"', Verdict.NOT_MET, "daypass has a blank password; required: a password"),
        ('[accounts.daypass]\nrole = "guest"\npassword = "blank"', Verdict.MET, "matches the baseline"),
        (
            "[accounts.tern]\nuntil = 2027-01-01",
            Verdict.NOT_MET,
            "tern has no expiry date; required: expiry by 2027-01-01",
        ),
        ('[groups.guests]\nmembers = ["daypass"]', Verdict.MET, "matches the baseline"),
        (
            '[groups.guests]\nmembers = ["daypass", "tern"]',
            Verdict.NOT_MET,
            "tern is not in group guests; required: a member",
        ),
        (
            '[groups.administrators]\nonly = ["tern"]',
            Verdict.NOT_MET,
            "warden is in group administrators; required: not a member",
        ),
        ('[groups.administrators]\nonly = ["warden"]', Verdict.MET, "matches the baseline"),
        ('[groups.ringers]\nmembers = ["tern"]', Verdict.NOT_MET, "there is no group ringers"),
    ],
)
def test_accounts_groups_and_population(text: str, verdict: Verdict, found: str) -> None:
    (finding,) = audit(snapshot(), asked(text)).findings
    assert finding.verdict is verdict and found in finding_text(finding)
    assert all(part in text for part in finding.subject.split("."))


def test_an_account_that_ended_or_is_locked_is_no_administrator() -> None:
    warden = PEOPLE[1]
    for change, count in (
        ({"until": date(2026, 9, 13)}, 0),
        ({"until": date(2026, 9, 14)}, 1),
        ({"locked_until": datetime(2026, 9, 14, 8, 31)}, 0),
        ({"locked_until": datetime(2026, 9, 14, 8, 29)}, 1),
        ({"may_sign_in": False}, 0),
        ({"password": PasswordState.BLANK}, 0),
        ({"password": PasswordState.NONE}, 0),
    ):
        now = snapshot(evolve(warden, **change))  # type: ignore[arg-type]
        assert len(usable_administrators(now)) == count, change
        (finding,) = audit(now, asked('[population]\nadministrators = { only = ["warden"] }')).findings
        assert finding.verdict is Verdict.MET, "usable or not, it administers"


def test_no_one_is_never_few_enough_administrators() -> None:
    kind = CATALOGUE["population.administrators"].kind
    assert not kind.at_least(frozenset(), 3) and kind.at_least(frozenset({"warden"}), 3)
    assert not kind.at_least(frozenset({"warden", "tern"}), frozenset({"warden"}))


def test_what_a_machine_does_not_take_is_left_as_a_manual_step_and_not_tried() -> None:
    now = evolve(
        snapshot(password__min_length=Reading(6)), accepted_values={"password.min_length": AcceptedValues(most=72)}
    )
    baseline = asked("[password]\nmin_length = 80\n")
    plan = plan_changes(now, baseline, audit(now, baseline))
    assert plan.steps == ()
    assert [item.advice for item in plan.manual] == ["this machine accepts 72 characters or less"]


def test_the_gravest_shortfalls_come_first() -> None:
    found = audit(snapshot(**READINGS), asked(BASELINE))
    order = [(f.verdict, f.severity.weight) for f in found.findings]
    short = [weight for verdict, weight in order if verdict is Verdict.NOT_MET]
    assert short == sorted(short) and order[-1][0] is Verdict.MET


def test_a_value_that_only_lacks_force_is_never_loosened() -> None:
    now, baseline = snapshot(**READINGS), asked(BASELINE)
    plan = plan_changes(now, baseline, audit(now, baseline))
    lockout = next(s for s in plan.steps if isinstance(s, SetRules) and "lockout.after" in s.values)
    assert dict(lockout.values) == {
        "lockout.after": 5,
        "lockout.lasts": timedelta(minutes=45),
        "lockout.forget_after": timedelta(minutes=20),
    }
    assert [(item.subject, item.advice) for item in plan.manual] == [("password.min_length", "mend it")]


def test_what_is_left_as_a_manual_step_says_what_to_do() -> None:
    now = snapshot()
    text = """
[population]
administrators = { from = 2, to = 3 }
blank_passwords = "nobody"
unlisted = "report"
[builtin]
admin_name = "changed"
[accounts.warden]
role = "administrator"
[accounts.tern]
until = 2027-01-01
[accounts.gull]
password = "keep"
[groups.ringers]
members = ["tern"]
[groups.guests]
members = ["nobody"]
"""
    plan = plan_changes(now, asked(text), audit(now, asked(text)))
    assert [step.what for step in plan.steps] == [
        "create group ringers",
        "add account tern to group ringers",
        "account tern: expire after 2027-01-01",
    ]
    advice = {item.subject: item.advice for item in plan.manual}
    assert set(advice) == {
        *("population.administrators", "population.blank_passwords", "population.unlisted", "builtin.admin_name"),
        *("accounts.gull", "groups.guests"),
    }
    assert "verrou account password daypass" in advice["population.blank_passwords"]
    assert "verrou account rename keeper NEW-NAME" in advice["builtin.admin_name"]


def test_exceptions_and_twins_are_found_and_closed_as_far_as_steps_can() -> None:
    tern = evolve(PEOPLE[2], ageing_exempt=True)
    guest = evolve(PEOPLE[3], password=PasswordState.SET, ageing_exempt=True)
    twin = Account("skua", "1000", groups=("administrators",))
    blank = Account("gull", "1004", password=PasswordState.BLANK, ageing_exempt=True)
    baseline = asked('[population]\nageing_exempt = "guests"\nduplicate_ids = "forbidden"\n')
    found = audit(snapshot(PEOPLE[1], tern, guest, twin, blank), baseline)
    assert {f.subject: (f.verdict, finding_text(f)) for f in found.findings} == {
        "population.ageing_exempt": (Verdict.NOT_MET, "tern is exempt from password ageing; required: only guests"),
        "population.duplicate_ids": (
            Verdict.NOT_MET,
            "warden and skua share one ID; required: one ID for each account",
        ),
    }
    plan = plan_changes(snapshot(PEOPLE[1], tern, guest, twin), baseline, found)
    (advice,) = [item.advice for item in plan.manual]
    assert "warden and skua" in advice
    assert [step.what for step in plan.steps] == ["account tern: apply password ageing"]
    (guests_only,) = audit(snapshot(PEOPLE[1], guest), asked('[population]\nageing_exempt = "guests"')).findings
    assert guests_only.verdict is Verdict.MET


@pytest.mark.parametrize(
    ("until", "grace", "expected"),
    [
        (None, None, None),
        (date(2026, 4, 1), None, date(2026, 4, 1)),
        (None, 10, date(2026, 4, 11)),
        (date(2026, 4, 1), 10, date(2026, 4, 1)),
        (date(2026, 4, 20), 10, date(2026, 4, 11)),
    ],
)
def test_an_account_works_until_its_last_day_or_its_days_of_grace_have_passed(
    until: date | None, grace: int | None, expected: date | None
) -> None:
    """Its password may be 90 days old."""
    account = Account("tern", "1001", password_changed=date(2026, 1, 1), until=until, grace=grace)
    assert usable_until(account, snapshot(account)) == expected


def test_a_longest_age_alone_does_not_end_the_exceptions() -> None:
    exempt = evolve(PEOPLE[2], ageing_exempt=True)
    plain = PEOPLE[1]
    now = snapshot(plain, exempt, password__max_age=Reading("never"))
    text = '[password]\nmax_age = "90 days"\n[population]\nageing_exempt = "nobody"\n'
    plan = plan_changes(now, asked(text), audit(now, asked(text)))
    assert [step.what for step in plan.steps] == [
        "set password.max_age to 90 days",
        "account tern: apply password ageing",
    ]
    assert not plan.manual


def test_every_value_has_its_sentence_and_every_rule_about_accounts_names_them() -> None:
    for rule in CATALOGUE.values():
        options = getattr(rule.kind, "options", None)
        words = list(getattr(rule.kind, "words", ()))
        values = [*(options if isinstance(rule.kind, Choice) and options else ()), *words]
        values += [True, False] if isinstance(rule.kind, YesNo) else []
        for value in values:
            message = rule.format(value)
            assert message and "{" not in message and message != str(value), f"{rule.id} says nothing of {value}"
            if rule.asks:
                assert "{" not in sentence(rule.asks, rule.kind, value), f"{rule.id} asks nothing with {value}"
        if rule.gaps and rule.derived and rule.family == "population" and rule.id != "population.administrators":
            one, two = rule.format_statement_about(["tern"]), rule.format_statement_about(["tern", "ana"])
            assert "tern" in one and "tern and ana" in two and "{" not in one + two, rule.id
            assert rule.format_statement_about([]) == ""
    blank = CATALOGUE["population.blank_passwords"]
    assert blank.format_statement_about(["tern"]) == "tern has a blank password"
    assert blank.format_statement_about(["tern", "ana", "bors"]) == "tern, ana and bors have a blank password"


def test_what_stays_behind_is_reported_before_someone_is_removed_or_renamed() -> None:
    key = Act(ActKind.KEY, Source("/home/warden/.ssh/authorized_keys", 1), runs_when_disabled=True, opens="warden")
    line, job = Act(ActKind.LINE, Source("/etc/sudoers", 7)), Act(ActKind.CRONTAB, Source("/var/spool/cron/tern"))
    tern = evolve(PEOPLE[2], acts=(key, line, job), sessions=("tty2",))
    before, after = snapshot(PEOPLE[1], tern), snapshot(PEOPLE[1])
    removed = notices(before, after, [Remove(tern.name, FilesChoice.KEEP)])
    assert len(removed) == 3 and "tern is signed in (tty2)" in removed[0]
    assert "its key also signs in to warden" in removed[1] and "/etc/sudoers:7 still names it" in removed[2]
    renamed = notices(before, before, [Rename(tern.name, AccountName("gull"))])
    assert renamed[-1] == "/etc/sudoers:7 names tern and not gull. Change that yourself."
    assert "tern is signed in (tty2): that session continues under the old name" in renamed[0]
    disable = SetEnabled(tern.name, False)
    closed = notices(before, before, [disable])
    assert any("its key also signs in to warden" in message for message in closed) and any(
        "--stop-jobs" in message for message in closed
    )
    assert not any("--stop-jobs" in message for message in notices(before, before, [StopJobs(tern.name), disable]))
