"""A temporary account on a copy of a bench machine's authority, for tests of rules."""

from collections.abc import Callable, Sequence
from datetime import timedelta
from random import SystemRandom

from attrs import define, evolve

from verrou.core.model.acts import UserAct
from verrou.core.model.programs import Program
from verrou.core.model.routes import Route
from verrou.core.testing.attempts import Answer, CannotTry, FirstScreen
from verrou.core.testing.passwords import make_password, policy_of
from verrou.core.values import Notice
from verrou.machines.bench import session as seat
from verrou.machines.bench.authority import Authority, NewPasswordFirst, No
from verrou.machines.bench.readings import snapshot_of
from verrou.machines.bench.rules import rules_set_by
from verrou.machines.bench.session_rules import DRIVES, KINDS_OF_PROGRAM
from verrou.machines.bench.sitting import Sitting

GIVEN_FOR = {"approve": "approval", "own password": "password", "administrator's password": "admin-password"}
"""By prompt what answers it."""


@define(repr=False)
class TrialOnBench:
    """See :class:`verrou.core.testing.attempts.TrialAccount`. The authority is a copy that is never saved."""

    authority: Authority
    account: str
    password: str

    other_services: tuple[str, ...] = ()

    @property
    def _at(self) -> Sitting:
        """The account's owner at the machine."""
        return Sitting(self.authority)

    def sign_in(self, password: str, service: str = "") -> Answer:
        return self.come_by(Route.CONSOLE, service, password)

    def mistype(self, wrong: str, times: int, service: str = "") -> bool:
        return any(self.sign_in(wrong, service).accepted for _ in range(times))

    def come_by(self, route: Route, service: str, password: str) -> Answer:
        further: list[str] = []

        def attempt() -> None:
            self.authority.press_keys()
            further.extend(self._at.sign_in(self.account, password, str(route)).lines[1:])
            self._at.sign_out()

        answer = _answer(attempt)
        return evolve(answer, warned=bool(further))

    def change_password(self, old: str, new: str) -> Answer:
        answer = _answer(lambda: self.authority.change_password(self.account, old, new))
        if answer.accepted:
            self.password = new
        return answer

    def reset_password(self, new: str) -> None:
        self.authority.reset_password(self.account, new)
        self.password = new

    def set_blank(self) -> None:
        """Lower what a new password needs for a moment, as if it had been set before the rules."""
        before = {key: self.authority.policy()[key] for key in ("length", "classes")}
        for key in before:
            self.authority.set_policy(key, 0)
        self.reset_password("")
        for key, value in before.items():
            self.authority.set_policy(key, value)

    def stored_scheme(self) -> str:
        return str(next(each["scheme"] for each in self.authority.accounts() if each["name"] == self.account))

    def age_password(self) -> None:
        self.pass_time(timedelta(days=self.authority.policy()["age_min_days"]))

    def age_password_by(self, span: timedelta) -> None:
        self.reset_password(self._new_password())
        self.pass_time(span)

    def _new_password(self, name: str = "") -> str:
        policy = policy_of(snapshot_of(self.authority, ""))
        return make_password(policy, name or self.account, SystemRandom())

    def pass_time(self, span: timedelta) -> None:
        self.authority.clock += span

    def unlock(self) -> None:
        self.authority.unlock(self.account)

    @property
    def groups(self) -> Sequence[str]:
        return [str(g["name"]) for g in self.authority.groups() if self.account in g["members"]]

    @property
    def programs(self) -> Sequence[Program]:
        return tuple(Program) if self.authority.tells_programs_apart else (Program.SIGNED,)

    def elevate(self, program: Program, given: str) -> Answer:
        token = self._session()
        try:
            met = self.authority.request(token, KINDS_OF_PROGRAM[program])
            if met not in GIVEN_FOR or given == "nothing":
                return Answer(met == "runs", f"prompted for: {met}" if met in GIVEN_FOR else "")
            return _answer(lambda: self._respond(token, given))
        finally:
            self.authority.sign_out(token)

    def _respond(self, token: int, given: str) -> None:
        """Answer an open prompt; the built-in administrator of this copy helps with its password."""
        if given == "admin-password":
            helper = self.builtin()
            self.authority.respond(token, helper.password, by=helper.account)
        else:
            self.authority.respond(token, "yes" if given == "approval" else self.password)

    def builtin(self) -> "TrialOnBench":
        name = next(str(each["name"]) for each in self.authority.accounts() if each["id"] == seat.KEEPER)
        password = self._new_password(name)
        self.authority.set_open(name, True)
        self.authority.unlock(name)
        self.authority.tie(name, "")
        self.authority.let_in(name)
        self.authority.mark(name, "must_change", False)
        self.authority.reset_password(name, password)
        return TrialOnBench(self.authority, name, password)

    def _session(self) -> int:
        try:
            return self.authority.sign_in(self.account, self.password)
        except No as no:
            raise CannotTry(f"it could not sign in: {no}") from None

    def _sits(self) -> Sitting:
        """Sign in at the screen."""
        self.authority.press_keys()
        try:
            self._at.sign_in(self.account, self.password)
        except No as no:
            raise CannotTry(f"it could not sign in: {no}") from None
        return self._at

    def _does(self, attempt: Callable[[Sitting], object]) -> Answer:
        """Do something in a session of the account, which ends then."""
        sitting = self._sits()
        answer = _answer(lambda: attempt(sitting))
        if sitting.front is not None:
            self.authority.sign_out(sitting.front["token"])
        return answer

    def elevate_again(self, program: Program, after: timedelta) -> Answer:
        token, met = self._asked(program)
        self._respond(token, met)
        self.pass_time(after)
        again = self.authority.request(token, KINDS_OF_PROGRAM[program])
        self.authority.sign_out(token)
        return Answer(again == "runs", "nothing is asked again" if again == "runs" else "asked again")

    def answer_late(self, program: Program, after: timedelta) -> Answer:
        token, met = self._asked(program)
        self.pass_time(after)
        answer = _answer(lambda: self._respond(token, met))
        self.authority.sign_out(token)
        return answer

    def _asked(self, program: Program) -> tuple[int, str]:
        """Return a session with an open prompt, and what answers it."""
        token = self._session()
        met = self.authority.request(token, KINDS_OF_PROGRAM[program])
        if met not in GIVEN_FOR:
            raise CannotTry("there is no prompt")
        return token, GIVEN_FOR[met]

    def prompt_is_apart(self, program: Program) -> Answer:
        apart = False

        def attempt(sitting: Sitting) -> None:
            nonlocal apart
            sitting.start(KINDS_OF_PROGRAM[program])
            apart = any("no program can reach" in line for line in sitting.look().lines)

        self._does(attempt)
        return Answer(apart)

    def link(self, *, before: bool) -> Answer:
        outside = self.authority.policy()["outside"]
        if before:
            self.authority.set_policy("outside", 2)
        answer = _answer(lambda: self.authority.tie(self.account, "trial@birds.example"))
        self.authority.set_policy("outside", outside)
        return self.sign_in(self.password) if answer.accepted else answer

    def run_command(self, command: str) -> Answer:
        return self._does(lambda at: at.run(command))

    def act(self, act: UserAct) -> Answer:
        match act:
            case UserAct.SHUT_DOWN:
                answer = self._does(lambda at: at.shut_down())
                self.restart()
                return answer
            case UserAct.SET_CLOCK:
                return self._does(lambda at: at.set_clock(self.authority.clock))
            case _:
                return self.run_installer()

    def run_installer(self) -> Answer:
        return self._does(lambda at: at.start(KINDS_OF_PROGRAM[Program.INSTALLER]))

    @property
    def drives(self) -> Sequence[str]:
        return () if self.authority.lacks("drives_hidden") else tuple(DRIVES)

    def browse(self, drive: str) -> Answer:
        return self._does(lambda at: at.browse(DRIVES[drive]))

    def open_settings(self) -> Answer:
        return self._does(lambda at: at.open_settings())

    def first_screen(self) -> FirstScreen:
        shown = self.authority.first_screen()
        return FirstScreen(tuple(shown["accounts"]), shown["last"], shown["off"], self.notice(), shown["keys_first"])

    def notice(self) -> Notice:
        return Notice(**self.authority.first_screen()["greeting"])

    def sign_in_without_keys(self) -> Answer:
        self.authority.take_keys()
        answer = _answer(lambda: self._at.sign_in(self.account, self.password))
        if answer.accepted:
            self._at.sign_out()
        return answer

    def idle(self, span: timedelta) -> Answer:
        def attempt(sitting: Sitting) -> None:
            sitting.idle(span)
            if sitting.front is not None and sitting.front["locked"]:
                raise No("the screen is locked", "idle_minutes")

        return self._does(attempt)

    def locked_screen(self) -> frozenset[str]:
        seen = ""

        def attempt(sitting: Sitting) -> None:
            nonlocal seen
            seen = " ".join(sitting.lock().lines[3:4])

        self._does(attempt)
        parts = {"name": f" {self.account}", "origin": f" of {self.authority.name}"}
        return frozenset(part for part, words in parts.items() if words in seen)

    def restart(self) -> str:
        return self.authority.restart()


def _answer(attempt: Callable[[], object]) -> Answer:
    try:
        attempt()
    except NewPasswordFirst as first:
        return Answer(False, str(first), change_due=True)
    except No as no:
        return Answer(False, str(no), tuple(rules_set_by(no.keys)))
    return Answer(True)
