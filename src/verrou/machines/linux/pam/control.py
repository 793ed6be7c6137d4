"""Control field of a PAM line: what libpam does at each result of the module, by pam.conf(5)."""

from collections.abc import Mapping
from functools import lru_cache

SUCCESS, NEW_PASSWORD, IGNORE, DENIED, MODULE_UNKNOWN = (
    *("success", "new_authtok_reqd", "ignore", "perm_denied", "module_unknown"),
)
RESULTS = (
    *("success", "open_err", "symbol_err", "service_err", "system_err", "buf_err", "perm_denied", "auth_err"),
    *("cred_insufficient", "authinfo_unavail", "user_unknown", "maxtries", "new_authtok_reqd", "acct_expired"),
    *("session_err", "cred_unavail", "cred_expired", "cred_err", "no_module_data", "conv_err", "authtok_err"),
    *("authtok_recover_err", "authtok_lock_busy", "authtok_disable_aging", "try_again", "ignore", "abort"),
    *("authtok_expired", "module_unknown", "bad_item", "conv_again", "incomplete"),
)
"""The results that a module can return, by their numbers from 0: pam_strerror(3)."""
ACTIONS = ("ignore", "ok", "done", "bad", "die", "reset")
PLAIN = {
    "required": "success=ok new_authtok_reqd=ok ignore=ignore default=bad",
    "requisite": "success=ok new_authtok_reqd=ok ignore=ignore default=die",
    "sufficient": "success=done new_authtok_reqd=done default=ignore",
    "optional": "success=ok new_authtok_reqd=ok default=ignore",
}
"""What the plain words are short for."""
ALL_BAD = dict.fromkeys(RESULTS, "bad")
"""Actions of a control that libpam cannot parse: any result is a failure."""


@lru_cache(maxsize=4096)
def actions_of(control: str) -> Mapping[str, str]:
    """Return the action by result: one of :data:`ACTIONS`, or a number of lines to skip.

    ``control`` is a plain word, or the text between the square brackets."""
    found = _pairs(PLAIN.get(control.lower(), control))
    return ALL_BAD if found is None else {result: found.get(result, "bad") for result in RESULTS}


def _pairs(text: str) -> dict[str, str] | None:
    """Return the ``value=action`` pairs, with ``default`` for the values without one; None for an invalid pair.

    Neither a value nor an action has to end at a space: libpam goes by how the rest begins."""
    found: dict[str, str] = {}
    rest = text.lstrip(_SPACE)
    while rest:
        value = next((each for each in (*RESULTS, "default") if rest.startswith(each)), None)
        if value is None:
            return None
        rest = rest.removeprefix(value).lstrip(_SPACE)
        if not rest.startswith("="):
            return None
        rest = rest.removeprefix("=").lstrip(_SPACE)
        action = next((each for each in ACTIONS if rest.startswith(each)), None)
        if action is None:
            digits = len(rest) - len(rest.lstrip("0123456789"))
            action = rest[: min(digits, MOST_DIGITS)].lstrip("0")
            if not action:
                return None
            rest = rest[digits:]
        else:
            rest = rest.removeprefix(action)
        rest = rest.lstrip(_SPACE)
        if value == "default":
            found = dict.fromkeys(RESULTS, action) | found
        else:
            found[value] = action
    return found


MOST_DIGITS = 6
"""Of a number of lines to jump over: no file has as many."""
_SPACE = " \t\n\v\f\r"
"""Characters of isspace(3)."""
