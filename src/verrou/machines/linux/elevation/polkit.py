"""polkit: implicit authorizations of its actions, and the rules that override them.

Rules are programs (polkit(8)). Plain ones are read (:mod:`~.polkit_rules`); with any other, only polkit itself can
answer, in a private copy (:func:`ask`), and the answer is not known where it cannot be asked."""

import json
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from xml.etree import ElementTree

from attrs import evolve, field, frozen

from verrou.core.errors import VerrouError
from verrou.core.model import Source
from verrou.log import Log
from verrou.machines.linux.copy.requests import AskPolkit, Person
from verrou.machines.linux.elevation.polkit_actions import EXEC
from verrou.machines.linux.elevation.polkit_rules import NotPlain, Rule, plain_rules
from verrou.machines.linux.root import Root
from verrou.machines.protocol import DryRunUnavailable, TooSlow

LOG = Log(__name__)

ACTIONS = "/usr/share/polkit-1/actions"
RULES = (
    *("/etc/polkit-1/rules.d", "/run/polkit-1/rules.d"),
    *("/usr/local/share/polkit-1/rules.d", "/usr/share/polkit-1/rules.d"),
)
OURS = "/etc/polkit-1/rules.d/10-verrou.rules"
"""Read before every other rule that is numbered as usual: the first rule that answers decides."""
DAEMONS = ("/usr/lib/polkit-1/polkitd", "/usr/libexec/polkitd")
BUS = "/usr/bin/dbus-daemon"
LARGEST = 1_000_000
IMPLY = "org.freedesktop.policykit.imply"
YES, NO, ADMINISTRATOR = "yes", "no", "auth_admin"
"""Answers as in the files of actions; ``auth_admin`` asks for an administrator's password."""
NOT_ANSWERED = ""
"""Stands for an answer that polkit did not give."""


@frozen(repr=False)
class ImplicitAuthorization:
    """Authorization that an action declares for a user at the machine."""

    answer: str
    source: Source


@frozen(repr=False)
class Ours:
    """Verrou's own rules.

    ``grants``: by right, who gets yes; everyone else gives an administrator's password. ``limits``: by limit, the
    actions denied to all that are ``covered``, never to administrators. ``refused``: by rule, the actions denied to
    everyone who is no administrator."""

    grants: Mapping[str, tuple[str, ...]] = field(factory=dict)
    limits: tuple[str, ...] = ()
    covered: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()


def installed(root: Root) -> bool:
    """Return whether polkit is installed."""
    return any(root.exists(daemon) for daemon in DAEMONS)


def defaults(root: Root, required: Sequence[str]) -> Mapping[str, ImplicitAuthorization]:
    """Return the authorizations that some actions declare for a user at the machine (``allow_active``)."""
    found: dict[str, ImplicitAuthorization] = {}
    for file, action in _actions(root, required):
        called, answer = action.get("id", ""), action.findtext("defaults/allow_active")
        if called in required and answer:
            message = answer.strip()
            found.setdefault(called, ImplicitAuthorization(message, Source(file, text=f"{called}: {message}")))
    return found


def elevating(root: Root) -> Mapping[str, ImplicitAuthorization]:
    """Return the actions that an administrator's password opens by default, at the machine or, where that is
    denied, elsewhere.

    Each is a way to become root, or to have something done as root; pkexec(1)'s where it is installed."""
    found: dict[str, ImplicitAuthorization] = {}
    there = root.exists(PKEXEC)
    for file, action in _actions(root, [ADMINISTRATOR]):
        answers = [(action.findtext(f"defaults/{where}") or "").strip() for where in ALLOWED]
        message = next((each for each in answers if each not in ("", NO)), "")
        message = message if message.startswith(ADMINISTRATOR) else ""
        if message and (called := action.get("id", "")) and (there or called != EXEC):
            found.setdefault(called, ImplicitAuthorization(answers[0] or NO, Source(file, text=f"{called}: {message}")))
    return found


PKEXEC = "/usr/bin/pkexec"
ROOT_ITSELF = (EXEC, "org.freedesktop.systemd1.manage-units", "org.freedesktop.systemd1.manage-unit-files")
"""Actions that give root itself."""
ALLOWED = ("allow_active", "allow_inactive", "allow_any")
"""Authorizations of an action: for the active session at the machine, an inactive one there, and any other."""


def with_implying(root: Root, required: Sequence[str]) -> tuple[str, ...]:
    """Return some actions and all that imply one of them: polkit(8) allows an action where it allows one that implies
    it."""
    whole = dict.fromkeys(required)
    while True:
        more = [
            action.get("id", "")
            for _, action in _actions(root, list(whole))
            for note in action.iter("annotate")
            if note.get("key") == IMPLY and set((note.text or "").split()) & whole.keys()
        ]
        if not set(more) - whole.keys():
            return tuple(whole)
        whole |= dict.fromkeys(more)


def _actions(root: Root, required: Sequence[str]) -> Iterator[tuple[str, ElementTree.Element]]:
    """Yield the actions declared in the files that mention one of some."""
    for name in root.files_in(ACTIONS):
        file = f"{ACTIONS}/{name}"
        content = root.content(file, LARGEST) if name.endswith(".policy") else b""
        if not content or b"<!ENTITY" in content or not any(action.encode() in content for action in required):
            continue
        yield from ((file, action) for action in _declared(content, file))


@lru_cache(maxsize=100)
def _declared(content: bytes, file: str) -> Sequence[ElementTree.Element]:
    try:
        return tuple(ElementTree.fromstring(content).iter("action"))
    except (ElementTree.ParseError, ValueError, LookupError) as error:
        LOG.info("%s: skipped: %s", file, error)
        return ()


def rules_of(root: Root) -> tuple[list[Rule], list[str]]:
    """Return all rules in polkit's order, and the files of which only polkit knows the result."""
    rules: list[Rule] = []
    strange = []
    for file in rule_files(root):
        try:
            rules += plain_rules(root.text(file) or "")
        except NotPlain:
            strange.append(file)
    return rules, strange


def implied_by(root: Root) -> Mapping[str, tuple[str, ...]]:
    """Return by action those that imply it: polkit(8) allows an action where it allows one of these."""
    found: dict[str, tuple[str, ...]] = {}
    for _, action in _actions(root, [IMPLY]):
        for note in action.iter("annotate"):
            for implied in (note.text or "").split() if note.get("key") == IMPLY else ():
                found[implied] = (*found.get(implied, ()), action.get("id", ""))
    return found


def rule_files(root: Root) -> list[str]:
    """Return the rule files in polkit's order: by name, and of one name the first folder's."""
    found: dict[str, str] = {}
    for folder in RULES:
        for name in root.files_in(folder):
            if name.endswith(".rules"):
                found.setdefault(name, f"{folder}/{name}")
    return [found[name] for name in sorted(found)]


HEADING = "// Rights at the machine. Written by Verrou: change it with verrou rule set, not manually.\n"
STATE = "// "
EVERYONE, GROUP = "everyone", "group:"
FORMER_HEADING = "// Who may do what at the machine. Written by Verrou; verrou rule set changes it, and not a person."
FORMER_EVERYBODY = "everybody"
"""What version 0.1 wrote as heading and for everyone."""
FORMER_LIMITS = {"stick": "removable"}
"""Limits by the names that version 0.1 wrote."""
_RULE = """\
polkit.addRule(function(action, subject) {{
    if ([{actions}].indexOf(action.id) >= 0{also}) {{
        return {answer};
    }}
}});
"""


def rendered(ours: Ours, actions: Mapping[str, Sequence[str]], administering: Sequence[str]) -> str:
    """Return our own rules as a program.

    ``actions`` are those of each right and limit, ``administering`` the groups whose members no limit covers."""
    state = {
        "grants": {name: list(who) for name, who in sorted(ours.grants.items())},
        "limits": sorted(ours.limits),
        "covered": list(ours.covered),
        "refused": sorted(ours.refused),
        "administering": list(administering),
        "actions": {name: list(actions[name]) for name in sorted({*ours.grants, *ours.limits, *ours.refused})},
    }
    parts = [HEADING, f"{STATE}{json.dumps(state)}\n"]
    left_out = "".join(f" && !{_is(f'{GROUP}{group}')}" for group in administering)
    for name in sorted(ours.limits):
        also = f" && ({_any(ours.covered)}){left_out}"
        parts.append(_RULE.format(actions=_quoted(actions[name]), also=also, answer="polkit.Result.NO"))
    for name, who in sorted(ours.grants.items()):
        also = f" && ({_any(who)})"
        parts.append(_RULE.format(actions=_quoted(actions[name]), also=also, answer="polkit.Result.YES"))
    for name in sorted(ours.refused):
        parts.append(_RULE.format(actions=_quoted(actions[name]), also=left_out, answer="polkit.Result.NO"))
    for name in sorted(ours.grants):
        parts.append(_RULE.format(actions=_quoted(actions[name]), also="", answer="polkit.Result.AUTH_ADMIN"))
    return "".join(parts)


def _quoted(names: Sequence[str]) -> str:
    return ", ".join(json.dumps(name) for name in names)


def _any(who: Sequence[str]) -> str:
    return " || ".join(map(_is, who)) or "false"


def _is(name: str) -> str:
    if name == EVERYONE:
        return "true"
    if name.startswith(GROUP):
        return f"subject.isInGroup({json.dumps(name.removeprefix(GROUP))})"
    return f"subject.user == {json.dumps(name)}"


def parsed(text: str) -> Ours | None:
    """Return our own rules from a program; None for any program but the one that we would write."""
    lines = text.split("\n")
    if len(lines) > 1:
        lines[0] = lines[0].replace(FORMER_HEADING, HEADING.strip())
        lines[1] = lines[1].replace(f'"{FORMER_EVERYBODY}"', f'"{EVERYONE}"')
        text = "\n".join(lines)
    try:
        state = json.loads(lines[1].removeprefix(STATE)) if len(lines) > 1 else {}
        grants = {str(name): tuple(map(str, who)) for name, who in state["grants"].items()}
        lists = (tuple(map(str, state[key])) for key in ("limits", "covered", "refused"))
        ours = Ours(grants, *lists)
        actions = {str(name): list(map(str, listed)) for name, listed in state["actions"].items()}
        if rendered(ours, actions, tuple(map(str, state["administering"]))) != text:
            return None
        # Only now: the order of the rules in the text is that of the names in it.
        return evolve(ours, limits=tuple(sorted(FORMER_LIMITS.get(name, name) for name in ours.limits)))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None


def daemon(root: Root) -> str:
    """Return the path of its program; empty where it or its bus is missing."""
    there = next((each for each in DAEMONS if root.exists(each)), "")
    return there if root.exists(BUS) else ""


Answers = Mapping[str, Mapping[str, str]]
"""By account and action, what polkit answers to who sits at the machine."""
SOMEBODY = Person("", 65534, 65534)
"""Stands for a user whom no rule is about: the ID of nobody."""
MOST_ASKED = 24
_ASKED: dict[object, Answers | DryRunUnavailable] = {}
_LATE: dict[object, TooSlow] = {}
"""By the texts of rules, that they kept polkit thinking: it is not waited for again."""


def ask(root: Root, people: Sequence[tuple[str, int, int]], actions: Sequence[str]) -> Answers:
    """Ask polkit itself, in a private copy of the system; equal questions about the same rules are asked once.

    Raises: DryRunUnavailable: it could not be asked, or did not answer everything."""
    program = daemon(root)
    if root.asker is None or not program:
        raise DryRunUnavailable("it was not asked" if program else "it, or its bus, is missing")
    asked = (SOMEBODY, *(Person(*each) for each in people[:MOST_ASKED]))
    texts = tuple((file, root.text(file)) for file in rule_files(root))
    groups = root.text("/etc/group")
    key = (str(root.path) if root.live else "", texts, groups, asked, tuple(actions), tuple(root.names_in(ACTIONS)))
    if texts in _LATE:
        raise _LATE[texts]
    if key not in _ASKED:
        try:
            answers = root.ask(AskPolkit(asked, list(actions), program))
            if not {answer for of_one in answers.values() for answer in of_one.values()} <= {YES, NO, ADMINISTRATOR}:
                raise DryRunUnavailable("polkit did not answer all that it was asked")
            _ASKED[key] = answers
        except TooSlow as reason:
            _LATE[texts] = _ASKED[key] = reason
        except (DryRunUnavailable, VerrouError) as reason:
            _ASKED[key] = DryRunUnavailable(str(reason))
    known = _ASKED[key]
    if isinstance(known, DryRunUnavailable):
        raise known
    return known
