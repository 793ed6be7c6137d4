"""What a baseline can require of one rule: at least, exactly, a range, or one of several."""

from collections.abc import Callable
from typing import TypeAlias, TypedDict, assert_never

from attrs import frozen

from verrou.core.rules import Rule
from verrou.core.values import Value, ValueData


@frozen(repr=False)
class AtLeast:
    """Requires the value, or anything stricter."""

    value: Value

    def satisfied_by(self, rule: Rule, value: Value) -> bool:
        return rule.kind.at_least(value, self.value)

    def target(self, rule: Rule, value: Value | None) -> Value:
        return self.value if value is None else rule.kind.target(value, self.value)

    def candidates(self, rule: Rule) -> list[Value]:
        return [self.value]

    def dump(self, rule: Rule) -> "DesiredData":
        return {"at_least": rule.kind.dump(self.value)}

    def format(self, rule: Rule) -> str:
        return rule.kind.ask(self.value)


@frozen(repr=False)
class Exactly:
    """Requires the value and no other."""

    value: Value

    def satisfied_by(self, rule: Rule, value: Value) -> bool:
        return rule.kind.same(value, self.value)

    def target(self, rule: Rule, value: Value | None) -> Value:
        return self.value

    def candidates(self, rule: Rule) -> list[Value]:
        return [self.value]

    def dump(self, rule: Rule) -> "DesiredData":
        return {"exactly": rule.kind.dump(self.value)}

    def format(self, rule: Rule) -> str:
        return f"exactly {rule.kind.format(self.value)}"


@frozen(repr=False)
class Between:
    """Requires ``low`` to ``high`` on the plain number scale, both included."""

    low: Value
    high: Value

    def satisfied_by(self, rule: Rule, value: Value) -> bool:
        scale = rule.kind
        return scale.amount(self.low) <= scale.amount(value) <= scale.amount(self.high)

    def target(self, rule: Rule, value: Value | None) -> Value:
        """Return the nearer bound of the range; the stricter one where nothing is set."""
        scale = rule.kind
        if value is None:
            return max(self.low, self.high, key=scale.rank)
        return self.low if scale.amount(value) < scale.amount(self.low) else self.high

    def candidates(self, rule: Rule) -> list[Value]:
        return [self.low, self.high]

    def dump(self, rule: Rule) -> "DesiredData":
        return {"from": rule.kind.dump(self.low), "to": rule.kind.dump(self.high)}

    def format(self, rule: Rule) -> str:
        low, high = rule.kind.format(self.low), rule.kind.format(self.high)
        number, _, unit = low.partition(" ")
        alike = unit.rstrip("s") == high.partition(" ")[2].rstrip("s")  # the unit once: 1 to 2 administrators
        return f"{number if alike else low} to {high}"


@frozen(repr=False)
class AnyOf:
    """Requires one of the values; the first is the one to set."""

    values: tuple[Value, ...]

    def satisfied_by(self, rule: Rule, value: Value) -> bool:
        return any(Exactly(accepted).satisfied_by(rule, value) for accepted in self.values)

    def target(self, rule: Rule, value: Value | None) -> Value:
        return self.values[0]

    def candidates(self, rule: Rule) -> list[Value]:
        return list(self.values)

    def dump(self, rule: Rule) -> "DesiredData":
        return {"any_of": [rule.kind.dump(value) for value in self.values]}

    def format(self, rule: Rule) -> str:
        return " or ".join(rule.kind.format(value) for value in self.values)


DesiredData = TypedDict(
    "DesiredData",
    {"at_least": ValueData, "exactly": ValueData, "from": ValueData, "to": ValueData, "any_of": list[ValueData]},
    total=False,
)
"""A requirement as plain data: one of the four forms, or both ends of a range."""

Desired: TypeAlias = AtLeast | Exactly | Between | AnyOf


def in_words_of(desired: Desired, rule: Rule, name_of: Callable[[str], str]) -> Desired:
    """Return the desired value with the names of one machine; see :meth:`verrou.core.values.Kind.with_group_names`."""
    match desired:
        case AtLeast(value) | Exactly(value):
            called = rule.kind.with_group_names(value, name_of)
            return desired if called == value else type(desired)(called)
        case AnyOf(values):
            return AnyOf(tuple(rule.kind.with_group_names(value, name_of) for value in values))
        case Between():
            return desired  # numbers are the same everywhere
        case _:
            assert_never(desired)
