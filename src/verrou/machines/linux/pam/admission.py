"""Whom the PAM stacks of the services let in, account by account, in three values: beside what lists and states tell.

What the lists of an entry point and the state of an account already tell is left to them: a line is written down only
about an account of which the stack says otherwise, or of which it cannot be known.
"""

from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from functools import lru_cache
from typing import NamedTuple

from attrs import define, evolve, field

from verrou.core.model import Account, AccountName, PasswordState, Reading, Snapshot, Source, unreadable
from verrou.core.model.access import Credential, admitted, barred
from verrou.core.model.ageing import expired
from verrou.core.model.known import Known
from verrou.core.model.ways import Admission, EntryPoint, Route
from verrou.machines.linux.display_managers import UNASKED_SERVICES
from verrou.machines.linux.entry.remote_shell import RemoteShell, ServerAcceptance
from verrou.machines.linux.entry.service_files import UnknownService, unknown_services
from verrou.machines.linux.files.access_file import CONSOLE, DISPLAY
from verrou.machines.linux.files.account_files import (
    AccountLine,
    PasswdField,
    ShadowField,
    number,
    twins,
)
from verrou.machines.linux.files.password_hashes import scheme_of
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.pam.asking import Alike, Cell, PamAsked, alike, was_not_asked
from verrou.machines.linux.pam.interpreter import Verdict
from verrou.machines.linux.pam.modules import ACCOUNT, AUTH, BY_NAME, WANT_PROOF, Attempt, Modules, PamUser, Proof
from verrou.machines.linux.pam.services import SERVICES, sshd_asks_pam
from verrou.machines.linux.pam.stack import FOLDERS, PamLine, Stack, load_stack
from verrou.machines.linux.population import EPOCH, AccountFiles
from verrou.machines.linux.root import Root

TERMINAL_OF_A_REMOTE_SHELL = "ssh"
WITH_PASSWORDS_OF_THEIR_OWN = frozenset(service.name for service in SERVICES if service.own_passwords)


class StackVerdicts(NamedTuple):
    """What the two halves of a service's stack come to about somebody: with its password, with a wrong one, and what
    the account half says with a password and to who was let in by a key."""

    right: Verdict
    wrong: Verdict
    account: Verdict
    keyed: Verdict

    @property
    def password(self) -> Known:
        return self.right.answer & self.account.answer

    @property
    def name(self) -> Known:
        return self.wrong.answer & self.account.answer

    @property
    def key(self) -> Known:
        return self.keyed.answer


def with_admissions(snapshot: Snapshot, root: Root, files: AccountFiles) -> Snapshot:
    """The same, with what the stacks decide otherwise than lists and states tell. Nothing is said without the right to
    read the passwords."""
    if files.shadow is None:
        return snapshot
    services = Services(root, files, snapshot)
    unknown = unknown_services(root)
    services.ask([each.name for each in unknown])
    entry_points: list[EntryPoint] = []
    for gate in snapshot.entry_points:
        if gate.unasked or not (gate.proof or gate.services):
            entry_points.append(services.without_automatic(gate))
        else:
            entry_points += services.entry_points_of(gate) if gate.services else [gate]
    strangers = [each for each in unknown if services.asked_by_anybody(each.name)]
    readings = dict(snapshot.readings)
    for rule_id, reading in snapshot.readings.items():
        if rule_id.startswith("logon."):
            readings[rule_id] = _heeded(rule_id, reading, snapshot, entry_points, services, strangers)
        elif rule_id == "password.blank_accepted":
            blank = [each for each in strangers if services.takes_blank(each.name)]
            if blank:
                readings[rule_id] = unreadable(f"{blank[0]}, and accepts a blank password", LOOK, Source(blank[0].file))
    troubles = tuple(dict.fromkeys((*snapshot.warnings, *map(str, strangers), *services.not_asked())))
    return evolve(snapshot, entry_points=tuple(entry_points), readings=readings, warnings=troubles)


LOOK = "find out which program uses it, and who can sign in through it"


def _heeded(
    rule_id: str,
    reading: Reading,
    snapshot: Snapshot,
    entry_points: Sequence[EntryPoint],
    services: "Services",
    strangers: Sequence[UnknownService],
) -> Reading:
    """A list of who may come by a way, where every service of the way keeps to it, and none that might be one lets in
    whom it keeps out; not known otherwise."""
    way = Route(rule_id.split(".")[1])
    mine = [gate for gate in entry_points if gate.way is way and not gate.unasked]
    for gate in mine:
        for name, decided in gate.admissions.items():
            account = snapshot.by_name[AccountName(name)]
            answers = (decided.password, decided.key, decided.name)
            if not account.may_sign_in or set(answers) == {Known.NO} or gate.lets_through(account):
                continue
            does = "can sign in" if Known.YES in answers else "may be able to sign in"
            return unreadable(
                f"a list denies {name}, who {does} all the same: {decided.says}", LOOK, decided.source or gate.source
            )
    for each in strangers:
        kept_out = [a for a in snapshot.accounts if mine and not any(gate.lets_through(a) for gate in mine)]
        if name := services.first_let_in(each.name, kept_out):
            return unreadable(f"{each}, and it lets {name} in, whom the lists keep out", LOOK, Source(each.file))
    return reading


@define
class Services:
    """The services of a system and the accounts that they decide about."""

    root: Root
    files: AccountFiles
    snapshot: Snapshot
    _modules: Modules = field(init=False)
    _people: dict[str, PamUser] = field(init=False)
    _known: dict[object, Verdict] = field(factory=dict, init=False)
    _stacks: dict[tuple[str, str], Stack] = field(factory=dict, init=False)
    _by_name: dict[tuple[str, str], tuple[PamLine, ...]] = field(factory=dict, init=False)
    _expected: dict[object, Credential | None] = field(factory=dict, init=False)
    _today: date = field(init=False)
    _asking: dict[str, bool] = field(factory=dict, init=False)
    _has_pam: bool = field(init=False)
    _shell: RemoteShell = field(init=False)
    _pam: PamAsked | None = field(default=None, init=False)
    _no_different: dict[object, Alike] = field(factory=dict, init=False)
    _shell_gates: list[EntryPoint] = field(init=False)
    _told_apart: set[str] = field(factory=set, init=False)
    _lines_sought: int = field(default=0, init=False)

    def __attrs_post_init__(self) -> None:
        self._today = self.snapshot.machine.now.date()
        self._shell = RemoteShell(self.root, self.snapshot.accounts)
        self._has_pam = any(self.root.names_in(folder) for folder in FOLDERS)
        self._shell_gates = [evolve(gate, also=()) for gate in self.snapshot.entry_points if "sshd" in gate.services]
        self._modules = Modules(self.root)
        self._people = somebodies(self.files, self.snapshot.accounts, self._today)

    def ask(self, unknown: Sequence[str]) -> None:
        """Have PAM itself answer for every account, service and place from which people come, where it can be asked."""
        if self.root.asker is None or not self._has_pam:
            return
        self._pam = PamAsked(self.root)
        coming = [(service, gate.way) for gate in self.snapshot.entry_points for service in gate.services]
        coming += [(service, way) for service in unknown for way in (Route.CONSOLE, Route.NETWORK)]
        people = [account for account in self.snapshot.accounts if account.may_sign_in]
        self._pam.ask(
            Cell(attempt := self._attempt(who, service, way), self._alike_to_pam(attempt).key)
            for service, way in dict.fromkeys(coming)
            if self._asks_pam(service)
            for account in people
            if (who := self._people.get(account.name)) is not None
        )

    def not_asked(self) -> list[str]:
        """Why what decides was not asked, although it should have been."""
        found = (self._pam.trouble if self._pam else "", self._shell.not_asked_reason)
        return [was_not_asked(each) for each in found if each]

    def _alike_to_pam(self, attempt: Attempt) -> Alike:
        """See :func:`alike`; worked out once for all of one state where nothing looks at more than that."""
        who = attempt.user
        state = (attempt.service, attempt.terminal, attempt.host, *_state_of(who))
        if (found := self._no_different.get(state)) is not None:
            return found
        stacks = {facility: self._stack(attempt.service, facility) for facility in (AUTH, ACCOUNT)}
        found = alike(self._modules, stacks, attempt)
        if found.by_name:
            self._told_apart.add(attempt.service)
        else:
            self._no_different[state] = found
        return found

    def asked_by_anybody(self, service: str) -> bool:
        """Whether a service of which nothing is known may let somebody in, from anywhere."""
        anybody = (PamUser("", 1000, 1000), PamUser("", 1000, 1000, password=PasswordState.BLANK))
        return any(self._may_come(who, service) for who in (*anybody, *self._people.values()))

    def takes_blank(self, service: str) -> bool:
        """Whether a blank password may be good by it."""
        return self._may_come(PamUser("", 1000, 1000, password=PasswordState.BLANK), service)

    def first_let_in(self, service: str, accounts: Sequence[Account]) -> str:
        """The first of some accounts whom a service may let in; nothing where there is none."""
        people = ((each.name, self._people.get(each.name)) for each in accounts if each.may_sign_in)
        return next((name for name, who in people if who is not None and self._may_come(who, service)), "")

    def _may_come(self, who: PamUser, service: str) -> bool:
        found = (self._of_pam(who, service, way) for way in (Route.CONSOLE, Route.NETWORK))
        return any(each.password is not Known.NO for each in found)

    def entry_points_of(self, gate: EntryPoint) -> list[EntryPoint]:
        """A gate for all services of it that decide alike."""
        by_what: dict[tuple[tuple[str, Admission], ...], list[str]] = {}
        own = evolve(gate, also=())
        for service in gate.services:
            if not self._asks_pam(service) and service != "sshd":
                by_what.setdefault((), []).append(service)
                continue
            found = tuple(self._all_otherwise(gate, own, service))
            by_what.setdefault(found, []).append(service)
        if list(by_what) == [()]:
            return [gate]
        return [evolve(gate, services=tuple(names), admissions=dict(found)) for found, names in by_what.items()]

    def without_automatic(self, gate: EntryPoint) -> EntryPoint:
        """A gate through which the machine signs in whom it is told to, or whoever types a name, with what is asked of
        the account then: login(1) and systemd.exec(5) look at the account alone, a sign-in screen goes through all of
        its service's stack, and what asks nobody begins for an account that is closed too."""
        if gate.admissions:
            return gate
        says = f"automatic sign-in: {gate.unasked}" if gate.unasked else "anyone who types a name is signed in"
        found = {}
        for account in self.snapshot.accounts:
            who = self._people.get(account.name)
            if who is None or not gate.lets_through(account):
                continue
            answer, said = Known.YES, (says, gate.source)
            for service in filter(self._asks_pam, gate.services if gate.unasked else ("login",)):
                pam = self._of_pam(who, service, gate.way)
                answer = pam.name if service in SIGN_IN_SCREENS else pam.key
                if answer is Known.NO and service in MAY_NOT_LOOK:
                    answer = Known.UNKNOWN
                said = said if answer is Known.YES else pam.says
            found[str(account.name)] = Admission(Known.NO, Known.NO, answer, *said)
        return evolve(gate, admissions=found)

    def _all_otherwise(self, gate: EntryPoint, own: EntryPoint, service: str) -> Iterator[tuple[str, Admission]]:
        """About whom a service decides otherwise than is told. Where nothing looks at names, accounts of one state come
        to the same, and most of a large system are of a few."""
        by_name = any(gate.lists) or any(self._named(service, each) for each in (AUTH, ACCOUNT))
        by_name = by_name or (service == "sshd" and self._shell.by_name) or service in self._told_apart
        as_told: set[object] = set()
        for account in self.snapshot.accounts:
            state = None if by_name else _state(account, self._people.get(account.name))
            if state in as_told:
                continue
            found = self._otherwise(account, gate, own, service)
            if found is not None:
                yield account.name, found
            elif state is not None:
                as_told.add(state)

    def _otherwise(self, account: Account, gate: EntryPoint, own: EntryPoint, service: str) -> Admission | None:
        """What decides about an account at a service, where that is not what is told already. ``own`` is the gate with
        the lists of the program alone. Whoever nothing here can tell from somebody else comes to the same."""
        who = self._people.get(account.name)
        if who is None or not account.may_sign_in or barred(account, self.snapshot):
            return None
        takes, through = CONSOLE_TAKES, True
        if service == "sshd":
            takes, through = self._shell.acceptance_of(account), self._shell_lets_through(account, own)
        alike = (
            *(gate.way, service, through, takes, account.password, account.enabled, account.keys > 0),
            *(expired(account, self.snapshot, self._today), self._alike(who, service, gate.way)),
        )
        told = admitted(account, gate, self.snapshot)
        if self._expected.get(alike, Credential.UNKNOWN) is told is not Credential.UNKNOWN:
            return None
        decided = self._decided(account, who, gate, service, Known.of(through), takes)
        self._expected[alike] = admitted(account, evolve(gate, admissions={account.name: decided}), self.snapshot)
        return decided if self._expected[alike] is not told else None

    def _shell_lets_through(self, account: Account, own: EntryPoint) -> bool:
        """Whether the remote shell server's lists let an account through. Where it has several for several accounts, a
        gate stands for each, and what the server answered counts at the one that is about the account."""
        asked = self._shell.admits(account)
        if asked is None:
            return own.lets_through(account)
        mine = next((gate for gate in self._shell_gates if gate.lets_through(account)), self._shell_gates[0])
        return asked and own == mine

    def _alike(self, who: PamUser, service: str, way: Route) -> object:
        """All that the stacks of a service can tell of somebody."""
        if not self._asks_pam(service):
            return who.password
        attempt = self._attempt(who, service, way)
        classes = tuple(self._class(facility, attempt) for facility in (AUTH, ACCOUNT))
        return classes if self._pam is None else (*classes, self._alike_to_pam(attempt).key)

    def _decided(
        self, account: Account, who: PamUser, gate: EntryPoint, service: str, through: Known, takes: ServerAcceptance
    ) -> Admission:
        pam = self._comes_to(account, who, service, gate.way)
        password, key = through & takes.password & pam.password, through & takes.key & pam.key
        # A blank password is good whatever is typed, where it is good at all.
        name = Known.NO if account.password is PasswordState.BLANK else through & takes.password & pam.name
        said, source = (takes.says, takes.source) if takes.says else pam.says
        if takes.both:
            password, key, name = Known.NO, through & takes.key & pam.password & pam.key, Known.NO
        elif Known.YES is key and Known.YES not in (password, name) and not takes.says:
            said, source = f"{service}: its key is good, although no password of it is", account.source
        return Admission(password, key, name, said, source, pam.differs and not takes.says)

    def _comes_to(self, account: Account, who: PamUser, service: str, way: Route) -> "PamAnswer":
        """What PAM has to say. A program that does not ask it looks at the account by itself."""
        if self._asks_pam(service):
            return self._of_pam(who, service, way)
        is_open = account.enabled and not expired(account, self.snapshot, self._today)
        has_one = who.password in (PasswordState.SET, PasswordState.BLANK)
        says = f"{service}: it does not ask PAM, and looks at the account by itself", account.source
        return PamAnswer(Known.of(is_open and has_one), Known.of(is_open), Known.NO, says)

    def _of_pam(self, who: PamUser, service: str, way: Route) -> "PamAnswer":
        """What PAM answered, and what its files read as where it did not, or where that is true of this hour only."""
        found = self.found(who, service, way)
        read = PamAnswer(found.password, found.key, found.name, self._says(service, found))
        attempt = self._attempt(who, service, way)
        asked = self._pam.of(service, self._alike_to_pam(attempt).key) if self._pam and who.name else None
        if asked is None or any(line.module_name in OF_THIS_HOUR for line in _unclear(found)):
            return read
        # What some modules go by (a daemon, a finger, a card) is not in the copy: a no there is not one of the machine.
        no_counts = not any(line.module_name in WANT_PROOF for line in _unclear(found))
        answers = (each if no_counts or each is Known.YES else Known.UNKNOWN for each in asked.parts)
        parts = tuple(zip(answers, read[:3], strict=True))
        password, key, name = (said if said is not Known.UNKNOWN else here for said, here in parts)
        if all(said in (here, Known.UNKNOWN) for said, here in parts):
            return read
        differs = read.password not in (Known.UNKNOWN, password)
        return PamAnswer(password, key, name, self._differently(attempt, read, password), differs)

    def _differently(self, attempt: Attempt, read: "PamAnswer", password: Known) -> tuple[str, Source | None]:
        """What is said where PAM itself answers otherwise than its files read, or where these do not tell."""
        line = self._line_that_refuses(attempt) if password is Known.NO else None
        decides = f" by {line.module_name}" if line is not None else ""
        answers = {Known.YES: "allows sign-in", Known.NO: "denies sign-in", Known.UNKNOWN: "may allow sign-in"}
        said = f"{attempt.service}: PAM, asked itself, {answers[password]}{decides}"
        if read.password not in (Known.UNKNOWN, password):
            said += f", although its files read as if it {'allowed' if password is Known.NO else 'denied'} it"
        return said, line.source if line is not None else read.says[1]

    def _line_that_refuses(self, attempt: Attempt) -> PamLine | None:
        """The line without which PAM would let somebody in, found by asking."""
        assert self._pam is not None
        self._lines_sought += 1
        if self._lines_sought > MOST_LINES_SOUGHT:
            return None
        lines = [line for facility in (AUTH, ACCOUNT) for line in self._stack(attempt.service, facility).lines]
        return self._pam.line_that_refuses(attempt, lines)

    def _asks_pam(self, service: str) -> bool:
        """Whether the service asks PAM about passwords: the network's shares keep passwords of their own."""
        if service not in self._asking:
            asks = self._has_pam and service not in WITH_PASSWORDS_OF_THEIR_OWN
            self._asking[service] = asks and (service != "sshd" or sshd_asks_pam(self.root))
        return self._asking[service]

    def found(self, who: PamUser, service: str, way: Route) -> StackVerdicts:
        """What a service comes to about somebody who comes by a way."""
        attempt = self._attempt(who, service, way)
        wrong, keyed = evolve(attempt, proof=Proof.WRONG), evolve(attempt, proof=Proof.KEY)
        verdicts = ((AUTH, attempt), (AUTH, wrong), (ACCOUNT, attempt), (ACCOUNT, keyed))
        return StackVerdicts(*(self._verdict(facility, each) for facility, each in verdicts))

    @staticmethod
    def _attempt(who: PamUser, service: str, way: Route) -> Attempt:
        if way is Route.CONSOLE:
            return Attempt(service, who, CONSOLE if service == "login" else DISPLAY)
        return Attempt(service, who, TERMINAL_OF_A_REMOTE_SHELL if way is Route.REMOTE_SHELL else "", REMOTE)

    def _class(self, facility: str, attempt: Attempt) -> object:
        """All that a stack can tell of an attempt: the state of the account, and what each module answers that looks at
        more of it."""
        who = attempt.user
        named = self._named(attempt.service, facility)
        answers = tuple(self._modules.answers(facility, line, attempt, False) for line in named)
        shell = who.shell if named else ""
        return attempt.terminal, who.password, who.ended, who.aged_out, who.due, who.uid == 0, shell, answers

    def _named(self, service: str, facility: str) -> tuple[PamLine, ...]:
        key = service, facility
        if key not in self._by_name:
            lines = self._stack(service, facility).lines
            self._by_name[key] = tuple(line for line in lines if line.module_name in BY_NAME | {"pam_shells.so"})
        return self._by_name[key]

    def _verdict(self, facility: str, attempt: Attempt) -> Verdict:
        """What a stack comes to, worked out once for all whom it cannot tell apart."""
        key = facility, attempt.service, attempt.host, attempt.proof, self._class(facility, attempt)
        if key not in self._known:
            self._known[key] = self._modules.verdict(facility, self._stack(attempt.service, facility), attempt)
        return self._known[key]

    def _stack(self, service: str, facility: str) -> Stack:
        if (service, facility) not in self._stacks:
            self._stacks[service, facility] = load_stack(self.root, service, facility)
        return self._stacks[service, facility]

    def _says(self, service: str, found: StackVerdicts) -> tuple[str, Source | None]:
        """By which line that is, and where it stands."""
        stacks = [self._stack(service, facility) for facility in (AUTH, ACCOUNT)]
        for stack in stacks:
            if where := stack.fatal or stack.unclear:
                return f"{service}: {where.text}", where
        unclear = _unclear(found)
        if Known.UNKNOWN in (found.password, found.name, found.key) and unclear:
            names = dict.fromkeys(line.module_name for line in unclear)
            return f"{service}: what {', '.join(names)} answers is not known", unclear[0].source
        line = self._deciding(found)
        if line is None:
            return f"{service}: its PAM stack decides so", None
        return f"{service}: {line.module_name or line.fault} decides so", line.source

    @staticmethod
    def _deciding(found: StackVerdicts) -> PamLine | None:
        """The line at which a stack ended, of the half that says no where one does."""
        halves = [found.right, found.account] if found.wrong.answer is not Known.YES else [found.wrong, found.account]
        against = next((each for each in halves if each.answer is Known.NO), halves[0])
        return against.decided_by


class PamAnswer(NamedTuple):
    """What PAM says of an account with its password, with a key, with nothing; and by which line."""

    password: Known
    key: Known
    name: Known
    says: tuple[str, Source | None]
    differs: bool = False


def _unclear(found: StackVerdicts) -> list[PamLine]:
    return [line for each in found for line in each.unclear]


OF_THIS_HOUR = frozenset(("pam_time.so",))
"""Modules whose answer holds for the hour in which it is given."""
MOST_LINES_SOUGHT = 8
"""For how many differences the line that makes them is sought: each takes a question a line."""
SIGN_IN_SCREENS = frozenset(UNASKED_SERVICES)
MAY_NOT_LOOK = frozenset(("lxdm", "slim"))
"""Sign-in screens of which it is not known whether they ask PAM about an account that they sign in by themselves."""
CONSOLE_TAKES = ServerAcceptance(Known.YES, Known.NO)
"""A console takes what PAM takes, and no keys."""


def _state(account: Account, who: PamUser | None) -> object:
    """All that decides about an account beside its name and its groups; None of one that PAM does not find."""
    if who is None:
        return None
    return (
        *_state_of(who),
        *(account.enabled, account.may_sign_in, account.password, account.password_changed, account.change_due),
        *(account.max_age, account.grace, account.until, account.keys > 0, account.identity == "0", account.shell),
        *(account.linked_identity, account.builtin, account.ageing_exempt),
    )


def _state_of(who: PamUser) -> tuple[object, ...]:
    return who.password, who.ended, who.aged_out, who.due, who.uid == 0


def somebodies(files: AccountFiles, accounts: Sequence[Account], today: date) -> dict[str, PamUser]:
    """The accounts of the files as PAM sees them, by name."""
    groups: Mapping[str, tuple[str, ...]] = {account.name: tuple(account.groups) for account in reversed(accounts)}
    if shared := twins(files.group):
        groups = {
            name: tuple(dict.fromkeys(each for group in mine for each in (group, *shared.get(group, ()))))
            for name, mine in groups.items()
        }
    found = {}
    for record in reversed(files.passwd.records()):
        shadow = files.shadow.find(record.name) if files.shadow else None
        found[record.name] = _somebody(record, shadow, groups.get(record.name, ()), (today - EPOCH).days)
    return found


def _somebody(record: AccountLine, shadow: AccountLine | None, groups: tuple[str, ...], today: int) -> PamUser:
    fields = record.fields
    hashed, shadowed = fields[PasswdField.PASSWORD], fields[PasswdField.PASSWORD] == "x"
    if shadowed:
        hashed = shadow.fields[ShadowField.PASSWORD] if shadow else "*"
    state = PasswordState.SET if scheme_of(hashed) and not hashed.startswith("!") else PasswordState.NONE
    state = PasswordState.BLANK if hashed == "" else state
    facts = (
        *(record.name, int(fields[PasswdField.UID]), int(fields[PasswdField.GID]), groups),
        *(fields[PasswdField.SHELL], fields[PasswdField.HOME], state),
    )
    if not shadowed or shadow is None:
        return PamUser(*facts)
    changed, longest, grace, end = _days(shadow.fields[ShadowField.CHANGED :])
    age = today - (-1 if changed is None else changed)
    aged = changed != 0 and age >= 0 and longest is not None and longest >= 0 and age > longest
    out = aged and grace is not None and grace >= 0 and longest is not None and age > grace and age > longest + grace
    return PamUser(*facts, end is not None and 0 <= end <= today, out, aged or changed == 0)


@lru_cache(maxsize=4096)
def _days(fields: tuple[str, ...]) -> tuple[int | None, ...]:
    """When the password was set, how long it may last, the days of grace, the end: the same for most accounts."""
    first = ShadowField.CHANGED
    wanted = (first, ShadowField.LONGEST, ShadowField.GRACE, ShadowField.END)
    return tuple(number(fields[each - first]) for each in wanted)
