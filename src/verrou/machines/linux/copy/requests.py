"""Requests to the process in a private copy, and the answers to them: a class for each.

An answer comes from a process in which anyone's program may have run, so nothing of it is believed before it has the
expected shape."""

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, Generic, NamedTuple, Protocol, TypeVar, get_args

from attrs import fields, frozen

from verrou.core.model.known import Known
from verrou.core.testing.attempts import Answer
from verrou.machines.linux.pam.questions import Question, Reply

A = TypeVar("A")
Raw = Mapping[str, Any]


class Person(NamedTuple):
    """An account as polkit is asked about it."""

    name: str
    uid: int
    gid: int


@frozen(repr=False)  # a request may contain a password
class Request(Generic[A]):
    """A request; ``programs`` are the system's own that run for it."""

    programs: ClassVar[tuple[str, ...]] = ("PAM",)

    @property
    def topic(self) -> str:
        """What is not asked again once it was too slow, among requests of this class."""
        return ""

    def understood(self, raw: Raw) -> A:
        """Return the answer. Raises: KeyError, TypeError, ValueError, AttributeError: it makes no sense."""
        raise NotImplementedError

    def as_data(self) -> dict[str, object]:
        """Return the request as plain data."""
        return {"do": type(self).__name__, **{field.name: getattr(self, field.name) for field in fields(type(self))}}


class _Attempt(Request[Answer]):
    """A request that is accepted or not, with a message."""

    def understood(self, raw: Raw) -> Answer:
        return _attempted(raw)


def _attempted(raw: Raw) -> Answer:
    due, warned = raw.get("new_password_first") is True, raw.get("warned") is True
    return Answer(raw.get("accepted") is True, str(raw.get("message", "")), change_due=due, warned=warned)


def _yes_or_no(raw: object) -> Known:
    return Known.of(raw if isinstance(raw, bool) else None)


class Ended(NamedTuple):
    """How a program ended: exit code, what it complained or answered, and its answer alone."""

    code: int
    message: str
    answer: str


def _ended(raw: Raw) -> Ended:
    return Ended(int(raw["code"]), str(raw["message"]), str(raw["answer"]))


@frozen(repr=False)
class RunProgram(Request[Ended]):
    """Run one of the system's own programs; with a pseudo terminal, where it needs one."""

    programs = ()
    command: Sequence[str]
    at_terminal: bool = False

    def understood(self, raw: Raw) -> Ended:
        return _ended(raw)


@frozen(repr=False)
class RunShellServer(Request[list[Ended | None]]):
    """Run sshd(8) with several arguments, one after another; None for one that could not be run."""

    programs = ("sshd",)
    commands: Sequence[Sequence[str]]

    def understood(self, raw: Raw) -> list[Ended | None]:
        found = [None if "trouble" in each else _ended(each) for each in raw["all"]]
        if len(found) != len(self.commands):
            raise ValueError("not every question was answered")
        return found


@frozen(repr=False)
class LoadLibrary(Request[None]):
    """Load the system's own PAM library. What keeps it from that is raised."""

    def understood(self, raw: Raw) -> None:
        return None


@frozen(repr=False)
class SignIn(_Attempt):
    """Sign in by a service, as from another computer where ``comes_from`` names one; so many ``times`` in a row, until
    it is accepted."""

    account: str
    password: str
    service: str = "login"
    comes_from: str = ""
    times: int = 1

    @property
    def topic(self) -> str:
        return self.service


@frozen(repr=False)
class ChangePassword(_Attempt):
    """Change a password as its owner."""

    account: str
    uid: int
    old: str
    new: str


@frozen(repr=False)
class Elevate(_Attempt):
    """Elevate with sudo(8), giving a password, or None for no answer at all; with a ``command``, ask whether it would
    be run as root, and do not run it."""

    account: str
    uid: int
    gid: int
    password: str | None
    command: Sequence[str] = ()


@frozen(repr=False)
class TryAccount(_Attempt):
    """Sign in, and elevate or be denied, in a copy of the copy, where neither a changed nor a wrong password stays.

    A guest is tested by the ``remote`` services instead, which must deny it; ``untried`` says which are left out, and
    why. ``put_off`` is the day, in days since 1970, taken as the password's where a new one is required, and
    ``tallies`` the folder of failed attempts."""

    programs = ("PAM", "sudo")
    account: str
    password: str
    role: str
    remote: Sequence[str]
    untried: str
    put_off: str
    tallies: str


class ByProgram(NamedTuple):
    """What sudo answered to one account, and whether doas elevates."""

    sudo: Answer
    doas: Known


@frozen(repr=False)
class TryElevating(Request[list[ByProgram]]):
    """Return for each account what sudo answers to its password, and doas (at that path, if any), in a copy of the
    copy.

    ``word`` is the password of every account there, ``hash_of_word`` its hash."""

    programs = ("sudo",)
    names: Sequence[str]
    doas: str
    word: str
    hash_of_word: str
    tallies: str

    def understood(self, raw: Raw) -> list[ByProgram]:
        pairs = zip(raw["sudo"], raw["doas"], strict=True)
        found = [ByProgram(_attempted(sudo), _yes_or_no(doas.get("accepted"))) for sudo, doas in pairs]
        if len(found) != len(self.names):
            raise ValueError("not every account was answered for")
        return found


class Replies(NamedTuple):
    """PAM's reply to each question, None where there is none; and the services that were too slow."""

    replies: list[Reply | None]
    late: list[str]


@frozen(repr=False)
class AskPam(Request[Replies]):
    """Put questions to PAM in a copy of the copy, where no failed attempt counts."""

    questions: Sequence[Question]
    hash_of_word: str
    tallies: str

    def understood(self, raw: Raw) -> Replies:
        replies = [None if each is None else Reply(*each) for each in raw["replies"]]
        if len(replies) != len(self.questions):
            raise ValueError("not every question was answered")
        return Replies(replies, list(map(str, raw["late"])))


@frozen(repr=False)
class AskPamWithout(Request[int | None]):
    """Return the first of some lines, by its place among them, without which PAM would say yes.

    Lines are (file, first line, last line)."""

    question: Question
    lines: Sequence[tuple[str, int, int]]
    hash_of_word: str
    tallies: str

    def understood(self, raw: Raw) -> int | None:
        found = raw["line"]
        return found if isinstance(found, int) and 0 <= found < len(self.lines) else None


@frozen(repr=False)
class AskPolkit(Request[Mapping[str, Mapping[str, str]]]):
    """Return polkit's answer to each action for each account at the machine; empty for one that it did not give."""

    programs = ("polkit",)
    people: Sequence[Person]
    actions: Sequence[str]
    daemon: str

    def understood(self, raw: Raw) -> Mapping[str, Mapping[str, str]]:
        return {str(name): {str(a): str(answer) for a, answer in of.items()} for name, of in raw["answers"].items()}


@frozen(repr=False)
class ElevateByPolkit(_Attempt):
    """Answer whether polkit lets an account with an administrator's password do one of some actions."""

    programs = ("polkit",)
    person: Person
    actions: Sequence[str]
    daemon: str


class Received(NamedTuple):
    """Whether the server of a copy spoke to a visitor, and that one to it; and what the server complained."""

    spoke: bool
    came: bool
    message: str


@frozen(repr=False)
class ReceiveArrival(Request[Received]):
    """Receive one visitor from another computer by sshd(8).

    ``ends`` are both ends of the connection: see :func:`~.arrival.ends_from`; ``gone`` are homes that do not exist any
    more."""

    programs = ("sshd",)
    ends: str
    config: str
    gone: Sequence[str]

    def understood(self, raw: Raw) -> Received:
        return Received(raw["spoke"] is True, raw["came"] is True, str(raw["message"]))


AnyRequest = (
    RunProgram
    | RunShellServer
    | LoadLibrary
    | SignIn
    | ChangePassword
    | Elevate
    | TryAccount
    | TryElevating
    | AskPam
    | AskPamWithout
    | AskPolkit
    | ElevateByPolkit
    | ReceiveArrival
)
REQUESTS: Mapping[str, type[AnyRequest]] = {each.__name__: each for each in get_args(AnyRequest)}


def request_from(data: Mapping[str, Any]) -> AnyRequest:
    """Return the request that :meth:`Request.as_data` was made from."""
    own = dict(data)
    return REQUESTS[own.pop("do")](**own)


class Asker(Protocol):
    """Asks the system itself. Raises: DryRunUnavailable: it could not be asked, or its answer makes no sense."""

    def __call__(self, request: Request[A], /) -> A:
        """Return the answer to a request."""
        ...
