"""Somebody sits at a bench machine: what they do, and what they see.

A part of its authority; see :mod:`~.authority`. Each act returns what a person at the machine would see, and the keys
of the numbers, switches and lists that made it so; what the machine does not do raises No."""

import textwrap
from datetime import datetime, timedelta
from typing import NamedTuple

from verrou.machines.bench.authority import Authority
from verrou.machines.bench.data import SessionData
from verrou.machines.bench.session import DRIVES
from verrou.machines.bench.sign_ins import PROMPTS
from verrou.machines.bench.state import NewPasswordFirst, No

WIDTH = 62
SHARED = ("drives_hidden", "covered")
DARK = "The screen is dark: the machine is off."


class Seen(NamedTuple):
    """What a person sees, a line each, and what made it so."""

    lines: list[str]
    keys: tuple[str, ...] = ()


class Sitting:
    """A person at a bench machine. Somebody may be signed in and sit there; others may be signed in too."""

    def __init__(self, machine: Authority) -> None:
        self.machine = machine

    @property
    def front(self) -> SessionData | None:
        """The session of the user who sits here; None at the sign-in screen."""
        return self.machine.front_session()

    @property
    def name(self) -> str:
        """Who sits here; empty at the sign-in screen."""
        front = self.front
        return self.machine.name_of(front["token"]) if front is not None else ""

    def look(self) -> Seen:
        """Look at the screen."""
        if self.machine.switched_off:
            return Seen([DARK])
        front = self.front
        if front is None:
            return self._sign_in_screen()
        if front["way"] != "console":
            return Seen([f"{self.name} is signed in from another computer: {front['way']}."])
        if front["locked"]:
            shown = self.machine.locked_screen(self.name)
            lines = [self._clock(), "", f"{shown or 'a user'} is signed in; the screen is locked."]
            return Seen(_box(lines), ("locked_tells",))
        lines = [self._clock(), "", f"{self.name} is signed in."]
        if "asked" in front:
            return Seen([*_box(lines), *self._prompt(front).lines], self._prompt(front).keys)
        return Seen(_box(lines))

    def _clock(self) -> str:
        left, right = self.machine.name, f"{self.machine.clock:%Y-%m-%d %H:%M}"
        return f"{left}{right.rjust(WIDTH - 4 - len(left))}"

    def _sign_in_screen(self) -> Seen:
        screen = self.machine.first_screen()
        lines = [self._clock(), ""]
        for part in (screen["greeting"]["title"], screen["greeting"]["text"]):
            lines += [line for each in part.splitlines() for line in textwrap.wrap(each, WIDTH - 4) or [""]]
        lines += [""] if len(lines) > 2 else []
        if screen["keys_first"]:
            lines.append("Press the attention keys to sign in.")
        if screen["accounts"]:
            lines += textwrap.wrap("  ".join(f"({name})" for name in screen["accounts"]), WIDTH - 4)
        lines.append(f"name: {screen['last'] or '________'}")
        lines.append("password: ________")
        if screen["off"]:
            lines.append("[switch off]".rjust(WIDTH - 4))
        return Seen(_box(lines), ("greeting", "keys_first", "hidden", "shows_last", "off_button"))

    def press_keys(self) -> Seen:
        """Press the keys that no program can fake."""
        self._check_on()
        self.machine.press_keys()
        return Seen(["The system itself asks for name and password now."], ("keys_first",))

    def sign_in(self, name: str, password: str, route: str = "console") -> Seen:
        """Sign in. Whoever sat here stays signed in behind a locked screen. Raises No, NewPasswordFirst."""
        self._check_on()
        pressed = self.machine.take_keys()
        if route == "console" and self.machine.effective("keys_first") and not pressed:
            raise No("nothing happens until the attention keys are pressed", "keys_first")
        try:
            token = self.machine.sign_in(name, password, route)
        except NewPasswordFirst:
            raise
        except No as no:
            if hint := self._hint(name) if route == "console" and "password is wrong" in str(no) else "":
                raise No(f"{no}. Hint: {hint}", *no.keys) from None
            raise
        self._step_back()
        self.machine.set_front(token)
        lines = [f"{self.name} is signed in{'' if route == 'console' else f' by {route}'}."]
        if (days := self.machine.days_left(self.name)) is not None and days <= self.machine.policy()["warn_days"]:
            lines.append(f"The password has to be changed within {days} {'day' if days == 1 else 'days'}.")
            return Seen(lines, (f"in_{route}", "warn_days"))
        return Seen(lines, (f"in_{route}",))

    def _hint(self, name: str) -> str:
        return next((a["hint"] for a in self.machine.accounts() if a["name"].casefold() == name.casefold()), "")

    def _step_back(self) -> None:
        """Lock the screen of the user who sits here, who stays signed in."""
        front = self.front
        if front is not None:
            self.machine.set_locked(front["token"], True)

    def sign_out(self) -> Seen:
        """Sign out."""
        front, name = self._here(), self.name
        self.machine.sign_out(front["token"])
        return Seen([f"{name} is signed out."])

    def lock(self) -> Seen:
        """Lock the screen."""
        self.machine.set_locked(self._here()["token"], True)
        return self.look()

    def unlock(self, password: str) -> Seen:
        """Unlock the screen of the user who is signed in here."""
        front = self.front
        if front is None or not front["locked"]:
            raise No("no locked screen is here")
        self.machine.check_password(front["token"], password)
        self.machine.set_locked(front["token"], False)
        return self.look()

    def switch(self, name: str, password: str) -> Seen:
        """Bring the session of a user who is signed in at the console back to the screen."""
        self._check_on()
        token = self.machine.session_of(name)
        self.machine.check_password(token, password)
        self._step_back()
        self.machine.set_front(token)
        self.machine.set_locked(token, False)
        return self.look()

    def people(self) -> Seen:
        """Tell who is signed in."""
        return Seen(self.machine.session_lines() or ["No one is signed in."])

    def idle(self, span: timedelta) -> Seen:
        """Touch nothing for a while. The screen locks by itself after the idle time."""
        front = self.front
        self.machine.let_pass(span)
        if front is None or front["way"] != "console":
            return self.look()
        minutes = self.machine.idle_minutes(self.name)
        if minutes and span >= timedelta(minutes=minutes):
            self.machine.set_locked(front["token"], True)
        seen = self.look()
        return Seen(seen.lines, ("idle_minutes", *seen.keys))

    def wait(self, span: timedelta) -> Seen:
        """Let time pass, while the user who sits here goes on working."""
        self.machine.let_pass(span)
        return Seen([f"It is {self.machine.clock:%Y-%m-%d %H:%M}."])

    def change_password(self, old: str, new: str) -> Seen:
        """Change one's own password."""
        self._here()
        self.machine.change_password(self.name, old, new)
        return Seen(["The password is changed."])

    def change_first(self, name: str, old: str, new: str) -> Seen:
        """Change a password that has to be changed before its owner is signed in, and sign in."""
        self.machine.change_password(name, old, new)
        self.machine.press_keys()
        return self.sign_in(name, new)

    def recover(self, name: str, answers: list[str], new: str) -> Seen:
        """Set a new password by answering the recovery questions."""
        self._check_on()
        self.machine.recover(name, answers, new)
        return Seen([f"{name} has a new password."])

    def start(self, program: str) -> Seen:
        """Start a program that needs administrator rights."""
        token = self._at_the_screen()["token"]
        met = self.machine.start(token, program)
        table = f"gives_{self.machine.kind_of(token)}"
        by_table = self.machine.effective(table)[program] in (0, 4)
        if met == "refused":
            keys = (table,) if by_table else ("apart", "helpers_reach")
            raise No("the program does not start: it is refused administrator rights", *keys)
        if met in PROMPTS:
            return self._prompt(self._here())
        keys = (table,) if by_table else ("memory_minutes",)
        return Seen(["The program starts with administrator rights; nothing is asked."], keys)

    def run(self, line: str) -> Seen:
        """Run a single command with administrator rights."""
        token = self._at_the_screen()["token"]
        if not self.machine.runs(token, line):
            raise No("this account may not run that as an administrator", "commands")
        return Seen(["It runs with administrator rights; nothing is asked."], ("commands",))

    def _prompt(self, front: SessionData) -> Seen:
        asked = front["asked"]
        apart = bool(self.machine.effective("apart"))
        where = (
            "The rest of the screen is dark; no program can reach this prompt:"
            if apart
            else "A window opens among the others:"
        )
        lines = _box(["A program wants administrator rights.", PROMPTS[asked["wants"]]])
        return Seen([where, *lines], (f"gives_{self.machine.kind_of(front['token'])}", "apart"))

    def answer(self, given: str, by: str = "") -> Seen:
        """Answer the prompt: ``yes``, a password, or that of the administrator ``by``."""
        front = self._at_the_screen()
        if "asked" not in front:
            raise No("nothing was asked")
        self.machine.respond(front["token"], given, by)
        return Seen(["The program starts with administrator rights."])

    def dismiss(self) -> Seen:
        """Leave the prompt without an answer: the program does not start."""
        if self._here().pop("asked", None) is None:
            raise No("nothing was asked")
        return Seen(["The prompt is closed; the program does not start."])

    def drives(self) -> Seen:
        """Look which drives are shown."""
        token = self._here()["token"]
        return Seen([each for each in DRIVES if self.machine.browses(token, each)], SHARED)

    def browse(self, drive: str) -> Seen:
        """Open a drive."""
        if not self.machine.browses(self._here()["token"], drive):
            raise No("this drive is not shown", *SHARED)
        return Seen(["The drive opens."], SHARED)

    def open_settings(self) -> Seen:
        """Open the settings of the machine."""
        token = self._at_the_screen()["token"]
        if not self.machine.opens_settings(token):
            raise No("the settings stay closed", "settings_shut", "covered")
        return Seen(["The settings open."], ("settings_shut", "covered"))

    def set_clock(self, moment: datetime) -> Seen:
        """Set the clock of the machine."""
        if not self.machine.may(self._at_the_screen()["token"], "clock"):
            raise No("this account may not set the clock", "duty_clock")
        self.machine.clock = moment
        return Seen([f"It is {moment:%Y-%m-%d %H:%M} now."], ("duty_clock",))

    def shut_down(self) -> Seen:
        """Switch the machine off: at the sign-in screen by its button, signed in by the right to."""
        self._check_on()
        front = self.front
        key = "off_button" if front is None or front["locked"] else "duty_off"
        if key == "off_button" and not self.machine.effective(key):
            raise No("the screen has no button for that", key)
        if key == "duty_off" and front is not None and not self.machine.may(front["token"], "off"):
            raise No("this account may not switch the machine off", key)
        self.machine.stop()
        return Seen([DARK], (key,))

    def start_up(self) -> Seen:
        """Switch the machine on."""
        if not self.machine.switched_off:
            raise No("the machine is on")
        self.machine.restart()
        seen = self.look()
        return Seen(seen.lines, ("opens_for", *seen.keys))

    def restart(self) -> Seen:
        """Restart the machine, where the user may switch it off."""
        down = self.shut_down()
        up = self.start_up()
        return Seen(up.lines, (*down.keys, *up.keys))

    def set_hint(self, text: str) -> Seen:
        """Set the hint of one's own password."""
        self._here()
        self.machine.describe(self.name, "hint", text)
        return Seen(["The hint is set." if text else "The hint is gone."])

    def set_recovery(self, answers: dict[str, str]) -> Seen:
        """Set one's own recovery questions with their answers."""
        self._here()
        self.machine.set_recovery(self.name, answers)
        return Seen([f"recovery questions: {len(answers)}"])

    def link(self, identity: str) -> Seen:
        """Link one's own account to an identity that somebody else keeps; empty for none."""
        self._here()
        self.machine.tie(self.name, identity)
        return Seen([f"The account is linked to {identity or 'none'}."], ("outside",))

    def set_idle(self, minutes: int | None) -> Seen:
        """Set an idle time of one's own; None for the machine's."""
        self._here()
        self.machine.set_idle(self.name, minutes)
        pinned = self.machine.effective("idle_pinned")
        return Seen(["The machine's own idle time applies." if pinned else "The idle time is set."], ("idle_minutes",))

    def set_automatic(self, name: str) -> Seen:
        """Choose who is signed in when the machine starts; empty for nobody. An administrator may."""
        if not self.machine.can_administer(self._here()["token"]):
            raise No("only an administrator can choose that")
        identity = next((a["id"] for a in self.machine.accounts() if a["name"].casefold() == name.casefold()), 0)
        if name and not identity:
            raise No(f"there is no account {name}")
        self.machine.set_policy("opens_as", identity)
        who = self.machine.opens_as(as_set=True)
        lines = [f"From the next start on, {who} is signed in." if who else "At a start, nobody is signed in."]
        return Seen(lines, ("opens_for",))

    def _check_on(self) -> None:
        if self.machine.switched_off:
            raise No("the machine is off")

    def _here(self) -> SessionData:
        """Return the session of the user who sits here. Raises No: no one is signed in, or the screen is locked."""
        self._check_on()
        front = self.front
        if front is None:
            raise No("no one is signed in here")
        if front["locked"]:
            raise No("the screen is locked")
        return front

    def _at_the_screen(self) -> SessionData:
        """Return the same, of somebody who has a screen. Raises No: over the network there is none."""
        front = self._here()
        if front["way"] == "network":
            raise No("over the network there is no screen, only drives")
        return front


def _box(lines: list[str]) -> list[str]:
    """Return lines within a frame."""
    edge = "+" + "-" * (WIDTH - 2) + "+"
    wrapped = [part for line in lines for part in (textwrap.wrap(line, WIDTH - 4, drop_whitespace=False) or [""])]
    return [edge, *(f"| {line.ljust(WIDTH - 4)} |" for line in wrapped), edge]
