"""Questions to a system's own PAM: accounts, services and origins, with one answer for many, and what replies mean."""

import re
import secrets
from collections.abc import Iterable, Mapping, Sequence
from functools import cache, lru_cache
from typing import NamedTuple

from attrs import define, field, frozen

from verrou.core.errors import VerrouError
from verrou.core.model import PasswordState
from verrou.core.model.known import Known
from verrou.log import Log
from verrou.machines.linux.accounts.hashing import quickly_hashed
from verrou.machines.linux.copy.requests import AskPam, AskPamWithout, LoadLibrary
from verrou.machines.linux.files.access_file import files_read
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.pam.interpreter import ANY
from verrou.machines.linux.pam.modules import BY_NAME, NOT_THERE, TABLE, Attempt, Modules
from verrou.machines.linux.pam.questions import Question, Reply
from verrou.machines.linux.pam.stack import PamLine, Stack
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable

LOG = Log(__name__)

IN, NEW_PASSWORD_FIRST = 0, 12
NO = frozenset((3, 6, 7, 8, 10, 11, 13, 26, 27, 28))
"""The results that refuse: service_err, perm_denied, auth_err, cred_insufficient, user_unknown, maxtries, acct_expired,
abort, authtok_expired, module_unknown. All others, system_err and authinfo_unavail first, say that something was not
there to be asked, which may be because it was asked in a copy."""
MOST_QUESTIONS = 6000
"""Most questions in one observation; for all others only files are read."""
LOOKS_AT_NAMES = BY_NAME | {"pam_shells.so"}
WITHOUT_A_SAY = frozenset(
    ("pam_cap.so", "pam_gnome_keyring.so", "pam_kwallet.so", "pam_kwallet5.so", "pam_ssh_add.so", "pam_selinux.so")
)
"""Modules that set something up with the password, and neither admit nor deny anyone in particular."""
A_WORD = re.compile(r"[^\s,:;()\[\]=@|&!#]+")
TAKES_KEYS = frozenset(("sshd",))
"""The services that leave nothing but the account to PAM where a key is good."""
WRONG_WORD = "no user's password here"


@frozen(repr=False)
class Asked:
    """PAM's answers about an account at a service: with its password, with its name and a wrong one, and after a
    key."""

    password: Known
    name: Known
    key: Known

    @property
    def parts(self) -> tuple[Known, Known, Known]:
        """The answers with a password, with a key, and by a name alone."""
        return self.password, self.key, self.name


@cache
def word_and_hash() -> tuple[str, str]:
    """Return the word used as everyone's password in a copy, and its hash."""
    word = secrets.token_urlsafe(12)
    return word, quickly_hashed(word)


def was_not_asked(reason: str) -> str:
    """Return the text where the system should have been asked, and could not be."""
    return f"the system itself was not asked, and its files alone were read: {reason}"


class Cell(NamedTuple):
    """One account at one service from one place, and the key of those that are treated the same."""

    attempt: Attempt
    alike: object


class Alike(NamedTuple):
    """Key of accounts that a service cannot distinguish. ``by_name``: more than the account's state decides."""

    key: object
    by_name: bool = False


def alike(modules: Modules, stacks: Mapping[str, Stack], attempt: Attempt) -> Alike:
    """Return the key of all that both halves of a service's stack can distinguish.

    An unknown module may distinguish everyone."""
    who = attempt.user
    state = (*who.state, attempt.terminal, attempt.host)
    found: list[object] = []
    for facility, stack in stacks.items():
        for line in stack.lines:
            answers = modules.answers(facility, line, attempt, False)
            if answers == NOT_THERE or line.module_name in WITHOUT_A_SAY:
                continue
            separators = line.argument("fieldsep") or line.argument("listsep")
            if line.module_name not in TABLE or answers == ANY or separators or not A_WORD.fullmatch(who.name):
                return Alike((*state, who.name), True)
            if line.module_name in LOOKS_AT_NAMES:
                named = _words_of(modules.root, line)
                groups = tuple(group for group in who.groups if group.casefold() in named)
                found += [answers, groups, who.name if who.name.casefold() in named else "", who.shell]
    return Alike((*state, *found), bool(found))


def _words_of(root: Root, line: PamLine) -> frozenset[str]:
    """Return all words, in lower case, of the arguments and files of a module that depends on names."""
    named = [value for key in ("file", "accessfile", "conffile") if (value := line.argument(key))]
    files = {
        "pam_access.so": files_read(root, line),
        "pam_time.so": named or ["/etc/security/time.conf"],
        "pam_localuser.so": named,
        "pam_listfile.so": named,
    }.get(line.module_name, ())
    return _words(" ".join(line.arguments), *(root.text(file) or "" for file in files))


@lru_cache(maxsize=256)
def _words(*texts: str) -> frozenset[str]:
    return frozenset(word.casefold() for text in texts for word in A_WORD.findall(text))


@define(repr=False)
class PamAsked:
    """Answers of one observation, asked all at once with :meth:`ask`, and looked up by key."""

    root: Root
    trouble: str = ""
    """Why nothing was answered."""
    _answers: dict[tuple[str, object], Asked] = field(factory=dict, init=False)

    def ask(self, cells: Iterable[Cell]) -> None:
        """Ask about these cells, one question for each key."""
        different: dict[tuple[str, object], Attempt] = {}
        for cell in cells:
            different.setdefault((cell.attempt.service, cell.alike), cell.attempt)
        questions = [
            question
            for key, attempt in different.items()
            if attempt.service not in self.root.late
            for question in _questions(key, attempt)
        ]
        # Wrong words come last: what counts them and is not known to do so has then done least harm.
        questions.sort(key=lambda each: (each.question.word == WRONG_WORD, each.question.service))
        replies = self._put(questions[:MOST_QUESTIONS])
        LOG.info("PAM answered %s of %s questions", len(replies), len(questions))
        if questions and not replies:
            self._find_out_why()
        for key in different:
            self._answers[key] = _meaning([replies.get((key, part)) for part in PARTS])

    def of(self, service: str, alike: object) -> Asked | None:
        """Return the answer; None where there is none."""
        return self._answers.get((service, alike))

    def line_that_refuses(self, attempt: Attempt, lines: Sequence[PamLine]) -> PamLine | None:
        """Return the first of some lines without which an account would be admitted with its password.

        Each is left out alone, and PAM asked again. None where there is no such line, or no one to ask."""
        part = next(iter(_questions(("", None), attempt)))
        word, hash_of_word = word_and_hash()
        question = part.question._replace(word=word) if part.own_word else part.question
        if self.root.asker is None:
            return None
        left_out = [(line.file, line.first, line.last) for line in lines]
        try:
            found = self.root.ask(AskPamWithout(question, left_out, hash_of_word, load_faillock(self.root).tallies))
        except (DryRunUnavailable, VerrouError) as error:
            LOG.info("the line by which %s denies is not found: %s", attempt.service, error)
            return None
        return None if found is None else lines[found]

    def _find_out_why(self) -> None:
        """Note why nothing at all was answered."""
        try:
            self.root.ask(LoadLibrary())
            self.trouble = self.trouble or "PAM answered nothing"
        except (DryRunUnavailable, VerrouError) as reason:
            self.trouble = str(reason)

    def _put(self, questions: Sequence["_Part"]) -> dict[object, Reply]:
        found = self._replies(questions)
        if found is None and len({each.question.service for each in questions}) > 1:
            # One of the services breaks or delays everything: the others are asked without it.
            found = {}
            for service in dict.fromkeys(each.question.service for each in questions):
                found |= self._replies([each for each in questions if each.question.service == service]) or {}
        return found or {}

    def _replies(self, questions: Sequence["_Part"]) -> dict[object, Reply] | None:
        if not questions or self.root.asker is None:
            return {}
        word, hash_of_word = word_and_hash()
        put = [each.question._replace(word=word) if each.own_word else each.question for each in questions]
        try:
            answers = self.root.ask(AskPam(put, hash_of_word, load_faillock(self.root).tallies))
        except (DryRunUnavailable, VerrouError) as error:
            self.trouble = str(error)
            return None
        self.root.late.update(answers.late)
        pairs = zip(questions, answers.replies, strict=True)
        return {(each.key, each.part): reply for each, reply in pairs if reply is not None}


PASSWORD, NAME, KEY = PARTS = ("password", "name", "key")


class _Part(NamedTuple):
    key: tuple[str, object]
    part: str
    question: Question
    own_word: bool = False


def _questions(key: tuple[str, object], attempt: Attempt) -> Iterable[_Part]:
    who = attempt.user
    plain = Question(attempt.service, who.name, attempt.terminal, attempt.host, "")
    blank = who.password is PasswordState.BLANK
    yield _Part(key, PASSWORD, plain, own_word=not blank)
    yield _Part(key, NAME, plain._replace(word=WRONG_WORD, asked="auth"))
    if attempt.service in TAKES_KEYS:
        yield _Part(key, KEY, plain._replace(asked="account"))


def _meaning(replies: Sequence[Reply | None]) -> Asked:
    right, wrong, keyed = replies
    account = _of_half(right, right.account if right else None)
    password = _of_half(right, right.auth if right else None)
    if password is Known.NO and right is not None and right.prompts > 1:
        password = Known.UNKNOWN  # something beside a password was wanted
    name = _of_half(wrong, wrong.auth if wrong else None)
    by_key = _of_half(keyed, keyed.account) if keyed else account
    return Asked(password & account, name & account, by_key)


def _of_half(reply: Reply | None, result: int | None) -> Known:
    """Return the meaning of one half's result."""
    if reply is None:
        return Known.UNKNOWN
    if not reply.started:
        return Known.NO
    if result in (IN, NEW_PASSWORD_FIRST):
        return Known.YES
    return Known.NO if result in NO else Known.UNKNOWN
