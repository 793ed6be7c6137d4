"""Tables and data of baselines."""

from typing import TypedDict

from verrou.core.baselines.baseline import Baseline
from verrou.core.baselines.desired import DesiredData
from verrou.reports.tables import Table, columns_of


class BaselineLine(TypedDict):
    """An included baseline."""

    baseline: str
    title: str
    rules: int


class AskedData(TypedDict):
    """One requirement of a baseline; ``wanted`` is that of a rule, ``words`` state it."""

    subject: str
    words: str
    required: DesiredData | None
    reason: str
    place: str


class BaselineData(TypedDict):
    """A baseline with everything it builds on."""

    title: str
    asks: list[AskedData]


def baseline_data(loaded: Baseline) -> BaselineData:
    """Return all requirements of a baseline: rules, accounts, groups, waivers."""
    asked: list[AskedData] = [
        {
            "subject": d.rule.id,
            "words": d.desired.format(d.rule),
            "required": d.desired.dump(d.rule),
            "reason": d.reason,
            "place": str(d.mark),
        }
        for d in loaded.requirements.values()
    ]
    listed = [(f"accounts.{a.name}", str(a.role), a.reason, str(a.mark)) for a in loaded.accounts.values()]
    listed += [(f"groups.{g.name}", ", ".join(g.members), g.reason, str(g.mark)) for g in loaded.groups.values()]
    for w in loaded.waivers:
        where = f" on {w.machine}" if w.machine else ""
        listed.append((w.rule, f"waived{where} until {w.until}", f"{w.reason} ({w.by})", str(w.mark)))
    asked += [
        {"subject": subject, "words": words, "required": None, "reason": reason, "place": place}
        for subject, words, reason, place in listed
    ]
    return {"title": loaded.title, "asks": asked}


def baseline_table(data: BaselineData) -> Table:
    """Return the chain as a table, one row for each reason."""
    columns = columns_of(
        ("subject", "rule"), ("words", "requirement"), ("reason", "reason"), ("place", "from"), whole=("subject",)
    )
    return Table("baseline", columns, tuple(dict(asked) for asked in data["asks"]))
