"""Where a machine differs from what is wanted, fact by fact, and the steps that would close it."""

from enum import StrEnum
from typing import TYPE_CHECKING, Any

from attrs import frozen

if TYPE_CHECKING:
    from verrou.core.plan.steps import Step


class Fact(StrEnum):
    """What a gap is about: a fact of one account or group."""

    THERE = "there"
    ROLE = "role"
    ENABLED = "enabled"
    PASSWORD = "password"
    STORAGE = "storage"
    UNTIL = "until"
    FIXED = "fixed"
    AGES = "ages"
    ROUTES = "routes"
    MEMBERS = "members"
    NAME = "name"
    IDENTITY = "identity"
    USED = "used"
    GIVES_AWAY = "transfers"
    ADMINISTERS = "administers"


@frozen(repr=False)
class Gap:
    """One fact about ``who`` (an account or a group, by name) that is not as wanted. ``is_now`` and ``wanted`` are
    values of the fact, None for none. ``steps`` close it; ``by_hand`` is what a person can do where no step does."""

    who: str
    fact: Fact
    actual: Any = None
    required: Any = None
    steps: "tuple[Step, ...]" = ()
    manual: str = ""
