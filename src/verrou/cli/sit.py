"""verrou sit: sit at a bench machine, and do there what people do."""

import secrets
import shlex
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path

import click
from attrs import define, frozen

from verrou.cli.at_the_bench import at_the_bench
from verrou.cli.observing import looked_at
from verrou.cli.options import machine_option
from verrou.core.errors import BadInput, VerrouError
from verrou.core.model.routes import Route
from verrou.core.model.text import counted
from verrou.core.rules import CATALOGUE
from verrou.core.values import Unacceptable, nearest, parse_duration
from verrou.core.values.kind import typed_number
from verrou.machines.bench.authority import Authority, NewPasswordFirst, No
from verrou.machines.bench.machine import BenchMachine
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.bench.rules import rules_set_by
from verrou.machines.bench.session_rules import DRIVES, KINDS_OF_PROGRAM
from verrou.machines.bench.sitting import Seen, Sitting
from verrou.machines.local_files import ordinary_text
from verrou.machines.protocol import Machine
from verrou.reports.reading_text import reading_text
from verrou.reports.tables import complain, shown

MOST_TIMES = 1000
"""How often one act can mistype."""


class _Expected(VerrouError):
    """Something else came than a line of the script expects."""

    exit_code = 1


class _Left(Exception):
    """The person gets up."""


@frozen(repr=False)
class Act:
    """What can be done: how it is written after its name, what it does, and the words that can follow it."""

    arguments: str
    about: str
    do: "Callable[[_Sit, list[str]], Seen]"
    words: "Callable[[Authority], Sequence[str]]" = lambda _: ()


@define(repr=False)
class _Sit:
    """Somebody who sits at a bench machine, at a terminal or by a script."""

    machine: BenchMachine
    explain: bool
    at_terminal: bool
    lines: Iterator[str]
    line: int = 0
    last: str = ""
    """What came last, with single spaces."""

    def next_line(self) -> str | None:
        """Return the next line; None at the end."""
        if self.at_terminal:
            try:
                return input(f"{self._where()}> ")
            except (EOFError, KeyboardInterrupt):
                click.echo()
                return None
        self.line += 1
        return next(self.lines, None)

    def _where(self) -> str:
        name = Sitting(self.machine.load()).name
        return f"{shown(self.machine.name)} [{shown(name)}]" if name else shown(self.machine.name)

    def ask(self, what: str) -> str:
        """Return a password or an answer: from a hidden prompt, or the next line of the script."""
        if self.at_terminal:
            answer: str = click.prompt(what, hide_input=True, default="", show_default=False, err=True)
            return answer
        self.line += 1
        answer_line = next(self.lines, None)
        if answer_line is None:
            raise BadInput(f"line {self.line}: the script ends where it has to give: {what}")
        return answer_line.removesuffix("\n")

    def act(self, do: Callable[[Sitting], Seen]) -> Seen:
        """Do something at the machine as it is now, under its lock, and save what became of it."""
        with at_the_bench(self.machine, "sit") as authority:
            return do(Sitting(authority))

    def obey(self, typed: str) -> None:
        """Do one line, and print what is seen."""
        try:
            words = shlex.split(typed, comments=True)
        except ValueError as error:
            raise BadInput(f"{error}: {typed.strip()!r}") from None
        if not words:
            return
        act = ACTS.get(words[0])
        if act is None:
            close = nearest(words[0], list(ACTS))
            raise BadInput(f"unknown act {words[0]!r}. {f'Did you mean {close}?' if close else 'To list them: help'}")
        try:
            seen = act.do(self, words[1:])
            lines, keys = seen.lines, seen.keys
        except No as no:
            lines, keys = [f"No: {no}."], no.keys
        except Unacceptable as unacceptable:
            raise BadInput(f"{words[0]}: {unacceptable}") from None
        except _Usage:
            raise BadInput(f"usage: {words[0]} {act.arguments}") from None
        for line in lines:
            click.echo(shown(line))
        for line in self._reasons(keys) if self.explain else ():
            click.echo(f"  because of {shown(line)}")
        self.last = " ".join(" ".join(lines).split())

    def _reasons(self, keys: Sequence[str]) -> list[str]:
        """Return the rules behind the authority's own keys, each with its sentence."""
        snapshot = snapshot_of(self.machine.load(), "")
        return [
            f"{rule_id}: {reading_text(CATALOGUE[rule_id], snapshot.readings[rule_id])}"
            for rule_id in rules_set_by(keys)
        ]

    def expect(self, text: str) -> None:
        """Check what came last. Raises: _Expected: it was something else."""
        if " ".join(text.split()) not in self.last:
            raise _Expected(f"line {self.line}: expected {text!r}, and saw: {shown(self.last)}")


class _Usage(Exception):
    """An act that is written in another way."""


def _one(words: list[str]) -> str:
    if len(words) != 1:
        raise _Usage
    return words[0]


def _none(words: list[str]) -> None:
    if words:
        raise _Usage


def _among(word: str, known: Mapping[str, str], what: str) -> str:
    """Return the authority's own word for one of ours."""
    if word in known:
        return known[word]
    close = nearest(word, list(known))
    hint = f"Did you mean {close}?" if close else f"Expected one of {', '.join(known)}."
    raise BadInput(f"{what}: invalid value {word!r}. {hint}")


ROUTES = {route: route for route in map(str, Route) if route != Route.REMOTE_SHELL}
PROGRAMS = {str(program): own for program, own in KINDS_OF_PROGRAM.items()}


def _plain(do: Callable[[Sitting], Seen]) -> Callable[[_Sit, list[str]], Seen]:
    """Return an act without arguments."""

    def act(sit: _Sit, words: list[str]) -> Seen:
        _none(words)
        return sit.act(do)

    return act


def _sign_in(sit: _Sit, words: list[str]) -> Seen:
    if not 1 <= len(words) <= 2:
        raise _Usage
    name, route = words[0], _among(words[1], ROUTES, "ROUTE") if len(words) == 2 else "console"
    given = sit.ask(f"Password of {name}")
    try:
        return sit.act(lambda at: at.sign_in(name, given, route))
    except NewPasswordFirst as first:
        click.echo(f"No: {first}.")
        new = sit.ask(f"New password of {name}")
        return sit.act(lambda at: at.change_first(name, given, new))


def _mistype(sit: _Sit, words: list[str]) -> Seen:
    if not 1 <= len(words) <= 3:
        raise _Usage
    name, number, route = (*words, *("", "1", "console")[len(words) :])
    times, route = typed_number(number), _among(route, ROUTES, "ROUTE")
    if not isinstance(times, int) or not 1 <= times <= MOST_TIMES:
        raise _Usage
    last = No("")
    for _ in range(times):
        try:
            sit.act(lambda at: at.sign_in(name, secrets.token_hex(12), route))
        except No as no:
            last = no
    return Seen([f"{counted(times, 'wrong password')}: {last}."], last.keys)


def _switch(sit: _Sit, words: list[str]) -> Seen:
    name = _one(words)
    given = sit.ask(f"Password of {name}")
    return sit.act(lambda at: at.switch(name, given))


def _unlock(sit: _Sit, words: list[str]) -> Seen:
    _none(words)
    given = sit.ask("Password")
    return sit.act(lambda at: at.unlock(given))


def _change_password(sit: _Sit, words: list[str]) -> Seen:
    _none(words)
    old, new = sit.ask("Present password"), sit.ask("New password")
    return sit.act(lambda at: at.change_password(old, new))


def _recover(sit: _Sit, words: list[str]) -> Seen:
    name = _one(words)
    accounts = {str(each["name"]).casefold(): each for each in sit.machine.load().accounts()}
    questions = accounts[name.casefold()]["questions"] if name.casefold() in accounts else []
    answers = [sit.ask(question) for question in questions]
    new = sit.ask(f"New password of {name}") if questions else ""
    return sit.act(lambda at: at.recover(name, answers, new))


def _start(sit: _Sit, words: list[str]) -> Seen:
    program = _among(_one(words), PROGRAMS, "PROGRAM")
    return sit.act(lambda at: at.start(program))


def _answer(sit: _Sit, words: list[str]) -> Seen:
    match words:
        case ["yes"]:
            return sit.act(lambda at: at.answer("yes"))
        case ["nothing"]:
            return sit.act(lambda at: at.dismiss())
        case ["wrong"]:
            return sit.act(lambda at: at.answer(secrets.token_hex(12), at.name))
        case ["password"]:
            own = sit.ask("Password")
            return sit.act(lambda at: at.answer(own))
        case ["administrator", name]:
            given = sit.ask(f"Password of {name}")
            return sit.act(lambda at: at.answer(given, name))
    raise _Usage


def _run(sit: _Sit, words: list[str]) -> Seen:
    if not words:
        raise _Usage
    line = " ".join(words)
    return sit.act(lambda at: at.run(line))


def _browse(sit: _Sit, words: list[str]) -> Seen:
    if words:
        drive = _among(_one(words), DRIVES, "DRIVE")
        return sit.act(lambda at: at.browse(drive))
    ours = {theirs: own for own, theirs in DRIVES.items()}
    seen = sit.act(Sitting.drives)
    return seen._replace(lines=[f"drives: {', '.join(ours[drive] for drive in seen.lines) or 'none'}"])


def _idle(sit: _Sit, words: list[str]) -> Seen:
    span = _span(words)
    return sit.act(lambda at: at.idle(span))


def _wait(sit: _Sit, words: list[str]) -> Seen:
    span = _span(words)
    return sit.act(lambda at: at.wait(span))


def _span(words: list[str]) -> timedelta:
    return parse_duration(" ".join(words))


def _set_clock(sit: _Sit, words: list[str]) -> Seen:
    try:
        moment = datetime.fromisoformat(" ".join(words))
    except ValueError:
        raise _Usage from None
    if moment.tzinfo is not None:
        raise _Usage
    return sit.act(lambda at: at.set_clock(moment))


def _hint(sit: _Sit, words: list[str]) -> Seen:
    return sit.act(lambda at: at.set_hint(" ".join(words)))


def _questions(sit: _Sit, words: list[str]) -> Seen:
    answers = {question: sit.ask(question) for question in words}
    return sit.act(lambda at: at.set_recovery(answers))


def _link(sit: _Sit, words: list[str]) -> Seen:
    identity = _one(words)
    return sit.act(lambda at: at.link("" if identity == "none" else identity))


def _idle_time(sit: _Sit, words: list[str]) -> Seen:
    own = " ".join(words)
    minutes = None if own == "default" else 0 if own == "never" else int(_span(words) / timedelta(minutes=1))
    return sit.act(lambda at: at.set_idle(minutes))


def _automatic(sit: _Sit, words: list[str]) -> Seen:
    name = _one(words)
    return sit.act(lambda at: at.set_automatic("" if name == "nobody" else name))


def _expect(sit: _Sit, words: list[str]) -> Seen:
    sit.expect(" ".join(words))
    return Seen([])


def _help(sit: _Sit, words: list[str]) -> Seen:
    _none(words)
    usages = {name: f"{name} {act.arguments}".strip() for name, act in ACTS.items()}
    width = max(map(len, usages.values()))
    return Seen([f"{usage.ljust(width)}  {ACTS[name].about}" for name, usage in usages.items()])


def _leave(sit: _Sit, words: list[str]) -> Seen:
    raise _Left


def _names(authority: Authority) -> list[str]:
    return [str(account["name"]) for account in authority.accounts()]


ACTS: Mapping[str, Act] = {
    "look": Act("", "Look at the screen.", _plain(Sitting.look)),
    "keys": Act("", "Press the attention keys, which no program can fake.", _plain(Sitting.press_keys)),
    "sign-in": Act("ACCOUNT [ROUTE]", "Sign in; the password is asked for.", _sign_in, _names),
    "mistype": Act("ACCOUNT [TIMES [ROUTE]]", "Try to sign in with a wrong password.", _mistype, _names),
    "recover": Act("ACCOUNT", "Answer the recovery questions, and set a new password.", _recover, _names),
    "sign-out": Act("", "Sign out.", _plain(Sitting.sign_out)),
    "lock": Act("", "Lock the screen.", _plain(Sitting.lock)),
    "unlock": Act("", "Unlock the screen; the password is asked for.", _unlock),
    "switch": Act("ACCOUNT", "Bring back the session of someone else who is signed in.", _switch, _names),
    "people": Act("", "List who is signed in.", _plain(Sitting.people)),
    "change-password": Act("", "Change one's own password.", _change_password),
    "start": Act(
        "PROGRAM", f"Start a program as an administrator: {', '.join(PROGRAMS)}.", _start, lambda _: [*PROGRAMS]
    ),
    "answer": Act(
        "yes|password|wrong|nothing|administrator ACCOUNT",
        "Answer the prompt of that program.",
        _answer,
        lambda machine: ["yes", "password", "wrong", "nothing", "administrator", *_names(machine)],
    ),
    "run": Act("COMMAND", "Run a single command as an administrator.", _run),
    "browse": Act("[DRIVE]", f"Open a drive ({', '.join(DRIVES)}), or list those shown.", _browse, lambda _: [*DRIVES]),
    "settings": Act("", "Open the settings of the machine.", _plain(Sitting.open_settings)),
    "idle": Act("DURATION", "Touch nothing for a while.", _idle),
    "wait": Act("DURATION", "Let time pass while the user goes on working.", _wait),
    "set-clock": Act("YYYY-MM-DD HH:MM", "Set the clock.", _set_clock),
    "shut-down": Act("", "Switch the machine off.", _plain(Sitting.shut_down)),
    "start-up": Act("", "Switch the machine on.", _plain(Sitting.start_up)),
    "restart": Act("", "Restart the machine.", _plain(Sitting.restart)),
    "hint": Act("[TEXT]", "Set the hint of one's own password.", _hint),
    "questions": Act("[QUESTION...]", "Set one's own recovery questions; the answers are asked for.", _questions),
    "link": Act("IDENTITY|none", "Link one's own account to an online identity.", _link),
    "idle-time": Act("DURATION|never|default", "Set an idle time of one's own.", _idle_time),
    "automatic": Act("ACCOUNT|nobody", "Choose who is signed in when the machine starts.", _automatic, _names),
    "expect": Act("TEXT", "End with exit code 1 unless the last answer contains this.", _expect),
    "help": Act("", "List the acts.", _help),
    "leave": Act("", "Leave the machine; users who are signed in stay so.", _leave),
}


@click.command("sit")
@click.argument("script", required=False, type=click.Path(path_type=Path))
@click.option("--explain", is_flag=True, help="Name the rules behind each answer.")
@machine_option
def sit(script: Path | None, machine: Machine, explain: bool) -> None:
    """Sit at a bench machine: sign in, mistype, start programs, let time pass, and see what its users see.

    Type one act a line; to list them: help. Or give a SCRIPT, or one on standard input: there the line after an act
    that asks for a password is the password, "expect TEXT" checks the answer before it, and "#" begins a comment."""
    if not isinstance(machine, BenchMachine):
        raise BadInput(f"{machine.address} is not a bench machine. Sit down at it, or create one: verrou machine new")
    looked_at(machine)
    lines = sys.stdin if script is None else ordinary_lines(script)
    at_terminal = script is None and sys.stdin.isatty()
    person = _Sit(machine, explain, at_terminal, iter(lines))
    if at_terminal:
        _complete(machine)
        person.obey("look")
        click.echo("To list the acts: help")
    while (typed := person.next_line()) is not None:
        if not at_terminal and typed.strip():
            click.echo(f"> {shown(typed.strip())}")
        try:
            person.obey(typed)
        except _Left:
            return
        except BadInput as mistake:
            if not at_terminal:
                raise BadInput(f"line {person.line}: {mistake}") from None
            complain(str(mistake))


MOST_OF_A_SCRIPT = 1_000_000
"""Bytes of the longest script."""


def ordinary_lines(script: Path) -> list[str]:
    """Return the lines of a script. Raises: BadInput: it cannot be read."""
    try:
        return ordinary_text(script, MOST_OF_A_SCRIPT).splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "not UTF-8 text"
        raise BadInput(f"{script}: {reason}. Give a file with one act a line.") from None


def _complete(machine: BenchMachine) -> None:
    """Have the terminal complete acts, and accounts and other words behind them."""
    try:
        import readline
    except ImportError:
        return

    def fitting(typed: str, number: int) -> str | None:
        before = readline.get_line_buffer()[: readline.get_begidx()].split()
        act = ACTS.get(before[0]) if before else None
        words = list(ACTS) if not before else list(act.words(machine.load())) if act is not None else []
        return next(iter([word for word in words if word.startswith(typed)][number:]), None)

    readline.set_completer_delims(" ")
    readline.set_completer(fitting)
    readline.parse_and_bind("tab: complete")
