"""Rights at the machine and limits of shared use, by polkit: implicit authorizations and Verrou's own rules."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress

from attrs import evolve, frozen

from verrou.core.model import Account, Origin, Reading, Source, absent, name_list, program_default, unreadable
from verrou.core.values import EVERYONE, GROUP, AcceptedValues, Value
from verrou.log import Log
from verrou.machines.linux.elevation import polkit
from verrou.machines.linux.elevation.polkit import Ours
from verrou.machines.linux.elevation.polkit_actions import ACTIONS, CLOSED, DRIVES, RIGHTS, SETTINGS, STANDARD
from verrou.machines.linux.elevation.polkit_rules import Subject, answer
from verrou.machines.linux.packages import to_install
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, at_once
from verrou.machines.linux.rules.keyboard import keys_left
from verrou.machines.linux.rules.named import administering_groups, checked_names
from verrou.machines.protocol import DryRunUnavailable

LOG = Log(__name__)


def ours(root: Root) -> Ours | None:
    """Return Verrou's own rules; None where another program changed their file."""
    text = root.text(polkit.OURS)
    return Ours() if text is None else polkit.parsed(text)


def _our_source(rule_id: str) -> Source:
    return Source(polkit.OURS, text=rule_id)


@frozen(repr=False)
class PolkitAnswers:
    """Answers of polkit about the actions of a rule.

    They are the implicit authorizations, and polkit's own answer for each person and for a user whom no rule is
    about (``""``); None where only polkit could tell and it could not be asked, with ``why``. ``but`` says who was
    left out."""

    declared: Mapping[str, polkit.ImplicitAuthorization]
    answers: polkit.Answers | None
    source: Source | None
    but: str = ""
    why: str = ""

    def values_for(self, name: str) -> set[str]:
        """Return the answers to an account for any of the actions."""
        return set((self.answers or {}).get(name, {}).values())

    @property
    def people(self) -> list[str]:
        return [name for name in self.answers or {} if name]


def asked(system: System, actions: Sequence[str]) -> PolkitAnswers:
    """Ask polkit, where a rule could decide that only polkit can read; without polkit the declared answers apply."""
    root = system.root
    declared = system.polkit_declared
    mine = {action: declared[action] for action in actions if action in declared}
    _, strange = system.polkit_rules
    people = [a for a in system.accounts if a.origin is Origin.ADDED and a.may_sign_in and a.identity != "0"]
    if not strange:
        sitting = [Subject(""), *(Subject(str(each.name), each.groups) for each in people)]
        return PolkitAnswers(
            mine, {who.user: {action: _read(system, action, who) for action in mine} for who in sitting}, None
        )
    numbers = [(str(account.name), int(account.identity), _main_group(system, account)) for account in people]
    try:
        answers = polkit.ask(root, numbers, sorted(declared)) if declared else {}
    except DryRunUnavailable as reason:
        LOG.info("polkit did not answer: %s", reason)
        return PolkitAnswers(mine, None, Source(strange[0]), why=str(reason))
    answers = {name: {a: text[a] for a in mine if a in text} for name, text in answers.items()}
    but = f"the first {polkit.MOST_ASKED} of {len(numbers)} people were asked about"
    # Where polkit answered, the source is polkit: it does not tell which of its rules decided.
    program = Source("polkit", text=f"asked about {name_list(list(mine), 2)}")
    return PolkitAnswers(mine, answers, program, but if len(numbers) > polkit.MOST_ASKED else "")


def asked_of_anybody(system: System, actions: Sequence[str]) -> Mapping[str, str] | None:
    """Return the answers to a user whom no rule is about; None where only polkit could tell and it could not be
    asked."""
    if not system.polkit_rules[1]:
        return {action: _read(system, action, Subject("")) for action in actions}
    with suppress(DryRunUnavailable):
        answers = polkit.ask(system.root, (), actions)[""]
        return None if set(actions) - answers.keys() else answers
    return None


def asked_of_screen(system: System, name: str, groups: Sequence[str], actions: Sequence[str]) -> set[str] | None:
    """Return the answers to a sign-in screen's account; None where plain rules do not tell."""
    if system.polkit_rules[1]:
        return None
    return {_read(system, action, Subject(name, groups)) for action in actions if action in system.polkit_declared}


POWER_OFF = RIGHTS["rights.shut_down"][:1]
FREE, YES = ("yes", "auth_self"), polkit.YES


def _read(system: System, action: str, who: Subject, passed: tuple[str, ...] = ()) -> str:
    """Return the result of plain rules, or of the action itself, for a user at the machine; one's own password is a
    yes."""
    message = answer(system.polkit_rules[0], action, who)
    if message is None:
        known = system.polkit_declared.get(action) or system.polkit_elevating.get(action)
        known = known or polkit.defaults(system.root, [action]).get(action)
        message = known.answer if known is not None else polkit.NO
    if message.startswith(FREE):
        return YES
    implying = [each for each in system.polkit_implied.get(action, ()) if each not in passed]
    if any(_read(system, each, who, (*passed, action)) == YES for each in implying):
        return YES
    return polkit.ADMINISTRATOR if message.startswith(polkit.ADMINISTRATOR) else message


def _main_group(system: System, account: Account) -> int:
    record = system.files.passwd.find(account.name)
    return int(record.fields[3]) if record is not None and record.fields[3].isdigit() else 65534


def cannot_tell(found: PolkitAnswers) -> Reading:
    """Return the reading for rules that only polkit can answer, with the implicit authorizations."""
    message = "; ".join(
        f"{action} is by default {default.answer}" for action, default in list(found.declared.items())[:2]
    )
    return unreadable(
        f"it is a program: only polkit knows what it decides; {found.why}" + (f" ({message})" if message else ""),
        source=found.source,
    )


def _known(read: Callable[[System, Ours], Reading]) -> Callable[[System], Reading]:
    def whole(system: System) -> Reading:
        root = system.root
        if not polkit.installed(root):
            return absent("polkit, which would enforce it, is not installed")
        mine = ours(root)
        if mine is None:
            return unreadable("another program wrote to it. Remove it first", source=Source(polkit.OURS))
        return read(system, mine)

    return whole


def _with_the_keys(system: System, reading: Reading) -> Reading:
    limited = isinstance(reading.value, frozenset) and EVERYONE not in reading.value
    keys = keys_left(system.root) if limited else ""
    return evolve(reading, reason="; ".join(filter(None, (reading.reason, keys))))


def _read_right(rule_id: str) -> Callable[[System], Reading]:
    def read(system: System, mine: Ours) -> Reading:
        found = asked(system, RIGHTS[rule_id])
        if not found.declared:
            nothing = program_default("no program is installed that asks for this right; only root can")
            names = frozenset(mine.grants.get(rule_id, ()))
            return Reading(names, source=_our_source(rule_id) if names else nothing)
        if found.answers is None:
            return cannot_tell(found)
        may = {name for name in found.people if YES in found.values_for(name)}
        required = mine.grants.get(rule_id)
        if required is not None and may == _within(required, system, found.people):
            return Reading(frozenset(required), source=_our_source(rule_id), reason=found.but)
        source = found.source or next(iter(found.declared.values())).source
        if YES in found.values_for("") and may == set(found.people):
            message = "; ".join(filter(None, ("anyone at the machine can", found.but)))
            return Reading(frozenset({EVERYONE}), source=source, reason=message)
        message = found.but if may else "anyone at the machine needs an administrator's password, or is denied"
        over = (_our_source(rule_id),) if required is not None else ()
        return Reading(frozenset(may), source=source, reason=message, overrides=over)

    known = _known(read)

    def whole(system: System) -> Reading:
        if not polkit.installed(system.root):
            found = Reading(frozenset(), source=program_default("without polkit, only root can"))
        else:
            found = known(system)
        return _with_the_keys(system, found) if rule_id == "rights.shut_down" else found

    return whole


def _within(names: Sequence[str], system: System, people: Sequence[str]) -> set[str]:
    """Return those of some people who are in a list of accounts and groups."""
    groups = {str(account.name): account.groups for account in system.accounts}
    return {
        name
        for name in people
        if EVERYONE in names or name in names or any(f"{GROUP}{group}" in names for group in groups.get(name, ()))
    }


def write_ours(change: Callable[[Root, Ours, Value], Ours]) -> Callable[[Root, Value], str]:
    """Change our own rules. Administrators by sudo are excepted from every limit."""

    def write(root: Root, value: Value) -> str:
        mine = ours(root)
        if mine is None:
            raise StepRejected(f"another program wrote to {polkit.OURS}. Remove it first")
        administering = sorted(administering_groups(root))
        actions = {name: polkit.with_implying(root, listed) for name, listed in ACTIONS.items()}
        actions[STANDARD] = tuple(dict.fromkeys((*actions[STANDARD], *sorted(polkit.elevating(root)))))
        root.write(polkit.OURS, polkit.rendered(change(root, mine, value), actions, administering))
        return f"written to {polkit.OURS}"

    return write


def named_otherwise(root: Root, name: str, new_name: str) -> None:
    """Rename someone in our own rules, or remove the name where the new one is empty."""
    mine = ours(root)
    if root.text(polkit.OURS) is None or mine is None:
        return

    def changed(who: Sequence[str]) -> tuple[str, ...]:
        return tuple(filter(None, (new_name if each == name else each for each in who)))

    after = evolve(
        mine, grants={right: changed(who) for right, who in mine.grants.items()}, covered=changed(mine.covered)
    )
    if after != mine:
        write_ours(lambda *_: after)(root, True)


def _granted(rule_id: str) -> Callable[[Root, Ours, Value], Ours]:
    return lambda root, mine, value: evolve(mine, grants={**mine.grants, rule_id: checked_names(root, value)})


def _is_refused(system: System, mine: Ours, actions: Sequence[str]) -> bool | None:
    """Return whether those covered by our rules are denied all of a limit's actions; None where it is not known."""
    found = asked(system, actions)
    if found.answers is None:
        return None
    meant = _covered_people(system, mine, found.people)
    return all(found.values_for(name) <= {polkit.NO} for name in meant)


def _covered_people(system: System, mine: Ours, people: Sequence[str]) -> set[str]:
    return _within(mine.covered, system, people) - {str(account.name) for account in system.administrators}


def _read_drives(system: System, mine: Ours) -> Reading:
    if not {action for actions in DRIVES.values() for action in actions} & system.polkit_declared.keys():
        return absent("udisks2 is not installed: only root can mount a drive", "install the package udisks2")
    hidden = set()
    for name, actions in DRIVES.items():
        if name in mine.limits:
            refused = _is_refused(system, mine, actions)
            if refused is None:
                return cannot_tell(asked(system, actions))
            hidden |= {name} if refused else set()
    if not hidden:
        return Reading(frozenset[str](), source=program_default("a user at the machine can mount removable drives"))
    value = frozenset({"all"} if len(hidden) == len(DRIVES) else hidden)
    return evolve(_where_it_covers(mine), value=value, source=_our_source("drives"))


def _where_it_covers(mine: Ours) -> Reading:
    """Return the reading of a limit: one that covers no one is configured and not enforced."""
    if mine.covered:
        return Reading()
    return Reading(enforced=False, reason="it applies to no one: sharing.applies_to lists no account and no group")


def _hide_drives(root: Root, mine: Ours, value: Value) -> Ours:
    assert isinstance(value, frozenset)
    hidden = set(DRIVES) if "all" in value else set(value)
    return evolve(mine, limits=tuple(sorted({*hidden, *(set(mine.limits) - DRIVES.keys())})))


def _read_settings(system: System, mine: Ours) -> Reading:
    if CLOSED not in mine.limits:
        return Reading(False, source=program_default())
    refused = _is_refused(system, mine, SETTINGS)
    if refused is None:
        return cannot_tell(asked(system, SETTINGS))
    return evolve(_where_it_covers(mine), value=refused, source=_our_source(CLOSED))


def _close_settings(root: Root, mine: Ours, value: Value) -> Ours:
    return evolve(mine, limits=tuple(sorted({*(set(mine.limits) - {CLOSED}), *({CLOSED} if value else set())})))


def _read_installer(system: System) -> Reading:
    """Return the reading of installers by polkit: one needs the right to install, or root's."""
    reading = _read_right("rights.install_software")(system)
    if reading.value is None:
        return reading
    may = {f"{GROUP}{name}" for name in system.administering} | {str(a.name) for a in system.administrators}
    within = isinstance(reading.value, frozenset) and reading.value <= may
    return evolve(reading, value="administrators" if within else "everyone")


def _put_installer(root: Root, mine: Ours, value: Value) -> Ours:
    who = (EVERYONE,) if value == "everyone" else ()
    return evolve(mine, grants={**mine.grants, "rights.install_software": who})


def _covered(_: System, mine: Ours) -> Reading:
    source = _our_source("covered") if mine.covered else program_default("no one is listed")
    return Reading(frozenset(mine.covered), source=source)


def _cannot(system: System) -> str:
    installed = polkit.installed(system.root)
    return "" if installed else f"polkit is not installed; {to_install(system.root, 'polkit')}"


_PLACE = f"rules over the answers in {polkit.ACTIONS}; written to {polkit.OURS}"
_LIMIT = f"{_PLACE}, for covered accounts that are not administrators"
ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    **{
        rule_id: LinuxRuleAdapter(
            f"polkit's answer about {actions[0]} and related actions for a user at the machine: {_PLACE}. "
            "sudo is not affected",
            _read_right(rule_id),
            write_ours(_granted(rule_id)),
            cannot=_cannot,
        )
        for rule_id, actions in RIGHTS.items()
    },
    "sharing.hidden_drives": LinuxRuleAdapter(
        f"what udisks2 mounts for a user at the machine: {_LIMIT}",
        _known(_read_drives),
        write_ours(_hide_drives),
        AcceptedValues(words=tuple(DRIVES)),
        _cannot,
        counts=at_once,
    ),
    "sharing.settings_closed": LinuxRuleAdapter(
        f"polkit's answer about the settings of the machine and of accounts: {_LIMIT}",
        _known(_read_settings),
        write_ours(_close_settings),
        cannot=_cannot,
        counts=at_once,
    ),
    "sharing.installer": LinuxRuleAdapter(
        f"the right to install: {_PLACE}. Root can always install",
        _read_installer,
        write_ours(_put_installer),
        AcceptedValues(words=("everyone", "administrators")),
        _cannot,
    ),
    "sharing.applies_to": LinuxRuleAdapter(
        f"a list in {polkit.OURS}; administrators are never covered",
        _known(_covered),
        write_ours(lambda root, mine, value: evolve(mine, covered=checked_names(root, value))),
        cannot=_cannot,
        counts=at_once,
    ),
}
