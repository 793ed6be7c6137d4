"""Tests of elevation: by kind of account and of program, the prompt, and how long an answer counts."""

from collections.abc import Iterator, Mapping
from datetime import timedelta

from verrou.core.model import Snapshot, joined
from verrou.core.model.elevation import PromptOutcome, elevation_values, rule_about, rule_outcome
from verrou.core.model.programs import ElevationSubject, Program
from verrou.core.model.verdicts import TrialResult
from verrou.core.rules.elevation import GIVES
from verrou.core.testing.attempts import (
    CannotTry,
    TrialAccount,
    first_unexpected,
    in_force,
    judge,
    judge_seen,
    names_of,
    not_run,
)
from verrou.core.values import CommandRights, cells_of, format_duration

_MOMENT = timedelta(seconds=5)
_GIVING = {
    "nothing": "without an answer",
    "approval": "after approval",
    "password": "with its own password",
    "admin-password": "with an administrator's password",
}
_SHOWS: Mapping[PromptOutcome, Mapping[str, bool]] = {
    PromptOutcome.NO_PROMPT: {"nothing": True},
    PromptOutcome.CONFIRM: {"approval": True, "nothing": False},
    PromptOutcome.OWN_PASSWORD: {"password": True, "nothing": False},
    PromptOutcome.ADMIN_PASSWORD: {"admin-password": True, "password": False},
    PromptOutcome.DENIED: {"password": False, "admin-password": False},
}
"""By outcome what a test gives, and whether that is accepted."""


def elevation_trial(subject: TrialAccount, snapshot: Snapshot, who: ElevationSubject) -> Iterator[TrialResult]:
    """Test elevation of each kind of program, in sessions of the account: with what is required, and with less."""
    values = elevation_values(snapshot)
    rule, administers = rule_about(who, values), who in (ElevationSubject.ADMINISTRATOR, ElevationSubject.BUILT_IN)
    if rule not in values or (len(subject.programs) == 1 and values[rule] == GIVES.uniform("nothing")):
        # What is asked of some accounts is not known, or of some of them nothing: only who may elevate can be shown.
        shows: Mapping[str, bool] = {"password": administers}
    else:
        shows = {}
    text = "the built-in administrator" if who is ElevationSubject.BUILT_IN else f"a temporary {who} account"
    outcomes = {program: rule_outcome(who, program, values) for program in subject.programs}
    for outcome in dict.fromkeys(outcomes.values()):
        programs = [program for program, each in outcomes.items() if each is outcome]
        what = "a program" if len(programs) == len(outcomes) else joined([GIVES.rows[each] for each in programs])
        for given, accepted in (shows or _SHOWS[outcome]).items():
            message = f"{text} elevates {what} {_GIVING[given]}"
            try:
                answers = [subject.elevate(program, given) for program in programs]
            except CannotTry as reason:
                yield not_run(rule, message, reason)
                continue
            yield judge(rule, message, first_unexpected(answers, accepted), accepted)
    if who is ElevationSubject.ADMINISTRATOR:
        if prompting := _prompting(subject, snapshot):
            yield from _questions_trial(subject, snapshot, prompting)
        yield from prompt_trial(subject, snapshot)


_PROMPTS = (PromptOutcome.CONFIRM, PromptOutcome.OWN_PASSWORD, PromptOutcome.ADMIN_PASSWORD)


def _prompting(subject: TrialAccount, snapshot: Snapshot) -> Program | None:
    """Return a program that prompts an administrator."""
    values = elevation_values(snapshot)
    found = (p for p in subject.programs if rule_outcome(ElevationSubject.ADMINISTRATOR, p, values) in _PROMPTS)
    return next(found, None)


def prompt_trial(subject: TrialAccount, snapshot: Snapshot, when: str = "") -> Iterator[TrialResult]:
    """Test whether the prompt is isolated, and whether remote help reaches it."""
    apart = in_force("elevation.prompt_apart", snapshot)
    program = _prompting(subject, snapshot)
    if apart is None:
        return
    message = f"a program prompts an administrator{when}"
    if program is None:
        yield not_run("elevation.prompt_apart", message, "no kind of program prompts administrators")
        return
    seen = subject.prompt_is_apart(program).accepted
    words = {True: "the prompt is isolated", False: "an ordinary window"}
    yield judge_seen("elevation.prompt_apart", message, words[seen], words[apart.value is True])
    reach = in_force("elevation.helpers_reach_prompt", snapshot)
    table = in_force("elevation.administrator", snapshot)
    if reach is None or table is None or table.value is None:
        return
    message = f"remote help asks for elevation of an administrator{when}"
    given = cells_of(table.value)[Program.REMOTE_HELP]
    if apart.value is not True or given in ("nothing", "denied"):
        why = "the prompt is not isolated" if apart.value is not True else "remote help gets no prompt"
        yield not_run("elevation.helpers_reach_prompt", message, why)
        return
    answer = subject.elevate(Program.REMOTE_HELP, given)
    yield judge("elevation.helpers_reach_prompt", message, answer, reach.value is True)


def _questions_trial(subject: TrialAccount, snapshot: Snapshot, program: Program) -> Iterator[TrialResult]:
    """Check how long an answer to the prompt for a program is remembered, and that an unanswered prompt ends."""
    for rule_id, ask, words in (
        ("elevation.remembered_for", subject.elevate_again, "elevates, and again {} later without an answer"),
        ("elevation.unanswered_after", subject.answer_late, "is prompted, and answers correctly {} later"),
    ):
        reading = in_force(rule_id, snapshot)
        if reading is None or reading.value is None:
            continue
        holds = reading.value if isinstance(reading.value, timedelta) else timedelta()
        if rule_id == "elevation.unanswered_after" and not holds:
            continue  # it never ends, so no test can wait for it
        shortly_before = [(holds - _MOMENT, True)] if holds > _MOMENT else []
        for after, accepted in (*shortly_before, (holds + _MOMENT, False)):
            message = f"a temporary administrator account {words.format(format_duration(after))}"
            try:
                yield judge(rule_id, message, ask(program, after), accepted)
            except CannotTry as reason:
                yield not_run(rule_id, message, reason)
                break


COMMANDS = "elevation.commands"


def commands_trial(subject: TrialAccount, snapshot: Snapshot, who: str) -> Iterator[TrialResult]:
    """Run each command that somebody may run as an administrator: those who are not listed for it cannot."""
    reading = in_force(COMMANDS, snapshot)
    if reading is None or not isinstance(reading.value, CommandRights):
        return
    mine = names_of(subject)
    commands = sorted({command for _, command in reading.value.pairs if not command.endswith(" *")})
    for command in commands[:MOST_COMMANDS] or [UNLISTED_COMMAND]:
        listed = any((name, command) in reading.value.pairs for name in mine)
        try:
            yield judge(COMMANDS, f"{who} runs as an administrator: {command}", subject.run_command(command), listed)
        except CannotTry as reason:
            yield not_run(COMMANDS, f"{who} runs as an administrator: {command}", reason)


MOST_COMMANDS, UNLISTED_COMMAND = 3, "/usr/bin/true"
"""So many commands are tried; where none is listed, this one, which anyone has."""
