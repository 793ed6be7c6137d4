"""Checking a password against a machine's rules, and generating one that satisfies them, or breaks just one."""

import random
import string
from collections.abc import Mapping, Sequence

from attrs import frozen

from verrou.core.model import Snapshot, Status
from verrou.core.rules import CATALOGUE, reading_of

CLASSES = {
    "lower": string.ascii_lowercase,
    "upper": string.ascii_uppercase,
    "digit": string.digits,
    "symbol": "!#%+-.:=?@_",
}
LONG_WORDS = (
    "Observatory",
    "Constellation",
    "Representatives",
    "Responsibilities",
    "Characteristically",
    "Counterrevolutionary",
    "Electroencephalographs",
)
_READABLE = {name: "".join(c for c in chars if c not in "il1IO0o|") for name, chars in CLASSES.items()}


@frozen(repr=False)
class Policy:
    """What a machine requires of a new password, as far as it is known and enforced."""

    min_length: int = 0
    classes: int = 0
    may_contain_name: bool = True
    dictionary: bool = False
    remember: int = 0

    def together(self, other: "Policy") -> "Policy":
        """Return the policy that satisfies both, for a password that has to be valid before and after a change of
        rules."""
        return Policy(
            max(self.min_length, other.min_length),
            max(self.classes, other.classes),
            self.may_contain_name and other.may_contain_name,
            self.dictionary or other.dictionary,
            max(self.remember, other.remember),
        )


def policy_of(snapshot: Snapshot) -> Policy:
    """Return the policy of the machine's enforced readings."""

    def value(rule_id: str, otherwise: object) -> object:
        reading = reading_of(CATALOGUE[rule_id], snapshot)
        usable = reading.status is Status.READ and reading.enforced and reading.value is not None
        return reading.value if usable else otherwise

    return Policy(
        min_length=int(str(value("password.min_length", 0))),
        classes=int(str(value("password.classes", 0))),
        may_contain_name=bool(value("password.may_contain_name", True)),
        dictionary=value("password.dictionary", "unchecked") == "checked",
        remember=int(str(value("password.remember", 0))),
    )


def classes_in(candidate: str) -> set[str]:
    """Return which of lower, upper, digit and symbol a password contains; any other character is a symbol."""
    kinds = {"lower": str.islower, "upper": str.isupper, "digit": str.isdigit}
    return {next((name for name, test in kinds.items() if test(c)), "symbol") for c in candidate}


def broken_rules(candidate: str, policy: Policy, account: str) -> Mapping[str, str]:
    """Return every rule the password breaks, by id, with the reason in words. Only the machine checks the
    dictionary."""
    broken = {}
    if len(candidate) < policy.min_length:
        broken["password.min_length"] = f"it has {len(candidate)} characters; at least {policy.min_length} are needed"
    held = classes_in(candidate)
    if len(held) < policy.classes:
        broken["password.classes"] = (
            f"it has {len(held)} of lower, upper, digit and symbol; at least {policy.classes} are needed"
        )
    if not policy.may_contain_name and account and account.casefold() in candidate.casefold():
        broken["password.may_contain_name"] = "it contains the account's name"
    return broken


def make_phrase(policy: Policy, account: str, words: Sequence[str], rng: random.Random) -> str:
    """Return a password of words that can be read aloud, with two digits, that satisfies ``policy``.

    It has at least four words; from a list of 7,000 they have some 50 bits without the digits. ``rng`` must be
    ``random.SystemRandom`` for a password that is used."""
    while True:
        chosen = [rng.choice(words) for _ in range(4)]
        chosen[0] = chosen[0].capitalize()
        while len("-".join(chosen)) + len("-00") < policy.min_length:
            chosen.append(rng.choice(words))
        candidate = "-".join((*chosen, f"{rng.randrange(100):02}"))
        if not broken_rules(candidate, policy, account):
            return candidate


def make_password(policy: Policy, account: str, rng: random.Random, longest: int = 64) -> str:
    """Return a password of groups of readable characters that satisfies ``policy``, for tests.

    ``rng`` must be ``random.SystemRandom`` for a password that is used."""
    length = max(policy.min_length, 16)
    while True:
        groups: list[str] = []
        while len("-".join(groups)) < length:
            pools = [_READABLE["lower"]] * 3 + [_READABLE["digit"]]
            if policy.classes >= 4 or not groups:
                pools[0] = _READABLE["upper"]
            groups.append("".join(rng.choice(pool) for pool in pools))
        candidate = "-".join(groups)[: max(longest, length)]
        if not broken_rules(candidate, policy, account):
            return candidate


def breaking(rule_id: str, policy: Policy, account: str, rng: random.Random) -> list[str]:
    """Return passwords that break ``rule_id`` and no other rule of ``policy``; none where there can be none.

    Where there are several, a machine that enforces the rule rejects at least one of them."""
    candidates: Sequence[str] = ()
    match rule_id:
        case "password.min_length" if policy.min_length > 1:
            candidates = [_mixed(policy.min_length - 1, max(policy.classes, 3), rng)]
        case "password.classes" if policy.classes > 1:
            candidates = [_mixed(max(policy.min_length, 16), policy.classes - 1, rng)]
        case "password.may_contain_name":
            candidates = [f"{make_password(policy, account, rng)}-{account}"]
        case "password.dictionary":
            # Dictionaries are searched with up to three characters removed from the end.
            candidates = [word + end for end in ("-7", "-73") for word in LONG_WORDS]
            candidates = [candidate for candidate in candidates if len(candidate) >= policy.min_length][:3]
    return [c for c in candidates if set(broken_rules(c, policy, account)) <= {rule_id}]


def _mixed(length: int, classes: int, rng: random.Random) -> str:
    """Return ``length`` random characters of the first ``classes`` classes, as far as the length allows."""
    pools = list(_READABLE.values())[: max(1, min(classes, 4))]
    drawn = [rng.choice(pools[i % len(pools)]) for i in range(length)]
    rng.shuffle(drawn)
    return "".join(drawn)
