"""Command lines in advice. What a message says to type is made here, and a test types each of them."""

import functools
import shlex

NAME, NEW_NAME, ACCOUNT, OLD, DAY = "NAME", "NEW-NAME", "ACCOUNT", "OLD", "DAY"
"""Stand for what a reader has to choose."""


@functools.lru_cache(maxsize=256)
def command(*words: str) -> str:
    """Return a command line of the program, with names quoted as a shell needs them."""
    return shlex.join(("verrou", *words))


def add_administrator(name: str = NAME) -> str:
    return command("account", "add", name, "--role", "administrator")


def swap(new: str = "NEW") -> str:
    return command("account", "swap", OLD, new)


def enable(name: str = NAME) -> str:
    return command("account", "enable", name)


def disable(name: str = NAME) -> str:
    return command("account", "disable", name)


def unlock(name: str) -> str:
    return command("account", "unlock", name)


def set_password(name: str = NAME) -> str:
    return command("account", "password", name)


def rename(name: str = NAME) -> str:
    return command("account", "rename", name, NEW_NAME)


def set_shell(name: str = NAME) -> str:
    return command("account", "change", name, "--shell", "/bin/bash")


def set_until(name: str = NAME, until: str = DAY) -> str:
    return command("account", "change", name, "--until", until)


def apply_ageing(name: str = NAME) -> str:
    return command("account", "change", name, "--ageing-applies")


def make_standard(name: str = NAME) -> str:
    return command("account", "change", name, "--role", "standard")


def drop_hint(name: str = NAME) -> str:
    return command("account", "change", name, "--no-hint")


def drop_questions(name: str = NAME) -> str:
    return command("account", "change", name, "--no-questions")


def remove_keeping_files(name: str = NAME) -> str:
    return command("account", "remove", name, "--files", "keep")


def join_group(group: str, account: str = ACCOUNT) -> str:
    return command("group", "join", group, account)


def leave_group(group: str, account: str = ACCOUNT) -> str:
    return command("group", "leave", group, account)


def set_rule(assignment: str = "RULE=VALUE") -> str:
    return command("rule", "set", assignment)


def why(account: str, route: str) -> str:
    return command("why", account, route)


def audit() -> str:
    return command("audit")


def resume() -> str:
    return command("resume")


def undo(entry: int | None = None) -> str:
    return command("undo", *(("--entry", str(entry)) if entry is not None else ()))


def list_journal() -> str:
    return command("journal", "list")


def show_entry(entry: int, machine: str) -> str:
    return command("journal", "show", str(entry), "-m", machine)
