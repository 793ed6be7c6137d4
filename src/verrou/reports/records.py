"""Tables of the journal."""

from collections.abc import Sequence
from typing import TypedDict

from verrou.core.differences import differences
from verrou.core.entries import JournalEntry, RunState
from verrou.core.model import Snapshot, counted
from verrou.reports.sheets import BAD, DOUBTFUL, GOOD, QUIET, Table, columns_of

STATE_WORDS = {
    RunState.DONE: "done",
    RunState.INTERRUPTED: "interrupted",
    RunState.RUNNING: "running",
    RunState.UNDONE: "undone",
    RunState.TESTED: "tested, nothing changed",
    RunState.UNCHANGED: "nothing to change",
    RunState.REJECTED: "rejected, nothing changed",
}
_STYLES = {RunState.DONE: GOOD, RunState.INTERRUPTED: BAD, RunState.RUNNING: DOUBTFUL}
MOST_TOLD = 3
"""Most differences in a line of the list."""


def difference_text(difference: dict[str, str]) -> str:
    """Return one difference in words."""
    fact = f" {difference['fact']}" if difference["fact"] else ""
    return f"{difference['subject']}:{fact} {difference['was'] or 'none'} → {difference['now'] or 'none'}"


def entries_table(entries: Sequence[JournalEntry], running: bool) -> Table:
    """Return the journal, a line each."""
    rows = []
    for entry in entries:
        state = entry.state(running=running)
        words = STATE_WORDS[state] + (f" by entry {entry.undone_by}" if entry.undone_by else "")
        more = len(entry.differences) - MOST_TOLD
        changed = [difference_text(each) for each in entry.differences[:MOST_TOLD]] + (
            [f"and {more} more"] if more > 0 else []
        )
        rows.append(
            {
                "entry": entry.number,
                "at": entry.begun,
                "by": entry.by,
                "command": entry.command,
                "state": words,
                "changed": "; ".join(changed or entry.why.splitlines()),
                "overridden": ", ".join(entry.overridden),
            }
        )
    columns = columns_of(
        *((key, key) for key in ("entry", "at", "by", "state", "command", "changed", "overridden")),
        whole=("at",),
        hidden=("changed", "overridden"),
        under={"command": "changed"},
    )
    styles = {i: _STYLES.get(entry.state(running=running), QUIET) for i, entry in enumerate(entries)}
    return Table("journal", columns, tuple(rows), styles)


class EntryData(TypedDict):
    """One run, as the journal records it; times are this computer's own."""

    entry: int
    at: str
    finished: str | None
    by: str
    command: str
    baseline: str
    state: RunState
    why: str
    undone_by: int | None
    undoes: list[int]
    overridden: list[str]
    steps: list[dict[str, str]]
    differences: list[dict[str, str]]
    places: list[str]


def entry_data(entry: JournalEntry, running: bool) -> EntryData:
    """Return one entry for ``--format json``."""
    return {
        "entry": entry.number,
        "at": entry.begun,
        "finished": entry.finished,
        "by": entry.by,
        "command": entry.command,
        "baseline": entry.baseline,
        "state": entry.state(running=running),
        "why": entry.why,
        "undone_by": entry.undone_by,
        "undoes": entry.undoes,
        "overridden": entry.overridden,
        "steps": entry.steps,
        "differences": entry.differences,
        "places": entry.places,
    }


def entry_table(entry: JournalEntry, running: bool) -> Table:
    """Return all of one entry, as (about, text)."""
    state = STATE_WORDS[entry.state(running=running)] + (f" by entry {entry.undone_by}" if entry.undone_by else "")
    rows = [
        ("entry", str(entry.number)),
        ("command", entry.command),
        ("by", entry.by),
        ("begun", entry.begun),
        ("finished", entry.finished or ""),
        ("state", state),
        ("reason", "; ".join(entry.why.splitlines())),
        ("baseline", entry.baseline),
        ("undoes", ", ".join(map(str, entry.undoes))),
        ("guards overridden", ", ".join(entry.overridden)),
    ]
    for number, step in enumerate(entry.steps, start=1):
        message = f" ({step['message']})" if step["message"] else ""
        rows.append((f"step {number}" if not entry.undoes else "", f"{step['outcome']}: {step['what']}{message}"))
    rows += [("changed" if n == 0 else "", difference_text(each)) for n, each in enumerate(entry.differences)]
    rows += [("wrote" if n == 0 else "", place) for n, place in enumerate(entry.places)]
    shown = tuple({"about": about, "text": text} for about, text in rows if text)
    return Table("entry", columns_of(("about", ""), ("text", ""), whole=("about",)), shown)


def going_back_lines(entries: Sequence[JournalEntry], before: Snapshot, after: Snapshot) -> list[str]:
    """Return the entries that an undo undoes, and the facts it changes."""
    lines = [f"Entry {entry.number}, {entry.command}, by {entry.by}, {entry.begun}" for entry in entries]
    found = [
        difference_text({"subject": d.subject, "fact": d.fact, "was": d.was, "now": d.now})
        for d in differences(before, after)
    ]
    if found:
        lines.append(f"This undo changes {counted(len(found), 'fact')}:")
        lines += [f"  {line}" for line in found]
    return lines
