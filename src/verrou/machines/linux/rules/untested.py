"""Rules of a Linux system that no test can show on a copy, with the reason."""

from collections.abc import Mapping

NO_DISPLAY = "the sign-in screen needs a display, which a copy has not"
UNTESTED: Mapping[str, str] = {
    "screen.automatic_signin": "a copy is not started, so nobody is signed in at its start",
    "screen.hidden_accounts": NO_DISPLAY,
    "screen.shows_last_account": NO_DISPLAY,
    "screen.shut_down_button": NO_DISPLAY,
    "elevation.remembered_for": "sudo remembers an answer for the terminal it was given at, and a test has no terminal",
    "elevation.unanswered_after": "sudo waits by the clock of this computer, which a test does not move",
}
