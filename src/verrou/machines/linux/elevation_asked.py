"""sudo and doas asked themselves, in a private copy, who may do everything as root: what they answer takes the place of
what their files read as."""

import re
from collections.abc import Mapping, Sequence

from attrs import define, evolve, field

from verrou.core.errors import VerrouError
from verrou.core.model import Account, Grant, PasswordState, Source
from verrou.core.model.known import Known, any_of
from verrou.machines import CannotRehearse
from verrou.machines.linux.files.doas import DOAS_CONF
from verrou.machines.linux.files.sudoers import SUDOERS
from verrou.machines.linux.pam.asking import was_not_asked, word_and_hash
from verrou.machines.linux.pam.faillock import load_faillock
from verrou.machines.linux.population import Population
from verrou.machines.linux.root import Root

MOST_ASKED = 300
SUDOERS_FOLDER = f"{SUDOERS}.d"
REFUSES = ("is not in the sudoers file", "is not allowed to", "may not run sudo", "no valid sudoers sources")
"""What sudo says to whom its files give nothing; whatever else keeps somebody back is no answer about that."""
_WORD = re.compile(r"[^\s,:=!()\"]+")
_PATTERN = re.compile(r"[\\+#*?\[]|%:")
"""What makes a word be about more than the name that it is, or about something that is not a name."""


@define
class ElevationAsked:
    """The answers. ``told`` are the differences to what the files read as; ``all_known``: whether it
    was answered of everybody who may sign in."""

    root: Root
    people: Population
    told: list[str] = field(factory=list)
    all_known: bool = False
    _plain: bool = field(init=False)
    _numbers: Mapping[str, str] = field(init=False)
    _group_numbers: set[str] = field(init=False)
    _user_numbers: set[str] = field(init=False)

    def __attrs_post_init__(self) -> None:
        files = [SUDOERS, DOAS_CONF, *(f"{SUDOERS_FOLDER}/{name}" for name in self.root.names_in(SUDOERS_FOLDER))]
        lines = [line for file in files for line in self.root.lines(file) if not line.lstrip().startswith("#")]
        includes = any("include" in line for line in lines if SUDOERS_FOLDER not in line)
        # What stands in files elsewhere, or is about more than a name, may tell anybody from anybody.
        plain = not includes and not any(_PATTERN.search(line.partition("=")[0]) for line in lines)
        words = {word.lstrip("%:").casefold() for line in lines for word in _WORD.findall(line)}
        self._plain = plain
        self._numbers = {group.name: group.identity for group in self.people.groups}
        self._group_numbers = words | {g.identity for g in self.people.groups if g.name.casefold() in words}
        self._user_numbers = words | {a.identity for a in self.people.accounts if a.name.casefold() in words}

    def accounts(self) -> tuple[Account, ...]:
        """All accounts, those of whom something else was answered as it was answered."""
        asked = [each for each in self.people.accounts if each.may_sign_in and each.identity != "0"]
        different: dict[object, Account] = {}
        # Whoever has a password speaks for those who have none: sudo asks for it before it says what it lets them do.
        for account in sorted(asked, key=lambda each: not (each.enabled and each.password is PasswordState.SET)):
            different.setdefault(self._alike(account), account)
        chosen = dict(list(different.items())[:MOST_ASKED])
        try:
            answers = dict(zip(chosen, self._answers(list(chosen.values())), strict=True))
        except (CannotRehearse, VerrouError, KeyError, TypeError, ValueError) as error:
            self.told.append(was_not_asked(str(error)))
            return self.people.accounts
        self.all_known = len(chosen) == len(different) and Known.UNKNOWN not in answers.values()
        names = {account.name for account in asked}
        return tuple(
            self._as_answered(account, answers.get(self._alike(account), Known.UNKNOWN))
            if account.name in names
            else account
            for account in self.people.accounts
        )

    def _alike(self, account: Account) -> object:
        if not self._plain:
            return account.name
        # By number: sudo and doas look the names up that belong to these.
        mine = tuple(sorted({self._numbers.get(group, group) for group in account.groups} & self._group_numbers))
        return account.identity if account.identity in self._user_numbers else "", mine

    def _answers(self, accounts: Sequence[Account]) -> list[Known]:
        assert self.root.asker is not None
        word, hash_of_word = word_and_hash()
        told = self.root.asker(
            "try_elevating",
            names=[each.name for each in accounts],
            doas=self.people.doas.program,
            word=word,
            hash_of_word=hash_of_word,
            tallies=load_faillock(self.root).tallies,
        )
        by_sudo = [_of_sudo(each) for each in told["sudo"]]
        if not self.people.sudoers.installed:
            by_sudo = [Known.NO] * len(accounts)
        by_doas = [Known.of(each.get("accepted")) if self.people.doas.program else Known.NO for each in told["doas"]]
        return [any_of(both) for both in zip(by_sudo, by_doas, strict=True)]

    def _as_answered(self, account: Account, known: Known) -> Account:
        administering = {g.name for g in self.people.groups if Grant.ADMINISTRATION in g.grants}
        given = Grant.ADMINISTRATION in account.grants or any(group in administering for group in account.groups)
        reads_so = given and Grant.ADMINISTRATION not in account.withheld
        answer = known is Known.YES
        if known is Known.UNKNOWN or answer is reads_so or (answer and account.may_run):
            return account
        by_sudo = self.people.sudoers.installed
        program, file = ("sudo", SUDOERS) if by_sudo else ("doas", DOAS_CONF)
        says = f"{program}, asked itself, {'lets' if answer else 'does not let'} {account.name} do everything as root"
        self.told.append(f"{says}; {file} reads otherwise")
        source = Source(file, None, f"{program} was asked itself")
        others = tuple(grant for grant in account.grants if grant is not Grant.ADMINISTRATION)
        if answer:
            return evolve(account, grants=(*others, Grant.ADMINISTRATION), given_by=(source,), withheld=())
        return evolve(account, grants=others, given_by=(source,), withheld=(Grant.ADMINISTRATION,))


def _of_sudo(told: Mapping[str, object]) -> Known:
    """Whether sudo lets somebody run a program as root that no list of its files names."""
    if told.get("accepted") is True:
        return Known.YES
    said = str(told.get("said", ""))
    return Known.NO if any(words in said for words in REFUSES) else Known.UNKNOWN
