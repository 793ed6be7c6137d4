"""What the tests of each rule do, in a sentence; the reference page of the handbook shows it."""

from collections.abc import Mapping

from verrou.core.model.routes import Route

_LISTS = "a temporary account of each role, and one in each further group that is listed, signs in {}"
TESTED: Mapping[str, str] = {
    "population.linked_identities": "an account that is linked already signs in, and one is linked now",
    "password.min_length": "the owner sets a password one character too short",
    "password.classes": "the owner sets a password of too few kinds of character",
    "password.remember": "the owner sets the oldest password that is remembered",
    "password.max_age": "the owner signs in with a password of that age, and one a day older",
    "password.min_age": "the owner changes the password twice on one day",
    "password.warn_before": "the owner signs in a day before the warning begins, and a day after",
    "password.may_contain_name": "the owner sets a password that contains the account's name",
    "password.dictionary": "the owner sets a password made of a dictionary word",
    "password.storage": "the owner sets a password, and its stored hash is looked at",
    "password.blank_accepted": "an account with a blank password signs in by each route and service",
    "lockout.after": "one failed attempt less than the limit, and the limit, then the right password, by each service",
    "lockout.lasts": "the right password shortly before the lock ends, and after it",
    "lockout.forget_after": "failed attempts that no longer count, one more, then the right password",
    "lockout.exempts": "failed attempts of the built-in administrator, then its right password",
    **{f"logon.{route}.{key}": _LISTS.format(route.phrase) for route in Route for key in ("allowed", "denied")},
    "rights.shut_down": "an account of each role shuts the machine down",
    "rights.set_clock": "an account of each role sets the clock",
    "rights.install_software": "an account of each role installs",
    "elevation.administrator": "an administrator elevates a program of each kind, with what is required and with less",
    "elevation.builtin": "that account elevates a program of each kind, with what is required and with less",
    "elevation.standard": "a standard user elevates a program of each kind, with what is required and with less",
    "elevation.guest": "a guest elevates a program of each kind, with what is required and with less",
    "elevation.commands": "an account of each role, and one in each group that is listed, runs each command",
    "elevation.prompt_apart": "a program prompts an administrator, before and after a restart that it waits for",
    "elevation.helpers_reach_prompt": "a program for remote help prompts an administrator at an isolated prompt",
    "elevation.remembered_for": "an answer is used again shortly before the time is over, and after it",
    "elevation.unanswered_after": "a prompt is answered shortly before the time is over, and after it",
    "screen.automatic_signin": "the copy restarts",
    "screen.hidden_accounts": "the sign-in screen is looked at, before and after a restart that it waits for",
    "screen.shows_last_account": "the sign-in screen is looked at, before and after a restart that it waits for",
    "screen.shut_down_button": "the sign-in screen is looked at, before and after a restart that it waits for",
    "screen.locked_shows": "a locked session is looked at",
    "screen.attention_key": "an account signs in without the attention keys",
    "screen.locks_after": "a session is idle for a moment less than the time, and for the time",
    "screen.notice": "the notice is read where it is shown before a sign-in at the console",
    "sharing.hidden_drives": "an account that the limits cover, and others, open each kind of drive",
    "sharing.settings_closed": "an account that the limits cover, and others, open the settings",
    "sharing.installer": "an account of each role starts an installer",
    "sharing.applies_to": "accounts that the limits do not cover, administrators too, do what is limited for others",
}
"""By rule."""
