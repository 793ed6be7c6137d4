"""Gaps between a machine and the required state, fact by fact, and the steps that would close them."""

from enum import StrEnum
from typing import TYPE_CHECKING, Any

from verrou.core.made_often import made_often

if TYPE_CHECKING:
    from verrou.core.steps.step import Step


class Fact(StrEnum):
    """Fact of one account or group that a gap is about."""

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


@made_often
class Gap:
    """One fact about ``who`` (an account or a group, by name) that differs from the requirement.

    ``is_now`` and ``wanted`` are values of the fact, None for none. ``steps`` close it; ``by_hand`` is the manual step
    where no step does."""

    who: str
    fact: Fact
    actual: Any = None
    required: Any = None
    steps: "tuple[Step, ...]" = ()
    manual: str = ""
