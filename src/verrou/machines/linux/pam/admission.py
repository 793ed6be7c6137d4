"""Admissions by the PAM stacks of the services, account by account, in three values.

What lists and account state already decide is left to them: an admission is made only for an account of which the stack
decides differently, or of which it is not known."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date
from functools import cached_property, lru_cache
from itertools import chain
from typing import NamedTuple

from attrs import define, evolve, field

from verrou.core.model import Account, AccountName, PasswordState, Reading, Snapshot, Source, unreadable
from verrou.core.model.access import Credential, admitted, barred
from verrou.core.model.ageing import expired, must_change
from verrou.core.model.known import Known
from verrou.core.model.routes import Admission, EntryPoint, Route
from verrou.machines.linux.accounts.population import EPOCH, AccountFiles
from verrou.machines.linux.entry.display_managers import UNASKED_SERVICES
from verrou.machines.linux.entry.remote_shell import RemoteShell, ServerAcceptance
from verrou.machines.linux.entry.service_files import UnknownService, unknown_services
from verrou.machines.linux.files.access_file import CONSOLE, DISPLAY
from verrou.machines.linux.files.account_files import (
    AccountLine,
    ShadowField,
    is_shadowed,
    number,
    twins,
)
from verrou.machines.linux.files.sshd import REMOTE
from verrou.machines.linux.pam.asking import Alike, Cell, PamAsked, alike, was_not_asked
from verrou.machines.linux.pam.interpreter import Verdict
from verrou.machines.linux.pam.modules import ACCOUNT, AUTH, BY_NAME, WANT_PROOF, Attempt, Modules, PamUser, Proof
from verrou.machines.linux.pam.services import SERVICES, sshd_asks_pam
from verrou.machines.linux.pam.stack import FOLDERS, PamLine, Stack, load_stack
from verrou.machines.linux.root import Root

TERMINAL_OF_A_REMOTE_SHELL = "ssh"
WITH_PASSWORDS_OF_THEIR_OWN = frozenset(service.name for service in SERVICES if service.own_passwords)


class StackVerdicts(NamedTuple):
    """Verdicts of a service's stack about an account.

    They are those with its password, with a wrong one, of the account half with a password, and of the account half
    after a key."""

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
    """Return the entry points with what the stacks decide differently from lists and states.

    Nothing is decided without the right to read the passwords."""
    if files.shadow is None:
        return snapshot
    services = Services(root, files, snapshot)
    unknown = unknown_services(root)
    services.ask([each.name for each in unknown])
    entry_points: list[EntryPoint] = []
    for entry_point in snapshot.entry_points:
        if entry_point.automatic or not (entry_point.proof or entry_point.services):
            entry_points.append(services.without_automatic(entry_point))
        else:
            entry_points += services.entry_points_of(entry_point) if entry_point.services else [entry_point]
    strangers = [each for each in unknown if services.asked_by_anybody(each.name)]
    readings = dict(snapshot.readings)
    for rule_id, reading in snapshot.readings.items():
        if rule_id.startswith("logon."):
            readings[rule_id] = _heeded(rule_id, reading, snapshot, entry_points, services, strangers)
        elif rule_id == "password.blank_accepted":
            blank = [each for each in strangers if services.takes_blank(each.name)]
            if blank:
                readings[rule_id] = unreadable(f"{blank[0]}, and accepts a blank password", LOOK, Source(blank[0].file))
    warnings = tuple(dict.fromkeys((*snapshot.warnings, *map(str, strangers), *services.not_asked())))
    return evolve(snapshot, entry_points=tuple(entry_points), readings=readings, warnings=warnings)


LOOK = "find out which program uses it, and who can sign in through it"


def _heeded(
    rule_id: str,
    reading: Reading,
    snapshot: Snapshot,
    entry_points: Sequence[EntryPoint],
    services: "Services",
    strangers: Sequence[UnknownService],
) -> Reading:
    """Return the list of a route where every service follows it, and none that might belong to it admits someone it
    denies.

    Otherwise the value is not known."""
    route = Route(rule_id.split(".")[1])
    mine = [entry_point for entry_point in entry_points if entry_point.route is route and not entry_point.automatic]
    for entry_point in mine:
        for name, decided in entry_point.admissions.items():
            account = snapshot.by_name[AccountName(name)]
            answers = (decided.password, decided.key, decided.name)
            if not account.may_sign_in or set(answers) == {Known.NO} or entry_point.admits(account):
                continue
            does = "can sign in" if Known.YES in answers else "may be able to sign in"
            return unreadable(
                f"a list denies {name}, who {does} all the same: {decided.statement}",
                LOOK,
                decided.source or entry_point.source,
            )
    for each in strangers:
        kept_out = [a for a in snapshot.accounts if mine and not any(entry_point.admits(a) for entry_point in mine)]
        if name := services.first_let_in(each.name, kept_out):
            return unreadable(f"{each}, and it admits {name}, whom the lists deny", LOOK, Source(each.file))
    return reading


@define(repr=False)
class Services:
    """Services of a system, and the accounts that they decide about."""

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
    _shell_entry_points: list[EntryPoint] = field(init=False)
    _told_apart: set[str] = field(factory=set, init=False)
    _lines_sought: int = field(default=0, init=False)

    def __attrs_post_init__(self) -> None:
        self._today = self.snapshot.machine.now.date()
        shared = twins(self.files.group)
        self._shell = RemoteShell(self.root, self.snapshot.accounts, bool(shared))
        self._has_pam = any(self.root.names_in(folder) for folder in FOLDERS)
        self._shell_entry_points = [
            evolve(entry_point, also=()) for entry_point in self.snapshot.entry_points if "sshd" in entry_point.services
        ]
        self._modules = Modules(self.root)
        self._people = somebodies(self.files, self.snapshot.accounts, shared, self._today)

    def ask(self, unknown: Sequence[str]) -> None:
        """Ask PAM itself about every account, service and origin, where it can be asked."""
        if self.root.asker is None or not self._has_pam:
            return
        self._pam = PamAsked(self.root)
        coming = [
            (service, entry_point.route)
            for entry_point in self.snapshot.entry_points
            for service in entry_point.services
        ]
        coming += [(service, route) for service in unknown for route in (Route.CONSOLE, Route.NETWORK)]
        people = [account for account in self.snapshot.accounts if account.may_sign_in]
        self._pam.ask(
            Cell(attempt := self._attempt(who, service, route), self._alike_to_pam(attempt).key)
            for service, route in dict.fromkeys(coming)
            if self._asks_pam(service)
            for account in people
            if (who := self._people.get(account.name)) is not None
        )

    def not_asked(self) -> list[str]:
        """Return why the system was not asked, although it should have been."""
        found = (self._pam.trouble if self._pam else "", self._shell.not_asked_reason)
        return [was_not_asked(each) for each in found if each]

    def _alike_to_pam(self, attempt: Attempt) -> Alike:
        """See :func:`alike`; computed once for all accounts of one state where nothing else decides."""
        who = attempt.user
        state = (attempt.service, attempt.terminal, attempt.host, *who.state)
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
        """Return whether an unknown service may sign someone in, from anywhere."""
        anybody = (PamUser("", 1000, 1000), PamUser("", 1000, 1000, password=PasswordState.BLANK))
        return any(self._may_come(who, service) for who in (*anybody, *self._people.values()))

    def takes_blank(self, service: str) -> bool:
        """Return whether the service may accept a blank password."""
        return self._may_come(PamUser("", 1000, 1000, password=PasswordState.BLANK), service)

    def first_let_in(self, service: str, accounts: Sequence[Account]) -> str:
        """Return the first of some accounts that a service may admit; empty where there is none."""
        people = ((each.name, self._people.get(each.name)) for each in accounts if each.may_sign_in)
        return next((name for name, who in people if who is not None and self._may_come(who, service)), "")

    def _may_come(self, who: PamUser, service: str) -> bool:
        found = (self._of_pam(who, service, route) for route in (Route.CONSOLE, Route.NETWORK))
        return any(each.password is not Known.NO for each in found)

    def entry_points_of(self, entry_point: EntryPoint) -> list[EntryPoint]:
        """Return an entry point for each group of services that decide the same."""
        by_what: dict[tuple[tuple[str, Admission], ...], list[str]] = {}
        own = evolve(entry_point, also=())
        for service in entry_point.services:
            if not self._asks_pam(service) and service != "sshd":
                by_what.setdefault((), []).append(service)
                continue
            found = tuple(self._all_otherwise(entry_point, own, service))
            by_what.setdefault(found, []).append(service)
        if list(by_what) == [()]:
            return [entry_point]
        return [evolve(entry_point, services=tuple(names), admissions=dict(found)) for found, names in by_what.items()]

    def without_automatic(self, entry_point: EntryPoint) -> EntryPoint:
        """Return an automatic entry point with what is checked of the account at that moment.

        login(1) and systemd.exec(5) check the account alone, a sign-in screen goes through its service's whole stack,
        and what asks no one starts for a disabled account, too."""
        if entry_point.admissions:
            return entry_point
        statement = (
            f"automatic sign-in: {entry_point.automatic}"
            if entry_point.automatic
            else "anyone who types a name is signed in"
        )
        found = {}
        for account in self.snapshot.accounts:
            who = self._people.get(account.name)
            if who is None or not entry_point.admits(account):
                continue
            answer, message = Known.YES, (statement, entry_point.source)
            for service in filter(self._asks_pam, entry_point.services if entry_point.automatic else ("login",)):
                pam = self._of_pam(who, service, entry_point.route)
                answer = pam.name if service in SIGN_IN_SCREENS else pam.key
                if answer is Known.NO and service in MAY_NOT_LOOK:
                    answer = Known.UNKNOWN
                message = message if answer is Known.YES else pam.statement
            found[str(account.name)] = Admission(Known.NO, Known.NO, answer, *message)
        return evolve(entry_point, admissions=found)

    def _all_otherwise(self, entry_point: EntryPoint, own: EntryPoint, service: str) -> Iterator[tuple[str, Admission]]:
        """Yield the admissions of accounts that a service decides differently.

        Where nothing depends on names, all accounts of one state have one result, and most of a large system are of a
        few states."""
        by_name = any(entry_point.lists) or any(self._named(service, each) for each in (AUTH, ACCOUNT))
        by_name = by_name or (service == "sshd" and self._shell.by_name) or service in self._told_apart
        accounts: Iterable[Account] = self.snapshot.accounts
        if not by_name:
            first = ((each, self.snapshot.accounts[each[0]]) for each in self._of_one_state)
            otherwise = [each for each, one in first if self._otherwise(one, entry_point, own, service) is not None]
            accounts = map(self.snapshot.accounts.__getitem__, sorted(chain.from_iterable(otherwise)))
        for account in accounts:
            found = self._otherwise(account, entry_point, own, service)
            if found is not None:
                yield account.name, found

    @cached_property
    def _of_one_state(self) -> Iterable[Sequence[int]]:
        """The places of accounts of one state, by state; see :func:`_state`."""
        people, snapshot, today = self._people, self.snapshot, self._today
        found: dict[object, list[int]] = {}
        for place, account in enumerate(snapshot.accounts):
            found.setdefault(_state(account, people.get(account.name), snapshot, today), []).append(place)
        return found.values()

    def _otherwise(self, account: Account, entry_point: EntryPoint, own: EntryPoint, service: str) -> Admission | None:
        """Return the admission of an account at a service, where it differs from what is known already.

        ``own`` is the entry point with the lists of the program alone. Accounts that nothing here distinguishes share a
        result."""
        who = self._people.get(account.name)
        if who is None or not account.may_sign_in or barred(account, self.snapshot):
            return None
        accepted_values, through = CONSOLE_TAKES, True
        if service == "sshd":
            accepted_values, through = self._shell.acceptance_of(account), self._shell_lets_through(account, own)
        alike = (
            *(
                entry_point.route,
                service,
                through,
                accepted_values,
                account.password,
                account.enabled,
                account.keys > 0,
            ),
            *(expired(account, self.snapshot, self._today), self._alike(who, service, entry_point.route)),
        )
        text = admitted(account, entry_point, self.snapshot)
        if self._expected.get(alike, Credential.UNKNOWN) is text is not Credential.UNKNOWN:
            return None
        decided = self._decided(account, who, entry_point, service, Known.of(through), accepted_values)
        self._expected[alike] = admitted(
            account, evolve(entry_point, admissions={account.name: decided}), self.snapshot
        )
        return decided if self._expected[alike] is not text else None

    def _shell_lets_through(self, account: Account, own: EntryPoint) -> bool:
        """Return whether the remote shell server's lists admit an account.

        Where it has several lists, there is an entry point for each, and the server's answer counts at the matching
        one."""
        asked = self._shell.admits(account)
        if asked is None:
            return own.admits(account)
        mine = next(
            (entry_point for entry_point in self._shell_entry_points if entry_point.admits(account)),
            self._shell_entry_points[0],
        )
        return asked and own == mine

    def _alike(self, who: PamUser, service: str, route: Route) -> object:
        """Return a key of all that the stacks of a service can distinguish about an account."""
        if not self._asks_pam(service):
            return who.password
        attempt = self._attempt(who, service, route)
        classes = tuple(self._class(facility, attempt) for facility in (AUTH, ACCOUNT))
        return classes if self._pam is None else (*classes, self._alike_to_pam(attempt).key)

    def _decided(
        self,
        account: Account,
        who: PamUser,
        entry_point: EntryPoint,
        service: str,
        through: Known,
        accepted_values: ServerAcceptance,
    ) -> Admission:
        pam = self._comes_to(account, who, service, entry_point.route)
        password, key = through & accepted_values.password & pam.password, through & accepted_values.key & pam.key
        # A blank password is good whatever is typed, where it is good at all.
        name = Known.NO if account.password is PasswordState.BLANK else through & accepted_values.password & pam.name
        message, source = (
            (accepted_values.statement, accepted_values.source) if accepted_values.statement else pam.statement
        )
        if accepted_values.both:
            password, key, name = Known.NO, through & accepted_values.key & pam.password & pam.key, Known.NO
        elif Known.YES is key and Known.YES not in (password, name) and not accepted_values.statement:
            if Known.UNKNOWN in (password, name):
                message = f"{message}; its key is good"
            else:
                message, source = f"{service}: its key is good, although no password of it is", account.source
        return Admission(password, key, name, message, source, pam.differs and not accepted_values.statement)

    def _comes_to(self, account: Account, who: PamUser, service: str, route: Route) -> "PamAnswer":
        """Return the decision of PAM. A program without PAM checks the account by itself."""
        if self._asks_pam(service):
            return self._of_pam(who, service, route)
        is_open = account.enabled and not expired(account, self.snapshot, self._today)
        has_one = who.password in (PasswordState.SET, PasswordState.BLANK)
        statement = f"{service}: it does not use PAM, and checks the account itself", account.source
        return PamAnswer(Known.of(is_open and has_one), Known.of(is_open), Known.NO, statement)

    def _of_pam(self, who: PamUser, service: str, route: Route) -> "PamAnswer":
        """Return PAM's answer, or the reading of its files where it gave none, or where it is true of this hour
        only."""
        found = self.found(who, service, route)
        read = PamAnswer(found.password, found.key, found.name, self._text(service, found))
        attempt = self._attempt(who, service, route)
        asked = self._pam.of(service, self._alike_to_pam(attempt).key) if self._pam and who.name else None
        if asked is None or any(line.module_name in OF_THIS_HOUR for line in _unclear(found)):
            return read
        # What some modules go by (a daemon, a finger, a card) is not in the copy: a no there is not one of the machine.
        no_counts = not any(line.module_name in WANT_PROOF for line in _unclear(found))
        answers = (each if no_counts or each is Known.YES else Known.UNKNOWN for each in asked.parts)
        parts = tuple(zip(answers, read[:3], strict=True))
        password, key, name = (message if message is not Known.UNKNOWN else here for message, here in parts)
        if all(message in (here, Known.UNKNOWN) for message, here in parts):
            return read
        differs = read.password not in (Known.UNKNOWN, password)
        return PamAnswer(password, key, name, self._differently(attempt, read, password), differs)

    def _differently(self, attempt: Attempt, read: "PamAnswer", password: Known) -> tuple[str, Source | None]:
        """Return what to report where PAM itself answers differently from its files, or where these do not tell."""
        line = self._line_that_refuses(attempt) if password is Known.NO else None
        decides = f" by {line.module_name}" if line is not None else ""
        answers = {Known.YES: "allows sign-in", Known.NO: "denies sign-in", Known.UNKNOWN: "may allow sign-in"}
        message = f"{attempt.service}: PAM, asked itself, {answers[password]}{decides}"
        if read.password not in (Known.UNKNOWN, password):
            message += f", although its files read as if it {'allowed' if password is Known.NO else 'denied'} it"
        return message, line.source if line is not None else read.statement[1]

    def _line_that_refuses(self, attempt: Attempt) -> PamLine | None:
        """Return the line without which PAM would admit an account, found by asking."""
        assert self._pam is not None
        self._lines_sought += 1
        if self._lines_sought > MOST_LINES_SOUGHT:
            return None
        lines = [line for facility in (AUTH, ACCOUNT) for line in self._stack(attempt.service, facility).lines]
        return self._pam.line_that_refuses(attempt, lines)

    def _asks_pam(self, service: str) -> bool:
        """Return whether the service asks PAM about passwords: shared folders have passwords of their own."""
        if service not in self._asking:
            asks = self._has_pam and service not in WITH_PASSWORDS_OF_THEIR_OWN
            self._asking[service] = asks and (service != "sshd" or sshd_asks_pam(self.root))
        return self._asking[service]

    def found(self, who: PamUser, service: str, route: Route) -> StackVerdicts:
        """Return the verdicts of a service about an account on a route."""
        attempt = self._attempt(who, service, route)
        wrong, keyed = evolve(attempt, proof=Proof.WRONG), evolve(attempt, proof=Proof.KEY)
        verdicts = ((AUTH, attempt), (AUTH, wrong), (ACCOUNT, attempt), (ACCOUNT, keyed))
        return StackVerdicts(*(self._verdict(facility, each) for facility, each in verdicts))

    @staticmethod
    def _attempt(who: PamUser, service: str, route: Route) -> Attempt:
        if route is Route.CONSOLE:
            return Attempt(service, who, CONSOLE if service == "login" else DISPLAY)
        return Attempt(service, who, TERMINAL_OF_A_REMOTE_SHELL if route is Route.REMOTE_SHELL else "", REMOTE)

    def _class(self, facility: str, attempt: Attempt) -> object:
        """Return a key of an attempt: the state of the account, and the answers of modules that depend on more."""
        who = attempt.user
        named = self._named(attempt.service, facility)
        answers = tuple(self._modules.answers(facility, line, attempt, False) for line in named)
        shell = who.shell if named else ""
        return attempt.terminal, who.state, shell, answers

    def _named(self, service: str, facility: str) -> tuple[PamLine, ...]:
        key = service, facility
        if key not in self._by_name:
            lines = self._stack(service, facility).lines
            self._by_name[key] = tuple(line for line in lines if line.module_name in BY_NAME | {"pam_shells.so"})
        return self._by_name[key]

    def _verdict(self, facility: str, attempt: Attempt) -> Verdict:
        """Return the verdict of a stack, computed once for all accounts that it cannot distinguish."""
        key = facility, attempt.service, attempt.host, attempt.proof, self._class(facility, attempt)
        if key not in self._known:
            self._known[key] = self._modules.verdict(facility, self._stack(attempt.service, facility), attempt)
        return self._known[key]

    def _stack(self, service: str, facility: str) -> Stack:
        if (service, facility) not in self._stacks:
            self._stacks[service, facility] = load_stack(self.root, service, facility)
        return self._stacks[service, facility]

    def _text(self, service: str, found: StackVerdicts) -> tuple[str, Source | None]:
        """Return the deciding line in words, and its source."""
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
            return f"{service}: decided by its PAM stack", None
        return f"{service}: decided by {line.module_name or line.fault}", line.source

    @staticmethod
    def _deciding(found: StackVerdicts) -> PamLine | None:
        """Return the line at which a stack ended, of the half that denies where one does."""
        halves = [found.right, found.account] if found.wrong.answer is not Known.YES else [found.wrong, found.account]
        against = next((each for each in halves if each.answer is Known.NO), halves[0])
        return against.decided_by


class PamAnswer(NamedTuple):
    """Decision about an account with its password, with a key, and with nothing; and by which line."""

    password: Known
    key: Known
    name: Known
    statement: tuple[str, Source | None]
    differs: bool = False


def _unclear(found: StackVerdicts) -> list[PamLine]:
    return [line for each in found for line in each.unclear]


OF_THIS_HOUR = frozenset(("pam_time.so",))
"""Modules whose answer is true of this hour only."""
MOST_LINES_SOUGHT = 8
"""Most differences for which the deciding line is searched: each takes one question a line."""
SIGN_IN_SCREENS = frozenset(UNASKED_SERVICES)
MAY_NOT_LOOK = frozenset(("lxdm", "slim"))
"""Sign-in screens of which it is not known whether they ask PAM about an account that they sign in by themselves."""
CONSOLE_TAKES = ServerAcceptance(Known.YES, Known.NO)
"""A console accepts what PAM accepts, and no keys."""


def _state(account: Account, who: PamUser | None, snapshot: Snapshot, today: date) -> object:
    """Return all that decides about an account besides its name and groups; None for one that PAM does not find.

    Of its days only what follows from them today: else hardly two accounts of a large system would be alike."""
    if who is None:
        return None
    days = expired(account, snapshot, today), must_change(account, snapshot, today), account.cannot_change
    own = account.enabled, account.may_sign_in, account.password, account.keys > 0, account.identity == "0"
    return who.state, own, days, account.shell, account.linked_identity, account.builtin


def somebodies(
    files: AccountFiles, accounts: Sequence[Account], shared: Mapping[str, tuple[str, ...]], today: date
) -> dict[str, PamUser]:
    """Return the accounts of the files as PAM sees them, by name. ``shared``: see :func:`twins`."""
    days = (today - EPOCH).days
    by_name = {account.name: account for account in reversed(accounts)}
    found = {}
    for record in reversed(files.passwd.records()):
        shadow = files.shadow.find(record.name) if files.shadow else None
        found[record.name] = _somebody(record, shadow, by_name[AccountName(record.name)], shared, days)
    return found


def _somebody(
    record: AccountLine, shadow: AccountLine | None, account: Account, shared: Mapping[str, tuple[str, ...]], today: int
) -> PamUser:
    _, hashed, uid, gid, _, home, shell = record.fields
    groups: tuple[str, ...] = account.groups
    if shared:
        groups = tuple(dict.fromkeys(each for group in groups for each in (group, *shared.get(group, ()))))
    shadowed = is_shadowed(record)
    if shadowed:
        hashed = shadow.fields[ShadowField.PASSWORD] if shadow else "*"
    state = account.password
    if hashed.startswith("!") or state is PasswordState.UNKNOWN:
        state = PasswordState.NONE
    if not shadowed or shadow is None:
        return PamUser(record.name, int(uid), int(gid), groups, shell, home, state, lacks_shadow_line=shadowed)
    ended, out, due = _by_age(shadow.fields[ShadowField.CHANGED : ShadowField.FLAG], today)
    return PamUser(record.name, int(uid), int(gid), groups, shell, home, state, ended, out, due)


@lru_cache(maxsize=16384)
def _by_age(fields: tuple[str, ...], today: int) -> tuple[bool, bool, bool]:
    """Return whether an account has ended, its days of grace are over, and its password has to be changed."""
    changed, _, longest, _, grace, end = map(number, fields)
    age = today - (-1 if changed is None else changed)
    aged = changed != 0 and age >= 0 and longest is not None and longest >= 0 and age > longest
    out = aged and grace is not None and grace >= 0 and longest is not None and age > grace and age > longest + grace
    return end is not None and 0 <= end <= today, out, aged or changed == 0
