"""Does a candidate satisfy a machine's rules, and which not; and making one that does, or that breaks just one."""

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


@frozen
class Policy:
    """What a machine asks of a new password, as far as it was read and is in force."""

    min_length: int = 0
    classes: int = 0
    may_contain_name: bool = True
    dictionary: bool = False
    remember: int = 0

    def together(self, other: "Policy") -> "Policy":
        """What satisfies both: for a password that must do before and after a change of rules."""
        return Policy(
            max(self.min_length, other.min_length),
            max(self.classes, other.classes),
            self.may_contain_name and other.may_contain_name,
            self.dictionary or other.dictionary,
            max(self.remember, other.remember),
        )


def policy_of(snapshot: Snapshot) -> Policy:
    """The policy that the machine's readings say is in force."""

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
    """Which of lower, upper, digit and symbol a candidate holds; any other character counts as a symbol."""
    kinds = {"lower": str.islower, "upper": str.isupper, "digit": str.isdigit}
    return {next((name for name, test in kinds.items() if test(c)), "symbol") for c in candidate}


def broken_rules(candidate: str, policy: Policy, account: str) -> Mapping[str, str]:
    """Every rule the candidate breaks, by id, with what is wrong in words. The dictionary is the machine's to ask."""
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
    """A password of words that can be read aloud over a counter, with two digits, that satisfies ``policy``: at least
    four words, which from a list of 7,000 are some 50 bits before the digits.

    ``rng`` must be ``random.SystemRandom`` for a password that anybody will use.
    """
    while True:
        chosen = [rng.choice(words) for _ in range(4)]
        chosen[0] = chosen[0].capitalize()
        while len("-".join(chosen)) + len("-00") < policy.min_length:
            chosen.append(rng.choice(words))
        candidate = "-".join((*chosen, f"{rng.randrange(100):02}"))
        if not broken_rules(candidate, policy, account):
            return candidate


def make_password(policy: Policy, account: str, rng: random.Random, longest: int = 64) -> str:
    """A password of groups of readable characters that satisfies ``policy``, for trials.

    ``rng`` must be ``random.SystemRandom`` for a password that anybody will use.
    """
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
    """Candidates that break ``rule_id`` and no other rule of ``policy``; none where there can be none. Where there are
    more than one, a machine that heeds the rule refuses at least one of them."""
    candidates: Sequence[str] = ()
    match rule_id:
        case "password.min_length" if policy.min_length > 1:
            candidates = [_mixed(policy.min_length - 1, max(policy.classes, 3), rng)]
        case "password.classes" if policy.classes > 1:
            candidates = [_mixed(max(policy.min_length, 16), policy.classes - 1, rng)]
        case "password.may_contain_name":
            candidates = [f"{make_password(policy, account, rng)}-{account}"]
        case "password.dictionary":
            # Dictionaries are looked up with up to three characters at the end left out.
            candidates = [word + end for end in ("-7", "-73") for word in LONG_WORDS]
            candidates = [candidate for candidate in candidates if len(candidate) >= policy.min_length][:3]
    return [c for c in candidates if set(broken_rules(c, policy, account)) <= {rule_id}]


def _mixed(length: int, classes: int, rng: random.Random) -> str:
    """``length`` random characters of exactly the first ``classes`` classes, as far as the length allows."""
    pools = list(_READABLE.values())[: max(1, min(classes, 4))]
    drawn = [rng.choice(pools[i % len(pools)]) for i in range(length)]
    rng.shuffle(drawn)
    return "".join(drawn)
