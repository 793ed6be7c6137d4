"""What the near end does for a command that runs across the cable, and what it does not: the computer there may belong
to someone else, and may lie.

It writes and reads only files that its own command line names, asks under the other computer's name, shows no control
signs, and takes nothing whose shape it does not know."""

import json
import re
from collections.abc import Callable, Mapping
from pathlib import Path, PurePath
from typing import Any, TextIO

import click
from attrs import define, field

from verrou.cli.baseline_files import INCLUDED_BASELINES, fetch_baseline
from verrou.cli.user import user
from verrou.core.errors import BadInput, VerrouError
from verrou.core.surveys.data import structured, survey_data
from verrou.far.visiting import Connect, Visit, arrives
from verrou.machines.survey.kind import SURVEY
from verrou.reports.terminal import STYLES, printable

MOST_QUESTIONS, MOST_WORDS, MOST_PROMPT = 2000, 50, 2000
MOST_UNSEEN = 200_000_000
"""Signs of output that are kept where no one sees them: a survey of 100,000 accounts has 150 million."""
_STYLE = "|".join(["0", *STYLES.values()])
SHOWN = re.compile(
    rf"(?P<style>\x1b\[(?:{_STYLE})m)|(?P<erased>\r *\r)|(?P<plain>[^\x1b\r]+)|(?P<other>.)",
    re.DOTALL,
)
PLAIN_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,100}")
READ, WRITTEN = ("-b", "--baseline"), ("--save", "--password-file")
"""The options that name files of the user."""
COMPARE = "compare"
OF_A_VISIT = "> "
"""The one prompt without a name: a visit has asked above it."""
VISIT, VISIT_WRITES = "visit", (".txt", ".html", ".toml")
"""The one command that names its files itself, in the user's folder."""


class Lying(Exception):
    """The other computer sent what it may not; the message says what."""


Send = Callable[[dict[str, Any]], None]


@define(repr=False)
class Desk:
    """The user's side of one command.

    ``connect`` signs in once more, with further options of ssh; ``asks``: there is someone to ask. ``applying`` is the
    journal entry whose changes are being applied there."""

    host: str
    words: tuple[str, ...]
    out: TextIO
    err: TextIO
    connect: Connect | None = None
    asks: bool = True
    applying: int | None = None
    _visit: Visit | None = None
    _asked: int = 0
    _size: int = 0
    _typed: set[str] = field(factory=set)
    _reserved: set[str] = field(factory=set)

    def serve(self, frame: dict[str, Any], send: Send) -> int | None:
        """Do what a frame of the other end asks for; return the exit code that ends the command.

        Raises: Lying. OSError: the output cannot be written."""
        match frame:
            case {"out": str(text), **rest} if not rest:
                self._show(self.out, text)
            case {"err": str(text), **rest} if not rest:
                self._show(self.err, text)
            case {"exit": int(code), **rest} if not rest and 0 <= code <= 255:
                return code
            case {"call": str(name), "parts": dict(parts), **rest} if not rest and name in CALLS:
                self._asked += 1
                if self._asked > MOST_QUESTIONS:
                    raise Lying("more questions than any command has")
                self._answer(name, parts, send)
            case {"call": "arrive", "parts": {}, **rest} if not rest and self.connect is not None:
                self._visit = Visit(self.host, self.connect, send)
            case {"door": str(text), **rest} if not rest and self._visit is not None:
                try:
                    self._visit.hear(text)
                except ValueError:
                    raise Lying("what is not understood") from None
            case _:
                raise Lying("what is not understood")
        return None

    def _answer(self, name: str, parts: Mapping[str, Any], send: Send) -> None:
        kinds, do = CALLS[name]
        if set(parts) != set(kinds) or not all(isinstance(parts[key], kind) for key, kind in kinds.items()):
            raise Lying(f"a question of another shape ({name})")
        self.out.flush()
        if name in QUESTIONS and not self.asks:
            raise Lying("a question, where no one is asked")
        try:
            answer = {"answer": do(self, **parts)}
        except VerrouError as error:
            answer = {"error": type(error).__name__, "message": str(error)}
        except click.Abort:
            answer = {"error": "Abort"}
        except EOFError:
            answer = {"error": "EOFError"}
        send(answer)

    @property
    def _command(self) -> str:
        return next((word for word in self.words if not word.startswith("-")), "")

    def _show(self, stream: TextIO, text: str) -> None:
        self._size += len(text)
        if self._size > MOST_UNSEEN and not self.asks:
            raise Lying("more than any survey has")
        stream.write(shown(text, styles=stream.isatty()))
        if stream.isatty():
            stream.flush()

    def _prompt(self, text: str) -> str:
        return f"{self.host} asks: {printable(text[:MOST_PROMPT])}"

    def confirm(self, question: str) -> bool:
        return user().confirm(self._prompt(question))

    def hidden(self, prompt: str, twice: bool) -> str:
        return user().hidden(self._prompt(prompt), twice=twice)

    def choose(self, prompt: str, words: list[Any]) -> str:
        if not (0 < len(words) <= MOST_WORDS and all(isinstance(word, str) and word.isprintable() for word in words)):
            raise Lying("a choice of another shape")
        return user().choose(self._prompt(prompt), words)

    def typed(self, prompt: str) -> str:
        try:
            answer = user().typed(prompt if prompt == OF_A_VISIT else self._prompt(prompt))
        except KeyboardInterrupt:
            raise EOFError from None
        self._typed.add(answer.strip())
        return answer

    def line(self) -> str:
        return user().line()

    def baseline(self, name: str, named_in: str) -> list[str]:
        if (name, named_in) not in self._baselines():
            raise Lying(f"a question for a file that the command does not name: {printable(name[:100])}")
        return list(user().baseline(name, named_in))

    def _baselines(self) -> set[tuple[str, str]]:
        """Return the baselines that the command line, or an answer, names, and all that they build on."""
        waiting = [(name, "") for name in (*self._given(*READ), *self._typed)]
        if self._command == VISIT:
            waiting += [(name, "") for name in user().baselines_here()]
        found: set[tuple[str, str]] = set()
        while waiting:
            named = waiting.pop()
            if named in found or named[0] in INCLUDED_BASELINES:
                continue
            found.add(named)
            try:
                text, place = fetch_baseline(*named)
            except VerrouError:
                continue
            waiting += [(name, place) for name in built_on(text)]
        return found

    def _given(self, *options: str) -> set[str]:
        """Return what the command line gives some options, in each form that Click reads (``--save X``, ``--save=X``,
        ``-bX``)."""
        found = {self.words[n + 1] for n, word in enumerate(self.words[:-1]) if word in options}
        long = {word.partition("=")[2] for word in self.words if word.partition("=")[0] in options and "=" in word}
        short = {word[2:] for word in self.words if word[:2] in options and len(word) > 2 and word[1] != "-"}
        return (found | long | short) - {""}

    def baselines_here(self) -> list[str]:
        if self._command != VISIT:
            raise Lying("a question for the files here")
        return list(user().baselines_here())

    def survey(self, address: str) -> str:
        if self._command != COMPARE or address not in self.words:
            raise Lying(f"a question for a file that the command does not name: {printable(address[:100])}")
        return json.dumps(survey_data(user().survey(address)), default=str)

    def new_name(self, stem: str, suffix: str) -> str:
        if not PLAIN_NAME.fullmatch(stem) or suffix not in VISIT_WRITES:
            raise Lying(f"a file name that is none: {printable(stem[:100])}")
        return user().new_name(stem, suffix)

    def write_new(self, file: str, content: str) -> None:
        user().write_new(self._to_write(file), content)

    def reserve(self, file: str) -> None:
        path = self._to_write(file)
        user().reserve(path)
        self._reserved.add(file)

    def _to_write(self, file: str) -> Path:
        """Return a file that the command may write. Raises: Lying: it names no such file."""
        path = Path(file)
        given = [PurePath(name) for name in self._given(*WRITTEN)]
        named = {*map(str, given), *(str(SURVEY.file_for(Path(name))) for name in given if name.name)}
        by_visit = self._command == VISIT and PLAIN_NAME.fullmatch(file) and path.suffix in VISIT_WRITES
        if str(path) not in named and not by_visit:
            raise Lying(f"a file that the command does not name: {printable(file[:100])}")
        return path

    def hand_over(self, passwords: dict[str, Any], file: str | None) -> None:
        if not all(isinstance(text, str) and text.isprintable() for each in passwords.items() for text in each):
            raise Lying("passwords of another shape")
        user().hand_over(passwords, self._its_reserved(file))

    def discard(self, file: str) -> None:
        user().discard(self._its_reserved(file))

    def _its_reserved(self, file: Any) -> Any:
        if file is not None and file not in self._reserved:
            raise Lying(f"a file that it did not reserve: {printable(file[:100])}")
        return None if file is None else Path(file)

    def before_applying(self, entry: int) -> None:
        user().before_applying(entry)
        self.applying = entry

    def still_arrives(self) -> bool:
        if self.connect is None:
            raise Lying("what is not understood")
        return arrives(self.connect)

    def check_logbook(self, logbook: str | None) -> None:
        self._check_logbook(logbook)
        user().check_logbook(logbook)

    def _check_logbook(self, logbook: str | None) -> None:
        asked = user().has_logbook or "--log" in self.words or logbook is not None
        if not asked or (logbook is not None and logbook not in self._given("--logbook")):
            raise Lying("a record that nobody asked for")

    def record(self, record: dict[str, Any], logbook: str | None, beside: str | None) -> None:
        from cattrs.errors import BaseValidationError

        from verrou.core.history.records import RunRecord

        self._check_logbook(logbook)
        if beside is not None:
            self._to_write(beside)
        try:
            known = structured(record, RunRecord)
        except (BaseValidationError, KeyError, TypeError, ValueError, AttributeError):
            raise BadInput(f"{self.host}: the record of this run is of another shape, and was not stored") from None
        user().record(known, logbook, None if beside is None else Path(beside))


TEXT_OR_NONE = (str, type(None))
CALLS: Mapping[str, tuple[Mapping[str, Any], Callable[..., Any]]] = {
    "confirm": ({"question": str}, Desk.confirm),
    "hidden": ({"prompt": str, "twice": bool}, Desk.hidden),
    "choose": ({"prompt": str, "words": list}, Desk.choose),
    "typed": ({"prompt": str}, Desk.typed),
    "line": ({}, Desk.line),
    "baseline": ({"name": str, "named_in": str}, Desk.baseline),
    "baselines_here": ({}, Desk.baselines_here),
    "survey": ({"address": str}, Desk.survey),
    "new_name": ({"stem": str, "suffix": str}, Desk.new_name),
    "write_new": ({"file": str, "content": str}, Desk.write_new),
    "reserve": ({"file": str}, Desk.reserve),
    "hand_over": ({"passwords": dict, "file": TEXT_OR_NONE}, Desk.hand_over),
    "discard": ({"file": str}, Desk.discard),
    "before_applying": ({"entry": int}, Desk.before_applying),
    "still_arrives": ({}, Desk.still_arrives),
    "check_logbook": ({"logbook": TEXT_OR_NONE}, Desk.check_logbook),
    "record": ({"record": dict, "logbook": TEXT_OR_NONE, "beside": TEXT_OR_NONE}, Desk.record),
}
"""What the other end can ask for, with the parts of each question."""
QUESTIONS = ("confirm", "hidden", "choose", "typed", "line")


def built_on(text: str) -> list[str]:
    """Return what a baseline says it builds on; nothing where it cannot be read."""
    import tomllib

    try:
        named = tomllib.loads(text).get("baseline", {}).get("builds_on", [])
    except (ValueError, AttributeError, RecursionError):
        return []
    return [name for name in named if isinstance(name, str)] if isinstance(named, list) else []


def shown(text: str, *, styles: bool) -> str:
    """Return output of another computer as it may be shown: lines of printable signs, and at a terminal our own
    colours."""
    parts = []
    for found in SHOWN.finditer(text):
        if found["plain"] is not None:
            parts.append("\n".join(map(printable, found["plain"].split("\n"))))
        elif found["style"] or found["erased"]:
            parts.append(found[0] if styles else "")
        else:
            parts.append(printable(found[0]))
    return "".join(parts)
