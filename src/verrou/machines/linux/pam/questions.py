"""Questions to a system's own PAM, answered in a private copy by one process for many.

Authentication and account are asked separately; results are numbers of pam_strerror(3). No session is opened. No real
password is known or needed: every hash that a password can match stands for one word meanwhile."""

import enum
import json
import os
import re
import select
import signal
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from verrou.machines.linux.files.account_files import PASSWD, SHADOW, AccountFile, PasswdField, ShadowField
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.pam.client import Session
from verrou.machines.linux.root import Root

PATIENCE_A_QUESTION, PATIENCE_IN_ALL = 5.0, 30.0
"""Seconds that one answer may take, and all of them together."""
LATE_TWICE = 2
"""A service that is so often late is not asked again."""
FACILITIES = ("auth", "account")
LETS_IN = (0, 12)
"""Success, and a required new password."""


class Question(NamedTuple):
    """Whether a service admits an account at ``terminal`` from ``host`` with ``word`` typed.

    ``asked`` are the parts of its stack, of :data:`FACILITIES`: after a key only the account part is asked."""

    service: str
    account: str
    terminal: str
    host: str
    word: str
    asked: str = "auth account"


class Reply(NamedTuple):
    """Results of the parts, None for one that was not asked; and the number of prompts. ``started``: PAM began the
    service."""

    started: bool
    auth: int | None
    account: int | None
    prompts: int


def put(question: Question, open_ones: dict[str, list[object]]) -> Reply:
    """Answer one question in this process.

    ``open_ones`` has one transaction for each service, and with it the modules that it needs."""
    session = Session(question.service, question.account, lambda _: question.word, question.host, question.terminal)
    if question.service not in open_ones:
        session.keep = open_ones[question.service] = []
    found = session.results(*(part in question.asked.split() for part in FACILITIES))
    return Reply(False, None, None, 0) if found is None else Reply(True, *found, session.prompts)


def put_all(
    questions: Sequence[Question], before_each: Callable[[], None], patience: float = PATIENCE_IN_ALL
) -> tuple[list[Reply | None], list[str]]:
    """Answer them all, one process after another, None for no answer; and return the services that were late too often.

    A process continues until an answer is missing or invalid, or a module has changed its identity."""
    replies: list[Reply | None] = [None] * len(questions)
    late: Counter[str] = Counter()
    over = time.monotonic() + patience
    at = 0
    while at < len(questions) and time.monotonic() < over:
        left = [n for n in range(at, len(questions)) if late[questions[n].service] < LATE_TWICE]
        if not left:
            break
        answered, end = _by_one_process(questions, left, before_each, replies, over)
        if end is _End.LATE:
            late[questions[left[answered]].service] += 1
        goes_on = answered + (end is not _End.TURNED or answered == 0)
        at = left[goes_on] if goes_on < len(left) else len(questions)
    return replies, [service for service, times in late.items() if times >= LATE_TWICE]


class _End(enum.Enum):
    """Why a process answers no more questions."""

    ANSWERED = enum.auto()
    TURNED = enum.auto()
    """A module changed its identity; it has not begun the next question."""
    LATE = enum.auto()
    BROKE = enum.auto()


TURNED = b"turned"
"""Reply of a process that must not answer any more."""


def _by_one_process(
    questions: Sequence[Question],
    left: Sequence[int],
    before_each: Callable[[], None],
    replies: list[Reply | None],
    over: float,
) -> tuple[int, _End]:
    """Return how many of ``left`` were answered in a row, and why no more."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        open_ones: dict[str, list[object]] = {}
        try:
            os.close(reading)
            for number in left:
                if os.getresuid() != (0, 0, 0):
                    # What it answers now is not what the machine would.
                    os.write(writing, TURNED + b"\n")
                    break
                before_each()
                os.write(writing, json.dumps(put(questions[number], open_ones)).encode() + b"\n")
        finally:
            os._exit(0)
    os.close(writing)
    answered, content = 0, b""
    try:
        while answered < len(left):
            wait = min(PATIENCE_A_QUESTION, over - time.monotonic())
            if not select.select([reading], [], [], max(0.0, wait))[0]:
                return answered, _End.LATE
            part = os.read(reading, 65536)
            if not part:
                return answered, _End.BROKE
            *lines, content = (content + part).split(b"\n")
            for line in lines:
                reply = _understood(line)
                if reply is None or answered >= len(left):
                    return answered, _End.TURNED if line == TURNED else _End.BROKE
                replies[left[answered]] = reply
                answered += 1
        return answered, _End.ANSWERED
    finally:
        os.close(reading)
        with suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


def _understood(line: bytes) -> Reply | None:
    try:
        started, auth, account, prompts = json.loads(line)
    except (ValueError, TypeError):
        return None
    numbers = all(each is None or type(each) is int for each in (auth, account))
    return Reply(started, auth, account, prompts) if numbers and type(prompts) is int else None


def one_word_for_all(hash_of_word: str, accounts: Sequence[str]) -> Mapping[str, str]:
    """Return the account files with ``hash_of_word`` wherever a password matches one of ``accounts``; lock marks
    stay."""
    root, required = Root(Path("/")), set(accounts)
    changed: dict[str, str] = {}
    for name, position in ((SHADOW, ShadowField.PASSWORD), (PASSWD, PasswdField.PASSWORD)):
        file = AccountFile.parse(name, root.text(name) or "")
        for record in list(file.records()):
            stored = record.fields[position]
            if record.name in required and scheme_of(stored):
                marks = stored[: len(stored) - len(stored.lstrip("!"))]
                fields = list(record.fields)
                fields[position] = marks + hash_of_word
                file.replace(record, fields)
        if file.revision:
            changed[name] = file.text()
    return changed


_CONTROLLED = re.compile(r"(\s*\S+\s+)(\[(?:\\\]|[^\]])*\]|\S+)", re.DOTALL)
WITHOUT_A_SAY = "[default=ignore]"


def comment_out(text: str, first: int, last: int) -> str:
    """Return a file of the stack in which one line (physical lines from 1) runs and decides nothing; jumps stay
    right."""
    lines = text.split("\n")
    whole = " ".join(line.split("#", 1)[0].rstrip().removesuffix("\\") for line in lines[first - 1 : last])
    changed = _CONTROLLED.sub(lambda found: found[1] + WITHOUT_A_SAY, whole, count=1)
    return "\n".join([*lines[: first - 1], changed, *[""] * (last - first), *lines[last:]])


def first_that_refuses(
    question: Question, lines: Sequence[tuple[str, int, int]], before_each: Callable[[], None]
) -> int | None:
    """Return the first of some lines (file, first and last physical line) without which PAM admits an account.

    In a copy only: the files are changed, one after another, and restored."""
    root, over = Root(Path("/")), time.monotonic() + PATIENCE_IN_ALL
    for number, (file, first, last) in enumerate(lines):
        text = root.text(file)
        if text is None or time.monotonic() > over:
            continue
        try:
            root.write(file, comment_out(text, first, last))
        except OSError:
            continue  # a vendor's file, in a folder that nothing is written to
        (reply,), _ = put_all([question], before_each)
        root.write(file, text)
        if reply is not None and all(result in LETS_IN for result in (reply.auth, reply.account)):
            return number
    return None
