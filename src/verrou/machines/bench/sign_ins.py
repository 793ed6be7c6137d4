"""People at a bench machine: sign-ins, their sessions, the prompt for elevation, and starting the machine again.

A part of its authority; see :mod:`~.authority`. What a session may do is decided by what its account was when it
signed in."""

from datetime import datetime, timedelta

from verrou.machines.bench.data import AccountData, SessionData
from verrou.machines.bench.session import AFTER_SIGN_IN, KEEPER, PROGRAMS, belongs
from verrou.machines.bench.state import NewPasswordFirst, No, State

PROMPTS = {
    "approve": "It starts if you answer yes.",
    "own password": "It starts if you give your own password.",
    "administrator's password": "It starts if an administrator gives name and password.",
}
"""Outcomes of :func:`~.session.elevation` that are prompts, and what each asks."""


class SignIns(State):
    """One bench machine, and who is signed in to it."""

    def sign_in(self, name: str, password: str, route: str = "console") -> int:
        """Sign in, or raise No and count the failed attempt. Return the token of the session."""
        account = self._account(name)
        self._check_usable(account)
        self._check_given(account, password)
        if self._has_ended(account):
            raise No("the account has ended")
        if account["outside"] and not self._data["policy"]["outside"]:
            raise No("accounts linked to an online identity cannot sign in", "outside")
        if route not in self.logon_lists():
            raise No(f"this machine has no {route}")
        taken, denied = self.logon_lists()[route]
        identities = self._identities_of(account)
        if belongs(denied, identities):
            raise No(f"this account is denied sign-in by {route}", f"out_{route}")
        if not belongs(taken, identities):
            raise No(f"this account is denied sign-in by {route}", f"in_{route}")
        if password == "" and route not in self._data["policy"]["blank_by"]:
            raise No(f"a blank password is not accepted: {route}", "blank_by")
        if account["must_change"]:
            raise NewPasswordFirst("the password must be changed first")
        if self._too_old(account):
            raise NewPasswordFirst("the password must be changed first", "age_max_days")
        account["tries"], account["locked_at"] = [], None
        return self._begin_session(account, route)

    def _check_usable(self, account: AccountData) -> None:
        if not account["open"]:
            raise No("the account is closed")
        if self._locked_until(account) is not None:
            of_keeper = ("lock_keeper",) if account["id"] == KEEPER else ()
            raise No("the account is locked", "try_limit", "lock_minutes", "window_minutes", *of_keeper)

    def _check_given(self, account: AccountData, password: str) -> None:
        if not self._matches(account["password"], password):
            self._count_try(account)
            raise No("the password is wrong")

    def _begin_session(self, account: AccountData, route: str) -> int:
        account["last_sign_in"] = self._now
        for key in AFTER_SIGN_IN:
            self._data["waiting"].pop(key, None)
        token = 1 + max((session["token"] for session in self._data["sessions"]), default=0)
        session: SessionData = {
            "token": token,
            "account": account["id"],
            "way": route,
            "since": self._now,
            "holds": sorted(self._identities_of(account)),
            "locked": False,
        }
        self._data["sessions"].append(session)
        return token

    def sign_out(self, token: int) -> None:
        """End a session; a temporary home is emptied."""
        ended = self._session(token)
        self._data["sessions"].remove(ended)
        if self._data["front"] == token:
            self._data["front"] = 0
        for account in self._data["accounts"]:
            if account["id"] == ended["account"] and account["emptied"]:
                inside = f"{account['home']}/"
                self._data["disk"] = [f for f in self._data["disk"] if not f["place"].startswith(inside)]

    def stop(self) -> None:
        """Switch the machine off: every session ends."""
        for session in list(self._data["sessions"]):
            self.sign_out(session["token"])
        self._data["switched_off"] = True

    def restart(self) -> str:
        """Start the machine again: sessions end, and waiting values take effect.

        Returns the account that is then signed in automatically, if any."""
        self.stop()
        self._data["switched_off"] = False
        self._data["waiting"].clear()
        name = self.opens_as()
        if name:
            self.set_front(self._begin_session(self._account(name), "console"))
        return name

    def front_session(self) -> SessionData | None:
        """Return the session of whoever sits at the machine; None at the sign-in screen."""
        return next((s for s in self._data["sessions"] if s["token"] == self._data["front"]), None)

    def set_front(self, token: int) -> None:
        """Have the owner of a session sit at the machine."""
        self._data["front"] = self._session(token)["token"]

    def session_of(self, name: str) -> int:
        """Return the session that an account has at the console. Raises No: it has none."""
        owner = self._account(name)["id"]
        for session in self._data["sessions"]:
            if session["account"] == owner and session["way"] == "console":
                return session["token"]
        raise No(f"{name} is not signed in here")

    def session_lines(self) -> list[str]:
        """Return who is signed in, a line each."""
        return [
            f"{self.name_of(s['token'])} ({s['way']} since {datetime.fromisoformat(s['since']):%Y-%m-%d %H:%M}"
            f"{', locked' if s['locked'] else ''}{', here' if s['token'] == self._data['front'] else ''})"
            for s in self._data["sessions"]
        ]

    def press_keys(self) -> None:
        """Press the attention keys: the next sign-in at the console is by the system's own screen."""
        self._data["keys_pressed"] = True

    def take_keys(self) -> bool:
        """Return whether they were pressed since the last attempt to sign in."""
        pressed = self._data["keys_pressed"]
        self._data["keys_pressed"] = False
        return pressed

    def let_pass(self, span: timedelta) -> None:
        """Let time pass. Raises No: there is no such time."""
        try:
            self.clock += span
        except OverflowError:
            raise No("the clock does not go so far") from None

    def set_locked(self, token: int, locked: bool) -> None:
        """Lock the screen of a session, or unlock it."""
        self._session(token)["locked"] = locked

    def check_password(self, token: int, password: str) -> None:
        """Check the password that unlocks a session. It counts as at a sign-in. Raises No: it does not."""
        account = self._account(self.name_of(token))
        self._check_usable(account)
        self._check_given(account, password)
        account["tries"] = []

    def start(self, token: int, program: str) -> str:
        """Start a program that needs elevation in a session. Return the outcome, as :meth:`request` does.

        An installer starts only for whom installing is allowed. Raises No: it does not."""
        if program not in PROGRAMS:
            raise No(f"there is no program of the kind {program}")
        if program == "installer":
            if not self.may(token, "install"):
                raise No("this account may not install software", "duty_install")
            if not self.installs(token):
                raise No("the installer does not start for this account", "installer_for")
        return self.request(token, program)

    def request(self, token: int, program: str) -> str:
        """Ask for elevation of a program in a session; the outcome is that of :meth:`elevate`.

        An answer given in the session not long ago is remembered; otherwise a prompt stays open until it is
        answered."""
        session = self._session(token)
        session.pop("asked", None)
        met = self.elevate(token, program)
        memory = timedelta(minutes=self.effective("memory_minutes"))
        answered = session.get("answered")
        if met not in PROMPTS:
            return met
        if answered and self.clock - datetime.fromisoformat(answered) < memory:
            return "runs"
        session["asked"] = {"at": self._now, "wants": met}
        return met

    def respond(self, token: int, given: str, by: str = "") -> None:
        """Answer the open prompt of a session: ``yes`` to confirm, the own password, or that of the administrator
        ``by``.

        A wrong password counts as at a sign-in, of the account whose it should be. Raises No: it is not a valid answer,
        it comes too late, or nothing was asked."""
        session = self._session(token)
        question = session.pop("asked", None)
        if question is None:
            raise No("nothing was asked")
        if self._waited_too_long(question["at"]):
            raise No("no answer in time", "patience_seconds")
        match question["wants"]:
            case "approve":
                if given != "yes":
                    raise No("not a valid answer")
            case "own password":
                self._check_answer(self._account(self.name_of(token)), given)
            case _:
                if not by or not self.can_administer(by):
                    raise No(f"{by or 'nobody'} has no administrator rights here")
                account = self._account(by)
                if self._has_ended(account):
                    raise No("the account has ended")
                self._check_answer(account, given)
        session["answered"] = self._now

    def _waited_too_long(self, since: str) -> bool:
        patience = self.effective("patience_seconds")
        return bool(patience) and self.clock - datetime.fromisoformat(since) > timedelta(seconds=patience)

    def _check_answer(self, account: AccountData, password: str) -> None:
        self._check_usable(account)
        self._check_given(account, password)
        if password == "" and "console" not in self._data["policy"]["blank_by"]:
            raise No("a blank password is not accepted", "blank_by")
        account["tries"] = []

    def _count_try(self, account: AccountData) -> None:
        policy = self._data["policy"]
        account["tries"] = [*self._recent(account), self._now]
        locks = account["id"] != KEEPER or policy["lock_keeper"]
        if locks and policy["try_limit"] and len(account["tries"]) >= policy["try_limit"]:
            account["locked_at"] = self._now
