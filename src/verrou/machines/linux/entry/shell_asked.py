"""The remote shell server itself, asked in a private copy for the settings of an account from another computer.

``sshd -T -C``, sshd(8); it prints nothing where the server would not start."""

from collections.abc import Sequence
from itertools import pairwise

from attrs import define, field, frozen

from verrou.core.errors import VerrouError
from verrou.core.model import Account, Source
from verrou.core.model.routes import Pattern
from verrou.machines.linux.copy.requests import RunShellServer
from verrou.machines.linux.files.sshd import REMOTE, SSHD, Line, Settings, sshd_config
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable

HERE, PORT = "192.0.2.1", "22"
"""Stands for this computer's address (RFC 5737), and the port it listens at by default."""
MOST_ASKED = 500
"""Most distinct accounts that the server is asked about; for all others its files are read."""
LISTS = ("denyusers", "allowusers", "denygroups", "allowgroups")


@frozen(repr=False)
class Effective:
    """The settings that the server itself reports for an account."""

    values: dict[str, list[str]]
    source: Source

    def setting(self, required: str, otherwise: str) -> tuple[str, Source | None]:
        """See :class:`~verrou.machines.linux.files.sshd.Settings`."""
        found = self.values.get(required)
        return (found[0].lower(), self.source) if found else (otherwise, None)

    def names(self, required: str) -> list[tuple[str, Source]]:
        """See :class:`~verrou.machines.linux.files.sshd.Settings`."""
        return [(word, self.source) for value in self.values.get(required, ()) for word in value.split()]


@define(repr=False)
class ShellAsked:
    """The answers of the server. ``fault`` says why it does not start with its settings, ``trouble`` why it was not
    asked. ``numbers_shared``: some groups share an ID."""

    root: Root
    lines: Sequence[Line]
    numbers_shared: bool
    fault: str = ""
    trouble: str = ""
    _found: dict[object, Effective] = field(factory=dict, init=False)
    _by_pattern: bool = field(init=False)
    _named: frozenset[str] = field(init=False)

    def __attrs_post_init__(self) -> None:
        lists = [
            after
            for key, values, _, _ in self.lines
            if key == "match"
            for word, after in pairwise([part for value in values for part in value.split("=", 1)])
            if word.lower() in ("user", "group")
        ]
        names = [name.removeprefix("!") for each in lists for name in each.split(",")]
        self._by_pattern = self.numbers_shared or any(set(name) & set("*?") for name in names)
        self._named = frozenset(names)

    def ask(self, accounts: Sequence[Account]) -> None:
        """Ask about these accounts, once for all that the server treats the same."""
        different: dict[object, str] = {}
        for account in accounts:
            different.setdefault(self._alike(account), account.name)
        about = dict(list(different.items())[:MOST_ASKED])
        port = next((values[0] for key, values, _, _ in self.lines if key == "port" and values), PORT)
        commands = []
        for name in about.values():
            where = f"user={name},host={REMOTE},addr={REMOTE},laddr={HERE},lport={port}"
            commands.append([SSHD, "-T", "-f", sshd_config(self.root), "-C", where])
        if not commands:
            return
        try:
            answers = self.root.ask(RunShellServer(commands))
        except (DryRunUnavailable, VerrouError) as error:
            self.trouble = str(error)
            return
        for key, answer in zip(about, answers, strict=True):
            if answer is not None and not answer.code:
                self._found[key] = self._effective(answer.answer)
        if None in answers:
            self.trouble = "sshd could not be run for every account"
        elif not self._found:
            first = next(each for each in answers if each is not None)
            self.fault = " ".join(first.message.split()) or f"sshd -T ended with {first.code}"

    def shell(self, account: Account) -> Settings | None:
        """Return the settings for an account; None where that was not answered."""
        return self._found.get(self._alike(account))

    def _alike(self, account: Account) -> object:
        if self._by_pattern:
            return account.name, account.groups
        mentioned = tuple(group for group in account.groups if group in self._named)
        return account.name if account.name in self._named else "", mentioned

    def _effective(self, message: str) -> Effective:
        values: dict[str, list[str]] = {}
        for line in message.splitlines():
            key, _, value = line.strip().partition(" ")
            values.setdefault(key.lower(), []).append(value.strip())
        return Effective(values, Source(sshd_config(self.root), text="asked: sshd -T"))


def through_lists(shell: Settings, name: str, groups: Sequence[str]) -> bool:
    """Return whether the server's four lists admit an account from elsewhere, in its own order."""
    denied, allowed, denied_groups, allowed_groups = ([word for word, _ in shell.names(key)] for key in LISTS)
    if any(_is_about(word, name) for word in denied):
        return False
    if allowed and not any(_is_about(word, name) for word in allowed):
        return False
    if any(Pattern(word).matches(group) for word in denied_groups for group in groups):
        return False
    return not allowed_groups or any(Pattern(word).matches(group) for word in allowed_groups for group in groups)


def _is_about(word: str, name: str) -> bool:
    """Return whether a word of a list matches an account from :data:`REMOTE`; words with other origins are handled
    before."""
    user, at, place = word.rpartition("@") if "@" in word else (word, "", "")
    return Pattern(user).matches(name) and (not at or place in ("*", REMOTE))
