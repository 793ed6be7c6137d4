"""What the declaration of a rule holds. Everything else about a rule follows from it."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from enum import StrEnum

from attrs import field, frozen

from verrou.core.model import Effect, Reading, RuleId, Snapshot, Unread, joined
from verrou.core.plan.gaps import Gap
from verrou.core.values import Kind, Value


class Severity(StrEnum):
    """How much it matters when a rule is not met."""

    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"

    @property
    def weight(self) -> int:
        """For sorting: the most severe first."""
        return list(Severity).index(self)


APART = "apart"


@frozen(eq=False, repr=False)
class Agreement:
    """This rule must stand in ``relation`` to the rule ``other``: ``>``, ``>=`` and ``<`` on a scale that both have,
    ``apart`` where both are lists that may have nothing in common."""

    relation: str
    other: str

    @property
    def pulls(self) -> bool:
        """Whether a machine may bring one of the two along when the other is set."""
        return self.relation != APART

    def holds(self, rule: "Rule", mine: Value, other: "Rule", theirs: Value) -> bool:
        """Whether two values agree."""
        if self.relation == APART:
            return not (isinstance(mine, frozenset) and isinstance(theirs, frozenset) and mine & theirs)
        here, there = rule.kind.amount(mine), other.kind.amount(theirs)
        return {">": here > there, ">=": here >= there, "<": here < there}[self.relation]

    @property
    def words(self) -> str:
        """Words that stand between the two rules."""
        return {
            ">": "must be longer than",
            ">=": "must not be shorter than",
            "<": "must be shorter than",
            APART: "must not list anyone who is also in",
        }[self.relation]


WHEN = {
    Effect.NOW: "at once",
    Effect.NEXT_PASSWORD: "at the next password change",
    Effect.NEXT_SIGN_IN: "at the next sign-in",
    Effect.RELOAD: "when the service behind it reads its settings again",
    Effect.RESTART: "after a restart",
}
"""When something counts, for a sentence."""

Sentences = str | Mapping[Value | None, str]
"""A sentence with ``{}`` for a value, or one for each value that needs its own; None stands for all others."""


def sentence(sentences: Sentences, kind: Kind, value: Value) -> str:
    """What is said of a value."""
    if isinstance(sentences, str):
        return sentences.format(kind.say(value))
    return sentences.get(value, sentences.get(None, "{}")).format(kind.say(value))


def _rule_id(text: str) -> RuleId:
    return RuleId(text)


GapsOf = Callable[[Snapshot, Value, frozenset[str]], Iterator[Gap]]
"""From a machine, the required value and the accounts that the baseline lists: who does not meet it, and what closes
that."""


@frozen(eq=False, repr=False)
class DerivedFromAccounts:
    """How a rule is read off the accounts that a machine keeps. ``compares``: there is a reading only beside a
    baseline, so that the gaps alone decide. ``needs`` is what has to be known of the accounts; ``by`` is the command
    that changes them."""

    read: Callable[[Snapshot], Reading]
    by: str
    compares: bool = False
    needs: tuple[Unread, ...] = (Unread.PASSWORDS,)


@frozen(eq=False, repr=False)
class Rule:
    """One rule of the catalogue.

    ``says`` states a value in a sentence; ``says_who`` states the accounts that do not meet it, with ``{who}``,
    ``{are}``, ``{have}`` and ``{s}`` for a verb; ``asks`` is what a plain wanted value asks for, where "asked for:" and
    the value do not say it. ``controls`` are NIST SP 800-53 Rev. 5 controls that it serves. ``derived``: no machine
    keeps the rule as such, it is read off the accounts. ``gaps``: which accounts do not meet it, and how each gap is
    closed, beside what setting the rule does. ``set_with`` names rules that a machine may change by itself when this
    one is set."""

    id: RuleId = field(converter=_rule_id)
    title: str
    says: Sentences
    kind: Kind
    severity: Severity
    why_severe: str
    takes_effect: Effect
    protects: str
    costs: str
    asks: Sentences = ""
    says_who: str = ""
    controls: tuple[str, ...] = ()
    agreements: tuple[Agreement, ...] = ()
    set_with: tuple[str, ...] = ()
    derived: DerivedFromAccounts | None = None
    gaps: GapsOf | None = None

    def counts_on(self, snapshot: Snapshot) -> Effect:
        """When a change of it holds on a machine."""
        takes = snapshot.takes.get(self.id)
        return takes.effect if takes is not None and takes.effect is not None else self.takes_effect

    def say(self, value: Value) -> str:
        """What a value comes to, in a sentence."""
        return sentence(self.says, self.kind, value)

    def say_who(self, names: Sequence[str]) -> str:
        """What these accounts do not meet, in a sentence; nothing where the rule has no such words."""
        one = len(names) == 1
        words = {"are": "is" if one else "are", "have": "has" if one else "have", "s": "s" if one else ""}
        return self.says_who.format(who=joined(names), **words) if names else ""

    @property
    def family(self) -> str:
        """The part before the dot, which is also the table of the baseline file."""
        return self.id.partition(".")[0]

    @property
    def key(self) -> str:
        """The part after the dot, which is also the key in the baseline file."""
        return self.id.partition(".")[2]
