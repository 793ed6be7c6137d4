"""Declaration of a rule. Everything else about a rule follows from it."""

from collections.abc import Callable, Iterator, Mapping, Sequence

from attrs import field, frozen

from verrou.core.model import Effect, Reading, RuleId, Snapshot, Unread, joined
from verrou.core.model.verdicts import Severity
from verrou.core.steps.gaps import Gap
from verrou.core.values import Kind, Value

APART = "apart"


@frozen(eq=False, repr=False)
class Agreement:
    """Required ``relation`` of this rule to the rule ``other``: ``>``, ``>=`` or ``<`` on a common scale, ``apart``
    for lists without a common name."""

    relation: str
    other: str

    @property
    def pulls(self) -> bool:
        """Whether a machine may change one of the two when the other is set."""
        return self.relation != APART

    def holds(self, rule: "Rule", mine: Value, other: "Rule", theirs: Value) -> bool:
        """Return whether two values agree."""
        if self.relation == APART:
            return not (isinstance(mine, frozenset) and isinstance(theirs, frozenset) and mine & theirs)
        here, there = rule.kind.amount(mine), other.kind.amount(theirs)
        return {">": here > there, ">=": here >= there, "<": here < there}[self.relation]

    @property
    def words(self) -> str:
        """The words between the two rules."""
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
"""A sentence with ``{}`` for a value, or one for each value that needs its own; None is for all others."""


def sentence(sentences: Sentences, kind: Kind, value: Value) -> str:
    """Return the sentence about a value."""
    if isinstance(sentences, str):
        return sentences.format(kind.format(value))
    return sentences.get(value, sentences.get(None, "{}")).format(kind.format(value))


def _rule_id(text: str) -> RuleId:
    return RuleId(text)


GapsOf = Callable[[Snapshot, Value, frozenset[str]], Iterator[Gap]]
"""From a machine, the required value and the accounts that the baseline lists: the gaps, and the steps that close
them."""


@frozen(eq=False, repr=False)
class DerivedFromAccounts:
    """How a rule is derived from accounts.

    ``compares``: there is a reading only against a baseline, so that the gaps alone decide. ``needs`` is what has to be
    known of the accounts; ``by`` is the command that changes them."""

    read: Callable[[Snapshot], Reading]
    by: str
    compares: bool = False
    needs: tuple[Unread, ...] = (Unread.PASSWORDS,)


@frozen(eq=False, repr=False)
class Rule:
    """One rule of the catalogue.

    ``says`` states a value in a sentence; ``statement_about`` states the accounts that do not meet it, with ``{who}``,
    ``{are}``, ``{have}`` and ``{s}`` for a verb; ``asks`` states a requirement where "required:" and the value do not.
    ``controls`` are the NIST SP 800-53 Rev. 5 controls that it serves. ``derived``: no machine stores the rule, it is
    derived from the accounts. ``gaps`` finds the accounts that do not meet it and how each gap is closed, besides
    setting the rule. ``set_with`` names rules that a machine may change by itself when this one is set."""

    id: RuleId = field(converter=_rule_id)
    title: str
    statement: Sentences
    kind: Kind
    severity: Severity
    why_severe: str
    takes_effect: Effect
    protects: str
    costs: str
    asks: Sentences = ""
    statement_about: str = ""
    controls: tuple[str, ...] = ()
    agreements: tuple[Agreement, ...] = ()
    set_with: tuple[str, ...] = ()
    derived: DerivedFromAccounts | None = None
    gaps: GapsOf | None = None

    def counts_on(self, snapshot: Snapshot) -> Effect:
        """Return when a change of the rule takes effect on a machine."""
        accepted_values = snapshot.accepted_values.get(self.id)
        return (
            accepted_values.effect
            if accepted_values is not None and accepted_values.effect is not None
            else self.takes_effect
        )

    def format(self, value: Value) -> str:
        """Return the sentence that states a value."""
        return sentence(self.statement, self.kind, value)

    def format_statement_about(self, names: Sequence[str]) -> str:
        """Return the sentence about accounts that do not meet the rule; empty where the rule has none."""
        one = len(names) == 1
        words = {"are": "is" if one else "are", "have": "has" if one else "have", "s": "s" if one else ""}
        return self.statement_about.format(who=joined(names), **words) if names else ""

    @property
    def family(self) -> str:
        """The part before the dot, which is also the table of the baseline file."""
        return self.id.partition(".")[0]

    @property
    def key(self) -> str:
        """The part after the dot, which is also the key in the baseline file."""
        return self.id.partition(".")[2]
