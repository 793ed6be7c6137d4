"""One connection: ssh(1), root's rights at the other computer, and the one-file form started there from memory."""

import secrets
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from subprocess import Popen, TimeoutExpired
from typing import Any, Self

from attrs import define, field

import verrou
from verrou.cli.user import user
from verrou.core.errors import MachineRefused, NotEnoughRights, VerrouError
from verrou.far.address import Address
from verrou.far.frames import MOST_FROM_THERE, SILENT, Channel, Cut
from verrou.far.ssh import FAILED, MOST_LINES, Said, connect, ssh_words
from verrou.reports.terminal import printable

FIRST, NEWEST = (3, 11), (3, 14)
PYTHON = "import sys;sys.exit(sys.version_info<{})"
FROM_INPUT = "import sys;i=sys.stdin.buffer;print(sys.argv[1],flush=True);exec(i.read(int(i.readline())))"
"""Says that it is there, and runs a program that comes over standard input."""
FROM_SOCKET = (
    "import sys,socket,struct;s=socket.socket(1);s.connect(bytes(1)+sys.argv[1].encode());"
    "struct.unpack(chr(51)+chr(105),s.getsockopt(1,17,12))[1]==int(sys.argv[2]) or sys.exit(9);"
    "i=s.makefile(chr(114)+chr(98));exec(i.read(int(i.readline())))"
)
"""Runs a program that comes over the socket of the relay, which must belong to the account that signed in: root runs
it."""
PATIENCE, NOISE = 60.0, 1_000_000
"""Seconds until the far end has to be there, and bytes that a login script may print before."""
BEAT = 10.0
MOST_OF_A_NAME = 200
OF_SSH = ("OpenSSH_", "debug", "Authenticated", "Transferred", "Bytes per second")
"""How lines begin that ssh prints besides what is said there."""


@define(repr=False)
class Secret:
    """A password for sudo, in memory alone: given once, and sent when sudo asks for it."""

    value: str | None = None


def start_command(program: str, *arguments: str) -> str:
    """Return the text for sh(1) that runs a program by the first Python that is new enough, with no quote in it that a
    login shell could take for its own."""
    named = " ".join(f"python3.{minor}" for minor in range(NEWEST[1], FIRST[1] - 1, -1))
    check, given = PYTHON.format(str(FIRST).replace(" ", "")), " ".join(arguments)
    return (
        f'for p in python3 {named};do "$p" -I -c "{check}" 2>/dev/null&&exec "$p" -I -c "{program}" {given};done;'
        f"echo {arguments[0]}-no-python $(python3 -V 2>&1)"
    )


@define(eq=False)
class Connection:
    """A connection to a machine. ``asks``: there may be questions at this terminal; ``limit``: it is not waited for
    longer; ``more`` are further options of ssh."""

    address: Address
    secret: Secret
    asks: bool
    limit: float | None = None
    more: tuple[str, ...] = ()
    account: str = field(default="", init=False)
    ends: str = field(default="", init=False)
    _ssh: "Popen[bytes]" = field(init=False)
    _channel: Channel = field(init=False)
    _said: list[str] = field(factory=list, init=False)
    _nonce: str = field(factory=lambda: f"verrou{secrets.token_hex(12)}", init=False)
    _authenticated: float | None = field(default=None, init=False)
    _noise: str = field(default="", init=False)
    _reading: threading.Thread = field(init=False)

    def __enter__(self) -> Self:
        command = f"exec sh -c '{start_command(FROM_INPUT, self._nonce)}'"
        self._ssh = connect(ssh_words(self.address, command, asks=self.asks, more=self.more), apart=not self.asks)
        assert self._ssh.stdin and self._ssh.stdout and self._ssh.stderr
        self._channel = Channel(self._ssh.stdout.fileno(), self._ssh.stdin.fileno(), MOST_FROM_THERE)
        self._reading = threading.Thread(target=self._read_errors, daemon=True)
        self._reading.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End the connection; it can be repeated."""
        with suppress(OSError):
            self._ssh.stdin.close()  # type: ignore[union-attr]
        try:
            self._ssh.wait(2)
        except TimeoutExpired:
            self._ssh.kill()
            self._ssh.wait()
        self._reading.join(2)
        with suppress(OSError):
            self._ssh.stdout.close()  # type: ignore[union-attr]

    def abort(self) -> None:
        """End the connection at once, whatever waits for it."""
        self._ssh.kill()

    def _read_errors(self) -> None:
        assert self._ssh.stderr is not None
        with self._ssh.stderr as stream:
            for raw in iter(lambda: stream.readline(2000), b""):
                line = raw.decode(errors="replace").rstrip()
                if line.startswith(("Authenticated to ", "debug1: Authenticated to ")) and not self._authenticated:
                    self._authenticated = time.monotonic()
                if len(self._said) < MOST_LINES:
                    self._said.append(line)

    @property
    def said(self) -> Said:
        """What ssh has said so far."""
        return Said(tuple(self._said))

    def start(self, file: Callable[[], bytes], digest: Callable[[], str]) -> None:
        """Become root there, and start Verrou. Raises: VerrouError: it is not possible, with what to do."""
        self.arrive()
        try:
            self._hand_over(file(), digest())
        except Cut:
            raise self._why_cut() from None

    def arrive(self) -> None:
        """Sign in and become root. Raises: VerrouError: it is not possible, with what to do."""
        try:
            self._reach_shell()
            self._become_root()
        except Cut:
            raise self._why_cut() from None

    def _reach_shell(self) -> None:
        """Wait for the sign that a program of ours runs there, past all that login scripts print."""
        begun, size, sign = time.monotonic(), 0, self._nonce.encode()
        while True:
            try:
                line = self._channel.line(1.0)
            except Cut as cut:
                since = begun if self.limit is not None else self._authenticated
                if str(cut) != SILENT:
                    raise
                if since is not None and time.monotonic() - since > (self.limit or PATIENCE):
                    raise self._error(
                        MachineRefused,
                        "signed in, but its login shell does not start a program. Look at that account."
                        if self._authenticated
                        else "it did not answer in time",
                    ) from None
                continue
            size += len(line)
            self._noise = line.decode(errors="replace").strip() or self._noise
            if line.endswith(sign):
                break
            if sign + b"-no-python" in line:
                self._no_python(line.decode(errors="replace"))
            if size > NOISE:
                raise self._error(MachineRefused, "its login scripts print without end. Look at that account.")
        program = _program("relay.py")
        self._channel.send_raw(b"%d\n" % len(program) + program)

    def _become_root(self) -> None:
        hello = self._hear("relay")
        self.account, self.ends = (str(hello.get(part, ""))[:MOST_OF_A_NAME] for part in ("account", "connection"))
        program = _program("starter.py")
        start = start_command(FROM_SOCKET, self._nonce, "%d")
        self._channel.send({"size": len(program), "start": start})
        if hello.get("root") is True:
            self._channel.send_raw(program)
            return
        tried = 0
        while True:
            try:
                frame = self._hear("relay")
            except Cut as cut:
                if str(cut) != SILENT:
                    raise
                asks = "it may ask for something else than a password. Sign in as root by key."
                raise self._error(NotEnoughRights, f"sudo does not answer: {asks}") from None
            if frame.get("elevated") is True:
                self._channel.send_raw(b"%d\n" % len(program) + program)
                return
            if frame.get("asks") is True:
                self._channel.send({"password": self._password(tried)})
                tried += 1
                continue
            raise self._not_root(frame.get("ended"), str(frame.get("said", "")))

    def _password(self, tried: int) -> str:
        if self.secret.value is not None and tried == 0:
            return self.secret.value
        if not self.asks or not user().can_be_asked:
            if tried:
                raise self._error(NotEnoughRights, f"sudo did not accept the password of {printable(self.account)}")
            raise self._error(
                NotEnoughRights,
                f"sudo asks for the password of {printable(self.account)}, and there is no terminal to ask it at. "
                "Run the command at a terminal, or sign in as root by key.",
            )
        again = "not accepted; " if tried else ""
        self.secret.value = user().hidden(
            f"{again}sudo on {self.address.shown} asks: password of {printable(self.account)}"
        )
        return self.secret.value

    def _not_root(self, ended: object, said: str) -> VerrouError:
        who, text = printable(self.account), said
        if ended is None:
            return self._error(NotEnoughRights, f"{who} cannot become root: neither sudo nor doas was found there.")
        if f"{self._nonce}-no-python" in text:
            self._no_python(text)
        if "must have a tty" in text or "no tty present" in text or "terminal is required" in text:
            return self._error(
                NotEnoughRights,
                f"sudo there insists on a terminal (requiretty). Except {who} from it, or sign in as root by key.",
            )
        if "doas:" in text:
            return self._error(
                NotEnoughRights,
                f"doas there does not let {who} become root without a password, which it asks at a terminal alone. "
                "Allow it without, or sign in as root by key.",
            )
        if "incorrect password" in text or "Sorry, try again" in text or "no password was provided" in text:
            return self._error(NotEnoughRights, f"sudo did not accept the password of {who}")
        if "not in the sudoers" in text or "may not run" in text or "not allowed to" in text:
            return self._error(NotEnoughRights, f"{who} may not become root there. Sign in as an administrator.")
        lines = [line.strip() for line in text.splitlines() if line.strip() and "unable to resolve host" not in line]
        about = printable("; ".join(lines)[:300]) if lines else f"it ended with {ended}"
        return self._error(NotEnoughRights, f"{who} did not become root there: {about}")

    def _no_python(self, line: str) -> None:
        """Raises: MachineRefused: always."""
        found = printable(line.partition("-no-python")[2].strip()[:60])
        has = f"it has {found}" if found.startswith("Python") else "it has none"
        raise self._error(MachineRefused, f"Python 3.11 or newer is needed there; {has}. Install the package python3.")

    def _hand_over(self, file: bytes, digest: str) -> None:
        self._hear("starter")
        self._channel.send({"size": len(file), "sha256": digest})
        self._channel.send_raw(file)

    def _hear(self, place: str) -> dict[str, Any]:
        """Return the next frame of a program that starts there."""
        frame = self._channel.receive(self.limit or PATIENCE)
        if frame.get("at") != place or frame.get("damaged"):
            raise self._error(MachineRefused, "it did not start Verrou as it was sent. Try again.")
        return frame

    def send(self, frame: dict[str, Any]) -> None:
        """Send a frame. Raises: Cut."""
        self._channel.send(frame)

    def receive(self) -> dict[str, Any]:
        """Return the next frame. Raises: Cut, NotUnderstood."""
        return self._channel.receive(self.limit)

    @contextmanager
    def beats(self) -> Iterator[None]:
        """Let the other end know that this one is there, while the user thinks."""
        done = threading.Event()

        def beat() -> None:
            with suppress(Cut):
                while not done.wait(BEAT):
                    self._channel.send({"beat": True})

        thread = threading.Thread(target=beat, daemon=True)
        thread.start()
        try:
            yield
        finally:
            done.set()
            thread.join()

    def _why_cut(self) -> VerrouError:
        """Return why the connection ended before Verrou was started there."""
        self.close()
        if self._ssh.returncode == FAILED and not self._authenticated:
            return self.said.why_not(self.address)
        if not self._authenticated:
            return self.said.why_not(self.address)
        lines = [line for line in (*self._said, self._noise) if line and not line.startswith(OF_SSH)]
        about = f": {printable(lines[-1][:300])}" if lines else ""
        return self._error(
            MachineRefused, f"signed in, but no program was started{about}. Look at the login shell of that account."
        )

    def _error(self, kind: type[VerrouError], text: str) -> VerrouError:
        return kind(f"{self.address.shown}: {text}")


def _program(name: str) -> bytes:
    return verrou.packaged_text("far", name).encode()
