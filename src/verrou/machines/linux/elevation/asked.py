"""sudo and doas themselves, asked in a private copy who can do everything as root; their answers replace their
files'."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from attrs import define, evolve, field

from verrou.core.errors import VerrouError
from verrou.core.model import Account, Grant, PasswordState, Source
from verrou.core.model.known import Known, any_of
from verrou.core.testing.attempts import Answer as BySudo
from verrou.machines.linux.accounts.population import Population
from verrou.machines.linux.copy.requests import TryElevating
from verrou.machines.linux.files.doas import DOAS_CONF
from verrou.machines.linux.files.sudoers import SUDOERS, Person
from verrou.machines.linux.pam.asking import was_not_asked, word_and_hash
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable

MOST_ASKED = 300
"""Most distinct accounts tried in one observation; for all others only files are read."""
REFUSES = ("is not in the sudoers file", "is not allowed to", "may not run sudo", "no valid sudoers sources")
"""sudo's messages to an account without rights; any other denial is no answer about the files."""


class Answer(NamedTuple):
    """Whether sudo and doas each let an account do everything as root; no where the program is missing."""

    sudo: Known
    doas: Known

    @property
    def known(self) -> Known:
        return any_of(self)


@define(repr=False)
class ElevationAsked:
    """The answers. ``differences`` are those from the files; ``all_known``: every account that can sign in was
    answered."""

    root: Root
    people: Population
    differences: list[str] = field(factory=list)
    all_known: bool = False
    _by_gid: Mapping[str, str] = field(init=False)
    _gids: Mapping[str, str] = field(init=False)
    _by_uid: Mapping[str, str] = field(init=False)
    _administering: frozenset[str] = field(init=False)
    _granting: frozenset[str] | None = field(init=False)
    """The groups that anything can go by, where everything about elevation is understood."""

    def __attrs_post_init__(self) -> None:
        # By number, of two names the first: so sudo and doas look people and groups up.
        self._gids = {group.name: group.identity for group in self.people.groups}
        self._by_gid = {group.identity: group.name for group in reversed(self.people.groups)}
        self._by_uid = {account.identity: account.name for account in reversed(self.people.accounts)}
        self._administering = frozenset(g.name for g in self.people.groups if Grant.ADMINISTRATION in g.grants)
        granting, sudoers = self.people.granting, self.people.sudoers
        self._granting = None
        if granting is not None and not (sudoers.unknown or sudoers.passed_over or self.people.doas.unknown):
            self._granting = frozenset(name for name, gid in self._gids.items() if int(gid) in granting)

    def accounts(self) -> tuple[Account, ...]:
        """Return all accounts, with the answer where it differs from the files."""
        asked = [each for each in self.people.accounts if each.may_sign_in and each.identity != "0"]
        keyed = [(account, self._alike(account)) for account in asked]
        different: dict[object, Account] = {}
        # An account with a password answers for those without: sudo asks for it before it says what they can run.
        for account, key in sorted(keyed, key=lambda pair: not _has_a_password(pair[0])):
            different.setdefault(key, account)
        chosen = dict(list(different.items())[:MOST_ASKED])
        try:
            answers = dict(zip(chosen, self._answers(list(chosen.values())), strict=True))
        except (DryRunUnavailable, VerrouError) as error:
            self.differences.append(was_not_asked(str(error)))
            return self.people.accounts
        known = [answer.known for answer in answers.values()]
        self.all_known = len(chosen) == len(different) and Known.UNKNOWN not in known
        found = {account.name: answers.get(key) for account, key in keyed}
        return tuple(self._as_answered(account, found.get(account.name)) for account in self.people.accounts)

    def _alike(self, account: Account) -> object:
        """Return a key of all that the files can depend on; where a line is not understood, that is the account
        itself."""
        sudoers, doas = self.people.sudoers, self.people.doas
        if sudoers.unknown or sudoers.passed_over or doas.unknown:
            return account.name
        name, uid = self._by_uid[account.identity], int(account.identity)
        if name != account.name:
            return account.name  # sudo counts the main group of the first with that number, too
        nameless = self.people.nameless.get(account.name)
        named = nameless is not None or sudoers.names(name, uid)
        if self._granting is not None and not named and self._granting.isdisjoint(account.groups):
            return ""
        gids = [self._gids[group] for group in account.groups if group in self._gids]
        groups, numbers = tuple(self._by_gid[gid] for gid in gids), tuple(map(int, gids))
        if nameless is not None:
            groups, numbers = (*groups, ""), (*numbers, nameless)
        person = Person(name, uid, groups, numbers)
        return sudoers.treated_alike(person), doas.what_counts_of(person)

    def _answers(self, accounts: Sequence[Account]) -> list[Answer]:
        word, hash_of_word = word_and_hash()
        names, tallies = [each.name for each in accounts], load_faillock(self.root).tallies
        answers = self.root.ask(TryElevating(names, self.people.doas.program, word, hash_of_word, tallies))
        has_sudo, has_doas = self.people.sudoers.installed, bool(self.people.doas.program)
        return [
            Answer(_of_sudo(each.sudo) if has_sudo else Known.NO, each.doas if has_doas else Known.NO)
            for each in answers
        ]

    def _as_answered(self, account: Account, answer: Answer | None) -> Account:
        if answer is None or answer.known is Known.UNKNOWN:
            return account
        given = Grant.ADMINISTRATION in account.grants or not self._administering.isdisjoint(account.groups)
        reads_so = given and Grant.ADMINISTRATION not in account.denied_grants
        if answer.known is Known.of(reads_so):
            return account
        lets = answer.known is Known.YES
        if lets and account.may_run:
            return account  # the command tried may be in its list
        by_sudo = answer.sudo is Known.YES if lets else self.people.sudoers.installed
        program, file = ("sudo", SUDOERS) if by_sudo else ("doas", DOAS_CONF)
        statement = (
            f"{program}, asked itself, {'lets' if lets else 'does not let'} {account.name} do everything as root"
        )
        self.differences.append(f"{statement}; {file} says the opposite")
        source = Source(file, None, f"{program} was asked itself")
        others = tuple(grant for grant in account.grants if grant is not Grant.ADMINISTRATION)
        if lets:
            return evolve(account, grants=(*others, Grant.ADMINISTRATION), granted_by=(source,), denied_grants=())
        return evolve(account, grants=others, granted_by=(source,), denied_grants=(Grant.ADMINISTRATION,))


def _has_a_password(account: Account) -> bool:
    return account.enabled and account.password is PasswordState.SET


def _of_sudo(answer: BySudo) -> Known:
    """Return whether sudo runs a program as root that no list of its files names."""
    if answer.accepted:
        return Known.YES
    return Known.NO if any(words in answer.message for words in REFUSES) else Known.UNKNOWN
