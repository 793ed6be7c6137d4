"""Groups of a machine as sheets: what each grants, and to whom."""

from typing import Any, TypedDict

from verrou.core.group_words import gives
from verrou.core.model import Group, Posture
from verrou.core.model.access import role_of
from verrou.core.survey import plain
from verrou.reports.sheets import Table, columns_of


class GivesData(TypedDict):
    """What being in a group means, in words."""

    effects: list[str]


def group_data(group: Group, posture: Posture) -> dict[str, Any]:
    """One group as plain data."""
    return {**plain(group), "effects": gives(group, posture)}


def worth_showing(group: Group, posture: Posture) -> bool:
    """Whether it gives something, or has a member who is not the only one of that name."""
    return bool(gives(group, posture)) or any(str(name) != group.name for name in group.members)


def groups_sheet(posture: Posture, everyone: bool) -> Table:
    """The groups that give something or have a member who is not the only one of that name; all for ``everyone``."""
    rows = tuple(
        {
            "group": g.name,
            "identity": g.identity,
            "effects": gives(g, posture),
            "members": list(g.members),
            "note": g.note,
            "shipped": g.shipped,
        }
        for g in posture.groups
        if everyone or worth_showing(g, posture)
    )
    columns = columns_of(
        ("group", "group"),
        ("identity", "identity"),
        ("effects", "grants"),
        ("members", "members"),
        ("note", "note"),
        ("shipped", "shipped"),
        whole=("group", "identity"),
        hidden=("shipped",) if any(row["note"] for row in rows) else ("note", "shipped"),
    )
    return Table("groups", columns, rows)


def group_facts(group: Group, posture: Posture) -> list[tuple[str, str]]:
    """Everything about one group, in words, as (heading, text)."""
    lines = f" ({', '.join(map(str, group.granted_by))})" if group.granted_by else ""
    members = [posture.by_name[name] for name in group.members if name in posture.by_name]
    facts = [
        ("group", group.name),
        ("identity", group.identity + (", came with the system" if group.shipped else "")),
        ("note", group.note),
        ("grants", "; ".join(gives(group, posture)) + lines if gives(group, posture) else "nothing"),
        ("members", ", ".join(f"{a.name} ({role_of(a, posture)})" for a in members) or "nobody"),
        ("defined in", str(group.source or "")),
    ]
    return [(about, text) for about, text in facts if text]
