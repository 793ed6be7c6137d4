"""verrou visit: the whole job at one machine, led through by the single commands."""

import io
import re
import shlex
import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import redirect_stdout

import click
from attrs import define, field

from verrou.cli.baseline_files import INCLUDED_BASELINES, load_baseline
from verrou.cli.observing import looked_at
from verrou.cli.options import machine_option
from verrou.cli.user import user
from verrou.core.advice import command
from verrou.core.errors import BadInput, GuardRefused, VerrouError
from verrou.core.history.entries import JournalEntry, RunState
from verrou.core.judging import guards
from verrou.core.judging.audit import audit
from verrou.core.model import Account, PasswordState, Snapshot, counted, joined
from verrou.core.model.access import is_person
from verrou.core.model.states import states_of
from verrou.core.planning.change_plan import ChangePlan, plan_changes
from verrou.core.steps.step import SetEnabled, SetRules
from verrou.machines.bench.machine import BenchMachine
from verrou.machines.protocol import CannotLook, Lacks, Machine
from verrou.records.journal import Journal
from verrou.reports.surveys import summary_lines
from verrou.reports.tables import complain, console, shown

MOST_NOTES, MOST_STEPS = 6, 12
"""Accounts that the first look names, and steps that the short plan lists."""
BACK, HELP, STOP = "back", "help", "stop"


class _Stopped(Exception):
    """The user stops here, and can go on later."""


class _GoBack(Exception):
    """The user wants the former part again."""


@define(repr=False)
class _Visit:
    """One visit. Where it stands is read from the machine and its journal; it keeps nothing."""

    machine: Machine
    baseline: str = ""
    overridden: list[str] = field(factory=list)

    @property
    def at(self) -> tuple[str, str]:
        return "-m", self.machine.address

    def do(self, *words: str, fold: bool = False) -> int:
        """Print a command line and run it; with ``fold`` only what was done is shown of its output. Return its exit
        code; guards are raised, other errors printed."""
        from verrou.cli.main import call

        out = console()
        out.print(f"$ {shown(command(*words))}", style="dim")
        told = io.StringIO()
        try:
            if not fold:
                return call(words)
            with redirect_stdout(told):
                return call(words)
        except GuardRefused:
            raise
        except VerrouError as error:
            complain(str(error))
            return error.exit_code
        except click.ClickException as error:
            complain(error.format_message())
            return error.exit_code
        except click.Abort:
            raise _Stopped from None
        finally:
            lines = told.getvalue().splitlines()
            first = next((n for n, line in enumerate(lines) if re.match(r"(\d+ steps?|No changes) ", line)), 0)
            for line in lines[first:]:
                out.print(line)

    def ask(self, question: str, answers: Mapping[str, str], default: str = "") -> str:
        """Return one of several words, or anything where "" is one of them; Enter stands for the default.

        Raises: _GoBack, _Stopped."""
        out = console()
        known = {**answers, BACK: "the former part", HELP: "what these words do; help RULE explains a rule", STOP: ""}
        words = ", ".join(word for word in known if word)
        while True:
            out.print(f"{question} ({words}{f'; Enter: {default}' if default else ''})", style="bold")
            try:
                typed = " ".join(user().typed("> ").split()) or default
            except (EOFError, KeyboardInterrupt):
                raise _Stopped from None
            if typed in ("y", "yes") and "yes" not in answers and default:
                typed = default
            if typed == BACK:
                raise _GoBack
            if typed == STOP:
                raise _Stopped
            if typed.partition(" ")[0] == HELP:
                self._help(typed.partition(" ")[2], known)
            elif typed in answers or ("" in answers and typed):
                return typed
            else:
                out.print(f"Not one of the words: {shown(typed)}")

    def _help(self, rule: str, known: Mapping[str, str]) -> None:
        if rule:
            self.do("rule", "explain", rule)
            return
        for word, about in {**known, STOP: "leave; the same command goes on later"}.items():
            console().print(f"  {word or '…':<10} {about}")

    def observe(self) -> Snapshot:
        return looked_at(self.machine)

    def look(self) -> None:
        """Part 1: what stands out."""
        out, snapshot = console(), self.observe()
        for line in summary_lines(snapshot):
            out.print(shown(line))
        noted = [(a, joined(list(states_of(a, snapshot).values()))) for a in snapshot.accounts if is_person(a)]
        noted = [(account, text) for account, text in noted if text]
        for account, text in noted[:MOST_NOTES]:
            out.print(shown(f"  {account.name}: {text}"))
        if len(noted) > MOST_NOTES:
            out.print(f"  and {len(noted) - MOST_NOTES} more accounts")
        answers = {"on": "the next part", "survey": "every account and rule"}
        while self.ask("Go on?", answers, "on") == "survey":
            self.do("survey", *self.at)

    def choose(self) -> None:
        """Part 2: which baseline."""
        if self.baseline:
            load_baseline(self.baseline)
            return
        out = console()
        out.print("Which baseline does it have to meet?")
        for name in INCLUDED_BASELINES:
            out.print(f"  {name:<16} {shown(load_baseline(name).title)}")
        if here := user().baselines_here():
            out.print(f"  {'files here':<16} {shown(joined(here))}")
        while True:
            answers = {"": "the name of a baseline", "questions": "three questions choose one"}
            typed = self.ask("Its name, or questions?", answers)
            try:
                if typed == "questions":
                    typed = f"{self.machine.name}.toml"
                    if self.do("baseline", "new", typed):
                        continue
                load_baseline(typed)
            except VerrouError as error:
                complain(str(error))
                continue
            self.baseline = typed
            return

    def _plan(self) -> tuple[Snapshot, ChangePlan]:
        baseline = load_baseline(self.baseline)
        snapshot = self.observe()
        return snapshot, plan_changes(snapshot, baseline, audit(snapshot, baseline))

    def plan(self) -> None:
        """Part 3: what would change."""
        out = console()
        baseline = load_baseline(self.baseline)
        snapshot, plan = self._plan()
        out.print(f"{shown(baseline.title)}: {audit(snapshot, baseline).tally}.")
        rules = sum(len(step.values) for step in plan.steps if isinstance(step, SetRules))
        others = [step.what for step in plan.steps if not isinstance(step, SetRules)]
        first = [f"set {counted(rules, 'rule')}"] if rules else []
        for line in [*first, *others[:MOST_STEPS]]:
            out.print(shown(f"  {line}"))
        if len(others) > MOST_STEPS:
            out.print(f"  and {len(others) - MOST_STEPS} more steps")
        by_hand = [each for each in plan.manual if not each.waits]
        for each in by_hand:
            out.print(shown(f"  for you: {each.subject}: {each.advice}"))
        if later := len(plan.manual) - len(by_hand):
            out.print(f"  of these, {counted(later, 'rule')} will take effect after a restart or at the next sign-in")
        if not plan.steps:
            out.print("No step can improve the result.")
        answers = {"on": "the next part", "plan": "each step, after a dry run", "audit": "each finding"}
        while (typed := self.ask("Go on?", answers, "on")) != "on":
            command_of = {"plan": ("harden", "--preview"), "audit": ("audit",)}
            self._carefully(*command_of[typed], *self.at, "-b", self.baseline)

    def _carefully(self, *words: str) -> None:
        try:
            self.do(*words)
        except GuardRefused as refused:
            complain(str(refused))

    def questions(self) -> None:
        """Part 4: what only a person can answer, one at a time."""
        snapshot = self.observe()
        wanted, steps = load_baseline(self.baseline).accounts, self._plan()[1].steps
        closed = {step.account for step in steps if isinstance(step, SetEnabled) and not step.enabled}
        asked = False
        for account in snapshot.accounts:
            listed = wanted.get(account.name)
            keeps = account.name in closed or (listed is not None and listed.password == "blank")
            if account.password is not PasswordState.BLANK or not account.enabled or keeps or not is_person(account):
                continue
            asked = True
            answers = {"password": "set one now", "disable": "disable the account", "leave": "leave it"}
            match self.ask(f"{account.name} has a blank password. What should become of it?", answers, "leave"):
                case "password":
                    self._carefully("account", "password", account.name, *self.at, "--yes")
                case "disable":
                    self._carefully("account", "disable", account.name, *self.at, "--yes")
        for account in snapshot.accounts:
            if account.name in closed and account.builtin is None:
                asked = self._files(account) or asked
        if not asked:
            console().print("No questions: the plan decides everything.")

    def _files(self, account: Account) -> bool:
        """Ask what becomes of the files of an account that the plan disables; return whether it has any."""
        try:
            files = self.machine.files_of(account, False)
        except CannotLook:
            return False
        if not files.count:
            return False
        answers = {
            "leave": "they stay with the disabled account",
            "archive": "remove the account, and archive its home",
            "hand-over": "remove the account, and give its files to another",
        }
        has = f"{account.name} will be disabled and has {counted(files.count, 'file')} in {files.home}"
        typed = self.ask(f"{has}. What should become of them?", answers, "leave")
        if typed == "leave":
            return True
        to = ("--to", self.ask("To whom?", {"": "the name of an account"})) if typed == "hand-over" else ()
        self._carefully("account", "remove", account.name, "--files", typed, *to, *self.at, "--yes")
        return True

    def harden(self) -> None:
        """Part 5: yes, and what was done. Guards that may be overridden are asked about, one at a time."""
        if not self._plan()[1].steps:
            console().print("Nothing to change.")
            return
        self.ask(f"Change {self.machine.name} now?", {"yes": "apply the plan; the journal keeps the way back"})
        file = user().new_name(f"{self.machine.name}-passwords", ".txt")
        while True:
            over = [word for guard in self.overridden for word in ("--override", guard)]
            words = ("harden", *self.at, "-b", self.baseline, "--yes", "--password-file", file, *over)
            try:
                code = self.do(*words, fold=True)
            except GuardRefused as refused:
                self._blocked(refused)
                continue
            if code not in (0, 1):
                self.ask("Try again?", {"yes": "the same again"})
                continue
            return

    def _blocked(self, refused: GuardRefused) -> None:
        """Ask what to do about a guard: who takes over, or whether to override it."""
        complain(str(refused))
        named = [name for name in guards.ACCEPTABLE if f"guard {name}" in str(refused)]
        fitting = [name for name in named if name not in self.overridden]
        answers = {"create": "create another administrator, who takes over"}
        answers |= {"override": f"override {joined(fitting)}; the journal records it"} if fitting else {}
        if self.ask("What should be done?", answers) == "override":
            self.overridden += fitting
            return
        name = self.ask("Who takes over? The name of a new administrator", {"": "the name of the account"})
        self._carefully("account", "add", name, "--role", "administrator", *self.at, "--yes")

    def wait(self) -> None:
        """Part 6: what waits for a restart."""
        pending = [rule_id for rule_id, each in self.observe().readings.items() if each.pending is not None]
        out = console()
        if not pending:
            out.print("Nothing waits for a restart or a sign-in.")
            return
        out.print(f"{counted(len(pending), 'rule')} take effect after a restart or at the next sign-in.")
        if isinstance(self.machine, BenchMachine):
            if self.ask("Restart it now?", {"yes": "restart", "later": "go on without"}, "yes") == "yes":
                self.do("machine", "restart", *self.at)
            return
        answers = {"later": "stop here; after the restart, the same command goes on", "on": "go on without"}
        if self.ask("Restart the computer. Go on afterwards?", answers, "later") == "later":
            raise _Stopped

    def verify(self) -> None:
        """Part 7: tests."""
        self.do("verify", *self.at, "-b", self.baseline)
        answers = {"on": "the sign-off sheet", "all": "every test"}
        while self.ask("Go on?", answers, "on") == "all":
            self.do("verify", *self.at, "-b", self.baseline, "--all")

    def sign_off(self) -> None:
        """Part 8: the sheet."""
        file = user().new_name(f"{self.machine.name}-sheet", ".html")
        self.do("report", *self.at, "-b", self.baseline, "--save", file)
        console().print(f"The sign-off sheet is in {shown(file)}. To revert a run: verrou undo", style="bold")


PARTS: Sequence[tuple[str, Callable[[_Visit], None]]] = (
    ("Look", _Visit.look),
    ("Choose a baseline", _Visit.choose),
    ("What would change", _Visit.plan),
    ("Questions", _Visit.questions),
    ("Change", _Visit.harden),
    ("What waits", _Visit.wait),
    ("Verify", _Visit.verify),
    ("Sign off", _Visit.sign_off),
)


@click.command("visit")
@machine_option
@click.option("-b", "--baseline", "baseline_name", default="", metavar="BASELINE", help="Baseline to meet.")
def visit(machine: Machine, baseline_name: str) -> None:
    """Lead through the whole job at one machine: look, choose, preview, harden, verify, sign off.

    Each part prints the command that it runs. Stop at any point; after a restart or later the same command goes on."""
    singly = joined([f"verrou {name}" for name in ("survey", "audit", "harden", "verify", "report")])
    if not (user().can_be_asked and sys.stdout.isatty()):
        raise BadInput(f"visit asks its questions at a terminal. Without one, use the single commands: {singly}")
    if isinstance(machine.changeable, Lacks):
        raise BadInput(f"{machine.name} cannot be changed: {machine.changeable.reason}. To look at it: verrou survey")
    here, out = _Visit(machine, baseline_name), console()
    try:
        number = _where_it_stands(here)
        while number < len(PARTS):
            title, part = PARTS[number]
            out.print()
            out.print(f"{number + 1} of {len(PARTS)}: {title} ".ljust(out.width, "-"), style="dim")
            try:
                part(here)
                number += 1
            except _GoBack:
                number = max(0, number - 1)
                if PARTS[number][1] is _Visit.choose:
                    here.baseline = ""
    except _Stopped:
        baseline = ("-b", here.baseline) if here.baseline else ()
        out.print(f"Stopped. To go on: {shown(command('visit', *here.at, *baseline))}")


def _where_it_stands(here: _Visit) -> int:
    """Return the part to begin with: after a run that hardened the machine by this baseline, what waits."""
    entry = _last_run(here.machine)
    if entry is None:
        return 0
    words = shlex.split(entry.command)
    named = next((words[n + 1] for n, word in enumerate(words[:-1]) if word in ("-b", "--baseline")), "")
    if not named or (here.baseline and named != here.baseline):
        return 0
    out = console()
    out.print(
        f"{shown(here.machine.name)} was hardened on {entry.begun[:10]} by {shown(named)} (entry {entry.number})."
    )
    answers = {"yes": "what waits, tests, the sheet", "anew": "from the first look"}
    try:
        if here.ask("Go on from there?", answers, "yes") == "anew":
            return 0
    except _GoBack:
        return 0
    here.baseline = named
    return next(n for n, (_, part) in enumerate(PARTS) if part is _Visit.wait)


def _last_run(machine: Machine) -> JournalEntry | None:
    """Return the last run that changed a machine, where it hardened it and still stands."""
    changeable = machine.changeable
    if isinstance(changeable, Lacks):
        return None
    journal = Journal(changeable.records_folder())
    done = [entry for entry in journal.entries() if entry.state() is RunState.DONE] if journal.there else []
    return done[-1] if done and shlex.split(done[-1].command)[:1] == ["harden"] else None
