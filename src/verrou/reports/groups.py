"""Tables of the groups of a machine: what each grants, and to whom."""

from typing import Any, TypedDict

from verrou.core.judging.group_text import gives
from verrou.core.model import Group, Snapshot
from verrou.core.model.access import role_of
from verrou.core.surveys.data import plain
from verrou.reports.tables import Table, columns_of


class GivesData(TypedDict):
    """Effects of group membership, in words."""

    effects: list[str]


def group_data(group: Group, snapshot: Snapshot) -> dict[str, Any]:
    """Return one group as plain data."""
    return {**plain(group), "effects": gives(group, snapshot)}


def worth_showing(group: Group, snapshot: Snapshot) -> bool:
    """Return whether the group grants something, or has a member besides the one of its own name."""
    return bool(gives(group, snapshot)) or any(str(name) != group.name for name in group.members)


def groups_table(snapshot: Snapshot, everyone: bool) -> Table:
    """Return the table of groups worth showing; all for ``everyone``."""
    rows = tuple(
        {
            "group": g.name,
            "identity": g.identity,
            "effects": gives(g, snapshot),
            "members": list(g.members),
            "note": g.note,
            "built_in": g.built_in,
        }
        for g in snapshot.groups
        if everyone or worth_showing(g, snapshot)
    )
    columns = columns_of(
        ("group", "group"),
        ("identity", "ID"),
        ("effects", "grants"),
        ("members", "members"),
        ("note", "note"),
        ("built_in", "built in"),
        whole=("group", "identity"),
        hidden=("built_in",) if any(row["note"] for row in rows) else ("note", "built_in"),
    )
    return Table("groups", columns, rows)


def group_facts(group: Group, snapshot: Snapshot) -> list[tuple[str, str]]:
    """Return all facts of one group, in words, as (heading, text)."""
    lines = f" ({', '.join(map(str, group.granted_by))})" if group.granted_by else ""
    members = [snapshot.by_name[name] for name in group.members if name in snapshot.by_name]
    facts = [
        ("group", group.name),
        ("ID", group.identity + (", built in" if group.built_in else "")),
        ("note", group.note),
        ("grants", "; ".join(gives(group, snapshot)) + lines if gives(group, snapshot) else "nothing"),
        ("members", ", ".join(f"{a.name} ({role_of(a, snapshot)})" for a in members) or "nobody"),
        ("defined in", str(group.source or "")),
    ]
    return [(about, text) for about, text in facts if text]
