"""Options that several commands share: machine, baseline, format, and hidden passwords."""

import errno
import os
import select
import shlex
import sys
from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO, TypeVar

import click

import verrou
from verrou.cli import completing
from verrou.core.errors import BadInput, MachineRefused, NotAgreed
from verrou.core.model import AccountName, GroupName
from verrou.machines.changes import Secrets
from verrou.machines.local_files import ordinary_text
from verrou.machines.protocol import Asking, Lacks, Machine
from verrou.machines.registry import addresses_text, open_machine

if TYPE_CHECKING:
    from verrou.core.baselines.baseline import Baseline
    from verrou.core.model import Snapshot
    from verrou.core.model.verdicts import TrialResult
    from verrou.core.steps.step import Step
    from verrou.reports.tables import Table

SHIPPED = Path(verrou.__file__).parent / "baselines"
F = TypeVar("F", bound=Callable[..., Any])


class MachineType(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """An address that becomes a machine."""

    name = "machine"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Machine:
        return open_machine(value) if isinstance(value, str) else value


def typed_command() -> str:
    """Return the command as it was typed, for the journal: no secret is ever an argument."""
    context = click.get_current_context()
    words = context.find_root().obj
    return shlex.join(words) if words else context.command_path.partition(" ")[2]


class OneOf(click.Choice):  # type: ignore[type-arg,unused-ignore]
    """One of a few words; any other is rejected in the form of all errors."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if value in self.choices:
            return value
        from verrou.core.values import nearest, show_raw

        close = nearest(value, self.choices)
        hint = f". Did you mean {close}?" if close else ""
        option = f"{param.opts[-1]}: " if param is not None else ""
        raise BadInput(f"{option}invalid value {show_raw(value)}; expected one of {', '.join(self.choices)}{hint}")


def check_new_name(file: Path) -> None:
    """Check that a file of that name could be created. Raises: BadInput: it is empty, or not printable."""
    if not file.name or not file.name.isprintable():
        raise BadInput(f"invalid value {str(file)!r}; expected the name of a new file, such as desk-01")


def write_new(file: Path, content: str | bytes) -> None:
    """Write a file for people, and never over an existing one. Raises: BadInput: it exists, or cannot be written."""
    check_new_name(file)
    try:
        stream = open(file, "xb")  # noqa: SIM115
        try:
            with stream:
                stream.write(content if isinstance(content, bytes) else content.encode("utf-8", "backslashreplace"))
        except OSError:
            file.unlink()  # half a file is none
            raise
    except FileExistsError:
        raise BadInput(f"{file} already exists and was not changed. Choose another name.") from None
    except OSError as error:
        raise BadInput(f"{file}: {error.strerror}. Give a file in a folder that you can write to.") from None


def agreed(question: str) -> None:
    """Ask for confirmation. Raises: NotAgreed: it was denied, or no one could be asked."""
    try:
        answer = click.confirm(question)
    except click.Abort:
        if sys.stdin.isatty():
            raise
        click.echo()
        raise NotAgreed("nothing was changed: no answer. Use --yes to skip the prompt.") from None
    if not answer:
        raise NotAgreed("cancelled; nothing was changed")


def _the_one_machine(context: click.Context, __: click.Parameter, machines: tuple[Machine, ...]) -> Machine:
    """Reject two machines in one command: both would be meant, and only one be done."""
    if len(machines) > 1:
        named = ", ".join(machine.address for machine in machines)
        raise BadInput(f"{len(machines)} machines given ({named}). Give -m once.")
    machine = machines[0] if machines else open_machine(os.environ.get("VERROU_MACHINE") or "this")
    required: list[Asking] = context.meta.get(ASKING, [])
    if len(required) > 1:
        raise BadInput("--files-only and --ask-system cannot be combined. Use one of them.")
    if required:
        _set_asking(machine, required[0])
    return machine


def _set_asking(machine: Machine, how: Asking) -> None:
    askable = machine.askable
    if not isinstance(askable, Lacks):
        askable.asking = how
    elif how is Asking.SYSTEM:
        raise BadInput(f"--ask-system: {machine.name} cannot be asked: {askable.reason}")


ASKING = "verrou.asking"


def _asking(how: Asking) -> Callable[[click.Context, click.Parameter, bool], None]:
    def required(context: click.Context, _: click.Parameter, given: bool) -> None:
        if given:
            context.meta.setdefault(ASKING, []).append(how)

    return required


def looked_at(machine: Machine, *, changing: bool = False, asked: bool = False) -> "Snapshot":
    """Observe a machine, and print its warnings and an interrupted run on standard error.

    Commands that are about to change it are stopped for that run instead. ``asked``: the system itself is asked, for a
    dry run or a test later."""
    from verrou.records.standing import observed
    from verrou.reports.tables import complain

    snapshot = observed(machine, asked=asked)
    broken = snapshot.machine.interrupted
    for trouble in (*((f"{snapshot.machine.name}: {broken}",) if broken and not changing else ()), *snapshot.warnings):
        complain(trouble)
    return snapshot


def machine_option(command: F) -> F:
    """Add ``-m MACHINE``, by default this computer, and the choice whether its own programs are asked."""
    for name, how, help_text in (
        ("--ask-system", Asking.SYSTEM, "Also ask PAM and sshd of a mounted disk, run in isolation."),
        ("--files-only", Asking.FILES_ONLY, "Only read files; run no program of the machine."),
    ):
        flag = click.option(
            name, is_flag=True, is_eager=True, expose_value=False, callback=_asking(how), help=help_text
        )
        command = flag(command)
    return click.option(
        "-m",
        "--machine",
        type=MachineType(),
        multiple=True,
        callback=_the_one_machine,
        metavar="MACHINE",
        shell_complete=completing.machines,
        help=f"{addresses_text()}; default: VERROU_MACHINE, or this.",
    )(command)


def _a_baseline(_: click.Context, __: click.Parameter, name: str | None) -> str:
    if name is None:
        raise BadInput(f"no baseline given. Use -b FILE, or an included one: -b {', -b '.join(included_baselines())}")
    return name


def baseline_option(command: F) -> F:
    """Add ``-b BASELINE``."""
    return click.option(
        "-b",
        "--baseline",
        "baseline_name",
        callback=_a_baseline,
        metavar="BASELINE",
        shell_complete=completing.baselines,
        help=f"Baseline file, or an included one: {', '.join(included_baselines())}.",
    )(command)


def format_option(command: F) -> F:
    """Add ``--format``."""
    return click.option(
        "--format",
        "style",
        type=OneOf(["text", "json", "csv"]),
        default="text",
        show_default=True,
        help="Output format.",
    )(command)


@cache
def included_baselines() -> tuple[str, ...]:
    """Return the names of the included baselines."""
    try:
        names = os.listdir(SHIPPED)
    except NotADirectoryError:  # the program is one file
        from importlib.resources import files

        names = [each.name for each in files("verrou.baselines").iterdir()]
    return tuple(sorted(name.removesuffix(".toml") for name in names if name.endswith(".toml")))


def fetch_baseline(name: str, named_in: str = "") -> tuple[str, str]:
    """Return the text of a baseline and its place: an included one, or a file relative to the one that names it.

    Raises: BadInput: there is none, or it cannot be read."""
    if name in included_baselines():
        return verrou.packaged_text("baselines", f"{name}.toml"), name
    path = Path(os.path.normpath(Path(named_in).parent / name)) if named_in else Path(name)
    try:
        return ordinary_text(path, MOST_OF_A_BASELINE).removeprefix(BYTE_ORDER_MARK), str(path)
    except FileNotFoundError:
        from verrou.core.values import nearest

        close = nearest(name, included_baselines())
        hint = f"Did you mean {close}?" if close else f"Included baselines: {', '.join(included_baselines())}."
        raise BadInput(f"{path}: no such baseline. {hint}") from None
    except UnicodeDecodeError:
        raise BadInput(f"{path}: not a text file; a baseline is a TOML file in UTF-8") from None
    except OSError as error:
        raise BadInput(f"{path}: {error.strerror}. Give a baseline file that can be read.") from None


LONGEST_PASSWORD = 511
"""Longest password in bytes: a PAM prompt's answer with its end (PAM_MAX_RESP_SIZE, pam_appl.h), and crypt(3)."""
BYTE_ORDER_MARK = "\ufeff"
"""What some editors begin a text with; it is no part of it."""
MOST_OF_A_BASELINE = 1_000_000
"""How many bytes a baseline may have: people write them."""


def load_baseline(name: str) -> "Baseline":
    """Return the baseline of that name, with all it builds on."""
    from verrou.core.baselines.baseline import read_baseline

    return read_baseline(*fetch_baseline(name), fetch_baseline)


def tried(machine: Machine, snapshot: "Snapshot") -> "list[TrialResult]":
    """Return the results of the tests; all *not run* where there can be none."""
    from random import SystemRandom

    from verrou.core.errors import MachineRefused, NotEnoughRights
    from verrou.core.testing.trials import not_tried, run_trials
    from verrou.machines.protocol import DryRunUnavailable
    from verrou.reports.tables import console

    testable = machine.testable
    if isinstance(testable, Lacks):
        return not_tried(testable.reason)
    with console(stderr=True).status("Testing with a temporary account"):
        try:
            with testable.tests() as attempt:
                return list(run_trials(attempt, snapshot, SystemRandom()))
        except (DryRunUnavailable, NotEnoughRights, MachineRefused) as reason:
            return not_tried(str(reason))


def known_account(snapshot: "Snapshot", name: str) -> AccountName:
    """Return the account with that name, or else the only one with that ID.

    Raises: BadInput: the machine has no such account."""
    if (found := snapshot.account_called(name)) is not None:
        return found.name
    if len(twins := snapshot.by_identity.get(name, ())) == 1:
        return twins[0].name
    raise _unknown(snapshot, "account", name, list(snapshot.by_name))


def known_group(snapshot: "Snapshot", name: str) -> GroupName:
    """Return the group with that name, or else the one with that ID.

    Raises: BadInput: the machine has no such group."""
    if found := snapshot.group(name):
        return found.name
    raise _unknown(snapshot, "group", name, [group.name for group in snapshot.groups])


def _unknown(snapshot: "Snapshot", what: str, name: str, known: Sequence[str]) -> BadInput:
    from verrou.core.values import nearest, show_raw

    close = nearest(name, known)
    hint = f"Did you mean {close}?" if close else f"To list them: verrou {what} list"
    return BadInput(f"{snapshot.machine.name} has no {what} {show_raw(name)}. {hint}")


def print_facts(style: str, table: "Table", data: object, print_text: Callable[[], None]) -> None:
    """Print facts in the requested format."""
    from verrou.reports.tables import as_csv, as_json

    if style == "json":
        click.echo(as_json(data), nl=False)
    elif style == "csv":
        click.echo(as_csv(table), nl=False)
    else:
        print_text()


def collect_passwords(steps: Sequence["Step"], snapshot: "Snapshot", typed: bool) -> tuple[Secrets, Secrets]:
    """Return the passwords that the steps need, and those of them that were generated and must be handed over.

    A typed one comes from a hidden prompt, twice, or with ``typed`` False from standard input, one a line, in the order
    of the steps. One that does not meet the machine's rules, as they are or as the steps set them, is rejected with
    every rule it breaks. An account that is tested is asked for its current password, unless the plan sets one."""
    from random import SystemRandom

    from verrou.core.prediction.predict import predict
    from verrou.core.steps.step import GIVES_PASSWORD, TrySignIn
    from verrou.core.testing.passwords import broken_rules, make_phrase, policy_of
    from verrou.reports.tables import complain

    policy, predicted = policy_of(snapshot), snapshot
    for step in steps:
        predicted = predict(step, predicted)
        policy = policy.together(policy_of(predicted))
    secrets, generated = Secrets(), Secrets()
    for step in steps:
        if isinstance(step, TrySignIn) and step.account not in secrets:
            given = "" if step.blank else _present(step.account) if typed else _from_stdin(step.account)
            secrets[step.account] = given
        if not isinstance(step, GIVES_PASSWORD) or step.password == "blank":
            continue
        name = step.account
        if step.password == "generate":
            secrets[name] = generated[name] = make_phrase(policy, name, _words(), SystemRandom())
            continue
        while True:
            candidate = _prompt(name) if typed else _from_stdin(name)
            unfit = _why_unfit(candidate)
            broken = {"password": unfit} if unfit else broken_rules(candidate, policy, name)
            if not broken:
                break
            for rule_id, what in broken.items():
                complain(f"password for {name}: {what} ({rule_id})")
            if not typed:
                raise BadInput(f"the password for {name} does not meet the machine's rules; nothing was changed")
        secrets[name] = candidate
    return secrets, generated


def _why_unfit(password: str) -> str:
    """Return why no one could sign in with a password, whatever the rules; empty where one could.

    crypt(3) ends it at a NUL, and a file in another encoding than UTF-8 has other bytes than are typed."""
    if not password:
        return "it is empty"
    if len(password.encode("utf-8", "surrogateescape")) > LONGEST_PASSWORD:
        return f"it is too long; at most {LONGEST_PASSWORD} bytes are accepted"
    return "" if password.isprintable() else "it contains control characters, or is not UTF-8 text"


@cache
def _words() -> Sequence[str]:
    """Return a well-kept list of some 7,000 words that are easy to tell apart when read aloud."""
    import re
    from importlib.resources import files

    text = files("xkcdpass").joinpath("static", "eff-long").read_text(encoding="utf-8")
    return re.findall("^[a-z]{3,9}$", text, re.MULTILINE)


def _present(name: str) -> str:
    """Return the password that an account has now."""
    _need_terminal(name, "Use --password stdin.")
    answer: str = click.prompt(f"Current password of {name}", hide_input=True, err=True)
    return answer


def _prompt(name: str) -> str:
    _need_terminal(name, "Use --password stdin or --password generate.")
    answer: str = click.prompt(f"Password for {name}", hide_input=True, confirmation_prompt=True, err=True)
    return answer


def _need_terminal(name: str, instead: str) -> None:
    if not sys.stdin.isatty():
        raise BadInput(f"no terminal to ask for the password of {name}. {instead}")


def _from_stdin(name: str) -> str:
    line = sys.stdin.readline()
    if not line:
        raise BadInput(f"standard input has no password for {name}. Give one line for each account.")
    return line.removesuffix("\n")


def reserve(file: Path) -> None:
    """Create the file for generated passwords, readable for its owner alone, before anything is changed.

    Raises: BadInput: it already exists, or cannot be created."""
    try:
        os.close(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600))
    except OSError as error:
        raise BadInput(f"{file}: {error.strerror}; nothing was changed. Give a new file for the passwords.") from None


def hand_over(made: Secrets, file: Path | None) -> None:
    """Show generated passwords once, or write them to the reserved file; an unused file is deleted.

    They are in the output, or the file is on disk, when this returns. Raises: MachineRefused: they could not be handed
    over."""
    lines = [f"{name}: {password}" for name, password in made.items()]
    try:
        if file is not None and not lines:
            file.unlink()
        elif file is not None:
            with open(file, "w", encoding="utf-8") as stream:
                stream.write("\n".join(lines) + "\n")
                stream.flush()
                os.fsync(stream.fileno())
            click.echo(f"Generated passwords: {file} (only you can read it). Hand them over, then delete the file.")
        elif lines:
            sys.stdout.flush()  # a reader who closed the output is noticed before there is a secret to lose
            click.echo("Generated passwords (shown only once):")
            for line in lines:
                click.echo(f"  {line}")
        sys.stdout.flush()
        if file is None and lines and _nobody_reads(sys.stdout):
            raise BrokenPipeError(errno.EPIPE, os.strerror(errno.EPIPE))
    except OSError as error:
        raise MachineRefused(
            f"nothing was changed: the generated passwords could not be shown ({error.strerror}). "
            "To save them to a file: --password-file"
        ) from None


def _nobody_reads(stream: TextIO) -> bool:
    """Return whether the other end of a pipe has been closed, by poll(2)."""
    try:
        poll = select.poll()
        poll.register(stream.fileno(), 0)
        return any(event & (select.POLLERR | select.POLLHUP) for _, event in poll.poll(0))
    except (OSError, ValueError):
        return False
