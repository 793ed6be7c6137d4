"""The process in a private copy: it answers requests, and runs what is the system's own in processes apart."""

import json
import os
import select
import signal
import subprocess
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import IO, Any, assert_never

from attrs import define

from verrou.core.errors import BadInput, VerrouError
from verrou.core.model import Role
from verrou.machines.linux.copy import arrival
from verrou.machines.linux.copy.bounds import bound_this_process, kill_all, until_ended, until_readable, watched
from verrou.machines.linux.copy.call_filter import refuse_calls
from verrou.machines.linux.copy.layout import (
    COPIED,
    TALLIES_BELOW,
    etc_in_memory,
    laid_over,
    tallies_in,
    tallies_in_memory,
)
from verrou.machines.linux.copy.requests import (
    AnyRequest,
    AskPam,
    AskPamWithout,
    AskPolkit,
    ChangePassword,
    Elevate,
    ElevateByPolkit,
    LoadLibrary,
    Person,
    ReceiveArrival,
    RunProgram,
    RunShellServer,
    SignIn,
    TryAccount,
    TryElevating,
    request_from,
)
from verrou.machines.linux.copy.sandbox import (
    CLEAN_ENVIRONMENT,
    CLONE_NEWNS,
    die_with_parent,
    give_up_capabilities,
    mount_new,
    private_mounts,
    unshare,
    write_protect,
)
from verrou.machines.linux.elevation import polkit_query
from verrou.machines.linux.entry import shells
from verrou.machines.linux.files.account_files import PASSWD, AccountFile, PasswdField, ShadowField
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.pam import client as pam_client
from verrou.machines.linux.pam.questions import (
    PATIENCE_IN_ALL,
    Question,
    first_that_refuses,
    one_word_for_all,
    put_all,
)
from verrou.machines.linux.root import Root

MOST_FILES_OPEN = 4096
TOO_NEW = (
    "this disk's PAM is too new for the computer you sit at; start the disk's own computer, and run the test there"
)
NO_PAM = "this system has no PAM that runs here: it is missing, or made for another kind of computer"
MOST_WORDS = 1 << 20
"""Bytes of an answer that are heard at the most."""
MOST_WORDS_OF_A_PROGRAM, MOST_WORDS_OF_ONE = 4000, 64_000
"""Most bytes of a program's output that are kept, of an error and of an answer."""
PATIENCE = 120
"""Seconds that one of the system's own programs may take."""
PATIENCE_WITH_PAM = 20
"""Seconds that an answer of PAM, of sudo or of a shell may take."""


RawAnswer = dict[str, Any]
"""An answer as it crosses to the outside; it has a ``trouble`` where there is none."""


@define(repr=False)
class Inside:
    """The child's side of the requests. Rights that are not needed are dropped before anything of the system runs."""

    def answer(self, request: AnyRequest) -> RawAnswer:
        """Answer a request. The system's own programs run in processes of their own."""
        match request:
            case RunProgram(command, at_terminal):
                return (self.run_at_terminal if at_terminal else self.run)(command, MOST_WORDS_OF_A_PROGRAM)
            case RunShellServer():
                return {"all": [self.run(command, MOST_WORDS_OF_ONE) for command in request.commands]}
            case LoadLibrary():
                return self._apart(pam_client.load)
            case SignIn():
                return self._sign_in(request)
            case Elevate(account, uid, gid, given, command):
                return self._apart(lambda: pam_client.elevate(account, uid, gid, given, command))
            case ChangePassword(account, uid, old, new):
                return self._apart(lambda: pam_client.change_password(account, uid, old, new))
            case TryAccount():
                return apart(lambda: self._try_account(request), PATIENCE)
            case TryElevating():
                return self._try_elevating(request)
            case AskPam():
                return self._ask_pam(request)
            case AskPamWithout():
                return self._ask_pam_without(request)
            case AskPolkit(people, actions, daemon):
                return self._ask_polkit(people, actions, daemon)
            case ElevateByPolkit(person, actions, daemon):
                return self._elevate_by_polkit(person, actions, daemon)
            case ReceiveArrival(ends, config, gone):
                return apart(lambda: arrival.receive(arrival.ends_from(ends), config, gone), PATIENCE)
        assert_never(request)

    @staticmethod
    def _limited() -> None:
        refuse_calls()
        give_up_capabilities()
        bound_this_process(PATIENCE)

    def run(self, command: Sequence[str], most: int) -> RawAnswer:
        """Run a program of the system's own; of its output at most so many bytes count."""
        # Into memory and not through a pipe, which whatever the program leaves behind would keep open.
        text, complained = os.memfd_create("told"), os.memfd_create("complained")
        try:
            ended = subprocess.Popen(
                command,
                preexec_fn=self._limited,
                env=CLEAN_ENVIRONMENT,
                stdin=subprocess.DEVNULL,
                stdout=text,
                stderr=complained,
            )
            with until_ended(ended.pid) as wait:
                in_time = watched(lambda: ended.poll() is not None, wait, PATIENCE)
            if not in_time:
                return {"trouble": f"{command[0]} did not end within {PATIENCE} seconds"}
            answer, words = (os.pread(each, most, 0).decode(errors="replace") for each in (text, complained))
        except (OSError, subprocess.SubprocessError) as error:
            return {"trouble": f"{command[0]} could not be run: {error}"}
        finally:
            os.close(text)
            os.close(complained)
        return {"code": ended.returncode, "message": words or answer, "answer": answer}

    def run_at_terminal(self, command: Sequence[str], most: int) -> RawAnswer:
        """Run a program at a pseudo terminal of its own, on which nobody types."""
        try:
            ours, theirs = os.openpty()
        except OSError as error:
            return {"trouble": f"there is no terminal for {command[0]}: {error}"}
        os.set_blocking(ours, False)
        shown = b""

        def ended() -> bool:
            nonlocal shown
            with suppress(OSError):
                while part := os.read(ours, MOST_WORDS_OF_ONE):
                    shown = (shown + part)[:most]
            return program.poll() is not None

        try:
            program = subprocess.Popen(
                command,
                preexec_fn=self._limited,
                env=CLEAN_ENVIRONMENT,
                stdin=theirs,
                stdout=theirs,
                stderr=theirs,
            )
            with until_ended(program.pid) as wait:
                if not watched(ended, wait, PATIENCE):
                    return {"trouble": f"{command[0]} did not end within {PATIENCE} seconds"}
            ended()
        except (OSError, subprocess.SubprocessError) as error:
            return {"trouble": f"{command[0]} could not be run: {error}"}
        finally:
            os.close(ours)
            os.close(theirs)
        text = shown.decode(errors="replace").replace("\r\n", "\n")
        return {"code": program.returncode, "message": text, "answer": text}

    def _sign_in(self, request: SignIn) -> RawAnswer:
        """Sign in until it is accepted, in a new process wherever one may not sign in again."""
        left = request.times
        patience = PATIENCE_WITH_PAM if left == 1 else PATIENCE
        sign_in = partial(pam_client.sign_in, request.account, request.password, request.service, request.comes_from)
        while True:
            answer = self._apart(partial(sign_in, left), patience)
            tried = answer.get("tried")
            if answer.get("accepted") or type(tried) is not int or not 0 < tried < left:
                return answer
            left -= tried

    def _try_elevating(self, request: TryElevating) -> RawAnswer:
        """See :func:`~.pam.client.elevate` and :func:`~.pam.client.try_doas`."""
        word, doas = request.word, request.doas
        passwd = AccountFile.parse(PASSWD, Root(Path("/")).text(PASSWD) or "")
        uids = {record.fields[PasswdField.UID] for record in map(passwd.find, request.names) if record is not None}
        # Of accounts that share an ID, the password of the first is asked for.
        owners = [record.name for record in passwd.records() if record.fields[PasswdField.UID] in uids]

        def tried(uncounted: Callable[[], None]) -> RawAnswer:
            by_sudo: list[RawAnswer] = []
            by_doas: list[RawAnswer] = []
            at_once = os.cpu_count() or 1
            for first in range(0, len(request.names), at_once):
                people = [(name, *_account(passwd, name)[:2]) for name in request.names[first : first + at_once]]
                by_sudo += together([partial(pam_client.elevate, *each, word) for each in people])
                tried_doas = together([partial(pam_client.try_doas, doas, *each) for each in people if doas])
                by_doas += tried_doas or [{}] * len(people)
                uncounted()
            return {"sudo": by_sudo, "doas": by_doas}

        return self._with_one_word(owners, request.hash_of_word, request.tallies, tried)

    def _try_account(self, request: TryAccount) -> RawAnswer:
        account, password = request.account, request.password
        unshare(CLONE_NEWNS)
        private_mounts()
        counted = tallies_in(Root(Path("/")), request.tallies)
        etc_in_memory()
        tallies_in_memory(Path(request.tallies), counted)
        answer = self._apart(lambda: pam_client.sign_in(account, password))
        message = "signed in at the console"
        if answer.get("new_password_first"):
            root = Root(Path("/"))
            shadow = AccountFile.parse("/etc/shadow", root.text("/etc/shadow") or "")
            if shadow.find(account):
                shadow.change(account, {ShadowField.CHANGED: request.put_off})
                root.write("/etc/shadow", shadow.text())
            answer = self._apart(lambda: pam_client.sign_in(account, password))
            message += "; a new password is required first"
        if not answer.get("accepted"):
            return answer
        uid, gid, folder, shell = _account(AccountFile.parse(PASSWD, Root(Path("/")).text(PASSWD) or ""), account)
        started = self._apart(lambda: {"fault": shells.start(shell, account, uid, gid)})
        if fault := started.get("fault", f"its shell could not be started: {started.get('trouble')}"):
            return _rejected(f"{message}, but {fault}")
        if request.role == Role.GUEST:
            for service in request.remote:
                if self._apart(partial(pam_client.sign_in, account, password, service, REMOTE)).get("accepted"):
                    return _rejected(f"{message}, and by {service} from another computer too")
            refused = f"rejected by {', '.join(request.remote)}" if request.remote else ""
            refused = refused or ("" if request.untried else "there is no other service here")
            return _accepted("; ".join(filter(None, (message, refused, request.untried))))
        if uid == 0:
            return _accepted(f"{message}; it is root itself")
        home = Path(folder)
        if home.is_dir() and not home.is_symlink() and len(home.parts) > 2:
            mount_new("tmpfs", home, "mode=0755,size=1m")  # sudo(8) records there that it was used
        elevated = self._apart(lambda: pam_client.elevate(account, uid, gid, password))
        if request.role != Role.ADMINISTRATOR and elevated.get("accepted"):
            return _rejected(f"{message}, and could elevate")
        if request.role != Role.ADMINISTRATOR:
            return _accepted(f"{message}; could not elevate")
        if not elevated.get("accepted"):
            text = elevated.get("trouble") or elevated.get("message")
            return _rejected(f"{message}, but could not elevate: {text}")
        return _accepted(f"{message}; elevated")

    def _ask_pam(self, request: AskPam) -> RawAnswer:
        put = [Question(*each) for each in request.questions]
        people = list(dict.fromkeys(each.account for each in put))

        def asked(uncounted: Callable[[], None]) -> RawAnswer:
            replies, late = put_all(put, uncounted)
            return {"replies": replies, "late": late}

        return self._with_one_word(people, request.hash_of_word, request.tallies, asked)

    def _ask_pam_without(self, request: AskPamWithout) -> RawAnswer:
        put, lines = Question(*request.question), request.lines

        def asked(uncounted: Callable[[], None]) -> RawAnswer:
            return {"line": first_that_refuses(put, lines, uncounted)}

        return self._with_one_word([put.account], request.hash_of_word, request.tallies, asked, stack_changes=True)

    def _with_one_word(
        self,
        people: Sequence[str],
        hash_of_word: str,
        tallies: str,
        asked: Callable[[Callable[[], None]], RawAnswer],
        *,
        stack_changes: bool = False,
    ) -> RawAnswer:
        """Ask in a copy of the copy in which one word is the password of every account that has one.

        ``asked`` is given what clears the failed attempts. Nothing is written, except ``stack_changes`` to /etc."""

        def attempt() -> RawAnswer:
            unshare(CLONE_NEWNS)
            private_mounts()
            root = Root(Path("/"))
            with_word = one_word_for_all(hash_of_word, people)
            if stack_changes:
                etc_in_memory()
                for name, text in with_word.items():
                    root.write(name, text)
            else:
                laid_over(with_word)
            for folder in COPIED[stack_changes:]:
                with suppress(OSError):
                    write_protect(Path(folder))
            place, ours = Path(tallies), tallies.startswith(TALLIES_BELOW) or _holds_files_alone(tallies)
            if ours:
                tallies_in_memory(place, ())
            self._limited()

            def uncounted() -> None:
                for each in place.iterdir() if ours and place.is_dir() else ():
                    each.unlink()

            return asked(uncounted)

        return apart(attempt, int(PATIENCE_IN_ALL) + PATIENCE_WITH_PAM)

    def _ask_polkit(self, people: Sequence[Person], actions: Sequence[str], daemon: str) -> RawAnswer:
        persons = [Person(*each) for each in people]
        return apart(lambda: {"answers": polkit_query.answers(self._start, persons, actions, daemon)}, PATIENCE)

    def _elevate_by_polkit(self, person: Person, actions: Sequence[str], daemon: str) -> RawAnswer:
        def attempt() -> RawAnswer:
            (found,) = polkit_query.answers(self._start, [Person(*person)], actions, daemon).values()
            opened = [action for action, answer in found.items() if answer in polkit_query.OPENED]
            return {"accepted": bool(opened), "message": f"polkit asks about {opened[0]}" if opened else ""}

        return apart(attempt, PATIENCE)

    def _start(self, command: Sequence[str]) -> "subprocess.Popen[bytes]":
        def prepared() -> None:
            die_with_parent()
            self._limited()

        none = subprocess.DEVNULL
        return subprocess.Popen(
            command, preexec_fn=prepared, env=CLEAN_ENVIRONMENT, stdin=none, stdout=none, stderr=none
        )

    def _apart(self, attempt: Callable[[], RawAnswer], patience: int = PATIENCE_WITH_PAM) -> RawAnswer:
        def limited() -> RawAnswer:
            self._limited()
            return attempt()

        return apart(limited, patience)


def _holds_files_alone(folder: str) -> bool:
    """Return whether a folder contains only files, as a folder of tallies does."""
    with suppress(OSError):
        return folder.count("/") > 1 and all(each.is_file(follow_symlinks=False) for each in os.scandir(folder))
    return False


def serve(asking: IO[str], reply: Callable[[RawAnswer], None]) -> None:
    """Answer requests until there are no more."""
    inside = Inside()
    for line in asking:
        data = json.loads(line)
        try:
            answer = inside.answer(request_from(data))
        except (OSError, VerrouError) as error:
            answer = {"trouble": f"{data['do']}: {error}"}
        _end_all()
        reply(answer)


def _account(passwd: AccountFile, name: str) -> tuple[int, int, str, str]:
    """Return the numbers, home and shell of an account. Raises: BadInput: there is none of that name."""
    record = passwd.find(name)
    if record is None:
        raise BadInput(f"there is no account {name}")
    fields = record.fields
    return (
        int(fields[PasswdField.UID]),
        int(fields[PasswdField.GID]),
        fields[PasswdField.HOME],
        fields[PasswdField.SHELL],
    )


def _accepted(message: str) -> RawAnswer:
    return {"accepted": True, "message": message}


def _rejected(message: str) -> RawAnswer:
    return {"accepted": False, "message": message}


def _end_all() -> None:
    """Kill what a program left behind, before the copy is used again.

    This process is the first of its process namespace, and sees no others."""
    kill_all()
    with suppress(ChildProcessError):
        while True:
            os.waitpid(-1, 0)


def apart(attempt: Callable[[], RawAnswer], patience: int = PATIENCE_WITH_PAM) -> RawAnswer:
    """Run something in a process of its own: PAM modules keep state, may change identity, and may crash."""
    return together([attempt], patience)[0]


def together(attempts: Sequence[Callable[[], RawAnswer]], patience: int = PATIENCE_WITH_PAM) -> list[RawAnswer]:
    """Run several at once, each in a process of its own; see :func:`apart`."""
    begun = [_begun(attempt) for attempt in attempts]
    return [_answer_of(*each, patience) for each in begun]


def _begun(attempt: Callable[[], RawAnswer]) -> tuple[int, int]:
    """Return the process that makes an attempt, and where its answer is read."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:

        def work() -> None:
            # What runs here may be anyone's: it has no channel but the one that it answers by.
            os.closerange(3, writing)
            os.closerange(writing + 1, MOST_FILES_OPEN)
            try:
                answer = attempt()
            except OSError as error:
                answer = {
                    "trouble": _why_not_asked(error),
                    **({"too_slow": True} if isinstance(error, TimeoutError) else {}),
                }
            except VerrouError as error:
                answer = {"trouble": str(error)}
            os.write(writing, json.dumps(answer).encode() + b"\n")

        never_return(work)
    os.close(writing)
    return child, reading


def _answer_of(child: int, reading: int, patience: int) -> RawAnswer:
    """Return the answer of a process, which then ends."""
    content, in_time = _heard(reading, patience)
    with suppress(ProcessLookupError):
        os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    try:
        answer = json.loads(content)
    except ValueError:
        answer = None
    if isinstance(answer, dict):
        return answer
    late = f"the system did not answer within {patience} seconds"
    return {"trouble": "the question to the system was interrupted"} if in_time else {"trouble": late, "too_slow": True}


def _why_not_asked(error: OSError) -> str:
    """Return the reason in words for people, without the linker's."""
    message = str(error)
    if "version `GLIBC" in message:
        return TOO_NEW
    return NO_PAM if "libpam" in message else message


def _heard(reading: int, patience: int) -> tuple[bytes, bool]:
    """Return what a pipe gives up to the end of a line, and whether it came in time."""
    content, over = b"", False

    def ended() -> bool:
        nonlocal content, over
        part = os.read(reading, 65536) if select.select([reading], [], [], 0.0)[0] else None
        content += part or b""
        over = part == b"" or content.endswith(b"\n") or len(content) >= MOST_WORDS
        return over

    try:
        in_time = watched(ended, lambda seconds: until_readable(reading, seconds), patience)
        return content, in_time
    finally:
        os.close(reading)


def never_return(work: Callable[[], None]) -> None:
    """Run ``work`` in a forked child and never return from it."""
    try:
        work()
    except BaseException:
        os._exit(1)
    os._exit(0)
