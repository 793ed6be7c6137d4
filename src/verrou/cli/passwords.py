"""Passwords: asked at hidden prompts, read from standard input, or generated."""

import re
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from random import SystemRandom

from verrou.cli.user import user
from verrou.core.errors import BadInput
from verrou.core.model import Snapshot
from verrou.core.prediction.predict import predict
from verrou.core.steps.step import GIVES_PASSWORD, SetRules, Step, TrySignIn
from verrou.core.testing.passwords import broken_rules, make_phrase, policy_of
from verrou.machines.changes import Secrets
from verrou.reports.tables import complain

LONGEST_PASSWORD = 511
"""Longest password in bytes: a PAM prompt's answer with its end (PAM_MAX_RESP_SIZE, pam_appl.h), and crypt(3)."""


def collect_passwords(steps: Sequence[Step], snapshot: Snapshot, typed: bool) -> tuple[Secrets, Secrets]:
    """Return the passwords that the steps need, and those of them that were generated and must be handed over.

    A typed one comes from a hidden prompt, twice, or with ``typed`` False from standard input, one a line, in the order
    of the steps. One that does not meet the machine's rules, as they are or as the steps set them, is rejected with
    every rule it breaks. An account that is tested is asked for its current password, unless the plan sets one."""
    policy, predicted = policy_of(snapshot), snapshot
    for step in steps:
        if isinstance(step, SetRules):
            predicted = predict(step, predicted)
            policy = policy.together(policy_of(predicted))
    secrets, generated = Secrets(), Secrets()
    for step in steps:
        if isinstance(step, TrySignIn) and step.account not in secrets:
            given = "" if step.blank else _present(step.account) if typed else _from_stdin(step.account)
            secrets[step.account] = given
        if not isinstance(step, GIVES_PASSWORD) or step.password == "blank":
            continue
        name = step.account
        if step.password == "generate":
            secrets[name] = generated[name] = make_phrase(policy, name, _words(), SystemRandom())
            continue
        while True:
            candidate = _prompt(name) if typed else _from_stdin(name)
            unfit = _why_unfit(candidate)
            broken = {"password": unfit} if unfit else broken_rules(candidate, policy, name)
            if not broken:
                break
            for rule_id, what in broken.items():
                complain(f"password for {name}: {what} ({rule_id})")
            if not typed:
                raise BadInput(f"the password for {name} does not meet the machine's rules; nothing was changed")
        secrets[name] = candidate
    return secrets, generated


def _why_unfit(password: str) -> str:
    """Return why no one could sign in with a password, whatever the rules; empty where one could.

    crypt(3) ends it at a NUL, and a file in another encoding than UTF-8 has other bytes than are typed."""
    if not password:
        return "it is empty"
    if len(password.encode("utf-8", "surrogateescape")) > LONGEST_PASSWORD:
        return f"it is too long; at most {LONGEST_PASSWORD} bytes are accepted"
    return "" if password.isprintable() else "it contains control characters, or is not UTF-8 text"


@cache
def _words() -> Sequence[str]:
    """Return a well-kept list of some 7,000 words that are easy to tell apart when read aloud."""
    text = files("xkcdpass").joinpath("static", "eff-long").read_text(encoding="utf-8")
    return re.findall("^[a-z]{3,9}$", text, re.MULTILINE)


def _present(name: str) -> str:
    """Return the password that an account has now."""
    _need_terminal(name, "Use --password stdin.")
    return user().hidden(f"Current password of {name}")


def _prompt(name: str) -> str:
    _need_terminal(name, "Use --password stdin or --password generate.")
    return user().hidden(f"Password for {name}", twice=True)


def _need_terminal(name: str, instead: str) -> None:
    if not user().can_be_asked:
        raise BadInput(f"no terminal to ask for the password of {name}. {instead}")


def _from_stdin(name: str) -> str:
    line = user().line()
    if not line:
        raise BadInput(f"standard input has no password for {name}. Give one line for each account.")
    return line.removesuffix("\n")
