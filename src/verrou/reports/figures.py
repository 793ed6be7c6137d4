"""Figures, drawn with Matplotlib where it is installed. Colour is never the only sign."""

# Imports within functions: a package that need not be there.

import io
import warnings
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from html import escape
from typing import Any

from verrou.core.errors import BadInput
from verrou.core.history.trend import Moment, Trend
from verrou.core.judging.rounds import NOT_ASKED, RULES, SIGNS, Row
from verrou.core.model.verdicts import Severity
from verrou.reports.tables import shown

COLOURS = {
    "high": "#a5262a",
    "medium": "#e08a2e",
    "low": "#e6cf5c",
    "unknown": "#51606e",
    "waived": "#b8c2cc",
    "not_applicable": "#e8ecf0",
    "met": "#bfe0cd",
}
HELD = "#2f7d5b"
INK, QUIET = "#1b2530", "#5b6772"


def pyplot() -> Any:
    """Return Matplotlib, set up to draw without a screen, the same each time. Raises: BadInput: it is not installed."""
    try:
        import matplotlib
    except ImportError:
        raise BadInput("pictures need Matplotlib; pip install 'verrou[report]' brings it") from None
    matplotlib.use("Agg")
    # A name in signs that the font has not is drawn as boxes; the tables beside the picture have it whole.
    warnings.filterwarnings("ignore", message="Glyph", category=UserWarning)
    matplotlib.rcParams |= {
        "svg.hashsalt": "verrou",
        "font.size": 9,
        "text.color": INK,
        "axes.labelcolor": INK,
        "text.parse_math": False,
    }
    from matplotlib import pyplot as plotter

    return plotter


def as_svg(figure: Any, title: str) -> str:
    """Return a figure as an SVG element; ``title`` is read aloud by a screen reader."""
    stream = io.StringIO()
    figure.savefig(stream, format="svg", metadata={"Date": None, "Creator": None}, bbox_inches="tight")
    pyplot().close(figure)
    drawn = stream.getvalue()
    drawn = drawn[drawn.index("<svg") :]
    return drawn.replace("<svg", f'<svg role="img" aria-label="{escape(title)}"', 1)


def severities(before: Mapping[str, int] | None, now: Mapping[str, int]) -> str:
    """Return how many findings are not met, by severity, before and now, as SVG."""
    plotter = pyplot()
    sides = ([("before", before)] if before is not None else []) + [("now", now)]
    drawn = ("high", "medium", "low", "unknown", "waived")
    figure, axes = plotter.subplots(figsize=(9, 0.55 + 0.42 * len(sides)))
    for row, (_, counted) in enumerate(sides):
        start = 0
        for name in drawn:
            if count := counted[name]:
                axes.barh(row, count, left=start, color=COLOURS[name], edgecolor="white", height=0.72)
                dark = name in ("high", "unknown")
                axes.text(start + count / 2, row, str(count), ha="center", va="center", color="white" if dark else INK)
                start += count
        if not start:
            axes.text(0.1, row, "nothing", va="center", color=QUIET)
    axes.set_yticks(range(len(sides)), [name for name, _ in sides])
    axes.invert_yaxis()
    axes.set_xlim(0, max(1, *(sum(counted[name] for name in drawn) for _, counted in sides)))
    axes.set_xticks([])
    axes.tick_params(length=0)
    for spine in axes.spines.values():
        spine.set_visible(False)
    used = [name for name in drawn if any(counted[name] for _, counted in sides)]
    handles = [plotter.Rectangle((0, 0), 1, 1, color=COLOURS[name]) for name in used]
    if handles:
        axes.legend(handles, used, ncol=len(used), loc="upper left", bbox_to_anchor=(0, -0.02), frameon=False)
    return as_svg(figure, f"findings by severity: {_title(sides)}")


def _title(sides: Sequence[tuple[str, Mapping[str, int]]]) -> str:
    return "; ".join(
        f"{name}: " + ", ".join(f"{n} {word.replace('_', ' ')}" for word, n in counted.items() if n)
        for name, counted in sides
    )


NAMED_ROWS = 60
"""Up to how many machines each has its name beside it, and a sign in each of its cells."""
CELLS = {sign: mark for mark, sign in SIGNS.items()}
LETTERS = {"H": "H", "M": "M", "L": "L", "?": "?", "w": "w"}
SAID = {
    "high": "H high",
    "medium": "M medium",
    "low": "L low",
    "unknown": "? not known",
    "waived": "w waived",
    "not_applicable": "- not applicable",
    "met": "met",
}


def machines_by_rules(rows: Sequence[Row]) -> str:
    """Return machines by rules as SVG: the worst machine on top, the rule least met on the left.

    Rules that no machine is required to meet are left out."""
    plotter = pyplot()
    from matplotlib.colors import ListedColormap

    not_met = {rule: sum(row.signs[n] in "HML?" for row in rows) for n, rule in enumerate(RULES)}
    drawn = [n for n, rule in enumerate(RULES) if any(row.signs[n] != NOT_ASKED for row in rows)]
    drawn.sort(key=lambda n: -not_met[RULES[n]])
    order = list(CELLS)
    blank = len(order)
    cells = [[order.index(row.signs[n]) if row.signs[n] in CELLS else blank for n in drawn] or [blank] for row in rows]
    named = len(rows) <= NAMED_ROWS
    height = max(0.24 * len(rows) if named else 0.0217 * len(rows) + 1.5, 0.6)
    figure, axes = plotter.subplots(figsize=(12.5, height))
    colours = ListedColormap([*(COLOURS[CELLS[sign]] for sign in order), "#ffffff"])
    axes.imshow(cells, cmap=colours, vmin=0, vmax=len(order), aspect="auto", interpolation="nearest")
    axes.set_xticks(range(len(drawn)), [RULES[n] for n in drawn], rotation=90, fontsize=7)
    if named:
        axes.set_yticks(range(len(rows)), [shortened(row.machine) for row in rows], fontsize=8)
        axes.set_xticks([n - 0.5 for n in range(1, len(drawn))], minor=True)
        axes.set_yticks([n - 0.5 for n in range(1, len(rows))], minor=True)
        axes.grid(which="minor", color="white", linewidth=1)
        for y, row in enumerate(rows):
            for x, n in enumerate(drawn):
                if letter := LETTERS.get(row.signs[n], ""):
                    dark = row.signs[n] in "H?"
                    axes.text(x, y, letter, ha="center", va="center", fontsize=7, color="white" if dark else INK)
    else:
        step = max(len(rows) // 12, 1)
        axes.set_yticks(range(0, len(rows), step), [shortened(rows[n].machine) for n in range(0, len(rows), step)])
    axes.tick_params(length=0, which="both")
    for spine in axes.spines.values():
        spine.set_visible(False)
    used = [name for sign, name in CELLS.items() if any(sign in row.signs for row in rows)]
    handles = [plotter.Rectangle((0, 0), 1, 1, color=COLOURS[name]) for name in used]
    if any(row.signs[n] == NOT_ASKED for row in rows for n in drawn):
        handles.append(plotter.Rectangle((0, 0), 1, 1, facecolor="white", edgecolor=COLOURS["waived"]))
    if handles:
        words = [SAID[name] for name in used] + ["not required"]
        axes.legend(
            handles,
            words[: len(handles)],
            ncol=len(handles),
            loc="lower left",
            bbox_to_anchor=(0, 1),
            frameon=False,
            fontsize=8,
        )
    return as_svg(figure, f"{len(rows)} machines by {len(drawn)} rules: rules not met, and their severity")


def rules_by_machines(rules: Sequence[Mapping[str, Any]]) -> str:
    """Return rules by how many machines do not meet them as SVG, the least met on top: rows of a table of rules."""
    plotter = pyplot()
    figure, axes = plotter.subplots(figsize=(12.5, 0.9 + 0.21 * len(rules)))
    for y, line in enumerate(rules):
        drawn = (
            (line["not_met"], COLOURS[str(line["severity"])]),
            (line["unknown"], COLOURS["unknown"]),
            (line["required"] - line["not_met"] - line["unknown"], COLOURS["met"]),
        )
        start = 0
        for count, colour in drawn:
            axes.barh(y, count, left=start, color=colour, edgecolor="white", linewidth=0.5, height=0.8)
            start += count
        said = f" {line['not_met']}" + (f" and {line['unknown']} not known" if line["unknown"] else "")
        axes.text(line["not_met"] + line["unknown"], y, said, va="center", fontsize=7, color=INK)
    axes.set_yticks(range(len(rules)), [f"{line['rule']}  {str(line['severity'])[0].upper()}" for line in rules])
    axes.tick_params(length=0, labelsize=7)
    axes.set_ylim(len(rules) - 0.4, -0.6)
    axes.set_xlim(0, max([line["required"] for line in rules], default=1))
    axes.set_xlabel("machines", fontsize=8)
    for spine in axes.spines.values():
        spine.set_visible(False)
    keys = ("high", "medium", "low", "unknown", "met")
    handles = [plotter.Rectangle((0, 0), 1, 1, color=COLOURS[key]) for key in keys]
    words = ("not met: high (H)", "medium (M)", "low (L)", "not known", "met or waived")
    place = {"loc": "lower left", "bbox_to_anchor": (0, 1), "frameon": False, "fontsize": 8}
    axes.legend(handles, words, ncol=len(keys), **place)
    with plotter.rc_context({"svg.fonttype": "none"}):  # drawn, so many words would be most of the page
        return as_svg(figure, f"{len(rules)} rules by how many machines do not meet them")


def shortened(name: str, most: int = 24) -> str:
    """Shorten a name to leave room beside it."""
    text = shown(name)
    return text if len(text) <= most else text[: most - 1] + "…"


MOST_COURSES = 12
"""How many machines a picture can show one by one, so that each can be read."""


def courses(found: Trend, kind: str = "svg") -> Any:
    """Return met and not met over time: all machines together, and the first few each below.

    Text for ``svg``, bytes for ``png``."""
    plotter = pyplot()
    panels = [("all machines together", found.together)] if len(found.histories) != 1 else []
    panels += [(shortened(history.machine), history.moments) for history in found.histories[:MOST_COURSES]]
    figure, axes = plotter.subplots(
        len(panels), 1, sharex=True, squeeze=False, figsize=(11, 0.8 + 1.25 * len(panels)), layout="constrained"
    )
    first, last = found.together[0].at, found.together[-1].at
    until = last + max((last - first) / 25, timedelta(days=1))
    for (name, moments), each in zip(panels, axes[:, 0], strict=True):
        _history_of(each, moments, until)
        last_moment = moments[-1]
        each.set_title(
            f"{name}: {last_moment.met} met, {last_moment.not_met} not met", loc="left", fontsize=9, color=INK
        )
    handles, labels = axes[0, 0].get_legend_handles_labels()
    figure.legend(handles, labels, ncol=len(labels), loc="outside upper left", frameon=False, fontsize=8)
    text = "; ".join(f"{name}: {moments[-1].met} met" for name, moments in panels)
    if kind == "svg":
        return as_svg(figure, text)
    stream = io.BytesIO()
    figure.savefig(stream, format=kind, dpi=110, metadata={"Software": None})
    plotter.close(figure)
    return stream.getvalue()


def _history_of(axes: Any, moments: Sequence[Moment], until: datetime) -> None:
    """Draw one panel; the last score of a machine is drawn on, a little beyond its day."""
    drawn = [*moments, moments[-1]]
    days = [*(moment.at for moment in moments), until]
    below = [0] * len(drawn)
    for severity in Severity:
        above = [low + moment.by_severity[severity] for low, moment in zip(below, drawn, strict=True)]
        axes.fill_between(days, below, above, step="post", color=COLOURS[severity], label=f"not met: {severity}", lw=0)
        below = above
    held = [moment.met for moment in drawn]
    axes.step(days, held, where="post", color=HELD, lw=1.8, label="met")
    axes.plot(days[:-1], held[:-1], "o", color=HELD, ms=3.5)
    axes.set_ylim(0, None)
    axes.margins(x=0.01)
    axes.tick_params(labelsize=8, colors=QUIET)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
