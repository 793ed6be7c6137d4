"""A small client of libpam (pam(3)) for tests: it signs in and changes passwords with scripted answers.

Everything it imports is imported before a chroot; the library itself is that of the system inside."""

import ctypes
import os
import stat
import subprocess
from collections.abc import Callable, Sequence

from attrs import define, field

from verrou.machines.linux.copy.sandbox import CLEAN_ENVIRONMENT

PAM_SUCCESS, PAM_CONV_ERR, PAM_NEW_AUTHTOK_REQD = 0, 19, 12
PAM_TTY, PAM_RHOST, PAM_FAIL_DELAY = 3, 4, 10
ECHO_OFF, ECHO_ON = 1, 2
CONSOLE, REMOTE_SHELL = "tty1", "ssh"
"""PAM's terminal names: the console's, and what a remote shell server has before there is one."""
SHUT_IN_NOISE = ("unable to resolve host", "unable to send audit message")
"""Messages of sudo about its isolation, and not about the account."""


class _Message(ctypes.Structure):
    _fields_ = (("style", ctypes.c_int), ("text", ctypes.c_char_p))


class _Response(ctypes.Structure):
    _fields_ = (("text", ctypes.c_void_p), ("code", ctypes.c_int))


_CONVERSE = ctypes.CFUNCTYPE(
    ctypes.c_int,
    ctypes.c_int,
    ctypes.POINTER(ctypes.POINTER(_Message)),
    ctypes.POINTER(ctypes.POINTER(_Response)),
    ctypes.c_void_p,
)
_NO_DELAY = ctypes.CFUNCTYPE(None, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p)


class _Conversation(ctypes.Structure):
    _fields_ = (("converse", _CONVERSE), ("data", ctypes.c_void_p))


@define(repr=False)
class Session:
    """One PAM transaction, by a user at ``terminal`` (empty for none), perhaps from another computer.

    ``answer`` is called for each prompt with its number from 0; ``prompts`` counts them."""

    service: str
    account: str
    answer: Callable[[int], str]
    comes_from: str = ""
    terminal: str = CONSOLE
    messages: list[str] = field(factory=list)
    result: int = PAM_SUCCESS
    prompts: int = 0
    keep: list[object] | None = None
    """Keeps the transaction open instead of ending it, so that modules stay loaded for many questions."""

    def sign_in(self) -> tuple[bool, str]:
        """Authenticate and check the account at the console. Return whether it was accepted, and the messages."""

        def attempt(pam: ctypes.CDLL, handle: ctypes.c_void_p) -> int:
            result = int(pam.pam_authenticate(handle, 0))
            return result or int(pam.pam_acct_mgmt(handle, 0))

        return self._run(attempt)

    def results(self, auth: bool = True, account: bool = True) -> tuple[int | None, int | None] | None:
        """Return the results of both halves of a sign-in, authentication and account, each asked whatever the other
        says.

        They are numbers of pam_strerror(3), None for a half that is not asked. None where PAM does not start the
        service."""
        found: list[int | None] = []

        def attempt(pam: ctypes.CDLL, handle: ctypes.c_void_p) -> int:
            found.append(int(pam.pam_authenticate(handle, 0)) if auth else None)
            found.append(int(pam.pam_acct_mgmt(handle, 0)) if account else None)
            return max(result or PAM_SUCCESS for result in found)

        self._run(attempt)
        return (found[0], found[1]) if found else None

    def change_password(self) -> tuple[bool, str]:
        """Change the password, as passwd(1) does."""
        return self._run(lambda pam, handle: int(pam.pam_chauthtok(handle, 0)))

    def _run(self, attempt: Callable[[ctypes.CDLL, ctypes.c_void_p], int]) -> tuple[bool, str]:
        pam = ctypes.CDLL("libpam.so.0")
        libc = ctypes.CDLL(None)
        libc.calloc.restype = libc.strdup.restype = ctypes.c_void_p
        pam.pam_strerror.restype = ctypes.c_char_p
        handle = ctypes.c_void_p()
        converse = _CONVERSE(self._converse(libc))
        conversation = _Conversation(converse, None)
        result = pam.pam_start(
            self.service.encode(), self.account.encode(), ctypes.byref(conversation), ctypes.byref(handle)
        )
        if result != PAM_SUCCESS:
            return False, f"PAM does not start the service {self.service}"
        no_delay = _NO_DELAY(lambda code, delay, data: None)
        pam.pam_set_item(handle, PAM_FAIL_DELAY, no_delay)
        for item, value in ((PAM_RHOST, self.comes_from), (PAM_TTY, self.terminal)):
            if value:
                pam.pam_set_item(handle, item, value.encode())
        self.result = result = attempt(pam, handle)
        meaning = pam.pam_strerror(handle, result).decode(errors="replace")
        if self.keep is None:
            pam.pam_end(handle, result)
        else:
            self.keep.append((handle, converse, conversation, no_delay))
        if result == PAM_SUCCESS:
            return True, ""
        # The modules' own words say which rule was broken; the result's meaning is only general.
        words = [
            text.rstrip(".") for text in dict.fromkeys(self.messages) if not text.startswith("Changing password for")
        ]
        return False, "; ".join(words) or meaning

    def _converse(self, libc: ctypes.CDLL) -> Callable[..., int]:
        def converse(count: int, messages: object, responses: object, _: object) -> int:
            try:
                replies = libc.calloc(count, ctypes.sizeof(_Response))
                array = ctypes.cast(replies, ctypes.POINTER(_Response))
                for i in range(count):
                    message = messages[i].contents  # type: ignore[index]
                    if message.style in (ECHO_OFF, ECHO_ON):
                        array[i].text = libc.strdup(self.answer(self.prompts).encode())
                        self.prompts += 1
                    elif message.text:
                        self.messages.append(message.text.decode(errors="replace").strip())
                responses[0] = array  # type: ignore[index]
                return PAM_SUCCESS
            except Exception:
                return PAM_CONV_ERR

        return converse


def load() -> dict[str, object]:
    """Load the library and do nothing with it. Raises: OSError: it cannot be used from this process."""
    ctypes.CDLL("libpam.so.0")
    return {}


WARNS_OF_AGE = "will expire in"
"""Of what pam_unix(8) says before a password has to be changed."""


def sign_in(
    account: str, password: str, service: str = "login", comes_from: str = "", times: int = 1
) -> dict[str, object]:
    """Sign in with a password, at the console or from another computer, so many times in a row until it is accepted.

    Returns how often it was tried: less than that, too, where a module changed the identity of this process, which then
    is not asked again. And of the last time: whether it was accepted, the messages, whether a required new password is
    all that prevents it, and whether it was said that one will soon be required."""
    tried, loaded = 0, list[object]()
    while True:
        session = Session(service, account, lambda _: password, comes_from, REMOTE_SHELL if comes_from else CONSOLE)
        if times > 1 and not loaded:
            session.keep = loaded
        accepted, message = session.sign_in()
        tried += 1
        if accepted or tried == times or os.getresuid() != (0, 0, 0):
            break
    first = session.result == PAM_NEW_AUTHTOK_REQD
    warned = any(WARNS_OF_AGE in each for each in session.messages)
    return {"accepted": accepted, "message": message, "new_password_first": first, "warned": warned, "tried": tried}


def change_password(account: str, uid: int, old: str, new: str) -> dict[str, object]:
    """Change a password as its owner. In a child only: the identity of the process changes for good.

    The first prompt asks for the present password, every later one for the new one, however often it is rejected."""
    os.setresuid(uid, 0, 0)
    accepted, message = Session("passwd", account, lambda number: old if number == 0 else new).change_password()
    return {"accepted": accepted, "message": message}


SUDO = "/usr/bin/sudo"
WANTS_A_PASSWORD = b"uthentication required"
"""doas(1)'s message in non-interactive mode where a password would be needed."""


def try_doas(program: str, account: str, uid: int, gid: int) -> dict[str, object]:
    """Run a command as root by doas, with a password or without. In a child only: its identity changes for good."""
    os.initgroups(account, gid)
    os.setresgid(gid, gid, gid)
    os.setresuid(uid, 0, 0)
    ended = subprocess.run(
        [program, "-n", "/usr/bin/true"],
        env=CLEAN_ENVIRONMENT,
        stdin=subprocess.DEVNULL,
        capture_output=True,
        check=False,
    )
    return {"accepted": ended.returncode == 0 or WANTS_A_PASSWORD in ended.stderr}


def elevate(account: str, uid: int, gid: int, password: str | None, command: Sequence[str] = ()) -> dict[str, object]:
    """Run a program as root by sudo(8), as the account's owner; or with a ``command`` ask whether that would be run.

    In a child only: its identity changes for good.

    sudo gets its rights from its own set-user-ID bit, as always; on a disk that is mounted without such bits it is
    started as it would start, where the bit is set and the owner may run it."""
    os.initgroups(account, gid)
    os.setresgid(gid, gid, gid)
    try:
        bits_count = not os.statvfs(SUDO).f_flag & os.ST_NOSUID
        is_set = os.stat(SUDO).st_mode & stat.S_ISUID and os.stat(SUDO).st_uid == 0
    except OSError as error:
        return {"accepted": False, "message": f"{SUDO}: {error.strerror}"}
    if bits_count or not is_set:
        os.setresuid(uid, uid, uid)
    else:
        os.setresuid(uid, 0, 0)
        if not os.access(SUDO, os.X_OK):  # by the owner's own identity, as access(2) asks
            return {"accepted": False, "message": f"it cannot run {SUDO}"}
    answering = ("-n",) if password is None else ("-S", "-p", "")
    try:
        ended = subprocess.run(
            [SUDO, "-k", *answering, "-u", "#0", *(("-l", "--", *command) if command else ("--", "/bin/true"))],
            input=f"{password or ''}\n",
            env=CLEAN_ENVIRONMENT,
            capture_output=True,
            text=True,
            errors="replace",
            check=False,
        )
    except OSError as error:
        return {"accepted": False, "message": f"{SUDO} could not be run: {error.strerror}"}
    text = [line.strip() for line in ended.stderr.splitlines()]
    words = [line for line in text if not any(noise in line for noise in SHUT_IN_NOISE)]
    return {
        "accepted": ended.returncode == 0,
        "message": "" if ended.returncode == 0 else "; ".join(filter(None, words)),
    }
