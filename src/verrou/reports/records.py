"""Tables of the journal."""

from collections.abc import Sequence
from typing import Any

from verrou.core.history.entries import JournalEntry, RunState
from verrou.core.judging.differences import differences
from verrou.core.model import Snapshot, counted
from verrou.core.surveys.data import plain
from verrou.reports.tables import BAD, DOUBTFUL, GOOD, QUIET, Table, columns_of

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


def entries_table(entries: Sequence[JournalEntry], running: bool) -> Table:
    """Return the journal, a line each."""
    rows = []
    for entry in entries:
        state = entry.state(running=running)
        words = STATE_WORDS[state] + (f" by entry {entry.undone_by}" if entry.undone_by else "")
        more = len(entry.differences) - MOST_TOLD
        changed = [str(each) for each in entry.differences[:MOST_TOLD]] + ([f"and {more} more"] if more > 0 else [])
        rows.append(
            {
                "entry": entry.number,
                "begun": entry.begun,
                "by": entry.by,
                "command": entry.command,
                "state": words,
                "changed": "; ".join(changed or entry.why.splitlines()),
                "overridden": ", ".join(entry.overridden),
            }
        )
    columns = columns_of(
        *((key, key) for key in ("entry", "begun", "by", "state", "command", "changed", "overridden")),
        whole=("begun",),
        hidden=("changed", "overridden"),
        under={"command": "changed"},
    )
    styles = {i: _STYLES.get(entry.state(running=running), QUIET) for i, entry in enumerate(entries)}
    return Table("journal", columns, tuple(rows), styles)


NOT_SHOWN = ("digest", "note", "tried")
"""What of an entry is the journal's own affair."""


def entry_data(entry: JournalEntry, running: bool) -> dict[str, Any]:
    """Return one entry for ``--format json``: itself and its state."""
    return {**plain(entry, without=NOT_SHOWN), "state": entry.state(running=running)}


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
        message = f" ({step.message})" if step.message else ""
        rows.append((f"step {number}" if not entry.undoes else "", f"{step.outcome}: {step.what}{message}"))
    rows += [("changed" if n == 0 else "", str(each)) for n, each in enumerate(entry.differences)]
    rows += [("wrote" if n == 0 else "", place) for n, place in enumerate(entry.places)]
    shown = tuple({"about": about, "text": text} for about, text in rows if text)
    return Table("entry", columns_of(("about", ""), ("text", ""), whole=("about",)), shown)


def going_back_lines(entries: Sequence[JournalEntry], before: Snapshot, after: Snapshot) -> list[str]:
    """Return the entries that an undo undoes, and the facts it changes."""
    lines = [f"Entry {entry.number}, {entry.command}, by {entry.by}, {entry.begun}" for entry in entries]
    found = differences(before, after)
    if found:
        lines.append(f"This undo changes {counted(len(found), 'fact')}:")
        lines += [f"  {line}" for line in found]
    return lines
